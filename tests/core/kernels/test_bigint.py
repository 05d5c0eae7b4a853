"""Every number shown is right or is an error: nothing wraps, and only what is shown may fail."""

import random
import unittest
from decimal import Decimal
from fractions import Fraction

import numpy as np
import pyarrow as pa

import eptaro as ep
from eptaro.core.kernels import bigint
from eptaro.core.results.column import Column

LONG = pa.decimal128(38, 18)


def book(values, measures, kind=None, **more):
    """Return a book of one value a day."""
    days = [
        str(np.datetime64("2025-01-01") + np.timedelta64(place, "D"))
        for place in range(len(values))
    ]
    table = pa.table({"on": days, "x": pa.array(values, kind)})
    return ep.Daybook(table, date="on", measures=measures, **more)


def one(made, name):
    """Return a measure over the whole year."""
    return next(made.recap("year").rows())[name]


class AfterTheFold(unittest.TestCase):
    """Differences, totals of totals, picked values and merged scales."""

    def test_a_difference_of_decimals_does_not_wrap(self):
        made = book([Decimal(-5), Decimal(5)], ["l=last(x)", "f=first(x)"], LONG)
        row = list(made.compare("day", back="1 day").rows())[1]
        self.assertEqual((row["l_change"], row["f_change"]), (10, 10))
        self.assertEqual(row["l_change_ratio"], 2)

    def test_totals_of_totals_do_not_wrap(self):
        made = book([Decimal(5)] * 2, ["s=sum(max(x) per day)", "m=mean(max(x) per day)"], LONG)
        self.assertEqual((one(made, "s"), one(made, "m")), (10, 5))

    def test_totals_that_fit_are_told(self):
        for values in ([2**62, 2**62 - 1], [2**62, -(2**62), 5], [-(2**62), -(2**62)]):
            self.assertEqual(one(book(values, "s=sum(x)"), "s"), sum(values))
        for values in ([1e308, 1e308, -1e308], [1e20, 0.01, -1e20]):
            want = float(sum(map(Fraction, values)))
            self.assertEqual(one(book(values, "s=sum(x)"), "s"), want)

    def test_small_days_beside_huge_ones_keep_their_cents(self):
        days = book([1e20, 0.25, 1e308, 0.5], "s=sum(x)").recap("day")["s"].tolist()
        self.assertEqual(days, [1e20, 0.25, 1e308, 0.5])

    def test_only_what_is_shown_may_fail(self):
        made = book([2**62, 2**62, 4], ["s=sum(x)", "a=mean(x)", "d=std(x)"])
        with self.assertRaisesRegex(ep.MeasureError, "'s': .* does not fit into 64 bits"):
            made.recap("year")
        self.assertEqual(made.recap("day")["s"].tolist(), [2**62, 2**62, 4])
        self.assertAlmostEqual(one(book([2**62, 2**62, 4], "a=mean(x)"), "a"), (2**63 + 4) / 3)
        with self.assertRaisesRegex(ep.MeasureError, "does not fit into a float"):
            book([1e308, 1e308], "s=sum(x)").recap("year")
        self.assertEqual(one(book([1e308, 1e308], "a=mean(x)"), "a"), 1e308)
        with self.assertRaisesRegex(ep.MeasureError, "x_change"):
            book([-(2**62) - 9, 2**62 + 9], "x=max(x)").compare("day", back="1 day")

    def test_scales_are_lowered_where_only_zeros_go(self):
        made = book([Decimal(9), Decimal("0.5")], "s=sum(x)", LONG)
        self.assertEqual(one(made, "s"), Decimal("9.5"))
        wide = book([Decimal("123456.25"), None], "s=sum(x)", LONG)
        self.assertEqual(one(wide, "s"), Decimal("123456.25"))

    def test_merging_other_scales_does_not_wrap(self):
        specs = ["hi=max(x)", "l=last(x)", "m=median(x)", "s=sum(x)"]
        both = book([2**55], specs).merge(book([Decimal("0.25")], specs, pa.decimal128(9, 2)))
        row = next(both.recap("year").rows())
        self.assertEqual(
            (row["hi"], row["l"], row["s"]), (2**55, Decimal("0.25"), 2**55 + Decimal("0.25"))
        )

    def test_ratios_and_changes_beyond_floats_are_blank(self):
        made = book([0.25, 1e308], "s=sum(x)")
        self.assertEqual(
            [r["s_change_ratio"] for r in made.compare("day", back="1 day").rows()], [None, None]
        )

    def test_random_sums_are_those_of_fractions(self):
        rng = random.Random(4)
        for _ in range(30):
            values = [
                rng.choice([1, -1]) * rng.choice([5e306, 2.0**70, 0.125, 3e17]) for _ in range(40)
            ]
            made = book(values, ["s=sum(x)", "a=mean(x)"])
            for row in made.trail("9 days").rows():
                place = (row["date"] - made.coverage.first).days
                own = [*map(Fraction, values[max(place - 8, 0) : place + 1])]
                try:
                    want = float(sum(own))
                except OverflowError:
                    continue
                self.assertAlmostEqual(row["s_trailing"], want, delta=abs(want) * 1e-12 + 1e-9)
                self.assertAlmostEqual(
                    row["a_trailing"], want / len(own), delta=abs(want) * 1e-12 + 1e-9
                )


