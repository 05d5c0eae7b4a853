"""Chunks of time of every unit, wider periods below their parts, and whole weeks of the year."""

import datetime as dt
import unittest
from itertools import pairwise

import eptaro as ep
from tests.oracle import DAY, add_civil_months

FIRST, LAST = dt.date(2023, 11, 29), dt.date(2026, 3, 2)
BOOK = ep.Daybook({"on": [str(FIRST), str(LAST)], "x": [1, 2]}, date="on", measures="n=count()")
STEP = {"day": lambda day, n: day + n * DAY, "week": lambda day, n: day + 7 * n * DAY,
        "month": add_civil_months, "quarter": lambda day, n: add_civil_months(day, 3 * n),
        "half": lambda day, n: add_civil_months(day, 6 * n), "year": lambda day, n: add_civil_months(day, 12 * n)}  # fmt: skip


LONGEST = {"day": 12000, "week": 1800, "month": 500, "quarter": 170, "half": 90, "year": 50}


class Chunks(unittest.TestCase):
    """So many units, one after the other from a day on, both ways."""

    def test_every_unit_and_width_covers_the_days_without_a_gap(self):
        for unit, step in STEP.items():
            for n in (1, 2, 7):
                for start in (
                    FIRST,
                    dt.date(2024, 2, 29),
                    dt.date(2030, 1, 31),
                    dt.date(2001, 5, 6),
                ):
                    with self.subTest(unit=unit, n=n, start=start):
                        many = {"half": "halves"}.get(unit, f"{unit}s")
                        table = BOOK.recap(f"{n} {many} from {start}")
                        starts = [
                            step(start, n * k)
                            for k in range(-LONGEST[unit] // n, LONGEST[unit] // n)
                        ]
                        want = [(a, b - DAY) for a, b in pairwise(starts)
                                if b > FIRST and a <= LAST]  # fmt: skip
                        found = [(row["first"], row["last"]) for row in table.rows()]
                        self.assertEqual(found, want)
                        self.assertEqual(table["period"][0], f"{want[0][0]}..{want[0][1]}")

    def test_they_are_cut_to_a_window_and_told_incomplete(self):
        rows = list(BOOK.recap("1 months from 2025-01-15", only="2025-01-20..2025-03-01").rows())
        self.assertEqual([(str(r["first"]), str(r["last"]), r["complete"]) for r in rows],
                         [("2025-01-20", "2025-02-14", False), ("2025-02-15", "2025-03-01", False)])  # fmt: skip


class Subtotals(unittest.TestCase):
    """Wider levels follow the last of their parts, the narrower first."""

    def test_in_the_order_of_their_ends(self):
        table = BOOK.recap(
            "month",
            subtotals=["year", "quarter"],
            only="2024-11..2025-01".replace("..", "-01..") + "-31",
        )
        levels = list(table.column("level").to_list())
        self.assertEqual(levels, ["month", "month", "quarter", "year", "month", "quarter", "year"])

    def test_a_level_that_is_not_wider_is_refused_with_those_that_are(self):
        for level in ("month", "week", "moon"):
            with self.assertRaisesRegex(ep.QuestionError, "use year, half, quarter"):
                BOOK.recap("month", subtotals=level)
        with self.assertRaisesRegex(ep.QuestionError, "use none"):
            BOOK.recap("year", subtotals="month")
