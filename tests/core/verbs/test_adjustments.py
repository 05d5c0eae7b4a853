"""Postings to adjustment periods: in years, in rows of their own beside months, in no day."""

import dataclasses
import datetime as dt
import random
import sqlite3
import tempfile
import unittest
from collections import defaultdict
from decimal import Decimal
from pathlib import Path

import eptaro as ep
from tests import oracle

RULE = {"year_starts": "04-01", "year_named": "end"}
FISCAL = ep.MonthCalendar("fiscal", prefix="FY", **RULE)
WIDE = {"quarter": 3, "half": 6}


def postings(rng, accounts):
    """Return rows of dates, accounts, periods and amounts; some periods are adjustments."""
    rows = []
    for _ in range(rng.randrange(60, 160)):
        on = dt.date(2022, 4, 1) + dt.timedelta(rng.randrange(1100))
        month = (on.month - 4) % 12 + 1
        period = month
        if rng.random() < 0.2:
            on, period = oracle.period(on, "year", RULE)[1], rng.choice([13, 14])
        rows.append((on, rng.choice(accounts), period, Decimal(rng.randrange(-999, 999)) / 100))
    return rows


def stores(rows, folder):
    """Yield books of the rows in every store and by every way in, each with its name."""
    place = Path(folder)
    text = "".join(f"{on},{account},{period},{x}\n" for on, account, period, x in rows)
    (place / "rows.csv").write_text(f"on,account,period,x\n{text}")
    with sqlite3.connect(place / "rows.db") as base:
        base.execute('create table rows ("on" text, account text, period int, x real)')
        base.executemany(
            "insert into rows values (?, ?, ?, ?)",
            [(str(on), account, period, float(x)) for on, account, period, x in rows],
        )
    base.close()
    options = {"date": "on", "by": "account", "measures": ["s=sum(x)", "n=count()", "top=max(x)"],
               "calendar": FISCAL, "adjustments": "period"}  # fmt: skip
    columns = dict(zip(("on", "account", "period", "x"), zip(*rows, strict=True), strict=True))
    yield "memory", ep.Daybook({name: [*values] for name, values in columns.items()}, **options)
    yield "stream", ep.Daybook.read(place / "rows.csv", **options)
    yield "sql", ep.Daybook.from_sql(f"sqlite:///{place / 'rows.db'}", "rows", **options)
    yield "kept", ep.Daybook.read(place / "rows.csv", into=place / "kept", shards=3, **options)
    apart = ep.Daybook.open(place / "kept")
    apart._store = dataclasses.replace(apart._store, at_once=0)
    yield "apart", apart
    ep.Daybook.read(place / "rows.csv", **options).write(place / "book.parquet")
    yield "opened", ep.Daybook.open(place / "book.parquet")


def plain(rows, key):
    """Return the sum, count and most per key."""
    found = defaultdict(list)
    for row in rows:
        if (one := key(row)) is not None:
            found[one].append(row[3])
    return {one: (sum(xs), len(xs), max(xs)) for one, xs in found.items()}


