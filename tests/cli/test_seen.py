"""What is seen and sent on, from the command line: rhythm, pictures, reports, own calendars."""

import csv
import io
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
        rows = self.rows("rhythm", *CONFIG, "--per", "kind of day", "--prove")
        self.assertEqual([row["kind_of_day"] for row in rows], ["workday", "weekend", "holiday"])
        self.assertEqual(sum(int(row["trips"]) for row in rows), 28_000)
        wide = self.rows("rhythm", *CONFIG, "--per", "weekday", "--across", "hour", "--wide")
        self.assertEqual((len(wide), len(wide[0])), (7, 25))
        boxes = self.rows("rhythm", *CONFIG, "--spread", "fare", "--per", "quarter")
        self.assertEqual(sum(int(row["entries"]) for row in boxes), 28_000)
        bins = self.rows("rhythm", "sales.csv", "--date", "date", "--bad-dates", "set-aside",
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
        config.write_text(
            config.read_text() + '\n[report]\ntitle = "Our year"\nsections = ["proof"]\n'
        )
        self.assertEqual(self.go("report", *CONFIG, "--out", "own.html")[0], 0)
        self.assertIn("<h1>Our year</h1>", Path("own.html").read_text())
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
