"""Headlines say what the verbs answer, in figures that are worked out here once more."""

import datetime as dt
import unittest
from fractions import Fraction

import eptaro as ep
from eptaro.presentation.blanks import why_blank

START = dt.date(2024, 1, 1)
ROWS = [
    (START + dt.timedelta(day), route, fare)
    for day in range(500)
    for route, fare in (("ab", 100 + day % 7), ("cd", 40 if day < 400 else 10))
]
CALENDAR = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")


def book(measures=("revenue=sum(fare)", "trips=count()"), by="route"):
    """Return the rows folded."""
    on, route, fare = zip(*ROWS, strict=True)
    table = {"on": on, "route": route, "fare": fare}
    return ep.Daybook(table, date="on", by=by, measures=list(measures), calendar=CALENDAR)


def total(first, last, route=None):
    """Return the sum of fares of some days."""
    span = dt.date.fromisoformat(first), dt.date.fromisoformat(last)
    return sum(f for d, r, f in ROWS if span[0] <= d <= span[1] and route in (None, r))


class Verbs(unittest.TestCase):
    """The figures of each verb's sentence."""

    def test_a_comparison_names_values_change_days_and_the_largest_group(self):
        said = book().compare("quarter", to_date=True, by="route").headline
        last = START + dt.timedelta(499)  # 2025-05-14
        now, before = total("2025-04-01", str(last)), total("2024-04-01", "2024-05-14")
        ratio = Fraction(now - before, before)
        self.assertTrue(said.startswith(
            f"Revenue in FY2026-Q1 to date: {now:,}, down {before - now:,} ({float(ratio):+.1%}) on the same "
            f"44 days of FY2025-Q1."), said)  # fmt: skip
        cd = total("2025-04-01", str(last), "cd") - total("2024-04-01", "2024-05-14", "cd")
        self.assertIn(f"The route that changed most: cd, {cd:,}.", said)
        self.assertIn("Trips: 88, the same.", said)
        weekday = book().compare("quarter", to_date=True, match="weekday").headline
        self.assertIn("on the same weekdays, 2024-04-02 to 2024-05-15", weekday)

    def test_whole_periods_are_compared_and_the_unfinished_one_is_told(self):
        said = book().compare("quarter").headline
        now, before = total("2025-01-01", "2025-03-31"), total("2024-01-01", "2024-03-31")
        self.assertIn(f"Revenue in FY2025-Q4: {now:,}, ", said)
        self.assertIn(f"{abs(now - before):,}", said)
        self.assertIn(
            "FY2026-Q1 is not complete and is not compared: the data does not cover 2025-05-15 to 2025-06-30; if nothing happened then, use coverage='2024-01-01..2025-06-30'.",
            said,
        )
        self.assertIn(
            "Nothing to compare: the data does not cover 2023-04-01 to 2023-12-31",
            book().compare("year", only="FY2024").headline,
        )
        # Of the months covered whole, as no end of the last one would make it comparable.
        self.assertIn(
            "2025-04-01 to 2025-04-30: "
            f"{total('2025-04-01', '2025-04-30'):,}. Nothing to compare: of the prior period, the "
            "data does not cover 2022-04-01 to 2022-04-30",
            book().compare("month", mean_of=3, only="FY2026").headline,
        )

    def test_groups_that_are_not_known_on_both_sides_are_not_added_up_to_a_change(self):
        table = {"on": ["2024-01-01", "2024-12-31", "2025-01-01", "2025-03-01", "2025-12-31"],
                 "g": ["a", "a", "a", "b", "b"], "x": [5, 5, 7, 90, 1]}  # fmt: skip
        made = ep.Daybook(table, date="on", by="g", measures="s=sum(x)", coverage="groups")
        said = made.compare("year", by="g").headline
        self.assertIn(
            "S in 2025: 98. Nothing to compare: 1 group is not covered on both sides.", said
        )
        self.assertNotIn(" up ", said)

    def test_a_small_change_is_never_minus_nothing(self):
        tiny = ep.Daybook({"on": ["2024-01-01", "2025-01-01"], "x": [100_000, 99_999]}, date="on", measures="s=sum(x)",
                          coverage="2024-01-01..2025-12-31")  # fmt: skip
        table = tiny.compare("year")
        self.assertIn("down 1 (-0.001%) on 2024", table.headline)
        self.assertIn("-0.001%", repr(table))
        self.assertNotIn("-0.0%", repr(table))

    def test_recaps_running_totals_and_windows(self):
        made, last = book(), "2025-05-14"
        said = made.recap("quarter", by="route").headline
        self.assertTrue(
            said.startswith(f"Revenue from 2024-01-01 to {last}: {total('2024-01-01', last):,}.")
        )
        self.assertIn(f"Largest route of 2: ab, {total('2024-01-01', last, 'ab'):,}", said)
        self.assertIn(
            "The last, FY2026-Q1, is not complete: the data does not cover 2025-05-15 to 2025-06-30",
            said,
        )
        topped = made.recap("quarter", by="route", top=1).headline
        self.assertIn(f"Largest route: ab, {total('2024-01-01', last, 'ab'):,}", topped)
        self.assertEqual(said, made.recap("quarter", by="route", sort="-revenue").headline)
        so_far = made.accumulate("year", by="route").headline
        self.assertIn(
            f"Revenue in FY2026 to date: {total('2025-04-01', last):,} (2025-04-01 to {last}, 44 days).",
            so_far,
        )
        window = made.trail("3 months", every="month").headline
        self.assertIn(
            f"Revenue over the 3 months to {last}: {total('2025-02-15', last):,} (2025-02-15",
            window,
        )
        self.assertRegex(
            made.card().headline, r"as of 2025-05-14: week [\d,]+, month [\d,]+, quarter"
        )
        several = made.card(calendars=[ep.MonthCalendar(), made.calendar]).headline
        self.assertIn(f" in {made.calendar.name}: week ", several)
        self.assertTrue(several.endswith(f", year {total('2025-04-01', last):,}."), several)
        self.assertIn("highest for", made.rhythm("weekday").headline)
        self.assertIn("median", made.spread("fare").headline)
        self.assertIn("Most values of fare", made.histogram("fare").headline)

    def test_equal_periods_are_not_called_the_highest(self):
        days = [f"{year}-05-01" for year in (2020, 2021, 2022, 2024)]
        seen = ep.Daybook({"on": days}, date="on", measures="n=count()").recap("year")
        self.assertIn("The highest is 1, in 4 of 5 years, first in 2020.", seen.headline)
        same = ep.Daybook({"on": days[:3]}, date="on", measures="n=count()").recap("year")
        self.assertIn("Each of 3 years has the same: 1.", same.headline)

    def test_values_that_groups_have_each_but_not_together(self):
        days = ["2024-12-31", "2024-12-31", "2025-12-31", "2025-12-31"]
        rows = {"on": days, "route": ["a", "b"] * 2, "fare": [7, 5, 8, 9]}
        options = {
            "by": "route",
            "measures": "close=last(fare)",
            "coverage": "2024-01-01..2025-12-31",
        }
        book = ep.Daybook(rows, date="on", **options)
        apart = book.recap("year", by="route", only="2025").headline
        self.assertEqual(apart, "Close in 2025: a value for each route. Largest route of 2: b, 9.")
        self.assertEqual(
            book.compare("year", by="route", only="2025").headline,
            "Close in 2025: a value for each route. The route that changed most: b, +4.",
        )
        running = "Close in 2025: a value for each route (2025-01-01 to 2025-12-31, 365 days)."
        self.assertIn(running, book.accumulate("year", by="route").headline)
        self.assertIn("a value for each route", book.trail("30 days", by="route").headline)
        alone = book.recap("year", by="route", only=["2025", "route=b"])
        self.assertEqual(alone.headline, "Close in 2025: 9.")

    def test_of_some_rows_nothing_is_told_that_is_not_there(self):
        table = book().recap("quarter", by="route")
        self.assertEqual(table.head(3).headline, "")
        self.assertEqual(table.filter("route = 'ab'").headline, "")
        self.assertTrue(table.sorted("-revenue").headline)

    def test_groups_in_their_own_years_have_a_sentence_each(self):
        own = ep.OwnCalendars("route", {"ab": CALENDAR, "cd": ep.MonthCalendar()})
        on, route, fare = zip(*ROWS, strict=True)
        made = ep.Daybook(
            {"on": on, "route": route, "fare": fare},
            date="on",
            by="route",
            measures="revenue=sum(fare)",
            calendar=own,
        )
        said = made.compare("year", to_date=True, by="route").headline
        self.assertRegex(said, r"ab: Revenue in FY2026 to date: .*cd: Revenue in 2025 to date: ")


