"""What every calendar keeps, whatever its rule: a new one is added to `CALENDARS` and passes."""

import datetime as dt
import pickle
import re
import unittest

import numpy as np

import eptaro as ep
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import FIRST_DAY, LAST_DAY
from eptaro.core.calendars.kinds import KINDS, from_settings
from eptaro.core.calendars.levels import LEVELS
from tests.conforming import concrete_kinds

LISTED = [
    {"year": year, "half": (month + 5) // 6, "quarter": (month + 2) // 3, "month": month,
     "first": f"{year}-{month:02d}-01",
     "last": dt.date(year + month // 12, month % 12 + 1, 1) - dt.timedelta(1)}
    for year in range(2019, 2031) for month in range(1, 13)
]  # fmt: skip
CALENDARS = [
    ep.MonthCalendar(),
    ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY"),
    ep.MonthCalendar("odd", year_starts="09-10", year_named="start", week_starts="sunday", first_week_days=1),
    ep.WeekCalendar("cafe"),
    ep.WeekCalendar("thirteen", pattern="13x4", year_ends="12-31", week_starts="monday", ends="last"),
    ep.ListedCalendar("listed", LISTED),
]  # fmt: skip
FIRST, LAST = ep.Span("2021-01-03", "2027-03-09").lo, ep.Span("2021-01-03", "2027-03-09").hi
DAYS = np.arange(FIRST, LAST + 1)


class EveryCalendar(unittest.TestCase):
    """Days, periods, labels, numbers and moves agree with each other."""

    def each(self):
        for calendar in CALENDARS:
            for level in calendar.levels:
                with self.subTest(calendar=calendar.name, level=level):
                    yield calendar, level

    def test_every_kind_that_there_is_is_held_here(self):
        self.assertEqual(concrete_kinds(Calendar), {type(calendar) for calendar in CALENDARS})
        self.assertEqual(set(KINDS.values()), {type(calendar) for calendar in CALENDARS})

    def test_levels_are_offered_wide_before_narrow_and_end_in_days(self):
        for calendar in CALENDARS:
            places = [LEVELS.index(level) for level in calendar.levels]
            self.assertEqual(places, sorted(places))
            self.assertEqual(calendar.levels[-1], "day")

    def test_each_day_lies_in_the_period_of_its_index_and_periods_join(self):
        for calendar, level in self.each():
            index = calendar.index_of(DAYS, level)
            first, last = calendar.first_days(index, level), calendar.last_days(index, level)
            self.assertTrue(((first <= DAYS) & (last >= DAYS)).all())
            self.assertTrue((np.diff(index) >= 0).all())
            self.assertTrue((calendar.first_days(np.unique(index)[1:], level)
                             == calendar.last_days(np.unique(index)[:-1], level) + 1).all())  # fmt: skip

    def test_a_number_in_its_year_leads_back_to_the_period(self):
        for calendar, level in self.each():
            index = np.unique(calendar.index_of(DAYS, level))
            years, numbers = calendar.numbers(index, level)
            back, exists = calendar.index_at(years, numbers, level)
            self.assertTrue(exists.all())
            np.testing.assert_array_equal(back, index)
            self.assertFalse(calendar.index_at(years[:1], np.array([999]), level)[1].any())

    def test_labels_sort_in_time_and_lead_back_to_their_period(self):
        for calendar, level in self.each():
            periods = calendar.periods(ep.Span.of(FIRST, LAST), level)
            self.assertTrue((periods.labels[1:] > periods.labels[:-1]).all())
            for period in (periods[0], periods[-1], periods[len(periods) // 2]):
                self.assertEqual(calendar.period(period.label), period)

    def test_grids_check(self):
        for calendar in CALENDARS:
            calendar.grid(ep.Span.of(FIRST, LAST)).check()

    def test_moving_by_nothing_changes_nothing_and_there_is_here_again(self):
        for calendar, level in self.each():
            moved, clamped = calendar.move_days(DAYS, 0, level)
            np.testing.assert_array_equal(moved, DAYS)
            self.assertFalse(clamped.any())
            there, clamped = calendar.move_days(DAYS[400:900], 1, level)
            back, _ = calendar.move_days(there, -1, level)
            np.testing.assert_array_equal(back[~clamped], DAYS[400:900][~clamped])
            self.assertTrue((np.diff(there) >= 0).all())

    def test_whole_periods_step_within_their_level_and_by_years(self):
        for calendar, level in self.each():
            index = np.unique(calendar.index_of(DAYS[800:1500], level))
            stepped, exists = calendar.counterparts(index, level, 2, level)
            np.testing.assert_array_equal(stepped[exists], index[exists] + 2)
            if level == "day":
                continue
            before, exists = calendar.counterparts(index, level, -1, "year")
            years, numbers = calendar.numbers(index, level)
            np.testing.assert_array_equal(
                calendar.numbers(before, level)[0][exists], years[exists] - 1
            )
            if level != "year":
                np.testing.assert_array_equal(
                    calendar.numbers(before, level)[1][exists], numbers[exists]
                )

    def test_nothing_lies_beyond_the_first_and_last_days_of_all(self):
        for calendar, level in self.each():
            limits = calendar.limits if isinstance(calendar, ep.ListedCalendar) else None
            first, last = (FIRST_DAY, LAST_DAY) if limits is None else (limits.lo, limits.hi)
            index = calendar.index_of(np.array([first + 800, last - 800]), level)
            days = calendar.last_days(index, level) - calendar.first_days(index, level) + 1
            far = 1100 // int(days.min()) + 2
            for n in (far, -far):
                _, exists = calendar.counterparts(index, level, n, level)
                self.assertEqual(exists.tolist(), [n > 0, n < 0], (calendar.name, level))
            edges = np.array([first, last])
            whole = calendar.index_of(edges, level)
            if (calendar.first_days(whole, level)[0], calendar.last_days(whole, level)[1]) == (
                first,
                last,
            ):
                self.assertEqual(
                    calendar.counterparts(whole, level, 0, level)[1].tolist(), [True, True]
                )

    def test_how_many_periods_make_a_step_is_what_steps_hold(self):
        for calendar, level in self.each():
            for step in calendar.levels:
                units = calendar.units(level, step)
                if units is None or "day" in (level, step):
                    continue
                wide = np.unique(calendar.index_of(DAYS[500:1500], step))[1:-1]
                inner = calendar.index_of(calendar.last_days(wide, step), level)
                outer = calendar.index_of(calendar.first_days(wide, step), level)
                self.assertTrue((inner - outer + 1 == units).all(), (level, step))

    def test_settings_make_it_again_and_equal_ones_are_one_key(self):
        for calendar in CALENDARS:
            made = from_settings(calendar.settings())
            self.assertEqual(made, calendar)
            self.assertEqual(hash(made), hash(calendar))
            self.assertEqual(pickle.loads(pickle.dumps(calendar)), calendar)
            self.assertIn(calendar.name, calendar.describe())
            self.assertEqual(len({*CALENDARS, made}), len(CALENDARS))

    def test_what_it_does_not_offer_is_refused_by_name(self):
        for calendar in CALENDARS:
            with self.assertRaisesRegex(ep.CalendarError, "decade.*Accepted: year"):
                calendar.periods(ep.Span.of(FIRST, LAST), "decade")
            with self.assertRaisesRegex(ep.CalendarError, calendar.name):
                calendar.period("no label")

    def test_labels_as_typed_lead_to_the_same_periods(self):
        span = ep.Span.of(FIRST, LAST)
        for calendar, level in self.each():
            for period in calendar.periods(span, level) if level != "day" else ():
                year, part = re.fullmatch(r"\D*(\d+)-?(.*)", period.label).groups()
                if level == "year" or not part[0].isalpha():
                    continue
                for text in (f"{part} {calendar.prefix}{year}", f"{calendar.prefix} {year} {part}"):
                    self.assertEqual(calendar.period(text), period)
                    self.assertEqual(calendar.period(text.lower()), period)

    def test_days_are_numbered_in_their_year_and_found_again(self):
        for calendar in CALENDARS:
            years, numbers = calendar.numbers(DAYS, "day")
            opens = calendar.first_days(calendar.index_of(DAYS, "year"), "year")
            np.testing.assert_array_equal(numbers, DAYS - opens + 1)
            if isinstance(calendar, ep.ListedCalendar):
                continue  # a list has no days by number
            back, exists = calendar.index_at(years, numbers, "day")
            np.testing.assert_array_equal(back, DAYS)
            self.assertTrue(exists.all())
            self.assertFalse(calendar.index_at(years[:1], np.array([400]), "day")[1].any())
            self.assertFalse(calendar.index_at(years[:1], np.array([0]), "day")[1].any())

    def test_a_list_ends_with_its_last_day(self):
        listed = CALENDARS[-1]
        first, last = listed.limits.lo, listed.limits.hi
        ends = np.array([first - 1, first, last, last + 1])
        _, exists = listed.counterparts(ends[1:3], "day", np.array([0, 0]), "day")
        self.assertTrue(exists.all())
        for days in (ends[:1], ends[3:]):
            with self.assertRaisesRegex(ep.CalendarError, "outside the list"):
                listed.index_of(days, "month")
        self.assertEqual(listed.index_of(ends[1:3], "month").tolist(), [0, 143])
