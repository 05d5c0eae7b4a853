"""`Result`: what a verb answers; ordered columns with validity, kind, unit and description."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, Self, overload

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.results.column import AnyColumn, Column, LazyColumn, materialize
from eptaro.errors import QuestionError, spell_option, unknown
from eptaro.record import Record, record


class Lineage(ABC):
    """The typed side of a table, which goes along when rows are picked or put in order."""

    @property
    @abstractmethod
    def question(self) -> object:
        """The question that the table answers."""

    @property
    @abstractmethod
    def by(self) -> tuple[str, ...]:
        """The names of the group columns."""

    @property
    @abstractmethod
    def measures(self) -> tuple[str, ...]:
        """The names of the measures."""

    @property
    @abstractmethod
    def others(self) -> Flags | None:
        """Which rows are of the group of all those not picked; None where there is none."""

    @property
    @abstractmethod
    def calendar(self) -> Calendar | None:
        """The calendar of all rows; None where there are several."""

    @abstractmethod
    def take(self, places: Ints | slice) -> Self:
        """Return the answer for the rows at the given places. `places` is `(n,)`."""


@record
class NoLineage(Record, Lineage):
    """The answer of a table that came without its view: what was asked, and of what."""

    asked: object
    groups: tuple[str, ...]
    names: tuple[str, ...]  # of the measures
    goes_by: Calendar | None

    @property
    def question(self) -> object:
        """The question."""
        return self.asked

    @property
    def by(self) -> tuple[str, ...]:
        """The names of the group columns."""
        return self.groups

    @property
    def measures(self) -> tuple[str, ...]:
        """The names of the measures."""
        return self.names

    @property
    def others(self) -> None:
        """None: no groups were picked."""
        return None

    @property
    def calendar(self) -> Calendar | None:
        """The calendar of all rows; None where there are several."""
        return self.goes_by

    def take(self, places: Ints | slice) -> Self:
        """Return the same: it goes for any rows."""
        return self


@record
class Parts(Record):
    """The parts of a result that shards make, each where it lies.

    `each` calls a function with every part and returns the results; `gathered` returns all
    rows, `global_value`, where there is one, the result of all groups together.
    """

    each: Callable[[Callable[[int, Result], Any]], list[Any]]
    gathered: Callable[[], Result]
    of_all: Callable[[], Result] | None = None


_GATHERED = ("_columns", "meta", "answer")


class Result:
    """An ordered set of equally long columns, with `meta` saying how it came about.

    `result["revenue"]` is an array (kinds: `core.results.column`), `result[:3]` the first rows,
    `result.rows()` yields one dict per row. Deferred columns are calculated when they are asked
    for. `answer` is the question and the days behind each number, of a verb's result. The rows of
    one that has `parts` are gathered when they are first asked for.

    Raises `QuestionError` where two columns share one name.

    >>> result = Result([Column.of("trips", "integer", [3, 5])])
    >>> result["trips"].tolist(), list(result.rows())
    ([3, 5], [{'trips': 3}, {'trips': 5}])
    """

    _columns: dict[str, AnyColumn]
    meta: dict[str, Any]
    answer: Lineage | None
    parts: Parts | None = None

    def __init__(
        self,
        columns: Sequence[AnyColumn],
        meta: dict[str, Any] | None = None,
        answer: Lineage | None = None,
    ) -> None:
        self._columns = {
            c.name: c if isinstance(c, LazyColumn) else materialize(c) for c in columns
        }
        self.meta = dict(meta or {})
        self.answer = answer
        if len(self._columns) != len(columns):
            names = [column.name for column in columns]
            twice = next(name for name in names if names.count(name) > 1)
            own = f"own_{twice}={twice}"
            raise QuestionError(
                f"two columns would both be called {twice!r}; give the measure or the group "
                f"another name, such as {spell_option(f'by={own!r}', f'--by {own!r}')}"
            )
        if len({len(column) for column in columns}) > 1:
            raise ValueError("the columns of a table must be equally long")

    @classmethod
    def of_parts(cls, parts: Parts) -> Self:
        """Return the result whose rows are gathered from parts when they are asked for.

        Parameters
        ----------
        parts : Parts
            What makes the rows of each shard, and puts them together.

        Examples
        --------
        >>> whole = Result([Column.of("trips", "integer", [3, 5])])
        >>> parts = Parts(lambda work: [work(0, whole)], lambda: whole)
        >>> len(Result.of_parts(parts))
        2
        """
        result = cls.__new__(cls)
        result.parts = parts
        return result

    if not TYPE_CHECKING:  # a name that is not there is to be found by those that check types

        def __getattr__(self, name: str) -> Any:
            if name not in _GATHERED or self.parts is None:
                raise AttributeError(f"{type(self).__name__!r} object has no attribute {name!r}")
            gathered = self.parts.gathered()
            for field in _GATHERED:
                setattr(self, field, getattr(gathered, field))
            return getattr(self, name)

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

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> book.recap("month").column("period").to_list()
        ['2025-01', '2025-02']
        """
        if name not in self._columns:
            raise QuestionError(unknown("column", name, self._columns))
        column = self._columns[name]
        if isinstance(column, LazyColumn):
            column = self._columns[name] = materialize(column.compute())
        return column

    @overload
    def __getitem__(self, name: str) -> NDArray[Any]: ...
    @overload
    def __getitem__(self, name: slice) -> Self: ...
    def __getitem__(self, name: str | slice) -> NDArray[Any] | Self:
        """Return a column as an array, or some rows as a table."""
        return self.take(name) if isinstance(name, slice) else self.column(name).values()

    def __contains__(self, name: object) -> bool:
        return name in self._columns

    def __len__(self) -> int:
        return len(next(iter(self._columns.values()))) if self._columns else 0

    def __iter__(self) -> Iterator[dict[str, Any]]:
        """Yield one dict per row, days as frames take them: `pandas.DataFrame(table)` works."""
        lists = [c.unmasked() if c.kind == "date" else c.to_list() for c in self.columns]
        return (dict(zip(self.names, row, strict=True)) for row in zip(*lists, strict=True))

    def rows(self) -> Iterator[dict[str, Any]]:
        """Yield one dict per row, None where blank.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> next(book.recap("month").rows())["revenue"]
        7
        """
        lists = [column.to_list() for column in self.columns]
        return (dict(zip(self.names, row, strict=True)) for row in zip(*lists, strict=True))

    def take(self, places: NDArray[Any] | slice) -> Self:
        """Return the rows at the given places.

        Parameters
        ----------
        places : int array of shape (n,) or slice
            Rows to pick, in their new order.

        Returns
        -------
        Table
            These rows.

        See Also
        --------
        select : Some of the columns.
        head : The first rows.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> book.recap("month").take([1])["revenue"].tolist()
        [5]
        """
        columns = [column.take(places) for column in self._columns.values()]
        answer = None if self.answer is None else self.answer.take(places)
        return type(self)(columns, self.meta, answer)

    @property
    def lazy_columns(self) -> list[AnyColumn]:
        """The columns in order, those not asked for yet not calculated."""
        return list(self._columns.values())

    def __getstate__(self) -> dict[str, Any]:
        """Return what a copy needs, every column calculated."""
        columns = {column.name: column for column in self.columns}
        return {"_columns": columns, "meta": self.meta, "answer": self.answer}

    def select(self, *names: str | Sequence[str]) -> Self:
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

        See Also
        --------
        take : Some of the rows.

        Examples
        --------
        >>> table = Result([Column.of("trips", "integer", [3, 5]), Column.text("ship", ["a", "b"])])
        >>> table.select("ship").names, table.select(["ship", "trips"]).names
        (['ship'], ['ship', 'trips'])
        """
        chosen_names = [
            name for item in names for name in ([item] if isinstance(item, str) else item)
        ]
        if odd := [name for name in chosen_names if name not in self._columns]:
            raise QuestionError(unknown("column", odd[0], self._columns))
        return type(self)([self._columns[name] for name in chosen_names], self.meta, self.answer)

    def head(self, rows: int = 10) -> Self:
        """Return the first rows.

        Parameters
        ----------
        rows : int
            How many.

        Returns
        -------
        Table
            These rows.

        See Also
        --------
        tail : The last rows.
        sorted : The rows in another order, for the largest ones.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> len(book.accumulate("month").head(2))
        2
        """
        return self.take(slice(0, max(rows, 0)))

    def tail(self, rows: int = 10) -> Self:
        """Return the last rows.

        Parameters
        ----------
        rows : int
            How many.

        Returns
        -------
        Table
            These rows.

        See Also
        --------
        head : The first rows.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> book.recap("month").tail(1).column("period").to_list()
        ['2025-02']
        """
        return self.take(slice(max(len(self) - max(rows, 0), 0), None))

    def sorted(self, by: str | Sequence[str]) -> Self:
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
        >>> table = Result([Column.of("trips", "integer", [3, 5]), Column.text("ship", ["a", "b"])])
        >>> table.sorted("-trips")["ship"].tolist()
        ['b', 'a']
        """
        return self.take(self.order(by))

    def order(self, by: str | Sequence[str]) -> NDArray[np.int64]:
        """Return the places of the rows in the order of columns, as `sorted` has them.

        Parameters
        ----------
        by : str or sequence of str
            A column; `-name` puts the largest first. Of several, the next decides between equals.

        Returns
        -------
        int array of shape (n,)
            The places of the rows in that order.

        Examples
        --------
        >>> table = Result([Column.of("trips", "integer", [3, 5])])
        >>> table.order("-trips").tolist()
        [1, 0]
        """
        keys = [self._keys(name) for name in ([by] if isinstance(by, str) else by)]
        others = None if self.answer is None else self.answer.others
        rest = np.zeros(len(self), bool) if others is None else others
        return np.lexsort((*reversed(keys), rest))

    def _keys(self, by: str) -> NDArray[np.int64]:
        """Return what orders the rows by one column, blanks last."""
        if not isinstance(by, str):
            raise QuestionError(f"{by!r} is not the name of a column to sort by")
        name, _, way = by.rpartition(" ")
        if by not in self and name in self and way.lower().startswith(("asc", "desc")):
            order = f"-{name}" if way.lower().startswith("desc") else name
            raise QuestionError(f"sort by {order!r} instead of {by!r}: - puts the largest first")
        falling = by.startswith("-") and by not in self
        ranks = self.column(by[1:] if falling else by).ranks()
        return np.where(ranks < 0, len(ranks), -ranks if falling else ranks)

    def insert_after(self, columns: dict[str, Column]) -> Self:
        """Return the table with a column more after each of those named.

        Parameters
        ----------
        columns : dict of str to Column
            New columns, by the name that each follows.

        Returns
        -------
        Table
            The table with these.

        Examples
        --------
        >>> table = Result([Column.of("trips", "integer", [3]), Column.text("ship", ["a"])])
        >>> table.insert_after({"trips": Column.of("days", "integer", [2])}).names
        ['trips', 'days', 'ship']
        """
        columns_in_order: list[AnyColumn] = []
        for column in self.lazy_columns:
            columns_in_order += [
                column,
                *(new for name, new in columns.items() if name == column.name),
            ]
        return type(self)(columns_in_order, self.meta, self.answer)

    def describe(self) -> Self:
        """Return the data dictionary: one row per column with its kind, unit and meaning.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> book.recap("month").describe().names
        ['column', 'kind', 'unit', 'description']
        """
        columns = self.columns
        rows: dict[str, tuple[str, list[str]]] = {
            "column": ("Name of the column", self.names),
            "kind": ("Kind of its values", [column.kind for column in columns]),
            "unit": ("Unit, where there is one", [column.unit for column in columns]),
            "description": ("What it holds", [column.description for column in columns]),
        }
        all_columns = [
            Column.text(name, texts, description=text) for name, (text, texts) in rows.items()
        ]
        return type(self)(all_columns, {"verb": "describe"})
