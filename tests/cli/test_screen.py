"""Tables on the screen fit their width, and say what they leave out."""

import contextlib
import io
import os
import random
import re
import subprocess
import sys
import unicodedata
import unittest
from unittest import mock

import eptaro as ep
from eptaro.cli.layout import align_decimals
from eptaro.cli.process import fold_message
from eptaro.cli.show import show
from tests.commands import run_in


def book(groups, measures, seed=3):
    """Return random sales in some groups."""
    rng = random.Random(seed)
    rows = [(f"{year}-{month:02d}-{rng.randint(1, 28):02d}", f"Harbour {group}", rng.choice([None, rng.randint(-999, 10**rng.randint(1, 7))]))
            for year in (2023, 2024, 2025) for month in range(1, 13) for group in range(groups) for _ in range(2)]  # fmt: skip
    on, g, x = zip(*rows, strict=True)
    return ep.Daybook({"on": on, "g": g, "x": x}, date="on", by="g", measures=measures)


class Fits(unittest.TestCase):
    """At any width no line is longer, no figure is cut, and each column is shown or named."""

    def shown(self, table, width):
        out = io.StringIO()
        with contextlib.redirect_stdout(out), mock.patch.dict(os.environ, {"COLUMNS": str(width)}):
            show(table)
        return out.getvalue()

    def test_every_verb_at_every_width(self):
        made = book(4, ["revenue=sum(x)", "n=count()", "typical=mean(x)"])
        tables = (
            made.compare("quarter", by="g"), made.compare("year", to_date=True, by="g", details=True), made.recap("month", by="g"),
            made.accumulate("year", every="quarter", by="g"), made.trail("6 months", every="quarter", by="g"),
            made.recap("year", by="g", shares=True, ranks=True), made.rhythm("weekday"),
        )  # fmt: skip
        for table in tables:
            for width in (80, 100, 120, 200):
                text = self.shown(table, width)
                body = text.split("tied out")[0].split("calendar: years")[0]
                self.assertLessEqual(
                    max(len(line.rstrip()) for line in body.splitlines()), width, table.meta["verb"]
                )
                flat = " ".join(text.split())
                for row in list(table.rows())[-3:]:
                    for name in (
                        "revenue",
                        "revenue_to_date",
                        "revenue_trailing",
                        "revenue_change",
                    ):
                        if row.get(name) is not None:
                            self.assertIn(f"{row[name]:,}", flat, (table.meta["verb"], width, name))

    def test_a_terminal_shows_the_same_words_as_a_file(self):
        made = book(4, ["revenue=sum(x)", "n=count()"])
        for table in (made.compare("quarter", by="g"), made.recap("month", by="g", totals=True), made.rhythm("weekday", by="g")):  # fmt: skip
            for width in (80, 120, 200):
                plain = self.shown(table, width).split("tied out")[0].split("calendar: years")[0]
                with mock.patch.dict(os.environ, {"FORCE_COLOR": "1", "TERM": "xterm"}):
                    out = io.StringIO()
                    with contextlib.redirect_stdout(out), mock.patch.dict(os.environ, {"COLUMNS": str(width)}):  # fmt: skip
                        show(table, len(table) + 9)
                self.assertIn("\x1b[1m", out.getvalue())
                styled = re.sub(r"\x1b\[[\d;]*m", "", out.getvalue()).split("tied out")[0].split("calendar: years")[0]  # fmt: skip
                self.assertEqual([line.rstrip() for line in styled.splitlines()],
                                 [line.rstrip() for line in plain.splitlines()])  # fmt: skip

    def test_wide_letters_are_shown_whole_and_in_line(self):
        columns = {
            "on": ["2025-01-01"] * 3,
            "g": ["東京駅前の大通り", "Fenholm", "e\u0301te\u0301"],
            "x": [1, 2, 3],
        }
        text = self.shown(
            ep.Daybook(columns, date="on", by="g", measures="n=sum(x)").recap("day", by="g"), 80
        )
        rows = [line for line in text.splitlines() if line.startswith((*columns["g"],))]
        self.assertEqual(len(rows), 3)
        ends = {sum(0 if unicodedata.combining(c) else 2 if unicodedata.east_asian_width(c) in "WF" else 1 for c in line) for line in rows}  # fmt: skip
        self.assertEqual(len(ends), 1, text)
        for name in columns["g"]:
            self.assertIn(f"{name}  ", text)

    def test_what_does_not_fit_is_named(self):
        table = book(2, ["revenue=sum(x)"]).compare("quarter", by="g")
        for width in (60, 80, 100, 120, 160):
            text = self.shown(table, width)
            for words in ("prior days", "comparable"):
                self.assertIn(words, " ".join(text.split()), width)
            heads = " ".join(text.split("─")[0].split())
            left = re.search(r"not shown: (.*?);", " ".join(text.split()))
            for words in left[1].split(", ") if left else ():
                self.assertNotIn(words, heads, width)

    def test_what_is_rare_is_shown_where_it_occurs_only(self):
        for day, clamped in (("2024-03-30", True), ("2024-03-29", False)):
            book = ep.Daybook(
                {"on": ["2024-01-01", day], "s": [1, 2]}, date="on", measures="s=sum(s)"
            )
            table = book.compare("month", to_date=True, back="1 month")
            self.assertEqual("prior end cut short" in self.shown(table, 200), clamped, day)

    def test_decimal_marks_stand_in_one_place(self):
        for lines in (["+31.0%", "-0.05%", "7.123%"], ["1.5", "20.25", "-"], ["3", "400"]):
            width = max(map(len, lines)) + 3
            marks = {line.rjust(width).find(".") for line in align_decimals(lines) if "." in line}
            self.assertLessEqual(len(marks), 1, lines)


