"""Measures: named calculations on transaction columns, written `name=how(column)`."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import TypeAlias

from eptaro.core.aggregation.cells import Cells, Plane
from eptaro.core.calendars.days import Ints
from eptaro.core.expressions.parser import Formula
from eptaro.core.expressions.tree import BinaryOp, Name, Node
from eptaro.core.measures.calculations import calculation, planes_of, ratio
from eptaro.core.measures.parsing import EXAMPLE, MEASURE_FUNCTIONS, MeasureParser, parse_term
from eptaro.core.measures.term import Arithmetic, Term
from eptaro.core.results.column import NO_NUMBERS, Column, join_columns
from eptaro.core.results.format import Format
from eptaro.errors import ExpressionError, MeasureError
from eptaro.record import Record, record

_SHOWN = 200  # letters of a measure that an error repeats
_CALLED = re.compile(rf"\s*(?!(?:{'|'.join(MEASURE_FUNCTIONS)})\s*\()\w+\s*\(")


@record(guarded=True)
class Measure(Record):
    """A named calculation: one term, the ratio of two, or a formula of several.

    Parameters
    ----------
    name : str
        What it is called.
    term : Term
        The calculation.
    under : Term, optional
        What it is divided by.
    arithmetic : Arithmetic, optional
        The formula of several terms.

    Examples
    --------
    >>> Measure.parse("revenue=sum(fare)")
    Measure('revenue=sum(fare)')
    >>> str(Measure.parse("each=sum(fare)/sum(passengers)").under)
    'sum(passengers)'
    >>> Measure.parse("high=quantile(fare, 0.9)").term.share
    0.9
    """

    name: str
    term: Term
    under: Term | None = None
    arithmetic: Arithmetic | None = None

    @classmethod
    def parse(cls, text: str, earlier: Mapping[str, Measure] | None = None) -> Measure:
        """Return the measure written as `name=how(column)`, or as a formula of such terms.

        Inside of a term may be an expression, and a condition after `where`; a column whose
        name is no plain word is in double quotes. A term may work on totals of a finer
        grain: `busiest=max(sum(fare) per day)`; the grain is day, workday, active day or a
        level; or on the totals of each value of a column: `typical=median(sum(fare) per
        booking_id)`. A formula is calculated from the totals of each span:
        `(sum(a) - sum(b)) / sum(a)`.

        Parameters
        ----------
        text : str
            `name=how(column)`, `name=how(a)/how(b)` or another formula; without a name it gets
            one: `sum(fare)` is `sum_fare`.
        earlier : mapping of str to Measure, optional
            Measures that the formula may name.

        Returns
        -------
        Measure
            The measure.

        Raises
        ------
        MeasureError
            For text that is none.

        Examples
        --------
        >>> each = Measure.parse("each=sum(fare) / count()")
        >>> each.name, each.formula, len(each.terms)
        ('each', 'sum(fare)/count()', 2)
        """
        if not isinstance(text, str):
            raise MeasureError(f"{text!r} is not a measure; {EXAMPLE}")
        name, equals, body = text.partition("=")
        name = name.strip()
        if _CALLED.match(text):  # a calculation without a name, of which one is made
            name, body = _name_of(text), text
        elif not equals or not name or not name.isprintable():
            raise MeasureError(f"{text!r} is not a measure; {EXAMPLE}")
        if _CALLED.match(body):
            term, rest = parse_term(body, text)
            if not rest.strip():
                return cls(name, term)
            if rest.lstrip().startswith("/") and _CALLED.match(rest.lstrip()[1:]):
                under, rest = parse_term(rest.lstrip()[1:], text)
                if not rest.strip():
                    return cls(name, term, under)
        try:
            by_name = {n: measure.as_arithmetic for n, measure in (earlier or {}).items()}
            tree = MeasureParser(body, text, by_name).arithmetic()
        except ExpressionError as error:
            excerpt = text if len(text) <= _SHOWN else f"{text[:_SHOWN]}..."
            raise MeasureError(f"{excerpt!r} is not a measure: {error}") from None
        return cls(name, tree.terms[0], None, tree)

    @property
    def as_arithmetic(self) -> Arithmetic:
        """The measure as a formula of its terms, for those that name it."""
        if self.arithmetic is not None:
            return self.arithmetic
        node: Node = Name(str(self.term))
        if self.under is not None:
            node = BinaryOp("/", node, Name(str(self.under)))
        return Arithmetic(self.formula, node, self.terms)

    def of_table(self, table: str, name: str) -> Measure:
        """Return the measure as one of a book in a set, under the name that it has there.

        Parameters
        ----------
        table : str
            What the set calls the book.
        name : str
            What the set calls the measure.

        Returns
        -------
        Measure
            The same calculation on the rows of that book.

        Examples
        --------
        >>> Measure.parse("revenue=sum(fare)").of_table("sales", "revenue").tables
        ('sales',)
        """
        if self.arithmetic is not None:
            tree = self.arithmetic.of_table(table)
            return Measure(name, tree.terms[0], None, tree)
        under = None if self.under is None else self.under._replace(table=table)
        return Measure(name, self.term._replace(table=table), under)

    @property
    def terms(self) -> tuple[Term, ...]:
        """The terms that it works on."""
        if self.arithmetic is not None:
            return self.arithmetic.terms
        return (self.term,) if self.under is None else (self.term, self.under)

    @property
    def formulas(self) -> dict[str, Formula]:
        """The columns that are calculated, by the names that planes have for them."""
        by_column = dict[str, Formula]()
        for part in self._rowwise:
            if part.members is not None:
                _, *content = part.members
                calculated = [
                    formula
                    for formula in content
                    if formula is not None and not isinstance(formula.node, Name)
                ]
                by_column |= {formula.name: formula for formula in calculated}
            else:
                if part.formula is not None:
                    by_column[part.column] = part.formula
                if part.rows_met is not None and calculation(part.how).counts_rows:
                    by_column[part.rows_met.name] = part.rows_met
        return by_column

    @property
    def _rowwise(self) -> list[Term]:
        """The terms that work on rows: those inside a finer grain, and those of each value."""
        return [part for term in self.terms for part in ((term,) if term.members else term.parts)]

    @property
    def tables(self) -> tuple[str, ...]:
        """The books of a set that it takes; outside of sets one without a name."""
        return tuple(dict.fromkeys(term.table for term in self.terms))

    @property
    def planes(self) -> set[Plane]:
        """What the fold must keep for this measure."""
        return {plane for term in self.terms for plane in planes_of(term)}

    @property
    def is_staged(self) -> bool:
        """Whether a term works on the totals of a finer grain."""
        return any(term.inner is not None and term.members is None for term in self.terms)

    @property
    def looks_back(self) -> bool:
        """Whether what came before the days decides as well."""
        return any(calculation(part.how).looks_back for part in self._rowwise)

    @property
    def over_all(self) -> bool:
        """Whether groups that are not looked at decide as well."""
        return any(part.over_all or part.is_balance for part in self._rowwise)

    @property
    def has_balances(self) -> bool:
        """Whether it has balances, which are carried forward over days without rows."""
        return any(part.is_balance for part in self._rowwise)

    @property
    def needs_days(self) -> bool:
        """Whether it can only be asked of runs of whole days."""
        return self.is_staged or self.looks_back

    @property
    def additive_plane(self) -> Plane | None:
        """The one plane whose sum the measure is, or None where parts do not add up."""
        if (
            self.arithmetic
            or self.under
            or self.term.inner
            or not calculation(self.term.how).adds_up
        ):
            return None
        return calculation(self.term.how).adding(self.term.column)

    def over_cells(self, cells: Cells, lo: Ints, hi: Ints, formats: Mapping[str, Format]) -> Column:
        """Return the measure over each half-open range lo..hi of cells.

        For measures without a finer grain; `core.measures.stages` has those.

        Parameters
        ----------
        cells : Cells
            The cells.
        lo, hi : int array of shape (n_ranges,)
            Half-open ranges of them.
        formats : mapping of str to Format
            How measures are shown.

        Returns
        -------
        Column
            The value over each range.

        Examples
        --------
        >>> import numpy as np
        >>> from eptaro.core.aggregation.axis import Axis
        >>> from eptaro.core.aggregation.cells import ROWS
        >>> from eptaro.core.aggregation.sums import Sum
        >>> cells = Cells(Axis(1, 739_000, 3), {ROWS: Sum(np.array([7, 5, 2]))})
        >>> trips = Measure.parse("trips=count()")
        >>> trips.over_cells(cells, np.array([0, 1]), np.array([2, 3]), {}).to_list()
        [12, 7]
        """
        parts = [term_over_cells(cells, term, lo, hi) for term in self.terms]
        return self.of_terms(parts, formats)

    def of_terms(self, parts: Sequence[Column], formats: Mapping[str, Format]) -> Column:
        """Return the measure's column from those of its terms, in its format if it has one.

        Parameters
        ----------
        parts : sequence of Column
            The values of its terms.
        formats : mapping of str to Format
            How measures are shown.

        Returns
        -------
        Column
            The measure, in its format.

        Examples
        --------
        >>> each = Measure.parse("each=sum(fare) / count()")
        >>> parts = Column.of("", "integer", [9, 8]), Column.of("", "integer", [3, 4])
        >>> each.of_terms(parts, {}).to_list()
        [3.0, 2.0]
        """
        if self.arithmetic is not None or self.under is not None:
            for term, part in zip(self.terms, parts, strict=True):
                if part.kind in NO_NUMBERS:
                    raise MeasureError(
                        f"{self.formula}: {term} is {part.kind}; only numbers can be used in a "
                        f"calculation"
                    )
        if self.arithmetic is not None:
            column = self.arithmetic.value(parts)
        else:
            column = parts[0] if self.under is None else ratio(*parts)
        return column.shown_as(formats.get(self.name)).named(self.name, self.formula)

    @property
    def formula(self) -> str:
        """The calculation without the name."""
        if self.arithmetic is not None:
            return self.arithmetic.text
        return "/".join(map(str, self.terms))

    def __repr__(self) -> str:
        return f"Measure('{self.name}={self.formula}')"


def _name_of(calculation: str) -> str:
    """Return a name for a calculation without one.

    >>> _name_of("max(sum(fare) per day)"), _name_of("count()")
    ('max_sum_fare_per_day', 'count')
    """
    return "_".join(re.findall(r"\w+", calculation))


Measures: TypeAlias = str | Measure | Mapping[str, str] | Iterable[str | Measure]


def parse_measures(specs: Measures, known: Sequence[Measure] = ()) -> tuple[Measure, ...]:
    """Return the measures, which must have different names; a mapping goes from name to body.

    Those that are `known` can be given by name, and named in what is calculated.
    """
    if isinstance(specs, Mapping):
        specs = [f"{name}={body}" for name, body in specs.items()]
    if not isinstance(specs, str | Measure | Iterable):
        raise MeasureError(f"{specs!r} is not a measure; {EXAMPLE}")
    listed = [specs] if isinstance(specs, str | Measure) else list(specs)
    if not listed:
        raise MeasureError(f"no measure is given; {EXAMPLE}")
    measures: list[Measure] = []
    for spec in listed:
        earlier = {measure.name: measure for measure in (*known, *measures)}
        if isinstance(spec, str) and spec in earlier:
            measures.append(earlier[spec])
        else:
            measures.append(spec if isinstance(spec, Measure) else Measure.parse(spec, earlier))
    names = [measure.name for measure in measures]
    for name in names:
        if names.count(name) > 1:
            raise MeasureError(f"two measures are called {name!r}; give each its own name")
    return tuple(measures)


def terms_on_totals(measures: Sequence[Measure]) -> dict[str, Term]:
    """Return by the name of their measure the terms on the totals of each value of a column."""
    return {
        measure.name: measure.term
        for measure in measures
        if measure.arithmetic is None
        and measure.term.members is not None
        and not measure.term.is_balance
    }


def term_over_cells(cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
    """Return a term over each half-open range lo..hi of cells: on the values of its column, or on
    the totals of each value of another.

    `lo` and `hi` are `(n_ranges,)` int64; the column has `n_ranges` values.
    """
    if term.members is None:
        return calculation(term.how).over_cells(cells, term, lo, hi)
    from eptaro.core.measures.members import member_totals

    parts = [
        calculation(term.how).over_values(totals, term, lo, hi)
        for totals, lo, hi in member_totals(cells, term, lo, hi)
    ]
    return parts[0] if len(parts) == 1 else join_columns(parts)
