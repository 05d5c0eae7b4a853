"""Dates that are digits alone, years of two digits and years that span two, by plain `datetime`."""

import datetime as dt
import random
import sqlite3
import tempfile
import unittest
from collections import Counter
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet

import eptaro as ep
from tests.commands import run_in

ORDERS = {"dmy": "%d%m{}", "mdy": "%m%d{}", "ymd": "{}%m%d"}
PIVOT = 49


def written(day, order, year):
    """Return a day as digits in an order, with a year of four digits or two."""
    return day.strftime(ORDERS[order].format(year))


def read_plainly(text, order):
    """Return the day that digits are in an order, None where they are none."""
    year, rest = (text[:-4], text[-4:]) if order == "ymd" else (text[4:], text[:4])
    month, number = (rest[2:], rest[:2]) if order == "dmy" else (rest[:2], rest[2:])
    full = int(year) if len(year) == 4 else int(year) + (1900 if int(year) > PIVOT else 2000)
    try:
        return dt.date(full, int(month), int(number))
    except ValueError:
        return None


def totals(book):
    """Return the total of each day that has one."""
    return {row["first"]: row["s"] for row in book.recap("day").rows() if row["s"]}


class Digits(unittest.TestCase):
    """Columns of dates without separators, in every order, kind of column and store."""

    def books(self, texts, rules, folder):
        amounts = [*range(1, len(texts) + 1)]
        frames = {"texts": texts, "numbers": [*map(int, texts)]}
        frames["floats"] = [*map(float, texts), None]
        for kind, column in frames.items():
            numbers = amounts + [0] * (len(column) - len(amounts))
            table = pa.table({"on": column, "n": numbers})
            own = rules if kind != "floats" else ep.DateRules(**rules_of(rules), bad_dates="reject")
            yield kind, ep.Daybook(table, date="on", measures="s=sum(n)", dates=own)
        path = folder / "rows.parquet"
        pa.parquet.write_table(pa.table({"on": frames["numbers"], "n": amounts}), path)
        yield "parquet", ep.Daybook.read(path, date="on", measures="s=sum(n)", dates=rules)
        path = folder / "rows.csv"
        lines = [f"{text},{n}" for text, n in zip(texts, amounts, strict=True)]
        path.write_text("\n".join(["on,n", *lines]))
        yield "csv", ep.Daybook.read(path, date="on", measures="s=sum(n)", dates=rules)
        into = folder / f"book {rules.order} {rules.pivot}"
        yield (
            "folder",
            ep.Daybook.read(path, date="on", measures="s=sum(n)", dates=rules, into=into),
        )

    def test_each_order_in_every_kind_of_column(self):
        rng = random.Random(16)
        with tempfile.TemporaryDirectory() as name:
            for order in ORDERS:
                for year, pivot in (("%Y", None), ("%y", PIVOT)):
                    start = dt.date(rng.choice([1951, 1998, 2042]), 1, 1)
                    days = [start + dt.timedelta(rng.randrange(2_500)) for _ in range(30)]
                    expected = Counter()
                    for n, day in enumerate(days, 1):
                        expected[day] += n
                    texts = [written(day, order, year) for day in days]
                    rules = ep.DateRules(order=order, pivot=pivot)
                    for kind, book in self.books(texts, rules, Path(name)):
                        with self.subTest(order=order, year=year, kind=kind):
                            self.assertEqual(totals(book), dict(expected))

    def test_the_order_is_inferred_or_refused(self):
        rng = random.Random(17)
        decided = Counter()
        for trial in range(80):
            order, year = rng.choice([*ORDERS]), rng.choice(["%Y", "%y"])
            first = dt.date(rng.choice([1961, 1999, 2003, 2011, 2031]), 1, 1)
            days = [
                first + dt.timedelta(rng.randrange(365 * rng.randint(1, 9)))
                for _ in range(rng.randint(1, 6))
            ]
            texts = [written(day, order, year) for day in days]
            reads = {text: [o for o in ORDERS if read_plainly(text, o)] for text in texts}
            sure = {found[0] for found in reads.values() if len(found) == 1}
            column = texts if trial % 2 else [*map(int, texts)]
            rules = ep.DateRules(order="infer", pivot=PIVOT)
            with self.subTest(texts=texts):
                try:
                    book = ep.Daybook(
                        {"on": column, "s": [1] * len(days)},
                        date="on",
                        measures="s=sum(s)",
                        dates=rules,
                    )
                except ep.DateError:
                    self.assertEqual(sure, set())
                    decided["refused"] += 1
                else:
                    if not (year == "%Y" and order == "ymd"):  # read without an order
                        self.assertEqual(sure, {order})
                    self.assertEqual(totals(book), dict(Counter(days)))
                    decided[order] += 1
        self.assertGreater(min(decided[key] for key in (*ORDERS, "refused")), 3)

    def test_many_whole_numbers_that_are_close_together(self):
        rng, day = random.Random(20), dt.timedelta(1)

        def plain(value):
            try:
                return dt.datetime.strptime(str(value), "%Y%m%d").date()
            except ValueError:
                return None

        def month(value):
            return dt.date(value // 100, value % 100, 1) if 1 <= value % 100 <= 12 else None

        for given, window, read in (
            ({}, range(20240220, 20240340), plain),
            (
                {"blanks": "2024-03-01"},
                range(20240220, 20240340),
                lambda value: None if value == 20240301 else plain(value),
            ),
            ({"serials": "1900"}, range(45_000, 45_060), lambda v: dt.date(1899, 12, 30) + v * day),
            (
                {"unix": "s"},
                range(1_700_000_000, 1_700_000_300),
                lambda v: dt.datetime.fromtimestamp(v, dt.UTC).date(),
            ),
            ({"grain": "month"}, range(202311, 202420), month),
        ) * 4:
            with self.subTest(rules=given):
                values = [rng.choice([None, *window]) for _ in range(1_000)]
                days = [value and read(value) for value in values]
                rules = ep.DateRules(bad_dates="reject", **given)
                data = {
                    "on": pa.array(
                        values, rng.choice([pa.int32(), pa.uint32(), pa.int64(), pa.uint64()])
                    ),
                    "n": [*range(1_000)],
                }
                book = ep.Daybook(data, date="on", measures="s=sum(n)", dates=rules)
                expected = Counter()
                for n, at in enumerate(days):
                    expected.update({at: n} if at else {})
                rows = book.recap(rules.grain or "day").rows()
                found = {row["first"]: row["s"] for row in rows if row["s"]}
                self.assertEqual(found, {at: n for at, n in expected.items() if n})
                self.assertEqual(len(book.rejected), days.count(None))
        for begin in ("1000-01-01", "1999-12-20", "2024-02-01", "9999-11-20"):
            days = [dt.date.fromisoformat(begin) + day * rng.randrange(42) for _ in range(20_000)]
            for shift, blanks, none in (
                ("00:00", 0, ()),
                ("06:00", 9, ()),
                ("00:00", 0, days[3:4]),
            ):
                with self.subTest(begin=begin, shift=shift, none=none):
                    values = [int(f"{at:%Y%m%d}") for at in days] + [None] * blanks
                    expected = Counter(at for at in days if at not in none)
                    book = ep.Daybook(
                        {"on": values, "n": [1] * len(values)},
                        date="on",
                        measures="s=sum(n)",
                        dates=ep.DateRules(
                            bad_dates="reject", day_starts=shift, blanks=[*map(str, none)]
                        ),
                    )
                    self.assertEqual(totals(book), dict(expected))
                    self.assertEqual(len(book.rejected), len(values) - expected.total())
        huge = {"on": np.full(9, 2**63 + 5, np.uint64), "n": [1] * 9}
        with self.assertRaisesRegex(ep.InputError, "cannot be read: Integer value"):
            ep.Daybook(huge, date="on", measures="s=sum(n)")

    def test_the_day_of_a_week_and_of_a_year(self):
        rng = random.Random(19)
        days = [dt.date.fromordinal(rng.randrange(700_000, 760_000)) for _ in range(400)]
        days += [dt.date(y, m, d) for y in range(1995, 2030) for m, d in ((1, 1), (12, 31))]
        for write in (
            lambda day: "{}-W{:02}-{}".format(*day.isocalendar()),
            lambda day: "{}W{:02}{}".format(*day.isocalendar()),
            lambda day: f"{day:%Y-%j}",
            lambda day: f"{day:%Y-%j}T23:10",
        ):
            texts = [write(day) for day in days]
            with self.subTest(text=texts[0]):
                book = ep.Daybook(
                    {"on": texts, "n": [1] * len(texts)}, date="on", measures="s=sum(n)"
                )
                self.assertEqual(totals(book), dict(Counter(days)))
                found = ep.inspect({"on": texts, "n": [1] * len(texts)})
                self.assertIn(
                    "on", [row["value"] for row in found.rows() if row["subject"] == "date column"]
                )

    def test_what_is_none_is_named_with_the_rule(self):
        for value, rule in (
            (20082025, "order='dmy' or order='mdy'"),
            (20081925, "order='dmy' or order='mdy'"),
            ("20082025", "order='dmy' or order='mdy'"),
            (111597, "with pivot="),
            ("111597", "with pivot="),
        ):
            with self.subTest(value=value), self.assertRaises(ep.DateError) as caught:
                ep.Daybook({"on": [value]}, date="on", measures="n=count()")
            self.assertIn(rule, str(caught.exception))
        for texts, why in (
            (["310120", "013120", "700101"], "holds several orders"),
            (["111597"], "has a year of two digits; use pivot="),
        ):
            with self.subTest(texts=texts), self.assertRaisesRegex(ep.DateError, why):
                rules = ep.DateRules(order="infer", pivot=PIVOT if len(texts) > 1 else None)
                ep.Daybook({"on": texts}, date="on", measures="n=count()", dates=rules)
        with self.assertRaisesRegex(ep.DateError, "'1122025' is not written as %d%m%Y"):
            rules = ep.DateRules(formats="%d%m%Y")  # the first of December, or the 11th of February
            ep.Daybook({"on": ["1122025"]}, date="on", measures="n=count()", dates=rules)


def rules_of(rules):
    """Return the settings of some rules that are not the usual ones."""
    return {"order": rules.order, "pivot": rules.pivot}


class Years(unittest.TestCase):
    """Years of two digits, and years that begin in one civil year and end in the next."""

    def test_years_of_two_digits(self):
        for column in (
            [63, 49, 0, 5],
            ["63", "49", "00", "05"],
            ["'63", "'49", "'00", "'05"],
            ["63", "49", "0", "5"],
        ):
            with self.subTest(column=column):
                data = {"year": column, "n": [1, 2, 4, 8]}
                rules = ep.DateRules(grain="year", pivot=PIVOT)
                book = ep.Daybook(data, date="year", measures="s=sum(n)", dates=rules)
                rows = {row["period"]: row["s"] for row in book.recap("year").rows() if row["s"]}
                self.assertEqual(rows, {"1963": 1, "2000": 4, "2005": 8, "2049": 2})
                with self.assertRaisesRegex(ep.DateError, "year of two digits; use pivot="):
                    rules = ep.DateRules(grain="year")
                    ep.Daybook(data, date="year", measures="s=sum(n)", dates=rules)

    def test_a_calculated_date_has_a_whole_year(self):
        data = {"yr": [99, 0], "mo": [1, 2], "n": [3, 4]}
        short = "date(yr, mo, 1)"
        whole = "date(if(yr > 49, 1900, 2000) + yr, mo, 1)"
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name, "t.db")
        database = sqlite3.connect(path)
        self.addCleanup(database.close)
        database.execute("CREATE TABLE t (yr INT, mo INT, n INT)")
        database.executemany("INSERT INTO t VALUES (?, ?, ?)", zip(*data.values(), strict=True))
        database.commit()
        for kind, made in (
            ("memory", lambda **own: ep.Daybook(data, **own)),
            ("database", lambda **own: ep.Daybook.from_sql(f"sqlite:///{path}", "t", **own)),
        ):
            with self.subTest(kind=kind):
                with self.assertRaisesRegex(ep.DateError, "2 (of 2 )?rows"):
                    made(date=short, measures="s=sum(n)")
                rows = made(date=whole, measures="s=sum(n)").recap("year").rows()
                self.assertEqual([(r["period"], r["s"]) for r in rows], [("1999", 3), ("2000", 4)])
        book = ep.Daybook(data, date=whole, measures="s=sum(n where date(yr, mo, 1) is blank)")
        table = book.recap("year")
        self.assertEqual(table["s"].tolist(), [3, 4])
        book.prove(table)  # by rules of its own
        with self.assertRaisesRegex(ep.DateError, "SELECT year \\* 100 \\+ period"):
            rules = ep.DateRules(fiscal_periods=True)
            ep.Daybook.from_sql(
                f"sqlite:///{path}",
                "t",
                date=whole,
                measures="s=sum(n)",
                calendar=ep.MonthCalendar(),
                dates=rules,
            )
        query = "SELECT (2000 + yr) * 100 + mo AS on_, n FROM t"
        rules = ep.DateRules(fiscal_periods=True, grain="month")
        ledger = ep.Daybook.from_sql(
            f"sqlite:///{path}",
            query,
            date="on_",
            measures="s=sum(n)",
            calendar=ep.MonthCalendar(year_starts="07-01", prefix="FY"),
            dates=rules,
        )
        self.assertEqual(str(ledger.coverage), "1999-08-01..2098-07-31")
        with self.assertRaisesRegex(ep.DateError, r"use if\(YEAR > 49, 1900, 2000\) \+ YEAR"):
            ep.Daybook(data, date=short, measures="s=sum(n)")

    def read(self, labels, **rules):
        """Return the first and last day of the year of each label, in a year from 1 July."""
        calendar = ep.MonthCalendar("fiscal", year_starts="07-01", prefix="FY")
        return ep.Daybook(
            {"on": labels, "n": [1] * len(labels)},
            date="on",
            measures="s=sum(n)",
            calendar=calendar,
            dates=ep.DateRules(fiscal_periods=True, **rules),
        )

    def test_years_that_span_two(self):
        for form in ("{0}/{1:02}", "{0}-{1:02}", "{0}–{2}", "{0}-{2}", "FY{0}/{1:02}", "FY{0}-{2}"):
            for years in (range(1998, 2003), range(2009, 2014)):
                with self.subTest(form=form, years=years):
                    labels = [form.format(y, (y + 1) % 100, y + 1) for y in years]
                    rows = self.read(labels).recap("year").rows()
                    found = [(row["first"], row["last"], row["s"]) for row in rows]
                    whole = [(dt.date(y, 7, 1), dt.date(y + 1, 6, 30), 1) for y in years]
                    self.assertEqual(found, whole)

    def test_what_may_be_a_month_is_refused(self):
        for label in ("2010-11", "2010/11", "FY2010-11"):
            with self.subTest(label=label):
                with self.assertRaisesRegex(ep.DateError, "may be month 11 of 2010, or the year"):
                    self.read([label])
                self.assertEqual(
                    str(self.read([label], grain="year").coverage), "2010-07-01..2011-06-30"
                )
        for label, first in (("2020-21", 2020), ("FY2010/11", 2010), ("2010-2011", 2010)):
            self.assertEqual(self.read([label]).coverage.first, dt.date(first, 7, 1))
        self.assertEqual(
            str(self.read(["2010-11", "2011-12"], grain="month").coverage), "2010-05-01..2011-06-30"
        )
        months = self.read(["2010-11", "2010-10"]).recap("month").rows()
        self.assertEqual(
            [row["first"] for row in months], [dt.date(2010, 4, 1), dt.date(2010, 5, 1)]
        )

    def test_civil_months_that_may_be_years(self):
        data = {"on": ["2009-10", "2010-11"], "n": [1, 1]}
        with self.assertRaisesRegex(ep.DateError, "may be months, or years that begin in one"):
            ep.Daybook(data, date="on", measures="s=sum(n)")
        rules = ep.DateRules(grain="month")
        book = ep.Daybook(data, date="on", measures="s=sum(n)", dates=rules)
        self.assertEqual(str(book.coverage), "2009-10-01..2010-11-30")
        for others in (["2009-10"], ["2009-10", "2010-12"], ["2009-10", "2010-11", "2010-12"]):
            book = ep.Daybook({"on": others}, date="on", measures="n=count()")
            self.assertEqual(str(book.coverage)[:10], "2009-10-01")


