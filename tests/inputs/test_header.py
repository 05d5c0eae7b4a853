"""Lines above the names of a CSV file, and files whose ending says nothing."""

import gzip
import shlex
import subprocess
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path

import eptaro as ep
from eptaro.inputs.files.guessing import guess_file_rules
from tests.clusters import client_of_threads, needs_clusters

ABOVE = "Ferries of the isles\n\nprinted,2025-08-20\n"
ROWS = "on,route,fare\n2025-01-02,Norrow,7.50\n2025-02-03,Fenholm,12.25\n"
ASKED = {"date": "on", "by": "route", "measures": "s=sum(fare)"}


class Headers(unittest.TestCase):
    """The same answer as from a plain file."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (self.folder / "plain.csv").write_text(ROWS)
        plain = ep.Daybook.read(self.folder / "plain.csv", **ASKED)
        self.wanted = [*plain.recap("month", by="route").rows()]

    def held(self, path: Path, **rules):
        book = ep.Daybook.read([str(path)], files=ep.FileRules(**rules), **ASKED)
        self.assertEqual([*book.recap("month", by="route").rows()], self.wanted)
        found = ep.inspect(path, date="on", files=ep.FileRules(**rules))
        self.assertIn(2, [row["count"] for row in found.rows() if row["subject"] == "rows"])

    def test_lines_above_the_names_are_passed_over(self):
        for ending in ("\n", "\r\n"):
            path = self.folder / "above.csv"
            path.write_bytes((ABOVE + ROWS).replace("\n", ending).encode("utf-8-sig"))
            self.held(path, header_row=4)
            with self.assertRaisesRegex(ep.InputError, "line 4 names it: use header_row=4"):
                ep.Daybook.read(path, **ASKED)

    @needs_clusters
    def test_a_file_without_names_has_numbered_columns(self):
        for name, pack in (("bare.csv", bytes), ("bare.csv.gz", gzip.compress)):
            path = self.folder / name
            path.write_bytes(pack(ROWS.partition("\n")[2].encode()))
            asked = {"date": "c1", "by": "route=trim(c2)", "measures": "s=sum(c3)"}
            with client_of_threads() as client:
                for more in ({}, {"engine": "dask", "client": client}):
                    book = ep.Daybook.read(
                        path, files=ep.FileRules(header_row="none"), **asked, **more
                    )
                    self.assertEqual([*book.recap("month", by="route").rows()], self.wanted)
            names = [row["value"] for row in ep.inspect(path, files=ep.FileRules(header_row="none")).rows()
                     if row["subject"] == "column"]  # fmt: skip
            self.assertEqual(names, ["c1", "c2", "c3"])
        for wrong in (0, -1, "None", 1.5):
            with self.assertRaisesRegex(
                ep.InputError, "neither a line of a file, from 1, nor none"
            ):
                ep.FileRules(header_row=wrong)

    def test_a_first_row_taken_for_names_is_seen(self):
        for first, others, named in (
            ("2025-01-05,a,1.5", "2025-02-06,b,2\n,c,1\n", False), ("N,05/01/2025", "M,28/02/2025\n", False),
            ("7;20250105", "8;20250228\n", False), ("on,2025-01-05", "2025-01-06,7\n", True),
            ("item,2025-01-05,2025-02-05", "a,1,2\nb,3,4\n", True), ("2025-01-05,x", "", True),
            ("1/2/2025,v", "soon,1\n", True), ("20259999,n", "20251111,2\n", True)):  # fmt: skip
            path = self.folder / "first.csv"
            path.write_text(f"{first}\n{others}")
            rules, words = guess_file_rules(str(path), ep.FileRules())
            self.assertEqual(rules.header_row == "none", not named, first)
            self.assertEqual(
                "no line names the columns: they are called c1, c2, ..." in words, not named, first
            )
        path.write_text("2025-01-05,1.5\n2025-02-06,2\n")
        for date in (None, "2025-01-05"):
            book = ep.Daybook.read(path, date=date, measures="n=count()")
            self.assertIn("is a row, use header_row='none'", " ".join(book.notes))
        book = ep.Daybook.read(
            path, date="c1", measures="n=count()", files=ep.FileRules(header_row="none")
        )
        self.assertEqual((book.notes, book.recap("year")["n"].tolist()), ((), [2]))

    def test_spaces_before_quotes_are_named(self):
        path = self.folder / "spaced.csv"
        path.write_text('on, route, fare\n2025-01-05, "a, b", 1.5\n2025-02-05, "c", 2\n')
        with self.assertRaisesRegex(ep.InputError, "remove the spaces before quotes") as caught:
            ep.Daybook.read(path, date="on", measures="n=count()")
        command = shlex.split(str(caught.exception).partition("such as with ")[2])
        path.write_bytes(
            subprocess.run([*command, str(path)], capture_output=True, check=True).stdout
        )
        book = ep.Daybook.read(path, date="on", by='route=" route"', measures='s=sum(" fare")')
        self.assertEqual(
            [row["s"] for row in book.recap("year", by="route").rows()], [Decimal("1.5"), 2]
        )

    def test_names_that_are_there_twice_are_refused(self):
        path = self.folder / "twice.csv"
        path.write_text(ROWS.replace("route", "fare"))
        with self.assertRaisesRegex(ep.InputError, "two columns are called 'fare'; rename .*them$"):
            ep.Daybook.read(path, date="on", measures="s=sum(fare)")

    def test_files_without_an_ending_or_with_another(self):
        for name in ("rows.txt", "rows", "rows.dat"):
            path = self.folder / name
            path.write_text(ROWS)
            self.held(path, like="csv")
            with self.assertRaisesRegex(ep.InputError, "if it is text, use like="):
                ep.Daybook.read(path, **ASKED)
        path = self.folder / "rows.out"
        path.write_text((ABOVE + ROWS).replace(",", "\t"))
        self.held(path, like=".TSV", header_row=4)
        path = self.folder / "rows.gz"
        path.write_bytes(gzip.compress((ABOVE + ROWS).encode()))
        self.held(path, like="csv", header_row=4)

    def test_what_cannot_be(self):
        path = self.folder / "plain.csv"
        for rules, said in (({"header_row": 0}, "from 1"), ({"header_row": 9}, "begins with a line of column names"),
                            ({"like": "doc"}, "unknown file ending '.doc'")):  # fmt: skip
            with self.assertRaisesRegex(ep.InputError, said):
                ep.Daybook.read(path, files=ep.FileRules(**rules), **ASKED)
        other = self.folder / "rows.ndjson"
        other.write_text('{"on": "2025-01-01"}\n')
        with self.assertRaisesRegex(ep.InputError, "is only for CSV files"):
            ep.Daybook.read(
                other, files=ep.FileRules(header_row=2), date="on", measures="n=count()"
            )
