"""Columns of text that are compared with a date are dates, whatever their form and wherever they
are kept, and never compared letter by letter.
"""

import datetime as dt
import operator
import random
import sqlite3
import tempfile
import unittest
from pathlib import Path

import pyarrow as pa
from pyarrow import parquet

import eptaro as ep

DAY = dt.timedelta(1)
FORMS = ("%Y-%m-%d", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M", "%d %b %Y", "%Y%m%d", "%B %d, %Y")
ISO = FORMS[:3]
HOW = {
    "<": operator.lt, "<=": operator.le, ">": operator.gt, ">=": operator.ge, "=": operator.eq, "!=": operator.ne,
}  # fmt: skip


def condition(rng, days):
    """Return a condition on `paid`, and the same in plain Python."""
    one, two = sorted((rng.choice(days), rng.choice(days)))
    kind = rng.choice([*HOW, "between", "in", "turned"])
    if kind == "between":
        return f"paid between '{one}' and '{two}'", lambda day: one <= day <= two
    if kind == "in":
        return f"paid in ('{one}', '{two}')", lambda day: day in (one, two)
    if kind == "turned":
        return f"'{one}' < paid", lambda day: one < day
    return f"paid {kind} '{one}'", lambda day: HOW[kind](day, one)


class Compared(unittest.TestCase):
    """Random conditions on dates in random forms, beside the dates of the book."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def stores(self, paid, form, asked):
        """Yield the book of some texts in each way in."""
        on = [str(dt.date(2024, 1, 1) + n * DAY) for n in range(len(paid))]
        frame = {"on": on, "paid": paid, "x": list(range(len(paid)))}
        yield "frame", ep.Daybook(frame, date="on", **asked)
        yield (
            "coded",
            ep.Daybook(frame | {"paid": pa.array(paid).dictionary_encode()}, date="on", **asked),
        )
        days = [dt.date.fromisoformat(day) for day in on]  # of which row groups have statistics
        rows = pa.table(frame | {"on": days})
        parquet.write_table(rows, self.folder / "a.parquet", row_group_size=7)
        yield "parquet", ep.Daybook.read(self.folder / "a.parquet", date="on", **asked)
        lines = [f'{a},"{b or ""}",{c}\n' for a, b, c in zip(*frame.values(), strict=True)]
        (self.folder / "a.csv").write_text("on,paid,x\n" + "".join(lines))
        yield "csv", ep.Daybook.read(self.folder / "a.csv", date="on", **asked)
        folder = Path(tempfile.mkdtemp(dir=self.folder)) / "kept"
        yield "folder", ep.Daybook.read(self.folder / "a.csv", date="on", into=folder, **asked)
        if form in ISO:
            (self.folder / "a.db").unlink(missing_ok=True)
            with sqlite3.connect(self.folder / "a.db") as base:
                base.execute('create table t ("on" text, paid text, x integer)')
                base.executemany(
                    "insert into t values (?, ?, ?)", zip(*frame.values(), strict=True)
                )
            base.close()
            url = f"sqlite:///{self.folder}/a.db"
            yield "database", ep.Daybook.from_sql(url, "t", date="on", **asked)

    def test_rows_that_meet_it_are_those_of_plain_dates(self):
        rng = random.Random(12)
        for turn in range(len(FORMS)):
            form = FORMS[turn % len(FORMS)]
            times = [
                dt.datetime(2024, 2, 20) + dt.timedelta(hours=rng.randrange(24 * 40))
                for _ in range(30)
            ]
            paid = [rng.choice([f"{time:{form}}"] * 9 + [None]) for time in times]
            filled = [time.date() for time, text in zip(times, paid, strict=True) if text]
            text, meets = condition(rng, filled)
            met = [n for n, day in enumerate(times) if paid[n] and meets(day.date())]
            whole = {"measures": ["n=count()", "s=sum(x)"], "where": text}
            part = {"measures": [f"n=count(where {text})", f"s=sum(x where {text})"]}
            for asked in (part, *([whole] if met else [])):
                for store, book in self.stores(paid, form, asked):
                    with self.subTest(store, form=form, asked=asked):
                        table = book.recap("year")
                        found = sum(table["n"].tolist()), sum(filter(None, table["s"].tolist()))
                        self.assertEqual(found, (len(met), sum(met)))
                        if store in ("frame", "parquet", "csv"):
                            self.assertGreater(book.prove(table), 0)

    def test_groups_of_rows_are_not_passed_over_by_their_letters(self):
        paid = ["05 Mar 2024", "06 Mar 2024", "07 Jan 2024"]
        asked = {"measures": "n=count()", "where": "paid >= '2024-03-01'"}
        for store, book in self.stores(paid, "", asked):
            self.assertEqual(book.recap("year")["n"].tolist(), [2], store)

    def test_what_is_no_date_is_named(self):
        with self.assertRaisesRegex(ep.MeasureError, "row 2 of 'paid', .*'n/a' is not"):
            [
                *self.stores(
                    ["2024-03-05", "n/a"], "", {"measures": "count(where paid = '2024-03-05')"}
                )
            ]
        late = {"measures": "n=count(where paid >= '2024-03-01')"}
        with self.assertRaises(ep.MeasureError) as caught:
            [*self.stores(["202403"], "", late)]
        self.assertNotIn("grain", str(caught.exception))
        stamps = ["2024-03-05T10:00+01:00"]
        with self.assertRaisesRegex(ep.DateError, "'paid' holds times with an offset"):
            [*self.stores(stamps, "", late)]
        with self.assertRaisesRegex(ep.InputError, "'paid' is compared with a date, and holds"):
            [*self.stores(stamps, ISO[0], late | {"dates": ep.DateRules(zone="UTC")})]
        for paid, words in (
            (["2024-03-05", "n/a"], "row 2 of 'paid', which is compared with a date: 'n/a' is not"),
            (["02/01/2024", "03/05/2024"], "row 1 of 'paid', .*does the day or the month come"),
        ):
            for asked in (
                {"measures": "n=count(where paid >= '2024-03-01')"},
                {"measures": "n=count()", "where": "paid < '2024-03-01'"},
            ):
                with self.assertRaisesRegex(ep.MeasureError, words):
                    [*self.stores(paid, "", asked)]
                rows = [("2024-01-01", text, 1) for text in paid]
                with sqlite3.connect(self.folder / "b.db") as base:
                    base.execute('create table if not exists t ("on" text, paid text, x integer)')
                    base.execute("delete from t")
                    base.executemany("insert into t values (?, ?, ?)", rows)
                base.close()
                with self.assertRaisesRegex(ep.InputError, "'paid' is compared with a date, and h"):
                    ep.Daybook.from_sql(f"sqlite:///{self.folder}/b.db", "t", date="on", **asked)
        rules = ep.DateRules(blanks="n/a")
        frame = {"on": ["2024-01-01", "2024-01-02"], "paid": ["2024-03-05", "n/a"]}
        late = "n=count(where paid >= '2024-03-01')"
        book = ep.Daybook(frame, date="on", measures=late, dates=rules)
        self.assertEqual(book.recap("year")["n"].tolist(), [1])

    def test_other_texts_stay_texts(self):
        frame = {"on": ["2024-01-01", "2024-01-02"], "mark": ["2024-03-05b", "B 7"]}
        frame["digits"] = ["12", "13"]
        for text, count in (
            ("mark = '2024-03-05'", 0),
            ("mark = '2024-03-05b'", 1),
            ("mark > '2024-03-99'", 1),
            ("mark in ('2024-03-05', 'B 7')", 1),
            ("digits = '2024-03-05'", 0),
        ):
            book = ep.Daybook(frame, date="on", measures=f"n=count(where {text})")
            self.assertEqual(book.recap("year")["n"].tolist(), [count], text)


if __name__ == "__main__":
    unittest.main()
