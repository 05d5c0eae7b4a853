"""Columns across become rows: the answers are those of the same rows written one below another."""

import csv
import json
import random
import shlex
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
from pyarrow import parquet

import eptaro as ep
from tests.commands import run_in


class Wide(unittest.TestCase):
    """Files and frames with a column a year, a month or a route."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        rng = random.Random(6)
        self.years = [str(year) for year in range(2019, 2025)]
        self.rows = [
            [route, kind, *(rng.choice([f"{rng.randint(1, 9999) / 100:.2f}", ""])
                            for _ in self.years)]
            for route in ("Norrow", "Fenholm", "Skerrick") for kind in ("car", "foot")
        ]  # fmt: skip
        self.file = self.folder / "wide.csv"
        with self.file.open("w", newline="") as file:
            csv.writer(file).writerows([["route", "kind", *self.years], *self.rows])
        self.long = [
            (year, route, kind, None if text == "" else Decimal(text))
            for route, kind, *texts in self.rows
            for year, text in zip(self.years, texts, strict=True)
        ]
        self.given = {"date": "year", "by": "route", "measures": ["s=sum(fares)", "n=count(fares)"],
                      "dates": ep.DateRules(grain="year")}  # fmt: skip

    def sources(self):
        """Yield what holds the wide table."""
        yield self.file
        columns = dict(zip(["route", "kind", *self.years], zip(*self.rows, strict=True),
                           strict=True))  # fmt: skip
        numbers = {n: [None if t == "" else Decimal(t) for t in columns[n]] for n in self.years}
        table = pa.table({"route": [*columns["route"]], "kind": [*columns["kind"]], **numbers})
        parquet.write_table(table, self.folder / "wide.parquet", row_group_size=4)
        yield self.folder / "wide.parquet"
        yield table

    def test_each_equals_the_long_rows(self):
        year, route, kind, fares = (list(part) for part in zip(*self.long, strict=True))
        long = {"year": year, "route": route, "kind": kind, "fares": pa.array(fares)}
        wanted = ep.Daybook(long, **self.given)
        for across in ("2019..2024 as year, fares", ep.Across(self.years, "year", "fares"),
                       ep.Across("20*", "year", "fares")):  # fmt: skip
            for source in self.sources():
                ways = (ep.Daybook.read,) if isinstance(source, Path) else (ep.Daybook,)
                for read in ways:
                    with self.subTest(across=across, source=type(source)):
                        book = read(source, across=across, **self.given)
                        self.assertEqual(str(book.coverage), "2019-01-01..2024-12-31")
                        for asked in ({"by": "route"}, {}):
                            self.assertEqual(
                                [*book.recap("year", **asked).rows()],
                                [*wanted.recap("year", **asked).rows()],
                            )
                        self.assertTrue(book.recap("year").trace(2, "s").agrees)
                        cars = read(source, across=across, where="kind = 'car' and fares > 5",
                                    **self.given)  # fmt: skip
                        total = sum(f for _, _, k, f in self.long if k == "car" and f and f > 5)
                        found = [*cars.recap("year", totals=False).rows()]
                        self.assertEqual(sum(row["s"] or 0 for row in found), total)

    def test_a_column_of_days_that_is_not_the_date_stays_text(self):
        path = self.folder / "opened.csv"
        path.write_text("opened,2024-01,2024-02\n2020-03-04,1,2\n2021-03-04,3,4\n")
        book = ep.Daybook.read(path, across="2024-01, 2024-02 as month, fares", date="month",
                               by="opened", measures="s=sum(fares)",
                               where="starts(opened, '2021')")  # fmt: skip
        self.assertEqual([(row["opened"], row["s"]) for row in book.recap("year", by="opened").rows()],
                         [("2021-03-04", 7)])  # fmt: skip

    def test_names_may_be_groups_and_rows_keep_their_numbers(self):
        frame = {"on": ["2024-01-01", "2024-01-02"], "fare car": [1, 2], "fare foot": [5, None]}
        book = ep.Daybook(frame, date="on", by="period", measures=["s=sum(value)"],
                          across="fare *")  # fmt: skip
        found = {row["period"]: row["s"] for row in
                 book.rhythm("month", by="period").rows() if row["s"]}  # fmt: skip
        self.assertEqual(found, {"fare car": 3, "fare foot": 5})
        (self.folder / "bad.csv").write_text("on,a,b\n2024-01-01,1,2\n2024-01-02,3,x\n")
        with self.assertRaisesRegex(ep.MeasureError, "row 2 of "):
            ep.Daybook.read(self.folder / "bad.csv", date="on", measures="s=sum(value)",
                            across="a..b")  # fmt: skip
        with self.assertRaisesRegex(ep.DateError, "row 2: "):
            ep.Daybook({"on": ["2024-01-01", "?"], "a": [1, 2], "b": [1, 2]}, date="on",
                       measures="s=sum(value)", across="a..b")  # fmt: skip

    def test_what_cannot_be_is_refused(self):
        for across, said in (
            ("2019..2030", "unknown column '2030'"),
            ("2024..2019", "'2019' comes before '2024'"),
            ("fare*", "no column fits 'fare\\*'"),
            (["2019", "x"], "names no columns"),
            (ep.Across(["2019", "x"]), "unknown column 'x'"),
            ("2019..2024 as route, fares", "there is a column 'route'"),
            (5, "names no columns"),
        ):
            with self.assertRaisesRegex(ep.InputError, said):
                ep.Daybook.read(self.file, across=across, **self.given)

    def test_the_command_line_and_a_config(self):
        (self.folder / "eptaro.toml").write_text(
            '[data]\nfiles = ["wide.csv"]\ndate = "year"\nmeasures = { s = "sum(fares)" }\n'
            'across = "2019..2024 as year, fares"\n[data.dates]\ngrain = "year"\n'
        )
        run = ["recap", "--per", "year", "--format", "json"]
        line = ["wide.csv", "--date", "year", "--measure", "s=sum(fares)", "--grain", "year",
                "--columns-across", "2019..2024 as year, fares"]  # fmt: skip
        found = []
        self.assertEqual(run_in(self.folder, "fold", *line, "--into", "book").returncode, 0)
        for given in (line, ["--config", "eptaro.toml"], ["book"]):
            done = run_in(self.folder, *run, *given)
            self.assertEqual(done.returncode, 0, done.stderr)
            found.append(json.loads(done.stdout))
        self.assertEqual(found, [found[0]] * 3)
        self.assertEqual(len(found[0]), 6)


class Named(unittest.TestCase):
    """Columns by a list of names, by a pattern with a part that is kept, and by names of months."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        rng = random.Random(9)
        self.months = ["Jan", "FEB", "march", "Apr."]
        self.rows = [(year, *(rng.randrange(100) for _ in self.months)) for year in (2023, 2024)]

    def tables(self, names):
        """Yield a frame, a CSV file and a Parquet file of the rows."""
        columns = dict(zip(["year", *names], map(list, zip(*self.rows, strict=True)), strict=True))
        yield columns
        with (self.folder / "wide.csv").open("w", newline="") as file:
            csv.writer(file).writerows([["year", *names], *self.rows])
        yield self.folder / "wide.csv"
        parquet.write_table(pa.table(columns), self.folder / "wide.parquet")
        yield self.folder / "wide.parquet"

    def read(self, table, **asked):
        return (
            ep.Daybook(table, **asked)
            if isinstance(table, dict)
            else ep.Daybook.read(table, **asked)
        )

    def test_months_across_with_a_year_column(self):
        want = {
            f"{year}-{n:02}": value
            for year, *values in self.rows
            for n, value in enumerate(values, 1)
        }
        for across in ("Jan..Apr. as month, v", "Jan, FEB, march, Apr. as month, v",
                       ep.Across(self.months, "month", "v")):  # fmt: skip
            for table in self.tables(self.months):
                with self.subTest(across=across, table=type(table)):
                    book = self.read(
                        table, date="date(year, month, 1)", across=across, measures="s=sum(v)"
                    )
                    found = {row["period"]: row["s"] for row in book.recap("month").rows()}
                    self.assertEqual({label: found[label] for label in want}, want)
                    self.assertEqual(book.prove(book.recap("year")), 2)

    def test_a_part_of_the_names_is_kept(self):
        names = [f"sold_{meat}_t" for meat in ("beef", "pork", "lamb", "hen")]
        want = {
            meat: sum(row[place] for row in self.rows)
            for place, meat in enumerate(("beef", "pork", "lamb", "hen"), 1)
        }
        for across, kind in (("sold_{meat}_t as meat, tons", "tons"), ("sold_{meat}_t", "value")):
            for table in self.tables(names):
                book = self.read(table, date="year", dates=ep.DateRules(grain="year"), by="meat",
                                 across=across, measures=f"s=sum({kind})")  # fmt: skip
                found = dict.fromkeys(want, 0)
                for row in book.recap("year", by="meat").rows():
                    found[row["meat"]] += row["s"]
                self.assertEqual(found, want)
        for across, said in (
            ("sold_{x}_kg", "no column fits"),
            ("sold_beef_t, sold_veal_t", "unknown column 'sold_veal_t'"),
            ("sold_beef_t, sold_beef_t", "names 'sold_beef_t' twice"),
        ):
            with self.assertRaisesRegex(ep.InputError, said):
                ep.Daybook(
                    next(self.tables(names)), date="year", across=across, measures="s=sum(value)"
                )


