"""Rows folded in parts side by side come to what they come to at once."""

import datetime as dt
import itertools
import random
import unittest
from fractions import Fraction
from unittest import mock

import eptaro as ep
from eptaro.core.aggregation import rows as folding
from eptaro.core.kernels import parallel

MEASURES = ["n=count()", "f=count(x)", "s=sum(x)", "w=sum(y)", "v=var(x)", "u=std(y)", "lo=min(x)", "hi=max(y)",
            "a=first(x)", "z=last(y)", "m=median(x)", "d=distinct(y)", "b=sum(z)", "k=var(z)"]  # fmt: skip


def rows(seed: int, count: int) -> dict:
    """Return transactions of a few days, some values blank, many alike."""
    rng = random.Random(seed)
    start = dt.datetime(2025, 3, 1)
    return {
        "on": [start + dt.timedelta(rng.randrange(5), rng.choice([0, 3600])) for _ in range(count)],
        "x": [rng.choice([None, rng.randint(-400, 400) / 8]) for _ in range(count)],
        "y": [rng.choice([None, rng.randint(-3, 3)]) for _ in range(count)],
        "z": [rng.choice([2**50, 1 - 2**56, 3, 2**56]) for _ in range(count)],
        "g": [rng.choice("ab") for _ in range(count)],
    }


class Parts(unittest.TestCase):
    """Every plane, joined in the order of the rows."""

    def test_any_number_of_parts_comes_to_the_same(self):
        for seed in range(4):
            frame = rows(seed, 600)
            asked = {"date": "on", "by": "g", "measures": MEASURES}
            whole = ep.Daybook(frame, **asked)
            for most in (2, 3, 4):
                with (
                    mock.patch.object(folding, "_LEAST_PART", 1),
                    mock.patch.object(folding, "_MOST_PARTS", most),
                    mock.patch.object(parallel, "_LEAST_SLICE", 1),  # cells are joined in slices
                    mock.patch.object(parallel, "WORKERS", 3),
                    mock.patch.object(folding, "fold", wraps=folding.fold) as folds,
                ):
                    parted = ep.Daybook(frame, **asked)
                self.assertEqual(folds.call_count, most)
                for ask in (lambda book: book.recap("day", by="g"), lambda book: book.recap("day")):
                    for one, two in zip(ask(whole).rows(), ask(parted).rows(), strict=True):
                        for name, value in one.items():
                            if name in ("v", "u", "k") and value:
                                self.assertAlmostEqual(two[name] / value, 1, 12)
                            else:
                                self.assertEqual(two[name], value, name)
                self.assertGreater(parted.prove(parted.recap("day", by="g")), 50)

    def test_sums_of_every_size_stand_beside_their_counts(self):
        rng = random.Random(9)
        for bits in range(30, 63):
            for floats, least in itertools.product((False, True), (-(2**bits), 2**bits - 1)):
                values = [rng.randrange(least, 2**bits) for _ in range(300)]
                if floats:
                    values = [value // 1024 * 0.5 for value in values]
                frame = {"on": ["2025-01-01", "2025-01-02"] * 150, "x": values}
                book = ep.Daybook(frame, date="on", measures=["s=sum(x)", "n=count()"])
                try:
                    rows = [*book.recap("day").rows()]
                except ep.MeasureError:
                    self.assertGreater(max(abs(sum(values[n::2])) for n in range(2)), 2**62)
                    continue
                self.assertEqual([row["n"] for row in rows], [150, 150])
                for n, row in enumerate(rows):
                    exact = sum(map(Fraction, values[n::2]))
                    near = abs(exact) / 2**52 if floats else 0
                    self.assertLessEqual(abs(Fraction(row["s"]) - exact), near, bits)
