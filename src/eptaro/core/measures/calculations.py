"""The calculations, one class each, and their catalogue."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.cells import ROWS, Cells, Plane, What
from eptaro.core.aggregation.selected import SelectedValues
from eptaro.core.aggregation.sums import RunningSquares, RunningSum, Squares, Sum
from eptaro.core.calendars.days import Ints
from eptaro.core.measures.term import Term
from eptaro.core.results.column import Column, on_one_scale
from eptaro.errors import MeasureError, unknown


def ratio(over: Column, under: Column) -> Column:
    """Return the quotient as floats, blank where the divisor is zero, either is blank, or it is
    beyond the floats.
    """
    top, bottom = on_one_scale(over, under)
    valid = ~(np.isnan(top) | np.isnan(bottom)) & (bottom != 0)
    with np.errstate(invalid="ignore", over="ignore"):
        quotient = np.divide(top, bottom, out=np.zeros(len(top)), where=valid)
    wide = object in (over.data.dtype, under.data.dtype)
    beyond = np.flatnonzero(valid & (np.isinf(top) | np.isinf(bottom)))
    for at in beyond.tolist() if wide else ():
        quotient[at] = _quotient_column(over, under, at)
    valid &= np.isfinite(quotient)
    return Column.of("", "float", quotient, valid)


def _quotient_column(over: Column, under: Column, place: int) -> float:
    try:
        return float(over.fraction(place) / under.fraction(place))
    except OverflowError:  # infinite already, or beyond the floats
        return np.inf


Unit = Literal[
    "of the column",
    "transactions",
    "different values",
    "values never seen before",
    "of the column, squared",
]


class Calculation(ABC):
    """A calculation on the values of a column that lie in a run of days.

    Blank values are left out. A subclass says which planes the fold keeps for it, its value
    over ranges of cells, and its value over ranges of unit values (such as the totals of
    days), for a calculation around another. Its plain twin, which proofs use, is
    in `core.proof.plain` under the same name.
    """

    name: ClassVar[str]
    stored: ClassVar[tuple[What, ...]]
    unit: ClassVar[Unit] = "of the column"
    adds_up: ClassVar[bool] = False  # whether the values of parts add up to that of the whole
    takes_share: ClassVar[bool] = False
    needs_column: ClassVar[bool] = True
    needs_numbers: ClassVar[bool] = True
    counts_rows: ClassVar[bool] = False  # whether rows without a value differ from no rows
    looks_back: ClassVar[bool] = False  # whether what came before the days decides as well

    def adding(self, column: str) -> Plane:
        """Return the plane whose sum the calculation is, where it adds up."""
        return Plane(self.stored[0], column)

    def planes(self, column: str) -> set[Plane]:
        """Return what the fold must keep of a column."""
        return {Plane(what, column) for what in self.stored}

    @abstractmethod
    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the value over each half-open range lo..hi of cells.

        `lo` and `hi` are `(n_ranges,)`.
        """

    @abstractmethod
    def over_values(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the value over each half-open range lo..hi of filled values.

        `lo` and `hi` are `(n_ranges,)`.
        """


class Total(Calculation):
    """The values added up: 0 where there is no row, blank where there are some and all of them
    lack a value.
    """

    name = "sum"
    stored = ("sum", "filled")
    adds_up = True
    counts_rows = True

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the sum of each range."""
        sums = cells.sums(Plane("sum", term.column), lo, hi)
        filled = Plane("filled", term.column)
        rows = ROWS if term.rows_met is None else Plane("filled", term.rows_met.name)
        if cells.tallies[filled] is cells.tallies[rows]:  # every row has a value
            return sums
        lacking = (cells.sums(filled, lo, hi).data == 0) & (cells.sums(rows, lo, hi).data > 0)
        return sums.blanked(~lacking) if lacking.any() else sums

    def over_values(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the sum of each range; values may be wide (see `core.results.exact`)."""
        return Sum.of(items.data, items.kind, items.scale).prefix().between(lo, hi)


class Count(Calculation):
    """How many values there are; without a column, how many transactions."""

    name = "count"
    stored = ("filled",)
    unit = "transactions"
    adds_up = True
    needs_column = False
    needs_numbers = False

    def adding(self, column: str) -> Plane:
        """Return the plane of which it is the sum."""
        return super().adding(column) if column else ROWS

    def planes(self, column: str) -> set[Plane]:
        """Return what the fold must keep: of no column, the number of rows."""
        return super().planes(column) if column else {ROWS}

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return how many there are in each range."""
        return cells.sums(Plane("filled", term.column) if term.column else ROWS, lo, hi)

    def over_values(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return how long each range is."""
        return Column.of("", "integer", hi - lo)


class Average(Calculation):
    """The sum over the number of values; blank where there is none."""

    name = "mean"
    stored = ("sum", "filled")

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the mean of each range."""
        total = cells.sums(Plane("sum", term.column), lo, hi)
        return ratio(total, cells.sums(Plane("filled", term.column), lo, hi))

    def over_values(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the mean of each range."""
        total = Sum.of(items.data, items.kind, items.scale).prefix().between(lo, hi)
        return ratio(total, Column.of("", "integer", hi - lo))


class Picking(Calculation):
    """One of the values, which may be numbers, texts or dates; blank where there is none."""

    needs_numbers = False

    @abstractmethod
    def pick(self, values: NDArray[Any], lo: Ints, hi: Ints) -> NDArray[Any]:
        """Return the value of each range of values; of an empty range any.

        `values` is `(n_values,)`, `lo` and `hi` are `(n_ranges,)`.
        """

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the value of each range."""
        tally, first, last = cells.items(Plane(self.stored[0], term.column), lo, hi)
        filled = last > first
        if isinstance(tally, SelectedValues) and tally.shared is not None and len(tally.shared):
            # Of a time that several groups share, only the order of the input would decide.
            filled = filled & ~self.pick(tally.shared, first, last)
        values = self.pick(tally.value, first, last)
        choices = tally.choices if isinstance(tally, SelectedValues) else None
        return Column.of("", tally.kind, values, filled, scale=tally.scale, choices=choices)

    def over_values(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the value of each range."""
        values = self.pick(items.data, lo, hi)
        more = {"scale": items.scale, "choices": items.choices}
        return Column.of("", items.kind, values, hi > lo, **more)


class _Extreme(Picking):
    largest: ClassVar[bool]

    def pick(self, values: NDArray[Any], lo: Ints, hi: Ints) -> NDArray[Any]:
        """Return the least or the largest value of each range."""
        from eptaro.core.kernels import order_statistics  # which sums do without

        return order_statistics.extremes(values, lo, hi, largest=self.largest)


class Min(_Extreme):
    """The least value: of numbers, of texts by their letters, or of dates."""

    name, stored, largest = "min", ("min",), False


class Max(_Extreme):
    """The largest value: of numbers, of texts by their letters, or of dates."""

    name, stored, largest = "max", ("max",), True


class First(Picking):
    """The first value by time, then by the order of the input: a number, a text or a date."""

    name, stored = "first", ("first",)

    def pick(self, values: NDArray[Any], lo: Ints, hi: Ints) -> NDArray[Any]:
        """Return the first value of each range."""
        return _values_at(values, np.where(hi > lo, lo, 0))


class Last(Picking):
    """The last value by time, then by the order of the input: a closing balance, or how something
    is.
    """

    name, stored = "last", ("last",)

    def pick(self, values: NDArray[Any], lo: Ints, hi: Ints) -> NDArray[Any]:
        """Return the last value of each range."""
        return _values_at(values, np.where(hi > lo, hi - 1, 0))


def _values_at(values: NDArray[Any], place: Ints) -> NDArray[Any]:
    """Return the values `(n_values,)` at places `(n,)`; zeros where there are no values."""
    return values[place] if len(values) else np.zeros(len(place), values.dtype)


class Quantile(Calculation):
    """The value that a share of the values lie below, interpolated linearly; blank where there
    is none.
    """

    name = "quantile"
    stored = ("values",)
    takes_share = True

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the quantile of each range."""
        tally, first, last = cells.items(Plane("values", term.column), lo, hi)
        return self._column(tally.value, tally.scale, term, first, last)

    def over_values(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the quantile of each range."""
        return self._column(items.data, items.scale, term, lo, hi)

    def _column(self, values: NDArray[Any], scale: int, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the quantiles of values `(n_values,)` over ranges `(n_ranges,)`."""
        from eptaro.core.kernels import order_statistics

        quantiles = order_statistics.quantiles(values, lo, hi, term.share) / 10.0**scale
        return Column.of("", "float", quantiles, (hi > lo) & ~np.isnan(quantiles))


class Median(Quantile):
    """The middle value; of an even number, the mean of the middle two."""

    name = "median"
    takes_share = False  # a term without a share has that of the median, 0.5


class Distinct(Calculation):
    """How many different values there are."""

    name = "distinct"
    stored = ("codes",)
    unit = "different values"
    needs_numbers = False

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return how many different values each range holds."""
        tally, first, last = cells.items(Plane("codes", term.column), lo, hi)
        return _count_distinct(tally.value, first, last)

    def over_values(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return how many different values each range holds."""
        return _count_distinct(items.data, lo, hi)


def _count_distinct(values: NDArray[Any], lo: Ints, hi: Ints) -> Column:
    """Return how many different values there are in ranges, `(n_ranges,)`, of `(n_values,)`."""
    from eptaro.core.kernels import order_statistics

    return Column.of("", "integer", order_statistics.count_distinct(values, lo, hi))


class New(Calculation):
    """How many values there are that the group never had before."""

    name = "new"
    stored = ("codes",)
    unit = "values never seen before"
    needs_numbers = False
    looks_back = True

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return how many values each range holds that no earlier cell of its group has."""
        times = cells.first_times(Plane("codes", term.column), lo, hi)
        return Column.of("", "integer", times)

    def over_values(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Raise `MeasureError`: totals of a finer grain are no values that come again."""
        raise MeasureError(f"{term}: new() counts values of a column, not totals of a {term.grain}")


class Closing(Calculation):
    """The balances of accounts at the end of the days: of each its last value so far."""

    name = "closing"
    stored = ("values",)
    looks_back = True

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Raise `MeasureError`: what came before the cells decides as well."""
        raise MeasureError(f"{term} goes by whole days; see core/query/balances.py")

    def over_values(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Raise `MeasureError`: totals have no accounts."""
        raise MeasureError(f"{term}: {self.name} is of a column, per account")


class Opening(Closing):
    """The balances of accounts before the days begin."""

    name = "opening"


class Variance(Calculation):
    """The variance, divided by n-1; blank where there are fewer than two values."""

    name = "var"
    stored = ("sum", "square", "filled")
    unit: ClassVar[Unit] = "of the column, squared"
    root: ClassVar[bool] = False

    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the variance of each range, or its root."""
        counts = cells.sums(Plane("filled", term.column), lo, hi).data
        sums = cells.running_sum(Plane("sum", term.column))
        return self._column(
            cells.running_squares(Plane("square", term.column)), sums, counts, lo, hi
        )

    def over_values(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the variance of each range, or its root."""
        sums = Sum.of(items.data, items.kind, items.scale).prefix()
        squares = Squares.of(items.data, items.kind, items.scale).prefix()
        return self._column(squares, sums, hi - lo, lo, hi)

    def _column(
        self, squares: RunningSquares, sums: RunningSum, counts: Ints, lo: Ints, hi: Ints
    ) -> Column:
        """Return the variances of ranges; `counts`, `lo` and `hi` are `(n_ranges,)`."""
        spreads = squares.variance(sums, counts, lo, hi, root=self.root)
        return Column.of("", "float", spreads, (counts > 1) & np.isfinite(spreads))


class StdDev(Variance):
    """The standard deviation: the root of the variance."""

    name = "std"
    unit = "of the column"
    root = True


CATALOGUE: Mapping[str, Calculation] = {
    calculation.name: calculation
    for calculation in (
        *(Total(), Count(), Average(), Min(), Max(), First(), Last()),
        *(Distinct(), New(), Closing(), Opening(), StdDev(), Variance(), Median(), Quantile()),
    )
}


_SYNONYMS = {"avg": "mean", "average": "mean", "total": "sum", "minimum": "min", "maximum": "max"}
"""Names that calculations have elsewhere; a message suggests ours."""


def calculation(how: str, where: str = "calculation") -> Calculation:
    """Return the calculation of a name; raises `MeasureError` for one that there is not.

    >>> calculation("mean").stored
    ('sum', 'filled')
    """
    if how not in CATALOGUE:
        raise MeasureError(unknown(where, how, CATALOGUE, _SYNONYMS))
    return CATALOGUE[how]


def planes_of(term: Term) -> set[Plane]:
    """Return what the fold must keep for a term.

    >>> planes_of(Term("max", "", inner=Term("sum", "fare"), grain="day")) == {
    ...     Plane("sum", "fare"), Plane("filled", "fare"), ROWS}
    True
    """
    if term.members is not None:
        _, codes, values = term.members
        planes_needed = {ROWS, Plane("codes", codes.name)}
        inner = calculation(term.parts[0].how)
        if values is not None:
            planes_needed.add(Plane("codes" if "codes" in inner.stored else "values", values.name))
        return planes_needed
    if term.inner is not None:
        return {ROWS}.union(*map(planes_of, term.parts))
    calculated = calculation(term.how)
    planes = calculated.planes(term.column)
    if calculated.counts_rows:
        planes |= {ROWS if term.rows_met is None else Plane("filled", term.rows_met.name)}
    return planes
