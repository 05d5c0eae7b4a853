"""Conditions, formulas and arithmetic of measures equal plain sums over the rows that count."""

import csv
import datetime as dt
import random
import tempfile
import unittest
from collections import defaultdict
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from unittest import mock

import polars as pl

import eptaro as ep

MEASURES = [
    "revenue=sum(price * quantity)", "late=count(where delay > 15)", "cars=sum(price where fare_class = 'car')",
    "busiest=max(sum(price where fare_class = 'car') per day)", "flights=count()", "refunds=sum(-0.1 * price)",
    "margin=(sum(price * quantity) - sum(cost)) / sum(price * quantity)", "on_time=1 - late / flights", "net=revenue + refunds",
    "near=round(abs(net), 1)", "sorts=distinct(upper(fare_class))", "dear=quantile(price * quantity where delay <= 15, 0.5)",
]  # fmt: skip
BY = [
    "route",
    "size=band(price, 0, 50, 100)",
    "weekend=weekday(on) in ('Saturday', 'Sunday')",
    "long=length(fare_class)",
]
WHERE = "carrier != 'X' and (quantity between 1 and 8 or delay is blank)"


def rows(seed: int, count: int) -> list[dict]:
    """Return transactions as plain values, some of them blank."""
    rng = random.Random(seed)
    return [
        {
            "on": dt.date(2024, 11, 20) + dt.timedelta(rng.randrange(90)),
            "route": rng.choice(["North", "South"]), "carrier": rng.choice(["X", "Y", "Z"]), "fare_class": rng.choice(["car", "foot", "coach"]),
            "price": Decimal(rng.randrange(-500, 15_000)) / 100, "quantity": rng.randrange(0, 10), "cost": Decimal(rng.randrange(9000)) / 100,
            "delay": rng.choice([None, *range(0, 40, 5)]),
        }
        for _ in range(count)
    ]  # fmt: skip


def band(price: Decimal) -> str:
    """Return the band of a price, by plain comparisons."""
    return (
        "under 0"
        if price < 0
        else "0 to 50"
        if price < 50
        else "50 to 100"
        if price < 100
        else "100 and over"
    )


def oracle(given: list[dict]) -> dict:
    """Return the measures by month and groups, by plain sums over rows."""
    found = defaultdict(list)
    for row in given:
        if row["carrier"] != "X" and (1 <= row["quantity"] <= 8 or row["delay"] is None):
            groups = (
                row["route"],
                band(row["price"]),
                row["on"].weekday() > 4,
                len(row["fare_class"]),
            )
            found[(*groups, row["on"].strftime("%Y-%m"))].append(row)
    return {key: measured(own) for key, own in found.items()}


