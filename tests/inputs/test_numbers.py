"""Numbers in text: strict unless rules say how they are written; what is none is refused."""

import csv
import datetime as dt
import json
import random
import re
import sqlite3
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import xlsxwriter
from pyarrow import parquet

import eptaro as ep
from tests.clusters import client_of_threads, needs_clusters
from tests.commands import run_in

RULES = [
    {},
    {"thousands": ","},
    {"thousands": ".", "decimal": ","},
    {"thousands": " ", "decimal": ","},
    {"thousands": "'"},
    {"strip": ("$",)},
    {"strip": ("EUR", "kg"), "brackets": True},
    {"trailing_minus": True, "thousands": ","},
    {"percent": True},
    {"blanks": ("NA", "-")},
    {"thousands": ",", "strip": ("$",), "brackets": True, "blanks": ("n/a",), "percent": True},
]


def slow(text, rules):
    """Read one text sign by sign; "bad" for what is not a number under the rules."""
    text = text.strip().replace("−", "-")
    if not text or text in rules.get("blanks", ()):
        return None
    negative = percent = False
    changed = True
    while changed:
        changed = False
        for word in rules.get("strip", ()):
            for lead in ("", "-", "+", "("):
                if text.startswith(lead + word):
                    text, changed = lead + text[len(lead + word) :].lstrip(), True
            for tail in ("", "-", ")", "%"):
                if text.endswith(word + tail) and len(text) > len(word + tail):
                    text = text[: len(text) - len(word + tail)].rstrip() + tail
                    changed = True
    if rules.get("percent") and re.search(r"%\)?$", text):
        percent, text = True, re.sub(r"\s*%(\)?)$", r"\1", text)
    if rules.get("brackets") and text.startswith("(") and text.endswith(")"):
        text, negative = text[1:-1].strip(), True
        if not text or text[0] in "-+(":
            return "bad"
    if rules.get("trailing_minus") and text.endswith("-") and text[0] not in "-+(":
        text, negative = text[:-1].rstrip(), True
    sign, digits = (text[0], text[1:]) if text[:1] in ("-", "+") else ("", text)
    whole, _, part = digits.partition(rules.get("decimal") or ".")
    thousands = rules.get("thousands")
    if thousands:
        spaces = {" ": "\u00a0\u202f", "'": "’"}.get(thousands, "")
        for other in spaces:
            whole = whole.replace(other, thousands)
        groups = whole.split(thousands)
        if len(groups) > 1:
            sizes = [len(group) for group in groups]
            usual = 1 <= sizes[0] <= 3 and {*sizes[1:]} == {3}
            indian = thousands == "," and sizes[0] in (1, 2) and {*sizes[1:-1]} == {2} and sizes[-1] == 3  # fmt: skip
            if not (usual or indian):
                return "bad"
            whole = "".join(groups)
    if not (whole + part) or not (whole + part).isascii() or not (whole + part).isdigit():
        return "bad"
    value = Decimal(f"{whole or 0}.{part or 0}")
    value = -value if negative != (sign == "-") else value
    return value / 100 if percent else value


def random_text(rng, rules):
    """Return a text that often is a number under some rules, and sometimes under others."""
    if rng.random() < 0.25:
        rules = rng.choice(RULES)
    if rules.get("blanks") and rng.random() < 0.2:
        return rng.choice(rules["blanks"])
    text = str(rng.choice((rng.randint(0, 99), rng.randint(100, 10**7))))
    if rules.get("thousands") and len(text) > 3 and rng.random() < 0.8:
        cut = len(text) % 3 or 3
        text = rules["thousands"].join(
            [text[:cut], *(text[n : n + 3] for n in range(cut, len(text), 3))]
        )
    if rng.random() < 0.4:
        text += (rules.get("decimal") or ".") + str(rng.randint(0, 99)).zfill(2)
    if rules.get("percent") and rng.random() < 0.6:
        text += rng.choice(("%", " %"))
    if rules.get("strip"):
        word = rng.choice(rules["strip"])
        text = rng.choice((f"{word}{text}", f"{text} {word}", f"{word} {text}", text))
    if rng.random() < 0.3:
        forms = ["-{}"]
        forms += ["({})"] if rules.get("brackets") else []
        forms += ["{}-"] if rules.get("trailing_minus") else []
        text = rng.choice(forms).format(text)
    if rng.random() < 0.05:
        text = rng.choice(("x", "1,2,3", "(5", "--3", "5..1", "1 2", "%", "€")) + rng.choice(
            ("", text)
        )
    return rng.choice(("", " ")) + text


