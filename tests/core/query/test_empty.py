"""A frame without rows answers without rows, in the columns that the answer would have."""

import tempfile
import unittest
from pathlib import Path

import pandas as pd
import polars as pl
import pyarrow as pa

import eptaro as ep

ASKED = {
    "date": "on",
    "by": ["g"],
    "measures": ["s=sum(x)", "m=median(x)", "d=distinct(g)", "b=max(sum(x) per day)"],
}
QUESTIONS = (
    ("recap", {"per": "month", "by": "g", "shares": True, "ranks": True, "totals": True}),
    ("recap", {"per": "week", "only": "this month", "as_of": "2025-02-03"}),
    ("compare", {"per": "quarter", "to_date": True, "by": "g", "details": True}),
    ("accumulate", {"within": "year", "every": "month"}), ("trail", {"back": "3 months"}),
    ("card", {"by": "g"}), ("rhythm", {"per": "weekday"}),
)  # fmt: skip


class WithoutRows(unittest.TestCase):
    """Every verb, merged with rows, written and opened."""

    def frames(self):
        table = pa.table(
            {
                "on": pa.array([], pa.date32()),
                "g": pa.array([], pa.string()),
                "x": pa.array([], pa.int64()),
            }
        )
        yield from (
            table,
            pd.DataFrame(table.to_pandas()),
            pl.from_arrow(table),
            {"on": [], "g": [], "x": []},
        )

    def test_answers_have_the_columns_of_others_and_no_rows(self):
        one = ep.Daybook({"on": ["2025-01-01"], "g": ["a"], "x": [3]}, **ASKED)
        for frame in self.frames():
            for more in ({}, {"where": "x > 3"}, {"coverage": "2025-01-01..2025-02-01"}):
                book = ep.Daybook(frame, **ASKED, **more)
                self.assertEqual((book.rows, repr(book)), (0, "<Daybook without rows>"))
                for verb, how in QUESTIONS:
                    plain = {
                        name: value for name, value in how.items() if name not in ("only", "as_of")
                    }
                    found, like = getattr(book, verb)(**how), getattr(one, verb)(**plain)
                    self.assertEqual((len(found), found.names), (0, like.names), (verb, how))
                    self.assertEqual(found.headline, "The book has no rows.")
                    self.assertEqual(len(found.to_pandas()), 0)
        self.assertEqual(str(book.coverage), "2025-01-01..2025-02-01")

    def test_rows_that_come_later_are_all_there_is(self):
        one = ep.Daybook({"on": ["2025-01-01"], "g": ["a"], "x": [3]}, **ASKED)
        wanted = [*one.recap("month", by="g").rows()]
        empty = ep.Daybook({"on": [], "g": [], "x": []}, **ASKED)
        with tempfile.TemporaryDirectory() as folder:
            opened = ep.Daybook.open(empty.write(Path(folder) / "book.parquet"))
            for none in (empty, opened):
                for both in (none.merge(one), one.merge(none)):
                    self.assertEqual(
                        (both.rows, [*both.recap("month", by="g").rows()]), (1, wanted)
                    )
            self.assertEqual(
                empty.recap("month").write(f"{folder}/t.csv").read_text().count("\n"), 1
            )

    def test_mistakes_are_found_all_the_same(self):
        empty = ep.Daybook({"on": [], "g": [], "x": []}, **ASKED)
        for ask, said in (
            (lambda: empty.recap("mnth"), "unknown level"), (lambda: empty.recap("month", by="z"), "unknown group column"),
            (lambda: empty.coverage, "covers no days"), (lambda: empty.report("x.html"), "no rows to report"),
            (lambda: ep.Daybook({"on": [], "x": []}, **ASKED), "unknown column 'g'"),
        ):  # fmt: skip
            with self.subTest(said=said), self.assertRaisesRegex(ep.EptaroError, said):
                ask()


if __name__ == "__main__":
    unittest.main()
