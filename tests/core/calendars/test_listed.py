"""`ListedCalendar`: periods as listed, and lists that cannot be."""

import datetime as dt
import random
import unittest

import pandas as pd

import eptaro as ep

ROWS = [
    {"year": 2024, "quarter": 1, "month": 1, "first": "2024-01-01", "last": "2024-02-10"},
    {"year": 2024, "quarter": 1, "month": 2, "first": "2024-02-11", "last": "2024-03-31"},
    {"year": 2024, "quarter": 2, "month": 3, "first": "2024-04-01", "last": "2024-06-15"},
    {"year": 2025, "quarter": 1, "month": 1, "first": "2024-06-16", "last": "2024-07-01"},
    {"year": 2025, "quarter": 1, "month": 2, "first": "2024-07-02", "last": "2024-08-31"},
]


class Listed(unittest.TestCase):
    """What the list says is what holds."""

    def test_periods_labels_and_levels(self):
        calendar = ep.ListedCalendar("site", ROWS)
        self.assertEqual(calendar.levels, ("year", "quarter", "month", "day"))
        self.assertEqual(calendar.period_of("2024-02-10", "month").label, "2024-M01")
        quarter = calendar.period("2024-Q1")
        self.assertEqual((quarter.first, quarter.last), (dt.date(2024, 1, 1), dt.date(2024, 3, 31)))
        self.assertEqual(quarter.shift(1, "year").label, "2025-Q1")
        self.assertIsNone(calendar.period("2024-M03").shift(1, "year"))
        self.assertIsNone(calendar.period("2025-M02").shift(1))
        calendar.grid(calendar.limits).check()
        with self.assertRaisesRegex(ep.CalendarError, "Accepted: year, quarter, month, day"):
            calendar.period_of("2024-02-10", "half")

    def test_a_frame_serves_as_well(self):
        self.assertEqual(
            ep.ListedCalendar("site", pd.DataFrame(ROWS)), ep.ListedCalendar("site", ROWS)
        )

    def test_days_keep_their_place_and_lists_end(self):
        calendar = ep.ListedCalendar("site", ROWS)
        self.assertEqual(calendar.shift("2024-01-20", 1, "year"), dt.date(2024, 7, 5))
        with self.assertRaisesRegex(ep.CalendarError, "ends before that"):
            calendar.shift("2024-07-01", 1, "year")

    def test_days_outside_are_blank_in_a_dimension_and_an_error_for_transactions(self):
        calendar = ep.ListedCalendar("site", ROWS)
        table = ep.dimension(
            "2023-12-31", "2024-01-01", calendars=[ep.MonthCalendar(), calendar], columns="all"
        )
        before, after = table.rows()
        self.assertEqual(
            (before["site_month_label"], after["site_month_label"]), (None, "2024-M01")
        )
        self.assertEqual((before["site_year"], before["calendar_year"]), (None, 2023))
        outside = ep.dimension("2030-01-01", "2030-01-02", calendars=calendar)
        self.assertEqual(outside["site_year_label"].tolist(), [None, None])
        with self.assertRaisesRegex(ep.InputError, "goes beyond the list"):
            ep.Daybook({"on": ["2023-12-31"]}, date="on", measures="n=count()", calendar=calendar)

    def test_verbs_work_and_a_missing_counterpart_is_blank(self):
        calendar = ep.ListedCalendar("site", ROWS)
        frame = {"on": ["2024-01-01", "2024-08-31"], "x": [1, 2]}
        book = ep.Daybook(frame, date="on", measures="s=sum(x)", calendar=calendar)
        self.assertEqual(book.recap("month")["s"].tolist(), [1, 0, 0, 0, 2])
        rows = list(book.compare("month").rows())
        self.assertEqual(
            [row["prior_period"] for row in rows], [None] * 3 + ["2024-M01", "2024-M02"]
        )
        (row,) = book.compare("month", to_date=True, as_of="2024-05-01").rows()
        self.assertIsNone(row["prior_last"])


class Short(unittest.TestCase):
    """A period may be one day long."""

    def test_single_days(self):
        rows = [
            {"year": 2024, "month": n, "first": f"2024-01-0{n}", "last": f"2024-01-0{n}"}
            for n in (1, 2, 3)
        ]
        days = ep.ListedCalendar("days", rows)
        self.assertEqual(
            [p.label for p in days.periods(days.limits, "month")],
            ["2024-M01", "2024-M02", "2024-M03"],
        )