class Proposed(unittest.TestCase):
    """`inspect` and `init` see columns of months and years, and what they propose works."""

    def test_the_proposed_command_adds_up(self):
        months = [f"{n + 1}" for n in range(24)]
        tables = {
            "months.csv": ("Year,Jan,Feb,March,Apr,May,Jun,Jul,Aug,Sept,Oct,Nov,Dec,All\n"
                           f"2024,{','.join(months[:12])},78\n2025,{','.join(months[12:])},222\n", "2025-12", 24),
            "plan.csv": ("Month,port,2023,2024\nJan,Norrow,1,2\nFeb,Norrow,3,4\nJan,Sele,5,6\n", "2024-01", 8),
            "years.csv": ("ship,1999,2000,2001\nTern,4,,6\nDory,1,2,3\n", "2001", 9),
        }  # fmt: skip
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            for file, (text, period, value) in tables.items():
                (folder / file).write_text(text)
                said = run_in(folder, "inspect", file).stdout
                proposed = shlex.split(said.split("next: eptaro ")[1])
                rows = json.loads(run_in(folder, *proposed, "--format", "json").stdout)
                self.assertEqual(
                    sum(row["total"] for row in rows if row["period"] == period), value
                )
                config = f"{file}.toml"
                run_in(folder, "init", file, "--out", config)
                again = ["recap", "--config", config, "--per", "year", "--format", "json"]
                rows = json.loads(run_in(folder, *again).stdout)
                self.assertEqual(rows[-1]["period"], period[:4])

    def test_other_tables_stay_as_they_are(self):
        for columns in (
            {"on": ["2025-01-01"], "Jan": [1], "Feb": [2], "Mar": [3]},  # a date of its own
            {"year": [2025], "Jan": [1], "Mar": [2], "May": [3]},
            {"year": [2025], "Jan": [1], "Feb": [2]},
            {"month": ["a", "b", "a"], "2023": [1, 2, 3], "2024": [1, 2, 3]},
        ):
            subjects = [row["subject"] for row in ep.inspect(columns).rows()]
            self.assertNotIn("columns across", subjects)
