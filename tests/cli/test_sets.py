"""A config of several data sets, asked as one from the command line."""

import csv
import io
from pathlib import Path
from unittest import mock

from eptaro.demo.files import copy_shipped
from eptaro.inputs.files.csv import CsvFile
from tests.cli.test_commands import Commands

SALES = """sold_on,branch,product,amount
2025-01-02,North,tea,10.00
2025-01-31,South,rope,20.50
2025-02-03,North,tea,30.00
2025-02-27,Harbour,tea,5.00
"""
DOORS = """day,store,count
2025-01-01,North,40
2025-01-31,South,41
2025-02-28,North,60
2025-02-28,Harbor,3
"""
CONFIG = """
[data.sales]
files = ["sales.csv"]
date = "sold_on"
coverage = "months"
measures = { revenue = "sum(amount)", n = "count()" }

[data.doors]
files = ["doors.csv"]
date = "day"
by = ["store"]
measures = { visitors = "sum(count)", n = "count()" }

[set]
names = { doors = { branch = "store" } }

[set.measures]
each = "sales.revenue / doors.visitors"
"""


class Sets(Commands):
    """`[data.NAME]` and `[set]` of a config."""

    def setUp(self):
        super().setUp()
        Path("sales.csv").write_text(SALES)
        Path("doors.csv").write_text(DOORS)
        Path("set.toml").write_text(CONFIG)

    def rows(self, *arguments):
        status, out, err = self.go(*arguments, "--config", "set.toml", "--format", "csv")
        self.assertEqual(status, 0, err)
        self.said = err
        return list(csv.DictReader(io.StringIO(out)))

    def test_measures_between_them_are_worked_out_from_totals(self):
        rows = self.rows("recap", "--per", "month", "--measure", "each")
        found = [(row["period"], float(row["each"])) for row in rows]
        self.assertEqual(found, [("2025-01", 30.5 / 81), ("2025-02", 35 / 63)])
        wide = self.rows("recap", "--per", "month", "--measure", "each", "--by", "branch", "--wide")
        self.assertEqual(float(wide[0]["North"]), 10 / 40)
        self.assertEqual(wide[1]["Harbour"], "")  # the door counter never saw this spelling
        self.assertIn("branch: sales alone has 'Harbour' (like 'Harbor')", self.said)

    def test_one_data_set_and_columns_that_one_lacks(self):
        rows = self.rows("recap", "--per", "year", "--data", "sales", "--by", "product")
        self.assertEqual([row["revenue"] for row in rows], ["20.50", "45.00"])
        rows = self.rows("recap", "--per", "year", "--by", "product", "--measure", "revenue")
        self.assertEqual([row["revenue"] for row in rows], ["20.50", "45.00"])
        for arguments, status, words in (
            (["--by", "product"], 1, "doors has no column 'product'; without it, ask measures="),
            (["--data", "shops"], 1, "unknown data set 'shops'"),
            (["--where", "amount > 3"], 2, "--where is of one data set"),
            (["--measure", "x=sum(amount)"], 1, "a set calculates with the measures of its books"),
            (["--measure", "x=revenue / shop.n"], 1, "unknown book 'shop'"),
        ):
            done = self.go("recap", "--per", "year", "--config", "set.toml", *arguments)
            self.assertEqual((done[0], words in done[2]), (status, True), done[2])
        for command in (["inspect"], ["fold", "--out", "x.parquet"]):
            status, _, err = self.go(*command, "--config", "set.toml")
            self.assertEqual((status, "name one with --data" in err), (2, True), err)

    def test_every_command_takes_a_set(self):
        for words in (
            ["accumulate", "--within", "month", "--prove"],
            ["accumulate", "--card", "--by", "branch"],
            ["trail", "--back", "2 weeks", "--every", "month", "--prove"],
            [
                "compare",
                "--per",
                "month",
                "--back",
                "1 month",
                "--details",
                "--effects",
                "weekdays",
            ],
            ["rhythm", "--per", "weekday", "--by", "branch", "--prove"],
        ):
            self.assertTrue(self.rows(*words), words)
        status, out, err = self.go("trace", "recap", "--config", "set.toml", "--per", "month",
                                   "--row", "2", "--column", "each", "--rows-to", "rows.csv")  # fmt: skip
        self.assertEqual(status, 0, err)
        self.assertIn("sum(amount) of sales:  2 transactions: 35.00", out)
        kept = list(csv.DictReader(io.StringIO(Path("rows.csv").read_text())))
        self.assertEqual(
            [(row["table"], row["row"]) for row in kept],
            [("sales", "3"), ("sales", "4"), ("doors", "3"), ("doors", "4")],
        )
        for name in ("page.html", "book.xlsx"):
            status, _, err = self.go("report", "--config", "set.toml", "--out", name)
            self.assertEqual((status, Path(name).exists()), (0, True), err)

    def test_a_config_is_written_with_the_columns_that_match(self):
        for file, text in (("sales.csv", SALES), ("doors.csv", DOORS.replace("Harbor", "Harbour"))):
            head, _, rows = text.partition("\n")
            Path(file).write_text(f"{head}\n{rows * 3}")
        status, _, err = self.go("init", "sales.csv", "doors.csv", "--out", "made.toml")
        self.assertEqual(status, 0, err)
        self.assertIn("groups that they share: branch, store in doors", err)
        status, out, err = self.go("recap", "--config", "made.toml", "--per", "year", "--format", "csv",
                                   "--measure", "ratio", "--by", "branch", "--only", "branch=South")  # fmt: skip
        self.assertEqual(status, 0, err)
        self.assertEqual(float(next(csv.DictReader(io.StringIO(out)))["ratio"]), 20.5 / 41)
        status, _, err = self.go("init", "sales.csv", "doors.csv", "--date", "day", "--replace")
        self.assertEqual((status, "are of one data set" in err), (2, True), err)

    def test_wrong_keys_are_named(self):
        for old, new, words in (
            ("[set]", "[sets]", "unknown key 'sets'"),
            ("names = { doors", "names = { shops", "set.names: unknown data set 'shops'"),
            ("each = ", "each = 7 #", "set.measures.each"),
            ('date = "day"', 'dates = "day"', "data.doors.dates"),
            ("sales.revenue / doors.visitors", "sales.income / doors.visitors", "sales.income"),
        ):
            Path("set.toml").write_text(CONFIG.replace(old, new))
            status, _, err = self.go("recap", "--config", "set.toml", "--per", "year")
            self.assertEqual((status, words in err), (1, True), (old, err))

    def test_the_log_of_voyages(self):
        copy_shipped(Path(), replace=True)
        status, out, err = self.go("compare", "--config", "voyages.toml", "--per", "quarter", "--to-date",
                                   "--by", "route", "--measure", "load", "--format", "csv", "--prove")  # fmt: skip
        self.assertEqual(status, 0, err)
        people, seats = {}, {}
        for file, column, day, kept in (("bookings.csv", "passengers", "sailed_on", people),
                                        ("voyages.csv", "seats", "sailed", seats)):  # fmt: skip
            for row in csv.DictReader(io.StringIO(Path(file).read_text())):
                if "2025-07-01" <= row[day][:10] <= "2025-08-17":
                    name = row.get("route", row.get("line"))
                    kept[name] = kept.get(name, 0) + int(row[column])
        for row in csv.DictReader(io.StringIO(out)):
            self.assertEqual((row["first"], row["last"]), ("2025-07-01", "2025-08-17"))
            expected = (
                people.get(row["route"], 0) / seats[row["route"]] if row["route"] in seats else None
            )
            self.assertEqual(row["load"] and float(row["load"]), expected or "")


