"""The fold on the workers of a Dask cluster: parts are folded where they lie, books merged
as a tree. The outcome is that of one fold over all rows.
"""

from __future__ import annotations

import asyncio
import os
import signal
import time
import warnings
from collections.abc import Iterable, Iterator
from concurrent.futures import CancelledError
from contextlib import contextmanager, nullcontext, suppress
from dataclasses import replace
from multiprocessing import resource_tracker
from typing import Any

import pyarrow as pa

from eptaro.beside import Beside
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.merge import merge
from eptaro.core.folds.planes import Plane
from eptaro.engines.local import fold_source
from eptaro.errors import EptaroError, InputError
from eptaro.inputs.ahead import in_turn
from eptaro.inputs.extras import need
from eptaro.inputs.files.many import ManyFiles
from eptaro.inputs.files.opening import open_files
from eptaro.inputs.files.parquet import ParquetFile
from eptaro.inputs.sources import FrameSource, Source
from eptaro.inputs.transactions import decided
from eptaro.progress import tell
from eptaro.rules.dates import DateRules
from eptaro.rules.files import FileRules

PART_ROWS = 2_000_000
PATIENCE = 60.0  # seconds
_EVERY = 0.2
_CLOSING = 5
_RETRIES = 3


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
    patience: float = PATIENCE,
) -> Folded:
    """Fold files, or the partitions of a Dask frame, on a cluster.

    Each file is one part or, of Parquet, each run of row groups of `part_rows` rows and
    more. `client` is a Dask client, a scheduler's address, or None for workers of its
    own on this machine, one per processor. A part whose worker dies is folded again.

    Raises `InputError` where the cluster does not answer or has no workers for `patience`
    seconds, or its workers cannot hold a part.
    """
    wanted = list(planes)
    with _client_of(client, patience) as cluster, _own_errors():
        watch = Watch(cluster, patience)
        folded = watch.over(
            Beside(_folded, cluster, what, date, by, wanted, rules, files, part_rows)
        )
    if not folded.rows:
        raise InputError(f"{folded.source}: there are no rows to fold")
    return folded


def _folded(
    cluster: Any,
    what: Any,
    date: str,
    by: list[str],
    wanted: list[Plane],
    rules: DateRules,
    files: FileRules | None,
    part_rows: int,
) -> Folded:
    """Fold the parts on the cluster, and merge them as a tree."""
    tasks: list[tuple[Any, Any]] = []
    if hasattr(what, "to_delayed"):
        frames = cluster.compute(list(what.to_delayed()), retries=_RETRIES)
        tasks += [(FrameOfPart(f"partition {i}"), frame) for i, frame in enumerate(frames)]
    else:
        paths = [str(path) for path in ([what] if isinstance(what, str) else what)]
        source = open_files(paths, files)
        rules, _ = decided(source, date, rules)  # on the evidence of all parts, not of each
        tasks += [(part, None) for part in parts_of(source, part_rows)]
    parts = [
        cluster.submit(
            fold_part, part, frame, date, by, wanted, rules, number, retries=_RETRIES, pure=False
        )
        for number, (part, frame) in enumerate(tasks)
    ]
    _follow(parts)
    while len(parts) > 1:
        pairs = [parts[i : i + 2] for i in range(0, len(parts), 2)]
        parts = [
            pair[0]
            if len(pair) == 1
            else cluster.submit(merge_parts, *pair, retries=_RETRIES, pure=False)
            for pair in pairs
        ]
    folded: Folded = parts[0].result()
    return folded


class Watch:
    """Looks, beside the work, whether a cluster still answers and has workers.

    Raises `InputError` where neither was so for `patience` seconds; work that goes on may
    take as long as it takes.
    """

    def __init__(self, cluster: Any, patience: float) -> None:
        self._cluster, self._patience = cluster, patience
        self._seen, self._said = time.monotonic(), "the scheduler does not answer"

    def over(self, work: Beside[Folded]) -> Folded:
        """Return the result of some work, or give it up."""
        look = Beside(self._look)
        looked = time.monotonic()
        while not work.done(_EVERY):
            if look.done() and time.monotonic() > looked + 1:
                look, looked = Beside(self._look), time.monotonic()
            if time.monotonic() > self._seen + self._patience:
                raise InputError(
                    f"the cluster is given up after {self._patience:g} seconds: {self._said}"
                )
        return work.result()

    def _look(self) -> None:
        try:
            info = self._cluster.scheduler_info()
            count = info.get("n_workers", len(info.get("workers", ())))
        except Exception as error:  # whatever it is, the scheduler did not answer
            self._said = f"the scheduler does not answer ({type(error).__name__})"
            return
        if count:
            self._seen = time.monotonic()
        else:
            self._said = "it has no workers"


