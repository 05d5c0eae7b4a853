"""Tables go out whole and exact in every form."""

import csv
import datetime as dt
import io
import json
import os
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path
from unittest import mock

import numpy as np
import pyarrow as pa
from pyarrow import feather, parquet

import eptaro as ep
from eptaro.core.results.column import Column, date_column


def every_kind() -> ep.Table:
    """Return a table with a column of every kind, each with a blank in its second row."""
    valid = np.array([True, False])
    return ep.Table(
        [
            Column.of("whole", "integer", [1234567, 0], valid),
            Column.of("cents", "decimal", [-123456, 0], valid, scale=2),
            Column.of("share", "float", [0.1, 0.0], valid),
            Column.text("name", ['<b>|"A, B"', "x"], [0, -1]),
            date_column("day", np.array([20320, 0]), valid),
            Column.of("done", "flag", [True, False], valid),
        ],
        {"calendar": "calendar: years from 1 January", "as_of": "2025-08-20"},
    )


ROWS = [
    {"whole": 1234567, "cents": Decimal("-1234.56"), "share": 0.1, "name": '<b>|"A, B"',
     "day": dt.date(2025, 8, 20), "done": True},
    dict.fromkeys(["whole", "cents", "share", "name", "day", "done"]),
]  # fmt: skip


class Tables(unittest.TestCase):
    """What a table hands out."""

    def test_rows_and_arrays_keep_blanks(self):
        table = every_kind()
        self.assertEqual(list(table.rows()), ROWS)
        for name in ("whole", "share", "day"):
            self.assertIs(table[name][1], np.ma.masked)
        self.assertEqual(table["cents"].tolist(), [Decimal("-1234.56"), None])
        with self.assertRaisesRegex(ep.QuestionError, "did you mean 'cents'"):
            table["cent"]

    def test_arrow_and_pandas_are_exact(self):
        table = every_kind()
        self.assertEqual(table.to_arrow().to_pylist(), ROWS)
        self.assertEqual(pa.table(table).to_pylist(), ROWS)
        self.assertEqual(table.to_arrow().schema.field("cents").type, pa.decimal128(19, 2))
        frame = table.to_pandas(exact=True)
        self.assertEqual(frame["cents"][0], Decimal("-1234.56"))
        self.assertTrue(frame.iloc[1].isna().all())

    def test_pandas_computes_with_what_it_gets(self):
        frame = every_kind().to_pandas()
        self.assertTrue(frame.iloc[1].isna().all())
        kinds = {name: str(kind) for name, kind in frame.dtypes.items()}
        self.assertEqual((kinds["whole"], kinds["cents"], kinds["share"], kinds["day"][:10]),
                         ("Int64", "float64", "float64", "datetime64"))  # fmt: skip
        book = ep.Daybook({"on": ["2025-01-31", "2025-02-03", "2025-03-01"], "x": [Decimal("7.25"), Decimal("5.5"), Decimal(4)]},
                          date="on", measures=["s=sum(x)", "n=count()"])  # fmt: skip
        made = book.recap("month").to_pandas()
        self.assertEqual(made["s"].pct_change().iloc[1], 5.5 / 7.25 - 1)
        self.assertEqual(made["s"].cumsum().tolist(), [7.25, 12.75, 16.75])
        self.assertEqual((made["n"] * 2).tolist(), [2, 2, 2])
        self.assertEqual(made.nlargest(1, "s")["period"].tolist(), ["2025-01"])
        self.assertEqual(made["s"].describe()["count"], 3)
        self.assertEqual(book.recap("month").shape, made.shape)

    def test_shown_text_has_marks_blanks_and_escapes(self):
        text = repr(every_kind())
        for part in ("1,234,567", "-1,234.56", "2025-08-20", "yes", "2 rows", "as of 2025-08-20"):
            self.assertIn(part, text)
        page = every_kind()._repr_html_()
        self.assertIn("&lt;b&gt;|&quot;A, B&quot;", page)
        self.assertNotIn("<b>", page)
        long = ep.Table([Column.of("n", "integer", np.arange(1000))])
        self.assertEqual(len(repr(long).splitlines()), 2 + 21 + 1)
        self.assertIn("1,000 rows", long._repr_html_())


class Written(unittest.TestCase):
    """Files appear whole or not at all."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_each_ending(self):
        table = every_kind()
        paths = {
            end: table.write(self.folder / f"t.{end}")
            for end in ("csv", "json", "md", "parquet", "arrow")
        }
        first, second = csv.DictReader(io.StringIO(paths["csv"].read_text()))
        self.assertEqual(
            list(first.values()), ["1234567", "-1234.56", "0.1", '<b>|"A, B"', "2025-08-20", "true"]
        )
        self.assertEqual(set(second.values()), {""})
        rows = json.loads(paths["json"].read_text(), parse_float=Decimal)
        self.assertEqual(rows[0]["cents"], Decimal("-1234.56"))
        self.assertEqual((rows[0]["day"], rows[1]["day"]), ("2025-08-20", None))
        self.assertIn('&lt;b>\\|"A, B"', paths["md"].read_text())
        for read in (parquet.read_table(paths["parquet"]), feather.read_table(paths["arrow"])):
            self.assertEqual(read.to_pylist(), ROWS)
            self.assertIn(b"2025-08-20", read.schema.metadata[b"eptaro"])
        self.assertEqual(
            sorted(p.name for p in self.folder.iterdir()), sorted(p.name for p in paths.values())
        )

    def test_rows_of_csv_come_in_their_order_however_many_are_written_at_once(self):
        days = np.datetime64("2025-01-01") + np.arange(300)
        book = ep.Daybook({"on": days, "x": np.arange(300)}, date="on", measures="s=sum(x)")
        for at_once in (1, 7, 299, 300, 2048):
            with mock.patch("eptaro.outputs.text._SLICE", at_once):
                path = book.recap("day").write(self.folder / "days.csv")
            rows = csv.DictReader(io.StringIO(path.read_text()))
            self.assertEqual([int(row["s"]) for row in rows], [*range(300)], at_once)

    def test_a_failed_write_leaves_the_old_file_and_nothing_beside_it(self):
        path = self.folder / "t.csv"
        path.write_text("old")
        with (
            mock.patch("pyarrow.csv.write_csv", side_effect=OSError(28, "No space left on device")),
            self.assertRaisesRegex(ep.InputError, "No space left"),
        ):
            every_kind().write(path)
        self.assertEqual(
            [(p.name, p.read_text()) for p in self.folder.iterdir()], [("t.csv", "old")]
        )

    def test_what_cannot_be_written_is_refused(self):
        with self.assertRaisesRegex(ep.InputError, "did you mean '.parquet'"):
            every_kind().write(self.folder / "t.parqet")
        with self.assertRaisesRegex(ep.InputError, "No such file or directory"):
            every_kind().write(self.folder / "none" / "t.csv")

    def test_the_umask_is_kept(self):
        old = os.umask(0o027)
        try:
            path = every_kind().write(self.folder / "t.csv")
        finally:
            os.umask(old)
        self.assertEqual(path.stat().st_mode & 0o777, 0o640)
