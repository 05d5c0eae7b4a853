"""Every number leads back to its days and rows, and a wrong one is found out."""

import datetime as dt
import unittest
from fractions import Fraction

import numpy as np

import eptaro as ep
from tests import oracle
from tests.core.measures.test_measures import SPECS

ROWS = oracle.random_rows(21)
FISCAL = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")


def book() -> ep.Daybook:
    """Return a book of every measure over the oracle's rows."""
    on, group, x = zip(*ROWS.rows, strict=True)
    frame = {"on": list(on), "g": list(group), "x": list(x)}
    specs = [*SPECS, "each=sum(x)/count(x)"]
    return ep.Daybook(frame, date="on", by="g", measures=specs, calendar=FISCAL)


class Traced(unittest.TestCase):
    """What a trace tells."""

    BOOK = book()

    def tables(self) -> list[ep.Table]:
        as_of = ROWS.last - 30 * oracle.DAY
        return [
            self.BOOK.recap("quarter", by="g", totals=True, subtotals="year"),
            self.BOOK.recap("month", by="g", top=1, sort="-x_sum"),
            self.BOOK.accumulate("year", by="g", as_of=as_of),
            self.BOOK.trail("90 days", every="month"),
            self.BOOK.compare("month", by="g"),
            self.BOOK.compare("quarter", to_date=True, as_of=as_of, by="g", periods=3),
            self.BOOK.card(by="g"),
        ]

    def test_rows_taken_twice_are_traced_to_their_own_days(self):
        whole = self.BOOK.recap("month", by="g")
        some = whole[::-1][5:15][1::3]
        for place, row in enumerate(some.rows()):
            span = some.trace(place, "x_sum").sides[0].span
            self.assertEqual((span.first, span.last), (row["first"], row["last"]))

    def test_every_measure_of_every_verb_is_found_again(self):
        traced = 0
        for table in self.tables():
            rows = list(table.rows())
            for name in (n for n in table.names if n.startswith(("x_", "each"))):
                for place in range(0, len(table), max(len(table) // 5, 1)):
                    try:
                        found = table.trace(place, name)
                    except ep.QuestionError as error:
                        self.assertIn("does not exist", str(error))
                        continue
                    self.assertTrue(found.agrees, (name, rows[place], str(found)))
                    traced += 1
        self.assertGreater(traced, 400)

    def test_days_rows_and_what_was_left_out_are_told(self):
        as_of = ROWS.last - 30 * oracle.DAY
        table = self.BOOK.compare("year", to_date=True, as_of=as_of, by="g")
        record = next(table.rows())
        found = table.trace(0, "x_sum_change")
        sides = [(side.span.first, side.span.last) for side in found.sides]
        self.assertEqual(
            sides,
            [(record["first"], record["last"]), (record["prior_first"], record["prior_last"])],
        )
        own = [
            i
            for i, r in enumerate(ROWS.rows, 1)
            if r[1] == record["g"] and record["first"] <= r[0] <= record["last"]
        ]
        self.assertEqual(list(found.sides[0].rows), own)
        text = str(found)
        for part in (f"of g {record['g']}", f"{record['last']:%A} {record['last']}", "the same, calculated independently",
                     f"transactions after {as_of}"):  # fmt: skip
            self.assertIn(part, text)

    def test_a_sample_is_proved_and_a_corrupted_table_is_not(self):
        table = self.BOOK.compare("quarter", by="g")
        self.assertGreater(self.BOOK.prove(table), 100)
        for name in ("x_sum", "x_sum_prior", "x_count"):
            columns = [c if c.name != name else ep.Column.of(name, c.kind, c.data + 1, c.valid, scale=c.scale)
                       for c in table.columns]  # fmt: skip
            with self.assertRaisesRegex(
                ep.EptaroError, r"(?s)was not found again.*NOT the number in the table"
            ):
                self.BOOK.prove(ep.Table(columns, table.meta, table.answer))

    def test_helpers_lead_to_periods_and_spans(self):
        self.assertIn(ROWS.last, self.BOOK.latest("quarter"))
        span = FISCAL.span_to_date("2025-08-20", "quarter")
        self.assertEqual(str(span), "2025-07-01..2025-08-20")
        self.assertEqual(str(span.prior("year", FISCAL)), "2024-07-01..2024-08-20")

    def test_a_wrong_number_is_found_out(self):
        table = self.BOOK.recap("year")
        columns = [c if c.name != "x_sum" else ep.Column.of("x_sum", "decimal", c.data + 1, scale=2)
                   for c in table.columns]  # fmt: skip
        wrong = ep.Table(columns, table.meta, table.answer)
        found = wrong.trace(0, "x_sum")
        self.assertFalse(found.agrees)
        self.assertIn("NOT the number in the table", str(found))
        self.assertEqual(Fraction(found.result) - found.plain, Fraction(1, 100))

    def test_a_span_outside_the_coverage_is_blank_on_both_ways(self):
        (row,) = self.BOOK.compare("month", to_date=True, as_of=ROWS.first + oracle.DAY).rows()
        found = self.BOOK.compare("month", to_date=True, as_of=ROWS.first + oracle.DAY).trace(
            0, "x_sum_prior"
        )
        self.assertEqual((row["x_sum_prior"], found.plain, found.agrees), (None, None, True))
        self.assertIn("outside the coverage: blank", str(found))

    def test_what_cannot_be_traced(self):
        recap = self.BOOK.recap("year", by="g", shares=True)
        bad = (
            (recap, 99, "x_sum", "rows 0 to"),
            (recap, 0, "x_summ", "did you mean 'x_sum'"),
            (recap, 0, "x_sum_share", "is not a measure"),
            (ep.dimension("2025-01-01", "2025-01-01"), 0, "date", "no transactions behind"),
            (
                self.BOOK.trail("2 days", weights=[1, 2]),
                0,
                "x_sum_trailing",
                "no transactions behind",
            ),
        )
        for table, row, name, message in bad:
            with self.assertRaisesRegex(ep.QuestionError, message):
                table.trace(row, name)

    def test_rows_keep_their_places_where_others_were_rejected(self):
        table = {"on": ["x", "2025-01-01", "2025-01-02", "y", "2025-01-03"], "x": [1, 2, 3, 4, 5]}
        for where, rows in ((None, [2, 3, 5]), ("x != 3", [2, 5])):
            book = ep.Daybook(
                table,
                date="on",
                measures="s=sum(x)",
                where=where,
                dates=ep.DateRules(bad_dates="reject"),
            )
            trace = book.recap("year").trace(0, "s")
            self.assertEqual((list(trace.rows), trace.agrees), (rows, True))

    def test_values_that_are_no_number_count_as_blank(self):
        frame = {"on": ["2025-01-01"] * 3, "x": np.array([1.5, np.nan, -4.0])}
        made = ep.Daybook(frame, date="on", measures=["s=sum(x)", "n=count(x)", "m=max(x)"])
        self.assertEqual(made.prove(made.recap("day")), 3)
        self.assertEqual(next(iter(made.recap("day").rows()))["n"], 2)

    def test_the_others_are_those_that_only_leaves(self):
        frame = {"on": ["2025-01-01"] * 5, "g": [*"abcde"], "x": [9, 8, 4, 2, 1]}
        made = ep.Daybook(frame, date="on", by="g", measures="s=sum(x)")
        found = made.recap("year", by="g", top=2, sort="-s", only={"g": ["b", "c", "d", "e"]})
        self.assertEqual(
            [(r["g"], r["s"]) for r in found.rows()], [("b", 8), ("c", 4), ("(others)", 3)]
        )
        traces = [found.trace(row, "s") for row in range(3)]
        self.assertEqual([(t.plain, t.agrees) for t in traces], [(8, True), (4, True), (3, True)])

    def test_windows_that_are_left_blank_are_proved_too(self):
        made = ep.Daybook(
            {"on": ["2025-01-01", "2025-01-04"], "x": [1, 2]}, date="on", measures="s=sum(x)"
        )
        for back in ("2 days", "2 workdays", "2 entries", "2 active days"):
            table = made.trail(back, incomplete="blank")
            found = table.trace(0, "s_trailing")
            self.assertEqual((found.result, found.plain, found.agrees), (None, None, True), back)
            self.assertIn("left blank: the window is not complete", str(found))
            self.assertEqual(made.prove(table), len(table))
            self.assertNotIn("left blank", str(table.trace(3, "s_trailing")))

    def test_two_groups_with_one_deciding_day_share_it(self):
        made = ep.Daybook(
            {"on": ["2025-01-01"] * 2, "g": ["a", "b"], "x": [1, 2]}, date="on", by="g",
            measures=["f=first(x)", "l=last(x)"],
        )  # fmt: skip
        table = made.recap("day")
        self.assertEqual([(row["f"], row["l"]) for row in table.rows()], [(None, None)])
        self.assertEqual(made.prove(table), 2)

    def test_times_order_first_and_last(self):
        at = [dt.datetime(2025, 1, 1, h) for h in (18, 9, 18)]
        found = ep.Daybook(
            {"at": at, "x": [1, 2, 3]}, date="at", measures=["a=first(x)", "b=last(x)"]
        ).recap("day")
        self.assertEqual([found.trace(0, name).plain for name in ("a", "b")], [2, 3])

    def test_times_order_first_and_last_whatever_the_order_of_rows(self):
        stamps = ["2025-01-02 10:00", "2025-01-03 09:00", "2025-01-02 08:00", "2025-01-03 07:00"]
        days = ep.Daybook(
            {"at": stamps, "x": [1, 2, 3, 4]}, date="at", measures=["f=first(x)", "l=last(x)"]
        )
        table = days.recap("day")
        self.assertEqual([(row["f"], row["l"]) for row in table.rows()], [(3, 1), (4, 2)])
        self.assertEqual([table.trace(0, "f").rows, table.trace(1, "l").rows], [(1, 3), (2, 4)])
        self.assertEqual(days.prove(table), 4)
