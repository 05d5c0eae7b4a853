"""Messy files: `init`, then the command that it prints, without an edit, comes to the answer."""

import json
import re
import shlex
import shutil
import subprocess
import unittest
from decimal import Decimal
from pathlib import Path

from tests.cli.test_commands import Commands

DAYS = ("2024-01-05", "2024-01-20", "2024-02-13", "2024-02-29", "2024-03-31")
ROUTES = ("Norrow", "Fenholm", "Norrow", "Norrow", "Fenholm")
FARES = ("1234.50", "12.25", "3.00", "400.75", "27.00")


def table(head, *columns, mark=",", above=""):
    """Return a text file of columns."""
    lines = [head, *zip(*columns, strict=True)]
    quoted = [[f'"{v}"' if mark in v or "," in v else v for v in line] for line in lines]
    return above + "".join(mark.join(line) + "\n" for line in quoted)


def dates(form):
    """Return the days in another form."""
    months = ("", "Jan", "Feb", "Mar")
    parts = [day.split("-") for day in DAYS]
    return [form.format(y=y, m=m, d=d, yy=y[2:], b=months[int(m)], mm=int(m), dd=int(d))
            for y, m, d in parts]  # fmt: skip


def fares(form):
    """Return the fares in another form."""
    return [form(Decimal(fare)) for fare in FARES]


def comma(value):
    """Return a number as 1.234,50."""
    return f"{value:,.2f}".replace(",", "_").replace(".", ",").replace("_", ".")


HEAD = ("sailed_on", "route", "fare")
PLAIN = sum(map(Decimal, FARES))
FILES = {
    "plain.csv": (table(HEAD, DAYS, ROUTES, FARES), PLAIN),
    "semicolons.csv": (table(HEAD, DAYS, ROUTES, fares(comma), mark=";"), PLAIN),
    "tabs.txt": (table(HEAD, DAYS, ROUTES, FARES, mark="\t"), PLAIN),
    "pipes.dat": (table(HEAD, DAYS, ROUTES, FARES, mark="|"), PLAIN),
    "noending": (table(HEAD, DAYS, ROUTES, FARES), PLAIN),
    "tabs.tsv": (table(HEAD, DAYS, ROUTES, FARES, mark="\t"), PLAIN),
    "above.csv": (table(HEAD, DAYS, ROUTES, FARES, above="Takings\nprinted 2024\n\n"), PLAIN),
    "title.csv": (table(HEAD, DAYS, ROUTES, FARES, above="Takings of the quarter,,\n"), PLAIN),
    "dollars.csv": (table(HEAD, DAYS, ROUTES, fares(lambda v: f"${v:,.2f}")), PLAIN),
    "euros.csv": (table(HEAD, DAYS, ROUTES, fares(lambda v: f"{comma(v)} €"), mark=";"), PLAIN),
    "codes.csv": (table(HEAD, DAYS, ROUTES, fares(lambda v: f"EUR {v:,.2f}")), PLAIN),
    "brackets.csv": (table(HEAD, DAYS, ROUTES, fares(lambda v: f"({v:,.2f})")), -PLAIN),
    "trailing.csv": (table(HEAD, DAYS, ROUTES, fares(lambda v: f"{v}-")), -PLAIN),
    "units.csv": (table(("sailed_on", "route", "load"), DAYS, ROUTES,
                        fares(lambda v: f"{v} kg")), PLAIN),
    "words.csv": (table(HEAD, (*DAYS, DAYS[0], DAYS[1]), (*ROUTES, "Norrow", "Norrow"),
                        (*FARES, "NA", "-")), PLAIN),
    "dots.csv": (table(HEAD, dates("{d}.{m}.{y}"), ROUTES, FARES), PLAIN),
    "slashes.csv": (table(HEAD, dates("{m}/{d}/{y}"), ROUTES, FARES), PLAIN),
    "short.csv": (table(HEAD, dates("{d}/{m}/{yy}"), ROUTES, FARES), PLAIN),
    "worded.csv": (table(HEAD, dates("{b} {dd} {y}"), ROUTES, FARES), PLAIN),
    "dashed.csv": (table(HEAD, dates("{d}-{b}-{y}"), ROUTES, FARES), PLAIN),
    "compact.csv": (table(HEAD, dates("{y}{m}{d}"), ROUTES, FARES), PLAIN),
    "ymd.csv": (table(HEAD, dates("{y}/{m}/{d}"), ROUTES, FARES), PLAIN),
    "stamps.csv": (table(HEAD, dates("{y}-{m}-{d}T10:00:00Z"), ROUTES, FARES), PLAIN),
    "months.csv": (table(("month", "route", "fare"), dates("{y}-{m}"), ROUTES, FARES), PLAIN),
    "monthnumbers.csv": (table(("period", "route", "fare"), dates("{y}{m}"), ROUTES, FARES), PLAIN),
    "monthwords.csv": (table(("month", "route", "fare"), dates("{b} {y}"), ROUTES, FARES), PLAIN),
    "quarters.csv": (table(("quarter", "route", "fare"), ["2024-Q1"] * 5, ROUTES, FARES), PLAIN),
    "years.csv": (table(("year", "route", "fare"), ["2024"] * 5, ROUTES, FARES), PLAIN),
    "weeks.csv": (table(("week", "route", "fare"), ["2024-W02"] * 5, ROUTES, FARES), PLAIN),
    "parts.csv": (table(("year", "month", "day", "fare"), *zip(*(d.split("-") for d in DAYS),
                        strict=True), FARES), PLAIN),
    "serials.csv": (table(("date", "route", "fare"), ["45296", "45311", "45335", "45351", "45382"],
                          ROUTES, FARES), PLAIN),
    "unix.csv": (table(("created_at", "route", "fare"), ["1704412800"] * 5, ROUTES, FARES), PLAIN),
    "blankdates.csv": (table(HEAD, (*DAYS * 8, ""), (*ROUTES * 8, "Norrow"), (*FARES * 8, "99.00")),
                       8 * PLAIN),
    "latin.csv": (table(HEAD, DAYS, ("Nørre", "Fenhølm", "Nørre", "Nørre", "Fenhølm"),
                        FARES).encode("cp1252"), PLAIN),
    "wide16.csv": (table(HEAD, DAYS, ROUTES, FARES).encode("utf-16"), PLAIN),
    "spaces.csv": (table(HEAD, DAYS, ROUTES, fares(lambda v: f"{v:,.2f}".replace(",", " "))),
                   PLAIN),
    "odd names.csv": (table(("sailed on", "route (short)", "fare, gross"), DAYS, ROUTES, FARES),
                      PLAIN),
}  # fmt: skip


