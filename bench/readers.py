"""Times every reader on the same rows beside the bare reading of the same file.

Run as `python bench/readers.py [rows]`; each time is the best of two. Workbooks hold a tenth.
"""

from __future__ import annotations

import gzip
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa
from pyarrow import csv, feather, json, parquet

import eptaro as ep

ROWS = 1_000_000


def make(folder: Path, rows: int) -> None:
    """Write the same transactions in every format."""
    rng = np.random.default_rng(5)
    days = np.sort(rng.integers(16_436, 20_088, rows)).astype("datetime64[D]")
    words = pa.array([f"branch {n:02d}" for n in range(50)])
    table = pa.table({
        "on": pa.array(days), "branch": words.take(pa.array(rng.integers(0, 50, rows))),
        "amount": pa.array(rng.integers(-5_000, 200_000, rows) / 100),
    })  # fmt: skip
    csv.write_csv(table, folder / "t.csv")
    (folder / "t.csv.gz").write_bytes(gzip.compress((folder / "t.csv").read_bytes(), 1))
    parquet.write_table(table, folder / "t.parquet")
    feather.write_feather(table, str(folder / "t.arrow"), compression="uncompressed")
    names, amounts = table["branch"].to_pylist(), table["amount"].to_pylist()
    lines = (
        f'{{"on":"{day}","branch":"{name}","amount":{amount}}}\n'
        for day, name, amount in zip(days.astype(str).tolist(), names, amounts, strict=True)
    )
    (folder / "t.ndjson").write_text("".join(lines))
    small = folder / "small.csv"
    csv.write_csv(table.slice(0, rows // 10), small)
    book = ep.Daybook.read(small, date="on", by="branch", measures="s=sum(amount)")
    book.recap("day", by="branch", every="entry").write(folder / "t.xlsx")


BARE: dict[str, Callable[[Path], object]] = {
    "t.csv": csv.read_csv,
    "t.csv.gz": csv.read_csv,
    "t.parquet": parquet.read_table,
    "t.arrow": lambda path: feather.read_table(str(path)).num_rows,
    "t.ndjson": json.read_json,
}


def best(action: Callable[[], object]) -> float:
    """Return the least seconds of two."""
    found = float("inf")
    for _ in range(2):
        start = time.perf_counter()
        action()
        found = min(found, time.perf_counter() - start)
    return found


def main(rows: int) -> None:
    """Print one row per reader."""
    print("| reader | rows | fold, seconds | bare read, seconds | ratio |")
    print("|---|---:|---:|---:|---:|")
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        make(folder, rows)
        for name in [*BARE, "t.xlsx"]:
            path = folder / name
            asked = {"date": "on", "by": "branch", "measures": "s=sum(amount)"}
            if name == "t.xlsx":
                asked = {"date": "date", "by": "branch", "measures": "s=sum(s)"}
            count = ep.Daybook.read(path, **asked).rows
            seconds = best(lambda path=path, asked=asked: ep.Daybook.read(path, **asked))
            bare = best(lambda path=path, name=name: BARE[name](path)) if name in BARE else None
            shown = f"{bare:.3f} | {seconds / bare:.1f}" if bare else " | "
            kind = name.removeprefix("t.")
            print(f"| {kind} | {count:,} | {seconds:.3f} | {shown} |", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else ROWS)
