"""Measures on the totals of each value of a column, and formulas inside a finer grain."""

import datetime as dt
import itertools
import random
import sqlite3
import statistics
import tempfile
import unittest
import unittest.mock
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import pyarrow as pa
from pyarrow import csv, parquet

import eptaro as ep

DAY = dt.timedelta(1)
START = dt.date(2024, 11, 3)
INNER: dict[str, Callable] = {
    "sum(v)": lambda rows: sum(values(rows)) if values(rows) else None,
    "count()": len,
    "count(v)": lambda rows: len(values(rows)) or None,
    "mean(v)": lambda rows: sum(values(rows)) / len(values(rows)) if values(rows) else None,
    "max(v where v > 2)": lambda rows: max((v for v in values(rows) if v > 2), default=None),
    "sum(v * 3 where kind = 'a')": lambda rows: (
        sum(values(own)) * 3 if values(own := [row for row in rows if row["kind"] == "a"]) else None
    ),
    "distinct(kind)": lambda rows: len({row["kind"] for row in rows if row["kind"]}) or None,
    "median(v)": lambda rows: statistics.median(values(rows)) if values(rows) else None,
}
OUTER: dict[str, Callable] = {
    "median": statistics.median, "mean": lambda totals: sum(totals) / Fraction(len(totals)),
    "max": max, "min": min, "sum": sum, "count": len, "distinct": lambda totals: len({*totals}),
}  # fmt: skip
ZERO = {"sum": 0, "count": 0, "distinct": 0}


def values(rows: list[dict]) -> list[Fraction]:
    """Return what some rows hold."""
    return [row["v"] for row in rows if row["v"] is not None]


def made(rng: random.Random, count: int = 160) -> list[dict]:
    """Return rows of some orders, of which blanks are none."""
    kinds = ("a", "b", None)
    return [
        {
            "on": START + DAY * rng.randint(0, 150),
            "shop": rng.choice("xyz"),
            "order": rng.choice([None, *(f"{n:03d}" for n in range(25))]),
            "kind": rng.choice(kinds),
            "v": rng.choice([None, *map(Fraction, range(-4, 9))]),
        }
        for _ in range(count)
    ]


def frame(rows: list[dict], *, floats: bool = False) -> dict[str, pa.Array]:
    """Return rows as columns."""
    columns = {name: [row[name] for row in rows] for name in rows[0]}
    kept = [None if v is None else float(v) if floats else int(v) for v in columns["v"]]
    return {name: pa.array(one) for name, one in (columns | {"v": kept}).items()}


def wanted(how: str, inner: str, rows: list[dict]) -> Fraction | None:
    """Return a measure of some rows, order by order."""
    orders = {row["order"] for row in rows} - {None}
    found = [INNER[inner]([row for row in rows if row["order"] == one]) for one in sorted(orders)]
    totals = [Fraction(total) for total in found if total is not None]
    return Fraction(OUTER[how](totals)) if totals else ZERO.get(how)