class Written(unittest.TestCase):
    """Texts under rules, each against the slow reader."""

    def test_random_texts(self):
        rng = random.Random(12)
        seen = {"good": 0, "bad": 0, "blank": 0}
        for turn in range(150):
            rules = rng.choice(RULES)
            texts = [random_text(rng, rules) for _ in range(rng.randint(1, 6))]
            wanted = [slow(text, rules) for text in texts]
            frame = {"on": ["2024-01-01"] * len(texts), "x": texts}
            given = {"date": "on", "measures": ["s=sum(x)", "n=count(x)"],
                     "numbers": ep.NumberRules(**rules)}  # fmt: skip
            with self.subTest(turn=turn, texts=texts, rules=rules):
                if "bad" in wanted:
                    seen["bad"] += 1
                    row = wanted.index("bad")
                    with self.assertRaises(ep.MeasureError) as caught:
                        ep.Daybook(frame, **given)
                    self.assertIn(f"row {row + 1} of 'x': {texts[row]!r}", str(caught.exception))
                    continue
                (found,) = ep.Daybook(frame, **given).recap("year").rows()
                filled = [value for value in wanted if value is not None]
                seen["good" if filled else "blank"] += 1
                self.assertEqual(found["n"], len(filled))
                self.assertEqual(found["s"] or 0, sum(filled))
        self.assertGreater(min(seen["good"], seen["bad"]), 45, seen)

    def test_inferred_rules_read_what_was_written(self):
        for texts, total in (
            (["$1,234.50", "($12.25)", "$3"], "1225.25"),
            (["1.234,00", "5,5"], "1239.5"),
            (["1 234,50", "7"], "1241.5"),
            (["12-", "7"], "-5"),
            (["5%", "7.5 %"], "0.125"),
            (["NA", "3", "-", ""], "3"),
            (["12 kg", "3 kg"], "15"),
            (["EUR 5,000.00", "EUR 1.50"], "5001.50"),
            (["1,234", "12,345,678"], "12346912"),
            (["0,5", "1,234"], "1.734"),
            (["1'234.5", "2"], "1236.5"),
            (["1,23,456.50", "12,34,567", "₹9"], "1358032.50"),
            (["$ -", "$1,000.00", "$    -"], "1000"),
            (["3k", "4.5k"], "7.5"),
            (["-$5", "$7"], "2"),
        ):
            for kind in (pa.string(), pa.dictionary(pa.int32(), pa.string()), pa.large_string()):
                frame = {"on": ["2024-01-01"] * len(texts), "x": pa.array(texts).cast(kind)}
                book = ep.Daybook(frame, date="on", measures="s=sum(x)", numbers="infer")
                (row,) = book.recap("year").rows()
                self.assertEqual(Decimal(str(row["s"])), Decimal(total), texts)
                notes = "; ".join(book.notes)
                plain = [text for text in texts if re.fullmatch(r"-?\d+(\.\d+)?|NA|-|", text)]
                self.assertEqual("numbers in 'x'" in notes, len(plain) < len(texts), texts)
                if "NA" in texts:
                    self.assertIn("1 'NA' in 'x', 1 '-' in 'x' read as blank and left out", notes)
        quiet = ep.Daybook({"on": ["2024-01-01"], "x": ["5"]}, date="on", measures="s=sum(x)",
                           numbers="infer")  # fmt: skip
        self.assertEqual([note for note in quiet.notes if "numbers" in note], [])

    def test_what_does_not_decide_is_refused(self):
        for texts, said in (
            (["1,234", "5,678"], "two ways: '1,234' is 1.234 .* and 1234 "),
            (["$5", "€7"], "several currencies, such as '\\$5' and '€7'"),
            (["USD 5", "EUR 7"], "several currencies"),
            (["5%", "7"], "percents and '7' without the sign"),
            (["3 kg", "4 lb"], "different words"),
            (["3", "about ten"], "'about ten' is not a number under any rule$"),
            (["3", "nil"], "any rule \\(if that means no value, .*blanks=\\('nil',\\)"),
            (["1,234.5", "1.234,5"], "is not a number under any rule"),
            (
                ["950", "1.2k"],
                "wrong by a factor: '1.2k' may be a multiple of what '950' is; .*'k'",
            ),
            (["3.5 Mio", "12,000"], "'3.5 Mio' may be a multiple of what '12,000' is"),
            (["12", "<5"], "'<5' is a bound, not a number; .*blanks='<5'"),
            (["$1.2k", "$950"], "different words"),
        ):
            frame = {"on": ["2024-01-01"] * len(texts), "x": texts}
            with self.assertRaisesRegex(ep.MeasureError, said):
                ep.Daybook(frame, date="on", measures="s=sum(x)", numbers="infer")

    def test_without_rules_the_cure_is_named(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for text, cure in (
            ("$1,234.50", "thousands=',', strip=\\('\\$',\\)"),
            ("1.234,00", "decimal=',', thousands='.'"),
            ("(12)", "brackets=True"),
            ("12-", "trailing_minus=True"),
            ("5%", "percent=True"),
            ("NA", "blanks=\\('NA',\\)"),
            ("1,234", "name the marks"),
        ):
            with (folder / "a.csv").open("w", newline="") as file:
                csv.writer(file).writerows([("on", "x"), ("2024-01-01", text)])
            frame = {"on": ["2024-01-01"], "x": [text]}
            for ask in (
                lambda: ep.Daybook.read(folder / "a.csv", date="on", measures="s=sum(x)"),
                lambda frame=frame: ep.Daybook(frame, date="on", measures="s=sum(x)"),
            ):
                with self.assertRaisesRegex(ep.MeasureError, f"row 1 of 'x': .*{cure}"):
                    ask()
        for wrong in ("loose", 3, {}):
            with self.assertRaisesRegex(ep.MeasureError, "neither strict, infer nor"):
                ep.Daybook({"on": ["2024-01-01"]}, date="on", measures="n=count()", numbers=wrong)
        for rules in ({"thousands": "x"}, {"decimal": ";"}, {"thousands": "."}, {"strip": "5"},
                      {"strip": " "}):  # fmt: skip
            with self.assertRaises(ep.MeasureError):
                ep.NumberRules(**rules)


class Documented(unittest.TestCase):
    """Every text in the docs comes to what they say."""

    def test_each_row_of_the_table(self):
        page = (Path(__file__).parents[2] / "docs" / "numbers.md").read_text()
        rows = re.findall(
            r"^\| `(.*?)` \| (?:`(.*?)`)? ?\| (.*) \|$", page.split("| text |")[1], re.M
        )
        self.assertGreater(len(rows), 15)
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for text, given, outcome in rows:
            rules = dict(part.split("=", 1) for part in given.split() if "=" in part)
            flags = {name: True for name, value in rules.items() if value == "1"}
            numbers = given if given == "infer" else ep.NumberRules(**(rules | flags))
            file = folder / "a.csv"
            with file.open("w", newline="") as lines:
                csv.writer(lines).writerows([("on", "x"), ("2024-01-01", text)])
            asked = {"date": "on", "measures": "s=sum(x)", "numbers": numbers if given else None}
            with self.subTest(text=text, given=given):
                if outcome.startswith("refused: "):
                    with self.assertRaises(ep.MeasureError) as caught:
                        ep.Daybook.read(file, **asked)
                    self.assertIn(outcome.removeprefix("refused: "), str(caught.exception))
                    continue
                (row,) = ep.Daybook.read(file, **asked).recap("year").rows()
                self.assertEqual(str(row["s"] or "blank"), outcome)


class Everywhere(unittest.TestCase):
    """The same answers whatever holds the rows, in conditions and formulas too."""

    ROWS = (
        ("2024-01-05", "Norrow", "$1,234.50", "2"),
        ("2024-02-05", "Fenholm", "($12.25)", "1"),
        ("2024-02-06", "Fenholm", "NA", "4"),
        ("2024-03-01", "Norrow", "$3", "3"),
    )
    MEASURES = ("s=sum(fare)", "n=count(fare)", "p=sum(fare * seats)", "d=distinct(fare)")

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        names = ("on", "route", "fare", "seats")
        self.frame = dict(zip(names, map(list, zip(*self.ROWS, strict=True)), strict=True))
        with (self.folder / "a.csv").open("w", newline="") as file:
            csv.writer(file).writerows([names, *self.ROWS])
        parquet.write_table(pa.table(self.frame), self.folder / "a.parquet", row_group_size=2)
        (self.folder / "a.jsonl").write_text(
            "".join(json.dumps(dict(zip(names, row, strict=True))) + "\n" for row in self.ROWS)
        )
        with sqlite3.connect(self.folder / "a.db") as base:
            base.execute('create table t ("on" text, route text, fare text, seats text)')
            base.executemany("insert into t values (?, ?, ?, ?)", self.ROWS)

    def books(self, numbers, **more):
        given = {"date": "on", "by": "route", "measures": self.MEASURES, "numbers": numbers} | more
        yield ep.Daybook(self.frame, **given)
        for name in ("a.csv", "a.parquet", "a.jsonl"):
            yield ep.Daybook.read(self.folder / name, **given)
        with xlsxwriter.Workbook(self.folder / "a.xlsx") as workbook:
            sheet = workbook.add_worksheet()
            for number, row in enumerate([list(self.frame), *self.ROWS]):
                sheet.write_row(number, 0, row)
        yield ep.Daybook.read(self.folder / "a.xlsx", **given)
        yield ep.Daybook.read(
            f"sqlite:///{self.folder}/a.db", files=ep.FileRules(query="select * from t"), **given
        )

    def test_every_kind_of_input(self):
        rules = ep.NumberRules(thousands=",", strip="$", brackets=True, blanks="NA")
        for numbers in (rules, "infer"):
            for book in self.books(numbers):
                with self.subTest(source=book.source):
                    rows = {row["period"]: row for row in book.recap("month").rows()}
                    self.assertEqual(rows["2024-01"]["s"], Decimal("1234.50"))
                    self.assertEqual(rows["2024-02"]["s"], Decimal("-12.25"))
                    self.assertEqual(rows["2024-02"]["n"], 1)
                    self.assertEqual(rows["2024-01"]["p"], Decimal("2469.00"))
                    self.assertTrue(book.recap("month").trace(1, "s").agrees)
                    self.assertIn("1 'NA' in 'fare' read as blank and left out", book.notes)
                    self.assertNotIn("1 blank value in 'fare' left out", book.notes)  # said once
            for book in self.books(numbers, where="fare > 0"):
                with self.subTest(source=book.source):
                    rows = [*book.recap("month").rows()]
                    self.assertEqual([r["s"] for r in rows], [Decimal("1234.50"), 0, 3])

    @needs_clusters
    def test_a_cluster_decides_once_for_all_parts(self):
        for name, rows in (("b.csv", ("1,234", "0,5")), ("c.csv", ("2,345", "3,456"))):
            with (self.folder / name).open("w", newline="") as file:
                lines = [("2024-01-01", text) for text in rows]
                csv.writer(file).writerows([("on", "fare"), *lines])
        asked = {"date": "on", "measures": "s=sum(fare)", "numbers": "infer"}
        with client_of_threads() as client:
            paths = [self.folder / "b.csv", self.folder / "c.csv"]
            book = ep.Daybook.read(paths, engine="dask", client=client, **asked)
        (row,) = book.recap("year").rows()
        self.assertEqual(row["s"], Decimal("7.535"))

    def test_windows_along_a_column(self):
        found = ep.trail_values({"km": ["1 km", "2 km"], "x": ["(5)", "7"]}, along="km", back=5,
                                measures="s=sum(x)", numbers="infer")  # fmt: skip
        self.assertEqual(found["s_trailing"].tolist(), [-5, 2])

    def test_the_command_line_and_a_config(self):
        run = ["recap"]
        options = ["--date", "on", "--measure", "s=sum(fare)", "--per", "year", "--format", "json"]
        single = ["--thousands", ",", "--strip", "$", "--brackets", "--blank-number", "NA"]
        (self.folder / "eptaro.toml").write_text(
            '[data]\nfiles = ["a.csv"]\ndate = "on"\nmeasures = { s = "sum(fare)" }\n'
            '[data.numbers]\nthousands = ","\nstrip = ["$"]\nbrackets = true\nblanks = ["NA"]\n'
        )
        (self.folder / "short.toml").write_text(
            '[data]\nfiles = ["a.csv"]\ndate = "on"\nnumbers = "infer"\n'
            'measures = { s = "sum(fare)" }\n'
        )
        toml = ["--per", "year", "--format", "json", "--config"]
        for given in (
            ["a.csv", *options, "--numbers", "infer"],
            ["a.csv", *options, *single],
            [*toml, "eptaro.toml"],
            [*toml, "short.toml"],
        ):
            done = run_in(self.folder, *run, *given)
            self.assertEqual(done.returncode, 0, (given, done.stderr))
            self.assertEqual(json.loads(done.stdout)[0]["s"], 1225.25, given)
            self.assertIn("1 'NA' in 'fare' read as blank and left out", done.stderr)
        for given, said in (
            (["a.csv", *options], "--numbers infer"),
            (["a.csv", *options, "--numbers", "infer", "--brackets"], "rules of your own"),
        ):
            done = run_in(self.folder, *run, *given)
            self.assertNotEqual(done.returncode, 0)
            self.assertIn(said, done.stderr)

    def test_money_has_two_decimals(self):
        frame = {"on": ["2024-01-01"] * 2, "x": ["$12.5", "$3"]}
        book = ep.Daybook(frame, date="on", measures="s=sum(x)", numbers="infer")
        self.assertEqual([str(row["s"]) for row in book.recap("year").rows()], ["15.50"])

    def test_large_and_long_numbers_stay_exact(self):
        texts = ["12,345,678,901,234,567.25", "0.75"]
        frame = {"on": [dt.date(2024, 1, 1)] * 2, "x": texts}
        book = ep.Daybook(frame, date="on", measures="s=sum(x)",
                          numbers=ep.NumberRules(thousands=","))  # fmt: skip
        (row,) = book.recap("year").rows()
        self.assertEqual(row["s"], Decimal("12345678901234568.00"))
