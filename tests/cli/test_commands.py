"""The command line, run as a process and in place."""

import contextlib
import csv
import datetime as dt
import io
import json
import os
import re
import shlex
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import click
import holidays

from eptaro.cli.app import app
from eptaro.demo.files import copy_shipped
from tests.books import without_pictures
from tests.commands import run_in

DATA = ["--date", "on", "--measure", "revenue=sum(fare)"]
TEXT = "on,shop,fare\n2024-02-29,a,10.10\n2025-01-31,b,0.25\n2025-02-28,a,7\n"


class Commands(unittest.TestCase):
    """A folder with one small file, in which the commands run."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "rows.csv").write_text(TEXT)
        self.enterContext(contextlib.chdir(self.folder))

    def go(self, *arguments: str) -> tuple[int, str, str]:
        """Run a command in place; return its exit status, output and error output."""
        return run_in(".", *arguments)

    def process(self, *arguments: str, **options) -> subprocess.CompletedProcess:
        command = [sys.executable, "-m", "eptaro", *arguments]
        return subprocess.run(command, capture_output=True, text=True, check=False, **options)


def commands(group, context):
    """Yield every command with its name, those of groups below them too."""
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        yield name, command
        if isinstance(command, click.Group):
            yield from commands(command, context)


class Answers(Commands):
    """What the commands print and write."""

    def test_recap_as_a_process_prints_a_table_that_cuts_no_figure(self):
        done = self.process("recap", "rows.csv", *DATA, "--per", "month", "--by", "shop", "--wide")
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertIn("coverage 2024-02-29..2025-02-28 · as of 2025-02-28", done.stdout)
        self.assertIn("10.10", done.stdout)
        self.assertNotIn("…", done.stdout)
        self.assertEqual(len(done.stdout.splitlines()), 3 + 2 + 14 + 3)

    def test_json_and_csv_hold_the_same_rows(self):
        asked = ["compare", "rows.csv", *DATA, "--per", "month", "--to-date",
                 "--coverage", "2024-01-01..2025-02-28"]  # fmt: skip
        _, text, _ = self.go(*asked, "--format", "json")
        (row,) = json.loads(text)
        self.assertEqual((row["prior_last"], row["revenue_prior"]), ("2024-02-29", 10.1))
        self.assertEqual(row["revenue_change"], -3.1)
        _, text, _ = self.go(*asked, "--format", "csv")
        (line,) = csv.DictReader(io.StringIO(text))
        self.assertEqual((line["prior_last"], line["revenue_change"]), ("2024-02-29", "-3.10"))

    def test_out_writes_a_file_and_says_where(self):
        status, out, err = self.go(
            "accumulate", "rows.csv", *DATA, "--within", "year", "--out", "t.md"
        )
        self.assertEqual((status, out, err), (0, "", "366 rows written to t.md\n"))
        self.assertIn("| 2025-02-28 | 2025 |", Path("t.md").read_text())

    def test_rows_that_are_left_out_are_counted(self):
        asked = ["accumulate", "rows.csv", *DATA, "--within", "month", "--rows", "5"]
        _, out, _ = self.go(*asked)
        self.assertIn("361 of 366 rows are not shown", out)
        self.assertEqual(sum(line.startswith("202") for line in out.splitlines()), 5)

    def test_the_fiscal_options_make_the_calendar(self):
        _, out, _ = self.go("recap", "rows.csv", *DATA, "--per", "year", "--year-starts", "02-01",
                            "--prefix", "FY", "--only", "FY2026", "--format", "json")  # fmt: skip
        self.assertEqual([row["period"] for row in json.loads(out)], ["FY2026"])

    def test_holidays_of_a_file_or_a_country_are_no_workdays(self):
        (self.folder / "off.csv").write_text("date,name\n2025-01-31,Skerry Day\n")
        (self.folder / "old.csv").write_text("date,name\n1999-01-29,Skerry Day\n")
        asked = ("recap", "rows.csv", *DATA, "--per", "day type", "--format", "csv")
        days = [dt.date(2024, 2, 29) + dt.timedelta(n) for n in range(366)]
        weekdays = {day for day in days if day.weekday() < 5}
        country = holidays.country_holidays("PT", years=[2024, 2025])
        for given, off, said in (
            ((), [], ""), (("--holidays", "off.csv"), [dt.date(2025, 1, 31)], ""),
            (("--holidays", "PT"), [*country], ""), (("--holidays", "old.csv"), [], "no holiday of old.csv is in the years 2024 to 2025: they are from 1999-01-29"),
        ):  # fmt: skip
            with self.subTest(given=given):
                status, out, err = self.go(*asked, *given)
                rows = {
                    row["day_type"]: int(row["days"]) for row in csv.DictReader(io.StringIO(out))
                }
                self.assertEqual((status, rows["workday"]), (0, len(weekdays - {*off})))
                self.assertEqual(rows.get("holiday", 0), len(weekdays & {*off}))
                self.assertIn(said, err)
        self.assertIn(
            "nowhere.csv: cannot be read", self.go(*asked, "--holidays", "nowhere.csv")[2]
        )
        self.assertIn("unknown country 'ZZ'", self.go(*asked, "--holidays", "ZZ")[2])

    def test_holidays_hold_for_dimensions_annotations_and_books(self):
        (self.folder / "off.csv").write_text("date,name\n2025-01-31,Skerry Day\n")
        off = ("--holidays", "off.csv")
        status, out, err = self.go("dimension", "--from", "2025-01-30", "--through", "2025-01-31",
                                   "--columns", "date,holiday_name", "--format", "csv", *off)  # fmt: skip
        self.assertEqual((status, out.split()[-2:]), (0, ["2025-01-31,Skerry", "Day"]), err)
        self.assertEqual(
            self.go(
                "annotate",
                "rows.csv",
                "--date",
                "on",
                "--add",
                "holiday_name",
                "--out",
                "more.csv",
                *off,
            )[0],
            0,
        )
        with (self.folder / "more.csv").open() as file:
            self.assertEqual(
                [row["holiday_name"] for row in csv.DictReader(file)], ["", "Skerry Day", ""]
            )
        self.assertEqual(self.go("fold", "rows.csv", *DATA, "--out", "plain.parquet")[0], 0)
        self.assertEqual(self.go("fold", "rows.csv", *DATA, "--out", "off.parquet", *off)[0], 0)
        for book, given in (("plain.parquet", off), ("off.parquet", ())):
            _, out, err = self.go("recap", book, "--per", "day type", "--format", "csv", *given)
            self.assertIn("holiday,1,0.25", out, err)

    def test_a_measure_is_shown_as_asked_from_rows_and_from_books(self):
        asked = ("--per", "year", "--only", "2025")
        measured = ("--date", "on", "--measure", "share=sum(fare) / 100")
        for into in ("kept.parquet", "kept/"):
            self.assertEqual(
                self.go(
                    "fold",
                    "rows.csv",
                    *measured,
                    *(["--into", into] if into[-1] == "/" else ["--out", into]),
                )[0],
                0,
            )
        for source in (("rows.csv", *measured), ("kept.parquet",), ("kept/",)):
            for how, text in (
                ("percent", "7.25%"),
                ("percent,0", "7%"),
                ("5", "0.07250"),
                ("$", "$0.07"),
            ):
                with self.subTest(source=source[0], how=how):
                    status, out, err = self.go("recap", *source, *asked, "--show", f"share={how}")
                    self.assertEqual((status, text in out.split()), (0, True), out + err)
            self.assertIn(
                "unknown measure 'shar'", self.go("recap", *source, *asked, "--show", "shar=4")[2]
            )

    def test_a_measure_of_a_config_is_asked_for_by_its_name(self):
        (self.folder / "eptaro.toml").write_text(
            '[data]\nfiles = ["rows.csv"]\ndate = "on"\n'
            '[data.measures]\nrevenue = "sum(fare)"\nlargest = "max(fare)"\n'
        )
        asked = (
            "recap",
            "--config",
            "eptaro.toml",
            "--per",
            "year",
            "--only",
            "2025",
            "--format",
            "csv",
        )
        for names, heads in (
            (["largest"], "largest"),
            (["n=count()", "revenue"], "n,revenue"),
            (["largest=sum(fare)"], "largest"),
        ):
            status, out, err = self.go(*asked, *(w for name in names for w in ("--measure", name)))
            self.assertEqual((status, out.split()[0].endswith(f",{heads}")), (0, True), out + err)
        self.assertIn("7.25", out)  # what is written out goes before the name
        wrong = self.go(*asked, "--measure", "revenu")[2]
        self.assertIn("unknown measure 'revenu': did you mean 'revenue'?", wrong)

    def test_a_file_without_a_header_and_numbers_that_are_0(self):
        (self.folder / "bare.csv").write_text("2024-02-29,a,10.10\n2025-01-31,b,0.25\n")
        asked = (
            "recap",
            "bare.csv",
            "--date",
            "c1",
            "--measure",
            "s=sum(c3)",
            "--per",
            "year",
            "--format",
            "csv",
        )
        status, out, _ = self.go(*asked, "--header-row", "none")
        self.assertEqual(
            (status, [row["s"] for row in csv.DictReader(io.StringIO(out))]), (0, ["10.10", "0.25"])
        )
        for wrong, said in (("0", "header_row=0 is neither"), ("x", "neither a number nor none")):
            status, _, err = self.go(*asked, "--header-row", wrong)
            self.assertTrue(status and said in err, err)

    def test_dimension_has_both_calendars(self):
        _, out, _ = self.go("dimension", "--from", "2025-03-31", "--through", "2025-04-01",
                            "--year-starts", "04-01", "--format", "csv")  # fmt: skip
        rows = list(csv.DictReader(io.StringIO(out)))
        self.assertEqual([row["fiscal_year"] for row in rows], ["2025", "2026"])
        self.assertEqual([row["calendar_quarter_label"] for row in rows], ["2025-Q1", "2025-Q2"])
        _, out, _ = self.go("dimension", "--from", "2025-03-31", "--through", "2025-04-01")
        self.assertRegex(out, r"calendar_year_first +2025-01-01 +2025-01-01")

    def test_help_begins_with_the_question_and_shows_the_rest_on_request(self):
        _, out, _ = self.go("--help")
        for name in ("recap", "accumulate", "trail", "compare", "rhythm"):
            self.assertIn(name, out)
            status, text, _ = self.go(name, "--help")
            self.assertEqual(status, 0)
            heads = re.findall(r"^(\w[^:\n]*):$", text, re.M)
            self.assertEqual(
                heads[:4],
                ["The question", "Groups and narrowing", "Calendar", "As-of and coverage"],
            )
            self.assertNotIn("--serials", text)
            self.assertIn(f"eptaro {name} --help-all", text)
            _, whole, _ = self.go(name, "--help-all")
            for option in ("--serials", "--delimiter", "--client", "--long-month", "--theme"):
                self.assertIn(option, whole)
            self.assertLess(len(text.splitlines()), 100)

    def test_every_example_of_help_runs_on_the_demo(self):
        copy_shipped(Path("eptaro-demo"))
        self.enterContext(without_pictures())
        found = 0
        for name, command in commands(app, click.Context(app)):
            for _, words in getattr(command, "examples", ()):
                if name in ("demo", "merge"):
                    continue
                found += 1
                status, _, err = self.go(*shlex.split(words))
                self.assertEqual((status, name, err if status else ""), (0, name, ""), words)
            self.assertTrue(
                isinstance(command, click.Group) or getattr(command, "examples", ()), name
            )
        self.assertGreater(found, 30)

    def test_options_that_are_not_known_are_met_by_the_one_meant(self):
        for said, meant in (
            ("--group", "--by"),
            ("--filter", "--where"),
            ("--plot-kind", "--kind"),
            ("--meazure", "--measure"),
        ):
            status, _, err = self.go("recap", "rows.csv", *DATA, said, "x")
            self.assertEqual((status, meant in err), (2, True), err)
        for command, said, meant in (
            ("dimension", "--to", "--through: Last day"),
            ("dimension", "--start", "--from: First day"),
            ("recap", "--until", "--as-of: The last day"),
        ):
            self.assertIn(f"No such option {said!r}. Use {meant}", self.go(command, said, "x")[2])

    def test_how_much_is_said(self):
        _, out, err = self.go(
            "recap", "rows.csv", *DATA, "--per", "month", "--where", "fare > 1", "-q"
        )
        self.assertEqual((err, "tied out" in out, "as of" in out), ("", False, False))
        _, _, err = self.go("recap", "rows.csv", *DATA, "--per", "month", "-v")
        for told in ("read and folded: ", "calendar: ", "coverage: ", "kernel: ", "shown: "):
            self.assertIn(told, err)
        _, _, err = self.go("recap", "rows.csv", *DATA, "--per", "month")
        self.assertEqual(err, "")

    def test_columns_are_chosen_and_what_does_not_fit_is_named(self):
        asked = ["compare", "rows.csv", *DATA, "--per", "month", "--by", "shop"]
        _, out, _ = self.go(*asked, "--columns", "shop,revenue_change", "--format", "csv")
        self.assertEqual(out.splitlines()[0], "shop,revenue_change")
        _, out, _ = self.go(*asked, "--columns", "Shop, % change,prior days", "--format", "csv")
        self.assertEqual(out.splitlines()[0], "shop,revenue_change_ratio,prior_first,prior_last")
        _, out, _ = self.go(
            "recap", "rows.csv", *DATA, "--per", "month", "--columns", "days", "--format", "csv"
        )
        self.assertEqual(out.splitlines()[0], "days")  # a name comes before a heading
        status, _, err = self.go(*asked, "--columns", "shop,changes")
        self.assertEqual((status, "unknown column 'changes'" in err), (1, True))
        with mock.patch.dict(os.environ, {"COLUMNS": "80"}):
            _, out, _ = self.go(*asked)
            self.assertIn("not shown: ", out)
            self.assertLessEqual(max(len(line.rstrip()) for line in out.splitlines()[:-2]), 80)
        _, out, _ = self.go(*asked, "--all-columns")
        self.assertIn("clamped", out)
        self.assertIn("2024-02-01  2024-02-29", out)

    def test_the_first_rows_alone_are_printed_and_written(self):
        asked = ["recap", "rows.csv", *DATA, "--per", "month", "--by", "shop", "--sort", "-revenue"]
        _, whole, _ = self.go(*asked, "--format", "csv")
        _, out, _ = self.go(*asked, "--first", "2", "--format", "csv")
        self.assertEqual(out.splitlines(), whole.splitlines()[:3])
        self.go(*asked, "--first", "2", "--out", "t.csv")
        self.assertEqual(Path("t.csv").read_text().splitlines(), whole.splitlines()[:3])
        _, printed, _ = self.go(*asked)
        _, some, _ = self.go(*asked, "--first", "2")
        self.assertEqual(
            some.partition("\n\n")[0].split(". ")[0], printed.split(". ")[0]
        )  # the headline is of all
        self.assertEqual(self.go(*asked, "--first", "99", "--format", "csv")[1], whole)
        self.assertEqual(self.go(*asked, "--first", "0")[0], 2)

    def test_what_every_row_has_stands_once_and_nothing_else_does(self):
        rows = [
            "on,shop,fare",
            *(f"2025-01-{day:02d},{shop},1" for day in range(1, 32) for shop in "ab"),
        ]
        Path("even.csv").write_text("\n".join([*rows, "2025-02-01,a,5"]))
        _, out, _ = self.go(
            "compare",
            "even.csv",
            *DATA,
            "--per",
            "month",
            "--to-date",
            "--back",
            "1 month",
            "--by",
            "shop",
        )
        once = "period: 2025-02 · days: 2025-02-01..2025-02-01 · prior period: 2025-01 · prior days: 2025-01-01..2025-01-01"
        self.assertIn(f"{once} · comparable: yes", " ".join(out.split()))
        self.assertEqual(out.count("2025-02-01..2025-02-01"), 1)
        _, out, _ = self.go(
            "compare",
            "even.csv",
            *DATA,
            "--per",
            "day",
            "--back",
            "1 day",
            "--only",
            "2025-01-01..2025-02-01",
        )
        for day in ("2025-01-02", "2025-02-01"):
            self.assertIn(f"{day}..{day}", out)
        self.assertRegex(out, r"2025-02-01 +5 +2 +\+3 +\+150\.0%")
        self.assertRegex(out, r"(?m)^2025-01-01 .* no *$")
        _, out, _ = self.go(
            "recap", "even.csv", *DATA, "--per", "week", "--only", "2025-01-06..2025-02-09"
        )
        self.assertNotIn("\ncomplete:", out)
        self.assertEqual((out.count(" yes"), len(re.findall(r" no *$", out, re.M))), (3, 1))

    def test_an_object_of_json_has_the_headline(self):
        _, out, _ = self.go("recap", "rows.csv", *DATA, "--per", "year", "--format", "object")
        found = json.loads(out)
        self.assertTrue(found["headline"].startswith("Revenue from 2024-02-29 to 2025-02-28: "))
        self.assertEqual([row["period"] for row in found["rows"]], ["2024", "2025"])

    def test_a_wide_table_goes_in_blocks_in_a_terminal(self):
        with (
            mock.patch("rich.console.Console.is_terminal", True),
            mock.patch.dict(os.environ, {"COLUMNS": "60"}),
        ):
            _, out, _ = self.go("compare", "rows.csv", *DATA, "--per", "year")
        self.assertGreater(out.count("period"), 2)
        plain = re.sub(r"\x1b\[[0-9;]*m", "", out)
        self.assertLessEqual(max(map(len, plain.splitlines()[:-1])), 60)

    def test_each_block_of_a_wide_table_has_as_many_measures_as_fit(self):
        measures = [f"m{n}=sum(fare) * {n + 1}000" for n in range(20)]
        options = [word for measure in measures for word in ("--measure", measure)]
        _, out, err = self.go("recap", "rows.csv", "--date", "on", *options, "--per", "year")
        heads = [line.split() for line in out.splitlines() if line.startswith("period")]
        self.assertEqual([m for head in heads for m in head if m[0] == "m"],
                         [f"m{n}" for n in range(20)], out + err)  # fmt: skip
        self.assertEqual([head[0] for head in heads], ["period"] * len(heads))
        widths = [len(line) for line in out.splitlines() if line.startswith("─")]
        self.assertLessEqual(max(widths), 120)
        self.assertEqual(len(heads), 3)  # one for each measure would be twenty


class Mistakes(Commands):
    """Every mistake gives one clear line and exit status 1 or 2, never a traceback."""

    RECAP = ("recap", "rows.csv", *DATA, "--per", "month")

    def test_a_caret_stands_under_the_place_in_an_expression(self):
        status, _, err = self.go(*self.RECAP, "--where", "shop = 'a' and fare > > 5")
        said, text, caret = err.splitlines()
        self.assertEqual((status, said), (1, "eptaro: a value is missing before '>'"))
        self.assertEqual(text, "  shop = 'a' and fare > > 5")
        self.assertEqual(caret.index("^"), text.index("> 5"))

    def test_a_word_that_is_no_file_names_the_option_it_may_be_meant_for(self):
        for word in ("revenue=sum(fare)", "sum(fare)", "shop"):
            status, _, err = self.go(*self.RECAP, word)
            self.assertEqual(
                (status, err),
                (
                    1,
                    f"eptaro: {word}: there is no such file or folder; a measure is given with --measure, a group column with --by, a level with --per\n",
                ),
            )

    def test_rows_are_narrowed_by_conditions_and_by_columns_that_are_no_groups(self):
        _, out, err = self.go(*self.RECAP, "--where", "shop = 'a'", "--by", "dear=fare > 8")
        self.assertIn("1 of 3 rows do not meet the condition \"shop = 'a'\"", err)
        self.assertIn("where shop = 'a'", out)
        self.assertRegex(out, r"yes +2024-02 .* 10\.10")
        _, out, _ = self.go(*self.RECAP, "--only", "shop=b")
        self.assertRegex(out, r"2025-01 .* 0\.25")
        self.assertNotIn("10.10", out)

    def test_each_mistake(self):
        bad = {
            1: (
                (("recap", "row.csv", *DATA, "--per", "month"), "did you mean 'rows.csv'"),
                ((*self.RECAP, "--by", "shops"), "did you mean 'shop'"),
                (("recap", "rows.csv", *DATA, "--per", "mnth"), "did you mean 'month'"),
                ((*self.RECAP, "--year-starts", "01-31"), "day 1 to 28"),
                ((*self.RECAP, "--only", "2025-02-01..2025-01-01"), "reversed"),
                ((*self.RECAP, "--as-of", "yesterday"), "not an ISO date"),
                ((*self.RECAP, "--out", "nowhere/t.csv"), "cannot be written"),
                ((*self.RECAP, "--out", "t.xls"), "unknown file ending"),
                (("recap", "rows.csv", "--date", "shop", "--measure", "n=count()", "--per", "day"),
                 "row 1: 'a' is not written as"),
                (("dimension", "--from", "2025-02-01", "--through", "2025-01-01"), "reversed"),
                (("compare", "rows.csv", *DATA, "--per", "week", "--back", "1 day"), "years or weeks"),
                (("compare", "rows.csv", *DATA, "--per", "week", "--back", "1"), "--back 1 is not"),
                ((*self.RECAP, "--only", "Q9"), "--only Q9 is not a span"),
                ((*self.RECAP, "--year-starts", "4"), "year_starts='4' is not a month-day"),
            ),
            2: (
                (("recap", "--per", "day"), "Missing argument"),
                (("recapp",), "did you mean 'recap'"),
                (("recap", "rows.csv", "--date", "on", "--per", "day"), "Missing option '--measure'"),
                ((*self.RECAP, "--year-named", "middle"), "'start', 'end'"),
                ((*self.RECAP, "--pre", "x"), "No such option"),
            ),
        }  # fmt: skip
        for status, cases in bad.items():
            for arguments, message in cases:
                got, out, err = self.go(*arguments)
                self.assertEqual((got, out), (status, ""), (arguments, err))
                self.assertIn(message, err)
                self.assertNotIn("Traceback", err)
                if status == 1:
                    self.assertEqual(err.count("\n"), 1, err)

    def test_options_are_written_as_they_are_typed(self):
        compare = ("compare", "rows.csv", *DATA, "--per", "month")
        week = ("compare", "rows.csv", *DATA, "--per", "week")
        for arguments, option in (
            ((*self.RECAP, "--wide"), "--wide sets one group column across"),
            (
                (*self.RECAP, "--wide", "--by", "shop", "--sort", "shop"),
                "--wide cannot be combined",
            ),
            (
                ("accumulate", "rows.csv", *DATA, "--within", "year", "--totals"),
                "--totals adds all",
            ),
            ((*self.RECAP, "--every", "entry", "--totals"), "--every entry has a row per"),
            ((*self.RECAP, "--across", "year", "--ranks"), "--across year cannot be combined"),
            (
                (*self.RECAP, "--by", "shop", "--top", "1", "--top-within", "period", "--totals"),
                "--top-within",
            ),
            ((*compare, "--match", "weekday"), "belongs to --to-date"),
            ((*compare, "--groups", "both"), "--groups both compares groups"),
            ((*compare, "--history", "1 year"), "--groups both"),
            ((*compare, "--align", "restated"), "--align restated"),
            ((*week, "--align", "restated", "--against", "2025-W01"), "--align restated goes with"),
        ):
            status, _, err = self.go(*arguments)
            self.assertEqual(status, 1, arguments)
            self.assertIn(option, err)
            self.assertNotRegex(err, r"\b[a-z_]+=(True|'|\{)", arguments)

    def test_an_internal_error_is_one_line_too(self):
        with mock.patch("eptaro.daybook.Daybook.read", side_effect=ZeroDivisionError("x")):
            status, _, err = self.go(*self.RECAP)
        self.assertEqual(status, 1)
        self.assertIn("internal error (ZeroDivisionError: x); please report it", err)

    def test_a_reader_that_goes_away_is_no_error(self):
        command = f"{sys.executable} -m eptaro accumulate rows.csv --date on --within year "
        command += "--measure 'n=count()' --format csv | head -1"
        done = subprocess.run(["sh", "-c", command], capture_output=True, text=True, check=False)
        self.assertEqual((done.stdout.count("\n"), done.stderr), (1, ""))
