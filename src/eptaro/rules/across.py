"""`Across`: columns side by side that should be rows."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase

from eptaro.errors import InputError, unknown

_SAID = re.compile(r"(.+?)(?:\s+as\s+([^,]+?)\s*,\s*([^,]+?))?\s*")


@dataclass(frozen=True)
class Across:
    """Columns of a wide table that become rows: each value with the name of its column.

    Parameters
    ----------
    columns : str or sequence of str
        `2019..2024`, from one column through another, in their order; a pattern such as `fare *`;
        or their names.
    name : str
        The column that holds their names: dates, periods or groups.
    value : str
        The column that holds their values.

    Examples
    --------
    >>> Across("2019..2021", "year", "fares").among(["route", "2019", "2020", "2021"], "a.csv")
    ['2019', '2020', '2021']
    """

    columns: str | Sequence[str]
    name: str = "period"
    value: str = "value"

    def among(self, names: Sequence[str], source: str) -> list[str]:
        """Return the columns among all names.

        Parameters
        ----------
        names : sequence of str
            The columns of the table, in their order.
        source : str
            What the table is called in messages.

        Raises
        ------
        InputError
            Where there are none.
        """
        known = [*names]
        if not isinstance(self.columns, str):
            for name in self.columns:
                if name not in known:
                    raise InputError(f"{source}: {unknown('column', name, known)}")
            return list(self.columns)
        first, dots, last = self.columns.partition("..")
        if dots:
            for name in (first, last):
                if name not in known:
                    raise InputError(f"{source}: across: {unknown('column', name, known)}")
            begin, end = known.index(first), known.index(last)
            if begin > end:
                raise InputError(f"{source}: across: {last!r} comes before {first!r}")
            return known[begin : end + 1]
        found = [name for name in known if fnmatchcase(name, self.columns)]
        if not found:
            raise InputError(
                f"{source}: across: no column fits {self.columns!r}; {known} are there"
            )
        return found

    def long_names(self, names: Sequence[str], source: str) -> list[str]:
        """Return the columns of the rows that a table with these columns becomes.

        Parameters
        ----------
        names : sequence of str
            The columns of the table, in their order.
        source : str
            What the table is called in messages.

        Raises
        ------
        InputError
            Where another column is called as those that come of it are.
        """
        wide = self.among(names, source)
        rest = [name for name in names if name not in wide]
        for name in (self.name, self.value):
            if name in rest:
                raise InputError(
                    f"{source}: there is a column {name!r}; name the new columns otherwise: "
                    f"across='{wide[0]}..{wide[-1]} as NAME, VALUE'"
                )
        return [*rest, self.name, self.value]


def across_of(given: object) -> Across | None:
    """Return what columns become rows, also of a text: `2019..2024 as year, fares`.

    >>> across_of("2019..2024 as year, fares").value
    'fares'
    """
    if given is None or isinstance(given, Across):
        return given
    found = _SAID.fullmatch(given) if isinstance(given, str) else None
    if found is None:
        raise InputError(
            f"across={given!r} names no columns; write '2019..2024' or '2019..2024 as year, fares'"
        )
    if found[2] is None:
        return Across(found[1])
    return Across(found[1], found[2], found[3])
