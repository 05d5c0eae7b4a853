"""Day ordinals, spans and moving in time."""

import datetime as dt
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

import eptaro as ep
from eptaro.core.calendars.days import add_months, as_date, civil_date, ordinal, ordinals, weekday
from tests import oracle

EPOCH = dt.date(1970, 1, 1)


class Ordinals(unittest.TestCase):
    """Day ordinals agree with `datetime` both ways."""

    @given(st.dates())
    def test_civil_parts_and_weekday_equal_datetime(self, day):
        number = ordinal(day)
        self.assertEqual(number, (day - EPOCH).days)
        self.assertEqual(as_date(number), day)
        parts = [int(part[0]) for part in civil_date(np.array([number]))]
        self.assertEqual(parts, [day.year, day.month, day.day])
        self.assertEqual(weekday(np.array([number]))[0], day.weekday())

    def test_many_days_close_together_and_far_apart(self):
        for days in (range(-1_200, 900), range(19_000, 19_400), range(-700_000, 2_900_000, 997)):
            numbers = np.random.default_rng(3).choice(np.array(days, np.int32), 3_000)
            parts = zip(*(part.tolist() for part in civil_date(numbers)), strict=True)
            expected = [EPOCH + dt.timedelta(int(number)) for number in numbers]
            self.assertEqual([dt.date(*part) for part in parts], expected)

    @given(st.dates(dt.date(2, 1, 1), dt.date(9990, 1, 1)), st.integers(-11, 60))
    def test_months_are_added_with_clamping(self, day, n):
        moved, clamped = add_months(np.array([ordinal(day)]), n)
        expected = oracle.add_civil_months(day, n)
        self.assertEqual(as_date(moved[0]), expected)
        self.assertEqual(clamped[0], expected.day != day.day)

    def test_many_dates_are_read_from_every_accepted_form(self):
        texts = ["2024-02-29", "0001-01-01", "9999-12-31"]
        stamps = np.array(texts, "datetime64[s]")
        dates = [dt.date.fromisoformat(text) for text in texts]
        for form in (texts, stamps, dates, np.array(dates)):
            self.assertEqual(ordinals(form).tolist(), [(d - EPOCH).days for d in dates])

    def test_what_is_no_date_is_refused(self):
        bad = {
            "2025-02-30": "does not exist",
            "20.08.2025": "not an ISO date",
            20250820: "not a date",
            None: "not a date",
        }
        for value, message in bad.items():
            with self.assertRaisesRegex(ep.DateError, message):
                ordinal(value)
        with self.assertRaisesRegex(ep.DateError, "blank"):
            ordinals(np.array(["NaT"], "datetime64[D]"))
        with self.assertRaisesRegex(ep.DateError, "int64"):
            ordinals(np.array([20250820]))


class Spans(unittest.TestCase):
    """A span is inclusive and moves as section 4 of the design says."""

    MOVES = (
        ("2024-02-01..2024-02-29", 1, "month", "2024-03-01..2024-03-31"),
        ("2025-03-01..2025-03-31", -1, "month", "2025-02-01..2025-02-28"),
        ("2025-01-01..2025-02-28", -1, "year", "2024-01-01..2024-02-29"),
        ("2025-02-10..2025-02-28", -1, "year", "2024-02-10..2024-02-28"),
        ("2024-02-29..2024-02-29", -1, "year", "2023-02-28..2023-02-28"),
        ("2026-05-31..2026-05-31", -1, "quarter", "2026-02-28..2026-02-28"),
        ("2025-03-01..2025-03-31", -1, "week", "2025-02-22..2025-03-24"),
        ("2025-02-01..2025-02-28", 2, "day", "2025-02-03..2025-03-02"),
    )

    def test_worked_examples(self):
        for span, n, level, expected in self.MOVES:
            moved = ep.Span.parse(span).shift(n, level, ep.MonthCalendar())
            self.assertEqual(str(moved), expected, (span, n, level))

    def test_whole_months_are_the_calendars_own(self):
        freight = ep.MonthCalendar("freight", year_starts="09-10", year_named="start")
        moved = ep.Span("2024-02-10", "2024-03-09").shift(1, "month", freight)
        self.assertEqual(str(moved), "2024-03-10..2024-04-09")

    @given(st.dates(dt.date(1900, 1, 1), dt.date(2200, 1, 1)), st.integers(1, 30),
           st.integers(-30, 30))  # fmt: skip
    def test_whole_months_come_back_unchanged(self, day, length, n):
        first = day.replace(day=1)
        last = oracle.add_civil_months(first, length) - oracle.DAY
        span, calendar = ep.Span(first, last), ep.MonthCalendar()
        there = span.shift(n, "month", calendar)
        self.assertEqual(there.shift(-n, "month", calendar), span)

    def test_a_span_knows_its_days_and_its_members(self):
        span = ep.Span("2024-02-01", "2024-02-29")
        self.assertEqual((span.days, span.last), (29, dt.date(2024, 2, 29)))
        self.assertIn("2024-02-29", span)
        self.assertNotIn("2024-03-01", span)
        self.assertEqual(eval(repr(span), {"Span": ep.Span}), span)

    def test_a_reversed_span_is_refused(self):
        with self.assertRaisesRegex(ep.DateError, r"reversed.*2024-01-01\.\.2024-02-01"):
            ep.Span("2024-02-01", "2024-01-01")

    def test_dates_are_refused_where_ordinals_are_meant(self):
        with self.assertRaisesRegex(ep.DateError, r"Span\(first, last\)"):
            ep.Span.of("2024-02-01", "2024-03-01")

    def test_a_calendar_moves_one_date_or_many(self):
        calendar = ep.MonthCalendar()
        self.assertEqual(calendar.shift("2024-01-31", 1, "month"), dt.date(2024, 2, 29))
        moved = calendar.shift(["2024-01-31", "2023-12-31"], 2, "month")
        self.assertEqual(moved.astype(str).tolist(), ["2024-03-31", "2024-02-29"])
        self.assertEqual(calendar.shift("2024-02-28", 1, "week"), dt.date(2024, 3, 6))
        with self.assertRaisesRegex(ep.DateError, "beyond the years"):
            calendar.shift(["9999-12-31"], 1, "day")