class Messy(Commands):
    """One file after the other, in an empty folder."""

    def test_the_printed_command_comes_to_the_answer(self):
        self.assertGreaterEqual(len(FILES), 30)
        for name, (text, total) in FILES.items():
            with self.subTest(name):
                Path(name).write_bytes(text if isinstance(text, bytes) else text.encode())
                status, _, told = self.go("init", name, "--replace")
                self.assertEqual(status, 0, told)
                (line,) = (one for one in told.splitlines() if one.startswith("next: eptaro "))
                command = shlex.split(line.removeprefix("next: eptaro "))
                status, out, err = self.go(*command, "--format", "json")
                self.assertEqual(status, 0, err)
                rows = json.loads(out, parse_float=Decimal)
                measure = next(key for key in rows[0] if key.startswith("total"))
                found = sum(row[measure] or 0 for row in rows if row.get("level") != "total")
                self.assertEqual(found, total, Path("eptaro.toml").read_text())

    def test_rows_of_totals_are_named(self):
        rows = [
            f"2025-0{n}-01,{store},{n}" for n in (1, 2, 3) for store in ("North", "Grand total")
        ]
        Path("a.csv").write_text("\n".join(["date,store,amount", *rows, "Total,,12", ""]))
        status, shown, _ = self.go("inspect", "a.csv")
        self.assertEqual(status, 0)
        self.assertRegex(shown, r"perhaps totals +store: .*--where \"store != 'Grand total'\"")
        self.assertRegex(shown, r"unreadable dates +1\n")
        (command,) = re.findall("next: eptaro (.*)", shown)
        status, _, told = self.go(*shlex.split(command))
        self.assertEqual(status, 0, told)
        self.assertIn("may add up others, which then count twice", told)
        status, _, told = self.go(*shlex.split(command), "--where", "store != 'Grand total'")
        self.assertEqual((status, "count twice" in told), (0, False), told)

    def test_many_totals(self):
        stores = [f"{name}{end}" for name in "abcde" for end in ("", " Total")]
        rows = [f"2025-01-{n + 1:02d},{store},{n}.50" for n, store in enumerate(stores)]
        Path("a.csv").write_text("\n".join(["date,store,amount", *rows, ""]))
        asked = ("recap", "a.csv", "--date", "date", "--measure", "s=sum(amount)", "--by", "store", "--per", "month")  # fmt: skip
        _, _, told = self.go(*asked)
        (cure,) = re.findall("and 2 more may add up others, .* leave them out: (.*)", told)
        status, shown, told = self.go(*asked, *shlex.split(cure))
        self.assertEqual((status, "more may add" in told), (0, False), told)
        self.assertIn(" of 5: ", shown)

    def test_several_currencies_are_named(self):
        head = "date,shop,paid_in,amount"
        for codes, named in (
            (("EUR", "USD"), True),
            (("EUR", "EUR"), False),
            (("SEA", "AIR"), False),
        ):
            rows = [f"2025-01-{n:02d},{'ab'[n % 2]},{codes[n % 2]},{n}.50" for n in range(1, 9)]
            Path("a.csv").write_text("\n".join([head, *rows, ""]))
            status, shown, _ = self.go("inspect", "a.csv")
            self.assertEqual((status, "EUR and USD do not add up" in shown), (0, named), shown)
            (command,) = re.findall("next: eptaro (.*)", shown)
            self.assertEqual("--by paid_in" in command, named)
            status, _, told = self.go(*shlex.split(command))
            self.assertEqual((status, "do not add up" in told), (0, named), told)

    def test_groups_that_differ_in_writing_are_named_with_what_joins_them(self):
        head = "date,the shop,amount"
        for words, told_of in (
            (["North", "north", "South"], "'North' and 'north' differ in case alone"),
            (["North", "North ", "South"], "'North' and 'North ' differ in spaces alone"),
            (["North", " NORTH", "South"], "' NORTH' and 'North' differ in case and spaces alone"),
            (["North", "Nort", "South"], ""),
        ):
            rows = [f"2025-01-{n + 1:02d},{word},{n}.50" for n, word in enumerate(words * 3)]
            Path("a.csv").write_text("\n".join([head, *rows, ""]))
            for asked in (["inspect", "a.csv"], ["recap", "a.csv", "--date", "date", "--measure", "s=sum(amount)",
                                                 "--by", "the shop", "--per", "month"]):  # fmt: skip
                status, shown, told = self.go(*asked)
                self.assertEqual((status, "to join them" in shown + told), (0, bool(told_of)), told)
                self.assertIn(told_of, shown + told)
            if told_of:
                (cure,) = re.findall("to join them: (.*)", told)
                del asked[-4:-2]
                status, shown, told = self.go(*asked, *shlex.split(cure))
                self.assertEqual((status, "differ in" in told), (0, False), told)
                self.assertIn(" of 2: ", shown)

    def test_periods_with_years_of_two_digits(self):
        for texts, first in (
            (("Jan-25", "Feb-25", "Mar-25"), "2025-01-01"),
            (("Sept 24", "Oct 24", "Nov 24"), "2024-09-01"),
            (("Dec '24", "Jan '25"), "2024-12-01"),
            (("Jun-99", "Jul-98"), "1998-07-01"),
            (("4Q24", "1Q25"), "2024-10-01"),
            (("Q4-24", "Q1-25"), "2024-10-01"),
        ):
            Path("a.csv").write_text("\n".join(["when,n", *(f"{text},5" for text in texts), ""]))
            status, shown, _ = self.go("inspect", "a.csv")
            self.assertEqual(status, 0)
            self.assertRegex(shown, f"first date +{first}", texts)
            (command,) = re.findall("next: eptaro (.*)", shown)
            status, shown, told = self.go(*shlex.split(command))
            self.assertEqual((status, first in shown), (0, True), told)
        for texts in (
            ("Jan-01", "Jan-02", "Feb-01"),
            ("25-Jan", "25-Feb"),
            ("Berth-01", "Berth-02"),
        ):
            Path("a.csv").write_text("\n".join(["when,n", *(f"{text},5" for text in texts), ""]))
            self.assertNotIn("first date", self.go("inspect", "a.csv")[1], texts)

    def test_forms_that_programs_write(self):
        zone = "--zone UTC"
        for text, options in (
            ("Monday, January 6, 2025", ""), ("Mon 06 Jan 2025", ""), ("06-JAN-25", "--pivot 49"),
            ("06JAN2025", ""), ("2025-01-06 10:15:00 UTC", zone), ("2025-01-06 10:15:00.5+00", zone),
            ("20250106T101500Z", zone), ("Mon, 06 Jan 2025 10:15:00 GMT", zone), ("2025年1月6日", ""),
        ):  # fmt: skip
            Path("a.csv").write_text(f'when,n\n"{text}",5\n')
            status, shown, _ = self.go("inspect", "a.csv")
            self.assertEqual(status, 0)
            self.assertRegex(shown, "first date +2025-01-06", text)
            (command,) = re.findall("next: eptaro (.*)", shown)
            self.assertIn(options, command)
            status, shown, told = self.go(*shlex.split(command))
            self.assertEqual((status, "2025-01-06" in shown), (0, True), (text, told))

    def test_words_among_dates(self):
        dates = [f"2025-01-{n:02d}" for n in range(1, 10)]
        for words, date in (
            (["unknown"], "read with bad_dates=reject"),
            (["unknown", "Total"], "read with bad_dates=reject"),
            (["unknown"] * 10, ""),
            (["one", "two", "three"], ""),
            ([f"{n} nothing" for n in range(3)], ""),
        ):
            Path("a.csv").write_text("\n".join(["when,n", *(f"{d},5" for d in dates + words), ""]))
            status, shown, _ = self.go("inspect", "a.csv")
            self.assertEqual(status, 0)
            if date:
                self.assertRegex(shown, f"column +when +.*dates: {date}")
            else:
                self.assertNotIn("dates: ", shown)

    def test_measures_that_make_sense(self):
        Path("a.csv").write_text(
            "sailed_on,ship_id,hour,lat,price,share,quantity,temperature,unitPrice,year,Total Weight\n"
            "2024-01-05,77,5,50.1,2.50,5%,3,11.5,1.5,2024,7\n"
            "2024-01-06,78,6,50.2,2.75,7%,4,12.5,1.6,2024,2\n"
        )
        status, _, told = self.go("init", "a.csv")
        self.assertEqual(status, 0, told)
        text = Path("eptaro.toml").read_text()
        for line in (
            'mean_price = "mean(price)"   # a level or a rate: averaged, not summed',
            'mean_share = "mean(share)"   # a level or a rate: averaged, not summed (percents are hundredths)',
            'total_quantity = "sum(quantity)"   # numbers to add up',
            r'"Total Weight" = "sum(\"Total Weight\")"',
            'mean_temperature = "mean(temperature)"',
            'mean_unitPrice = "mean(unitPrice)"',
            "# left out: ship_id, identifier (by its name): not summed",
            "# left out: hour, part of a date: not summed",
            "# left out: lat, coordinate: not summed",
            'numbers = "infer"',
        ):
            self.assertIn(line, text)
        self.assertNotIn("(year)", text)

    def test_the_coverage_of_groups_from_a_file_or_the_config(self):
        Path("a.csv").write_text("on,route,fare\n2024-01-05,Norrow,1\n2024-03-20,Fenholm,2\n"
                                 "2024-03-31,Norrow,3\n")  # fmt: skip
        Path("open.csv").write_text("route,first,last\nFenholm,2024-03-01,2024-04-30\n")
        Path("bad.csv").write_text("route,first,last\nFenholm,2024-03-01,soon\n")
        Path("eptaro.toml").write_text(
            '[data]\nfiles = ["a.csv"]\ndate = "on"\nby = ["route"]\nmeasures = { s = "sum(fare)" }\n'
            'coverage = { Fenholm = "2024-03-01..2024-04-30" }\n'
        )
        asked = ["--per", "month", "--by", "route", "--format", "json"]
        line = ["a.csv", "--date", "on", "--measure", "s=sum(fare)"]
        for given in ([*line, "--coverage", "open.csv"], ["--config", "eptaro.toml"]):
            status, out, err = self.go("recap", *given, *asked)
            self.assertEqual(status, 0, err)
            rows = {(row["route"], row["period"]): row for row in json.loads(out)}
            self.assertIsNone(rows["Fenholm", "2024-02"]["s"])
            self.assertEqual(rows["Fenholm", "2024-03"]["complete"], True)
            self.assertEqual(rows["Fenholm", "2024-04"]["s"], 0)
        for file, said in (("bad.csv", "row 1: 'soon'"), ("none.csv", "cannot be read"),
                           ("a.csv", "unknown column 'first'")):  # fmt: skip
            status, _, err = self.go("recap", *line, "--coverage", file, *asked)
            self.assertEqual((status, said in err), (1, True), err)

    def test_options_that_were_given_are_kept(self):
        Path("a.txt").write_text("on;fare;kind\n5.1.24;1,5;car\n6.1.24;2,5;foot\n")
        status, _, told = self.go(
            "init", "a.txt", "--like", "csv", "--delimiter", ";", "--decimal", ",", "--order", "dmy",
            "--pivot", "30", "--where", "kind = 'car'",
        )  # fmt: skip
        self.assertEqual(status, 0, told)
        text = Path("eptaro.toml").read_text()
        for line in ('like = "csv"', 'delimiter = ";"', 'decimal = ","', 'order = "dmy"',
                     "pivot = 30", "where = \"kind = 'car'\""):  # fmt: skip
            self.assertIn(line, text)
        status, out, err = self.go("recap", "--config", "eptaro.toml", "--per", "month",
                                   "--format", "json")  # fmt: skip
        self.assertEqual(status, 0, err)
        self.assertEqual(json.loads(out)[0]["total_fare"], 1.5)
        Path("b.csv").write_text("month,fare\n202401,$5\n202402,$(7)\n202403,none\n")
        options = ["--grain", "month", "--strip", "$", "--brackets", "--blank-number", "none"]
        self.assertEqual(self.go("init", "b.csv", "--replace", *options)[0], 0)
        text = Path("eptaro.toml").read_text()
        for line in ('grain = "month"', "[data.numbers]", 'strip = ["$"]', "brackets = true",
                     'blanks = ["none"]'):  # fmt: skip
            self.assertIn(line, text)
        status, out, err = self.go("recap", "--config", "eptaro.toml", "--per", "quarter",
                                   "--format", "json")  # fmt: skip
        self.assertEqual((status, json.loads(out)[0]["total_fare"]), (0, -2), err)

    @unittest.skipUnless(shutil.which("sed"), "sed is not installed")
    def test_spaces_between_columns_are_cured_by_the_printed_command(self):
        lines = [f" {day}   {fare} 7" for day, fare in zip(DAYS, FARES, strict=True)]
        Path("aligned.txt").write_text("\n".join([" sailed_on  fare  n", *lines, ""]))
        told = self.go("inspect", "aligned.txt")[2]
        (line,) = (one for one in told.splitlines() if "separated by spaces" in one)
        subprocess.run(line[line.index("sed ") :], shell=True, check=True)
        asked = ("--date", "sailed_on", "--measure", "s=sum(fare)", "--per", "year")
        status, out, err = self.go("recap", "new.csv", *asked, "--format", "json")
        found = json.loads(out, parse_float=Decimal)[0]["s"]
        self.assertEqual((status, found), (0, PLAIN), err)
        Path("sentence.txt").write_text("a few words\nand some more words of text\n")
        self.assertNotIn("separated by spaces", self.go("inspect", "sentence.txt")[2])

    def test_weeks_are_read_as_inspect_proposes(self):
        days = ("2023-12-29", "2024-01-05", "2024-01-12")
        Path("weeks.csv").write_text(table(("ends", "n"), days, ("70", "140", "7")))
        status, out, err = self.go("inspect", "weeks.csv", "--format", "json")
        self.assertEqual(status, 0, err)
        (said,) = [row["detail"] for row in json.loads(out) if row["subject"] == "perhaps weeks"]
        proposed = shlex.split(said[said.index("--weeks") : said.index(" or --weeks")])
        asked = ("--date", "ends", "--measure", "n=sum(n)", "--per", "year", "--format", "json")
        for weeks in (proposed, ["--weeks", "ending-friday"]):
            status, out, err = self.go("recap", "weeks.csv", *weeks, *asked)
            self.assertEqual((status, "--week-in 'last day'" in err), (1, True), err)
            status, out, err = self.go(
                "recap", "weeks.csv", *weeks, "--week-in", "last day", *asked
            )
            self.assertEqual(status, 0, err)
            self.assertEqual([row["n"] for row in json.loads(out)], [70, 147])

    def test_a_group_called_like_a_column_of_answers_is_proposed_under_another_name(self):
        days = [f"2024-01-{day:02d}" for day in range(1, 29)]
        Path("surveys.csv").write_text(
            table(("on", "period", "n"), days, ["early", "late"] * 14, ["7"] * 28)
        )
        status, out, err = self.go("inspect", "surveys.csv")
        self.assertEqual(status, 0, err)
        proposed = shlex.split(out.partition("next: eptaro ")[2])
        self.assertIn("own_period=period", proposed)
        self.assertEqual(self.go(*proposed)[0], 0)
        by = proposed.index("own_period=period")
        status, _, err = self.go(*proposed[:by], "period", *proposed[by + 1 :])
        self.assertEqual((status, "--by 'own_period=period'" in err), (1, True), err)

    def test_names_of_any_letters_make_measures_that_can_be_asked(self):
        days, loads = [f"2024-01-{n:02d}" for n in range(1, 29)], ["5.5", "900"] * 14
        names = ("on", "load (t)", "load [t]", " load = t", "load't")
        Path("loads.csv").write_text(table(names, days, loads, loads, loads, loads))
        proposed = shlex.split(self.go("inspect", "loads.csv")[1].partition("next: eptaro ")[2])
        self.assertEqual(sum("sum(" in word for word in proposed), 2, proposed)
        status, out, err = self.go(*proposed, "--format", "json")
        self.assertEqual(status, 0, err)
        own = [value for name, value in json.loads(out)[0].items() if name.startswith("total")]
        self.assertEqual(own, [12677, 12677])
        status, out, err = self.go("init", "loads.csv")
        self.assertEqual(status, 0, err)
        asked = ("recap", "--config", "eptaro.toml", "--per", "month", "--format", "json")
        status, out, err = self.go(*asked)
        self.assertEqual(status, 0, err)
        own = [value for name, value in json.loads(out)[0].items() if name.startswith("total")]
        self.assertEqual(own, [12677] * 4)

    def test_a_word_among_numbers_is_named_with_what_reads_it_as_blank(self):
        days = ["2024-01-05"] * 30_000
        fares = [f"{n % 300}.25" for n in range(29_999)] + ["nil"]
        Path("nil.csv").write_text(table(("on", "fare"), days, fares))
        asked = ("--date", "on", "--measure", "s=sum(fare)", "--per", "month", "--format", "json")
        told = json.loads(self.go("inspect", "nil.csv", "--format", "json")[1])
        (fare,) = (row["detail"] for row in told if row["value"] == "fare")
        self.assertIn("numbers, but for 'nil'", fare)
        answers = [fare, *(self.go("recap", "nil.csv", *asked, *more)[2]
                           for more in ((), ("--numbers", "infer")))]  # fmt: skip
        for told in answers:
            cure = shlex.split(told[told.index("--blank-number") :].rstrip(")\n"))[:2]
            status, out, err = self.go("recap", "nil.csv", *asked, *cure)
            self.assertEqual(status, 0, err)
            wanted = sum(Decimal(fare) for fare in fares[:-1])
            self.assertEqual(json.loads(out, parse_float=Decimal)[0]["s"], wanted)
