"""Blank groups, totals that only the order of rows would decide, and what goes by place."""

import copy
import pickle
import unittest

import eptaro as ep
from eptaro.inputs.goals_and_coverage import read_goals


def book(**more):
    """Return a book with a blank group, and groups called like columns of answers."""
    frame = {
        "on": ["2025-01-01"] * 5,
        "g": ["a", None, "None", "total", "period"],
        "x": [1, 5, 3, 2, 4],
    }
    return ep.Daybook(frame, date="on", by="g", measures=["s=sum(x)", "l=last(x)"], **more)


class Blanks(unittest.TestCase):
    """The blank is a value of its own."""

    def test_it_is_asked_for_by_none_or_by_its_name(self):
        for only in ({"g": None}, {"g": [None]}, "g=(blank)", "g="):
            rows = list(book().recap("year", by="g", only=only).rows())
            self.assertEqual([(r["g"], r["s"]) for r in rows], [(None, 5)], only)
        (row,) = book().recap("year", by="g", only={"g": "None"}).rows()
        self.assertEqual((row["g"], row["s"]), ("None", 3))
        two = book().recap("year", by="g", only={"g": [None, "a"]})
        self.assertEqual(two.column("g").to_list(), ["a", None])

    def test_among_the_top_it_stays_blank(self):
        table = book().recap("year", by="g", top=2, ranks=True, sort="s")
        self.assertEqual(table.column("g").to_list(), ["period", None, "(others)"])
        self.assertEqual(table.column("s_rank").to_list(), [2, 1, None])
        falling = book().recap(
            "year", by="g", top=1, sort="-s"
        )  # the others have most, and come last
        self.assertEqual(falling.column("s").to_list(), [5, 10])
        every = book().recap("year", by="g", top=9)
        self.assertEqual(every.column("g").to_list(), [None, "period", "None", "total", "a"])

    def test_goals_and_their_file_name_it(self):
        import tempfile
        from pathlib import Path

        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "goals.csv"
            file.write_text("g,period,goal\n,2025,50\n")
            for goals in ({(None, "2025"): 50}, read_goals(file)):
                table = book().accumulate("year", by="g", goals=goals)
                self.assertEqual(table.column("s_goal").to_list(), [None, None, None, None, 50])

    def test_own_calendars_name_it(self):
        own = ep.OwnCalendars("g", {None: ep.MonthCalendar("f", year_starts="04-01", prefix="FY")},
                              ep.MonthCalendar())  # fmt: skip
        periods = (
            book(calendar=own).recap("year", by="g", only={"g": None}).column("period").to_list()
        )
        self.assertEqual(periods, ["FY2025"])

    def test_on_screen_it_has_a_name_and_in_files_none(self):
        table = book().recap("year", by="g")
        self.assertIn("(blank)", repr(table))
        self.assertIn('"g": null', ep_json(table))


def ep_json(table):
    """Return a table as JSON."""
    from eptaro.outputs.text import to_json

    return to_json(table)


class Across(unittest.TestCase):
    """Groups called like a column of a cross-tab keep a column of their own."""

    def test_their_columns(self):
        table = book().recap("year", by="g", wide=True)
        row = next(table.rows())
        said = {
            name: row[f"{name} s"]
            for name in ("a", "None", "(blank)", "g=total", "g=period", "total")
        }
        self.assertEqual(list(said.values()), [1, 3, 5, 2, 4, 15])
        self.assertTrue(table.trace(0, "g=total s").agrees)
        frame = {"on": ["2025-01-01"] * 2, "g": [None, "(blank)"], "x": [1, 2]}
        both = ep.Daybook(frame, date="on", by="g", measures="s=sum(x)").recap(
            "year", by="g", wide=True
        )
        self.assertEqual(next(both.rows())["g=(blank)"], 2)


