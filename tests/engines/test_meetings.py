"""Where two features meet: each case once gave a wrong number, or an error that was not ours."""

import datetime as dt
import importlib
import itertools
import os
import sys
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import pandas as pd
import pyarrow as pa
from pyarrow import parquet

import eptaro as ep
from tests.clusters import client_of_threads, needs_clusters

DAY = dt.timedelta(1)


def values(table: ep.Table, name: str = "v") -> list:
    """Return what a column holds."""
    return table.column(name).to_list()


class Meetings(unittest.TestCase):
    """A folder of its own for each test."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def parquet(self, name: str, frame: dict, **how) -> Path:
        parquet.write_table(pa.table(frame), self.folder / name, **how)
        return self.folder / name

    def shards(self, book: ep.Daybook, name: str = "kept") -> ep.Daybook:
        """Return a book, in a folder, that is asked one shard at a time."""
        again = ep.Daybook.open(book.write(f"{self.folder / name}/"))
        again._store = replace(again._store, at_once=0)
        return again

    def text(self, text: str, measures, **more) -> list:
        """Return each measure over a file of text."""
        path = self.folder / "rows.csv"
        path.write_text(text)
        table = ep.Daybook.read(path, date="d", measures=measures, **more).recap("year")
        return [values(table, name)[0] for name in table.answer.measures]


class Folders(Meetings):
    """Books in folders against those in memory."""

    def test_only_on_a_column_that_the_question_leaves_out(self):
        frame = {"on": ["2025-01-01"] * 40, "g": [*range(10)] * 4, "h": [*"ab"] * 20}
        self.parquet("rows.parquet", frame)
        asked = {"date": "on", "by": ["g", "h"], "measures": "v=count()"}
        book = ep.Daybook.read(
            self.folder / "rows.parquet", into=self.folder / "kept", shards=4, **asked
        )
        book._store = replace(book._store, at_once=0)
        whole = ep.Daybook(frame, **asked)
        for only in ({"g": [*range(10)]}, {"g": [1, 2, 3]}, {"g": [*range(10)], "h": "a"}):
            for ask in (lambda b, only: b.recap("month", only=only, by=[]), lambda b, only: b.card(only=only, by=[]),
                        lambda b, only: b.compare("month", only=only, by="h"), lambda b, only: b.recap("month", only=only, by="h", shares=True)):  # fmt: skip
                self.assertEqual([*ask(book, only).rows()], [*ask(whole, only).rows()])

    def test_groups_without_rows(self):
        frame = {"on": ["2025-01-01", "2025-01-02", "2025-02-01"], "k": [5, 6, 5], "g": [*"abc"]}
        path = self.parquet("rows.parquet", frame)
        for number, (by, where, want) in enumerate(
            ((["g"], "g = 'a'", 1), (["g", "s=band(k, 0, 5, 6)"], "g = 'a'", 1), (["g"], None, 2))
        ):
            book = ep.Daybook.read(path, date="on", by=by, where=where, shards=5, into=self.folder / f"b{number}",
                                   measures=["v=distinct(k)", "n=new(k)"])  # fmt: skip
            self.assertEqual(values(book.recap("year", by=[])), [want])
        asked = {"date": "on", "by": "g", "measures": ["v=distinct(k)", "n=new(k)"]}
        one = ep.Daybook({"on": ["2025-03-01"], "k": [9], "g": ["z"]}, **asked)
        for merged in (book.merge(one), one.merge(book)):
            self.assertEqual(values(merged.recap("year", by=[])), [3])
        self.assertEqual(
            values(ep.Daybook.open(book.write(self.folder / "z.parquet")).recap("year", by=[])), [2]
        )

    def test_groups_that_have_a_row(self):
        frame = {"on": ["2025-01-01", "2025-01-02", "2025-02-01", "2025-03-05", "2025-04-01"],
                 "x": [1, 2, 3, 4, 5], "g": [*"abacc"], "h": [*"pqpqq"]}  # fmt: skip
        for number, how in enumerate(({}, {"where": "g != 'b'"}, {"coverage": "groups"})):
            book = ep.Daybook(frame, date="on", by=["g", "h"], measures="v=sum(x)", **how)
            shards = self.shards(book, f"k{number}")
            for by in (["g"], ["g", "h"]):
                for only in (None, {"g": "b"}, {"g": ["c"]}, {"g": ["c", "a"]}):
                    said = []
                    for one in (book, shards):
                        try:
                            said.append(
                                [*one.recap("month", by=by, only=only, as_of="2025-01-31").rows()]
                            )
                        except ep.EptaroError as error:
                            said.append(str(error))
                    self.assertEqual(*said, (how, by, only))

    @needs_clusters
    def test_row_groups_and_parts_of_a_cluster_that_no_row_meets(self):
        days = [dt.date(2025, 1, 1) + DAY * n for n in range(100)]
        path = self.parquet(
            "groups.parquet", {"on": days, "day": days, "x": [*range(100)]}, row_group_size=10
        )
        book = ep.Daybook.read(
            path, date="on", by="day", measures="v=sum(x)", where="x < 10 or x > 25"
        )
        self.assertEqual(values(book.recap("year", by=[])), [sum(range(10)) + sum(range(26, 100))])
        for n in range(3):
            self.parquet(f"part{n}.parquet", {"on": days, "g": [str(n)] * 100, "x": [n] * 100})
        with client_of_threads() as client:
            asked = {"date": "on", "by": "g", "measures": "v=sum(x)"}
            asked |= {"engine": "dask", "client": client}
            parts = str(self.folder / "part*.parquet")
            book = ep.Daybook.read(parts, where="x = 1", **asked)
            self.assertEqual(values(book.recap("year", by=[])), [100])
            with self.assertRaisesRegex(ep.InputError, "no row meets"):
                ep.Daybook.read(parts, where="x = 7", **asked)


class Kept(Meetings):
    """A kept book knows what it was made with."""

    def test_workdays_are_kept(self):
        held = ep.Workdays(
            ["friday"], holidays=ep.HolidaySet([ep.Holiday(dt.date(2025, 1, 6), "Fair")])
        )
        frame = {"on": [dt.date(2025, 1, 1) + DAY * n for n in range(21)], "x": [1] * 21}
        book = ep.Daybook(
            frame, date="on", measures=["v=sum(sum(x) per workday)", "s=sum(x)"], workdays=held
        )
        kept = [ep.Daybook.open(book.write(self.folder / "k.parquet")), self.shards(book)]
        for ask in (lambda b: b.recap("month"), lambda b: b.rhythm("day type"), lambda b: b.trail("5 workdays"),
                    lambda b: b.compare("week", back="1 week", effects="workdays")):  # fmt: skip
            for again in kept:
                self.assertEqual([*ask(again).rows()], [*ask(book).rows()])
        other = ep.Daybook(frame, date="on", measures=["v=sum(sum(x) per workday)", "s=sum(x)"])
        with self.assertRaisesRegex(ep.EptaroError, "workdays"):
            book.merge(other)

    def test_active_days_with_coverage_by_group(self):
        rows = [
            (dt.date(2024, 1, 1) + DAY * n, g)
            for g, start in (("a", 0), ("b", 183))
            for n in range(start, 366, 2)
        ]
        on, g = zip(*rows, strict=True)
        book = ep.Daybook({"on": on, "g": g, "x": [2] * len(on)}, date="on", by="g", coverage="groups",
                          measures=["v=count(sum(x) per active day)", "m=mean(sum(x) per active day)"])  # fmt: skip
        self.assertEqual(values(book.recap("year", by="g")), [183, 92])
        self.assertEqual(values(book.recap("year", by="g"), "m"), [2, 2])

    def test_sums_of_missing_values_are_blank(self):
        frame = {
            "on": ["2025-01-01", "2025-02-01", "2025-03-01"],
            "x": [None, 5, None],
            "y": [1.5, None, 1.5],
            "g": [*"aba"],
        }
        book = ep.Daybook(
            frame, date="on", by="g", measures=["v=sum(x)", "w=sum(y)", "z=sum(x + y)", "n=count()"]
        )
        for one in (
            book,
            ep.Daybook.open(book.write(self.folder / "k.parquet")),
            self.shards(book),
        ):
            table = one.recap("month", by=[])
            self.assertEqual(values(table), [None, 5, None])
            self.assertEqual(values(table, "w"), [1.5, None, 1.5])
            self.assertEqual(values(table, "z"), [None] * 3)
            self.assertEqual(
                values(one.accumulate("year", every="month", by=[]), "v_to_date"), [None, 5, 5]
            )
            self.assertEqual(values(one.recap("year", by="g")), [None, 5])
        self.assertTrue(book.prove(book.recap("month", by=[])))


class TextKinds(Meetings):
    """What a column of text is goes by the whole column, and is the same for every use."""

    def test_two_columns_of_a_file(self):
        rows = "d,actual,planned\n" + "".join(
            f"2025-01-01,{a},{b}\n" for a, b in ((9, 10), (10, 9), (100, 20))
        )
        for condition, want in (("actual > planned", 2), ("actual between planned and 50", 1), ("actual = planned", 0),
                                ("actual in (planned, 9.0)", 1), ("not actual > planned", 1)):  # fmt: skip
            self.assertEqual(self.text(rows, f"v=count(where {condition})"), [want], condition)
        self.assertEqual(
            self.text("d,a,b\n2025-01-01,2025-03-01,2025-02-28\n", "v=count(where a > b)"), [1]
        )
        with self.assertRaises(ep.EptaroError):
            self.text("d,a,b\n2025-01-01,x,2\n", "v=count(where a > b)")

    def test_blanks_hold_however_a_column_is_used(self):
        rows = "d,x\n2025-01-01,5\n2025-01-01,NA\n2025-01-01,\n2025-01-02,7\n"
        for numbers in ("infer", ep.NumberRules(blanks=("NA",))):
            for spec, want in (
                ("v=count(x)", 2),
                ("v=distinct(x)", 2),
                ("v=new(x)", 2),
                ("v=count(where x is blank)", 2),
            ):
                for more in ([], ["s=sum(x)"]):
                    self.assertEqual(
                        self.text(rows, [spec, *more], numbers=numbers)[0], want, (spec, more)
                    )
            self.assertEqual(
                self.text(rows, "v=count()", numbers=numbers, where="x is not blank"), [2]
            )

    def test_codes_stay_codes_beside_their_sum(self):
        rows = "d,code\n2025-01-01,007\n2025-01-01,012\n"
        path = self.folder / "codes.csv"
        path.write_text(rows)
        book = ep.Daybook.read(path, date="d", by="code", measures=["v=sum(code)"])
        table = book.recap("year", by="code")
        self.assertEqual((values(table, "code"), values(table)), (["007", "012"], [7, 12]))

    def test_numbers_that_do_not_fit(self):
        for number in ("340282366920938463463374607431768211457", "1" + "0" * 307):
            for numbers in (None, "infer"):
                with self.assertRaisesRegex(ep.EptaroError, "row 1|more digits"):
                    self.text(
                        f"d,x\n2025-01-01,{number}\n2025-01-01,2\n", "v=sum(x)", numbers=numbers
                    )
        self.assertEqual(self.text("d,x\n2025-01-01,9007199254.1\n2025-01-01,0.1234567890123456\n", "v=sum(x)"),
                         [9007199254.1 + 0.1234567890123456])  # fmt: skip
        self.assertEqual(
            self.text("d,x\n2025-01-01,9007199254.1\n2025-01-01,1.5e+15\n", "v=sum(x)"),
            [9007199254.1 + 1.5e15],
        )
        with self.assertRaisesRegex(ep.EptaroError, "row 1"):
            self.text("d,x\n2025-01-01,NaN\n2025-01-01,2\n", "v=sum(x)")

    def test_marks_that_are_not_given_are_found(self):
        path = self.folder / "rows.csv"
        path.write_text("tag;betrag\n2025-01-01;1,50\n2025-01-02;2,25\n")
        book = ep.Daybook.read(
            path, date="tag", measures="v=sum(betrag)", files=ep.FileRules(decimal=",")
        )
        self.assertEqual([str(v) for v in values(book.recap("year"))], ["3.75"])
        path.write_bytes("d,x\n2025-01-01,5\n".encode("utf-16"))
        self.assertEqual(
            values(ep.Daybook.read(path, date="d", measures="v=sum(x)").recap("year")), [5]
        )
        percents = ep.NumberRules(percent=True, trailing_minus=True)
        said = self.text("d,x\n2025-01-01,12%-\n", "v=sum(x)", numbers=percents)
        self.assertEqual([str(v) for v in said], ["-0.12"])

    def test_days_of_months_that_are_worked_out(self):
        frame = {"y": [2024, 2024, 2025], "m": [1, 2, 3], "x": [1, 2, 3]}
        rules = ep.DateRules(grain="month")
        book = ep.Daybook(frame, date="date(y, m, 1)", measures="v=sum(x)", dates=rules)
        self.assertEqual(
            (str(book.coverage.first), str(book.coverage.last)), ("2024-01-01", "2025-03-31")
        )
        with self.assertRaises(ep.EptaroError):
            book.recap("week")

    def test_lookups_with_two_lines_of_one_day(self):
        lines = {"k": ["a", "a"], "z": ["p", "q"], "from": ["2025-01-01"] * 2}
        frame = {"on": ["2025-01-02"], "k": ["a"]}
        with self.assertRaisesRegex(ep.EptaroError, "2025-01-01"):
            ep.Daybook(
                frame, date="on", by="z", measures="v=count()", lookups=ep.Lookup(lines, "k")
            )


class AtRandom(unittest.TestCase):
    """Features against features at random, as `bench/meetings.py` has them."""

    def test_some_sessions(self):
        root = str(Path(__file__).parents[2] / "bench")
        sys.path.insert(0, root)
        self.addCleanup(sys.path.remove, root)
        meetings = importlib.import_module("meetings")
        values = 0
        for meeting in itertools.islice(meetings.sessions(7), 15):
            self.assertEqual([*itertools.islice(meeting.differences(), 3)], [], meeting.name)
            values += meeting.values
        self.assertGreater(values, 20_000)


class Answers(Meetings):
    """Answers that lost days, or gave a zero or a false reason for a blank."""

    def test_windows_of_days_keep_their_days(self):
        days = [dt.date(2014, 1, 1) + DAY * n for n in range(730)]
        book = ep.Daybook({"on": days, "x": [1] * 730}, date="on", measures="v=sum(x)")
        for back in ("1 month", "1 year", "2 months"):
            for row in book.compare("month", trailing="7 days", back=back).rows():
                if row["comparable"]:
                    self.assertEqual(row["prior_last"] - row["prior_first"], 6 * DAY)
                    ends = (row["prior_last"] + DAY).day == 1
                    self.assertEqual(ends, (row["last"] + DAY).day == 1, row)
        for row in book.compare("month", trailing="2 months", back="1 month").rows():
            self.assertTrue(row["prior_first"] is None or row["prior_first"].day == 1, row)

    def test_coverage_of_groups_in_indexes_shares_and_rhythms(self):
        frame = {
            "on": ["2025-01-06", "2025-01-07", "2025-02-03", "2025-03-05", "2025-04-01"],
            "x": [1, 2, 3, 4, 5],
            "g": [*"abacc"],
        }
        known = {
            "a": "2025-01-01..2025-04-01",
            "b": "2025-01-06..2025-01-07",
            "c": "2025-03-02..2025-04-01",
        }
        book = ep.Daybook(frame, date="on", by="g", measures="v=sum(x)", coverage=known)
        indexes = book.recap("month", by="g", index="2025-03", shares=True)
        rows = [row for row in indexes.rows() if row["g"] == "c"]
        self.assertEqual({row["v_index"] for row in rows}, {None})
        self.assertEqual(
            [row["v_share"] is None for row in indexes.rows()],
            [row["v"] is None for row in indexes.rows()],
        )
        weekdays = book.recap("weekday", by="g")
        for table in (indexes, weekdays):
            self.assertTrue(book.prove(table))
        rhythm = book.rhythm("weekday", by="g")
        for row in rhythm.rows():
            self.assertTrue(row["v_per_day"] is None or row["v_per_day"] == row["v_per_day"])

    def test_a_share_or_index_that_is_wrong_is_not_proved(self):
        frame = {
            "on": [dt.date(2025, 1, 1) + DAY * n for n in range(200)],
            "x": [*range(200)],
            "g": [*"ab"] * 100,
        }
        book = ep.Daybook(frame, date="on", by="g", measures="v=sum(x)")
        table = book.recap("month", by="g", index="2025-01", shares=True)
        for name in ("v_share", "v_index"):
            column = table.column(name)
            data = column.data.copy()
            data[3] += 0.25
            changed = [
                ep.core.results.column.replace(c, data=data) if c.name == name else c
                for c in table.columns
            ]
            with self.assertRaises(ep.EptaroError):
                book.prove(ep.Table(changed, table.meta, table.answer), sample=1000)

    def test_last_by_the_order_of_rows_is_told(self):
        frame = {
            "on": ["2015-06-01"] * 2 + ["2015-07-01"] * 3,
            "x": [1, 2, 3, 4, 5],
            "c": [*"ababc"],
        }
        told = "last(x): 3 rows of 2015-07-01, the last of the input counts"
        for spec, said in (("v=last(x)", True), ("v=sum(x)", False)):
            table = ep.Daybook(frame, date="on", measures=spec).recap("month")
            self.assertEqual(told in table.footer, said)
        book = ep.Daybook(frame, date="on", measures="v=last(x)", by="c")
        wide = book.recap("month", by="c", wide=True)
        self.assertNotIn("no transaction has a value", wide.footer + str(wide))

    def test_values_at_the_ends_of_what_there_is(self):
        on = ["2025-01-01", "2025-01-02"]
        least = ep.Daybook({"on": on, "x": [-(2**63), 5]}, date="on", measures="v=std(x)")
        self.assertAlmostEqual(values(least.recap("year"))[0] / 2**62.5, 1, 9)
        words = pa.DictionaryArray.from_arrays(pa.array([0, 1]), pa.array(["a", None]))
        specs = ["v=distinct(g)", "c=count(g)", "w=count(where g is blank)"]
        table = ep.Daybook({"on": on, "g": words}, date="on", measures=specs).recap("year")
        self.assertEqual([values(table, name)[0] for name in "vcw"], [1, 1, 1])
        self.parquet("1.parquet", {"k": ["a"], "v": [1]})
        self.parquet("2.parquet", {"k": [5], "w": ["x"]})
        frame = {"on": on, "k": ["a", "b"]}
        with self.assertRaises(ep.EptaroError):
            ep.Daybook(frame, date="on", measures="v=sum(v)", lookups={str(self.folder): "k"})
        with self.assertRaises(ep.EptaroError):
            ep.Daybook.read("reference://x", date="on", measures="v=count()")
        path = self.folder / "long.ndjson"
        path.write_text('{"on": "2025-01-01", "x": "' + "y" * (20 << 20) + '"}\n')
        with self.assertRaisesRegex(ep.InputError, "line|row|long"):
            ep.Daybook.read(path, date="on", measures="v=count()")

    def test_goals_of_a_wider_level_are_refused_and_parts_without_a_goal_leave_a_blank(self):
        book = ep.Daybook(
            {"on": ["2024-01-02", "2025-01-05"], "x": [1, 2]}, date="on", measures="v=sum(x)"
        )
        with self.assertRaisesRegex(ep.QuestionError, "2025 is a year"):
            book.accumulate("month", goals={"2025": 5})
        table = book.accumulate("year", goals={"2025-01": 5})
        self.assertEqual({row["v_goal"] for row in table.rows()}, {None})

    def test_stages_without_a_whole_period(self):
        book = ep.Daybook({"on": ["2025-01-10", "2025-01-20"], "x": [5, 6]}, date="on",
                          measures=["v=max(median(x) per month)", "w=max(days(on, date(2024, 2, 30)))"])  # fmt: skip
        table = book.recap("year")
        self.assertEqual((values(table), values(table, "w")), ([None], [None]))

    def test_frames_as_they_come(self):
        frame = pd.DataFrame([["2025-01-01", 1, "a", 3, 4]], columns=["on", "x", "name", "y", "y"])
        frame["mixed"] = pd.Series([object()], dtype=object)
        book = ep.Daybook(frame, date="on", by="name", measures="v=sum(x)")
        self.assertEqual(values(book.recap("year", by="name")), [1])
        with self.assertRaisesRegex(ep.InputError, "y"):
            ep.Daybook(frame, date="on", measures="v=sum(y)")

    def test_words_that_are_no_options(self):
        frame = {"on": ["2025-01-01"] * 4, "x": [0.125, 2.5, 3, 4], "g": [*"abab"]}
        for option in ("grain", "where2", "encoding"):
            with self.assertRaisesRegex(ep.EptaroError, option):
                ep.Daybook(frame, date="on", measures="v=count()", **{option: "month"})
        shown = {"measures": "v=sum(x)", "formats": {"v": ep.Format(places=2)}}
        table = ep.Daybook(frame, date="on", by="g", **shown).recap("year", by="g")
        self.assertEqual(values(table.sorted(["-g", "v"]), "g"), ["b", "a"])
        one = ep.Daybook({"on": ["2025-01-01"], "x": [0.125]}, date="on", **shown)
        self.assertIn("0.13", str(one.recap("year")))

    def test_windows_as_old_as_the_first_rows(self):
        frame = {"on": ["2025-03-01", "2025-06-01"], "x": [1, 2], "g": [*"ab"]}
        book = ep.Daybook(frame, date="on", by="g", measures="v=sum(x)")
        shards = self.shards(book)
        for as_of in ("2025-02-01", "2025-03-05", "2025-06-01"):
            said = []
            for one in (book, shards):
                try:
                    said.append([*one.recap("month", by="g", as_of=as_of).rows()])
                except ep.EptaroError as error:
                    said.append(str(error))
            self.assertEqual(*said)


if __name__ == "__main__":
    os.environ.setdefault("MPLBACKEND", "agg")
    unittest.main()