class TwoDates(Commands):
    """Two date columns of one file are two data sets, and the file is read once."""

    def test_orders_beside_shipments(self):
        Path("orders.csv").write_text(
            "ordered,shipped,branch,amount\n2025-01-02,2025-01-20,North,10.50\n"
            "2025-01-30,2025-02-03,South, 7\n2025-02-10,2025-02-12,North,3.25\n"
        )
        part = '[data.{0}]\nfiles = ["orders.csv"]\ndate = "{1}"\nby = ["branch"]\ncoverage = "months"\n'
        Path("eptaro.toml").write_text(
            part.format("orders", "ordered") + 'measures = { ordered = "sum(amount)" }\n'
            + part.format("shipments", "shipped") + 'measures = { shipped = "sum(amount)" }\n'
            + '[set.measures]\nopen = "orders.ordered - shipments.shipped"\n'
        )  # fmt: skip
        with mock.patch.object(
            CsvFile, "_stream", autospec=True, side_effect=CsvFile._stream
        ) as read:
            status, out, err = self.go("recap", "--config", "eptaro.toml", "--per", "month", "--format", "csv")  # fmt: skip
        self.assertEqual((status, read.call_count), (0, 1), err)
        rows = list(csv.DictReader(io.StringIO(out)))
        self.assertEqual([row["open"] for row in rows], ["7.00", "-7.00"])
        Path("orders.csv").write_text(Path("orders.csv").read_text().replace("10.50", "ten"))
        status, _, err = self.go("recap", "--config", "eptaro.toml", "--per", "month")
        self.assertEqual((status, "'ten' is not a number" in err), (1, True), err)


