"""Files and frames of every kind give the same Daybook; what cannot be used is refused."""

import tempfile
import unittest
from decimal import Decimal
from pathlib import Path

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
from pyarrow import parquet

import eptaro as ep

ROWS = {
    "on": ["2025-01-31", "2025-02-01", "2025-02-01"],
    "shop": ["007", "12", None],
    "fare": [Decimal("10.10"), Decimal("0.20"), None],
}
TEXT = "on,shop,fare\n2025-01-31,007,10.10\n2025-02-01,12,0.20\n2025-02-01,,\n"
OPTIONS = {
    "date": "on",
    "by": "shop",
    "measures": ["revenue=sum(fare)", "n=count()", "m=mean(fare)"],
}


class Files(unittest.TestCase):
    """A folder of its own for each test."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def file(self, name: str, content: str | bytes) -> Path:
        path = self.folder / name
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return path

    def read(self, content: str | bytes, **options) -> ep.Daybook:
        return ep.Daybook.read(self.file("rows.csv", content), **{**OPTIONS, **options})


class SameBook(Files):
    """The same rows in any form give the same answer."""

    def test_every_kind_of_source(self):
        table = pa.table(ROWS)
        parquet.write_table(table, self.folder / "rows.parquet")
        books = {
            "mapping": ep.Daybook(ROWS, **OPTIONS),
            "arrow": ep.Daybook(table, **OPTIONS),
            "pandas": ep.Daybook(pd.DataFrame(ROWS), **OPTIONS),
            "polars": ep.Daybook(pl.DataFrame(ROWS), **OPTIONS),
            "csv": self.read(TEXT),
            "csv with a byte order mark": self.read(b"\xef\xbb\xbf" + TEXT.encode()),
            "parquet": ep.Daybook.read(self.folder / "rows.parquet", **OPTIONS),
        }
        expected = list(books["mapping"].recap("month", by="shop").rows())
        self.assertEqual([row["shop"] for row in expected], ["007", "007", "12", "12", None, None])
        self.assertEqual(expected[0]["revenue"], Decimal("10.10"))
        for name, book in books.items():
            self.assertEqual(list(book.recap("month", by="shop").rows()), expected, name)

    def test_several_files_are_one(self):
        first = self.file("a.csv", "on,shop,fare\n2025-01-31,007,10.1\n")
        second = self.file("b.csv", "shop,on,fare\n12,2025-02-01,0.20\n,2025-02-01,\n")
        book = ep.Daybook.read([first, second], **OPTIONS)
        whole = self.read(TEXT)
        self.assertEqual(list(book.recap("month").rows()), list(whole.recap("month").rows()))

    def test_numbers_in_text_are_exact_decimals(self):
        fares = [f"{n / 100:.2f}" for n in range(1, 3000)]
        text = "on,fare\n" + "".join(f"2025-01-01,{fare}\n" for fare in fares)
        (row,) = self.read(text, by=None).recap("day").rows()
        self.assertEqual(row["revenue"], sum(map(Decimal, fares)))

    def test_more_digits_than_a_float_holds_are_kept(self):
        text = "on,fare\n2025-01-01,90071992547409.93\n2025-01-02,0.01\n"
        book = self.read(text, by=None)
        self.assertEqual(book.recap("month")["revenue"][0], Decimal("90071992547409.94"))

    def test_what_frames_hold(self):
        on = pd.to_datetime(["2025-01-31", "2025-02-01"])
        frame = pd.DataFrame({"on": on, "shop": [1.0, np.nan], "fare": [0.5, np.nan]})
        rows = list(ep.Daybook(frame, **OPTIONS).recap("year", by="shop").rows())
        self.assertEqual(
            [(r["shop"], r["revenue"], r["m"]) for r in rows], [(1, 0.5, 0.5), (None, 0.0, None)]
        )


class Refused(Files):
    """What cannot be used is refused in one clear line."""

    def test_files(self):
        missing = self.folder / "row.csv"
        self.file("rows.csv", TEXT)
        bad = (
            (missing, "there is no such file.*did you mean 'rows.csv'"),
            (self.folder / "rows.txt", "unknown file ending '.txt'"),
            (self.file("empty.csv", ""), "is empty"),
            (self.file("header.csv", "on,shop,fare\n"), "column names but no rows"),
            (self.file("ragged.csv", TEXT + "2025-01-01,x\n"), "Expected 3 columns, got 2"),
            (self.file("latin.csv", b"on,shop,fare\n2025-01-01,caf\xe9,1\n"), "cannot be read"),
            (self.file("twice.csv", "on,shop,fare,fare\n2025-01-01,a,1,2\n"), "two columns"),
            (self.file("columns.csv", "on,shop,fares\n2025-01-01,a,1\n"), "did you mean 'fares'"),
            (self.file("not.parquet", "PAR1"), "cannot be read"),
            (self.folder / "none", "file ending"),
        )  # fmt: skip
        for path, message in bad:
            with self.assertRaisesRegex(ep.InputError, message):
                ep.Daybook.read(path, **OPTIONS)

    def test_a_file_named_twice(self):
        path = self.file("rows.csv", TEXT)
        with self.assertRaisesRegex(ep.InputError, "named twice"):
            ep.Daybook.read([path, path], **OPTIONS)

    def test_values(self):
        bad = (
            ("on,shop,fare\n2025-01-01,a,1\n2025-01-01,a,1O\n", "row 2 .*'1O' is not a number"),
            ('on,shop,fare\n2025-01-01,a,"2\n', "row 1 .*'2.n' is not a number"),
            ("on,shop,fare\n2025-01-01,a,NA\n", "'NA' is not a number"),
            ("on,shop,fare\n2025-01-01,a,2025-01-01\n", "row 1 of .fare.: .2025-01-01. is not a number"),
        )  # fmt: skip
        for text, message in bad:
            with self.assertRaisesRegex(ep.MeasureError, message):
                self.read(text)
        huge = pa.array([Decimal(10) ** 20], pa.decimal128(38, 2))
        with self.assertRaisesRegex(ep.MeasureError, "row 1 of 'fare'.*does not fit"):
            ep.Daybook({**ROWS, "on": ["2025-01-01"], "shop": ["a"], "fare": huge}, **OPTIONS)

    def test_frames(self):
        bad = (
            ([1, 2], "neither a frame"),
            ({"on": ["2025-01-01"], "shop": ["a", "b"]}, "differ in length"),
            ({**ROWS, "shop": [0.5, 1, 2]}, "holds fractions"),
            ({**ROWS, "shop": [[1], [2], [3]]}, "holds list"),
            ({**ROWS, "shop": [object()] * 3}, "cannot be used"),
        )
        for frame, message in bad:
            with self.assertRaisesRegex(ep.InputError, message):
                ep.Daybook(frame, **OPTIONS)

    def test_measures(self):
        bad = (
            ("revenue", "write it as name=how"),
            ("=sum(fare)", "write it as name=how"),
            ("r=sum fare", "write it as name=how"),
            ("r=summ(fare)", "did you mean 'sum'"),
            ("r=sum()", "names no column"),
            (["r=sum(fare)", "r=count()"], "two measures are called 'r'"),
            ([], "no measure is given"),
        )
        for measures, message in bad:
            with self.assertRaisesRegex(ep.MeasureError, message):
                ep.Daybook(ROWS, date="on", measures=measures)
        book = ep.Daybook(ROWS, date="on", measures="period=count()")
        with self.assertRaisesRegex(ep.QuestionError, "both be called 'period'"):
            book.recap("month")
