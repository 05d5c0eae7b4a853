"""Formats are declared once and kept by every verb, by attribute, over entries and after a merge."""

import unittest

import eptaro as ep

ROWS = {"on": ["2024-12-30", "2025-01-02", "2025-01-03"], "g": ["a", "b", "a"], "x": [7, 5, 12]}
EURO = ep.Format("€", 1)


def book(rows=ROWS):
    """Return a book whose sum has a format."""
    return ep.Daybook(
        rows, date="on", by="g", measures=["s=sum(x)", "n=count()"], formats={"s": EURO}
    )


class Kept(unittest.TestCase):
    """Every column of values has the format of its measure."""

    def test_in_every_verb(self):
        one = book()
        answers = {
            "s": (one.recap("month"), one.recap("month", by="g", totals=True), one.recap("weekday"),
                  one.recap("day", every="entry"), one.rhythm("weekday"), one.accumulate("year"),
                  one.compare("month"), one.compare("day", mean_of=2)),
            "s_to_date": (one.accumulate("year"), one.accumulate("year", every="month"), one.card(),
                          one.accumulate("year", every="entry")),
            "s_trailing": (one.trail("2 days"), one.trail("2 entries"), one.trail("2 active days"),
                           one.trail("2 days", weights=[1, 2]), one.trail("2 days", every="entry")),
            "s_prior": (one.compare("month"), one.compare("day", mean_of=2)),
            "s_change": (one.compare("month"),), "s_per_day": (one.rhythm("weekday"),),
            "s_change_per_day": (one.compare("month", details=True),),
            "s_rest": (one.compare("month", effects="days"),), "s_prior_1_year": (one.compare("month", back=["1 year"]),),
        }  # fmt: skip
        for name, tables in answers.items():
            for place, table in enumerate(tables):
                self.assertEqual(table.column(name).format, EURO, (name, place))
                self.assertIsNone(table.column("days").format if "days" in table else None)
        wide = one.recap("month", by="g", wide=True)
        self.assertEqual([wide.column(f"{g} s").format for g in ("a", "b", "total")], [EURO] * 3)
        self.assertIsNone(wide.column("a n").format)

    def test_after_a_merge_on_another_calendar_and_in_own_ones(self):
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01")
        for other in (
            book().merge(book({"on": ["2025-02-01"], "g": ["c"], "x": [1]})),
            book().with_calendar(fiscal),
        ):
            self.assertEqual(other.recap("year").column("s").format, EURO)
        own = book().with_calendar(ep.OwnCalendars("g", {"a": fiscal}, ep.MonthCalendar()))
        self.assertEqual(own.recap("year", by="g").column("s").format, EURO)

    def test_a_ratio_and_a_share_are_shown_their_own_way(self):
        table = book().compare("month", details=True)
        for name in ("s_change_ratio", "s_contribution"):
            self.assertIsNone(table.column(name).format)


class Shown(unittest.TestCase):
    """Signs, decimals and percentages."""

    def test_as_people_read_them(self):
        for form, value, text in (
            (ep.Format(), 1234.5, "1,234.50"), (ep.Format("€"), -5, "-€5.00"), (ep.Format(places=0), 2.5, "3"),
            (ep.Format(places=12), 0.5, "0.500000000000"), (ep.Format(percent=True), 0.125, "12.50%"),
            (ep.Format("x", 0, percent=True), -0.5, "-50%"),
        ):  # fmt: skip
            self.assertEqual(form.shown(value), text)

    def test_decimals_out_of_range_and_unknown_measures_are_refused(self):
        for places in (-1, 13):
            with self.assertRaisesRegex(ep.MeasureError, f"places={places} must be 0 to 12"):
                ep.Format(places=places)
        with self.assertRaisesRegex(
            ep.MeasureError, "formats: unknown measure 't'.*'s'|formats.*Accepted: s"
        ):
            ep.Daybook(ROWS, date="on", measures="s=sum(x)", formats={"t": EURO})
