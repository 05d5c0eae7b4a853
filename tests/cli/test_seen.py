"""What is seen and sent on, from the command line: rhythm, pictures, reports, own calendars."""

import contextlib
import csv
import io
import re
import sqlite3
import subprocess
import zipfile
from pathlib import Path

from eptaro.demo.files import copy_shipped
from tests.cli.test_commands import Commands

CONFIG = ["--config", "eptaro.toml"]
COMPANIES = ["--config", "companies.toml"]


class Seen(Commands):
    """The demo's files, in the folder that they were copied to."""

    def setUp(self):
        super().setUp()
        copy_shipped(Path())

    def rows(self, *arguments):
        status, out, err = self.go(*arguments, "--format", "csv")
        self.assertEqual(status, 0, err)
        return list(csv.DictReader(io.StringIO(out)))

    def test_rhythm_in_its_forms(self):
        rows = self.rows("rhythm", *CONFIG, "--per", "day type", "--prove")
        self.assertEqual([row["day_type"] for row in rows], ["workday", "weekend", "holiday"])
        self.assertEqual(sum(int(row["trips"]) for row in rows), 28_000)
        wide = self.rows("rhythm", *CONFIG, "--per", "weekday", "--across", "hour", "--wide")
        self.assertEqual((len(wide), len(wide[0])), (7, 25))
        boxes = self.rows("rhythm", *CONFIG, "--spread", "fare", "--per", "quarter")
        self.assertEqual(sum(int(row["entries"]) for row in boxes), 28_000)
        bins = self.rows("rhythm", "sales.csv", "--date", "date", "--bad-dates", "reject",
                         "--histogram", "units", "--bins", "5")  # fmt: skip
        self.assertGreater(len(bins), 3)
        for arguments in (["--per", "weekday", "--spread", "fare", "--across", "hour"], []):
            self.assertEqual(self.go("rhythm", *CONFIG, *arguments)[0], 2)
        status, _, err = self.go("rhythm", *CONFIG, "--per", "weekdy")
        self.assertEqual((status, "did you mean 'weekday'" in err), (1, True))

    def test_pictures_are_drawn_beside_the_answer(self):
        status, out, err = self.go("compare", *CONFIG, "--per", "quarter", "--to-date", "--by", "route",
                                   "--plot", "c.png", "--kind", "steps")  # fmt: skip
        self.assertEqual(status, 0, err)
        self.assertIn("drawn to c.png", err)
        self.assertIn("Norrow-Fenholm", out)
        self.assertTrue(Path("c.png").read_bytes().startswith(b"\x89PNG"))
        for arguments, want in ((["--kind", "bars"], 2), (["--plot", "c.bmp"], 1),
                                (["--plot", "c.png", "--kind", "pie"], 1)):  # fmt: skip
            status, _, err = self.go("recap", *CONFIG, "--per", "year", *arguments)
            self.assertEqual(status, want, err)

    def test_reports_as_page_and_workbook(self):
        done = self.process("report", *CONFIG, "--out", "ferries.html", "--section", "headline",
                            "--section", "quality")  # fmt: skip
        self.assertEqual((done.returncode, done.stdout), (0, ""), done.stderr)
        self.assertIn("report written to ferries.html", done.stderr)
        page = Path("ferries.html").read_text()
        for part in ("FY2026-Q2 to date", "130,332.74", "days without rows"):
            self.assertIn(part, page)
        status, _, err = self.go("report", *COMPANIES, "--out", "w.xlsx", "--sheets", "company")
        self.assertEqual(status, 0, err)
        names = zipfile.ZipFile("w.xlsx").read("xl/workbook.xml").decode()
        for name in ("Contents", "Cafés", "Ferries", "Freight"):
            self.assertIn(f'name="{name}"', names)
        config = Path("eptaro.toml")
        self.assertEqual(self.go("report", *CONFIG, "--out", "closed.html")[0], 0)
        closed = re.sub("<[^>]*>", "", Path("closed.html").read_text())
        for part in (
            "Revenue in FY2026-M05: 50,870.43 against a plan of 52,258.06 to date (97.3%).",
            "a month of 'fiscal' shares with a month of 'cafe'".replace("'", "&#39;"),
            "6 of 39 months up to 2025-06-30 have changed.",
        ):
            self.assertIn(part, closed)
        words = config.read_text()
        config.write_text(
            words.replace(
                "[report]", '[report]\ntitle = "Our year"\nsections = ["plan", "restated"]'
            )
        )
        done = self.go("report", *CONFIG, "--out", "own.html", "--since", "2025-05-31")
        self.assertEqual(done[0], 0, done[2])
        own = Path("own.html").read_text()
        self.assertIn("<h1>Our year</h1>", own)
        own = re.sub("<[^>]*>", "", own)
        self.assertIn("months up to 2025-05-31 have changed.", own)
        self.assertNotIn("proof", own)
        for arguments, message in (
            (["--before", "bookings.csv"], "give --before FILE, or --known COLUMN"),
            (["--beside", "lunar"], "unknown calendar 'lunar'"),
            (["--goals", "none.csv"], "none.csv: cannot be read"),
        ):
            status, _, err = self.go("report", *CONFIG, "--out", "x.html", *arguments)
            self.assertTrue(status and message in err, err)
        for arguments, message in ((["--out", "x.pdf"], "report ending"), (["--out", "x.html", "--section", "no"], "unknown section"),
                                   (["--out", "no/x.html"], "cannot be written")):  # fmt: skip
            status, _, err = self.go("report", *CONFIG, *arguments)
            self.assertEqual((status, message in err), (1, True), err)

    def test_each_company_in_its_own_calendar(self):
        rows = self.rows("compare", *COMPANIES, "--per", "quarter", "--to-date", "--prove")
        self.assertEqual([(row["company"], row["calendar"], row["period"]) for row in rows],
                         [("Cafés", "cafe", "CY2026-Q3"), ("Ferries", "fiscal", "FY2026-Q2"),
                          ("Freight", "freight", "2024-Q4")])  # fmt: skip
        wide = self.rows(
            "recap",
            *COMPANIES,
            "--per",
            "month",
            "--by",
            "company",
            "--wide",
            "--calendar",
            "calendar",
        )
        self.assertEqual(list(wide[0])[-4:], ["Cafés", "Ferries", "Freight", "total"])
        Path("own.csv").write_text(
            "company,calendar\nFerries,fiscal\nCafés,cafe\nFreight,freight\n"
        )
        text = Path("companies.toml").read_text()
        line = next(part for part in text.splitlines() if part.startswith("of = "))
        Path("c.toml").write_text(text.replace(line, 'file = "own.csv"'))
        again = self.rows("compare", "--config", "c.toml", "--per", "quarter", "--to-date")
        self.assertEqual(again, rows)
        for names, message in (("company,calendr\nFerries,x\n", "row 1 has no calendar"),
                               ("company,calendar\nFerries,fiscall\n", "did you mean 'fiscal'"),
                               ("company,calendar\nFerries,fiscal\n", "has no calendar")):  # fmt: skip
            Path("own.csv").write_text(names)
            status, _, err = self.go("recap", "--config", "c.toml", "--per", "year")
            self.assertEqual((status, message in err), (1, True), err)

    def test_comparisons_with_other_sides(self):
        asked = ["compare", *CONFIG, "--per", "quarter"]
        (row,) = self.rows(*asked, "--to-date", "--against", "FY2024", "--effects", "workdays")
        self.assertEqual((row["prior_first"], row["prior_last"]), ("2023-07-01", "2023-08-20"))
        parts = [row[f"revenue_effect_of_{kind}"] for kind in ("workdays", "weekends", "holidays")]
        cents = [round(100 * float(part)) for part in [*parts, row["revenue_rest"]]]
        self.assertEqual(sum(cents), round(100 * float(row["revenue_change"])))
        (row,) = self.rows(*asked, "--to-date", "--mean-of", "2")
        self.assertEqual(row["prior_spans"], "2023-07-01..2023-08-20, 2024-07-01..2024-08-20")
        days = self.rows(*asked, "--to-date", "--every", "day")
        self.assertEqual([row["day"] for row in days], [str(n) for n in range(1, 52)])
        self.go(
            "trace",
            *asked,
            "--to-date",
            "--row",
            "1",
            "--column",
            "revenue_change",
            "--pairs-to",
            "p.csv",
        )
        self.assertEqual(len(Path("p.csv").read_text().splitlines()), 52)


