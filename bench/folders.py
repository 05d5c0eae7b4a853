"""Times books in folders: folded, asked, and a night's rows added.

Run as `python bench/folders.py [rows ...]`. Two million groups on ten years of days, in no order;
each case in a process of its own. The folder is on the disk that holds temporary files.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from apart import apart, heading, line, per_further_row, sizes_asked
from pyarrow import parquet

import eptaro as ep

GROUPS, NIGHT, PART = 2_000_000, 100_000, 11_000_000
ASKED: dict[str, Any] = {
    "date": "day", "by": "member", "measures": ["fares=sum(fare)", "trips=count()"],
}  # fmt: skip


def table(seed: int, rows: int, first: int, days: int) -> pa.Table:
    """Return random rows of days from a first one on."""
    rng = np.random.default_rng(seed)
    return pa.table({
        "day": pa.array(rng.integers(first, first + days, rows, dtype=np.int32)).cast(pa.date32()),
        "member": rng.integers(0, GROUPS, rows),
        "fare": np.round(rng.uniform(1, 200, rows), 2),
    })  # fmt: skip


def make(folder: str, rows: int) -> None:
    """Write the rows as Parquet parts, and those of a night."""
    for number, start in enumerate(range(0, rows, PART)):
        with parquet.ParquetWriter(Path(folder) / f"part-{number:02d}.parquet",
                                   table(0, 0, 0, 1).schema) as file:  # fmt: skip
            for at in range(start, min(start + PART, rows), 1 << 20):
                count = min(1 << 20, start + PART - at, rows - at)
                file.write_table(table(at, count, 16_436, 3_652))
    parquet.write_table(table(7, NIGHT, 16_436 + 3_652, 1), Path(folder) / "night.parquet")


def parts(folder: str) -> list[str]:
    """Return the files of all rows but the night's."""
    return sorted(str(path) for path in Path(folder).glob("part-*.parquet"))


def fold(folder: str) -> None:
    """Fold all rows into a new folder."""
    shutil.rmtree(Path(folder) / "book", ignore_errors=True)
    ep.Daybook.read(parts(folder), into=Path(folder) / "book", **ASKED)


def year_to_date(folder: str) -> None:
    """Compare each group's year to date with last year's, and write what comes of it."""
    shutil.rmtree(Path(folder) / "out", ignore_errors=True)
    book = ep.Daybook.open(Path(folder) / "book")
    book.compare("year", to_date=True, by="member", as_of="2024-08-20").write(f"{folder}/out/")


def months(folder: str) -> None:
    """Sum up all groups by month."""
    ep.Daybook.open(Path(folder) / "book").recap("month").column("fares")


def largest(folder: str) -> None:
    """Sum up the ten largest groups and all others by month."""
    ep.Daybook.open(Path(folder) / "book").recap("month", by="member", top=10).column("fares")


def ranked(folder: str) -> None:
    """Write each group's share and rank by year."""
    shutil.rmtree(Path(folder) / "out", ignore_errors=True)
    book = ep.Daybook.open(Path(folder) / "book")
    book.recap("year", by="member", shares=True, ranks=True).write(f"{folder}/out/")


def night(folder: str) -> float:
    """Add a night's rows, as a command does, and return its seconds; the book is left as it was."""
    book, kept = Path(folder) / "book", Path(folder) / "kept.json"
    shutil.copy(book / "manifest.json", kept)
    command = [sys.executable, "-m", "eptaro", "fold", f"{folder}/night.parquet", "--into", book]
    start = time.perf_counter()
    subprocess.run(command, check=True, capture_output=True)
    seconds = time.perf_counter() - start
    shutil.copy(kept, book / "manifest.json")
    return seconds


def dask(workers: int, folder: str) -> float:
    """Fold and compare on a cluster; return the seconds without its start."""
    from distributed import Client, LocalCluster

    for name in ("book-dask", "out-dask"):
        shutil.rmtree(Path(folder) / name, ignore_errors=True)
    with (
        LocalCluster(n_workers=workers, threads_per_worker=1, dashboard_address="127.0.0.1:0",
                     silence_logs=50) as cluster,
        Client(cluster) as client,
    ):  # fmt: skip
        client.run(lambda: __import__("eptaro"))
        start = time.perf_counter()
        book = ep.Daybook.read(parts(folder), engine="dask", client=client,
                               into=Path(folder) / "book-dask", **ASKED)  # fmt: skip
        table = book.compare("year", to_date=True, by="member", as_of="2024-08-20")
        table.write(f"{folder}/out-dask/")
        return time.perf_counter() - start


ACTIONS: dict[str, Callable[[str], object]] = {
    "fold into a folder": fold, "year to date against last year, to Parquet": year_to_date,
    "all groups by month": months, "the ten largest groups and the others by month": largest,
    "shares and ranks by year, to Parquet": ranked, "add a night of 100,000 rows": night,
    "fold and compare, one Dask worker": partial(dask, 1),
    "fold and compare, two Dask workers": partial(dask, 2),
}  # fmt: skip
CASES = {name: partial(partial, action) for name, action in ACTIONS.items()}


def main() -> None:
    """Print one row per case and size."""
    heading("case", "rows", "seconds", "ns per row", "ns per further row", "peak MiB")
    seconds: dict[str, dict[int, float]] = {name: {} for name in CASES}
    for rows in sizes_asked():
        with tempfile.TemporaryDirectory() as folder:
            code = f"import sys; sys.path.insert(0, {str(Path(__file__).parent)!r}); "
            code += f"import folders; folders.make({folder!r}, {rows})"
            subprocess.run([sys.executable, "-c", code], check=True)
            for name in CASES:
                found = apart(__file__, name, folder)
                seconds[name][rows] = found["seconds"]
                each = f"{1e9 * found['seconds'] / rows:.0f}"
                further = per_further_row(seconds[name])
                peak = f"{found['peak']:,.0f}"
                line(name, f"{rows:,}", f"{found['seconds']:.1f}", each, further, peak)


if __name__ == "__main__":
    main()
