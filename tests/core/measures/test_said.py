"""The least, largest, first and last of texts and dates, against plain Python."""

import csv
import datetime as dt
import random
import tempfile
import unittest
from pathlib import Path

import pyarrow as pa
from pyarrow import parquet

import eptaro as ep

MEASURES = [
    "s=sum(x)", "lo=min(status)", "hi=max(status)", "opened=first(status)", "closed=last(status)", "due=min(due)",
    "paid=last(status where x > 5)", "late=max(due where status = 'paid')", "n=count(status)", "kinds=distinct(status)",
]  # fmt: skip


def rows(seed: int, count: int = 240) -> list[dict]:
    """Return orders, each at its own second."""
    rng = random.Random(seed)
    seconds = rng.sample(range(120 * 86_400), count)
    return [
        {
            "at": dt.datetime(2025, 1, 1) + dt.timedelta(seconds=second), "g": rng.choice("ab"), "x": rng.randint(1, 9),
            "status": rng.choice([None, "open", "paid", "Sent", "zurück"]), "due": dt.date(2025, 1, 1) + dt.timedelta(rng.randrange(300)),
        }
        for second in seconds
    ]  # fmt: skip


def wanted(given: list[dict]) -> dict:
    """Return what the measures come to over some rows."""
    given = sorted(given, key=lambda row: row["at"])
    told = [row["status"] for row in given if row["status"]]
    large = [row["status"] for row in given if row["status"] and row["x"] > 5]
    paid = [row["due"] for row in given if row["status"] == "paid"]
    return {
        "s": sum(row["x"] for row in given), "lo": min(told, default=None), "hi": max(told, default=None), "opened": told[0] if told else None,
        "closed": told[-1] if told else None, "due": min((row["due"] for row in given), default=None), "paid": large[-1] if large else None,
        "late": max(paid, default=None), "n": len(told), "kinds": len({*told}),
    }  # fmt: skip


class Said(unittest.TestCase):
    """From frames, files, merged and kept books, in every verb."""

    def setUp(self):
        self.given = rows(6)
        self.frame = {name: [row[name] for row in self.given] for name in self.given[0]}
        self.asked = {"date": "at", "by": "g", "measures": MEASURES}
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def held(self, book: ep.Daybook):
        for row in book.recap("week", by="g").rows():
            own = [
                r
                for r in self.given
                if r["g"] == row["g"] and row["first"] <= r["at"].date() <= row["last"]
            ]
            for name, value in wanted(own).items():
                self.assertEqual(row[name], value, (name, row))

    def test_equals_plain_python(self):
        book = ep.Daybook(self.frame, **self.asked)
        self.held(book)
        for table in (
            book.recap("month", by="g", totals=True), book.recap("quarter"), book.compare("month", back="1 month", by="g"),
            book.accumulate("month", by="g", every="week"), book.trail("40 days", by="g", every="month"),
        ):  # fmt: skip
            self.assertGreater(book.prove(table), 0)

    def test_merged_kept_and_read_from_files(self):
        halves = [{k: v[n::2] for k, v in self.frame.items()} for n in range(2)]
        one, two = (ep.Daybook(half, **self.asked) for half in halves)
        book = one.merge(two)
        self.held(ep.Daybook.open(book.write(self.folder / "book.parquet")))
        path = self.folder / "rows.parquet"
        parquet.write_table(pa.table(self.frame), path, row_group_size=30)
        self.held(ep.Daybook.read([str(path)], **self.asked))
        text = self.folder / "rows.csv"
        with text.open("w", newline="") as out:
            writer = csv.DictWriter(out, self.frame)
            writer.writeheader()
            writer.writerows(row | {"due": f"{row['due']:%d.%m.%Y} "} for row in self.given)
        rules = ep.DateRules(order="dmy")
        self.held(ep.Daybook.read([str(text)], dates=rules, **self.asked))
        self.held(ep.Daybook.read(str(text), dates=rules, **self.asked))

    def test_numbers_as_text_stay_an_error_and_kinds_do_not_mix(self):
        for values, said in ((["1", "x"], "is not a number"), (["1", "2"], "numbers as text"), (["2025-01-02", "soon"], "is not a date, and others are")):  # fmt: skip
            with self.assertRaisesRegex(ep.EptaroError, said):
                ep.Daybook({"on": ["2025-01-01"] * 2, "v": values}, date="on", measures="m=max(v)")
        one = ep.Daybook({"on": ["2025-01-01"], "v": ["x"]}, date="on", measures="m=max(v)")
        two = ep.Daybook({"on": ["2025-01-01"], "v": [3]}, date="on", measures="m=max(v)")
        none = ep.Daybook({"on": ["2025-01-01"], "v": pa.nulls(1)}, date="on", measures="m=max(v)")
        with self.assertRaisesRegex(ep.InputError, "holds text values in one part and integer"):
            one.merge(two)
        three = ep.Daybook(
            {"on": ["2025-01-01"] * 2, "v": ["a", "z"]}, date="on", measures="m=max(v)"
        )
        four = ep.Daybook({"on": ["2025-01-02"], "v": ["k"]}, date="on", measures="m=max(v)")
        self.assertEqual(one.merge(three).merge(four).recap("day")["m"].tolist(), ["z", "k"])
        for a, b in ((one, none), (none, one)):
            self.assertEqual(a.merge(b).recap("day")["m"].tolist(), ["x"])

    def test_nothing_is_reckoned_with_them(self):
        book = ep.Daybook(self.frame, **self.asked)
        for ending in ("html", "xlsx"):
            self.assertTrue(book.report(self.folder / f"r.{ending}").exists())
        self.assertNotIn("lo_change", book.compare("month").names)
        indexed = book.recap("month", index="2025-01").names
        self.assertEqual([name for name in indexed if name.startswith("lo")], ["lo"])
        for ask in (
            lambda: ep.Daybook(self.frame, date="at", measures="a=max(due)").report(self.folder / "a.html"),
            lambda: book.trail("3 days", weights=[1, 2, 3]),
            lambda: ep.Daybook(self.frame, date="at", measures="r=max(status) / sum(x)").recap("month"),
            lambda: ep.Daybook(self.frame, date="at", measures=["a=max(due)", "b=a + 1"]).recap("month"),
            lambda: ep.Daybook(self.frame, date="at", measures="r=sum(status)"),
            lambda: book.recap("month").plot(self.folder / "a.png", measure="lo"),
        ):  # fmt: skip
            with self.assertRaises(ep.EptaroError):
                ask()