class Engines(Commands):
    """One table of group and engine results, equal across all four."""

    def setUp(self):
        super().setUp()
        copy_shipped(Path())
        rows = csv.DictReader(io.StringIO(Path("bookings.csv").read_text()))
        with contextlib.closing(sqlite3.connect("shop.db")) as shop, shop:
            shop.execute(
                "CREATE TABLE bookings (sailed_on TIMESTAMP, route VARCHAR(40), fare NUMERIC(12, 2))"
            )
            shop.executemany("INSERT INTO bookings VALUES (?, ?, ?)",
                             [(r["sailed_on"].replace("T", " "), r["route"], r["fare"]) for r in rows])  # fmt: skip

    def test_all_engines_give_one_table(self):
        asked = ["--date", "sailed_on", "--by", "route", "--measure", "revenue=sum(fare)", "--measure", "n=count()",
                 "--per", "quarter", "--format", "csv"]  # fmt: skip
        found = {}
        for engine in ("stream", "sql"):
            source = (
                ["sqlite:///shop.db", "--table", "bookings"]
                if engine == "sql"
                else ["bookings.csv"]
            )
            status, out, err = self.go("recap", *source, "--engine", engine, *asked)
            self.assertEqual(status, 0, err)
            found[engine] = out
        done = self.process("recap", "bookings.csv", "--engine", "dask", *asked)
        self.assertEqual(done.returncode, 0, done.stderr)
        found["dask"] = done.stdout
        self.assertEqual(len(set(found.values())), 1)
        self.assertEqual(len(found["sql"].splitlines()), 1 + 5 * 14)

    def test_books_are_folded_apart_merged_and_asked(self):
        lines = Path("bookings.csv").read_text().splitlines(keepends=True)
        for name, part in (("north", lines[1:9000]), ("south", lines[9000:])):
            Path(f"{name}.csv").write_text(lines[0] + "".join(part))
            status, _, err = self.go("fold", f"{name}.csv", "--date", "sailed_on", "--by", "route", "--measure",
                                     "revenue=sum(fare)", "--out", f"{name}.parquet")  # fmt: skip
            self.assertEqual((status, "rows in" in err), (0, True), err)
        status, _, err = self.go("merge", "north.parquet", "south.parquet", "--out", "all.parquet")
        self.assertEqual((status, "28,000 rows in 5 groups" in err), (0, True), err)
        want = self.go("recap", "bookings.csv", "--date", "sailed_on", "--by", "route", "--measure",
                       "revenue=sum(fare)", "--per", "year", "--format", "csv")[1]  # fmt: skip
        for books in (["all.parquet"], ["north.parquet", "south.parquet"]):
            self.assertEqual(
                self.go("recap", *books, "--per", "year", "--by", "route", "--format", "csv")[1],
                want,
            )
        for arguments, status, message in (
            (
                ["merge", "north.parquet", "north.parquet", "--out", "x.parquet"],
                1,
                "count them twice",
            ),
            (
                ["recap", "all.parquet", "--per", "year", "--measure", "m=median(fare)"],
                1,
                "does not keep",
            ),
            (["merge", "bookings.csv", "all.parquet", "--out", "x.parquet"], 1, "cannot be read"),
            (
                [
                    "recap",
                    "bookings.csv",
                    "--per",
                    "year",
                    "--measure",
                    "n=count()",
                    "--table",
                    "t",
                ],
                2,
                "--engine sql",
            ),
            (
                [
                    "recap",
                    "bookings.csv",
                    "--per",
                    "year",
                    "--measure",
                    "n=count()",
                    "--engine",
                    "sql",
                ],
                2,
                "--date",
            ),
        ):
            got, _, err = self.go(*arguments)
            self.assertEqual((got, message in err), (status, True), err)

    def test_the_dimension_goes_into_a_database(self):
        asked = [
            "dimension",
            "--from",
            "2025-01-01",
            "--database",
            "sqlite:///days.db",
            "--table",
            "days",
            "--through",
        ]
        for arguments, status, message in (
            (["2025-06-30"], 0, "181 rows added"), (["2025-12-31"], 1, "already exists"),
            (["2025-12-31", "--mode", "extend"], 0, "184 rows added"), (["2025-01-31", "--mode", "replace"], 0, "31 rows"),
        ):  # fmt: skip
            got, _, err = self.go(*asked, *arguments)
            self.assertEqual((got, message in err), (status, True), err)
        self.assertEqual(
            self.go("dimension", "--from", "2025-01-01", "--through", "2025-01-02", "--table", "x")[
                0
            ],
            2,
        )