class Oracle(unittest.TestCase):
    """Every store against plain Python."""

    def check(self, table, want, by, *, level=None):
        """Compare the rows of a table that have postings, by label and group."""
        found = {}
        for row in table.rows():
            if row["n"] and (level is None or row["level"] == level):
                key = (row["period"], *(row[name] for name in by))
                found[key] = (row["s"], row["n"], row["top"])
        self.assertEqual({*found}, {*want})
        for key, values in want.items():
            for one, two in zip(found[key], values, strict=True):
                self.assertAlmostEqual(float(one), float(two))

    def test_years_have_them_and_months_have_rows_beside(self):
        for seed, by in enumerate(([], ["account"])):
            rows = postings(random.Random(seed), ["a", "b", "c"])
            rows.append((dt.date(2022, 4, 1), "a", 1, Decimal(1)))
            end = max(on for on, *_ in rows)
            with tempfile.TemporaryDirectory() as folder:
                for name, book in stores(rows, folder):
                    with self.subTest(store=name, by=by):
                        self.ask(book, rows, by, end)

    def ask(self, book, rows, by, end):
        """Ask for years, months, quarters, halves, and to date."""

        def label(row, level, *, adjusting=False):
            if (row[2] > 12) != adjusting and level != "year":
                return None
            _, _, year, number = oracle.period(row[0], "year" if adjusting else level, RULE)
            ending = {"year": "", "month": f"-M{number:02}", "quarter": f"-Q{number}",
                      "half": f"-H{number}"}[level]  # fmt: skip
            ending = f"-X{row[2]}" if adjusting else ending
            return (f"FY{year}{ending}", *(row[1:2] if by else ()))

        self.check(book.recap("year", by=by), plain(rows, lambda r: label(r, "year")), by)
        self.assertEqual(book.by, ["account"])
        for level in ("month", "quarter", "half"):
            table = book.recap(level, by=by, subtotals="year", totals=True)
            want = plain(rows, lambda r, level=level: label(r, level))
            self.check(table, want, by, level=level)
            want = plain(rows, lambda r: label(r, "month", adjusting=True))
            self.check(table, want, by, level="adjustment")
            self.check(table, plain(rows, lambda r: label(r, "year")), by, level="year")
            labels = [row["period"] for row in table.rows() if not by]
            self.assertEqual(labels[:-1], sorted(labels[:-1], key=in_order))
            # The parts and the adjustments of a group add up to its total.
            for row in table.rows():
                if row["level"] == "total":
                    parts = [r["s"] for r in table.rows() if r["level"] in (level, "adjustment")
                             and all(r[one] == row[one] for one in by)]  # fmt: skip
                    self.assertAlmostEqual(
                        float(sum(map(Decimal, map(str, parts)))), float(row["s"])
                    )
        months = [row for row in rows if row[2] <= 12]
        by_day = book.accumulate("year", by=by)
        last = [row for row in by_day.rows() if row["date"] == end]
        first = oracle.period(end, "year", RULE)[0]
        for row in last:
            mine = [r[3] for r in months if r[0] >= first and (not by or r[1] == row["account"])]
            self.assertAlmostEqual(float(row["s_to_date"] or 0), float(sum(mine)))
        count = len(rows) - len(months)
        if count:
            self.assertIn(f"left out {count} posting", by_day.footer)
        years = {row["period"]: row for row in book.compare("year", by=[]).rows()}
        whole = plain(rows, lambda r: f"FY{oracle.period(r[0], 'year', RULE)[2]}")
        for year, (total, *_) in whole.items():
            self.assertAlmostEqual(float(years[year]["s"]), float(total))
        narrow = book.recap("month", by=by, only="FY2024-Q4")
        self.assertNotIn("level", narrow)

    def test_they_are_proved_and_traced(self):
        rows = postings(random.Random(8), ["a", "b"])
        columns = dict(zip(("on", "account", "period", "x"), zip(*rows, strict=True), strict=True))
        book = ep.Daybook({name: [*values] for name, values in columns.items()}, date="on",
                          by="account", measures="s=sum(x)", calendar=FISCAL,
                          adjustments="period")  # fmt: skip
        for by in ([], "account"):
            table = book.recap("month", by=by, subtotals="year")
            self.assertGreater(book.prove(table, sample=500), len(table) - 1)
            at = next(at for at, row in enumerate(table.rows()) if row["level"] == "adjustment")
            trace = table.trace(at, "s")
            self.assertIn("adjustment_period", str(trace))
        self.assertIn("in adjustment periods", book.recap("month", by=[]).headline)


def in_order(label):
    """Return what orders the labels of one table as people read them."""
    year, _, part = label.partition("-")
    return year, {"": "Z"}.get(part, "Y" + part if part[:1] == "X" else part)