class Blanks(unittest.TestCase):
    """Why values are missing, with the number of rows."""

    def test_reasons(self):
        made = book(("revenue=sum(fare)", "typical=mean(fare)"))
        found = why_blank(made.compare("year"))
        known = "the data covers only 2024-01-01 to 2025-05-14"
        short, early = "2024-01-01..2026-03-31", "2023-04-01..2025-05-14"
        declare = "; if nothing happened then, use coverage='{0}'"
        self.assertEqual(
            found,
            [
                f"1 row: the prior period is outside the coverage: {known}",
                "1 row: the period is not complete: the data does not cover 2023-04-01 to "
                f"2023-12-31{declare.format(early)}",
                "1 row: the period is not complete: the data does not cover 2025-05-15 to "
                f"2026-03-31{declare.format(short)}",
                "1 row: the prior period is not complete: the data does not cover 2023-04-01 to "
                f"2023-12-31{declare.format(early)}",
            ],
        )
        none = ep.Daybook({"on": ["2024-01-01", "2025-06-01"], "x": [0, 5]}, date="on", measures="s=sum(x)",
                          coverage="2024-01-01..2025-12-31")  # fmt: skip
        self.assertEqual(why_blank(none.compare("year"))[-1], "1 row: the prior value is 0")
        self.assertEqual(why_blank(none.recap("year")), [])