class Refused(unittest.TestCase):
    """A list that cannot be is refused, naming its rows."""

    def test_each_fault(self):
        def changed(number, **values):
            return [{**row, **(values if i == number else {})} for i, row in enumerate(ROWS, 1)]

        bad = (
            ([], "lists no periods"),
            (changed(2, first="2024-02-12"), "rows 1 and 2 .* leave a gap from 2024-02-11"),
            (
                changed(2, first="2024-02-10"),
                r"rows 1 and 2 \(2024-01-01\.\..* and 2024-02-10\.\..*\) overlap",
            ),
            (ROWS[::-1], "rows 1 and 2 .* out of order"),
            (changed(3, last="2024-03-01"), "row 3: its first day 2024-04-01 comes after"),
            (changed(2, month=4), "row 2: month 4 should be 2"),
            (changed(4, year=2023), "row 4: year 2023 comes after 2024"),
            (changed(2, first="soon"), "row 2: first: 'soon' is not an ISO date"),
            (changed(2, month="x"), "row 2: month='x' is not a number"),
            ([{"first": "2024-01-01"}], "row 1 .* has no 'year'"),
            ([{"year": 2024, "first": "2024-01-01"}], "row 1 has no 'last'"),
            (3, "neither a frame nor mappings"),
        )
        for rows, message in bad:
            with self.assertRaisesRegex(ep.CalendarError, message):
                ep.ListedCalendar("site", rows)


class WholeMonths(unittest.TestCase):
    """Spans of whole listed months stay whole under every wider shift."""

    def test_shifted_by_quarters_halves_and_years(self):
        rng, first, rows = random.Random(3), dt.date(2020, 1, 1), []
        for year in range(2020, 2026):
            for month in range(1, 13):
                last = first + dt.timedelta(rng.randint(26, 34))
                rows.append({"year": year, "half": (month + 5) // 6, "quarter": (month + 2) // 3, "month": month,
                             "first": first, "last": last})  # fmt: skip
                first = last + dt.timedelta(1)
        listed = ep.ListedCalendar("l", rows)
        for at in range(24, 48):
            for width in (1, 2, 5):
                span = ep.Span(rows[at]["first"], rows[at + width - 1]["last"])
                for level, months in (("month", 1), ("quarter", 3), ("half", 6), ("year", 12)):
                    for n in (-1, 1, -2):
                        to = at + n * months
                        want = ep.Span(rows[to]["first"], rows[to + width - 1]["last"])
                        self.assertEqual(span.shift(n, level, listed), want, (at, width, level, n))
        days = [row["first"] for row in rows]
        book = ep.Daybook(
            {"on": days, "x": range(len(days))}, date="on", measures="s=sum(x)", calendar=listed
        )
        for row in list(book.compare("month", back="1 quarter").rows())[3:-1]:
            self.assertEqual(row["s_change"], 3)

    def test_a_place_that_the_other_quarter_has_not(self):
        first, rows = dt.date(2025, 1, 1), []
        for month, quarter in enumerate((1, 1, 1, 1, 2, 2, 2, 3, 3, 3, 4, 4), 1):
            last = first + dt.timedelta(27)
            rows.append(
                {"year": 2025, "quarter": quarter, "month": month, "first": first, "last": last}
            )
            first = last + dt.timedelta(1)
        listed = ep.ListedCalendar("l", rows)
        self.assertIsNone(listed.period("2025-M04").shift(1, "quarter"))
        self.assertEqual(str(listed.period("2025-M03").shift(1, "quarter")), "2025-M07")
        self.assertIsNone(listed.period("2025-M10").shift(1, "quarter"))
        self.assertEqual(str(listed.period("2025-M05").shift(-1, "quarter")), "2025-M01")

    def test_a_list_that_begins_inside_a_quarter_keeps_no_place_there(self):
        rows = [{"year": 2025, "quarter": (m + 2) // 3, "month": m, "first": dt.date(2025, m, 1),
                 "last": dt.date(2025, m, 28) if m == 2 else dt.date(2025, m, 30) if m in (4, 6) else dt.date(2025, m, 31)}
                for m in range(2, 8)]  # fmt: skip
        listed = ep.ListedCalendar("l", rows)
        self.assertIsNone(listed.period("2025-M02").shift(1, "quarter"))
        self.assertEqual(str(listed.period("2025-M04").shift(1, "quarter")), "2025-M07")
