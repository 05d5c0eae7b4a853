"""Books merged: sums beyond 64 bits, kinds and decimals brought together, what differs refused."""

import tempfile
import unittest
from decimal import Decimal
from fractions import Fraction
from pathlib import Path

import numpy as np

import eptaro as ep
from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.cells import Plane
from eptaro.core.aggregation.fold import Fold
from eptaro.core.aggregation.sums import Sum
from eptaro.core.results.column import Column

MANY = [Plane(what, "x") for what in ("sum", "first", "last", "min")]

MEASURES = ["s=sum(x)", "lo=min(x)", "hi=max(x)", "f=first(x)", "l=last(x)", "m=median(x)", "d=distinct(x)",
            "v=var(x)", "a=mean(x)", "n=count(x)"]  # fmt: skip


def book(values, on="2025-01-01", **given):
    """Return a book of values on one day."""
    return ep.Daybook(
        {"on": [on] * len(values), "x": values}, date="on", **({"measures": MEASURES} | given)
    )


class Merged(unittest.TestCase):
    """The outcome is that of one fold over the rows of both."""

    def test_blanks_in_one_of_several_files_leave_different_values_apart(self):
        parts = [[7, None, 9], [8, 7, None], [9, 3], ["8", "three", "7"]]
        with tempfile.TemporaryDirectory() as folder:
            paths = []
            for number, values in enumerate(parts):
                paths.append(Path(folder, f"{number}.csv"))
                rows = [f"2025-01-0{number + 1},{'' if v is None else v}" for v in values]
                paths[-1].write_text("\n".join(["on,x", *rows]))
            both = ep.Daybook.read(paths[:2], date="on", measures="d=distinct(x)")
            for others in (paths[2], paths[3]):
                book = both.merge(ep.Daybook.read(others, date="on", measures="d=distinct(x)"))
                every = {str(v) for n in (0, 1, paths.index(others)) for v in parts[n]} - {"None"}
                for merged in (book, ep.Daybook.open(book.write(Path(folder, "b.parquet")))):
                    self.assertEqual(merged.recap("year")["d"].tolist(), [len(every)])
                    self.assertEqual(merged.recap("day")["d"].tolist()[:2], [2, 2], "on each day")
                merged = book.merge(
                    ep.Daybook.read(paths[2], date="on", measures="d=distinct(x)"), force=True
                )
                every |= {"9", "3"}
                self.assertEqual(merged.recap("year")["d"].tolist(), [len(every)])

    def test_a_sum_beyond_64_bits_is_told_and_never_wraps(self):
        big = book([2**62, 2**62 - 1], measures="s=sum(x)")
        self.assertEqual(big.recap("year")["s"].tolist(), [2**63 - 1])
        over = big.merge(book([1], measures="s=sum(x)"), force=True)
        with self.assertRaisesRegex(ep.MeasureError, "'s'.*does not fit into 64 bits"):
            over.recap("year")
        back = over.merge(book([-5], measures="s=sum(x)"), force=True)
        self.assertEqual(back.recap("year")["s"].tolist(), [2**63 - 5])
        apart = big.merge(book([2**62], on="2026-01-01", measures="s=sum(x)"), force=True)
        self.assertEqual(apart.recap("year")["s"].tolist(), [2**63 - 1, 2**62])

    def test_kinds_and_decimals_come_together(self):
        halves, cents, whole = [0.5, -2.25], [Decimal("1.25"), Decimal("-3.10")], [4, 7, 7]
        for one, two in ((whole, cents), (cents, whole), (whole, halves), (halves, whole), (cents, halves),
                         (halves, cents), ([Decimal("0.001")], cents)):  # fmt: skip
            with self.subTest(one=one, two=two):
                row = next(book(one).merge(book(two)).recap("year").rows())
                every = [Fraction(value) for value in [*one, *two]]
                mean = sum(every) / len(every)
                self.assertAlmostEqual(row["s"], type(row["s"])(float(sum(every))), 9)
                self.assertEqual([float(row[name]) for name in ("lo", "hi", "f", "l")],
                                 [float(value) for value in (min(every), max(every), every[0], every[-1])])  # fmt: skip
                self.assertEqual((row["d"], row["n"]), (len(set(every)), len(every)))
                self.assertAlmostEqual(row["a"], float(mean), 9)
                ordered = sorted(every)
                middle = (ordered[(len(every) - 1) // 2] + ordered[len(every) // 2]) / 2
                self.assertAlmostEqual(row["m"], float(middle), 9)
                spread = sum((value - mean) ** 2 for value in every) / (len(every) - 1)
                self.assertAlmostEqual(row["v"], float(spread), 9)

    def test_decimals_beyond_64_bits_and_floats_come_together(self):
        large = book([Decimal(10**16) + Decimal("0.25")] * 2000, measures=["s=sum(x)", "a=mean(x)"])
        row = next(
            large.merge(book([0.5, 1.25], measures=["s=sum(x)", "a=mean(x)"])).recap("year").rows()
        )
        self.assertEqual(row["s"], float(2000 * Fraction(10**16) + 500 + Fraction(7, 4)))

    def test_the_later_part_is_last_whatever_its_rows_were_numbered(self):
        first = book([1, 2, 3], measures="l=last(x)")
        self.assertEqual(
            first.merge(book([9], measures="l=last(x)")).recap("year")["l"].tolist(), [9]
        )
        thrice = first.merge(book([9], measures="l=last(x)")).merge(book([8], measures="l=last(x)"))
        self.assertEqual(thrice.recap("year")["l"].tolist(), [8])

    def test_sources_are_named_each_once_and_many_by_their_number(self):
        one, two, three = (book([n], measures="s=sum(x)") for n in (1, 2, 3))
        both = one.merge(two).merge(three)
        self.assertEqual(both.source, "the table given")
        self.assertEqual(both.rows, 3)

    def test_rows_reject_of_one_part_or_of_both_are_kept(self):
        rules = ep.DateRules(bad_dates="reject")
        kept, torn = (
            ep.Daybook(
                {"on": [on, "2025-01-02"], "x": [3, 4]}, date="on", dates=rules, measures="s=sum(x)"
            )
            for on in ("2025-01-01", "nowhen")
        )
        for one, two, left in ((kept, torn, 1), (torn, kept, 1), (torn, torn, 2)):
            merged = one.merge(two, force=True)
            self.assertEqual(merged.rejected.column("value").to_list(), ["nowhen"] * left)
        self.assertEqual(len(kept.merge(kept, force=True).rejected), 0)

    def test_many_batches_of_any_size_are_one(self):
        rng = np.random.default_rng(3)
        made = Fold([], MANY)
        one, at = Fold([], MANY), 0
        parts = []
        for size in (900, 400, 150, 60, 20, 7, 2, 1):
            days = rng.integers(0, 3 * size, size).astype(np.int32)
            x = rng.integers(-99, 99, size)
            parts.append((days, x))
            made.add(Batch(days, {}, {"x": Column.of("x", "integer", x)}, first_row=at))
            at += size
        days, x = (np.concatenate(part) for part in zip(*parts, strict=True))
        one.add(Batch(days, {}, {"x": Column.of("x", "integer", x)}))
        (_, many), (_, whole) = made.result(), one.result()
        self.assertEqual(many.axis.size, whole.axis.size)
        for plane in MANY:
            if isinstance(many.tallies[plane], Sum):
                self.assertEqual(
                    many.tallies[plane].whole.tolist(), whole.tallies[plane].whole.tolist()
                )
            else:
                self.assertEqual(
                    many.tallies[plane].value.tolist(), whole.tallies[plane].value.tolist()
                )

    def test_what_differs_is_refused(self):
        with self.assertRaisesRegex(ep.InputError, "the books differ"):
            book([1], measures="s=sum(x)").merge(book([1], measures="t=sum(x)"))
        with self.assertRaisesRegex(ep.InputError, "already; use force=True"):
            book([1], measures="s=sum(x)").merge(book([1], measures="s=sum(x)"))
        by = ep.Daybook(
            {"on": ["2025-01-01"], "x": [2], "g": ["a"]}, date="on", by="g", measures="s=sum(x)"
        )
        with self.assertRaisesRegex(ep.InputError, "grouped by"):
            book([1], measures="s=sum(x)").merge(by)
