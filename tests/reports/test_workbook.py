"""Workbooks read back by two readers: real dates, live totals that are right, safe names."""

import datetime as dt
import random
import re
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path

import openpyxl
from openpyxl.utils import range_boundaries
from python_calamine import CalamineWorkbook

import eptaro as ep
from eptaro.outputs.sheets import sheet_name
from eptaro.outputs.text import escape_formulas

FISCAL = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
NAMES = ["=1+1", "a/b:c*d?[e]\\", "'", "history", "A very long name that goes on and on 1",
         "A very long name that goes on and on 2", "@cmd", "-2+3"]  # fmt: skip


def book(names=("north", "south")) -> ep.Daybook:
    """Return money in exact cents over three fiscal years."""
    rng = random.Random(9)
    rows = [(dt.date(2022, 6, 1) + dt.timedelta(rng.randrange(1100)), rng.choice(names),
             Decimal(rng.randint(-5000, 90000)).scaleb(-2)) for _ in range(3000)]  # fmt: skip
    on, g, x = zip(*rows, strict=True)
    return ep.Daybook({"on": on, "g": g, "x": x}, date="on", by="g", calendar=FISCAL,
                      measures=["takings=sum(x)", "typical=median(x)", "n=count()"],
                      formats={"takings": ep.Format(sign="€")})  # fmt: skip


class Workbook(unittest.TestCase):
    """The workbook of a report."""

    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.book = book()
        cls.path = cls.book.report(cls.folder / "w.xlsx")
        cls.live = openpyxl.load_workbook(cls.path)
        cls.stored = openpyxl.load_workbook(cls.path, data_only=True)

    def totals(self, workbook):
        """Yield sheet, cell and the range of each live total."""
        for sheet in workbook:
            for row in sheet.iter_rows():
                for cell in row:
                    if isinstance(cell.value, str) and cell.value.startswith("="):
                        yield sheet, cell

    def test_data_dated_by_the_year_goes_on_one_sheet(self):
        rows = {"on": ["2023", "2024", "2025", "2025"], "v": [1, 2, 3, 4]}
        years = ep.Daybook(rows, date="on", measures="s=sum(v)", dates=ep.DateRules(grain="year"))
        made = openpyxl.load_workbook(years.report(self.folder / "years.xlsx"))
        self.assertEqual(made.sheetnames, ["Contents", "Years"])
        rows = [row for row in made["Years"].iter_rows(values_only=True) if row[0]]
        self.assertEqual([(row[0], row[5]) for row in rows[-4:]],
                         [("2023", 1), ("2024", 2), ("2025", 7), ("total", "=SUM(F6:F8)")])  # fmt: skip
        with self.assertRaisesRegex(ep.QuestionError, "do not lie within"):
            self.book.report(self.folder / "days.xlsx", parts="year")

    def test_live_totals_are_plain_sums_that_come_to_our_values(self):
        checked = 0
        for sheet, cell in self.totals(self.live):
            found = re.fullmatch(r"=SUM\(([A-Z]+\d+:[A-Z]+\d+)\)", cell.value)
            self.assertIsNotNone(found, cell.value)
            left, top, right, bottom = range_boundaries(found[1])
            self.assertEqual((left, right, bottom), (cell.column, cell.column, cell.row - 1))
            stored = self.stored[sheet.title]
            added = sum(
                Decimal(repr(stored.cell(r, left).value or 0)) for r in range(top, bottom + 1)
            )
            value = stored.cell(cell.row, cell.column).value
            self.assertAlmostEqual(float(added), value, 6)
            checked += 1
        self.assertGreater(checked, 25)

    def test_totals_and_rows_equal_the_verbs_in_both_readers(self):
        years = {row["period"]: row for row in self.book.recap("year").rows()}
        other = CalamineWorkbook.from_path(str(self.path))
        self.assertEqual(other.sheet_names, ["Contents", *years])
        for label, year in years.items():
            rows = other.get_sheet_by_name(label).to_python()
            total = next(row for row in rows if row[0] == "total")
            head = next(row for row in rows if row[0] == "period")
            self.assertAlmostEqual(total[head.index("takings")], float(year["takings"]), 6)
            self.assertEqual(total[head.index("n")], year["n"])
            self.assertEqual(total[head.index("typical")], "")
            months = {row["period"]: row for row in self.book.compare("month", only=label).rows()}
            seen = [row for row in rows if row[0] in months]
            self.assertEqual(len(seen), len(months))
            for row in seen:
                want = months[row[0]]
                self.assertEqual((row[1], row[2]), (want["first"], want["last"]))
                self.assertAlmostEqual(
                    row[head.index("takings prior")] or 0, float(want["takings_prior"] or 0), 6
                )
            running = self.book.accumulate("year", every="month", only=label)
            self.assertAlmostEqual(
                seen[-1][head.index("takings to date")],
                float(running.column("takings_to_date").to_list()[len(seen) - 1]), 6,
            )  # fmt: skip

    def test_dates_formats_links_panes_and_charts(self):
        sheet = self.live["FY2024"]
        first = sheet["B6"]
        self.assertTrue(first.is_date)
        self.assertEqual((first.number_format, sheet.freeze_panes), ("yyyy-mm-dd", "B6"))
        money = next(c for c in sheet[6] if isinstance(c.value, float))
        self.assertIn("€", money.number_format)
        self.assertEqual(len(sheet._charts), 1)
        self.assertEqual({cell.hyperlink.location for cell in self.live["Contents"]["A"] if cell.hyperlink},
                         {f"'{name}'!A1" for name in self.live.sheetnames[1:]})  # fmt: skip
        for name in "ABCDEF":
            self.assertGreater(sheet.column_dimensions[name].width, 6)

    def test_neighbouring_headings_have_a_gap(self):
        for sheet in self.live.worksheets[1:]:
            heads = [
                cell for row in sheet.iter_rows() for cell in row if cell.value == "takings prior"
            ]
            self.assertTrue(heads, sheet.title)
            self.assertEqual({cell.alignment.indent for cell in heads}, {1})

    def test_sheets_by_group_and_by_quarter_and_years(self):
        hostile = book(NAMES)
        path = hostile.report(self.folder / "g.xlsx", sheets="g", years=2)
        names = openpyxl.load_workbook(path).sheetnames[1:]
        self.assertEqual(len(names), len(NAMES))
        self.assertEqual(len({name.lower() for name in names}), len(names))
        for name in names:
            self.assertLessEqual(len(name), 31)
            self.assertNotRegex(name, r"[\[\]:*?/\\]")
        for _, cell in self.totals(openpyxl.load_workbook(path)):
            self.assertTrue(cell.data_type == "s" or cell.value.startswith("=SUM("))
        quarters = self.book.report(self.folder / "q.xlsx", sheets="quarter", parts="week", years=1)
        self.assertTrue(
            all("-Q" in name for name in openpyxl.load_workbook(quarters).sheetnames[1:])
        )
        for options, message in (({"sheets": "h"}, "neither a level"), ({"parts": "year"}, "do not lie within"),
                                 ({"years": 0}, "at least 1"), ({"sheets": "week", "parts": "day"}, "")):  # fmt: skip
            if message:
                with self.assertRaisesRegex(ep.QuestionError, message):
                    self.book.report(self.folder / "x.xlsx", **options)

    def test_names_of_sheets(self):
        taken = set()
        for title in ["", "'", "HISTORY", "x" * 40, "x" * 40, "X" * 31, "a:b"]:
            name = sheet_name(title, taken)
            self.assertTrue(0 < len(name) <= 31 and name.lower() not in taken)
            taken.add(name.lower())