class Totals(unittest.TestCase):
    """First and last of several groups at one time are blank, with the reason."""

    def test_over_groups_that_share_the_time(self):
        table = book().recap("year")
        self.assertEqual(table.column("l").to_list(), [None])
        self.assertIn("last(x) of several groups at the same time", table.footer)
        self.assertTrue(table.trace(0, "l").agrees)
        table = book().recap("year", by="g", wide=True)
        self.assertIsNone(next(table.rows())["total l"])
        self.assertIn("several groups", table.footer)

    def test_a_time_of_its_own_decides(self):
        frame = {
            "at": ["2025-01-01T10:00", "2025-01-01T11:00", "2025-01-02T09:00"],
            "g": list("aba"),
            "x": [1, 2, 3],
        }
        made = ep.Daybook(frame, date="at", by="g", measures=["l=last(x)", "f=first(x)"])
        self.assertEqual(made.recap("day")["l"].tolist(), [2, 3])
        for per in ("weekday", "hour"):
            table = made.recap(per)
            self.assertTrue(all(v is not None for v in table.column("l").to_list() if v), per)
            self.assertGreater(made.prove(table), 0)
        self.assertNotIn("several groups", made.recap("year").footer)

    def test_by_the_hour_too(self):
        frame = {"at": ["2025-01-01T10:00"] * 2, "g": list("ab"), "x": [1, 2]}
        made = ep.Daybook(frame, date="at", by="g", measures="l=last(x)")
        by_hour = {row["hour"]: row["l"] for row in made.recap("hour").rows()}
        self.assertIsNone(by_hour["10"])

    def test_merging_keeps_what_is_undecided_on_either_side(self):
        def part(on, *groups):
            return ep.Daybook({"on": [on] * len(groups), "g": [*groups], "x": [7] * len(groups)},
                              date="on", by="g", measures="l=last(x)")  # fmt: skip

        shared, alone = part("2025-01-01", "a", "b"), part("2025-01-02", "a")
        for merged in (shared.merge(alone), alone.merge(shared)):
            self.assertEqual(merged.recap("day").column("l").to_list(), [None, 7])
            together = merged.recap("year")
            self.assertEqual(together.column("l").to_list(), [7])
            self.assertEqual(
                merged.with_calendar(ep.WeekCalendar("w")).recap("day").column("l").to_list(),
                [None, 7],
            )

    def test_merging_keeps_the_order_of_the_books(self):
        def part(*values):
            return ep.Daybook({"on": ["2025-01-01"] * len(values), "x": values}, date="on",
                              measures=["f=first(x)", "l=last(x)"])  # fmt: skip

        first, second, third = part(1, 2, 3), part(4), part(5, 6)
        row = next(first.merge(second).merge(third).recap("year").rows())
        self.assertEqual((row["f"], row["l"]), (1, 6))
        row = next(third.merge(first.merge(second)).recap("year").rows())
        self.assertEqual((row["f"], row["l"]), (5, 4))


class Shown(unittest.TestCase):
    """Shares run over the rows as shown; days without rows so far are zeros."""

    def test_running_shares(self):
        table = book().recap("year", by="g", shares=True, sort="-s")
        running = [round(v * 15) for v in table["s_running_share"].tolist()]
        self.assertEqual(running, [5, 9, 12, 14, 15])
        with_total = book().recap("year", by="g", shares=True, totals=True)
        running = [round(v * 15) for v in with_total["s_running_share"].tolist()]
        self.assertEqual(
            running, [3, 3, 4, 4, 8, 8, 10, 10, 15, 15]
        )  # totals are not counted again

    def test_no_rows_up_to_the_date_inside_a_stated_coverage(self):
        made = book(coverage="2024-06-01..2025-12-31")
        for by in (None, "g"):
            table = made.recap("month", by=by, as_of="2024-07-31")
            self.assertEqual(set(table.column("s").to_list()), {0})
        with self.assertRaisesRegex(ep.QuestionError, "before the coverage"):
            made.recap("month", as_of="2024-05-31")

    def test_weighted_rows_state_the_days_that_they_use(self):
        days = [f"2025-{m:02d}-{d:02d}" for m in (5, 6, 7) for d in (1, 15, 28)] + ["2025-08-10"]
        made = ep.Daybook({"on": days, "x": range(10)}, date="on", measures="s=sum(x)")
        row = list(made.trail("3 months", every="month", weights=[1, 2, 3]).rows())[-1]
        self.assertEqual(
            (str(row["first"]), str(row["date"]), row["days"]), ("2025-06-01", "2025-08-10", 71)
        )
        self.assertEqual(row["s_trailing"], ((3 + 4 + 5) + 2 * (6 + 7 + 8) + 3 * 9) / 6)
        for more in ({"ahead": "1 day"}, {"far_edge": "closed"}, {"centred": True}):
            with self.assertRaisesRegex(ep.QuestionError, "weights go with"):
                made.trail("3 days", weights=[1, 2, 3], **more)


