"""Times every reader on the same rows beside the bare reading of the same file.

Run as `python bench/readers.py [rows ...]`. The bare reading is pyarrow's own, in a stream where
it can; of an Arrow file, which is mapped rather than read, a pass over its bytes.
"""

from __future__ import annotations

import gzip
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import xlsxwriter
from apart import apart, heading, line, per_further_row, sizes_asked
from pyarrow import csv, ipc, json, parquet

import eptaro as ep

STEP = 1_000_000
SHEET = 1_048_575  # the most rows that a worksheet has below its heading
FIRST, DAYS = 16_436, 3_652  # ten years from 2015-01-01
ENDINGS = ("csv", "csv.gz", "parquet", "arrow", "ndjson", "xlsx")


def pieces(rows: int) -> Iterator[pa.Table]:
    """Yield ten years of transactions in 50 groups, in the order of days."""
    words = pa.array([f"branch {n:02d}" for n in range(50)])
    for start in range(0, rows, STEP):
        rng, count = np.random.default_rng(start), min(STEP, rows - start)
        first, last = (FIRST + DAYS * at // rows for at in (start, start + count))
        days = np.sort(rng.integers(first, max(last, first + 1), count)).astype("datetime64[D]")
        yield pa.table({
            "on": pa.array(days), "branch": words.take(pa.array(rng.integers(0, 50, count))),
            "amount": pa.array(rng.integers(-5_000, 200_000, count) / 100),
            "customer": rng.integers(0, 1_000_000, count, dtype=np.int32),
        })  # fmt: skip


def make(folder: str, rows: int) -> None:
    """Write the same transactions in every format, a million rows at a time."""
    made = Path(folder)
    schema = next(pieces(1)).schema
    with (
        csv.CSVWriter(made / "t.csv", schema) as plain,
        parquet.ParquetWriter(made / "t.parquet", schema) as packed,
        ipc.new_file(str(made / "t.arrow"), schema) as mapped,
        (made / "t.ndjson").open("wb") as lines,
    ):
        for table in pieces(rows):
            for writer in (plain, packed, mapped):
                writer.write_table(table)
            lines.write(_lines(table))
    with (made / "t.csv").open("rb") as text, gzip.open(made / "t.csv.gz", "wb", 1) as small:
        shutil.copyfileobj(text, small, 1 << 20)
    if rows <= SHEET:
        with xlsxwriter.Workbook(str(made / "t.xlsx"), {"constant_memory": True}) as book:
            sheet, form = book.add_worksheet(), book.add_format({"num_format": "yyyy-mm-dd"})
            for table in pieces(rows):
                sheet.write_row(0, 0, table.column_names)
                columns = [column.to_pylist() for column in table.columns]
                for at, (on, *rest) in enumerate(zip(*columns, strict=True), 1):
                    sheet.write_datetime(at, 0, on, form)
                    sheet.write_row(at, 1, rest)


def _lines(table: pa.Table) -> bytes:
    """Return a table as newline-delimited JSON."""
    text = [table[name].cast(pa.string()).combine_chunks() for name in table.column_names]
    parts = ['{"on":"', text[0], '","branch":"', text[1], '","amount":', text[2],
             ',"customer":', text[3], "}\n"]  # fmt: skip
    joined = pc.binary_join_element_wise(*parts, "").cast(pa.large_string())
    return bytes(joined.buffers()[2])


def _csv_stream(path: str) -> int:
    return sum(batch.num_rows for batch in csv.open_csv(path))


def _row_groups(path: str) -> int:
    with parquet.ParquetFile(path) as file:
        several = (file.read_row_group(n, ASKED["names"]) for n in range(file.num_row_groups))
        return sum(table.num_rows for table in several)


def _bytes(path: str) -> int:
    return int(sum(int(part.sum()) for part in np.array_split(np.memmap(path, np.uint8), 64)))


BARE: dict[str, Callable[[str], object]] = {
    "csv": _csv_stream, "csv.gz": _csv_stream, "parquet": _row_groups, "arrow": _bytes,
    "ndjson": json.read_json,
}  # fmt: skip
ASKED: dict[str, Any] = {"names": ["on", "branch", "amount"]}


def fold(path: str, by: str = "branch") -> object:
    """Fold a file."""
    return ep.Daybook.read(path, date="on", by=by, measures=["s=sum(amount)", "n=count()"])


CASES: dict[str, Callable[..., Callable[[], object]]] = {
    "fold": lambda path: partial(fold, path),
    "million": lambda path: partial(fold, path, "customer"),
    **{f"bare {kind}": partial(partial, read)
       for kind, read in BARE.items()},
}  # fmt: skip


def main() -> None:
    """Print one row per reader and size."""
    heading("reader", "rows", "fold, s", "bare read, s", "ratio", "ns per further row",
            "peak MiB", "of the bare read")  # fmt: skip
    seconds: dict[str, dict[int, float]] = {kind: {} for kind in (*ENDINGS, "groups")}
    with tempfile.TemporaryDirectory() as above:
        for rows in sizes_asked():
            folder = Path(above) / str(rows)
            folder.mkdir()
            code = f"import sys; sys.path.insert(0, {str(Path(__file__).parent)!r}); "
            code += f"import readers; readers.make({str(folder)!r}, {rows})"
            subprocess.run([sys.executable, "-c", code], check=True)
            for kind in ENDINGS:
                path = folder / f"t.{kind}"
                if not path.exists():
                    line(kind, f"{rows:,}", *["no room in one sheet"], *[""] * 5)
                    continue
                found = apart(__file__, "fold", str(path))
                seconds[kind][rows] = found["seconds"]
                bare = apart(__file__, f"bare {kind}", str(path)) if kind in BARE else None
                beside = (f"{bare['seconds']:.2f}", f"{found['seconds'] / bare['seconds']:.2f}"
                          ) if bare else ("", "")  # fmt: skip
                line(kind, f"{rows:,}", f"{found['seconds']:.2f}", *beside,
                     per_further_row(seconds[kind]), f"{found['peak']:,.0f}",
                     f"{bare['peak']:,.0f}" if bare else "")  # fmt: skip
            found = apart(__file__, "million", str(folder / "t.parquet"))
            seconds["groups"][rows] = found["seconds"]
            line("parquet, a million groups", f"{rows:,}", f"{found['seconds']:.2f}", "", "",
                 per_further_row(seconds["groups"]), f"{found['peak']:,.0f}", "")  # fmt: skip
            shutil.rmtree(folder)


if __name__ == "__main__":
    main()
