"""`MonthCalendar`: periods, labels, weeks and what it refuses."""

import datetime as dt
import itertools
import unittest

import numpy as np

import eptaro as ep
from eptaro.core.calendars.days import ordinal
from eptaro.core.calendars.levels import WEEKDAYS
from tests import oracle

WIDE = ep.Span("1900-01-01", "2299-12-31")
LETTER = {"half": "-H%d", "quarter": "-Q%d", "month": "-M%02d"}


class Periods(unittest.TestCase):
    """Every level equals a plain-datetime oracle and nests."""

    def test_all_start_months_days_and_namings_equal_the_oracle(self):
        span = ep.Span("2023-11-20", "2025-04-05")
        days = oracle.days(span.first, span.last)[::9]
        for month, day, named in itertools.product(
            range(1, 13), (1, 6, 10, 15, 28), ("start", "end")
        ):
            rule = {"year_starts": f"{month:02d}-{day:02d}", "year_named": named}
            calendar = ep.MonthCalendar("own", prefix="FY", **rule)
            for level in oracle.MONTHS_IN:
                at = calendar.index_of(np.array([ordinal(d) for d in days]), level)
                held = ep.core.calendars.period.Periods(calendar, level, at)
                for i, d in enumerate(days):
                    first, last, year, number = oracle.period(d, level, rule)
                    label = f"FY{year}" + (LETTER[level] % number if level != "year" else "")
                    got = (
                        held.first[i],
                        held.last[i],
                        held.years[i],
                        held.numbers[i],
                        held.labels[i],
                    )
                    self.assertEqual(got, (ordinal(first), ordinal(last), year, number, label))

    def test_four_centuries_nest_without_gap_and_sort_as_text(self):
        for rule in oracle.FISCAL_RULES:
            calendar = ep.MonthCalendar("own", **rule)
            grid = calendar.grid(WIDE)
            grid.check()
            for level in calendar.levels:
                held = grid.periods(level).position_of(grid.days)
                np.testing.assert_array_equal(grid.places(level), held)

    def test_the_checker_finds_a_gap_and_a_broken_nesting(self):
        months = ep.MonthCalendar().periods(ep.Span("2025-01-01", "2025-12-31"), "month")
        years = ep.MonthCalendar(year_starts="04-15").periods(
            ep.Span("2025-01-01", "2025-12-31"), "year"
        )
        span = ep.Span("2025-01-01", "2025-12-31")
        with self.assertRaisesRegex(ep.CalendarError, "gap"):
            ep.PeriodGrid(span, {"month": months[np.array([0, 1, 3])]}).check()
        with self.assertRaisesRegex(ep.CalendarError, "nest"):
            ep.PeriodGrid(span, {"year": years, "month": months}).check()

    def test_the_year_naming_of_the_design(self):
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        self.assertEqual(fiscal.period_of("2025-03-31", "year").label, "FY2025")
        self.assertEqual(fiscal.period_of("2025-04-01", "year").label, "FY2026")
        freight = ep.MonthCalendar("freight", year_starts="09-10", year_named="start")
        month = freight.period_of("2025-09-10", "month")
        self.assertEqual(repr(month), "Period('2025-M01', month, 2025-09-10..2025-10-09)")


class Weeks(unittest.TestCase):
    """Weeks are whole, and belong to a year by the days they have in it."""

    def test_iso_weeks_of_four_centuries(self):
        weeks = ep.MonthCalendar().periods(WIDE, "week")
        for first, year, number in zip(weeks.first, weeks.years, weeks.numbers, strict=True):
            iso = (dt.date(1970, 1, 1) + dt.timedelta(int(first))).isocalendar()
            self.assertEqual((year, number), (iso.year, iso.week))

    def test_every_start_and_first_week_rule(self):
        days = [
            dt.date(y, m, d)
            for y in range(2019, 2029)
            for m, d in ((1, 1), (1, 4), (12, 29), (6, 9))
        ]
        for starts, first_days in itertools.product(range(7), range(1, 8)):
            calendar = ep.MonthCalendar(week_starts=WEEKDAYS[starts], first_week_days=first_days)
            for day in days:
                week = calendar.period_of(day, "week")
                expected = oracle.week_numbers(day, starts, first_days)
                self.assertEqual((week.year, week.number), expected, (day, calendar))
                self.assertEqual((week.first.weekday(), week.days), (starts, 7))