class Plans(Commands):
    """A plan by the month beside daily rows: spread evenly, or in the shape of the prior year."""

    def test_it_is_spread_over_days(self):
        Path("sales.csv").write_text(
            "on,x\n2024-01-10,30\n2024-01-20,10\n2025-01-05,9\n2025-01-15,2\n"
        )
        Path("plan.csv").write_text("month,goal\n2025-01,310\n2025-02,280\n")
        text = """
[data.sales]
files = ["sales.csv"]
date = "on"
coverage = "2024-01-01..2025-01-15"
measures = { revenue = "sum(x)" }
[data.plan]
files = ["plan.csv"]
date = "month"
dates = { grain = "month" }
measures = { goal = "sum(goal)" }
spread = %s
[set.measures]
gap = "sales.revenue - plan.goal"
"""
        for spread, due in (("true", 150), ('"sales.revenue"', int(310 * 0.75 + 0.5))):
            Path("eptaro.toml").write_text(text % spread)
            status, out, err = self.go("accumulate", "--config", "eptaro.toml", "--within", "month",
                                       "--only", "2025-01-15..2025-01-15", "--format", "csv")  # fmt: skip
            self.assertEqual(status, 0, err)
            (row,) = csv.DictReader(io.StringIO(out))
            self.assertEqual((row["goal_to_date"], row["gap_to_date"]), (str(due), str(11 - due)))
        for spread, words in (
            ('"revenue"', "must be true, or name a measure"),
            ('"sales.x"', "unknown measure"),
        ):
            Path("eptaro.toml").write_text(text % spread)
            status, _, err = self.go("recap", "--config", "eptaro.toml", "--per", "month")
            self.assertEqual((status, words in err), (1, True), err)


class Restated(Commands):
    """`restated`: an earlier file, or the rows that were known by a day."""

    def test_from_two_files_and_from_one(self):
        Path("old.csv").write_text(SALES)
        Path("new.csv").write_text(SALES.replace("30.00", "33.00") + "2025-03-05,North,tea,9.00\n")
        options = ["--date", "sold_on", "--measure", "revenue=sum(amount)", "--format", "csv"]
        status, out, err = self.go("restated", "new.csv", "--before", "old.csv", "--per", "month",
                                   "--by", "branch", "--prove", *options)  # fmt: skip
        self.assertEqual(status, 0, err)
        rows = list(csv.DictReader(io.StringIO(out)))
        self.assertEqual(
            [(r["branch"], r["period"], r["revenue"], r["revenue_before"], r["revenue_change"]) for r in rows],
            [("North", "2025-02", "33.00", "30.00", "3.00")],
        )  # fmt: skip
        status, out, err = self.go(
            "restated", "old.csv", "--before", "old.csv", "--per", "month", *options[:4]
        )
        self.assertEqual(
            (status, out.partition("\n")[0]),
            (0, "Nothing has changed in any of 2 months up to 2025-02-27."),
            err,
        )
        Path("known.csv").write_text(
            "sold_on,known,amount\n2025-01-02,2025-01-03,10\n2025-01-05,2025-02-07,4\n"
            "2025-02-03,2025-02-04,7\n"
        )
        status, out, err = self.go("restated", "known.csv", "--known", "known", "--since", "2025-01-31",
                                   "--per", "month", *options)  # fmt: skip
        self.assertEqual(status, 0, err)
        (row,) = csv.DictReader(io.StringIO(out))
        self.assertEqual((row["period"], row["revenue_change"]), ("2025-01", "4"))
        for arguments, wanted in (([], 2), (["--known", "known"], 2), (["--before", "old.csv", "--only", "2025"], 2),
                                  (["--before", "gone.csv"], 1)):  # fmt: skip
            status, _, err = self.go("restated", "new.csv", "--per", "month", *options, *arguments)
            self.assertEqual(status, wanted, err)
