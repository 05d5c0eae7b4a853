"""What goes wrong outside: kills, full disks, closed pipes, Ctrl-C, and input gone mad."""

import io
import logging
import os
import random
import resource
import signal
import subprocess
import sys
import tarfile
import unittest
import zipfile
from pathlib import Path

import click
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import eptaro as ep
from eptaro.cli.app import app
from eptaro.cli.messages import is_quiet
from eptaro.cli.options import _choices, options_of
from eptaro.core.measures.measure import parse_measures
from eptaro.core.verbs.queries import Accumulate, Compare, Recap, Rhythm, Trail
from eptaro.progress import LOGGER
from tests.cli.test_commands import DATA, Commands, commands

KILLED = """
import os, sys, time
import eptaro as ep
import eptaro.outputs.files as files
whole = files.replace_whole
def slowly(target, fill):
    def half(beside):
        fill(beside)
        print(os.getpid(), flush=True)
        time.sleep(60)
    return whole(target, half)
for name in list(sys.modules):
    module = sys.modules[name]
    if name.startswith("eptaro") and hasattr(module, "replace_whole"):
        module.replace_whole = slowly
import matplotlib.backends.backend_pdf, matplotlib.backends.backend_svg, pyarrow.parquet, xlsxwriter
import eptaro.storage.bookfile, eptaro.plots.page, eptaro.reports.report, eptaro.reports.workbook
for module in (files, eptaro.storage.bookfile, eptaro.plots.page, eptaro.reports.report, eptaro.reports.workbook):
    module.replace_whole = slowly
book = ep.Daybook({"on": ["2025-01-01", "2025-02-03"], "x": [1, 2]}, date="on", measures="s=sum(x)")
def write(path):
    if path.endswith(("report.html", "report.xlsx")):
        book.report(path)
    elif path.endswith((".png", ".svg", ".pdf")):
        book.recap("month").plot(path)
    elif path.endswith("book.parquet"):
        book.write(path)
    else:
        book.recap("month").write(path)
for path in sys.argv[1:]:
    if not os.fork():
        write(path)
        os._exit(0)
    os.wait()
"""
NAMES = ("t.csv", "t.json", "t.md", "t.parquet", "t.arrow", "t.xlsx", "t.html", "report.html",
         "report.xlsx", "p.png", "p.svg", "p.pdf", "book.parquet")  # fmt: skip
DAYS = ("dimension", "--from", "2025-01-01", "--through", "2025-12-31")


class Stopped(Commands):
    """Whatever stops a command, a file is the old one or the new one."""

    def test_a_kill_in_the_middle_of_writing_leaves_the_old_file(self):
        paths = [self.folder / name for name in NAMES]
        for path in paths:
            path.write_bytes(b"old")
        command = [sys.executable, "-c", KILLED, *map(str, paths)]
        with subprocess.Popen(command, stdout=subprocess.PIPE) as process:
            for _ in paths:  # each in a process of its own, which has written half
                os.kill(int(process.stdout.readline()), signal.SIGKILL)
        for path in paths:
            self.assertEqual(path.read_bytes(), b"old", path)

    def test_a_full_disk_is_told_and_changes_nothing(self):
        names = ("t.csv", "t.json", "t.parquet", "t.xlsx")
        written = {name: self.go(*DAYS, "--out", name) for name in names}  # loads what they need
        self.assertEqual({status for status, *_ in written.values()}, {0})
        limits = resource.getrlimit(resource.RLIMIT_FSIZE)
        self.addCleanup(resource.setrlimit, resource.RLIMIT_FSIZE, limits)
        self.addCleanup(signal.signal, signal.SIGXFSZ, signal.getsignal(signal.SIGXFSZ))
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        for name in names:
            Path(name).write_bytes(b"old")
            resource.setrlimit(resource.RLIMIT_FSIZE, (200, limits[1]))
            status, _, said = self.go(*DAYS, "--out", name)
            resource.setrlimit(resource.RLIMIT_FSIZE, limits)
            self.assertEqual(status, 1, said)
            self.assertRegex(said, f"eptaro: {name}: cannot be written: .*(too large|File)")
            self.assertEqual(Path(name).read_bytes(), b"old")
            self.assertEqual([p.name for p in Path().glob(f".{name}*")], [])

    def test_a_reader_that_goes_away_is_no_error(self):
        for form in ("csv", "table"):
            command = [sys.executable, "-m", "eptaro", "dimension", "--from", "1990-01-01", "--through", "1999-12-31",
                       "--columns", "key", "--format", form]  # fmt: skip
            process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
            with process:
                self.assertTrue(process.stdout.readline())
                process.stdout.close()
                self.assertEqual(process.stderr.read(), b"", form)
            self.assertEqual(process.returncode, 0, form)