class Labels(unittest.TestCase):
    """Labels name periods both ways."""

    def test_the_label_forms_of_the_design(self):
        plain, fiscal = ep.MonthCalendar(), ep.MonthCalendar("fiscal", prefix="FY")
        forms = [plain.period_of("2025-08-20", level).label for level in plain.levels]
        self.assertEqual(forms, ["2025", "2025-H2", "2025-Q3", "2025-08", "2025-W34", "2025-08-20"])
        forms = [fiscal.period_of("2025-08-20", level).label for level in plain.levels[:5]]
        self.assertEqual(forms, ["FY2025", "FY2025-H2", "FY2025-Q3", "FY2025-M08", "FY2025-W34"])

    def test_every_label_leads_back_to_its_period(self):
        for rule in oracle.FISCAL_RULES:
            for prefix in ("", "FY"):
                calendar = ep.MonthCalendar("own", prefix=prefix, **rule)
                for level in calendar.levels:
                    for period in calendar.periods(ep.Span("2024-01-01", "2026-01-31"), level):
                        self.assertEqual(calendar.period(period.label), period)

    def test_a_label_that_cannot_be_is_refused_with_those_that_can(self):
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        for label in ("2025-Q1", "FY2025-08", "25", "Q1", "", "FY2025-X1"):
            with self.assertRaisesRegex(ep.CalendarError, "look like FY2026, FY2026-H1, FY2026-Q1"):
                fiscal.period(label)
        for label in ("FY2025-Q5", "FY2025-M13", "FY2025-H0", "FY2025-W53"):
            with self.assertRaisesRegex(ep.CalendarError, f"has no .* {label}"):
                fiscal.period(label)

    def test_a_label_is_read_as_people_type_it(self):
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        bare = ep.MonthCalendar("fiscal", year_starts="07-01", year_named="start")
        for calendar, label, typed in (
            (fiscal, "FY2026", "FY26|fy 2026|2025/26|2025/2026|FY2025/26|fy25/26"),
            (fiscal, "FY2025-Q3", "Q3 FY2025|q3 fy25|FY25 Q3|fy2025q3|Q3 2024/25|Q3, FY2025"),
            (fiscal, "FY2026-M04", "jul 2025|Jul. 2025|2025 July|JUL-2025|7/2025|2025-07|P04 FY26"),
            (fiscal, "FY2001", "FY01|FY00/01|fy2000/2001"),
            (bare, "2025", "2025/26|FY25|FY2025"),
            (bare, "2025-Q1", "Q1 2025|FY25 Q1|q1 2025/26"),
            (ep.MonthCalendar(), "2025-07", "jul 2025|Jul, 2025|7/2025|07/2025|2025/07|M7 2025"),
            (ep.MonthCalendar(), "2025-W07", "W7 2025|2025w7"),
        ):
            for text in typed.split("|"):
                self.assertEqual(calendar.period(text).label, label, text)

    def test_what_could_be_two_periods_is_refused_with_the_forms(self):
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        middle = ep.MonthCalendar("tax", year_starts="04-06", prefix="FY")
        for calendar, texts in (
            (fiscal, "2025|25|Q3 2025|2025/27|2006/07|P13 FY26|13/2025|jul 0000|jul 25|FY26/Q1"),
            (ep.MonthCalendar(), "FY26|2025/26|Q5 2025|25|1/25|2006/07"),
            (middle, "jul 2025|7/2025"),  # its months begin on the 6th
            (ep.WeekCalendar("cafe"), "jul 2025|Q3 25"),
        ):
            for text in texts.split("|"):
                with self.assertRaisesRegex(ep.CalendarError, "also accepted are Q3 ", msg=text):
                    calendar.period(text)


class Stepping(unittest.TestCase):
    """Whole periods step by place."""

    def test_within_and_over_levels(self):
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        self.assertEqual(fiscal.period("FY2025-Q3").shift(-4).label, "FY2024-Q3")
        self.assertEqual(fiscal.period("FY2025-M02").shift(-1, "quarter").label, "FY2024-M11")
        self.assertEqual(fiscal.period("FY2025-W07").shift(1, "year").label, "FY2026-W07")

    def test_a_period_holds_its_days_and_its_parts(self):
        quarter = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY").period("FY2025-Q4")
        self.assertEqual(list(quarter), oracle.days(quarter.first, quarter.last))
        self.assertEqual(
            list(quarter.parts("month").labels), ["FY2025-M10", "FY2025-M11", "FY2025-M12"]
        )

    def test_week_53_has_no_counterpart_before_a_year_of_52(self):
        self.assertIsNone(ep.MonthCalendar().period("2020-W53").shift(-1, "year"))
        self.assertEqual(ep.MonthCalendar().period("2020-W52").shift(-1, "year").label, "2019-W52")

    def test_a_step_that_does_not_hold_the_level_is_refused(self):
        with self.assertRaisesRegex(ep.CalendarError, "step by year, week"):
            ep.MonthCalendar().period("2025-W07").shift(1, "month")

    def test_periods_compare_only_among_themselves(self):
        calendar = ep.MonthCalendar()
        self.assertLess(calendar.period("2025-01"), calendar.period("2025-02"))
        self.assertGreaterEqual(calendar.period("2025-02"), calendar.period("2025-02"))
        with self.assertRaisesRegex(ep.CalendarError, "do not compare"):
            calendar.period("2025-01") < calendar.period("2025-Q1")  # noqa: B015


class Refusals(unittest.TestCase):
    """A calendar that cannot be is refused with the reason."""

    def test_bad_arguments(self):
        bad = (
            ({"year_starts": "01-31"}, "day 1 to 28"),
            ({"year_starts": "04-29"}, "day 1 to 28"),
            ({"year_starts": "13-01"}, "not a month-day"),
            ({"year_starts": "4-1"}, "not a month-day"),
            ({"year_named": "ends"}, "did you mean 'end'"),
            ({"week_starts": "Monday"}, "did you mean 'monday'"),
            ({"first_week_days": 0}, "must be 1 to 7"),
            ({"first_week_days": 8}, "must be 1 to 7"),
            ({"name": "my calendar"}, "column names"),
        )
        for arguments, message in bad:
            with self.assertRaisesRegex(ep.CalendarError, message):
                ep.MonthCalendar(**arguments)

    def test_an_unknown_level_is_met_with_a_close_spelling(self):
        with self.assertRaisesRegex(ep.CalendarError, "did you mean 'quarter'"):
            ep.MonthCalendar().period_of("2025-01-01", "quater")

    def test_equal_rules_are_equal_calendars(self):
        self.assertEqual(ep.MonthCalendar(year_named="start"), ep.MonthCalendar())
        self.assertNotEqual(ep.MonthCalendar(year_starts="02-01"), ep.MonthCalendar())
        self.assertEqual(
            eval(repr(ep.MonthCalendar("a", prefix="P")), vars(ep)),
            ep.MonthCalendar("a", prefix="P"),
        )