@unittest.skipUnless(hasattr(os, "openpty"), "there are no terminals of this kind here")
class Messages(unittest.TestCase):
    """Messages on a terminal end their lines between words; another program gets them whole."""

    def said(self, words, width=None):
        """Return what a command says on standard error, a terminal of some width or a pipe."""
        command = [sys.executable, "-m", "eptaro", *words]
        if width is None:
            return run_in(".", *words).stderr
        from termios import tcsetwinsize

        screen, end = os.openpty()
        tcsetwinsize(end, (24, width))
        with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=end) as process:
            os.close(end)
            pieces = []
            with contextlib.suppress(OSError):  # how a terminal ends
                while piece := os.read(screen, 4096):
                    pieces.append(piece)
            os.close(screen)
        self.assertNotEqual(process.returncode, 0)
        return b"".join(pieces).decode().replace("\r\n", "\n")

    def test_no_line_is_wider_than_the_terminal(self):
        words = "of the 31 days of January 2024 all but five are covered " * 4
        for width in range(12, 90):
            size = os.terminal_size((width, 24))
            with mock.patch("os.get_terminal_size", return_value=size), mock.patch("sys.stderr"):
                folded = fold_message(words.strip())
            self.assertEqual(folded.split(), words.split())
            self.assertLessEqual(max(map(len, folded.splitlines())), width)

    def test_lines_end_between_words(self):
        for words, width in (
            (["recap", "there is no such file with so long a name.csv", "--measure", "count()",
             "--per", "month", "--date", "on", "--coverage", "2024-01-01..2024-12-31"], 40),
            (["recap", "x.csv", "--measure", "count()", "--per", "month", "--match", "calendar days"], 72),
            (["recap", "x" * 90, "--measure", "count()", "--per", "month", "--date", "on"], 72),
        ):  # fmt: skip
            *_, whole = self.said(words).split("\n\n")  # what comes before is the usage
            lines = whole.splitlines()
            *_, folded = self.said(words, width).split("\n\n")
            self.assertEqual(folded.split(), whole.split())
            for line in folded.splitlines():
                single = len(line.split()) == 1 or line in lines
                self.assertTrue(len(line) <= width or single, line)
            more = len(folded.splitlines()) > len(lines)
            self.assertEqual(more, any(len(line) > width for line in lines), folded)