class SafeText(unittest.TestCase):
    """Nothing from the data becomes a formula."""

    def test_tables_as_csv_and_xlsx(self):
        with tempfile.TemporaryDirectory() as folder:
            table = book(NAMES).recap("year", by="g")
            lines = table.write(Path(folder) / "t.csv").read_text().splitlines()[1:]
            for line in lines:
                self.assertNotRegex(line.lstrip('"'), r"^[=@]|^-2\+3")
            path = table.write(Path(folder) / "t.xlsx")
            sheet = openpyxl.load_workbook(path).worksheets[0]
            self.assertEqual({cell.data_type for cell in sheet["A"] if cell.value}, {"s"})
            self.assertEqual({cell.value for cell in sheet["A"][1:]} & set(NAMES), set(NAMES))
            self.assertTrue(sheet["C2"].is_date)
            again = ep.Daybook.read(path, date="first", measures="s=sum(takings)")
            self.assertEqual(again.rows, len(table))
            self.assertAlmostEqual(
                float(sum(again.recap("year")["s"])), float(sum(table["takings"])), 6
            )

    def test_plain_numbers_and_words_stay(self):
        for text in ("-5", "+1.5", "Fenholm", "", "a=b", "-.5", "007"):
            self.assertEqual(escape_formulas(text), text)
        for text in (
            "=A1",
            "+A1",
            "-A1",
            "@x",
            "\tx",
            "\r=1",
            "-1+1",
            "\n=1",
            " =1",
            "+",
            "-",
            "\uff1d1",
        ):
            self.assertEqual(escape_formulas(text), f"'{text}")
