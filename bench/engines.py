"""Times the fold by every engine, beside a bare read of the same rows.

Run as `python bench/engines.py [rows ...]`. Parquet parts of 11 million rows at most, and for the
engine inside a database an SQLite file of the same rows.
"""

from __future__ import annotations

import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from apart import apart, heading, line, per_further_row, sizes_asked
from pyarrow import parquet

import eptaro as ep

PART = 11_000_000
MOST_QUERIED = 20_000_000  # beyond, the database is asked once and not twice
ASKED: dict[str, Any] = {
    "date": "day", "by": "branch", "measures": ["revenue=sum(cents)", "n=count()"],
}  # fmt: skip


def parts(rows: int) -> Iterator[pa.Table]:
    """Yield ten years of transactions in 50 groups, each part with days of its own seed."""
    words = pa.array([f"branch {n:02d}" for n in range(50)])
    for number, start in enumerate(range(0, rows, PART)):
        rng, count = np.random.default_rng(number), min(PART, rows - start)
        days = np.sort(rng.integers(16_436, 16_436 + 3_652, count, dtype=np.int32))
        codes = pa.array(rng.integers(0, 50, count, dtype=np.int32))
        yield pa.table({
            "day": pa.array(days).cast(pa.date32()),
            "branch": pa.DictionaryArray.from_arrays(codes, words),
            "cents": rng.integers(-5_000, 200_000, count),
        })  # fmt: skip


def make(folder: str, rows: int) -> None:
    """Write the rows as Parquet parts."""
    for number, table in enumerate(parts(rows)):
        path = Path(folder) / f"part-{number:02d}.parquet"
        parquet.write_table(table, path, row_group_size=1 << 20)


def make_database(folder: str, rows: int) -> None:
    """Write the same rows into a database."""
    with sqlite3.connect(Path(folder) / "rows.db") as connection:
        connection.execute("PRAGMA journal_mode = OFF")
        connection.execute("CREATE TABLE takings (day TEXT, branch TEXT, cents INTEGER)")
        for table in parts(rows):
            for batch in table.to_batches(1 << 18):
                columns = [batch["day"].cast(pa.string()), batch["branch"], batch["cents"]]
                several = zip(*(column.to_pylist() for column in columns), strict=True)
                connection.executemany("INSERT INTO takings VALUES (?, ?, ?)", several)


def made_apart(folder: Path, rows: int, how: str = "make") -> None:
    """Make the files in a process of its own, whose memory is not that of the cases."""
    code = f"import sys; sys.path.insert(0, {str(Path(__file__).parent)!r}); import engines; "
    code += f"engines.{how}({str(folder)!r}, {rows})"
    subprocess.run([sys.executable, "-c", code], check=True)


def bare_read(folder: str) -> None:
    """Read the files with pyarrow alone, piece by piece: the physical yardstick."""
    for path in sorted(Path(folder).glob("*.parquet")):
        with parquet.ParquetFile(path, read_dictionary=["branch"]) as file:
            for number in range(file.num_row_groups):
                file.read_row_group(number)


def bare_query(folder: str) -> None:
    """Let the driver alone ask for sums by day and branch: the yardstick of the `sql` engine."""
    with sqlite3.connect(Path(folder) / "rows.db") as connection:
        asked = "SELECT day, branch, sum(cents), count(*) FROM takings GROUP BY day, branch"
        connection.execute(asked).fetchall()


def fold(folder: str) -> None:
    """Fold here."""
    ep.Daybook.read([folder], **ASKED)


def query(folder: str) -> None:
    """Fold inside the database."""
    ep.Daybook.from_sql(f"sqlite:///{folder}/rows.db", "takings", **ASKED)


def dask(workers: int, folder: str) -> float:
    """Fold on a cluster and return the seconds without its start."""
    from distributed import Client, LocalCluster

    paths = sorted(str(path) for path in Path(folder).glob("*.parquet"))
    with (
        LocalCluster(
            n_workers=workers, threads_per_worker=1, dashboard_address="127.0.0.1:0"
        ) as cluster,
        Client(cluster) as client,
    ):
        client.run(lambda: __import__("eptaro"))
        start = time.perf_counter()
        ep.Daybook.read(paths, engine="dask", client=client, **ASKED)
        return time.perf_counter() - start


ACTIONS: dict[str, Callable[[str], object]] = {
    "pyarrow's bare read": bare_read, "stream": fold,
    "dask, one worker": partial(dask, 1),
    "dask, two workers": partial(dask, 2), "SQLite's own grouped query": bare_query,
    "sql, SQLite": query,
}  # fmt: skip
YARDSTICKS = ("pyarrow's bare read", "SQLite's own grouped query")
CASES = {name: partial(partial, action) for name, action in ACTIONS.items()}


def main() -> None:
    """Print one row per engine and size."""
    heading("engine", "rows", "seconds", "× bare", "ns per further row",
            "peak MiB of the asking process")  # fmt: skip
    seconds: dict[str, dict[int, float]] = {name: {} for name in CASES}
    for rows in sizes_asked():
        with tempfile.TemporaryDirectory() as folder:
            made_apart(Path(folder), rows)
            bare = 0.0
            for name in CASES:
                if name == YARDSTICKS[1]:  # only now: a large database would crowd out the files
                    made_apart(Path(folder), rows, "make_database")
                    bare = 0.0
                    if rows > MOST_QUERIED:
                        continue
                found = apart(__file__, name, folder)
                seconds[name][rows] = found["seconds"]
                bare = found["seconds"] if name in YARDSTICKS else bare
                times = f"{found['seconds'] / bare:.2f}" if bare else ""
                line(name, f"{rows:,}", f"{found['seconds']:.2f}", times,
                     per_further_row(seconds[name]), f"{found['peak']:,.0f}")  # fmt: skip


if __name__ == "__main__":
    main()