class Begun(Commands):
    """A config written after a look at the file answers questions at once."""

    def test_each_demo_file(self):
        copy_shipped(Path())
        for name, arguments, parts in (
            ("bookings", ["--year-starts", "04-01"], ['date = "sailed_on"', 'by = ["route"]', "total_fare", "[calendars.fiscal]"]),
            ("sales", [], ['date = "date"', 'by = ["vessel"]', 'bad_dates = "reject"']),
            ("consignments", [], ['order = "dmy"', 'by = ["shipper"]', 'total_charge = "sum(charge)"']),
            ("takings", [], ['date = "day"', 'by = ["company"]']),
        ):  # fmt: skip
            status, _, err = self.go("init", f"{name}.csv", *arguments, "--out", f"{name}.toml")
            self.assertEqual(status, 0, err)
            text = Path(f"{name}.toml").read_text()
            for part in parts:
                self.assertIn(part, text)
            status, out, err = self.go("recap", "--config", f"{name}.toml", "--per", "year")
            self.assertEqual((status, "tied out" in out), (0, True), err)

    def test_nothing_is_guessed_or_overwritten(self):
        Path("two.csv").write_text("a,b,x\n2025-01-01,2025-02-01,1\n2025-01-02,2025-02-02,2\n")
        Path("none.csv").write_text("a,b\nx,1\ny,2\n")
        Path("odd.csv").write_text('on,"a (b), c",id,Größe\n2025-01-01,1.5,7,2\n')
        done = self.process("init", "two.csv", stdin=subprocess.DEVNULL)
        self.assertEqual(
            (done.returncode, "several columns hold dates: a, b" in done.stderr),
            (1, True),
            done.stderr,
        )
        for options, shown in (((), False), (("--date", "a", "--by", "x"), True)):
            _, out, _ = self.go("inspect", "two.csv", *options)
            self.assertEqual("group" in next(x for x in out.splitlines() if "subject" in x), shown)
        self.assertEqual(self.go("init", "two.csv", "--date", "b")[0], 0)
        self.assertEqual(self.go("init", "odd.csv", "--out", "odd.toml")[0], 0)
        status, out, err = self.go(
            "recap", "--config", "odd.toml", "--per", "year", "--format", "csv"
        )
        self.assertEqual((status, "1.5" in out, "total_id" in out), (0, True, False), err)
        for arguments, message in ((["two.csv", "--date", "b"], "already exists"), (["none.csv", "--replace"], "no column holds dates"),
                                   (["two.csv", "--date", "c", "--replace"], "unknown column of dates"),
                                   (["two.csv", "--date", "a", "--year-starts", "02-30", "--replace"], "day")):  # fmt: skip
            status, _, err = self.go("init", *arguments)
            self.assertEqual((status, message in err), (1, True), err)
