"""`Attribute`: one declared entry of the catalogue, and short ways to declare them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from eptaro.core.calendars.days import Days, Flags, civil
from eptaro.core.dimension.sheet import Sheet
from eptaro.core.tables.column import Column, Kind

Compute = Callable[[Sheet], Column]
KEY = frozenset({"key", "standard"})  # the column sets that attributes belong to
STANDARD = frozenset({"standard"})
NONE: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Attribute:
    """One attribute: its name, the level it speaks of, its meaning, and how it is gathered.

    `in_sets` names the column sets that it belongs to beside `all`.
    """

    name: str
    level: str
    kind: Kind
    description: str
    compute: Compute
    unit: str = ""
    in_sets: frozenset[str] = frozenset()

    def column(self, sheet: Sheet, prefix: str = "") -> Column:
        """Return the attribute's column over the sheet's days."""
        found = self.compute(sheet)
        return Column.of(
            prefix + self.name,
            self.kind,
            found.data,
            found.valid,
            choices=found.choices,
            unit=self.unit,
            description=self.description,
        )


def small(values: ArrayLike) -> NDArray[np.int32]:
    """Return whole numbers in 32 bits, which hold every key and count of a dimension."""
    return np.asarray(values).astype(np.int32, copy=False)


def integer(values: ArrayLike, valid: Flags | None = None) -> Column:
    """Return whole numbers."""
    return Column.of("", "integer", small(values), valid)


def flag(values: ArrayLike) -> Column:
    """Return flags."""
    return Column.of("", "flag", values)


def date(days: Days, valid: Flags | None = None) -> Column:
    """Return dates from day ordinals."""
    return Column.of("", "date", days, valid)


def date_key(days: Days, valid: Flags | None = None) -> Column:
    """Return dates as the numbers yyyymmdd."""
    year, month, day = civil(days)
    return integer(year * 10_000 + month * 100 + day, valid)


def words(choices: ArrayLike, codes: ArrayLike) -> Column:
    """Return text: one of the choices for each code."""
    return Column.text("", np.asarray(choices), codes)
