"""`WeekCalendar`: 52/53-week years by rule, checked against plain `datetime`."""

import datetime as dt
import itertools
import unittest

import numpy as np

import eptaro as ep
from eptaro.core.calendars.days import ordinal
from eptaro.core.calendars.levels import WEEKDAYS
from tests.oracle import DAY

WIDE = ep.Span("1900-01-01", "2299-12-31")
QUARTERS = {"4-4-5": [4, 4, 5], "4-5-4": [4, 5, 4], "5-4-4": [5, 4, 4]}


def nominal(year: int, year_ends: str) -> dt.date:
    """Return the nominal last day of the year ending in a civil year."""
    month, day = map(int, year_ends.split("-"))
    if (month, day) == (2, 29):
        return dt.date(year, 3, 1) - DAY
    return dt.date(year, month, day)


def last_day(year: int, year_ends: str, starts: int, ends: str) -> dt.date:
    """Return the actual last day: the weekday before `starts`, last before or nearest."""
    wanted = (starts - 1) % 7
    days = [nominal(year, year_ends) + DAY * i for i in range(-6, 4 if ends == "nearest" else 1)]
    fits = [day for day in days if day.weekday() == wanted]
    return min(fits, key=lambda day: abs(day - nominal(year, year_ends)))


class Years(unittest.TestCase):
    """Year ends, weeks and months of every rule."""

    def test_every_rule_equals_the_oracle(self):
        rules = itertools.product(
            ("01-31", "12-31", "02-29", "08-28"), range(7), ("nearest", "last"), ("start", "end"),
            (*QUARTERS, "13x4"),
        )  # fmt: skip
        for year_ends, starts, ends, named, pattern in rules:
            rule = {"pattern": pattern, "year_ends": year_ends, "ends": ends, "year_named": named}
            calendar = ep.WeekCalendar("own", week_starts=WEEKDAYS[starts], **rule)
            ended = [last_day(year, year_ends, starts, ends) for year in range(2014, 2028)]
            years = calendar.periods(ep.Span(ended[0] + DAY, ended[-1]), "year")
            weeks = []
            for year, (before, last) in enumerate(itertools.pairwise(ended), 2015):
                name = year if named == "end" else (nominal(year - 1, year_ends) + DAY).year
                period = years[year - 2015]
                self.assertEqual(
                    (period.label, period.first, period.last),
                    (f"FY{name}", before + DAY, last), calendar,
                )  # fmt: skip
                weeks += [4] * 13 if pattern == "13x4" else QUARTERS[pattern] * 4
                weeks[-1] += (last - before).days // 7 - 52
            months = calendar.periods(ep.Span(ended[0] + DAY, ended[-1]), "month")
            self.assertEqual(((months.last - months.first + 1) // 7).tolist(), weeks, calendar)

    def test_every_pattern_nests_over_four_centuries(self):
        for pattern, ends in itertools.product((*QUARTERS, "13x4"), ("nearest", "last")):
            calendar = ep.WeekCalendar("own", pattern=pattern, ends=ends)
            calendar.grid(WIDE).check()
            weeks = calendar.periods(WIDE, "week")
            months = calendar.periods(WIDE, "month")
            self.assertTrue(np.isin(months.first[1:], weeks.first).all())

    def test_iso_weeks(self):
        iso = ep.WeekCalendar("iso", week_starts="monday", year_ends="12-31", prefix="")
        ours, theirs = (c.periods(WIDE, "week") for c in (iso, ep.MonthCalendar()))
        self.assertEqual(ours.labels.tolist(), theirs.labels.tolist())
        self.assertEqual(ours.first.tolist(), theirs.first.tolist())

    def test_the_named_year_goes_by_the_nominal_days(self):
        calendar = ep.WeekCalendar("own", year_ends="12-31", week_starts="sunday")
        self.assertEqual(calendar.period_of("2021-01-02", "year").label, "FY2020")

    def test_the_long_month_takes_week_53(self):
        calendar = ep.WeekCalendar("own", long_month=1)
        months = calendar.periods(calendar.period("FY2024").span, "month")
        self.assertEqual((months.last - months.first + 1)[[0, 11]].tolist(), [35, 35])

    def test_quarters_of_13_months_hold_3_3_3_and_4(self):
        calendar = ep.WeekCalendar("own", pattern="13x4")
        year = calendar.period("FY2025").span
        held = [len(calendar.periods(q.span, "month")) for q in calendar.periods(year, "quarter")]
        self.assertEqual(held, [3, 3, 3, 4])
        self.assertEqual(calendar.period("FY2025-M13").last, year.last)


class Described(unittest.TestCase):
    """A calendar says where its years end."""

    def test_nearest_or_before(self):
        for ends, words in (
            ("nearest", "Saturday nearest to 31 January"),
            ("last", "Saturday on or before 31 January"),
        ):
            self.assertIn(words, ep.WeekCalendar("w", year_ends="01-31", ends=ends).describe())


class Moving(unittest.TestCase):
    """Days keep their place in the period; whole periods move by place."""

    CAFE = ep.WeekCalendar("cafe")

    def test_a_year_keeps_week_and_weekday(self):
        day = dt.date(2025, 8, 20)
        back = self.CAFE.shift(day, -1, "year")
        weeks = [self.CAFE.period_of(d, "week").number for d in (day, back)]
        self.assertEqual((weeks[0], day.weekday()), (weeks[1], back.weekday()))

    def test_week_53_clamps_to_the_years_last_day_and_says_so(self):
        days = np.array([ordinal("2024-02-01"), ordinal("2024-01-20")])
        moved, clamped = self.CAFE.move_days(days, 1, "year")
        self.assertEqual(moved[0], ordinal(self.CAFE.period("FY2025").last))
        self.assertEqual(clamped.tolist(), [True, False])

    def test_months_keep_the_day_of_month_clamped(self):
        month = self.CAFE.period("FY2025-M03")  # five weeks
        moved = self.CAFE.shift(month.last, 1, "month")
        self.assertEqual(moved, self.CAFE.period("FY2025-M04").last)

    def test_whole_months_stay_whole_and_13_months_keep_only_quarters(self):
        span = self.CAFE.period("FY2024-M12").span
        self.assertEqual(span.shift(1, "year", self.CAFE), self.CAFE.period("FY2025-M12").span)
        calendar = ep.WeekCalendar("own", pattern="13x4")
        quarter = calendar.period("FY2025-Q4").span
        self.assertEqual(quarter.shift(-1, "quarter", calendar), calendar.period("FY2025-Q3").span)
        with self.assertRaisesRegex(ep.CalendarError, "step by year, month"):
            calendar.period("FY2025-M01").shift(1, "quarter")

    def test_compare_leaves_week_53_alone(self):
        frame = {"on": ["2022-01-30", "2025-02-01"]}
        book = ep.Daybook(frame, date="on", measures="n=count()", calendar=self.CAFE)
        rows = {row["period"]: row for row in book.compare("week").rows()}
        self.assertIsNone(rows["FY2024-W53"]["prior_period"])
        self.assertEqual(rows["FY2025-W52"]["prior_period"], "FY2024-W52")
        (row,) = book.compare("year", to_date=True, as_of="2024-02-01").rows()
        self.assertEqual((str(row["prior_last"]), row["prior_clamped"]), ("2023-01-28", True))


class Refusals(unittest.TestCase):
    """A calendar that cannot be is refused with the reason."""

    def test_bad_arguments(self):
        bad = (
            ({"pattern": "4-4-4"}, "makes 48 weeks a year, not 52"),
            ({"pattern": "445"}, "write it as 4-4-5"),
            *(
                ({"year_ends": text}, "does not exist")
                for text in ("02-30", "04-31", "06-31", "09-31", "11-31")
            ),
            ({"ends": "closest"}, "Accepted: nearest, last"),
            ({"long_month": 13}, "from 1 to 12"),
            ({"week_starts": "sun"}, "did you mean 'sunday'"),
            ({"year_named": "begin"}, "year_named"),
        )
        for arguments, message in bad:
            with self.assertRaisesRegex(ep.CalendarError, message):
                ep.WeekCalendar("own", **arguments)
        for month, days in enumerate((31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31), 1):
            self.assertEqual(
                ep.WeekCalendar("a", year_ends=f"{month:02d}-{days}").levels[0], "year"
            )
        self.assertEqual(eval(repr(ep.WeekCalendar("a")), vars(ep)), ep.WeekCalendar("a"))
