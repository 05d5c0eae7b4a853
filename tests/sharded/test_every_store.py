"""Every method of a book works wherever its cells lie, or is refused by name."""

import datetime as dt
import itertools
import random
import sqlite3
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import eptaro as ep

MEASURES = ["revenue=sum(fare)", "trips=count()", "typical=median(fare)"]
ASKED = {"date": "on", "by": ["route"], "measures": MEASURES}
WAYS = ("memory", "file", "folder", "shards")


def rows(seed: int, count: int, year: int = 2025) -> dict[str, list]:
    """Return transactions of one year on two routes."""
    rng = random.Random(seed)
    return {
        "on": [f"{year}-{rng.randint(1, 12):02d}-{rng.randint(1, 28):02d}" for _ in range(count)],
        "route": [rng.choice("ab") for _ in range(count)],
        "fare": [rng.randint(-20, 90) for _ in range(count)],
    }


def listed(book: ep.Daybook) -> list[dict]:
    """Return what a book answers, in every group and together."""
    return [*book.recap("month", by="route").rows(), *book.recap("year", totals=True).rows()]


class Stores(unittest.TestCase):
    """In memory, in a file, and in folders of one and of several shards."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.names = itertools.count()

    def held(self, way: str, table: dict[str, list], **more) -> ep.Daybook:
        path = self.folder / f"{way}{next(self.names)}"
        if way == "memory":
            return ep.Daybook(table, **ASKED, **more)
        if way == "file":
            return ep.Daybook.open(ep.Daybook(table, **ASKED, **more).write(f"{path}.parquet"))
        if way == "folder":
            return ep.Daybook.open(ep.Daybook(table, **ASKED, **more).write(f"{path}/"))
        return ep.Daybook.read(self.csv(table), into=path, shards=3, **ASKED, **more)

    def csv(self, table: dict[str, list]) -> Path:
        path = self.folder / f"rows{next(self.names)}.csv"
        lines = [
            ",".join(table),
            *(",".join(map(str, r)) for r in zip(*table.values(), strict=True)),
        ]
        path.write_text("\n".join(lines))
        return path

    def test_any_two_merge_in_both_orders(self):
        one, two = rows(1, 80), rows(2, 60)
        both = {name: one[name] + two[name] for name in one}
        wanted = listed(ep.Daybook(both, **ASKED))
        for first, second in itertools.product(WAYS, WAYS):
            with self.subTest(first=first, second=second):
                mine, theirs = self.held(first, one), self.held(second, two)
                self.assertEqual(listed(mine.merge(theirs)), wanted)
                with self.assertRaisesRegex(ep.InputError, "force=True"):
                    mine.merge(theirs).merge(theirs)

    def test_rows_are_added_to_each(self):
        one, two = rows(3, 70), rows(4, 50)
        both = {name: one[name] + two[name] for name in one}
        wanted = listed(ep.Daybook(both, **ASKED))
        for way, kind in itertools.product(WAYS, ("files", "book")):
            with self.subTest(way=way, kind=kind):
                book = self.held(way, one)
                added = self.csv(two) if kind == "files" else ep.Daybook(two, **ASKED)
                more = book.add(added, date="on") if kind == "files" else book.add(added)
                self.assertEqual(listed(more), wanted)
                self.assertEqual(book.rows, 70)
                store = more._store
                place = getattr(store, "file", None) or getattr(store, "folder", None)
                if way != "memory":
                    self.assertEqual(listed(ep.Daybook.open(place.name)), wanted)
                with self.assertRaisesRegex(ep.InputError, "already"):
                    more.add(added, **({"date": "on"} if kind == "files" else {}))
        for way in ("memory", "file"):
            with self.assertRaisesRegex(ep.InputError, "replace_days takes days out of a book in"):
                self.held(way, one).add(self.csv(two), replace_days="2025-01-01..2025-02-01")
        for way in WAYS:
            with self.assertRaisesRegex(ep.InputError, "a dict is added as a book of its own"):
                self.held(way, one).add(two)

    def test_rows_without_a_date_are_counted_by_each(self):
        rules = ep.DateRules(bad_dates="reject")
        plain, one, two = rows(5, 40), rows(6, 40), rows(7, 40)
        one["on"][:3], two["on"][5:7] = ["?"] * 3, [""] * 2
        lost = [sum(table["fare"][of]) for table, of in ((one, slice(3)), (two, slice(5, 7)))]
        for first, second in itertools.product(WAYS, WAYS):
            with self.subTest(first=first, second=second):
                mine, theirs, clean = (
                    self.held(way, table, dates=rules)
                    for way, table in ((first, one), (second, two), (second, plain))
                )
                for book, count, total in (
                    (mine, 3, lost[0]),
                    (mine.merge(theirs), 5, sum(lost)),
                    (mine.merge(clean), 3, lost[0]),
                    (clean.merge(mine), 3, lost[0]),
                ):
                    table = book.recap("year", totals=True)
                    self.assertIn(
                        f"left out {count} rows without a date: sum(fare) {total:,}", table.footer
                    )
                    self.assertIn(f"counted + {count} rejected", str(table.meta["tie_out"]))
        with sqlite3.connect(self.folder / "rows.db") as database:
            database.execute('create table t ("on" date, route text, fare integer)')
            lines = [*zip(*plain.values(), strict=True)]
            database.executemany("insert into t values (?, ?, ?)", lines)
        database.close()
        mine = ep.Daybook(one, **ASKED, dates=rules)
        in_database = ep.Daybook.from_sql(f"sqlite:///{self.folder}/rows.db", "t", **ASKED)
        for book in (mine.merge(in_database), in_database.merge(mine)):
            self.assertIn(f"rows without a date: sum(fare) {lost[0]}", book.recap("year").footer)

    def test_groups_that_may_not_add_up_are_named_by_each(self):
        table = rows(8, 30)
        table["route"][4] = "Total"
        for way in WAYS:
            with self.subTest(way=way):
                (note,) = self.held(way, table).notes
                self.assertIn("'Total' may add up others", note)
        large = self.held("shards", table)
        large._store = replace(large._store, at_once=0)
        self.assertEqual(large.notes, ())

    def test_a_label_is_one_of_the_calendars_that_wanted_groups_keep(self):
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        own = ep.OwnCalendars("route", {"b": fiscal, "c": ep.WeekCalendar("cafe", prefix="CY")},
                              ep.MonthCalendar("civil"))  # fmt: skip
        table = rows(9, 90)
        table["route"] = [random.Random(n).choice("abcd") for n in range(90)]
        whole = ep.Daybook(table, **ASKED)
        for way in WAYS:
            book = self.held(way, table, calendar=own)
            if hasattr(book._store, "at_once"):
                book = ep.Daybook._of(replace(book._store, at_once=0))
            for only, calendar in ((["2025-Q2", "route=a"], ep.MonthCalendar("civil")),
                                   ([{"route": ["d", "a"]}, "2025-Q2"], ep.MonthCalendar("civil")),
                                   (["FY2026-Q1", "route=b"], fiscal)):  # fmt: skip
                with self.subTest(way=way, only=only):
                    found = book.recap("month", by="route", only=only)
                    want = whole.with_calendar(calendar).recap("month", by="route", only=only)
                    self.assertEqual(found["revenue"].tolist(), want["revenue"].tolist())
            for only, said in (("2025-Q2", "no.* label of calendar 'fiscal'"),
                               (["2025-Q2", {"route": ["a", "c"]}], "no.* label of calendar 'cafe'"),
                               (["FY2026", "route=e"], "unknown value of route 'e'"),
                               ({"route": ["a", "e"]}, "unknown value of route 'e'")):  # fmt: skip
                with self.assertRaisesRegex(ep.QuestionError, said):
                    len(book.recap("month", by="route", only=only))
            headline = book.accumulate("year", by="route").headline
            self.assertRegex(headline, "^civil: .* b: .* c: ")

    def test_an_error_names_the_calendar_that_was_given_first(self):
        table = rows(12, 90)
        table["route"] = [random.Random(n).choice("bcdefg") for n in range(90)]
        cafe, fiscal = ep.WeekCalendar("cafe", prefix="CY"), ep.MonthCalendar("fiscal", prefix="FY")
        for first, second in ((cafe, fiscal), (fiscal, cafe)):
            # The first shard has d, which keeps the second calendar; c and f are in the last.
            own = ep.OwnCalendars("route", {"c": first, "d": second, "f": first}, second)
            for way in ("memory", "shards"):
                book = self.held(way, table, calendar=own)
                if way == "shards":
                    book = ep.Daybook._of(replace(book._store, at_once=0))
                for only in ("2025-Q2", ["2025-Q2", {"route": ["b", "c", "d"]}]):
                    with self.assertRaisesRegex(ep.QuestionError, f"calendar '{first.name}'"):
                        len(book.recap("month", by="route", only=only))

    def test_each_layout_is_answered_in_several_calendars_or_refused_by_name(self):
        own = ep.OwnCalendars("route", {"b": ep.WeekCalendar("cafe")}, ep.MonthCalendar("civil"))
        books = [self.held(way, rows(11, 60), calendar=own) for way in ("memory", "shards")]
        books[1] = ep.Daybook._of(replace(books[1]._store, at_once=0))
        spans, one = ["2025-01-01..2025-03-31", "2025-04-01..2025-06-30"], "one calendar for all"
        for verb, args, options, said in (
            ("recap", ["month"], {"wide": True}, one), ("recap", ["month"], {"across": "year"}, one),
            ("recap", ["month"], {"only": spans}, one), ("recap", ["quarter"], {"ranks": True}, one),
            ("recap", ["month"], {"totals": True, "subtotals": "quarter"}, ""), ("recap", ["weekday"], {}, ""),
            ("accumulate", ["year"], {"wide": True}, one), ("accumulate", ["all"], {"every": "month"}, ""),
            ("trail", ["9 days"], {"totals": True}, one), ("trail", ["2 months"], {"every": "month"}, ""),
            ("compare", ["month"], {"groups": "both"}, one), ("compare", ["quarter"], {"details": True}, ""),
            ("compare", ["month"], {"back": ["1 month", "1 year"]}, ""), ("compare", ["month"], {"effects": "days"}, ""),
            ("card", [], {"wide": True}, one), ("card", [], {"back": "1 year"}, ""),
            ("rhythm", ["weekday", "month"], {"wide": True}, one), ("rhythm", ["month"], {}, ""),
        ):  # fmt: skip
            with self.subTest(verb=verb, options=options):
                answers = []
                for book in books:
                    try:
                        answers.append([*getattr(book, verb)(*args, by="route", **options).rows()])
                    except ep.QuestionError as error:
                        answers.append(str(error))
                self.assertTrue(answers[0] == answers[1], "the stores differ")
                self.assertEqual(isinstance(answers[0], str), bool(said))
                self.assertTrue(not said or said in answers[0], said)

    def test_notes_of_every_calendar_are_kept(self):
        own = ep.OwnCalendars("g", {"b": ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")},
                              ep.MonthCalendar("civil"))  # fmt: skip
        table = {
            "on": ["2025-05-01", "2025-05-02", "2025-05-02"],
            "g": ["a", "b", "b"],
            "x": [1, 2, 3],
        }
        book = ep.Daybook(table, date="on", by="g", measures="l=last(x)", calendar=own)
        goals = {("a", "2025-05"): 5, ("b", "FY2026-M02"): 6, ("b", "FY2031-M01"): 7}
        answer = book.recap("month", by="g", goals=goals)
        self.assertIn("last(x): 2 rows of 2025-05-02", answer.footer)
        self.assertIn("FY2031-M01", answer.footer)

    def test_goals_are_those_of_the_groups_at_hand(self):
        table = rows(10, 120)
        table["route"] = [random.Random(n).choice("abcde") for n in range(120)]
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        own = ep.OwnCalendars("route", {"a": fiscal, "c": fiscal}, ep.MonthCalendar("civil"))
        goals = {
            ("a", "FY2026-Q1"): 7,
            ("c", "FY2026-Q2"): 8,
            ("b", "2025-Q2"): 9,
            ("d", "2025-Q1"): 5,
        }
        plain = {(route, f"2025-Q{n}"): n for n, route in enumerate("abde", 1)}
        for way in ("memory", "shards"):
            kept, several = self.held(way, table), self.held(way, table, calendar=own)
            if hasattr(kept._store, "at_once"):
                kept, several = (
                    ep.Daybook._of(replace(book._store, at_once=0)) for book in (kept, several)
                )
            for book, plan, only in (
                (kept, plain, None), (kept, plain, {"route": ["a", "c"]}),
                (several, goals, None), (several, goals, {"route": ["a", "d"]}),
            ):  # fmt: skip
                for verb, more in (
                    ("recap", {}),
                    ("accumulate", {"every": "month"}),
                    ("compare", {}),
                ):
                    with self.subTest(way=way, verb=verb, only=only, own=book is several):
                        asked = {"by": "route", "goals": plan, "only": only, **more}
                        answer = getattr(book, verb)("quarter", **asked)
                        shown = {(row["route"], row.get("within", row.get("period"))): row["revenue_goal"]
                                 for row in answer.rows() if row["revenue_goal"] is not None}  # fmt: skip
                        routes = {row["route"] for row in answer.rows()}
                        want = {key: goal for key, goal in plan.items() if key[0] in routes}
                        self.assertEqual(shown, want)
            for book, plan in ((kept, plain), (several, goals)):
                with self.assertRaisesRegex(ep.QuestionError, "goals: unknown group 'z'"):
                    len(book.recap("quarter", by="route", goals={("z", "2025-Q1"): 5}))
                with self.assertRaisesRegex(
                    ep.QuestionError, "goals are for each .*, not for per="
                ):
                    len(book.recap("5 weeks from 2025-01-01", by="route", goals=plan))

    def test_verbs_take_measures_of_the_book_and_what_its_cells_allow(self):
        table, rng = rows(8, 120), random.Random(8)
        asked = ["trips", "revenue", "mean(fare)", "share=revenue / trips", "p=quantile(fare, 0.9)",
                 "busiest=max(sum(fare) per day)", "d=min(fare) + max(fare)"]  # fmt: skip
        for way in WAYS:
            book = self.held(way, table)
            store = book._store
            if hasattr(store, "at_once") and rng.random() < 0.5:
                book = ep.Daybook._of(replace(store, at_once=0))
            for _ in range(4):
                some = rng.sample(asked[:-1], rng.randint(1, 3))
                with self.subTest(way=way, measures=some):
                    spelt = {"trips": MEASURES[1], "revenue": MEASURES[0]}
                    alone = [*MEASURES[:2], *(one for one in some if one not in spelt)]
                    other = ep.Daybook(table, **ASKED | {"measures": alone})
                    names = [spelt.get(one, one).partition("=")[0] for one in some]
                    names = ["mean_fare" if "(" in name else name for name in names]
                    verb, how = rng.choice([("recap", ("month",)), ("compare", ("month",)),
                                            ("trail", ("9 days",)), ("accumulate", ("quarter",))])  # fmt: skip
                    found = getattr(book, verb)(*how, by="route", measures=some)
                    wanted = getattr(other, verb)(*how, by="route")
                    kept = [one for one in wanted.names if one in found.names]
                    self.assertTrue(any(name in " ".join(kept) for name in names))
                    self.assertEqual([*found.select(kept).rows()], [*wanted.select(kept).rows()])
            with self.assertRaisesRegex(
                ep.QuestionError, "takes max of 'fare', which this book does not keep"
            ):
                book.recap("month", measures=asked[-1])
            with self.assertRaisesRegex(
                ep.QuestionError, "unknown measure 'trip': did you mean 'trips'"
            ):
                book.recap("month", measures="trip")

    def test_workdays_and_holidays_stay_with_the_book(self):
        one, two = rows(6, 60), rows(7, 40, 2026)
        both = {name: one[name] + two[name] for name in one}
        days = [ep.HolidaySet([ep.Holiday(dt.date(y, 5, 6), "Fair")]) for y in (2025, 2026)]
        first, second, joined = (
            ep.Workdays(weekend=("friday", "saturday"), holidays=held)
            for held in (*days, ep.HolidaySet([*days[0].holidays, *days[1].holidays]))
        )

        def answers(book):
            return [*book.trail("9 workdays", by="route", every="week").rows()]

        wanted = answers(ep.Daybook(both, workdays=joined, **ASKED))
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01")
        for way in WAYS:
            with self.subTest(way=way):
                book = self.held(way, one, workdays=first)
                other = ep.Daybook(two, workdays=second, **ASKED)
                moved = book.with_calendar(fiscal)
                self.assertEqual(moved.workdays, first)
                self.assertEqual(answers(book.merge(other)), wanted)
                alone = ep.Daybook(both, workdays=first, **ASKED)
                self.assertEqual(answers(book.add(self.csv(two), date="on")), answers(alone))

    def test_calendars_reports_and_names_are_those_of_the_book(self):
        table, fiscal = rows(5, 90), ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        plain = ep.Daybook(table, **ASKED)
        for way in WAYS:
            with self.subTest(way=way):
                book = self.held(way, table)
                moved = book.with_calendar(fiscal)
                self.assertEqual(listed(moved), listed(plain.with_calendar(fiscal)))
                self.assertEqual(
                    (book.by, book.rows, book.coverage), (["route"], 90, plain.coverage)
                )
                self.assertEqual(
                    str(moved.latest("year")), str(plain.with_calendar(fiscal).latest("year"))
                )
                self.assertTrue(book.report(self.folder / f"{way}.xlsx").exists())
                self.assertEqual(len(book.rejected), 0)
                self.assertIn("90 rows by route", repr(book))


if __name__ == "__main__":
    unittest.main()
