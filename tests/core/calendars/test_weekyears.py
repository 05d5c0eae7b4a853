"""The verbs in years of whole weeks equal plain loops, week 53 among them."""

import datetime as dt
import unittest
from fractions import Fraction
from itertools import pairwise

import eptaro as ep
from tests import oracle
from tests.core.calendars.test_week import QUARTERS, last_day
from tests.core.verbs.test_verbs import book_of
from tests.oracle import DAY

RULES = (
    {"pattern": "4-4-5"},
    {"pattern": "4-5-4", "week_starts": "monday", "ends": "last", "year_ends": "12-31"},
    {"pattern": "13x4", "year_ends": "02-29"},
    {"pattern": "5-4-4", "year_named": "start", "year_ends": "08-28"},
)
WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")


class Year:
    """One year of a rule, its periods listed by plain datetime."""

    def __init__(self, year: int, rule: dict) -> None:
        starts = WEEKDAYS.index(rule.get("week_starts", "sunday"))
        ends, near = rule.get("year_ends", "01-31"), rule.get("ends", "nearest")
        self.year = year
        self.first = last_day(year - 1, ends, starts, near) + DAY
        self.last = last_day(year, ends, starts, near)
        weeks = [4] * 13 if rule["pattern"] == "13x4" else QUARTERS[rule["pattern"]] * 4
        weeks[-1] += ((self.last - self.first).days + 1) // 7 - 52
        cuts = [0]
        for count in weeks:
            cuts.append(cuts[-1] + count)
        self.months = [(self.first + 7 * DAY * a, self.first + 7 * DAY * b - DAY)
                       for a, b in pairwise(cuts)]  # fmt: skip
        quarters = (0, 3, 6, 9, len(weeks))
        self.quarters = [(self.months[a][0], self.months[b - 1][1])
                         for a, b in pairwise(quarters)]  # fmt: skip

    def periods(self, level: str) -> list[tuple[dt.date, dt.date]]:
        """Return first and last days of the year's periods of a level."""
        return {"year": [(self.first, self.last)], "quarter": self.quarters, "month": self.months}[
            level
        ]


class Verbs(unittest.TestCase):
    """recap, accumulate, compare and trail over several 52/53-week years."""

    def cases(self):
        for seed, rule in enumerate(RULES):
            rows = oracle.random_rows(seed + 40, size=150, years=7)
            years = [Year(y, rule) for y in range(rows.first.year - 2, rows.last.year + 3)]
            yield rows, years, book_of(rows, ep.WeekCalendar("own", **rule))

    def total(self, rows, group, first, last) -> Fraction | None:
        return oracle.added(
            r[2] for r in rows.rows if group in (None, r[1]) and first <= r[0] <= last
        )

    def test_recap(self):
        for rows, years, book in self.cases():
            for level in ("year", "quarter", "month"):
                listed = [p for year in years for p in year.periods(level)
                          if p[1] >= rows.first and p[0] <= rows.last]  # fmt: skip
                found = list(book.recap(level, by="group").rows())
                self.assertEqual(
                    [(r["first"], r["last"]) for r in found], listed * len(rows.groups)
                )
                for row in found:
                    self.assertEqual(
                        oracle.exact(row["revenue"]),
                        self.total(rows, row["group"], row["first"], row["last"]),
                    )

    def test_accumulate(self):
        for rows, years, book in self.cases():
            spans = [p for year in years for p in year.periods("quarter")]
            for row in list(book.accumulate("quarter").rows())[::23]:
                (first,) = (a for a, b in spans if a <= row["date"] <= b)
                self.assertEqual(row["first"], first)
                self.assertEqual(
                    oracle.exact(row["revenue_to_date"]), self.total(rows, None, first, row["date"])
                )

    def test_compare_whole_years_and_months_by_place(self):
        for rows, years, book in self.cases():
            for level in ("year", "month"):
                place = {
                    p[0]: (y, i)
                    for y, year in enumerate(years)
                    for i, p in enumerate(year.periods(level))
                }
                for row in book.compare(level).rows():
                    year, number = place[row["first"]]
                    first, last = years[year - 1].periods(level)[number]
                    self.assertEqual((row["prior_first"], row["prior_last"]), (first, last))
                    if row["comparable"]:
                        now = self.total(rows, None, row["first"], row["last"])
                        prior = self.total(rows, None, first, last)
                        change = None if None in (now, prior) else now - prior
                        self.assertEqual(oracle.exact(row["revenue_change"]), change)

    def test_compare_year_to_date_keeps_week_and_weekday(self):
        for rows, years, book in self.cases():
            for as_of in oracle.days(rows.last - 400 * DAY, rows.last)[::37]:
                (row,) = book.compare("year", to_date=True, as_of=as_of).rows()
                (now,) = (y for y in range(len(years)) if years[y].first <= as_of <= years[y].last)
                prior = years[now - 1]
                cut = min(prior.first + (as_of - years[now].first), prior.last)
                if as_of == years[now].last or as_of in {last for _, last in years[now].months}:
                    number = [last for _, last in years[now].months].index(as_of)
                    cut = prior.months[number][1]
                self.assertEqual((row["prior_first"], row["prior_last"]), (prior.first, cut), as_of)

    def test_trailing_months_are_whole_at_month_ends(self):
        for rows, years, book in self.cases():
            months = [p for year in years for p in year.months]
            lasts = [last for _, last in months]
            for row in list(book.trail("3 months", every="month").rows())[:-1]:
                place = lasts.index(row["last"])
                self.assertEqual(row["first"], months[place - 2][0])
                self.assertEqual(
                    oracle.exact(row["revenue_trailing"]),
                    self.total(rows, None, row["first"], row["last"]),
                )