class Hostile(Commands):
    """Input gone mad gives our own errors and nothing else."""

    def refused(self, *arguments):
        status, _, err = self.go(*arguments)
        self.assertIn(status, (0, 1, 2), err)
        self.assertNotIn("a fault of ours", err, arguments)
        return status

    def test_files_that_are_not_what_they_say(self):
        packed = io.BytesIO()
        with tarfile.open(fileobj=packed, mode="w:gz") as archive:
            archive.addfile(tarfile.TarInfo("x"))
        sheet = io.BytesIO()
        with zipfile.ZipFile(sheet, "w") as archive:
            archive.writestr("inner.zip", packed.getvalue())
        contents = [b"", b"\n", b"\x00" * 100, b"on,fare", b"on,fare\n\x00,\x00\n", b"\xff\xfe\x00", packed.getvalue(),
                    sheet.getvalue(), b"on,fare\n" + b"9" * 100_000 + b",1\n", ("on," * 50_000 + "fare\n").encode(),
                    b'on,fare\n"2025-01-01,1\n', "on,fare\n2025-01-01,\ud800\n".encode("utf-8", "surrogatepass"),
                    b"on,fare\n2025-01-01,1e400\n", b"on,fare\n2025-01-01,99999999999999999999999999\n",
                    b"on,fare\n0000-00-00,1\n", b"on,fare\n9999-12-31,1\n0001-01-01,2\n"]  # fmt: skip
        for ending in ("csv", "csv.gz", "parquet", "arrow", "xlsx", "ods", "ndjson"):
            for content in contents:
                Path(f"odd.{ending}").write_bytes(content)
                self.refused("recap", f"odd.{ending}", *DATA, "--per", "year", "--format", "csv")
                self.refused("inspect", f"odd.{ending}", "--date", "on", "--format", "csv")

    def test_files_with_bytes_turned(self):
        rng = random.Random(4)
        plain = {"rows.csv": Path("rows.csv").read_bytes()}
        table = ep.Daybook.read("rows.csv", date="on", measures="revenue=sum(fare)").recap("month")
        for name in ("t.parquet", "t.arrow", "t.xlsx"):
            plain[name] = table.write(name).read_bytes()
        stream = io.BytesIO()
        frame = table.to_arrow()
        with pa.ipc.new_stream(stream, frame.schema) as unpacked:
            unpacked.write_table(frame)
        plain["s.arrow"] = stream.getvalue()
        for name, content in plain.items():
            for _ in range(15):
                turned = bytearray(content)
                for _ in range(rng.randint(1, 8)):
                    turned[rng.randrange(len(turned))] = rng.randrange(256)
                Path(f"bad-{name}").write_bytes(bytes(turned))
                self.refused("recap", f"bad-{name}", "--date", "first", "--measure", "s=sum(revenue)", "--per", "year",
                             "--by", "period", "--format", "csv")  # fmt: skip

    def test_configs_and_options(self):
        rng = random.Random(5)
        text = (Path(ep.__file__).parent / "demo" / "data" / "eptaro.toml").read_text()
        Path("bookings.csv").write_text("sailed_on,route,fare\n2025-01-01,a,1\n")
        for _ in range(60):
            turned = list(text)
            for _ in range(rng.randint(1, 12)):
                turned[rng.randrange(len(turned))] = rng.choice("\"'=[]{}#\n,.0129abz\\é ")
            Path("eptaro.toml").write_text("".join(turned))
            self.refused("recap", "--config", "eptaro.toml", "--per", "year", "--format", "csv")
        words = ["recap", "compare", "trail", "rows.csv", *DATA, "--per", "month", "--back", "1 year", "-1", "", "NaN",
                 "--to-date", "--match", "weekday", "--by", "shop", "--only", "2025..", "--as-of", "latest", "\ud800",
                 "{0.__class__}", "--prefix", "%s", "--year-starts", "02-30", "--rows", "2"]  # fmt: skip
        for _ in range(50):
            self.refused(*rng.sample(words, rng.randint(1, 9)))


