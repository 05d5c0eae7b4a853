"""Row groups that a condition rules out are not read, and nothing tells that they were not."""

import datetime as dt
import math
import random
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path
from unittest import mock

import pyarrow as pa
from pyarrow import parquet

import eptaro as ep
from eptaro.inputs.files import parquet as reader

CONDITIONS = (
    "on >= '2024-06-01'", "on < '2024-02-10' and fare > -18.5", "fare > 79", "fare between -20 and -1.5 or on = '2024-12-31'", "route in ('route 8', 'route 9')",
    "share = 0.1", "share > 0.75", "share is blank", "fare is not blank and 3 > n", "not (on < '2024-11-01')", "n <= -4", "route != 'route 0'",
    "late", "length(route) = 7 and n = 5", "on >= '2024-06-01' and on <= '2024-06-03' and share < 0.5",
)  # fmt: skip


def table(seed: int, rows: int = 600) -> pa.Table:
    """Return transactions in the order of days, whose other columns rise with them."""
    rng = random.Random(seed)
    days = sorted(dt.date(2024, 1, 1) + dt.timedelta(rng.randrange(366)) for _ in range(rows))
    part = [at / rows for at in range(rows)]
    return pa.table({
        "on": days, "n": [None if rng.random() < 0.1 else int(p * 10) - 4 for p in part], "late": [rng.random() < 0.5 for _ in part],
        "fare": pa.array([None if rng.random() < 0.1 else Decimal(int(p * 10_000) - 2000) / 100 for p in part], pa.decimal128(12, 2)),
        "share": [rng.choice([math.nan, 0.1, p]) for p in part], "route": [f"route {int(p * 10)}" for p in part],
    })  # fmt: skip


class Pruned(unittest.TestCase):
    """Files of small row groups against the same rows in memory."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_answers_rows_and_days_are_those_of_all_rows(self):
        asked = {
            "date": "on",
            "by": "route",
            "measures": ["s=sum(fare)", "n=count()", "d=distinct(n)"],
        }
        read = 0
        for seed, when in enumerate((pa.date32(), pa.timestamp("us"))):
            given = table(seed)
            given = given.set_column(0, "on", given["on"].cast(when))
            path = self.folder / f"{seed}.parquet"
            parquet.write_table(given, path, row_group_size=40)
            for where in CONDITIONS:
                whole = ep.Daybook(given, where=where, **asked)
                with mock.patch.object(reader, "plain_text", wraps=reader.plain_text) as sound:
                    book = ep.Daybook.read([str(path)], where=where, **asked)
                read += sound.call_count
                self.assertEqual((book.rows, book.coverage), (whole.rows, whole.coverage), where)
                one, two = (b.recap("month", by="route") for b in (whole, book))
                self.assertEqual([*one.rows()], [*two.rows()], where)
                self.assertEqual(one.meta["left_out"], two.meta["left_out"])
                self.assertEqual(one.trace(0, "s").rows, two.trace(0, "s").rows)
        self.assertLess(read, 2 * 15 * len(CONDITIONS) * 0.7)

    def test_what_is_wrong_is_told_where_no_group_is_read(self):
        path = self.folder / "rows.parquet"
        parquet.write_table(table(1), path, row_group_size=40)
        for where, said in (("fare > 100000 and n = 'x'", "text and a number"), ("fare > 100000", "no row meets the condition"),
                            ("fare > 100000 and fares", "fares")):  # fmt: skip
            with self.assertRaisesRegex(ep.EptaroError, said):
                ep.Daybook.read([str(path)], date="on", measures="n=count()", where=where)

    def test_blank_dates_are_looked_at(self):
        given = table(2).to_pydict()
        given["on"][5] = None
        path = self.folder / "rows.parquet"
        parquet.write_table(pa.table(given), path, row_group_size=40)
        asked = {"date": "on", "measures": "n=count()", "where": "on >= '2024-06-01' or n = -4"}
        with self.assertRaisesRegex(ep.DateError, "row 6: blank"):
            ep.Daybook.read([str(path)], **asked)
        book = ep.Daybook.read([str(path)], dates=ep.DateRules(bad_dates="reject"), **asked)
        self.assertEqual(len(book.rejected), 1)