class PerOrder(unittest.TestCase):
    """`how(inner per COLUMN)` in every verb and store, against plain Python."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.names = itertools.count()

    def books(self, rows: list[dict], asked: dict, *, floats: bool):
        """Yield a book of some rows in each way that it can be kept."""
        table = frame(rows, floats=floats)
        half = len(rows) // 3
        one, two = (frame(some, floats=floats) for some in (rows[:half], rows[half:]))
        yield "memory", ep.Daybook(table, **asked)
        yield "merged", ep.Daybook(one, **asked).merge(ep.Daybook(two, **asked))
        path = self.folder / f"book{next(self.names)}"
        yield "file", ep.Daybook.open(ep.Daybook(table, **asked).write(f"{path}.parquet"))
        parquet.write_table(pa.table(one), f"{path}.rows.parquet")
        csv.write_csv(pa.table(two), f"{path}.rows.csv")
        book = ep.Daybook.read(f"{path}.rows.parquet", into=path, shards=3, **asked)
        book = book.add(f"{path}.rows.csv", date="on")
        book._store = replace(book._store, at_once=0)
        yield "folder", book

    def check(self, table: ep.Table, rows: list[dict], spec: str, ending: str = "") -> int:
        how, inner = spec.split("=", 1)[1].split("(", 1)
        inner = inner.rpartition(" per ")[0]
        seen = 0
        for row in table.rows():
            inside = [
                one
                for one in rows
                if row["first"] <= one["on"] <= row["last"]
                and one["shop"] in row.get("shop", "xyz")
            ]
            want, got = wanted(how, inner, inside), row[f"v{ending}"]
            if row["last"] < min(one["on"] for one in rows):
                want = None
            self.assertEqual(got is None, want is None, (spec, row, want))
            if want is not None:
                self.assertAlmostEqual(float(got), float(want), 9, (spec, row))
            seen += 1
        return seen

    def test_verbs_and_stores_equal_plain_python(self):
        rng, seen = random.Random(8), 0
        for _ in range(4):
            rows, floats = made(rng), rng.random() < 0.5
            spec = f"v={rng.choice([*OUTER])}({rng.choice([*INNER])} per order)"
            where = rng.choice([None, "kind = 'a' or v > 0"])
            asked = {"date": "on", "by": ["shop"], "measures": spec, "where": where}
            kept = [
                row
                for row in rows
                if not where or row["kind"] == "a" or (row["v"] is not None and row["v"] > 0)
            ]
            for way, book in self.books(rows, asked, floats=floats):
                with self.subTest(way=way, spec=spec, where=where):
                    for by in (None, "shop"):
                        found = book.recap(rng.choice(["month", "week", "quarter"]), by=by)
                        seen += self.check(found, kept, spec)
                        found = book.trail(rng.choice(["20 days", "2 months"]), by=by, every="week")
                        seen += self.check(found, kept, spec, "_trailing")
                        found = book.compare("month", back="1 month", by=by)
                        seen += self.check(found, kept, spec)
                    if way in ("memory", "merged"):
                        continue
                    self.assertEqual(
                        [*book.accumulate("quarter").rows()],
                        [
                            *ep.Daybook(frame(rows, floats=floats), **asked)
                            .accumulate("quarter")
                            .rows()
                        ],
                    )
        self.assertGreater(seen, 1000)

    def test_numbers_are_proved_from_the_rows(self):
        rng = random.Random(9)
        for inner in INNER:
            spec = f"v={rng.choice([*OUTER])}({inner} per order)"
            book = ep.Daybook(frame(made(rng)), date="on", by="shop", measures=spec)
            for table in (
                book.recap("month", by="shop"), book.trail("30 days"), book.rhythm("weekday"),
                book.compare("month", back="1 month", by="shop"), book.accumulate("quarter"),
                book.trail("9 entries", every="week"),
            ):  # fmt: skip
                with self.subTest(spec=spec, verb=table.meta["verb"]):
                    self.assertGreater(book.prove(table, sample=20), 5)

    def test_many_windows_are_answered_a_part_at_a_time(self):
        from eptaro.core.measures import members

        rows, spec = made(random.Random(10)), "v=median(sum(v) per order)"
        book = ep.Daybook(frame(rows), date="on", measures=spec)
        whole = [*book.trail("40 days").rows()]
        with unittest.mock.patch.object(members, "_AT_ONCE", 50):
            self.assertEqual([*book.trail("40 days").rows()], whole)

    def test_any_column_names_whose_totals_are_meant(self):
        table = {
            "on": ["2025-01-01"] * 4,
            "order id": [7, 7, 8, 9],
            "week": [*"aabb"],
            "x": [1, 2, 3, 5],
        }
        for spec, want in (('max(sum(x) per "order id")', 5), ('min(sum(x) per "week")', 3),
                           ("sum(count() per x)", 4)):  # fmt: skip
            found = ep.Daybook(table, date="on", measures=f"v={spec}").recap("year")
            self.assertEqual(found["v"].tolist(), [want])

    def test_what_cannot_be_is_refused(self):
        for spec, said in (
            ("max(sum(x) per dey)", "did you mean 'day'.*in double quotes"),
            ("max(last(x) per k)", "last goes by the order of rows"),
            ("first(sum(x) per k)", "first goes by the order of rows"),
            ("max(sum(x) / count() per k)", "write one calculation before 'per k'"),
            ("max(sum(sum(x) per day) per k)", "a measure has one 'per'"),
            ("max(sum(x) per k + 1)", "unknown grain"),
            ("max(sum(x) per nobody)", "unknown column 'nobody'"),
        ):
            with self.subTest(spec=spec), self.assertRaisesRegex(ep.EptaroError, said):
                ep.Daybook(
                    {"on": ["2025-01-01"], "x": [1], "k": [1]}, date="on", measures=f"v={spec}"
                )
        path = self.folder / "rows.db"
        with sqlite3.connect(path) as base:
            base.execute("create table t (d date, k integer, x integer)")
            base.execute("insert into t values ('2025-01-01', 1, 2)")
        with self.assertRaisesRegex(ep.MeasureError, "needs the rows.*Daybook.read"):
            ep.Daybook.from_sql(f"sqlite:///{path}", "t", date="d", measures="v=max(sum(x) per k)")
        book = ep.Daybook(
            {"on": ["2025-01-01"], "x": [1], "k": [1]}, date="on", measures="x=sum(x)"
        )
        with self.assertRaisesRegex(ep.QuestionError, "does not keep"):
            book.recap("year", measures="max(sum(x) per k)")


class FormulaPerUnit(unittest.TestCase):
    """Arithmetic of several calculations inside a finer grain."""

    def test_ranges_of_days_equal_plain_python(self):
        rng, seen = random.Random(11), 0
        for grain in ("day", "active day", "week"):
            rows = made(rng, 300)
            by_day = "v=mean(max(v) - min(v) per {})", "w=max((sum(v) + count()) / 2 per {})"
            book = ep.Daybook(
                frame(rows), date="on", measures=[one.format(grain) for one in by_day]
            )
            table = book.recap("month")
            self.assertGreater(book.prove(table), 5)
            for row in table.rows():
                if not row["complete"]:
                    continue
                days = [row["first"] + DAY * n for n in range(row["days"])]
                units = [[day] for day in days]
                if grain == "week":
                    starts = [day for day in days if day.weekday() == 0]
                    units = [[day + DAY * n for n in range(7)] for day in starts]
                    units = [unit for unit in units if unit[-1] <= row["last"]]
                spans, halves = [], []
                for unit in units:
                    own = [one for one in rows if one["on"] in unit]
                    if not own and grain == "active day":
                        continue
                    if held := values(own):
                        spans.append(max(held) - min(held))
                    if held or not own:
                        halves.append(Fraction(sum(held) + len(own), 2))
                self.assertAlmostEqual(row["v"], float(sum(spans) / len(spans)), 9, (grain, row))
                self.assertAlmostEqual(row["w"], float(max(halves)), 9, (grain, row))
                seen += 1
        self.assertGreater(seen, 6)


if __name__ == "__main__":
    unittest.main()