ASKED = {"recap": ("--per", "month"), "compare": ("--per", "month"), "rhythm": ("--per", "weekday"),
         "accumulate": ("--within", "year"), "trail": ("--back", "2 months")}  # fmt: skip
VALUES = ("foo", "", "-1", "0", "é x", "2025-13-45", "..", "a=b=c", "1e99", "year", "2024-01..2025-02", "-",
          "%", '"', "[x]", "1,2", "sum(fare)", "on", "shop", "2 months", "prior-year")  # fmt: skip


class Options(Commands):
    """Any option with any value: an answer, or a line of ours."""

    def check(self, *arguments: str) -> str:
        status, _, err = self.go(*arguments)
        self.assertIn(status, (0, 1, 2), arguments)
        self.assertNotRegex(err, "internal error|Traceback|Warning", arguments)
        return err

    def test_a_word_that_is_no_choice(self):
        refused = 0
        for kind in (Recap, Accumulate, Trail, Compare, Rhythm):
            data = (kind.verb, "rows.csv", *DATA, *ASKED[kind.verb])
            for option in options_of(kind).values():
                if _choices(option.hint):
                    self.assertRegex(self.check(*data, option.flag, "fooo"), "fooo|belongs to")
                    refused += 1
        self.assertGreater(refused, 8)

    def test_what_is_asked_of_one_command_is_not_asked_of_the_next(self):
        handlers = [*logging.getLogger(LOGGER).handlers]
        for more in ((), ("--rows", "foo"), ("--fooo",)):
            self.go("recap", "rows.csv", *DATA, "--per", "month", "-q", "-v", *more)
            self.assertFalse(is_quiet(), more)
            self.assertEqual(logging.getLogger(LOGGER).handlers, handlers, more)

    def test_at_random(self):
        rng = random.Random(7)
        context = click.Context(app)
        known = [(n, c) for n, c in commands(app, context) if not isinstance(c, click.Group)]
        for _ in range(600):
            name, command = rng.choice([one for one in known if one[0] != "demo"])
            place = ["calendar", name] if name in ("show", "check", "export") else [name]
            arguments = [*place, *(["rows.csv", *DATA, *ASKED[name]] if name in ASKED else [])]
            options = [
                p for p in command.params if isinstance(p, click.Option) and p.name != "help"
            ]
            for option in rng.sample(options, min(len(options), rng.choice((1, 1, 2, 3)))):
                arguments += [option.opts[0], *([] if option.is_flag else [rng.choice(VALUES)])]
            self.check(*arguments)


class Parsers(unittest.TestCase):
    """Labels, measures and spans: any text gives a value or an error of ours."""

    CALENDARS = (
        ep.MonthCalendar(),
        ep.WeekCalendar("cafe"),
        ep.MonthCalendar("f", year_starts="09-10", prefix="{x}%s"),
    )

    @settings(max_examples=100)
    @given(
        st.one_of(
            st.text("0123456789-./: FYHQMWadyr,()=\"'\\%{}\t\n\0\u0663\ud800é東", max_size=30),
            st.from_regex(r"(FY)?[0-9]{1,5}(-[HQMW]?[0-9]{1,3})?(\.\.)?", fullmatch=True),
        )
    )
    def test_labels_and_dates(self, text):
        book = ep.Daybook({"on": ["2025-01-01"], "x": [1]}, date="on", measures="s=sum(x)")
        for ask in (*(calendar.period for calendar in self.CALENDARS), ep.Span.parse,
                    lambda only: book.recap("month", only=only), lambda b: book.compare("month", back=b),
                    lambda a: book.compare("month", against=a), book.accumulate):  # fmt: skip
            try:
                ask(text)
            except ep.EptaroError as error:
                self.assertTrue(str(error))

    @settings(max_examples=100)
    @given(st.text(alphabet="abcsumean()=,\"'. /0987perdyx\n\\{}%", max_size=40))
    def test_measures(self, text):
        try:
            measures = parse_measures(text)
        except ep.MeasureError:
            return
        for measure in measures:
            again = parse_measures(f"{measure.name}={measure.formula}")
            self.assertEqual(again, (measure,))
