"""Times the fold from 11 to 110 million rows, by every engine, and the merge of partial books.

Run as `python bench/scale.py [parts] [folder]`. Each part is a Parquet file of 11 million
rows; each case runs in a process of its own, so that its peak memory is its own.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROWS = 11_000_000
ASKED = {"date": "day", "by": "branch", "measures": ["revenue=sum(cents)", "n=count()"]}

CASE = """
import json, resource, sys, time
sys.path.insert(0, {bench!r})
import scale
if __name__ == "__main__":
    start = time.perf_counter()
    rows = getattr(scale, {case!r})(json.loads({paths!r}))
    seconds = time.perf_counter() - start
    own = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    print(json.dumps([rows, seconds, own / 2**10]))
"""


def make(folder: str, parts: int) -> int:
    """Write the parts that are not there yet, each with days of its own seed."""
    import numpy as np
    import pyarrow as pa
    from pyarrow import parquet

    words = pa.array([f"branch {n:02d}" for n in range(50)])
    for number in range(parts):
        path = Path(folder) / f"part-{number:02d}.parquet"
        if path.exists():
            continue
        rng = np.random.default_rng(number)
        days = np.sort(rng.integers(16_436, 16_436 + 3_652, ROWS, dtype=np.int32))
        codes = pa.array(rng.integers(0, 50, ROWS, dtype=np.int32))
        table = pa.table({
            "day": pa.array(days).cast(pa.date32()),
            "branch": pa.DictionaryArray.from_arrays(codes, words),
            "cents": rng.integers(-5_000, 200_000, ROWS),
        })  # fmt: skip
        parquet.write_table(table, path, row_group_size=1 << 20)
    return parts


def bare_read(paths: list[str]) -> int:
    """Read the files with pyarrow alone, piece by piece: the physical yardstick."""
    from pyarrow import parquet

    rows = 0
    for path in paths:
        with parquet.ParquetFile(path, read_dictionary=["branch"]) as file:
            for number in range(file.num_row_groups):
                rows += file.read_row_group(number).num_rows
    return rows


def stream(paths: list[str]) -> int:
    """Fold piece by piece."""
    import eptaro as ep

    return ep.Daybook.fold(paths, engine="stream", **ASKED).rows


def local(paths: list[str]) -> int:
    """Fold in memory."""
    import eptaro as ep

    return ep.Daybook.fold(paths, engine="local", **ASKED).rows


def _dask(paths: list[str], workers: int) -> int:
    from distributed import Client, LocalCluster

    import eptaro as ep

    with (
        LocalCluster(n_workers=workers, threads_per_worker=1, dashboard_address=None) as cluster,
        Client(cluster) as client,
    ):
        client.run(lambda: __import__("eptaro"))
        started = time.perf_counter()
        rows = ep.Daybook.fold(paths, engine="dask", client=client, **ASKED).rows
        print(json.dumps(time.perf_counter() - started), file=sys.stderr)
        return rows


def dask_one(paths: list[str]) -> int:
    """Fold on one worker."""
    return _dask(paths, 1)


def dask_two(paths: list[str]) -> int:
    """Fold on two workers."""
    return _dask(paths, 2)


def measured(case: str, paths: list[str]) -> tuple[int, float, float]:
    """Return rows, seconds (of a cluster without its start) and peak MiB of a case."""
    text = CASE.format(bench=str(Path(__file__).parent), case=case, paths=json.dumps(paths))
    with tempfile.NamedTemporaryFile("w", suffix=".py") as file:
        file.write(text)
        file.flush()
        done = subprocess.run(
            [sys.executable, file.name], capture_output=True, text=True, check=True
        )
    rows, seconds, memory = json.loads(done.stdout.splitlines()[-1])
    if case.startswith("dask"):
        seconds = float(done.stderr.strip().splitlines()[-1])
    return rows, seconds, memory


def main(parts: int, folder: Path) -> None:
    """Print one row per engine and size."""
    code = f"import sys; sys.path.insert(0, {str(Path(__file__).parent)!r}); import scale; "
    code += f"scale.make({str(folder)!r}, {parts})"  # apart: its memory must not count here
    subprocess.run([sys.executable, "-c", code], check=True)
    paths = [str(folder / f"part-{number:02d}.parquet") for number in range(parts)]
    print("| engine | rows | seconds | ns per row | peak MiB of the asking process |")
    print("|---|---:|---:|---:|---:|")
    for case, size in (
        ("bare_read", 1), ("bare_read", parts), ("stream", 1), ("stream", parts // 2),
        ("stream", parts), ("local", 1), ("dask_one", parts), ("dask_two", parts),
    ):  # fmt: skip
        best = min((measured(case, paths[:size]) for _ in range(3)), key=lambda one: one[1])
        rows, seconds, memory = best
        print(f"| {case.replace('_', ' ')} | {rows:,} | {seconds:.2f} | {1e9 * seconds / rows:.1f} "
              f"| {memory:,.0f} |", flush=True)  # fmt: skip


if __name__ == "__main__":
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10
    if len(sys.argv) > 2:
        target = Path(sys.argv[2])
        target.mkdir(parents=True, exist_ok=True)
        main(count, target)
    else:
        with tempfile.TemporaryDirectory() as made:
            main(count, Path(made))
