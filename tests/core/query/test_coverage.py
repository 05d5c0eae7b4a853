"""Which days are known: those that the data covers, days off at its ends, and declared periods."""

import datetime as dt
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import eptaro as ep

DAY = dt.timedelta(1)
FIRST, LAST = dt.date(2023, 1, 2), dt.date(2025, 8, 29)  # a Monday and a Friday


def ledger(last=LAST, weekdays=True, **options) -> ep.Daybook:
    """Return a book of one row a day, on weekdays alone or on every day."""
    count = (last - FIRST).days + 1
    days = [day for n in range(count) if (day := FIRST + DAY * n).weekday() < 5 or not weekdays]
    frame = {
        "on": days,
        "x": [1] * len(days),
        "g": ["a", "b"] * (len(days) // 2) + ["a"] * (len(days) % 2),
    }
    return ep.Daybook(frame, date="on", measures="s=sum(x)", by="g", **options)


class AsOfAfterTheData(unittest.TestCase):
    """What lies after the last covered day is blank, and nothing is set against it."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.book = ledger(dt.date(2025, 8, 20), weekdays=False)
        kept = self.book.write(self.folder / "kept.parquet")
        folder = self.book.write(f"{self.folder}/kept/")
        shards = ep.Daybook.open(folder)
        shards._store = replace(shards._store, at_once=0)  # one shard at a time
        self.books = (self.book, ep.Daybook.open(kept), ep.Daybook.open(folder), shards)

    def test_to_date_is_cut_at_the_last_covered_day(self):
        want = self.book.compare("year", to_date=True)
        for book in self.books:
            for as_of, period in (("2025-12-31", "2025"), ("2026-11-29", "2026")):
                late = book.compare("year", to_date=True, as_of=as_of)
                row = [*late.rows()][-1]
                self.assertEqual(row["period"], period)
                if period == "2025":
                    self.assertEqual(row, [*want.rows()][-1])
                else:
                    self.assertEqual((row["s"], row["comparable"]), (None, False))
                gap = (dt.date.fromisoformat(as_of) - dt.date(2025, 8, 20)).days
                told = f"the data ends on 2025-08-20, {gap} days before the as-of date"
                self.assertIn(told, late.footer)
                self.assertIn(told[1:], late.headline)
            self.assertNotIn("the data ends", book.compare("year", to_date=True).footer)

    def test_whole_periods_after_the_data_are_blank(self):
        for book in self.books:
            rows = {
                row["period"]: row for row in book.recap("month", as_of="2025-12-31", by=[]).rows()
            }
            self.assertEqual((rows["2025-08"]["s"], rows["2025-08"]["complete"]), (20, False))
            for row in rows.values():
                if row["first"] > dt.date(2025, 8, 20):
                    self.assertEqual((row["s"], row["complete"]), (None, False), row)
            pairs = {
                row["period"]: row
                for row in book.compare("month", as_of="2025-12-31", by=[]).rows()
            }
            self.assertFalse(pairs["2025-08"]["comparable"])
            self.assertIsNone(pairs["2025-08"]["s_change"])
            card = [*book.card(as_of="2025-08-25", by=[]).rows()]
            self.assertEqual(
                {row["last"] for row in card if row["level"] != "week"}, {dt.date(2025, 8, 20)}
            )
            sums = [*book.accumulate("year", as_of="2025-12-31", by=[]).rows()]
            late = {row["s_to_date"] for row in sums if row["date"] > dt.date(2025, 8, 20)}
            self.assertLessEqual(late, {None})

    def test_declared_days_are_quiet_ones(self):
        book = ledger(dt.date(2025, 8, 20), weekdays=False, coverage="2023-01-02..2025-08-31")
        rows = {row["period"]: row for row in book.recap("month", as_of="2025-12-31", by=[]).rows()}
        self.assertEqual((rows["2025-08"]["s"], rows["2025-08"]["complete"]), (20, True))
        self.assertNotEqual((rows.get("2025-12") or {"s": None})["s"], 0)


class Ledgers(unittest.TestCase):
    """Data of weekdays is whole to the ends of its months, and no further."""

    def test_coverage_grows_over_days_off(self):
        for last, end in ((LAST, dt.date(2025, 8, 31)), (dt.date(2025, 8, 28), dt.date(2025, 8, 28)),
                          (dt.date(2025, 8, 22), dt.date(2025, 8, 24))):  # fmt: skip
            book = ledger(last)
            self.assertEqual((book.coverage.first, book.coverage.last), (dt.date(2023, 1, 1), end))
        years = {row["period"]: row for row in ledger().compare("year", by=[]).rows()}
        self.assertTrue(years["2024"]["comparable"])
        self.assertEqual(years["2024"]["s_change"], 262 - 260)

    def test_it_does_not_grow_where_days_off_have_rows(self):
        book = ledger(weekdays=False)
        self.assertEqual((book.coverage.first, book.coverage.last), (FIRST, LAST))

    def test_holidays_count_as_days_off(self):
        last, fair = dt.date(2025, 8, 27), [dt.date(2025, 8, 28), dt.date(2025, 8, 29)]
        for closed, end in ((fair, dt.date(2025, 8, 31)), ([*fair, dt.date(2025, 7, 1)], last)):
            held = ep.HolidaySet(ep.Holiday(day, "Fair") for day in closed)
            book = ledger(last, workdays=ep.Workdays(holidays=held))
            self.assertEqual(book.coverage.last, end)  # the first of July has a row

    def test_periods_that_are_declared_whole(self):
        last = dt.date(2025, 8, 20)
        for said, first, end in (("months", (2023, 1, 1), (2025, 8, 31)), ("years", (2023, 1, 1), (2025, 12, 31)),
                                 ("quarters", (2023, 1, 1), (2025, 9, 30)), ("weeks", (2023, 1, 2), (2025, 8, 24))):  # fmt: skip
            book = ledger(last, weekdays=False, coverage=said)
            self.assertEqual(
                (book.coverage.first, book.coverage.last), (dt.date(*first), dt.date(*end))
            )
            with tempfile.TemporaryDirectory() as folder:
                again = ep.Daybook.open(book.write(Path(folder) / "kept.parquet"))
                self.assertEqual(again.coverage, book.coverage)
        with self.assertRaisesRegex(ep.EptaroError, "not one of groups, years"):
            ledger(coverage="month")

    def test_what_is_missing_is_named_with_what_would_declare_it(self):
        book = ledger(dt.date(2025, 8, 20), weekdays=False)
        said = "does not cover 2025-08-21 to 2025-08-31"
        paste = "use coverage='2023-01-02..2025-08-31'"
        recap = book.recap("month", by=[])
        self.assertIn(said, recap.headline)
        self.assertIn(paste, recap.headline)
        pairs = book.compare("month", by=[], only="2025-08")
        self.assertIn(said, pairs.headline + str(pairs))
        self.assertIn(paste, pairs.headline + str(pairs))


if __name__ == "__main__":
    unittest.main()
