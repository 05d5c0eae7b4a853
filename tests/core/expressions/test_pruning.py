"""Whether a condition can be met, by the extents of columns alone, against every value between."""

import datetime as dt
import itertools
import random
import unittest
from fractions import Fraction

from eptaro.core.expressions.interpreter import plain_value
from eptaro.core.expressions.parser import parse
from eptaro.core.expressions.pruning import ColumnStats, bound_of, may_match


class Possible(unittest.TestCase):
    """Never False where a row may meet the condition; False where plainly none does."""

    def test_one_comparison_is_told_exactly(self):
        for least, most in itertools.combinations_with_replacement(range(5), 2):
            for how, number in itertools.product(("=", "!=", "<", "<=", ">", ">="), range(-1, 6)):
                for text in (f"x {how} {number}", f"{number} {how} x"):
                    node = parse(text)
                    every = [Fraction(n, 2) for n in range(2 * least, 2 * most + 1)]
                    wanted = any(plain_value(node, {"x": value}) for value in every)
                    known = {"x": ColumnStats(Fraction(least), Fraction(most), False, False)}
                    self.assertEqual(may_match(node, known), wanted, (text, least, most))

    def test_random_conditions_lose_no_row(self):
        rng = random.Random(2)
        parts = ["x > 2", "x <= 1", "2 < x", "x = y", "y in (1, 3)", "x is blank", "y is not blank", "not x = 1", "abs(x) > 2",
                 "x between 1 and 2", "day >= '2025-01-03'", "day = '2025-01-02'", "t < 'c'", "t in ('b', 'q')"]  # fmt: skip
        for _ in range(3000):
            text = f" {rng.choice(['and', 'or'])} ".join(rng.sample(parts, rng.randint(1, 3)))
            rows = [
                {
                    "x": rng.choice([None, Fraction(rng.randint(0, 4))]), "y": rng.choice([None, Fraction(rng.randint(0, 4))]),
                    "day": dt.date(2025, 1, rng.randint(1, 5)), "t": rng.choice([None, "a", "b", "d"]),
                }
                for _ in range(3)
            ]  # fmt: skip
            known = {}
            for name in rows[0]:
                filled = [row[name] for row in rows if row[name] is not None]
                ends = (min(filled), max(filled)) if filled else (None, None)
                known[name] = ColumnStats(*ends, len(filled) < len(rows), not filled)
            node = parse(text)
            if any(plain_value(node, row) is True for row in rows):
                self.assertTrue(may_match(node, known), (text, rows))

    def test_bounds_of_statistics(self):
        moment = dt.datetime(2025, 1, 2, 10)
        self.assertEqual(bound_of(moment), dt.date(2025, 1, 2))
        self.assertEqual(bound_of(7), Fraction(7))
        for other in (True, float("nan"), moment.replace(tzinfo=dt.UTC), b"x"):
            self.assertIsNone(bound_of(other))
        tenth = {"x": ColumnStats(0.1, 0.1, True, False)}
        self.assertTrue(may_match(parse("x = 0.1"), tenth))
