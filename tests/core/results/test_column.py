"""Columns: exact values, ranks and words."""

import unittest
from decimal import Decimal
from fractions import Fraction

import numpy as np

import eptaro as ep


class Exact(unittest.TestCase):
    """Values come out as they went in."""

    def test_fractions_of_every_row(self):
        cents = ep.Column.of("x", "decimal", [125, -310, 7], scale=2)
        self.assertEqual(
            [cents.fraction(n) for n in range(3)],
            [Fraction(5, 4), Fraction(-31, 10), Fraction(7, 100)],
        )

    def test_days_beyond_the_years_are_blank_beside_those_that_were(self):
        days = [0, 3_000_000, 5, -800_000]
        valid = np.array([True, True, False, True])
        column = ep.Column.of("on", "date", days, valid)
        self.assertEqual(column.blank.tolist(), [False, True, True, True])
        self.assertEqual(
            ep.Column.of("on", "date", days).blank.tolist(), [False, True, False, True]
        )

    def test_whole_numbers_of_every_width_are_kept_alike(self):
        for kind in (np.int8, np.int16, np.uint16, np.int64):
            self.assertEqual(ep.Column.of("x", "integer", np.array([1], kind)).data.dtype, np.int64)
        self.assertEqual(ep.Column.of("x", "integer", np.array([1], np.int32)).data.dtype, np.int32)

    def test_decimals_of_any_length_keep_every_digit(self):
        for units in (10**40 + 1, -(10**28) - 7, 125):
            column = ep.Column.of("x", "decimal", np.array([units], object), scale=2)
            self.assertEqual(column.to_list(), [Decimal(f"{units}E-2")])
            self.assertEqual(column.fraction(0), Fraction(units, 100))

    def test_ranks_share_a_place_and_leave_out_blanks(self):
        column = ep.Column.of("x", "integer", [5, 3, 5, 9], np.array([True, True, True, False]))
        self.assertEqual(column.ranks().tolist(), [1, 0, 1, -1])
        floats = ep.Column.of("x", "float", [2.5, np.nan, 1.5, 2.5])
        self.assertEqual(floats.ranks().tolist(), [1, -1, 0, 1])
        whole = ep.Column.of("x", "integer", [9, 0, 4], np.array([True, False, True]))
        self.assertEqual(whole.ranks().tolist(), [1, -1, 0])
        words = ep.Column.text("t", ["pear", "fig"], [0, 1, -1, 0])
        self.assertEqual(words.ranks().tolist(), [1, 0, -1, 1])


class Blank(unittest.TestCase):
    """A blank is masked in every array, whatever its kind."""

    def test_each_kind(self):
        valid = np.array([True, False, True])
        columns = (
            ep.Column.of("n", "integer", [1, 2, 3], valid),
            ep.Column.of("n", "decimal", [100, 200, 300], valid, scale=2),
            ep.Column.of("n", "float", [1.5, 0.0, 3.5], valid),
            ep.Column.of("n", "date", [1, 2, 3], valid),
            ep.Column.of("n", "flag", [True, False, False], valid),
            ep.Column.text("n", np.array(["a", "b"], object), np.array([0, -1, 1])),
        )
        for column in columns:
            found = column.values()
            self.assertEqual(np.ma.getmaskarray(found).tolist(), [False, True, False], column.kind)
            self.assertEqual(found.tolist(), column.to_list(), column.kind)
            whole = column.take(np.array([0, 2])).values()
            self.assertNotIsInstance(whole, np.ma.MaskedArray)
