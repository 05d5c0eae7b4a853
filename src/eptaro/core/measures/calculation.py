"""`Calculation`: what each entry of the catalogue of measures tells about itself."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import ClassVar, Literal

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.planes import Plane, What
from eptaro.core.measures.term import Term
from eptaro.core.tables.column import Column

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
    days), where it stands outside of another calculation. Its plain twin, which proofs go
    by, stands in `core.proof.plain` under the same name.
    """

    name: ClassVar[str]
    kept: ClassVar[tuple[What, ...]]
    unit: ClassVar[Unit] = "of the column"
    adds_up: ClassVar[bool] = False  # whether the values of parts add up to that of the whole
    takes_share: ClassVar[bool] = False
    needs_column: ClassVar[bool] = True
    needs_numbers: ClassVar[bool] = True
    counts_rows: ClassVar[bool] = False  # whether rows without a value differ from no rows
    looks_back: ClassVar[bool] = False  # whether what came before the days decides as well

    def adding(self, column: str) -> Plane:
        """Return the plane whose sum the calculation is, where it adds up."""
        return Plane(self.kept[0], column)

    def planes(self, column: str) -> set[Plane]:
        """Return what the fold must keep of a column."""
        return {Plane(what, column) for what in self.kept}

    @abstractmethod
    def over_cells(self, cells: Cells, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the value over each half-open range lo..hi of cells."""

    @abstractmethod
    def over_units(self, items: Column, term: Term, lo: Ints, hi: Ints) -> Column:
        """Return the value over each half-open range lo..hi of filled values."""
