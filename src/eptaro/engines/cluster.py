"""The fold on the workers of a Dask cluster: parts are folded where they lie, books merged
as a tree. The outcome is that of one fold over all rows.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, nullcontext
from dataclasses import replace
from typing import Any, Literal

import pyarrow as pa

from eptaro.beside import Beside
from eptaro.core.expressions.formula import PLAIN, Formulas
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.merge import merge
from eptaro.core.folds.planes import Plane
from eptaro.core.kernels.sidebyside import in_turn
from eptaro.engines.clients import Watch, client_of, own_errors
from eptaro.engines.local import fold_source
from eptaro.errors import InputError, MeasureError
from eptaro.extras import need
from eptaro.inputs.columns.kinds import settled_kinds
from eptaro.inputs.columns.lookups import LookedUp, LookupTable, loaded
from eptaro.inputs.columns.wrapped import Cleaned
from eptaro.inputs.datecolumn import decided
from eptaro.inputs.files.many import ManyFiles
from eptaro.inputs.files.opening import open_files
from eptaro.inputs.files.parquet import ParquetFile
from eptaro.inputs.sources import FrameSource, Source
from eptaro.inputs.transactions import Transactions
from eptaro.progress import tell
from eptaro.rules.dates import DateRules
from eptaro.rules.files import FileRules
from eptaro.rules.lookups import Lookups
from eptaro.rules.numbers import NumberRules, Numbers, number_rules
from eptaro.timeouts import TIMEOUT

PART_ROWS = 2_000_000


RETRIES = 3


def fold_cluster(
    what: Any,
    date: str,
    by: list[str],
    planes: Iterable[Plane],
    rules: DateRules,
    files: FileRules | None = None,
    client: Any = None,
    *,
    part_rows: int = PART_ROWS,
    timeout: float = TIMEOUT,
    formulas: Formulas = PLAIN,
    numbers: Numbers = None,
    lookups: Lookups = None,
) -> Folded:
    """Fold files, or the partitions of a Dask frame, on a cluster.

    Each file is one part or, of Parquet, each run of row groups of `part_rows` rows and
    more. `client` is a Dask client, a scheduler's address, or None for workers of its
    own on this machine, one per processor. A part whose worker dies is folded again.

    Raises `InputError` where the cluster does not answer or has no workers for `timeout`
    seconds, or its workers cannot hold a part.
    """
    wanted = list(planes)
    with client_of(client, timeout) as cluster, own_errors():

        def folded_there() -> Folded:
            parts = submitted(
                *(cluster, what, date, by, wanted, rules, files),
                *(part_rows, formulas, numbers, lookups),
            )
            return _merged(cluster, parts)

        folded = Watch(cluster, timeout).over(Beside(folded_there))
    if not folded.rows and folded.left is not None:
        where = folded.left.where
        raise InputError(f"{folded.source}: no row meets the condition {where!r}")
    if not folded.rows:
        raise InputError(f"{folded.source}: there are no rows to fold")
    return folded


def _merged(cluster: Any, parts: list[Any]) -> Folded:
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


def submitted(
    cluster: Any,
    what: Any,
    date: str,
    by: list[str],
    wanted: list[Plane],
    rules: DateRules,
    files: FileRules | None,
    part_rows: int,
    formulas: Formulas,
    numbers: Numbers,
    lookups: Lookups,
    *,
    in_order: bool = True,
) -> list[Any]:
    """Return what will be the parts of some input, each folded on a worker."""
    tasks: list[tuple[Any, Any]] = []
    figures, tables = number_rules(numbers), list[LookupTable]()
    decided_numbers: Mapping[str, tuple[NumberRules, str]] = {}
    if hasattr(what, "to_delayed"):
        if figures == "infer":
            raise MeasureError(
                "numbers='infer' looks at a whole column, which a Dask frame does not allow; give "
                "numbers=NumberRules(...)"
            )
        tables = loaded(lookups, rules, list(what.columns))
        frames = cluster.compute(list(what.to_delayed()), retries=RETRIES)
        tasks += [(FrameOfPart(f"partition {i}"), frame) for i, frame in enumerate(frames)]
    else:
        paths = [str(path) for path in ([what] if isinstance(what, str) else what)]
        source = open_files(paths, files)
        if date not in formulas.columns:
            rules, _ = decided(source, date, rules)  # on the evidence of all parts, not of each
        tables = loaded(lookups, rules, source.names())
        every: Source = LookedUp(source, tables, rules) if tables else source
        if figures is not None:
            every = Cleaned(every, figures)
        # What columns hold goes by all parts, not by each.
        formulas = settled_kinds(every, date, by, wanted, formulas, rules)
        if isinstance(every, Cleaned):
            rows = Transactions(every, date, by, wanted, rules, settled=True, formulas=formulas)
            decided_numbers = every.settle(rows.wanted().numbers)
        tasks += [(part, None) for part in parts_of(source, part_rows)]
    return [
        cluster.submit(
            fold_part,
            part,
            frame,
            date,
            by,
            wanted,
            rules,
            number,
            formulas,
            tables,
            figures,
            decided_numbers if number == 0 else _untold(decided_numbers),
            in_order,
            retries=RETRIES,
            pure=False,
        )
        for number, (part, frame) in enumerate(tasks)
    ]


def _untold(decided: Mapping[str, tuple[NumberRules, str]]) -> dict[str, tuple[NumberRules, str]]:
    """Return rules without their evidence, which the first part tells for all."""
    return {name: (rules, "") for name, (rules, _) in decided.items()}


class FrameOfPart:
    """Stands for a partition whose frame comes as a value of its own."""

    def __init__(self, name: str) -> None:
        self.name = name


def parts_of(source: Source, rows: int) -> list[Source]:
    """Return what is folded apart: files, and runs of row groups of large Parquet files."""
    files = source.parts if isinstance(source, ManyFiles) else [source]
    found: list[Source] = []
    for file in files:
        found += file.parts(rows) if isinstance(file, ParquetFile) else [file]
    return found


def fold_part(
    part: Any,
    frame: Any,
    date: str,
    by: list[str],
    planes: list[Plane],
    rules: DateRules,
    number: int,
    formulas: Formulas,
    tables: Sequence[LookupTable] = (),
    figures: NumberRules | Literal["infer"] | None = None,
    decided_numbers: Mapping[str, tuple[NumberRules, str]] | None = None,
    in_order: bool = True,
) -> Folded:
    """Fold one part on a worker, with no more threads than the worker is given."""
    source = part
    if isinstance(part, FrameOfPart):
        source = FrameSource(frame)
        source.name = part.name
    if tables:
        source = LookedUp(source, tables, rules)
    if figures is not None:
        source = Cleaned(source, figures, decided_numbers)
    with worker_threads():
        folded = fold_source(
            *(source, date, by, planes, rules), settled=True, formulas=formulas, in_order=in_order
        )
    prints = frozenset(f"{one} part {number}" for one in folded.fingerprints)
    return replace(folded, fingerprints=prints, reread=None, kept={})


@contextmanager
def worker_threads() -> Iterator[None]:
    """Use no more threads than this worker is given."""
    threads = _threads()
    pa.set_cpu_count(threads)
    with in_turn() if threads == 1 else nullcontext():
        yield


def _threads() -> int:
    """Return how many threads this worker has; all processors' outside a cluster."""
    distributed = need("distributed", "cluster", "folding on a cluster")
    try:
        count: int = distributed.get_worker().state.nthreads
    except ValueError:
        return os.cpu_count() or 1
    return count


def merge_parts(one: Folded, two: Folded) -> Folded:
    """Merge two neighbouring parts on a worker."""
    return merge(one, two)


def follow(futures: list[Any]) -> None:
    """Tell how many parts are folded, as they are."""
    distributed = need("distributed", "cluster", "folding on a cluster")
    for done, _ in enumerate(distributed.as_completed(futures), 1):
        tell(0, done / len(futures))