class Copies(unittest.TestCase):
    """Books, tables and calendars pickle and deep-copy, and still trace."""

    def test_they_answer_and_trace_alike(self):
        rows = [{"year": 2025, "month": 1, "first": "2025-01-01", "last": "2025-12-31"}]
        own = ep.OwnCalendars(
            "g", {"a": ep.MonthCalendar("f", year_starts="04-01")}, ep.MonthCalendar()
        )
        for calendar in (
            ep.MonthCalendar(),
            ep.WeekCalendar("w"),
            ep.ListedCalendar("l", rows),
            own,
        ):
            self.assertEqual(pickle.loads(pickle.dumps(calendar)), calendar)
            made = book(calendar=calendar)
            for made_again in (pickle.loads(pickle.dumps(made)), copy.deepcopy(made)):
                asked = [("recap", ("year",), {}), ("compare", ("year",), {"back": ["1 year", "2 years"]}),
                         ("trail", ("3 days",), {})] + ([] if calendar is own else [("recap", ("year",), {"wide": True})])  # fmt: skip
                for verb, arguments, more in asked:
                    table = getattr(made, verb)(*arguments, by="g", **more)
                    again = getattr(made_again, verb)(*arguments, by="g", **more)
                    self.assertEqual(list(table.rows()), list(again.rows()))
                    name = next(n for n in table.names if n in ("s", "s_trailing", "a s"))
                    for one in (again, pickle.loads(pickle.dumps(table)), copy.deepcopy(table)):
                        self.assertEqual(str(one.trace(0, name)), str(table.trace(0, name)))


class WrongKinds(unittest.TestCase):
    """Arguments of the wrong kind are answered in our words."""

    def test_each(self):
        made = book()
        calls = [
            lambda: made.compare("year", back=1), lambda: made.recap(5), lambda: made.recap("year", by=5),
            lambda: made.recap("year", only=5), lambda: made.recap("year", sort=5), lambda: made.accumulate(5),
            lambda: made.accumulate("year", goals=5), lambda: made.trail(5), lambda: made.trail("2 days", weights=5),
            lambda: made.compare("year", against=5), lambda: made.merge(5), lambda: book(coverage=5),
            lambda: book(dates=5), lambda: ep.Daybook.read(5, date="on", measures="n=count()"),
            lambda: ep.Daybook.open(5), lambda: made.recap("year").write(5), lambda: made.recap("year").trace("x", "s"),
            lambda: ep.Daybook({"on": ["2025-01-01"]}, date="on", measures=5),
            lambda: ep.Daybook({"on": ["2025-01-01"]}, date="on", measures={"a": 3}),
            lambda: ep.Daybook({"on": ["2025-01-01"], "\ud800": [1]}, date="on", measures="n=count()"),
            lambda: ep.Daybook({"on": ["2025-01-01"], "g": ["\ud800"]}, date="on", by="g", measures="n=count()"),
            lambda: ep.Daybook.from_sql("sqlite:///x", "t", date="d", measures="n=count()", only="g=a"),
        ]  # fmt: skip
        for number, call in enumerate(calls):
            with self.subTest(number), self.assertRaises(ep.EptaroError):
                call()
        named = ep.Daybook({"on": ["2025-01-01"]}, date="on", measures={"n": "count()"})
        self.assertEqual(named.recap("year")["n"].tolist(), [1])
