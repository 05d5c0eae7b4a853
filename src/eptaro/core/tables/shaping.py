"""`Shaping`: columns and rows of a table picked, put in order, and told of."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.tables.column import Column
from eptaro.core.tables.deferred import AnyColumn
from eptaro.errors import QuestionError

if TYPE_CHECKING:
    from eptaro.core.tables.table import Table


class Shaping(ABC):
    """What makes another table of a `Table`, which alone is one."""

    @property
    @abstractmethod
    def _table(self) -> Table:
        """The table itself."""

    def select(self, *names: str | Sequence[str]) -> Table:
        """Return the named columns alone, in the order given.

        Parameters
        ----------
        names : str, or sequence of str
            Columns, in their new order.

        Returns
        -------
        Table
            These columns.

        Raises
        ------
        QuestionError
            For a column that is not there.

        Examples
        --------
        >>> from eptaro.core.tables.table import Table
        >>> table = Table([Column.of("trips", "integer", [3, 5]), Column.text("ship", ["a", "b"])])
        >>> table.select("ship").names, table.select(["ship", "trips"]).names
        (['ship'], ['ship', 'trips'])
        """
        return self._table._selected(
            [name for one in names for name in ([one] if isinstance(one, str) else one)]
        )

    def head(self, rows: int = 10) -> Table:
        """Return the first rows.

        Parameters
        ----------
        rows : int
            How many.

        Returns
        -------
        Table
            These rows.
        """
        return self._table.take(slice(0, max(rows, 0)))

    def tail(self, rows: int = 10) -> Table:
        """Return the last rows.

        Parameters
        ----------
        rows : int
            How many.

        Returns
        -------
        Table
            These rows.
        """
        return self._table.take(slice(max(len(self._table) - max(rows, 0), 0), None))

    def filter(self, where: str | NDArray[Any]) -> Table:
        """Return the rows that meet a condition on the table's own columns.

        Parameters
        ----------
        where : str or bool array
            A condition, such as `revenue > 100 and route != 'Norrow-Skarrey'`, or for each row
            whether it stays.

        Returns
        -------
        Table
            These rows.

        Raises
        ------
        ExpressionError
            For a condition that cannot be.

        Examples
        --------
        >>> from eptaro.core.tables.table import Table
        >>> table = Table([Column.of("trips", "integer", [3, 5]), Column.text("ship", ["a", "b"])])
        >>> table.filter("trips > 3")["ship"].tolist()
        ['b']
        """
        from eptaro.core.expressions.evaluate import met  # a condition is parsed above

        kept = met(self._table, where) if isinstance(where, str) else np.asarray(where, bool)
        if len(kept) != len(self._table):
            raise QuestionError(f"{len(kept):,} flags for {len(self._table):,} rows")
        return self._table.take(np.flatnonzero(kept))

    def sorted(self, by: str | Sequence[str]) -> Table:
        """Return the rows in the order of a column, or of several; `-name` puts the largest first.

        Rows of equal value keep their order; blanks come last, and after them the group of
        all those that were not picked.

        Parameters
        ----------
        by : str or sequence of str
            A column; `-name` puts the largest first. Of several, the next decides between equals.

        Returns
        -------
        Table
            The rows in that order.

        Examples
        --------
        >>> from eptaro import Daybook
        >>> book = Daybook({"on": ["2025-01-01"] * 3, "route": ["b", "a", "a"], "fare": [1, 2, 3]},
        ...                date="on", by="route", measures="revenue=sum(fare)")
        >>> book.recap("month", by="route").sorted(["-revenue", "route"])["revenue"].tolist()
        [5, 1]
        """
        return self._table.take(self._table.order(by))

    def order(self, by: str | Sequence[str]) -> NDArray[np.int64]:
        """Return the places of the rows in the order of columns, as `sorted` has them.

        Parameters
        ----------
        by : str or sequence of str
            A column; `-name` puts the largest first. Of several, the next decides between equals.

        Returns
        -------
        int array
            The places of the rows in that order.
        """
        keys = [self._keys(name) for name in ([by] if isinstance(by, str) else by)]
        others = None if self._table.answer is None else self._table.answer.others
        rest = np.zeros(len(self._table), bool) if others is None else others
        return np.lexsort((*reversed(keys), rest))

    def _keys(self, by: str) -> NDArray[np.int64]:
        """Return what orders the rows by one column, blanks last."""
        if not isinstance(by, str):
            raise QuestionError(f"{by!r} is not the name of a column to sort by")
        falling = by.startswith("-") and by not in self._table
        ranks = self._table.column(by[1:] if falling else by).ranks()
        return np.where(ranks < 0, len(ranks), -ranks if falling else ranks)

    def beside(self, columns: dict[str, Column]) -> Table:
        """Return the table with a column more after each of those named.

        Parameters
        ----------
        columns : dict of str to Column
            New columns, by the name that each follows.

        Returns
        -------
        Table
            The table with these.
        """
        found: list[AnyColumn] = []
        for column in self._table.parts:
            found += [column, *(new for name, new in columns.items() if name == column.name)]
        from eptaro.core.tables.table import Table

        return Table(found, self._table.meta, self._table.answer)

    def describe(self) -> Table:
        """Return the data dictionary: one row per column with its kind, unit and meaning."""
        columns = self._table.columns
        rows: dict[str, tuple[str, list[str]]] = {
            "column": ("Name of the column", self._table.names),
            "kind": ("Kind of its values", [column.kind for column in columns]),
            "unit": ("Unit, where there is one", [column.unit for column in columns]),
            "description": ("What it holds", [column.description for column in columns]),
        }
        made = [Column.text(name, texts, description=text) for name, (text, texts) in rows.items()]
        from eptaro.core.tables.table import Table

        return Table(made, {"verb": "describe"})
