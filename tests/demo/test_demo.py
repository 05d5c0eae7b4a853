"""The demo: its files, and the walk."""

import csv
import datetime as dt
import io
import tempfile
import unittest
from collections import Counter
from decimal import Decimal
from fractions import Fraction
from pathlib import Path

import eptaro as ep
from eptaro.demo.files import copy_shipped, generate, shipped
from tests import oracle
from tests.books import without_pictures


def rows_of(name: str) -> list[dict]:
    """Return the rows of a shipped file."""
    return list(csv.DictReader(io.StringIO(shipped(name).decode())))


class Shipped(unittest.TestCase):
    """The shipped files hold what the demo promises."""

    def test_size_season_closed_days_late_and_ended_routes(self):
        files = {name: rows_of(name) for name in ("bookings", "sales", "consignments")}
        self.assertEqual(sum(map(len, files.values())), 40_000)
        days = Counter(row["sailed_on"][:10] for row in files["bookings"])
        self.assertNotIn("2023-12-25", days)
        months = Counter(day[5:7] for day in days.elements())
        self.assertGreater(months["07"], 3 * months["11"])
        sailed = {}
        for row in files["bookings"]:
            sailed.setdefault(row["route"], []).append(row["sailed_on"][:10])
        self.assertGreaterEqual(min(sailed["Quillay Circle"]), "2023-06-12")
        self.assertLessEqual(max(sailed["Ulvane-Brannet"]), "2024-10-27")

    def test_flawed_rows_are_there(self):
        self.assertTrue(any(row["booked_at"] == "" for row in rows_of("bookings")))
        self.assertTrue(any(row["date"].endswith("0230") for row in rows_of("sales")))
        self.assertTrue(any(row["shipped"].startswith("31.02.") for row in rows_of("consignments")))
        self.assertTrue(any(int(row["shipped"][3:5] or 0) > 12 for row in rows_of("consignments")))

    def test_verbs_equal_the_oracle_on_the_bookings(self):
        made = [(dt.date.fromisoformat(r["sailed_on"][:10]), r["route"], Decimal(r["fare"]))
                for r in rows_of("bookings")]  # fmt: skip
        per_day = {}
        for day, route, fare in made:
            for key in ((day, route), (day, None)):
                per_day[key] = per_day.get(key, 0) + Fraction(fare)
        with tempfile.TemporaryDirectory() as folder:
            file = copy_shipped(Path(folder))[0]
            for rule in oracle.FISCAL_RULES:
                calendar = ep.MonthCalendar(**rule)
                book = ep.Daybook.read(
                    file,
                    date="sailed_on",
                    by="route",
                    measures="revenue=sum(fare)",
                    calendar=calendar,
                )
                self.check(book, per_day)

    def check(self, book, per_day):
        def total(row, first, last):
            return sum(
                per_day.get((d, row.get("route")), 0) for d in oracle.days(row[first], row[last])
            )

        for row in [*book.recap("month", by="route").rows(), *book.recap("year").rows()]:
            self.assertEqual(Fraction(row["revenue"]), total(row, "first", "last"))
        for row in list(book.accumulate("year").rows())[::50]:
            self.assertEqual(Fraction(row["revenue_to_date"]), total(row, "first", "date"))
        for row in book.compare("quarter", to_date=True, by="route", periods=4).rows():
            self.assertEqual(Fraction(row["revenue"]), total(row, "first", "last"))
            self.assertEqual(
                Fraction(row["revenue_prior"]), total(row, "prior_first", "prior_last")
            )


class Made(unittest.TestCase):
    """Files of any size come from a fixed seed."""

    def test_two_runs_agree_and_kinds_hold_the_same(self):
        with tempfile.TemporaryDirectory() as folder:
            here, there = Path(folder, "a"), Path(folder, "b")
            first = [p.read_bytes() for p in generate(here, 3000)]
            self.assertEqual(first, [p.read_bytes() for p in generate(there, 3000)])
            with self.assertRaisesRegex(ep.InputError, "already exists"):
                generate(here, 3000)
            tables = []
            for path in (here / "bookings.csv", generate(here, 3000, kind="parquet")[0]):
                book = ep.Daybook.read(path, date="sailed_on", by="route", measures="r=sum(fare)")
                tables.append(list(book.recap("month", by="route").rows()))
            self.assertEqual(*tables)
            with self.assertRaisesRegex(ep.InputError, "too few"):
                generate(here, 5)

    def test_the_walk_answers_each_step_and_a_second_run_reuses_the_files(self):
        from tests.cli.test_commands import Commands

        with tempfile.TemporaryDirectory() as folder:
            with without_pictures():
                for _ in range(2):
                    status, out, err = Commands.go(self, "demo", "--folder", folder)
                    self.assertEqual((status, "report written to" in err), (0, True), err)
            self.assertEqual(out.count("$ eptaro"), 16)
            self.assertIn("next time use --date shipped --order dmy", out)
            self.assertIn("1: '01.04.2022' is not written as", out)
            self.assertIn("FY2026-Q2", out)
            self.assertIn("numbers to add up (decimal", out)
            self.assertIn("7 rows have no match in", err)
            Path(folder, "sales.csv").write_text("mine")
            status, _, err = Commands.go(self, "demo", "--folder", folder, "--rows", "200")
            self.assertEqual((status, "already exists" in err), (1, True))
            self.assertEqual(Path(folder, "sales.csv").read_text(), "mine")