class Selected(unittest.TestCase):
    """A table of some columns has the headline of them all, or none; never an error."""

    def test_every_column_alone(self):
        made = book()
        tables = (
            made.compare("quarter", by="route"), made.compare("quarter", to_date=True), made.compare("month", mean_of=2),
            made.compare("year", to_date=True, every="month"), made.compare("month", back=["1 month", "1 year"]),
            made.recap("quarter", by="route", shares=True), made.recap("month", by="route", wide=True),
            made.recap("weekday"), made.accumulate("year", by="route"), made.accumulate("2024-05-01.."),
            made.trail("5 entries", by="route"), made.trail("3 months", every="month", weights=[1, 2, 3]), made.card(),
            made.rhythm("weekday", "month"), made.spread("fare", "weekday"), made.histogram("fare"),
        )  # fmt: skip
        for table in tables:
            self.assertTrue(table.headline, table.meta["verb"])
            for name in table.names:
                self.assertIn(
                    table.select(name).headline.partition(":")[0],
                    ("", table.headline.partition(":")[0]),
                )
                repr(table.select(name))


class FirstsOfPeriods(unittest.TestCase):
    """Dates that all begin a month may stand for their months, which is said."""

    def test_the_cure_is_named_where_it_fits(self):
        for months, grain in (((1, 2, 3), "month"), ((1, 4, 10), "quarter"), ((1, 13, 25), "year")):
            days = [f"{2025 + (m - 1) // 12}-{(m - 1) % 12 + 1:02d}-01" for m in months]
            book = ep.Daybook({"on": days}, date="on", measures="n=count()")
            said = book.recap("year").headline
            self.assertIn(f"every date is the first day of a {grain}", said)
            self.assertIn(f"grain={grain!r}", said)
        for days in (["2025-01-01", "2025-02-01"], ["2025-01-01", "2025-02-02", "2025-03-01"]):
            book = ep.Daybook({"on": days}, date="on", measures="n=count()")
            self.assertNotIn("every date", book.recap("year").headline)
