"""Books are written, opened and merged without losing a digit."""

import tempfile
import unittest
from pathlib import Path

import pyarrow as pa
from pyarrow import parquet

import eptaro as ep
from eptaro.core.calendars.kinds import from_settings
from tests import oracle

SPECS = ["s=sum(x)", "n=count()", "c=count(x)", "a=mean(x)", "lo=min(x)", "hi=max(x)", "f=first(x)",
         "l=last(x)", "d=distinct(x)", "sd=std(x)", "m=median(x)", "q=quantile(x, 0.9)"]  # fmt: skip
FISCAL = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")


def book_of(rows: list, **options) -> ep.Daybook:
    """Return the book of (day, group, amount) rows."""
    on, group, x = zip(*rows, strict=True)
    frame = {"on": list(on), "g": list(group), "x": list(x)}
    return ep.Daybook(frame, date="on", by="g", measures=SPECS, calendar=FISCAL, **options)


def answers(book: ep.Daybook) -> list:
    """Return what a book answers, floats rounded to what any order of adding gives."""
    rows = [*book.recap("month", by="g").rows(), *book.recap("week").rows()]
    return [{k: round(v, 8) if isinstance(v, float) else v for k, v in row.items()} for row in rows]


class Books(unittest.TestCase):
    """Written and opened, merged and refused."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.rows = oracle.random_rows(5).rows

    def test_what_is_opened_is_what_was_written(self):
        book = book_of(self.rows)
        opened = ep.Daybook.open(book.write(self.folder / "b.parquet"))
        self.assertEqual(answers(opened), answers(book))
        self.assertEqual(
            (opened.calendar, opened.coverage, opened.rows), (FISCAL, book.coverage, book.rows)
        )
        everything = ep.Daybook({"on": ["2025-01-01"], "x": [1.5]}, date="on", measures=SPECS)
        opened = ep.Daybook.open(everything.write(self.folder / "b.parquet"))
        self.assertEqual(answers_all(opened), answers_all(everything))

    def test_parts_merged_in_any_order_are_the_whole(self):
        whole = answers(book_of(self.rows))
        parts = [book_of(self.rows[i::3]) for i in range(3)]
        for order in ((0, 1, 2), (2, 0, 1)):
            first, *others = (parts[i] for i in order)
            for other in others:
                first = first.merge(ep.Daybook.open(other.write(self.folder / "p.parquet")))
            got = answers(first)
            for one, two in zip(got, whole, strict=True):
                for name in set(one) - {"f", "l"}:  # places in the input are the parts' own
                    self.assertEqual(one[name], two[name], name)

    def test_the_same_rows_twice_are_refused_unless_forced(self):
        book = book_of(self.rows)
        with self.assertRaisesRegex(ep.InputError, "already; use force=True"):
            book.merge(book_of(self.rows))
        self.assertEqual(book.merge(book_of(self.rows), force=True).rows, 2 * book.rows)

    def test_books_that_differ_are_refused(self):
        book = book_of(self.rows)
        frame = {"on": ["2025-01-01"], "x": [1]}
        other = ep.Daybook(frame, date="on", measures=SPECS, calendar=FISCAL)
        with self.assertRaisesRegex(ep.InputError, "grouped by"):
            book.merge(other)
        with self.assertRaisesRegex(ep.InputError, "books differ"):
            book.merge(ep.Daybook(frame, date="on", measures=SPECS))

    def test_files_that_are_no_book(self):
        parquet.write_table(pa.table({"x": [1]}), self.folder / "x.parquet")
        (self.folder / "y.parquet").write_text("no")
        for name, message in (
            ("x", "not a book"),
            ("y", "cannot be read"),
            ("z", "there is no such file"),
        ):
            with self.assertRaisesRegex(ep.InputError, message):
                ep.Daybook.open(self.folder / f"{name}.parquet")
        book_of(self.rows).write(self.folder / "b.parquet")
        table = parquet.read_table(self.folder / "b.parquet")
        parquet.write_table(table.drop_columns("day"), self.folder / "b.parquet")
        with self.assertRaisesRegex(ep.InputError, "damaged book"):
            ep.Daybook.open(self.folder / "b.parquet")

    def test_calendars_are_made_again_from_their_settings(self):
        rows = [{"year": 2025, "first": "2025-01-01", "last": "2025-04-02"}]
        for calendar in (
            FISCAL,
            ep.WeekCalendar("w", pattern="13x4"),
            ep.ListedCalendar("x", rows),
        ):
            self.assertEqual(from_settings(calendar.settings()), calendar)


def answers_all(book: ep.Daybook) -> list:
    """Return what a book without groups answers."""
    return list(book.recap("month").rows())
