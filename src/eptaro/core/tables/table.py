"""`Table`: every result; ordered columns with validity, kind, unit and description."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

import numpy as np
from numpy.typing import NDArray

from eptaro.core.tables.answer import Answer
from eptaro.core.tables.column import Column, settled
from eptaro.core.tables.deferred import AnyColumn, Deferred
from eptaro.core.tables.display import NUMERIC, plain_table, shown_table, visible
from eptaro.errors import QuestionError, unknown

if TYPE_CHECKING:
    from eptaro.core.proof.trace import Trace

Mode: TypeAlias = Literal["create", "replace", "extend"]  # of a table in a database
ThemeName: TypeAlias = Literal["light", "dark", "print"]  # of a picture

_SHOWN_ROWS = 20


@dataclass(frozen=True)
class Picture:
    """A drawn table; notebooks show it."""

    page: Any = field(repr=False)  # what draws it, of the outer layers

    @property
    def svg(self) -> str:
        """The picture as SVG, whose marks tell their days and values."""
        return str(self.page.svg())

    def inline(self, prefix: str) -> str:
        """Return it as SVG for a page with others, the names in it kept apart by a prefix.

        Parameters
        ----------
        prefix : str
            What its names begin with.
        """
        return str(self.page.svg(prefix))

    @property
    def png(self) -> bytes:
        """The picture as PNG."""
        return bytes(self.page.png())

    def _repr_svg_(self) -> str:
        return self.svg


class Table:
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
        return self._selected(
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
        return self.take(slice(0, max(rows, 0)))

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
        return self.take(slice(max(len(self) - max(rows, 0), 0), None))

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

        kept = met(self, where) if isinstance(where, str) else np.asarray(where, bool)
        if len(kept) != len(self):
            raise QuestionError(f"{len(kept):,} flags for {len(self):,} rows")
        return self.take(np.flatnonzero(kept))

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
        return self.take(self.order(by))

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
        others = None if self.answer is None else self.answer.others
        rest = np.zeros(len(self), bool) if others is None else others
        return np.lexsort((*reversed(keys), rest))

    def _keys(self, by: str) -> NDArray[np.int64]:
        """Return what orders the rows by one column, blanks last."""
        if not isinstance(by, str):
            raise QuestionError(f"{by!r} is not the name of a column to sort by")
        falling = by.startswith("-") and by not in self
        ranks = self.column(by[1:] if falling else by).ranks()
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
        for column in self.parts:
            found += [column, *(new for name, new in columns.items() if name == column.name)]

        return Table(found, self.meta, self.answer)

    def describe(self) -> Table:
        """Return the data dictionary: one row per column with its kind, unit and meaning."""
        columns = self.columns
        rows: dict[str, tuple[str, list[str]]] = {
            "column": ("Name of the column", self.names),
            "kind": ("Kind of its values", [column.kind for column in columns]),
            "unit": ("Unit, where there is one", [column.unit for column in columns]),
            "description": ("What it holds", [column.description for column in columns]),
        }
        made = [Column.text(name, texts, description=text) for name, (text, texts) in rows.items()]

        return Table(made, {"verb": "describe"})

    @property
    def headline(self) -> str:
        """The answer in plain words, empty where the table answers no question."""
        from eptaro.core.headlines.headline import headline

        return headline(self)

    def to_arrow(self) -> Any:
        """Return a pyarrow Table: dates as date32, decimals as decimal128, blanks as null."""
        from eptaro.outputs.arrow import to_arrow

        return to_arrow(self)

    def to_pandas(self) -> Any:
        """Return a pandas DataFrame: days as datetime64, all else backed by Arrow and exact."""
        from eptaro.outputs.arrow import to_pandas

        return to_pandas(self)

    def to_polars(self) -> Any:
        """Return a Polars DataFrame."""
        from eptaro.outputs.arrow import to_polars

        return to_polars(self)

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def write(self, path: str | Path) -> Path | str:
        """Write to a file whose ending says how (.csv, .parquet, .json, .md, .arrow).

        The file is written beside its place and renamed, so it is never half-written.
        Returns the path; raises `InputError` for an unknown ending or a folder that
        cannot be written.

        Parameters
        ----------
        path : str or Path
            The file; its ending says how: .csv .parquet .json .md .arrow .xlsx .html. With a `/`
            at its end, a new folder of Parquet files: of a book in shards one for each of these,
            written where the shard is.

        Returns
        -------
        Path or str
            The file or folder; of an object store, its address.

        Raises
        ------
        InputError
            For an unknown ending, or a folder that cannot be written.
        """
        from eptaro.places import names_folder

        if names_folder(path):
            from eptaro.outputs.files import write_folder

            return write_folder(self, path)
        from eptaro.outputs.files import write

        return write(self, path)

    def to_database(self, url: str, name: str, *, mode: Mode = "create") -> Any:
        """Write to a table of a database that SQLAlchemy reaches, in one transaction.

        The key is `date_key` or `date`, so it is for dimensions; period indexes are indexed,
        and NAME_columns describes the columns. `create` refuses an existing table,
        `replace` takes its place, `extend` adds missing days and refuses rows that disagree.
        Returns what was loaded; raises `InputError` with what the database refused.

        Parameters
        ----------
        url : str
            An address as SQLAlchemy has it.
        name : str
            The table there, or `schema.table`.
        mode : {"create", "replace", "extend"}
            Refuse an existing table, take its place, or add missing days.

        Returns
        -------
        Loaded
            What was loaded.

        Raises
        ------
        InputError
            With what the database refused; nothing is changed then.
        """
        from eptaro.outputs.databases import load_table

        return load_table(self, url, name, mode)

    def plot(
        self,
        path: str | Path | None = None,
        *,
        kind: str | None = None,
        measure: str | None = None,
        title: str | None = None,
        unit: str = "",
        size: tuple[int, int] = (1280, 800),
        theme: ThemeName = "light",
    ) -> Any:
        """Draw to a .png, .svg or .pdf, or return the figure; needs the extra `pictures`.

        The title is the headline, every measure has a panel, and in SVG each mark tells its
        days and exact value when it is pointed at. Kinds, the first of which is drawn unless one
        is named: periods as `bars` (unfinished ones hatched), `lines`, `areas`, `dots`, or, of
        days, a `sheet`; rolling windows as `lines`, `areas` or `dots`; running totals as `lines`
        or a `sheet`; comparisons as `bars`, and those by group also as `changes` or `steps`;
        attributes as `bars`, two crossed as `heat`; `boxes` of a spread, a `histogram`.

        Parameters
        ----------
        path : str or Path, optional
            A .png, .svg or .pdf; without one the Matplotlib figure is returned.
        kind : str, optional
            The kind of picture; by default the one that suits the verb.
        measure : str, optional
            The one measure drawn, by default all.
        title : str, optional
            A title in place of the headline.
        unit : str
            What the numbers are in, told below the title.
        size : tuple of int
            Width and height in dots.
        theme : {"light", "dark", "print"}
            Its colours.

        Returns
        -------
        Path or Figure
            The file, or the figure where no path is given.

        Raises
        ------
        QuestionError
            For a kind that the table cannot be drawn as; it lists those that it can.
        """
        from eptaro.pictures.draw import drawn
        from eptaro.pictures.theme import PictureOptions, check_ending

        look = PictureOptions(kind, measure, title, unit, size, theme)
        if path is None:
            return drawn(self, look).figure
        check_ending(path)
        return drawn(self, look).save(path)

    def picture(self, **look: Any) -> Picture:
        """Return what `plot` draws, to be shown where it is asked for, as in a notebook.

        Parameters
        ----------
        look : optional
            What `plot` takes beside a path.

        Returns
        -------
        Picture
            The picture; notebooks show it as SVG, whose marks tell their values.
        """
        from eptaro.pictures.draw import drawn
        from eptaro.pictures.theme import PictureOptions

        return Picture(drawn(self, PictureOptions(**look)))
