"""Periods of two calendars side by side, against plain Python."""

import datetime as dt
import random
import tempfile
import unittest
from dataclasses import replace
from fractions import Fraction

import eptaro as ep
from tests.oracle import DAY

START = dt.date(2023, 3, 5)
CALENDARS = (
    ep.MonthCalendar(),
    ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY"),
    ep.MonthCalendar("freight", year_starts="09-10", year_named="start"),
    ep.WeekCalendar("cafe", pattern="4-4-5"),
    ep.WeekCalendar("shop", pattern="13x4", year_ends="12-31", ends="last", prefix="S"),
)


def labels_of(calendar, per, days):
    """Return the label of the period of each of some days, and of the days around them."""
    first, last = days[0] - 400 * DAY, days[-1] + 400 * DAY
    return {
        day: period.label
        for period in calendar.periods(ep.Span(first, last), per)
        for day in period
    }


class Beside(unittest.TestCase):
    """`recap(beside=calendar)`."""

    def test_rows_are_the_days_that_two_periods_share(self):
        rng, count = random.Random(6), 0
        for number in range(12):
            one, other = rng.sample(CALENDARS, 2)
            rows = [
                (START + DAY * rng.randrange(rng.choice([40, 500])), rng.choice("ab"), rng.randint(-5, 20))
                for _ in range(rng.randint(2, 80))
            ]  # fmt: skip
            on, group, x = map(list, zip(*rows, strict=True))
            book = ep.Daybook({"on": on, "g": group, "x": x}, date="on", by="g",
                              measures=["s=sum(x)", "m=mean(x)"], calendar=one)  # fmt: skip
            with tempfile.TemporaryDirectory() as folder:
                if number % 3 == 0:
                    book.write(f"{folder}/kept/")
                    book = ep.Daybook.open(f"{folder}/kept")
                    book._store = replace(book._store, at_once=0)
                per = rng.choice(["month", "quarter", "year", "week"])
                found = [*book.recap(per, by="g", beside=other).rows()]
            days = [min(on) + DAY * n for n in range((max(on) - min(on)).days + 1)]
            named = [labels_of(calendar, per, days) for calendar in (one, other)]
            labels = {day: tuple(found[day] for found in named) for day in days}
            wanted = list(dict.fromkeys(labels.values()))
            for group_name in sorted(set(group)):
                own = [row for row in found if row["g"] == group_name]
                pairs = [(row["period"], row[f"{other.name}_period"]) for row in own]
                self.assertEqual(pairs, wanted)
                for row, pair in zip(own, pairs, strict=True):
                    kept = [v for d, g, v in rows if g == group_name and labels[d] == pair]
                    self.assertEqual(row["s"], sum(kept))
                    mean = float(Fraction(sum(kept), len(kept))) if kept else None
                    self.assertEqual(row["m"], mean)
                    self.assertEqual(row["days"], (row["last"] - row["first"]).days + 1)
                    for day in (row["first"], row["last"]):
                        self.assertEqual(tuple(found[day] for found in named), pair)
                    for day in (row["first"] - DAY, row["last"] + DAY):
                        self.assertNotEqual(tuple(found[day] for found in named), pair)
                    covered = min(on) <= row["first"] and row["last"] <= max(on)
                    self.assertEqual(row["complete"], covered)
                    count += 2
        self.assertGreater(count, 300)

    def test_it_ties_out_and_is_proved_in_sets_too(self):
        rows = {"on": [START, START + DAY * 200], "x": [3, 4]}
        book = ep.Daybook(rows, date="on", measures="s=sum(x)")
        table = book.recap("month", beside=CALENDARS[3])
        self.assertEqual(sum(table["s"]), 7)
        self.assertGreater(book.prove(table), 5)
        self.assertIn(
            "2 parts add up" if len(table) == 2 else "add up to 7", table.meta["tie_out"]["s"]
        )
        both = ep.BookSet({"a": book, "b": book}, "d=a.s - b.s")
        self.assertEqual(set(both.recap("month", beside=CALENDARS[3], measures="d")["d"]), {0})

    def test_what_cannot_be(self):
        book = ep.Daybook({"on": [START], "x": [3]}, date="on", measures="s=sum(x)")
        listed = ep.ListedCalendar(
            "own", [{"year": 2023, "first": "2023-01-01", "last": "2023-12-31"}]
        )
        for how, words in (
            ({"beside": "cafe"}, "no calendar"),
            ({"beside": CALENDARS[3], "wide": True}, "does not go with wide"),
            ({"beside": CALENDARS[3], "per": "weekday"}, "per=.weekday."),
            ({"beside": listed}, "month"),
        ):
            with self.assertRaisesRegex(ep.EptaroError, words):
                book.recap(**{"per": "month", **how})
