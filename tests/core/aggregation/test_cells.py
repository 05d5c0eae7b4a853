"""Cells and tallies: spreading and joining are exact, in any order, dense or sparse."""

import unittest
from collections import defaultdict

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import eptaro as ep
from eptaro.core.aggregation import axis as axes
from eptaro.core.aggregation.axis import Axis, union_axis
from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.cells import ROWS, Cells, Plane
from eptaro.core.aggregation.encoding import GroupEncoder
from eptaro.core.aggregation.fold import Fold
from eptaro.core.aggregation.groups import Categorical
from eptaro.core.aggregation.selected import SelectedValues, ValueLists
from eptaro.core.aggregation.sums import Sum
from eptaro.core.kernels.sorting import stable_order
from eptaro.core.results.column import Column, join_columns

PLANES = {
    Plane(what, "x")
    for what in ("filled", "sum", "square", "min", "max", "first", "last", "values")
}
rows = st.lists(
    st.tuples(st.integers(0, 50), st.sampled_from("abc"), st.integers(-99, 99)),
    min_size=1,
    max_size=25,
)


def fold(made, first_row=0) -> Fold:
    """Fold rows of day, group and value."""
    day, group, x = (np.array(part) for part in zip(*made, strict=True))
    words, codes = np.unique(group, return_inverse=True)
    coded = {"g": Categorical(codes.astype(np.int32), Column.text("g", words.astype(object)))}
    made_fold = Fold(["g"], PLANES)
    values = {"x": Column.of("x", "integer", x)}
    made_fold.add(Batch(day.astype(np.int32), coded, values, first_row=first_row))
    return made_fold


def content(cells: Cells) -> dict:
    """Return what every occupied cell holds, by group and day."""
    found = defaultdict(dict)
    keys = list(zip(*(part.tolist() for part in cells.axis.cells_of()), strict=True))
    for plane, tally in cells.tallies.items():
        if isinstance(tally, Sum):
            for key, value in zip(keys, tally.whole.tolist(), strict=True):
                if value:
                    found[key][plane.what] = value
        elif isinstance(tally, SelectedValues | ValueLists):
            for cell, value in zip(tally.cell.tolist(), tally.value.tolist(), strict=True):
                found[keys[cell]].setdefault(plane.what, []).append(value)
                found[keys[cell]][plane.what].sort()
        else:
            for key, value in zip(keys, tally.whole.tolist(), strict=True):
                if value:
                    found[key][plane.what] = value
    return dict(found)


class Axes(unittest.TestCase):
    """A cell has its place, dense and sparse alike."""

    def test_places_of_dense_and_sparse_axes_agree(self):
        dense = Axis(3, 100, 7)
        sparse = Axis(3, 100, 7, dense.all_keys)
        group, day = np.array([0, 1, 2, 2, 0]), np.array([99, 103, 106, 107, 200])
        self.assertEqual(dense.cell_of(group, day).tolist(), [0, 10, 20, 21, 7])
        self.assertEqual(sparse.cell_of(group, day).tolist(), dense.cell_of(group, day).tolist())
        self.assertEqual(
            [part.tolist() for part in sparse.cells_of()],
            [part.tolist() for part in dense.cells_of()],
        )

    def test_groups_and_days_without_rows_are_told_from_those_with(self):
        dense = Axis(3, 100, 2)
        for axis in (dense, Axis(3, 100, 2, dense.all_keys)):
            cells = Cells(axis, {ROWS: Sum(np.array([0, 1, 0, 0, 0, 2]))})
            self.assertEqual(cells.groups_with_rows().tolist(), [True, False, True])
            self.assertEqual(cells.days_with_rows().tolist(), [101])

    def test_groups_of_many_cells_are_renumbered(self):
        rng = np.random.default_rng(4)
        wide, target = Axis(300, 739_000, 1_100), rng.permutation(300)
        _, places = wide.regroup(target, 300)
        group, day = np.divmod(np.arange(wide.size), wide.days)
        np.testing.assert_array_equal(places, target[group] * wide.days + day)

    def test_an_axis_that_covers_two_has_the_cells_of_both(self):
        one, two = Axis(2, 10, 5), Axis(3, 3, 4)
        both, onto = union_axis([one, two])
        self.assertEqual((both.groups, both.first_day, both.days), (3, 3, 12))
        for part, places in zip((one, two), onto, strict=True):
            group, day = part.cells_of()
            self.assertEqual(both.cell_of(group, day).tolist(), places.tolist())
        again, (mine, _) = union_axis([both, one])
        self.assertTrue(again.same(both))
        self.assertIsNone(mine)