@contextmanager
def _own_errors() -> Iterator[None]:
    """Turn what the cluster raises into `InputError`, in one line."""
    distributed = need("distributed", "cluster", "folding on a cluster")
    try:
        yield
    except EptaroError:
        raise
    except distributed.KilledWorker as error:
        raise InputError(
            f"workers ended while they folded a part ({error.task}), each time that it was tried: "
            f"they may have too little memory for it; give them more, or name more and smaller "
            f"files"
        ) from None
    except (
        OSError,
        RuntimeError,
        ValueError,
        TimeoutError,
        CancelledError,
        asyncio.CancelledError,
    ) as error:
        said = " ".join(str(error).split()) or type(error).__name__
        raise InputError(f"the cluster failed: {said}") from None


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
) -> Folded:
    """Fold one part on a worker, with no more threads than the worker is given."""
    source = part
    if isinstance(part, FrameOfPart):
        source = FrameSource(frame)
        source.name = part.name
    threads = _threads()
    pa.set_cpu_count(threads)
    with in_turn() if threads == 1 else nullcontext():
        folded = fold_source(source, date, by, planes, rules, settled=True)
    prints = frozenset(f"{one} part {number}" for one in folded.fingerprints)
    return replace(folded, fingerprints=prints, reread=None, kept={})


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


def _follow(futures: list[Any]) -> None:
    """Tell how many parts are folded, as they are."""
    distributed = need("distributed", "cluster", "folding on a cluster")
    for done, _ in enumerate(distributed.as_completed(futures), 1):
        tell(0, done / len(futures))


@contextmanager
def _client_of(client: Any, patience: float) -> Iterator[Any]:
    """Yield a client; one made here is closed with its workers."""
    distributed = need("distributed", "cluster", "folding on a cluster")
    if getattr(client, "status", "running") == "closed":
        raise InputError("the client is closed; give one that is open, or an address")
    if client is not None and not isinstance(client, str):
        yield client
        return
    if isinstance(client, str):
        made = _connected(distributed, client, patience)
        try:
            yield made
        finally:
            made.close(timeout=1)
        return
    cluster = Beside(_own_cluster).result()
    own = distributed.Client(cluster)
    try:
        yield own
    except KeyboardInterrupt:  # a clean end would take longer than anybody waits
        for worker in cluster.workers.values():
            with suppress(AttributeError, TypeError, OSError):
                os.kill(worker.pid, signal.SIGTERM)
        raise
    except BaseException:
        own.close(timeout=1)
        cluster.close(timeout=_CLOSING)
        raise
    own.close()
    cluster.close()


def _connected(distributed: Any, address: str, patience: float) -> Any:
    """Return a client of a scheduler that answers in time."""
    call = Beside(lambda: distributed.Client(address, timeout=patience))
    until = time.monotonic() + patience
    while not call.done(_EVERY):
        if time.monotonic() > until:
            raise InputError(
                f"{address}: no scheduler answers: nothing came in {patience:g} seconds"
            )
    try:
        return call.result()
    except Exception as error:  # what answers there may be anything
        said = " ".join(str(error).split())
        raise InputError(f"{address}: no scheduler answers: {said}") from None


def _own_cluster() -> Any:
    """Return workers on this machine; Ctrl-C reaches this process alone, which ends them."""
    distributed = need("distributed", "cluster", "folding on a cluster")
    _start_tracker()
    if hasattr(signal, "pthread_sigmask"):  # the workers are started with the mask of this thread
        signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of ports that others hold
        return distributed.LocalCluster(
            threads_per_worker=1, processes=True, dashboard_address=None, silence_logs=50
        )


def _start_tracker() -> None:
    """Start the process that clears up after workers, so that it does so without a word."""
    before = os.environ.get("PYTHONWARNINGS")
    os.environ["PYTHONWARNINGS"] = "ignore"
    try:
        resource_tracker.ensure_running()
    finally:
        if before is None:
            del os.environ["PYTHONWARNINGS"]
        else:
            os.environ["PYTHONWARNINGS"] = before
