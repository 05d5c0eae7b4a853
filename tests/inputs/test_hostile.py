"""Inputs that would end the process, hang it, or take all memory are looked at before they are read."""

import datetime as dt
import gzip
import os
import random
import tempfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import pyarrow as pa
from pyarrow import parquet

import eptaro as ep
from eptaro.engines.inspect import inspect
from eptaro.engines.suggestion import suggest
from eptaro.inputs.files.opening import open_files
from tests.cli.test_commands import DATA, Commands

ICS = ("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\n{}\r\nSUMMARY:Net Blessing\r\n"
       "END:VEVENT\r\nEND:VCALENDAR\r\n")  # fmt: skip


class Lines(Commands):
    """Newline-delimited JSON, CSV and Parquet that are odd from the start or on the way."""

    def said(self, path, *more):
        status, _, err = self.go("recap", path, *DATA, "--per", "year", *more)
        self.assertEqual(status, 1, err)
        self.assertNotIn("a fault of ours", err)
        return err

    def test_json_lines_that_are_no_objects(self):
        good = '{"on": "2025-01-01", "fare": 1}\n'
        for number, text in ((1, "null\n" + good), (2, good + "null\n"), (1, "[1]\n"), (3, good * 2 + ' "a"\n'),
                             (2, good + "5\n" + good), (1, "  true\n")):  # fmt: skip
            Path("t.ndjson").write_text(text)
            self.assertIn(f"row {number} is not a JSON object", self.said("t.ndjson"))
        Path("t.ndjson").write_text("\n" + good + "\n  " + good)
        self.assertEqual(self.go("recap", "t.ndjson", *DATA, "--per", "year")[0], 0)

    def test_headers_without_end_and_packed_repetition(self):
        Path("long.csv").write_text("a" * (1 << 25))
        self.assertIn("its first line has over 16 MB", self.said("long.csv"))
        with gzip.open("long.csv.gz", "wb", compresslevel=1) as packed:
            for _ in range(40):
                packed.write(b"a" * (1 << 20))
        self.assertIn("its first line has over 16 MB", self.said("long.csv.gz"))

    def test_a_packed_file_of_little_but_repetition(self):
        from eptaro.inputs.files import csv as csvfiles

        self.enterContext(mock.patch.object(csvfiles, "_LARGE", 1 << 20))
        self.enterContext(mock.patch.object(csvfiles, "_MOST_RATIO", 100))
        self.enterContext(mock.patch.object(csvfiles, "_BLOCK", 1 << 20))
        with gzip.open("same.csv.gz", "wb") as packed:
            packed.write(b"on,fare\n" + b"2025-01-01,1\n" * 1_000_000)
        self.assertRegex(
            self.said("same.csv.gz"), r"bytes unpack to over [\d,]+, more than 100 times"
        )

    def test_parquet_without_rows(self):
        table = pa.table({"on": ["2025-01-01"], "fare": [1]})
        parquet.write_table(table.slice(0, 0), "none.parquet")
        parquet.write_table(table, "one.parquet")
        self.assertIn("no rows", self.said("none.parquet"))
        status, out, err = self.go("recap", "none.parquet", "one.parquet", *DATA, "--per", "year")
        self.assertEqual((status, "2025" in out), (0, True), err)

    def test_headers_that_are_blank_and_encodings_that_are_none(self):
        Path("blank.csv").write_text("on,,,fare\n2025-01-01,a,b,1\n")
        self.assertEqual(self.go("recap", "blank.csv", *DATA, "--per", "year")[0], 0)
        self.assertIn("two columns are called ''", self.go("annotate", "blank.csv", "--date", "on", "--add", "hour",
                                                           "--out", "o.csv")[2])  # fmt: skip
        for encoding in ("rot13", "hex", "no such", "idna"):
            self.said("rows.csv", "--encoding", encoding)
        Path("deep.toml").write_text("a = " + "[" * 30_000)
        status, _, err = self.go("recap", "--config", "deep.toml", "--per", "year")
        self.assertEqual((status, "deep.toml: is not a TOML file" in err), (1, True), err)
        odd = os.fsdecode(b"a\xff.parquet")
        status, _, err = self.go("recap", "rows.csv", *DATA, "--per", "year", "--out", odd)
        self.assertEqual((status, "cannot be written" in err), (1, True), err)

    def test_many_columns_take_time_by_their_number_alone(self):
        rng = random.Random(1)
        names = ["on", *(f"c{n}" for n in range(600))]
        rows = [["2025-01-01", *(rng.choice("xy12") for _ in names[1:])] for _ in range(20)]
        Path("wide.csv").write_text("\n".join(",".join(row) for row in [names, *rows]))
        calls = []
        real = ep.DateRules

        def counted(column, *args):
            calls.append(1)
            return read(column, *args)

        from eptaro.engines import inspect as looked
        from eptaro.inputs.dates import clock

        read = clock.read_dates
        for module in (looked, clock):
            self.enterContext(mock.patch.object(module, "read_dates", counted))
        source = open_files(["wide.csv"])
        self.assertEqual(list(suggest(source, real()).dates), ["on"])
        self.assertEqual(inspect(source).column("value").to_list()[0], "on")
        self.assertLess(len(calls), 20)  # the full look is at columns alone that may be dates