def measured(own: list[dict]) -> dict:
    """Return the measures of some rows."""
    revenue = sum(Fraction(r["price"]) * r["quantity"] for r in own)
    cost, late = (
        sum(Fraction(r["cost"]) for r in own),
        sum(r["delay"] is not None and r["delay"] > 15 for r in own),
    )
    cars = [r for r in own if r["fare_class"] == "car"]
    refunds = sum(Fraction(-r["price"]) / 10 for r in own)
    net = revenue + refunds
    tenths = Fraction(int(abs(net) * 10 + Fraction(1, 2)), 10)
    spent = sorted(
        Fraction(r["price"]) * r["quantity"]
        for r in own
        if r["delay"] is not None and r["delay"] <= 15
    )
    middle = (spent[(len(spent) - 1) // 2] + spent[len(spent) // 2]) / 2 if spent else None
    return {
        "revenue": revenue, "late": late, "cars": sum(Fraction(r["price"]) for r in cars), "flights": len(own), "refunds": refunds, "net": net,
        "margin": float((revenue - cost) / revenue) if revenue else None, "on_time": 1 - late / len(own), "near": tenths,
        "sorts": len({r["fare_class"] for r in own}), "dear": middle,
    }  # fmt: skip


class Questions(unittest.TestCase):
    """The same rows as frames and as files, by every engine of this process."""

    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.rows = rows(3, 1500)
        names = [*cls.rows[0]]
        with (cls.folder / "rows.csv").open("w", newline="") as file:
            writer = csv.writer(file)
            writer.writerow(names)
            writer.writerows([["" if v is None else v for v in row.values()] for row in cls.rows])
        cls.frame = pl.DataFrame({name: [row[name] for row in cls.rows] for name in names})
        cls.frame.write_parquet(cls.folder / "rows.parquet", row_group_size=400)
        cls.given = {"date": "on", "by": BY, "measures": MEASURES, "where": WHERE}

    def books(self):
        yield ep.Daybook(self.frame, **self.given)
        with mock.patch("eptaro.inputs.columns.formulas._EACH", 50):
            yield ep.Daybook(self.frame, **self.given)
        for name in ("rows.csv", "rows.parquet"):
            yield ep.Daybook.read(self.folder / name, **self.given)

    def test_each_equals_the_oracle_and_its_traces(self):
        wanted = oracle(self.rows)
        for book in self.books():
            table = book.recap("month", by=["route", "size", "weekend", "long"])
            seen = {}
            for row in table.rows():
                key = (row["route"], row["size"], row["weekend"], row["long"], row["period"])
                if row["flights"]:
                    seen[key] = row
            self.assertEqual(set(seen), set(wanted))
            for key, values in wanted.items():
                for name, value in values.items():
                    got = seen[key][name]
                    if isinstance(value, float) or isinstance(got, float):
                        self.assertAlmostEqual(
                            got, value, 9, (key, name)
                        ) if value is not None else self.assertIsNone(got)
                    else:
                        self.assertEqual(None if got is None else Fraction(got), value, (key, name))
            self.assertGreater(book.prove(table), 400)

    def test_the_condition_shortens_no_coverage_and_is_told(self):
        span = (min(r["on"] for r in self.rows), max(r["on"] for r in self.rows))
        for book in self.books():
            self.assertEqual((book.coverage.first, book.coverage.last), span)
        few = ep.Daybook(self.frame, date="on", measures="n=count()", where="on = '2024-12-24'")
        self.assertEqual((few.coverage.first, few.coverage.last), span)
        table = few.recap("month")
        kept = sum(r["on"] == dt.date(2024, 12, 24) for r in self.rows)
        self.assertEqual(table["n"].tolist(), [0, kept, 0, 0])
        self.assertEqual(table.meta["where"], "on = '2024-12-24'")
        self.assertEqual(table.meta["left_out"], f"{1500 - kept:,} rows")
        self.assertIn("where on = '2024-12-24'", table.footer)
        self.assertIn(
            f"1,500 read = {kept} counted + {1500 - kept:,} left out by the condition",
            str(table.meta["tie_out"]),
        )
        with self.assertRaisesRegex(ep.InputError, "no row meets the condition"):
            ep.Daybook(self.frame, date="on", measures="n=count()", where="price > 1000")

    def test_traces_list_the_rows_that_count_by_their_places_in_the_input(self):
        book = ep.Daybook.read(self.folder / "rows.csv", date="on", measures=MEASURES, where=WHERE)
        trace = book.recap("month").trace(1, "late")
        wanted = [
            number for number, r in enumerate(self.rows, 1)
            if r["on"].month == 12 and r["carrier"] != "X" and r["delay"] is not None and r["delay"] > 15
            and 1 <= r["quantity"] <= 8
        ]  # fmt: skip
        self.assertEqual(list(trace.rows), wanted)
        self.assertIn("the ones where delay > 15", str(trace))

    def test_groups_by_size_are_in_order(self):
        book = ep.Daybook(self.frame, **self.given)
        labels = [
            row["size"] for row in book.recap("year", by="size=band(price, 0, 50, 100)").rows()
        ]
        self.assertEqual(labels[::2], ["under 0", "0 to 50", "50 to 100", "100 and over"])

    def test_dates_of_three_columns(self):
        frame = self.frame.with_columns(
            y=pl.col("on").dt.year(),
            m=pl.col("on").dt.month().cast(pl.Int64),
            d=pl.col("on").dt.day().cast(pl.Int64),
        )
        book = ep.Daybook(frame, date="date(y, m, d)", measures="n=count()")
        self.assertEqual(
            book.recap("day")["n"].tolist(),
            ep.Daybook(self.frame, date="on", measures="n=count()").recap("day")["n"].tolist(),
        )
        odd = {"y": [2025, 2025], "m": [2, 2], "d": [28, 30]}
        with self.assertRaisesRegex(
            ep.DateError, "row 2: '2025, 2, 30' is not a day of the calendar"
        ):
            ep.Daybook(odd, date="date(y, m, d)", measures="n=count()")
        book = ep.Daybook(
            odd, date="date(y, m, d)", measures="n=count()", dates=ep.DateRules(bad_dates="reject")
        )
        self.assertEqual((book.rows, next(iter(book.rejected.rows()))["row"]), (1, 2))

    def test_the_date_column_is_one_of_dates_however_it_is_written(self):
        path = self.folder / "days.csv"
        path.write_text("day,x\n03.02.2025,1\n01.03.2025,2\n28.01.2025,4\n")
        rules = ep.DateRules(order="dmy")
        book = ep.Daybook.read(
            path, date="day", measures="s=sum(x)", where="day >= '2025-02-01'", dates=rules
        )
        self.assertEqual(book.recap("month")["s"].tolist(), [0, 1, 2])
        with self.assertRaisesRegex(ep.ExpressionError, "is not a date"):
            ep.Daybook.read(
                path, date="day", measures="s=sum(x)", where="day >= '01.02.2025'", dates=rules
            )

    def test_only_takes_ranges_of_periods(self):
        book = ep.Daybook(
            self.frame,
            date="on",
            measures="n=count()",
            calendar=ep.MonthCalendar("fiscal", year_starts="12-01", prefix="FY"),
        )
        every = book.recap("month")
        for only, months in (
            ("FY2025-M01..FY2025-M02", [1, 2]),
            ("..FY2025-M01", [0, 1]),
            ("FY2025-M02..", [2, 3]),
            ("2024-12-01..FY2025-Q1", [1, 2, 3]),
        ):
            table = book.recap("month", only=only)
            self.assertEqual(table["n"].tolist(), every["n"][months].tolist(), only)
        for only, said in (
            ("FY2025..FY2024", "is reversed"),
            ("FY2025-M14..", "is not a date"),
            ("..May", "is not a date"),
        ):
            with self.assertRaisesRegex(ep.EptaroError, said):
                book.recap("month", only=only)

    def test_all_stands_for_all_groups_of_a_book(self):
        book = ep.Daybook(self.frame, date="on", by=["route", "carrier"], measures="n=count()")
        self.assertEqual(
            list(book.recap("month", by="all").rows()),
            list(book.recap("month", by=["route", "carrier"]).rows()),
        )
        named = ep.Daybook(
            self.frame.rename({"route": "all"}),
            date="on",
            by=["all", "carrier"],
            measures="n=count()",
        )
        self.assertEqual(named.recap("year", by="all").names[:2], ["all", "period"])

    def test_books_keep_their_condition(self):
        whole = ep.Daybook(self.frame, **self.given)
        halves = [ep.Daybook(part, **self.given) for part in (self.frame[:700], self.frame[700:])]
        merged = halves[0].merge(halves[1])
        path = merged.write(self.folder / "book.parquet")
        for book in (merged, ep.Daybook.open(path)):
            self.assertEqual(
                list(book.recap("month", by="size").rows()),
                list(whole.recap("month", by="size").rows()),
            )
            self.assertEqual(
                book.recap("month").meta["left_out"], whole.recap("month").meta["left_out"]
            )
        other = ep.Daybook(self.frame[:700], date="on", by=BY, measures=MEASURES)
        with self.assertRaisesRegex(ep.InputError, "different conditions: .* and none"):
            halves[1].merge(other)

    def test_what_cannot_be_is_told_with_its_place(self):
        for where, said in (
            ("carier = 'X'", "did you mean 'carrier'"), ("price > 'x'", "text and a number"), ("price +", "a value is missing"), ("price", "a condition is needed"),
            ("on > '2024-02-31'", "is not a date"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ep.EptaroError, said):
                ep.Daybook(self.frame, date="on", measures="n=count()", where=where)
        for measure, said in (
            ("m=sum(fare_class)", "not a number|numbers"), ("m=sum(upper(route))", "a measure needs numbers"), ("m=late", "unknown earlier measure"), ("m=sum(price) +", "missing"),
            ("m=5", "works on a column"), ("m=sum(price) > 2", "a measure is a number"), ("m=sum(price * )", "a value is missing"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ep.EptaroError, said):
                ep.Daybook(self.frame, date="on", measures=measure)
        with self.assertRaisesRegex(ep.ExpressionError, "no numbers with decimals"):
            ep.Daybook(self.frame, date="on", measures="n=count()", by="p=price * 2")