class Joining(unittest.TestCase):
    """Parts of a fold join to the whole."""

    @settings(max_examples=60, deadline=None)
    @given(rows, rows, rows)
    def test_plus_is_associative_and_commutative(self, a, b, c):
        parts = [
            fold([*made, *((0, g, 1) for g in "abc")], n * 1000)._parts[0]
            for n, made in enumerate((a, b, c))
        ]
        one, two, three = parts
        left, right = one.plus(two).plus(three), one.plus(two.plus(three))
        other = three.plus(one).plus(two)
        for cells in (left, right, other):
            cells.check()
        self.assertEqual(content(left), content(right))
        self.assertEqual(content(left), content(other))

    @settings(max_examples=40, deadline=None)
    @given(rows, rows)
    def test_sparse_cells_hold_what_dense_ones_hold(self, a, b):
        padded = [[*made, *((0, g, 1) for g in "abc")] for made in (a, b)]
        dense = [fold(made, n * 1000)._parts[0] for n, made in enumerate(padded)]
        most, axes.MOST_DENSE = axes.MOST_DENSE, 1
        try:
            sparse = [
                Cells(
                    Axis(c.axis.groups, c.axis.first_day, c.axis.days, c.axis.all_keys), c.tallies
                )
                for c in dense
            ]
            joined = sparse[0].plus(sparse[1])
        finally:
            axes.MOST_DENSE = most
        self.assertIsNotNone(joined.axis.keys)
        self.assertEqual(content(joined), content(dense[0].plus(dense[1])))

    @settings(max_examples=40, deadline=None)
    @given(rows, st.lists(st.integers(-1, 1), min_size=3, max_size=3))
    def test_groups_that_meet_add_up_and_those_left_out_go(self, made, target):
        cells = fold([*made, *((0, g, 1) for g in "abc")])._parts[0]
        moved = cells.regroup(np.array(target), 2)
        moved.check()
        expected = defaultdict(int)
        for day, group, x in [*made, *((0, g, 1) for g in "abc")]:
            if target["abc".index(group)] >= 0:
                expected[target["abc".index(group)], day] += x
        found = {key: held.get("sum", 0) for key, held in content(moved).items()}
        for key, value in expected.items():
            self.assertEqual(found.get(key, 0), value)

    def test_a_broken_plane_is_noticed(self):
        cells = fold([(1, "a", 2), (3, "a", 4)])._parts[0]
        short = Sum(np.zeros(1, np.int64))
        with self.assertRaisesRegex(ValueError, "does not fit its axis"):
            Cells(cells.axis, {**cells.tallies, Plane("sum", "x"): short}).check()

    def test_totals_of_unlike_scales_are_brought_together(self):
        cents, mills = (
            Sum(np.array([150]), None, "decimal", 2),
            Sum(np.array([2500]), None, "decimal", 3),
        )
        both = cents.plus(mills)
        self.assertEqual((both.whole.tolist(), both.scale), ([4000], 3))
        floats = Sum(np.array([1]), np.array([0.25]), "float")
        mixed = cents.plus(floats)
        self.assertEqual((mixed.whole[0] + mixed.rest[0], mixed.kind), (2.75, "float"))
        huge = Sum(np.array([2**62]), None, "decimal", 0)
        added = huge.plus(Sum(np.array([1]), None, "decimal", 6))
        self.assertEqual((added.whole.tolist(), added.scale), ([2**62 * 10**6 + 1], 6))


class Coding(unittest.TestCase):
    """Values and combinations keep their numbers from batch to batch."""

    def test_combinations_over_batches_with_other_dictionaries(self):
        combiner = GroupEncoder(["a", "b"])
        seen = []
        for batch in ((["x", "y"], [3, None]), (["y", None, "x"], [None, 3, 3])):
            coded = {}
            for name, values in zip(("a", "b"), batch, strict=True):
                words = sorted({v for v in values if v is not None})
                codes = np.array(
                    [words.index(v) if v is not None else -1 for v in values], np.int32
                )
                kind = (
                    Column.text(name, np.array([*words, None], object)[:-1])
                    if name == "a"
                    else Column.of(name, "integer", words)
                )
                coded[name] = Categorical(codes, kind)
            seen += [
                (n, *pair)
                for n, pair in zip(
                    combiner.number(coded).tolist(), zip(*batch, strict=True), strict=True
                )
            ]
        groups = combiner.groups()
        columns = [c.to_list() for c in groups.columns(np.arange(groups.count))]
        for number, a, b in seen:
            self.assertEqual((columns[0][number], columns[1][number]), (a, b))
        self.assertEqual(groups.count, 4 - 1)

    def test_a_column_may_not_change_its_kind(self):
        combiner = GroupEncoder(["a"])
        combiner.number(
            {"a": Categorical(np.array([0], np.int32), Column.text("a", np.array(["x"])))}
        )
        with self.assertRaisesRegex(ep.InputError, "text values in one part and integer"):
            combiner.number(
                {"a": Categorical(np.array([0], np.int32), Column.of("a", "integer", [1]))}
            )

    def test_columns_join_in_the_widest_kind(self):
        whole, cents = Column.of("x", "integer", [1]), Column.of("x", "decimal", [250], scale=2)
        self.assertEqual([str(v) for v in join_columns([whole, cents]).to_list()], ["1.00", "2.50"])
        floats = join_columns([cents, Column.of("x", "float", [0.5])])
        self.assertEqual((floats.kind, floats.to_list()), ("float", [2.5, 0.5]))
        words = join_columns([Column.text("t", ["a"]), Column.text("t", ["b", "a"], [1, -1, 0])])
        self.assertEqual(words.to_list(), ["a", "a", None, "b"])

    def test_stable_orders(self):
        rng = np.random.default_rng(1)
        for most in (10, 1 << 20, 1 << 40):
            keys = rng.integers(0, most, 500)
            np.testing.assert_array_equal(stable_order(keys), np.argsort(keys, kind="stable"))
