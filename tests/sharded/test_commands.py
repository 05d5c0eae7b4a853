"""Books in folders on the command line."""

import csv
import io

import eptaro as ep
from eptaro.demo.files import copy_shipped
from tests.cli.test_commands import Commands

FOLD = [
    *("--date", "sailed_on", "--measure", "revenue=sum(fare)", "--measure", "trips=count()"),
    *("--by", "route", "--by", "fare_class"),
]


class Folders(Commands):
    """Made, added to, shown and asked."""

    def well(self, *words: str) -> tuple[str, str]:
        status, out, err = self.go(*words)
        self.assertEqual(status, 0, err)
        return out, err

    def test_a_folder_night_by_night(self):
        copy_shipped(self.folder / "demo")
        lines = (self.folder / "demo" / "bookings.csv").read_text().splitlines(keepends=True)
        for number in range(2):
            part = lines[1 + number * 1000 : 1001 + number * 1000]
            (self.folder / f"night{number}.csv").write_text("".join([lines[0], *part]))
        _, told = self.well("fold", "night0.csv", *FOLD, "--into", "kept", "--shards", "3")
        self.assertIn("1,000 rows in", told)
        done = self.process("fold", "night1.csv", "--into", "kept")
        self.assertRegex(done.stderr, "1,000 rows of .* added to kept: 2,000 rows in")
        out, _ = self.well("books", "kept", "--format", "csv")
        listed = [*csv.DictReader(io.StringIO(out))]
        self.assertEqual([row["files"] for row in listed], ["night0.csv", "night1.csv"])
        asked = ["--per", "month", "--by", "route", "--format", "csv"]
        whole, _ = self.well("recap", "night0.csv", "night1.csv", *FOLD[:-4], *asked)
        self.assertEqual(self.well("recap", "kept", *asked)[0], whole)
        self.well("recap", "kept", "--per", "month", "--by", "all", "--out", "answers/")
        self.assertEqual(len([*(self.folder / "answers").iterdir()]), 1)
        self.well("fold", "night1.csv", "--into", "kept", "--force")
        self.assertEqual(ep.Daybook.open(self.folder / "kept").rows, 3000)

    def test_what_cannot_be(self):
        night = "sailed_on,fare,route,fare_class\n2025-08-01,7,a,car\n"
        (self.folder / "night.csv").write_text(night)
        self.well("fold", "night.csv", *FOLD, "--into", "kept")
        again = ("fold", "night.csv", "--into", "kept")
        for words, status, said in (
            (again, 1, "in the book of night.csv already; use --force"),
            ((*again, "--force", "--by", "ship"), 1, "leave 'ship' out"),
            ((*again, "--force", "--measure", "x=count()"), 1, "leave 'x=count()' out"),
            ((*again, "--shards", "2"), 2, "has its shards"),
            ((*again, "--replace-days", "2025-07-01..2025-07-31", "--force"), 1, "beyond 2025-07-01..2025-07-31"),
            (("fold", "night.csv", *FOLD, "--into", "new", "--force"), 2, "is not there yet"),
            (("fold", "night.csv", *FOLD), 2, "Give --out FILE, or --into FOLDER"),
            (("fold", "night.csv", *FOLD, "--out", "x.parquet", "--force"), 2, "--force goes with --into"),
            (("books", "nothing"), 1, "there is no such folder"),
            (("books", "."), 1, "is no book: it has no manifest.json"),
        ):  # fmt: skip
            got, _, told = self.go(*words)
            self.assertEqual(got, status, (words, told))
            self.assertIn(said, told, words)
        self.well(*again, "--replace-days", "2025-08-01..2025-08-01", "--force")
        self.assertEqual(ep.Daybook.open(self.folder / "kept").rows, 1)

    def test_rows_without_a_date_are_counted_by_each_fold(self):
        for name, bad in (("one", 2), ("two", 1)):
            lines = [f"2025-0{7 + (name == 'two')}-0{n},7,a,car\n" for n in range(1, 4)]
            lines += ["soon,7,a,car\n"] * bad
            (self.folder / f"{name}.csv").write_text("sailed_on,fare,route,fare_class\n"
                                                     + "".join(lines))  # fmt: skip
        rejecting = ("--into", "kept", "--bad-dates", "reject")
        _, told = self.well("fold", "one.csv", *FOLD, *rejecting)
        self.assertIn("2 rows rejected: no date that can be read", told)
        _, told = self.well("fold", "two.csv", "--into", "kept")
        self.assertIn("1 row rejected: no date that can be read", told)
        out, _ = self.well("recap", "kept", "--per", "year")
        self.assertIn("left out 3 rows without a date", " ".join(out.split()))
        status, _, told = self.go("fold", "one.csv", *FOLD, *rejecting, "--rejected", "x.csv")
        self.assertEqual(status, 2)
        self.assertIn("--rejected goes with --out", told)

    def test_days_that_had_rows_already_are_named_with_the_cure(self):
        for name, first in (("one", 1), ("two", 4), ("three", 8)):
            days = "".join(f"2025-08-{first + n:02d},7,a,car\n" for n in range(4))
            (self.folder / f"{name}.csv").write_text("sailed_on,fare,route,fare_class\n" + days)
        self.well("fold", "one.csv", *FOLD, "--into", "kept")
        _, told = self.well("fold", "two.csv", "--into", "kept")
        self.assertIn("2025-08-04..2025-08-04 had rows already, and both count now", told)
        _, told = self.well("fold", "three.csv", "--into", "kept")
        self.assertNotIn("had rows already", told)
        cure = ("--replace-days", "2025-08-04..2025-08-07", "--force")
        _, told = self.well("fold", "two.csv", "--into", "kept", *cure)
        self.assertNotIn("had rows already", told)
        self.assertEqual(ep.Daybook.open(self.folder / "kept").rows, 11)
