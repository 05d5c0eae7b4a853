"""The fold on the workers of a Dask cluster: parts are folded where they lie, books merged
as a tree. The outcome is that of one fold over all rows.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, nullcontext
from dataclasses import field, replace
from typing import Any, Literal

import pyarrow as pa

from eptaro.background import BackgroundTask
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.merge import merge
from eptaro.core.kernels.parallel import run_serially
from eptaro.engines.clients import Watchdog, client_of, own_errors
from eptaro.engines.local import fold_source
from eptaro.errors import InputError, MeasureError
from eptaro.inputs.columns.kinds import settled_kinds
from eptaro.inputs.columns.lookups import JoinedSource, LookupTable, load_lookups
from eptaro.inputs.columns.wrapped import NumberParsingSource, unpivot
from eptaro.inputs.datecolumn import infer_date_rules
from eptaro.inputs.files.opening import open_files
from eptaro.inputs.files.parquet import ParquetFile
from eptaro.inputs.options import FileOptions, FoldSpec
from eptaro.inputs.sources import FrameSource, ManyFiles, Source
from eptaro.inputs.transactions import Transactions
from eptaro.optional import import_optional
from eptaro.progress import report_progress
from eptaro.record import Record, record
from eptaro.rules import Across, NumberRules, across_of, number_rules

PART_ROWS = 2_000_000


RETRIES = 3


def fold_cluster(what: Any, options: FileOptions, *, part_rows: int = PART_ROWS) -> Folded:
    """Fold files, or the partitions of a Dask frame, on a cluster.

    Each file is one part or, of Parquet, each run of row groups of `part_rows` rows and
    more. The `client` is a Dask client, a scheduler's address, or None for workers of its
    own on this machine, one per processor. A part whose worker dies is folded again.

    Raises `InputError` where the cluster does not answer or has no workers for `timeout`
    seconds, or its workers cannot hold a part.
    """
    timeout = options.timeout
    with client_of(options.client, timeout) as cluster, own_errors():

        def folded_there() -> Folded:
            parts = submit_parts(cluster, what, options, part_rows)
            return _merge_parts(cluster, parts)

        folded = Watchdog(cluster, timeout).over(BackgroundTask(folded_there))
    if not folded.rows and folded.left is not None:
        where = folded.left.where
        raise InputError(f"{folded.source}: no row meets the condition {where!r}")
    if not folded.rows:
        raise InputError(f"{folded.source}: there are no rows to fold")
    return folded


def _merge_parts(cluster: Any, parts: list[Any]) -> Folded:
    """Return the parts, merged on the cluster as a tree."""
    follow(parts)
    while len(parts) > 1:
        pairs = [parts[i : i + 2] for i in range(0, len(parts), 2)]
        parts = [
            pair[0]
            if len(pair) == 1
            else cluster.submit(merge_parts, *pair, retries=RETRIES, pure=False)
            for pair in pairs
        ]
    folded: Folded = parts[0].result()
    return folded


@record
class PartSpec(Record):
    """What is folded of each part, the columns that become rows, tables whose columns rows take,
    and how numbers are written; with what was decided of these, and on what evidence.
    """

    spec: FoldSpec
    across: Across | str | None
    tables: Sequence[LookupTable]
    figures: NumberRules | Literal["infer"] | None
    decided: Mapping[str, tuple[NumberRules, str]] = field(default_factory=dict)
    in_order: bool = True

    def source(self, raw: Source) -> Source:
        """Return a part, or all of the input, as its rows are folded."""
        source = unpivot(raw, self.across)
        if self.tables:
            source = JoinedSource(source, self.tables, self.spec.rules)
        return (
            source
            if self.figures is None
            else NumberParsingSource(source, self.figures, self.decided)
        )


def submit_parts(
    cluster: Any, inputs: Any, options: FileOptions, part_rows: int, *, in_order: bool = True
) -> list[Any]:
    """Return what will be the parts of some input, each folded on a worker."""
    tasks: list[tuple[Any, Any]] = []
    spec, figures = replace(options.spec, settled=True), number_rules(options.numbers)
    if hasattr(inputs, "to_delayed"):
        if figures == "infer":
            raise MeasureError(
                "numbers='infer' looks at a whole column, which a Dask frame does not allow; give "
                "numbers=NumberRules(...)"
            )
        names = list(inputs.columns)
        across = across_of(options.across)
        if across is not None:
            names = across.long_names(names, "the Dask frame")
        tables = load_lookups(options.lookups, spec.rules, names)
        how = PartSpec(spec, across, tables, figures, in_order=in_order)
        frames = cluster.compute(list(inputs.to_delayed()), retries=RETRIES)
        tasks += [(FrameOfPart(f"partition {i}"), frame) for i, frame in enumerate(frames)]
    else:
        paths = [str(path) for path in ([inputs] if isinstance(inputs, str) else inputs)]
        source = open_files(paths, options.files)
        long = unpivot(source, options.across)
        if spec.date_column not in spec.formulas.columns:
            # on the evidence of all parts, not of each
            spec = replace(spec, rules=infer_date_rules(long, spec.date_column, spec.rules)[0])
        tables = load_lookups(options.lookups, spec.rules, long.names())
        how = PartSpec(spec, options.across, tables, figures, in_order=in_order)
        every = how.source(source)
        # What columns hold goes by all parts, not by each.
        how = replace(how, spec=replace(spec, formulas=settled_kinds(every, spec)))
        if isinstance(every, NumberParsingSource):
            rows = Transactions(every, how.spec)
            how = replace(how, decided=every.settle(rows.columns_read().numbers))
        tasks += [(part, None) for part in parts_of(source, part_rows)]
    later = replace(how, decided=_without_evidence(how.decided))
    return [
        cluster.submit(
            fold_part, part, frame, number, later if number else how, retries=RETRIES, pure=False
        )
        for number, (part, frame) in enumerate(tasks)
    ]


def _without_evidence(
    decided: Mapping[str, tuple[NumberRules, str]],
) -> dict[str, tuple[NumberRules, str]]:
    """Return rules without their evidence, which the first part reports for all."""
    return {name: (rules, "") for name, (rules, _) in decided.items()}


class FrameOfPart:
    """A partition whose frame is passed as a separate value."""

    def __init__(self, name: str) -> None:
        self.name = name


def parts_of(source: Source, rows: int) -> list[Source]:
    """Return what is folded apart: files, and runs of row groups of large Parquet files."""
    files = source.parts if isinstance(source, ManyFiles) else [source]
    sources: list[Source] = []
    for file in files:
        sources += file.parts(rows) if isinstance(file, ParquetFile) else [file]
    return sources


def fold_part(part: Any, frame: Any, number: int, how: PartSpec) -> Folded:
    """Fold one part on a worker, with no more threads than the worker is given."""
    source = part
    if isinstance(part, FrameOfPart):
        source = FrameSource(frame)
        source.name = part.name
    with worker_threads():
        folded = fold_source(how.source(source), how.spec, in_order=how.in_order)
    prints = frozenset(f"{fingerprint} part {number}" for fingerprint in folded.fingerprints)
    return replace(folded, fingerprints=prints, reread=None, cache={})


@contextmanager
def worker_threads() -> Iterator[None]:
    """Use no more threads than this worker is given."""
    threads = _threads()
    pa.set_cpu_count(threads)
    with run_serially() if threads == 1 else nullcontext():
        yield


def _threads() -> int:
    """Return how many threads this worker has; all processors' outside a cluster."""
    distributed = import_optional("distributed", "cluster", "folding on a cluster")
    try:
        count: int = distributed.get_worker().state.nthreads
    except ValueError:
        return os.cpu_count() or 1
    return count


def merge_parts(one: Folded, two: Folded) -> Folded:
    """Merge two neighbouring parts on a worker."""
    return merge(one, two)


def follow(futures: list[Any]) -> None:
    """Report how many parts are folded, as they finish."""
    distributed = import_optional("distributed", "cluster", "folding on a cluster")
    for finished, _ in enumerate(distributed.as_completed(futures), 1):
        report_progress(0, finished / len(futures))
