"""Tables select, filter and hand on their rows as users of frames expect."""

import unittest

import numpy as np
import pandas as pd

import eptaro as ep


def frame():
    """Return forty days in four groups."""
    return pd.DataFrame(
        {"on": pd.date_range("2025-01-01", periods=40), "fare": range(40), "g": list("abcd") * 10}
    )


class Shaping(unittest.TestCase):
    """Rows and columns."""

    def setUp(self):
        self.table = ep.Daybook(
            frame(), date="on", by="g", measures=["revenue=sum(fare)", "trips=count()"]
        ).recap("month", by="g")

    def test_columns_and_rows(self):
        self.assertEqual(self.table.select("revenue", "g").names, ["revenue", "g"])
        self.assertEqual(len(self.table.head(3)), 3)
        self.assertEqual(list(self.table.tail(2).rows()), list(self.table.rows())[-2:])
        self.assertEqual(len(self.table.head(0)), 0)
        with self.assertRaisesRegex(ep.QuestionError, "did you mean 'revenue'"):
            self.table.select("revenu")

    def test_conditions_are_met_as_row_by_row(self):
        for where, met in (
            ("revenue > 90 and g != 'a'", lambda r: r["revenue"] > 90 and r["g"] != "a"),
            ("period = '2025-01'", lambda r: r["period"] == "2025-01"),
            ("complete", lambda r: r["complete"]),
            ("first >= date(2025, 2, 1)", lambda r: str(r["first"]) >= "2025-02-01"),
            ("not (g in ('a', 'b'))", lambda r: r["g"] not in "ab"),
        ):
            expected = [row for row in self.table.rows() if met(row)]
            self.assertEqual(list(self.table.filter(where).rows()), expected, where)
        self.assertEqual(len(self.table.filter(np.zeros(len(self.table), bool))), 0)
        with self.assertRaisesRegex(ep.QuestionError, "2 flags for 8 rows"):
            self.table.filter(np.ones(2, bool))
        with self.assertRaises(ep.ExpressionError):
            self.table.filter("revenue >")

    def test_picked_rows_are_traced_as_before(self):
        row = self.table.filter("g = 'c'").trace(0, "revenue")
        self.assertTrue(row.agrees)

    def test_what_is_shown_begins_with_the_answer(self):
        self.assertTrue(repr(self.table).startswith("Revenue from 2025-01-01 to 2025-02-09: 780."))


class Looked(unittest.TestCase):
    """Rows by a slice, and a book in a notebook."""

    def test_slices_are_rows(self):
        book = ep.Daybook(frame(), date="on", by="g", measures="revenue=sum(fare)")
        table = book.accumulate("month", by="g")
        for rows in (slice(0, 3), slice(-2, None), slice(None, None, 7), slice(5, 2)):
            self.assertEqual([*table[rows].rows()], [*table.rows()][rows])
        self.assertIsInstance(table[:1], ep.Table)
        self.assertEqual(table[:0].shape, (0, len(table.names)))

    def test_a_notebook_shows_what_a_book_holds(self):
        book = ep.Daybook(
            {"on": ["2025-01-05"], "<b>": ["x"]}, date="on", by="<b>", measures="n=count()"
        )
        page = book._repr_html_()
        for part in ("2025-01-05..2025-01-05", "n = count()", "1 by &lt;b&gt;"):
            self.assertIn(part, page)
        self.assertNotIn("<b>", page)


class Frames(unittest.TestCase):
    """Frames out merge with frames in."""

    def test_days_merge_with_those_of_pandas(self):
        made = ep.Daybook(frame(), date="on", by="g", measures="revenue=sum(fare)")
        days = made.accumulate("month", by="g")
        joined = frame().merge(days.to_pandas(), left_on=["on", "g"], right_on=["date", "g"])
        self.assertEqual(len(joined), 40)
        self.assertEqual(joined["revenue"].tolist(), list(range(40)))
        plain = pd.DataFrame(days)
        self.assertEqual(plain.columns.tolist(), days.names)
        self.assertEqual(plain["date"].dtype.kind, "M")
        self.assertEqual(
            days.to_polars()["revenue_to_date"].to_list(), days["revenue_to_date"].tolist()
        )

    def test_a_pandas_frame_annotated_is_one(self):
        found = ep.annotate(
            frame(),
            date="on",
            add=["day_name", "calendar_quarter_first"],
            calendars=ep.MonthCalendar(),
        )
        self.assertIsInstance(found, pd.DataFrame)
        self.assertEqual(found["fare"].dtype, frame()["fare"].dtype)
        self.assertEqual(found["on"].tolist(), frame()["on"].tolist())

    def test_series_and_mappings_are_taken_and_other_keywords_refused(self):
        series = frame().set_index("on")["fare"]
        self.assertEqual(
            ep.Daybook(series, measures="total=sum(fare)").recap("month")["total"].tolist(),
            [465, 315],
        )
        again = ep.Daybook(
            frame(), date="on", measures={"total": "sum(fare)", "n": "count()"}
        ).recap("year")
        self.assertEqual((again["total"].tolist(), again["n"].tolist()), ([780], [40]))
        for wrong, said in (
            (
                {"wher": "fare > 3"},
                "unknown option 'wher': did you mean 'where'. Accepted: .*by, calendar, coverage, dates",
            ),
            ({"grain": "month"}, "belongs to DateRules: dates=DateRules"),
            ({"total": "sum(fare)"}, "measures={'total': 'sum.fare.'}"),
        ):
            for way in (ep.Daybook, ep.Daybook.read):
                with self.assertRaisesRegex(ep.QuestionError, said):
                    way(frame(), date="on", **wrong)
            with self.assertRaisesRegex(ep.QuestionError, said):
                ep.Daybook.from_sql("sqlite://", "t", date="on", measures="n=count()", **wrong)
        with self.assertRaisesRegex(ep.QuestionError, "did you mean 'totals'"):
            again_book = ep.Daybook(frame(), date="on", measures="n=count()")
            again_book.recap("year", total=True)
        with self.assertRaisesRegex(ep.QuestionError, "did you mean 'by'"):
            again_book.recap("year", group_by="g")
        with self.assertRaisesRegex(ep.QuestionError, "sort by '-n' instead of 'n desc'"):
            again_book.recap("year", sort="n desc")
        days = {"on": ["2025-01-31", None], "x": [1, 2]}
        with self.assertRaisesRegex(ep.DateError, "1 of 2 rows holds .* use bad_dates='reject'"):
            ep.Daybook(days, date="on", measures="n=count()")
        night = {"at": ["2025-01-01T23:30:00+00:00"], "x": [1]}
        self.assertEqual(
            str(ep.Daybook(night, date="at", zone="Asia/Tokyo", measures="n=count()").coverage),
            "2025-01-02..2025-01-02",
        )
        found = ep.inspect(night, date="at", zone="Asia/Tokyo").rows()
        self.assertIn("2025-01-02", [row["value"] for row in found])
