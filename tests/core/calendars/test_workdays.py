"""Workdays are counted as a plain loop over days would count them."""

import datetime as dt
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import eptaro as ep
from eptaro.core.calendars.days import ordinal
from eptaro.core.calendars.levels import WEEKDAYS
from tests.oracle import DAY, days

START, END = dt.date(2023, 11, 1), dt.date(2024, 4, 30)
weekends = st.sets(st.sampled_from(WEEKDAYS), max_size=6).map(sorted)
offs = st.sets(st.dates(START, END), max_size=25)
spans = st.tuples(st.dates(START, END), st.dates(START, END)).map(sorted)


class Count(unittest.TestCase):
    """Counts, searches and moves agree with the loop."""

    @settings(max_examples=60)
    @given(weekends, offs, spans)
    def test_equals_a_loop(self, weekend, holidays, ends):
        work = ep.Workdays(weekend, holidays=ep.HolidaySet(ep.Holiday(d, "x") for d in holidays))
        span = ep.Span(*ends)

        def opened(day):
            return WEEKDAYS[day.weekday()] not in weekend and day not in holidays

        every = days(*ends)
        true = [opened(day) for day in every]
        flags = work.is_workday(np.array([ordinal(day) for day in every]))
        self.assertEqual(flags.tolist(), true)
        self.assertEqual(work.count(span), sum(true))
        after = ends[0] + DAY
        while not opened(after):
            after += DAY
        before = ends[0] - DAY
        while not opened(before):
            before -= DAY
        self.assertEqual((work.next(ends[0]), work.previous(ends[0])), (after, before))
        self.assertEqual((work.shift(ends[0], 1), work.shift(ends[0], -1)), (after, before))
        self.assertEqual(work.elapsed(span, ends[0]) + work.remaining(span, ends[0]), sum(true))
        if any(true):
            worked = [day for day, is_open in zip(every, true, strict=True) if is_open]
            self.assertEqual([work.nth(span, 1), work.nth(span, -1)], [worked[0], worked[-1]])
        numbers = np.arange(-40, 40)
        np.testing.assert_array_equal(work.number(work.day_at(numbers)), numbers)

    @settings(max_examples=60)
    @given(weekends, offs, st.integers(-40, 40))
    def test_equals_the_business_days_of_numpy(self, weekend, holidays, n):
        work = ep.Workdays(weekend, holidays=ep.HolidaySet(ep.Holiday(d, "x") for d in holidays))
        mask = [name not in weekend for name in WEEKDAYS]
        rule = np.busdaycalendar(mask, np.array(sorted(holidays), "datetime64[D]"))
        every = np.arange(START, END, dtype="datetime64[D]")
        ordinals = every.astype(np.int64)
        flags = np.is_busday(every, busdaycal=rule)
        np.testing.assert_array_equal(work.is_workday(ordinals), flags)
        counts = np.busday_count(every[0], every + np.timedelta64(1, "D"), busdaycal=rule)
        np.testing.assert_array_equal(work.between(ordinals[:1], ordinals), counts)
        open_days = every[flags]  # from the others NumPy rolls to a workday first
        moved = np.busday_offset(open_days, n, busdaycal=rule)
        np.testing.assert_array_equal(work.shift(open_days, n), moved)

    def test_a_day_with_two_holidays_is_one_day_off(self):
        both = [
            ep.Holiday(dt.date(2025, 5, 1), "May Day"),
            ep.Holiday(dt.date(2025, 5, 1), "Landfall"),
        ]
        may = ep.Span("2025-05-01", "2025-05-31")
        self.assertEqual(ep.Workdays(holidays=ep.HolidaySet(both)).count(may), 21)
        self.assertEqual(ep.Workdays(holidays=ep.HolidaySet(both[:1])).count(may), 21)

    def test_kinds_that_close_and_kinds_that_do_not(self):
        held = ep.HolidaySet([ep.Holiday(dt.date(2025, 8, 20), "Fair", "company")])
        self.assertTrue(ep.Workdays(holidays=held).is_workday(np.array([20319]))[0])
        self.assertFalse(ep.Workdays(holidays=held).is_workday(np.array([20320]))[0])
        self.assertTrue(ep.Workdays(holidays=held, closed=[]).is_workday(np.array([20320]))[0])
        with self.assertRaisesRegex(ep.CalendarError, "did you mean 'company'"):
            ep.Workdays(holidays=held, closed=["compny"])

    def test_what_cannot_be_is_refused(self):
        with self.assertRaisesRegex(ep.CalendarError, "all seven days"):
            ep.Workdays(WEEKDAYS)
        with self.assertRaisesRegex(ep.CalendarError, "did you mean 'sunday'"):
            ep.Workdays(["Sundy"])
        with self.assertRaisesRegex(ep.QuestionError, "has 21 workdays; there is no number 22"):
            ep.Workdays().nth(ep.MonthCalendar().period("2025-08"), 22)