class Proposals(unittest.TestCase):
    """What `inspect` proposes, run as it is printed."""

    def test_numbers_of_a_frame(self):
        found = ep.inspect({"date": [130598, 10698, 20798], "n": [1, 2, 3]}).rows()
        (details,) = [row["detail"] for row in found if row["value"] == "date" and row["count"]]
        self.assertEqual(details, "dates: read with order=dmy, pivot=49")

    def test_columns_that_hold_parts_of_a_date(self):
        for header, rows, expected in (
            (
                "YearSold,MonthSold,DaySold,n",
                ["2024,2,29,5", "2025,3,1,6"],
                "2024-02-29..2025-03-01",
            ),
            ("sold yr,sold month,n", ["2024,2,5", "2025,3,6"], "2024-02-01..2025-03-31"),
            ("Year,Qtr,n", ["2024,2,5", "2025,3,6"], "2024-04-01..2025-09-30"),
            ("yr,month,n", ["99,2,5", "03,3,6"], "1999-02-01..2003-03-31"),
            ("year,month,n", ["2024,2,5"] * 30 + ["2024,13,1"], "2024-02-01..2024-02-29"),
            ("year,month,n", ["2024,,5", "2025,3,6", "2025,,2"], "2024-01-01..2025-12-31"),
            ("date,n", ["130598,5", "10698,6"], "1998-05-13..1998-06-01"),
            ("date,n", ["25032025,5", "200825,6"], "2025-03-25..2025-08-20"),
            (
                "year,week,n",
                ["2024,53,1", "2020,53,2"] + ["2021,1,5"] * 30,
                "2020-12-28..2021-01-10",
            ),
            ("Year,Wk,sold_on,n", ["2024,5,2024-02-02,1"], "2024-02-02..2024-02-02"),
            ("of,year,month,n", ["2024-05,2024,5,1", "2024-07,2024,7,2"], "2024-05-01..2024-07-31"),
            ("year,n", ["63,5", "64,6"], "1963-01-01..1964-12-31"),
            ("sold_on,year,month,n", ["2024-02-03,2023,12,5"], "2024-02-03..2024-02-03"),
        ):
            with self.subTest(header=header), tempfile.TemporaryDirectory() as folder:
                Path(folder, "rows.csv").write_text("\n".join([header, *rows]))
                found = run_in(folder, "inspect", "rows.csv").stdout
                command = found.partition("next: eptaro ")[2].strip()
                self.assertTrue(command, found)
                answer = run_in(folder, *split(command))
                self.assertEqual(answer.returncode, 0, answer.stderr)
                shown = " ".join((answer.stdout + answer.stderr).split())
                self.assertIn(f"coverage {expected}", shown)


def split(command):
    """Return the words of a command."""
    import shlex

    return shlex.split(command)


if __name__ == "__main__":
    unittest.main()