class Meetings(unittest.TestCase):
    """With own calendars, sets, templates, a wider calendar, other questions."""

    def setUp(self):
        self.rows = postings(random.Random(21), ["a", "b"])
        names = ("on", "account", "period", "x")
        columns = zip(names, zip(*self.rows, strict=True), strict=True)
        self.columns = {name: [*values] for name, values in columns}
        self.options = {"date": "on", "by": "account", "measures": "s=sum(x)"}

    def test_groups_with_calendars_of_their_own(self):
        own = ep.OwnCalendars("account", {"a": FISCAL, "b": ep.MonthCalendar("civil")})
        book = ep.Daybook(self.columns, **self.options, calendar=own, adjustments="period")
        table = book.recap("quarter", by="account", subtotals="year")
        for account, calendar in (("a", FISCAL), ("b", ep.MonthCalendar("civil"))):
            want = defaultdict(Decimal)
            for on, whose, period, x in self.rows:
                if whose == account and period > 12:
                    want[f"{calendar.period_of(on, 'year').label}-X{period}"] += x
            found = {row["period"]: row["s"] for row in table.rows()
                     if row["account"] == account and row["level"] == "adjustment"}  # fmt: skip
            self.assertEqual(found, want)

    def test_whole_years_have_rows_and_groups_keep_their_order(self):
        book = ep.Daybook(self.columns, **self.options, calendar=FISCAL, adjustments="period")
        for only in ("FY2024", "FY2023..FY2024", None):
            table = book.recap("quarter", by="account", only=only)
            self.assertIn("adjustment", table.column("level").to_list(), only)
            accounts = [row["account"] for row in table.rows()]
            self.assertEqual(accounts, sorted(accounts))
        self.assertNotIn("level", book.recap("quarter", by=[], only="FY2023-Q4..FY2024-Q4"))
        self.assertNotIn("level", book.recap("quarter", by=[], only="FY2024-Q1..FY2024-Q3"))

    def test_nothing_but_adjustments(self):
        rows = {"on": [dt.date(2024, 12, 31)] * 2, "period": [13, 14], "x": [4, 5]}
        book = ep.Daybook(rows, date="on", measures="s=sum(x)", adjustments="period")
        self.assertEqual([*book.recap("month", totals=True)["s"]], [4, 5, 9])
        with self.assertRaisesRegex(
            ep.QuestionError, r"but 2 postings to .* \(13, 14\): ask for years"
        ):
            book.accumulate("year")

    def test_thirteen_months_of_one_company(self):
        weeks = ep.WeekCalendar("weeks", pattern="13x4")
        own = ep.OwnCalendars("account", {"a": FISCAL, "b": weeks})
        book = ep.Daybook(self.columns, **self.options, calendar=own, adjustments="period")
        labels = {row["period"][-3:] for row in book.recap("month", by="account").rows()}
        self.assertIn("X14", labels)
        self.assertNotIn("X13", labels)

    def test_a_coverage_for_each_account(self):
        spans = {"a": "2022-01-01..2025-12-31", "b": "2022-04-01..2025-12-31"}
        book = ep.Daybook(self.columns, **self.options, coverage=spans, adjustments="period")
        for row in book.recap("quarter", by="account", subtotals="year").rows():
            known = row["first"] >= dt.date(2022, 1 if row["account"] == "a" else 4, 1)
            self.assertEqual(row["complete"], known, row)

    def test_thirteen_months_leave_period_13_to_a_month(self):
        weeks = ep.WeekCalendar("weeks", pattern="13x4")
        book = ep.Daybook(self.columns, **self.options, calendar=weeks, adjustments="period")
        labels = [row["period"][-3:] for row in book.recap("month", by=[]).rows()]
        self.assertIn("X14", labels)
        self.assertNotIn("X13", labels)

    def test_what_is_shown_and_what_is_refused(self):
        shown = ep.MonthCalendar(
            "fiscal", prefix="FY", shown={"year": "{start}/{end_short}"}, **RULE
        )
        book = ep.Daybook(self.columns, **self.options, calendar=shown, adjustments="period")
        self.assertRegex(str(book.recap("quarter", by=[])), r"\n20\d\d/\d\d P1[34] ")
        with self.assertRaisesRegex(
            ep.ExpressionError, r"unknown function 'nope'.*\n  nope\(x\)\n"
        ):
            ep.Daybook(self.columns, **self.options, adjustments="nope(x)")
        with self.assertRaisesRegex(ep.MeasureError, "row 1 of 'account': .* is not a number"):
            ep.Daybook(self.columns, **self.options, adjustments="account")
        with self.assertRaisesRegex(ep.QuestionError, "ledger has adjustment periods"):
            ep.BookSet({"ledger": book})
        for table in (
            book.card(), book.trail("3 months"), book.compare("month"), book.rhythm("month"),
            book.recap("month", wide=True, by="account"), book.recap("month", across="year"),
            book.recap("week", by=[]), book.recap("year", by=[], only="FY2024-Q4"),
            book.recap("quarter", by=[], only=["FY2023-Q4", "FY2024-Q4"]),
            book.recap("quarter", by=[], only=["FY2023", "FY2024"]),
            book.compare("year", trailing="12 months"), book.compare("year", to_date=True), book.compare("year", effects="weekdays"),
        ):  # fmt: skip
            self.assertRegex(table.footer, r"left out \d+ postings? to adjustment periods \(13")
        changed = self.columns | {"x": [x + (p in (3, 13)) for *_, p, x in self.rows]}
        now = ep.Daybook(changed, **self.options, calendar=shown, adjustments="period")
        for per, periods in (("month", {3}), ("year", {3, 13})):
            found = sum(now.restated(book, per)["s_change"])
            self.assertEqual(found, sum(row[2] in periods for row in self.rows))
        self.assertIn("left out postings to adjustment periods", now.restated(book).footer)
        with self.assertRaisesRegex(ep.QuestionError, "one of the two books has adjustment"):
            now.restated(ep.Daybook(self.columns, **self.options, calendar=shown))
        own = book.recap("year", by="adjustment_period")
        self.assertEqual({row["adjustment_period"] for row in own.rows()}, {0, 13, 14})

    def test_rows_added_later_and_another_column(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder)
            for number, rows in enumerate((self.rows[:40], self.rows[40:])):
                lines = (f"{on},{a},{'ADJ' if p > 12 else ''},{x}\n" for on, a, p, x in rows)
                (place / f"{number}.csv").write_text("on,account,kind,x\n" + "".join(lines))
            book = ep.Daybook.read(place / "0.csv", into=place / "kept", calendar=FISCAL,
                                   adjustments="if(kind = 'ADJ', 13, 0)", **self.options)  # fmt: skip
            book = book.add(place / "1.csv")
            found = sum(row["s"] for row in book.recap("month", by=[]).rows()
                        if row["level"] == "adjustment")  # fmt: skip
            self.assertEqual(found, sum(x for *_, p, x in self.rows if p > 12))

    def test_a_page_and_a_workbook_say_so(self):
        book = ep.Daybook(self.columns, **self.options, calendar=FISCAL, adjustments="period")
        with tempfile.TemporaryDirectory() as folder:
            for name in ("page.html", "book.xlsx"):
                self.assertTrue(book.report(Path(folder) / name).exists())
            page = (Path(folder) / "page.html").read_text(encoding="utf-8")
            self.assertNotIn("adjustment_period", page)


if __name__ == "__main__":
    unittest.main()
