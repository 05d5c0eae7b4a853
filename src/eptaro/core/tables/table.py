"""`Table`: every result; ordered columns with validity, kind, unit and description."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.tables.answer import Answer
from eptaro.core.tables.column import Column
from eptaro.core.tables.deferred import AnyColumn, Deferred
from eptaro.core.tables.display import NUMERIC, plain_table, shown_table, visible
from eptaro.core.tables.outlets import Outlets
from eptaro.core.tables.settling import settled
from eptaro.core.tables.shaping import Shaping
from eptaro.errors import QuestionError, unknown

if TYPE_CHECKING:
    from eptaro.core.proof.trace import Trace

_SHOWN_ROWS = 20


class Table(Outlets, Shaping):
    """An ordered set of equally long columns, with `meta` saying how it came about.

    `table["revenue"]` is an array (see `core.tables.column` for the kinds), `table.rows()`
    yields one dict per row.

    Parameters
    ----------
    columns : sequence of Column or Deferred
        The columns, equally long; deferred ones are worked out when they are asked for.
    meta : dict, optional
        What stands beside them: calendar, coverage, as-of, ...
    answer : Answer, optional
        The question and the days behind each number.

    Raises
    ------
    QuestionError
        Where two columns share one name.

    Examples
    --------
    >>> from eptaro.core.tables.column import Column
    >>> table = Table([Column.of("trips", "integer", [3, 5])])
    >>> table["trips"].tolist(), list(table.rows())
    ([3, 5], [{'trips': 3}, {'trips': 5}])
    """

    def __init__(
        self,
        columns: Sequence[AnyColumn],
        meta: dict[str, Any] | None = None,
        answer: Answer | None = None,
    ) -> None:
        self._columns = {c.name: c if isinstance(c, Deferred) else settled(c) for c in columns}
        self.meta: dict[str, Any] = dict(meta or {})
        self.answer = answer  # the question and the days behind each number, of a verb's table
        if len(self._columns) != len(columns):
            names = [column.name for column in columns]
            twice = next(name for name in names if names.count(name) > 1)
            raise QuestionError(
                f"two columns would both be called {twice!r}; rename the measure or group column"
            )
        if len({len(column) for column in columns}) > 1:
            raise ValueError("the columns of a table must be equally long")

    @property
    def _table(self) -> Table:
        return self

    @property
    def names(self) -> list[str]:
        """The column names in order."""
        return list(self._columns)

    @property
    def columns(self) -> list[Column]:
        """The columns in order, with kind, unit and description."""
        return [self.column(name) for name in self._columns]

    def column(self, name: str) -> Column:
        """Return one column with its kind, unit, validity and description.

        Parameters
        ----------
        name : str
            Its name.

        Returns
        -------
        Column
            The column.

        Raises
        ------
        QuestionError
            Where there is none such.
        """
        if name not in self._columns:
            raise QuestionError(unknown("column", name, self._columns))
        found = self._columns[name]
        if isinstance(found, Deferred):
            found = self._columns[name] = settled(found.made())
        return found

    def __getitem__(self, name: str) -> NDArray[Any]:
        return self.column(name).values()

    def __contains__(self, name: object) -> bool:
        return name in self._columns

    def __len__(self) -> int:
        return len(next(iter(self._columns.values()))) if self._columns else 0

    def __iter__(self) -> Iterator[dict[str, Any]]:
        """Yield one dict per row, days as frames take them: `pandas.DataFrame(table)` works."""
        lists = [c.values() if c.kind == "date" else c.to_list() for c in self.columns]
        return (dict(zip(self.names, row, strict=True)) for row in zip(*lists, strict=True))

    def rows(self) -> Iterator[dict[str, Any]]:
        """Yield one dict per row, None where blank."""
        lists = [column.to_list() for column in self.columns]
        return (dict(zip(self.names, row, strict=True)) for row in zip(*lists, strict=True))

    def take(self, places: NDArray[Any] | slice) -> Table:
        """Return the rows at the given places.

        Parameters
        ----------
        places : int array or slice
            Rows to pick, in their new order.

        Returns
        -------
        Table
            These rows.
        """
        columns = [column.take(places) for column in self._columns.values()]
        answer = None if self.answer is None else self.answer.take(places)
        return Table(columns, self.meta, answer)

    def _selected(self, names: Sequence[str]) -> Table:
        if odd := [name for name in names if name not in self._columns]:
            raise QuestionError(unknown("column", odd[0], self._columns))
        return Table([self._columns[name] for name in names], self.meta, self.answer)

    @property
    def parts(self) -> list[AnyColumn]:
        """The columns in order, those not asked for yet not worked out."""
        return list(self._columns.values())

    def trace(self, row: int, measure: str) -> Trace:
        """Return the `Trace` of one number: row from 0, and the name of its column.

        It tells the definition, the days, the transactions, and the value worked out again
        straight from these; print it to read it. Raises `QuestionError` where there is
        nothing to trace.

        Parameters
        ----------
        row : int
            The row, from 0.
        measure : str
            The name of the number's column.

        Returns
        -------
        Trace
            The definition, the days, the transactions, and the value worked out again; print it.

        Raises
        ------
        QuestionError
            Where there is nothing to trace.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31"], "fare": [7]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> found = book.recap("month").trace(0, "revenue")
        >>> found.agrees, found.rows, str(found.plain)
        (True, (1,), '7')
        """
        if not isinstance(row, int | np.integer):
            raise QuestionError(f"row={row!r} must be the number of a row, from 0")
        from eptaro.core.proof.trace import trace

        return trace(self, row, measure)

    def __getstate__(self) -> dict[str, Any]:
        """Return what a copy needs, every column worked out."""
        return vars(self) | {"_columns": {column.name: column for column in self.columns}}

    def footer(self) -> str:
        """Return the line that states calendar, coverage and as-of, as far as known."""
        words = {"calendar": "", "coverage": "coverage ", "as_of": "as of "}
        words |= {"dated_by": "dated by the ", "set_aside": "left out "}
        words |= {"where": "where ", "data_age": "", "undecided": "", "by_input_order": ""}
        parts = [f"{word}{self.meta[key]}" for key, word in words.items() if self.meta.get(key)]
        return visible(" · ".join(parts))

    # ---- shown ------------------------------------------------------------------

    def _excerpt(self) -> tuple[Table, int]:
        """Return the first and last rows, and after how many rows some were left out."""
        if len(self) <= _SHOWN_ROWS:
            return self, 0
        half = _SHOWN_ROWS // 2
        return self.take(np.r_[:half, len(self) - half : len(self)]), half

    def __repr__(self) -> str:
        part, half = self._excerpt()
        cells = shown_table(part)
        if half:
            cells = [[*cell[:half], "…", *cell[half:]] for cell in cells]
        right = [column.kind in NUMERIC for column in part.columns]
        text = plain_table([*map(visible, self.names)], cells, right)
        lines = (self.headline, text, f"{len(self):,} rows", self.footer())
        return "\n".join(filter(None, lines))

    def _repr_html_(self) -> str:
        part, half = self._excerpt()
        from eptaro.outputs.html import notebook_html

        return notebook_html(part, half, f"{len(self):,} rows")