class Workbooks(unittest.TestCase):
    """A reader of workbooks is a process of its own, with bounds."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def refused(self, path):
        with self.assertRaises(ep.InputError) as caught:
            ep.Daybook.read(path, date="on", measures="n=count()")
        return str(caught.exception)

    def test_a_cell_at_the_far_corner(self):
        import openpyxl

        book = openpyxl.Workbook()
        book.active["A1"], book.active["XFD1048576"] = "on", "x"
        book.save(self.folder / "far.xlsx")
        self.assertIn("its reader stopped", self.refused(self.folder / "far.xlsx"))

    def test_content_that_stops_inside_a_table(self):
        pieces = {"mimetype": "application/vnd.oasis.opendocument.spreadsheet",
                  "content.xml": '<a xmlns:table="t"><table:table table:name="S"><table:table-row '}  # fmt: skip
        with zipfile.ZipFile(self.folder / "cut.ods", "w") as packed:
            for name, text in pieces.items():
                packed.writestr(name, text)
        self.assertIn("unclosed token", self.refused(self.folder / "cut.ods"))

    def test_a_reader_that_does_not_end(self):
        import openpyxl

        from eptaro.inputs.files import workbooks

        openpyxl.Workbook().save(self.folder / "slow.xlsx")
        slow = self.folder / "slow.py"
        slow.write_text("import time; time.sleep(60)")
        self.enterContext(mock.patch.object(workbooks, "_PATIENCE", 1))
        self.enterContext(mock.patch.object(workbooks.sheetchild, "__file__", str(slow)))
        self.assertIn("did not end within 1 seconds", self.refused(self.folder / "slow.xlsx"))


class Holidays(unittest.TestCase):
    """Holiday files that recur without end, last for ever or are damaged."""

    def read(self, body):
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "h.ics"
            file.write_text(body)
            return ep.HolidaySet.from_icalendar(file, 2024, 2026)

    def test_rules_and_spans_out_of_bounds(self):
        start = "DTSTART;VALUE=DATE:20250101\r\n"
        for body, said in ((f"{start}RRULE:FREQ=SECONDLY", "recurs"), (f"{start}RRULE:FREQ=HOURLY;COUNT=3", "recurs"),
                           (f"{start}RRULE:FREQ=DAILY;INTERVAL=0", "recurs"),
                           (f"{start}DTEND;VALUE=DATE:99991231", "lasts 2,912,807 days"),
                           ("DESCRIPTION:none", "has no DTSTART"), (f"{start}RRULE:FREQ=OFTEN", "cannot be read")):  # fmt: skip
            with self.assertRaisesRegex(ep.InputError, said):
                self.read(ICS.format(body))
        yearly = self.read(ICS.format(f"{start}RRULE:FREQ=YEARLY;UNTIL=20991231T000000Z"))
        self.assertEqual([h.day.year for h in yearly.holidays], [2025, 2026])

    def test_damaged_files(self):
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "h.csv"
            for content in (b"date,name\n2025-01-01\n", b"date,name\n\xff\xff,x\n", b"date,name\n,x\n",
                            b"date,name\n2025-01-01," + b"x" * 200_000 + b"\n"):  # fmt: skip
                file.write_bytes(content)
                with self.assertRaises(ep.InputError):
                    ep.HolidaySet.from_csv(file)


class Books(unittest.TestCase):
    """What a damaged book says of itself is an error of ours."""

    def test_metadata(self):
        from eptaro.version import BOOK_MARK

        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "b.parquet"
            made = ep.Daybook(
                {"on": [dt.date(2025, 1, 1)], "x": [1.5]},
                date="on",
                measures=["s=sum(x)", "m=max(x)"],
            )
            table = parquet.read_table(made.write(path))
            good = table.schema.metadata[BOOK_MARK].decode()
            for old, new in (("{", "["), ('"planes": [[', '"planes": [[[5], '), ('"float"', '"flout"'), ("2025", "20x5"),
                             ('"sum"', '"summ"'), ('"measures": ["', '"measures": ["q=median(x)", "'),
                             ('"calendar": {', '"calendar": {"kind": 5, "x": '), ('"version": ', '"version": -'),
                             ('"rows": ', '"rows": "x'), ('"coverage": "', '"coverage": "9')):  # fmt: skip
                self.assertIn(old, good)
                changed = {BOOK_MARK: good.replace(old, new, 1).encode()}
                parquet.write_table(table.replace_schema_metadata(changed), path)
                with self.assertRaises(ep.EptaroError, msg=new):
                    ep.Daybook.open(path)

    def test_reports_of_thousands_of_years(self):
        made = ep.Daybook({"on": ["0001-01-01", "9999-12-31"]}, date="on", measures="n=count()")
        for name in ("r.html", "r.xlsx"):
            with self.assertRaisesRegex(ep.QuestionError, "reach over 10,005 years"):
                made.report(name)
