"""Sets of holidays: what they hold, in order, and parts of them."""

import datetime as dt
import unittest

import eptaro as ep

DAYS = [dt.date(2025, 12, 24), dt.date(2025, 1, 1), dt.date(2025, 5, 17), dt.date(2025, 5, 17)]
KINDS = ["company", "public", "public", "school"]
HELD = ep.HolidaySet(
    ep.Holiday(day, f"no {n}", kind) for n, (day, kind) in enumerate(zip(DAYS, KINDS, strict=True))
)


class Sets(unittest.TestCase):
    """Parts of a set are sets."""

    def test_they_are_in_time_order(self):
        self.assertEqual([holiday.day for holiday in HELD], sorted(DAYS))

    def test_between_takes_both_ends(self):
        part = HELD.between(ep.Span("2025-01-01", "2025-05-17"))
        self.assertEqual([holiday.name for holiday in part], ["no 1", "no 2", "no 3"])
        self.assertEqual(len([*HELD.between(ep.Span("2025-01-02", "2025-05-16"))]), 0)

    def test_of_kinds(self):
        self.assertEqual([h.name for h in HELD.of_kinds(["company", "school"])], ["no 3", "no 0"])
