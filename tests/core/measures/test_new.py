"""`new`: values that a group never had before, against plain sets of all rows before."""

import datetime as dt
import random
import tempfile
import unittest
from pathlib import Path

import eptaro as ep

DAY = dt.timedelta(1)


def rows(seed: int, count: int = 400) -> dict[str, list]:
    """Return purchases of few customers over half a year, some blank, in no order."""
    rng = random.Random(seed)
    return {
        "on": [dt.date(2024, 11, 1) + rng.randrange(180) * DAY for _ in range(count)],
        "g": [rng.choice(["a", "b"]) for _ in range(count)],
        "h": [rng.choice([1, 2, 3]) for _ in range(count)],
        "c": [rng.choice([None, *(f"c{n}" for n in range(70))]) for _ in range(count)],
    }


def counted(given: dict[str, list], first: dt.date, last: dt.date, **group: object) -> int:
    """Return how many customers a group first had in some days."""
    every = [dict(zip(given, row, strict=True)) for row in zip(*given.values(), strict=True)]
    own = [r for r in every if r["c"] and all(r[k] == v for k, v in group.items())]
    before = {r["c"] for r in own if r["on"] < first}
    return len({r["c"] for r in own if first <= r["on"] <= last} - before)


class New(unittest.TestCase):
    """In every verb, for any groups, of merged, saved and narrowed books."""

    def setUp(self):
        self.given = rows(3)
        self.asked = {"date": "on", "by": ["g", "h"], "measures": ["n=new(c)", "d=distinct(c)"]}
        self.book = ep.Daybook(self.given, **self.asked)

    def held(self, book: ep.Daybook, given: dict[str, list]):
        """Check a book's answers."""
        for by in ([], ["g"], ["h"], ["g", "h"]):
            tables = {
                "n": book.recap("month", by=by, totals=True),
                "n_to_date": book.accumulate("quarter", by=by, every="week"),
                "n_trailing": book.trail("45 days", by=by, every="month"),
            }
            for name, table in tables.items():
                for row in table.rows():
                    last = row.get("date") or row["last"]
                    first = row["within_first"] if "within_first" in row else row.get("first")
                    first = first or dt.date(last.year, (last.month - 1) // 3 * 3 + 1, 1)
                    group = {column: row[column] for column in by}
                    self.assertEqual(row[name], counted(given, first, last, **group), (name, row))

    def test_equals_plain_sets(self):
        self.held(self.book, self.given)

    def test_every_number_is_proved(self):
        for table in (
            self.book.recap("month", by="g", totals=True), self.book.compare("month", back="1 month", by="h"),
            self.book.accumulate("quarter", by="g", every="month"), self.book.trail("20 days", every="month", by="g"),
            self.book.recap("quarter", by="g", top=1, top_within=[], only=["2024-12..2025-03", {"h": [1, 2]}]),
        ):  # fmt: skip
            self.assertGreater(self.book.prove(table), 0)

    def test_parts_that_are_merged_and_books_that_are_kept(self):
        halves = [{k: v[n::2] for k, v in self.given.items()} for n in range(2)]
        one, two = (ep.Daybook(half, **self.asked) for half in halves)
        merged = one.merge(two)
        self.held(merged, self.given)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "book.parquet"
            merged.write(path)
            self.held(ep.Daybook.open(path), self.given)

    def test_conditions_arithmetic_and_finer_grains(self):
        measures = [
            "n=new(c where h > 1)",
            "rate=new(c) / distinct(c)",
            "most=max(new(c) per month)",
        ]
        book = ep.Daybook(self.given, date="on", by="g", measures=measures)
        some = {
            k: [v for v, h in zip(self.given[k], self.given["h"], strict=True) if h > 1]
            for k in self.given
        }
        months = []
        for row in book.recap("month").rows():
            months.append(counted(self.given, row["first"], row["last"]))
            self.assertEqual(row["n"], counted(some, row["first"], row["last"]))
        self.assertEqual(
            next(book.recap("6 months from 2024-11-01").rows())["most"], max(months[:5])
        )
        self.assertGreater(book.prove(book.recap("month", by="g")), 0)

    def test_what_it_does_not_go_with(self):
        for ask in (lambda: self.book.recap("weekday"), lambda: self.book.rhythm("month of year")):
            with self.assertRaisesRegex(ep.QuestionError, "by all days before"):
                ask()
        with self.assertRaisesRegex(ep.QuestionError, "needs whole days"):
            self.book.trail("20 entries", by="g")
        with self.assertRaisesRegex(ep.QuestionError, "needs days"):
            ep.trail_values(
                self.given | {"x": [*range(400)]}, along="x", back=3, measures="n=new(c)"
            )
        with self.assertRaisesRegex(ep.MeasureError, "counts values of a column"):
            ep.Daybook(self.given, date="on", measures="n=new(count() per day)").recap("month")
