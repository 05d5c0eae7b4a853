"""Times the streamed fold of files beside pyarrow's own reading of the same file.

Run as `python bench/stream.py [rows]`. Each case runs in a process of its own, so that its
peak memory is its own; each time is the best of two.
"""

from __future__ import annotations

import json
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa
from pyarrow import csv, parquet

import eptaro as ep

ROWS = 11_000_000
NAMES = ["on", "branch", "amount"]


def make(folder: Path, rows: int) -> None:
    """Write ten years of transactions in 50 groups as CSV and Parquet, and of a million."""
    rng = np.random.default_rng(5)
    days = np.sort(rng.integers(16_436, 16_436 + 3_652, rows)).astype("datetime64[D]")
    words = pa.array([f"branch {n:02d}" for n in range(50)])
    cents = rng.integers(-5_000, 200_000, rows)
    table = pa.table(
        {
            "on": pa.array(days),
            "branch": words.take(pa.array(rng.integers(0, 50, rows))),
            "amount": pa.array(cents / 100),
        }
    )
    csv.write_csv(table, folder / "rows.csv")
    parquet.write_table(table, folder / "rows.parquet")
    customers = pa.table(
        {"on": pa.array(days), "branch": rng.integers(0, 1_000_000, rows), "amount": cents}
    )
    parquet.write_table(customers, folder / "million.parquet")


def parse_csv(folder: Path) -> None:
    """Let pyarrow parse the same columns of the CSV file in a stream, and nothing else."""
    coded = pa.dictionary(pa.int32(), pa.string())
    types = {"on": coded, "branch": coded, "amount": pa.float64()}
    convert = csv.ConvertOptions(column_types=types)
    read = csv.ReadOptions(block_size=1 << 23)
    for _ in csv.open_csv(folder / "rows.csv", read_options=read, convert_options=convert):
        pass


def plain_csv(folder: Path) -> None:
    """Let pyarrow parse the CSV file in a stream as it would by itself."""
    for _ in csv.open_csv(folder / "rows.csv", read_options=csv.ReadOptions(block_size=1 << 23)):
        pass


def read_parquet(folder: Path) -> None:
    """Let pyarrow read the Parquet file."""
    parquet.read_table(folder / "rows.parquet", columns=NAMES)


def fold(folder: Path, name: str) -> None:
    """Fold a file."""
    ep.Daybook.read(folder / name, date="on", by="branch", measures=["s=sum(amount)", "n=count()"])


CASES: dict[str, Callable[[Path], None]] = {
    "pyarrow: CSV, its own types": plain_csv,
    "pyarrow: CSV, coded text": parse_csv,
    "fold of the CSV": lambda folder: fold(folder, "rows.csv"),
    "pyarrow: Parquet": read_parquet,
    "fold of the Parquet": lambda folder: fold(folder, "rows.parquet"),
    "fold of a million groups": lambda folder: fold(folder, "million.parquet"),
}


def main() -> None:
    """Run every case in its own process and print the table."""
    if len(sys.argv) == 3 and sys.argv[1] in CASES:
        best = float("inf")
        for _ in range(2):
            start = time.perf_counter()
            CASES[sys.argv[1]](Path(sys.argv[2]))
            best = min(best, time.perf_counter() - start)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(json.dumps({"seconds": best, "peak": peak}))
        return
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else ROWS
    print(f"| {rows:,} rows | seconds | peak MiB |\n|---|---:|---:|")
    with tempfile.TemporaryDirectory() as folder:
        script = (
            "import sys, pathlib, stream; stream.make(pathlib.Path(sys.argv[1]), int(sys.argv[2]))"
        )
        command = [sys.executable, "-c", script, folder, str(rows)]
        subprocess.run(command, check=True, cwd=Path(__file__).parent)
        for case in CASES:
            command = [sys.executable, __file__, case, folder]
            done = subprocess.run(command, capture_output=True, text=True, check=True)
            found = json.loads(done.stdout)
            print(f"| {case} | {found['seconds']:.2f} | {found['peak']:.0f} |", flush=True)


if __name__ == "__main__":
    main()