class Statistics(unittest.TestCase):
    """Spreads and quantiles of values near the ends."""

    def test_spreads_of_huge_floats(self):
        made = book([1e200, 2e200], ["d=std(x)", "v=var(x)"])
        self.assertAlmostEqual(one(made, "d") / 7.0710678118654755e199, 1, 12)
        self.assertIsNone(one(made, "v"))

    def test_medians_of_opposite_ends(self):
        self.assertEqual(one(book([1.7e308, -1.7e308], "m=median(x)"), "m"), 0)
        self.assertEqual(one(book([2**62 + 2, -(2**62)], "m=median(x)"), "m"), 1)

    def test_quantiles_of_long_whole_numbers(self):
        values = [2**62 + 4 * n for n in range(5)]
        for share in (0.1, 0.25, 0.9):
            made = book(values, f"q=quantile(x, {share})")
            place = Fraction(str(share)) * 4
            want = values[int(place)] + (place - int(place)) * 4
            self.assertEqual(one(made, "q"), float(want), share)
        made = book([-(2**62), 2**62 + 4], "q=quantile(x, 0.75)")
        self.assertEqual(one(made, "q"), float(-(2**62) + Fraction(3, 4) * (2**63 + 4)))

    def test_ranks_sorting_and_the_top_tell_neighbours_apart(self):
        values = [2**53, 2**53 + 1, 2**53 - 1]
        made = ep.Daybook({"on": ["2025-01-01"] * 3, "g": list("abc"), "x": values},
                          date="on", by="g", measures="s=sum(x)")  # fmt: skip
        table = made.recap("year", by="g", ranks=True, sort="-s")
        self.assertEqual(table["s_rank"].tolist(), [1, 2, 3])
        self.assertEqual(table["s"].tolist(), sorted(values, reverse=True))
        self.assertEqual(made.recap("year", by="g", top=1)["g"].tolist(), ["b", "(others)"])

    def test_distinct_numbers(self):
        made = book([0.0, -0.0, float("nan"), 1.0, None], "d=distinct(x)")
        self.assertEqual(one(made, "d"), 2)
        parts = [book([v], "d=distinct(x)", kind) for v, kind in
                 ((5, pa.int64()), (5.0, pa.float64()), (Decimal("5.00"), pa.decimal128(9, 2)))]  # fmt: skip
        both = parts[0].merge(parts[1], force=True).merge(parts[2], force=True)
        self.assertEqual(one(both, "d"), 1)


class Arithmetic(unittest.TestCase):
    """Whole numbers of any size."""

    def test_equal_plain_integers(self):
        rng = random.Random(7)
        for _ in range(200):
            one, two = ([rng.choice([1, -1]) * rng.randrange(2 ** rng.choice([3, 40, 62, 63])) for _ in range(5)]
                        for _ in range(2))  # fmt: skip
            a, b = (np.array(side, np.int64) for side in (one, two))
            self.assertEqual(
                bigint.subtract(a, b).tolist(), [x - y for x, y in zip(one, two, strict=True)]
            )
            self.assertEqual(bigint.add(bigint.added_up(a), bigint.added_up(b)).tolist(),
                             [x + y for x, y in zip(one, two, strict=True)])  # fmt: skip
            self.assertEqual(bigint.multiply(a, 1000).tolist(), [x * 1000 for x in one])
            self.assertEqual(bigint.exact_total(a), sum(one))
            self.assertEqual(bigint.narrow_integers(bigint.widen(a)).dtype, np.int64)

    def test_what_is_added_up_again_and_again_turns_wide_in_time(self):
        one = bigint.added_up(np.array([2**61, -(2**61)]))
        two = bigint.add(one, one)
        self.assertEqual(two.dtype, object)  # two cells may still meet in one
        self.assertEqual(bigint.add(two, two).tolist(), [2**63, -(2**63)])

    def test_unsigned_numbers_do_not_wrap(self):
        self.assertEqual(Column.of("x", "integer", np.array([2**63], np.uint64)).data[0], 2**63)
