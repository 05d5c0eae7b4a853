"""Formats are declared once and kept by every verb, by attribute, over entries and after a merge."""

import random
import re
import unittest
from itertools import pairwise

import numpy as np

import eptaro as ep
from eptaro.core.results.format import format_column, parse_format

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

    def test_floats_have_the_decimals_that_tell_them_apart(self):
        for values, texts in (
            ([0.0813, 0.0847, 0.1847], ["0.0813", "0.0847", "0.1847"]), ([1.0813, 1.0847, 12.5], ["1.081", "1.085", "12.500"]),
            ([813.0, 847.0], ["813.00", "847.00"]), ([0.5, 0.25], ["0.50", "0.25"]), ([0.0], ["0.00"]), ([np.nan, 0.125], ["", "0.125"]),
            ([1e-9, 2e-9], ["0.000000", "0.000000"]), ([2 / 3, 1234.5], ["0.67", "1,234.50"]), ([-0.0813, 0.0847], ["-0.0813", "0.0847"]),
        ):  # fmt: skip
            with self.subTest(values=values):
                self.assertEqual(format_column(ep.Column.of("x", "float", values)), texts)
        rng = random.Random(3)
        for size in (1e-4, 1e-2, 1, 100):
            rates = sorted({round(size * rng.uniform(1, 9), 8) for _ in range(9)})
            far = [b for a, b in pairwise(rates) if b - a > 0.005 * rates[4]]
            texts = format_column(ep.Column.of("x", "float", rates))
            self.assertGreaterEqual(len({*texts}), len(far) if size >= 1e-3 else 1, (size, rates))

    def test_floats_near_their_end(self):
        for values in ([1.5e308, 1.6e308], [1e-300, 1.7e308], [5e-324] * 2, [1.7e308] * 3 + [0.5]):
            frame = {"on": ["2025-01-01"] * len(values), "g": [*range(len(values))], "x": values}
            book = ep.Daybook(frame, date="on", by="g", measures="m=max(x)")
            text = str(book.recap("year", by="g"))
            self.assertEqual(
                len(re.findall(r"^[0-9] +2025 ", text, re.MULTILINE)), len(values), text
            )

    def test_money_keeps_its_cents_and_a_percentage_its_digits(self):
        for form, values, texts in (
            (ep.Format("€"), [1.0813], ["€1.08"]), (ep.Format(percent=True), [0.0813, 0.0847], ["8.13%", "8.47%"]),
            (ep.Format(percent=True, places=0), [0.0813], ["8%"]), (ep.Format(places=3), [0.08134], ["0.081"]),
        ):  # fmt: skip
            self.assertEqual(format_column(ep.Column.of("x", "float", values, format=form)), texts)

    def test_formats_in_one_word(self):
        for text, want in (("a=4", ep.Format(places=4)), ("a = percent, 1", ep.Format(places=1, percent=True)),
                           ("a=€,0", ep.Format("€", 0)), ("a=percent", ep.Format(percent=True)),
                           ("a=€,0,lower", ep.Format("€", 0, better="lower"))):  # fmt: skip
            self.assertEqual(parse_format(text), ("a", want))
        with self.assertRaisesRegex(ep.MeasureError, "unknown value for better 'least'"):
            ep.Format(better="least")
        late = ep.Column.of("late", "integer", [1], format=ep.Format(better="lower"))
        self.assertEqual([late.is_worse(change) for change in (-1, 0, 1)], [False, False, True])
        plain = late.shown_as(None)
        self.assertEqual([plain.is_worse(change) for change in (-1, 0, 1)], [True, False, False])
        for text in ("a", "a=", "=4", "a=much more", "a=4.5", "a=123"):
            with (
                self.subTest(text=text),
                self.assertRaisesRegex(ep.MeasureError, "does not say how"),
            ):
                parse_format(text)

    def test_decimals_out_of_range_and_unknown_measures_are_refused(self):
        for places in (-1, 13):
            with self.assertRaisesRegex(ep.MeasureError, f"places={places} must be 0 to 12"):
                ep.Format(places=places)
        with self.assertRaisesRegex(
            ep.MeasureError, "formats: unknown measure 't'.*'s'|formats.*Accepted: s"
        ):
            ep.Daybook(ROWS, date="on", measures="s=sum(x)", formats={"t": EURO})
