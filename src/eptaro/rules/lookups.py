"""`Lookup`: a table beside the rows, whose columns they take by a key."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeAlias

from eptaro.errors import InputError
from eptaro.rules.files import FileRules


@dataclass(frozen=True, eq=False)
class Lookup:
    """A table beside the rows: each row takes the columns of the line with its key.

    Its other columns can then be used in groups, conditions and measures; one that is called like
    a column of the rows is called `ships.name`, after the table. Where it has a column
    `first`, its lines hold from that day on, through the day in `through` or, where that is blank
    or missing, until the next line of the same key begins; a row takes the one that holds on its
    date.

    Parameters
    ----------
    table : str, Path, frame or mapping
        A file of any kind that is read, a frame, or, for `from_sql`, a table of the database.
    key : str
        The column of the rows.
    other : str, optional
        The key column of the table, by default of the same name.
    first : str
        What the column of first days is called.
    through : str
        What the column of last days is called.
    files : FileRules, optional
        How a file is written; with a database address, the query for its lines.

    Examples
    --------
    >>> Lookup("ships.csv", "ship", "name").other
    'name'
    """

    table: Any
    key: str
    other: str | None = None
    first: str = "from"
    through: str = "through"
    files: FileRules | None = None

    @property
    def key_of_table(self) -> str:
        """The key column of the table."""
        return self.other or self.key

    def exposed(self, names: Sequence[str], taken: Iterable[str]) -> dict[str, str]:
        """Return what rows call the table's columns: their names, or `ships.name` for taken ones.

        Parameters
        ----------
        names : sequence of str
            The columns.
        taken : iterable of str
            The names that rows have already.

        Examples
        --------
        >>> Lookup("data/ships.csv", "ship").exposed(["built", "name"], ["name"])
        {'built': 'built', 'ships.name': 'name'}
        """
        known = {*taken}
        stem = Path(self.table).stem if isinstance(self.table, str | Path) else "lookup"
        return {f"{stem}.{name}" if name in known else name: name for name in names}


Lookups: TypeAlias = "Lookup | Mapping[str, str] | Sequence[Lookup] | None"


def lookups_of(given: object) -> list[Lookup]:
    """Return the lookups given: some, or a mapping of files to keys (`ship` or `ship=name`).

    >>> [one.key_of_table for one in lookups_of({"ships.csv": "ship=name"})]
    ['name']
    """
    if given is None:
        return []
    if isinstance(given, Lookup):
        return [given]
    if isinstance(given, Mapping):
        return [_keyed(table, key) for table, key in given.items()]
    if isinstance(given, Sequence) and all(isinstance(one, Lookup) for one in given):
        return list(given)
    raise InputError(
        f"lookups={given!r} are none; write {{'ships.csv': 'ship'}}, or Lookup('ships.csv', 'ship')"
    )


def parse_lookup(text: str) -> Lookup:
    """Return a lookup written as `ships.csv:ship` or `ships.csv:ship=name`.

    >>> parse_lookup("ships.csv:ship=name").key
    'ship'
    """
    table, _, key = text.rpartition(":")
    if not table or not key:
        raise InputError(f"lookup {text!r} names no key; write ships.csv:ship or ships.csv:a=b")
    return _keyed(table, key)


def _keyed(table: Any, key: object) -> Lookup:
    own, _, other = str(key).partition("=")
    return Lookup(table, own.strip(), other.strip() or None)
