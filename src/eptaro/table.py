"""`Table`: a result that can be shown, written, drawn and traced."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import field, replace
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, ParamSpec

import numpy as np
from numpy.typing import NDArray

from eptaro.core.results.format import NUMERIC, escape_controls, plain_table, shown_table
from eptaro.core.results.result import Result
from eptaro.errors import QuestionError, count_noun
from eptaro.record import Record, record

if TYPE_CHECKING:
    from eptaro.core.proof.trace import Trace
    from eptaro.outputs.databases import Mode
    from eptaro.presentation import ThemeName

_SHOWN_ROWS = 20


@record
class Picture(Record):
    """A drawn table; notebooks show it."""

    page: Any = field(repr=False)  # what draws it, of the outer layers

    @property
    def svg(self) -> str:
        """The picture as SVG, whose marks show their days and values."""
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


class Table(Result):
    """An ordered set of equally long columns, with `meta` saying how it came about.

    `table["revenue"]` is an array (see `core.results.column` for the kinds), `table.rows()`
    yields one dict per row.

    Parameters
    ----------
    columns : sequence of Column or Deferred
        The columns, equally long; deferred ones are calculated when they are asked for.
    meta : dict, optional
        The calendar, coverage, as-of date and other metadata.
    answer : Answer, optional
        The question and the days behind each number.

    Raises
    ------
    QuestionError
        Where two columns share one name.

    Examples
    --------
    >>> from eptaro.core.results.column import Column
    >>> table = Table([Column.of("trips", "integer", [3, 5])])
    >>> table["trips"].tolist(), list(table.rows())
    ([3, 5], [{'trips': 3}, {'trips': 5}])
    """

    @classmethod
    def of(cls, result: Result) -> Table:
        """Return a result as a table.

        Parameters
        ----------
        result : Result
            Its columns and metadata.

        Examples
        --------
        >>> from eptaro.core.results.column import Column
        >>> from eptaro.core.results.result import Result
        >>> len(Table.of(Result([Column.text("port", ["Norrow", "Fenholm"])])))
        2
        """
        table = cls.__new__(cls)
        vars(table).update(vars(result))
        return table

    def trace(self, row: int, measure: str) -> Trace[Table]:
        """Return the `Trace` of one number: row from 0, and the name of its column.

        It has the definition, the days, the transactions, and the value recalculated
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
            The definition, the days, the transactions, and the value recalculated; print it.

        Raises
        ------
        QuestionError
            Where there is nothing to trace.

        See Also
        --------
        prove : A sample of all numbers, calculated again.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31"], "fare": [7]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> trace = book.recap("month").trace(0, "revenue")
        >>> trace.agrees, trace.rows, str(trace.plain)
        (True, (1,), '7')
        """
        if not isinstance(row, int | np.integer):
            raise QuestionError(f"row={row!r} must be the number of a row, from 0")
        from eptaro.core.proof.trace import trace

        proof: Any = trace(self, row, measure)
        if (pairing := proof.pairing) is not None:
            proof = replace(proof, pairing=lambda: _as_table(pairing()))
        return proof  # type: ignore[no-any-return]

    @property
    def footer(self) -> str:
        """The line that states calendar, coverage and as-of, as far as known."""
        from eptaro.presentation.headline import footer

        return footer(self)

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
        text = plain_table([*map(escape_controls, self.names)], cells, right)
        lines = (self.headline, text, count_noun(len(self), "row"), self.footer)
        return "\n".join(filter(None, lines))

    def _repr_html_(self) -> str:
        part, half = self._excerpt()
        from eptaro.outputs.html import notebook_html

        return notebook_html(part, half, count_noun(len(self), "row"))

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
        >>> from eptaro import Column, Table
        >>> table = Table([Column.of("trips", "integer", [3, 5]), Column.text("ship", ["a", "b"])])
        >>> table.filter("trips > 3")["ship"].tolist()
        ['b']
        """
        from eptaro.core.expressions.evaluate import row_mask  # a condition is parsed above

        flags = row_mask(self, where) if isinstance(where, str) else np.asarray(where, bool)
        if len(flags) != len(self):
            raise QuestionError(f"{len(flags):,} flags for {len(self):,} rows")
        return self.take(np.flatnonzero(flags))

    @property
    def headline(self) -> str:
        """The answer in plain words, empty where the table answers no question."""
        from eptaro.presentation.headline import headline

        return headline(self)

    def to_arrow(self) -> Any:
        """Return a pyarrow Table: dates as date32, decimals as decimal128, blanks as null.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> book.recap("month").to_arrow().column_names[:2]
        ['period', 'first']
        """
        from eptaro.outputs.arrow import to_arrow

        return to_arrow(self)

    def to_pandas(self, *, exact: bool = False) -> Any:
        """Return a pandas DataFrame in the kinds that pandas computes with.

        Whole numbers are Int64, decimals and floats float64, flags boolean, texts strings and days
        datetime64; a blank is pandas' own.

        Parameters
        ----------
        exact : bool
            Keeps decimals exact, backed by Arrow.

        Returns
        -------
        DataFrame
            The rows.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> book.recap("month").to_pandas()["revenue"].tolist()
        [7, 5]
        """
        from eptaro.outputs.arrow import to_pandas

        return to_pandas(self, exact=exact)

    @property
    def shape(self) -> tuple[int, int]:
        """How many rows and columns there are."""
        return len(self), len(self.names)

    def to_polars(self) -> Any:
        """Return a Polars DataFrame.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31"]}, date="on", measures="trips=count()")
        >>> book.recap("month").to_polars()["trips"].to_list()
        [1]
        """
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

        Examples
        --------
        >>> import tempfile
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     book.recap("month").write(f"{folder}/months.parquet").name
        'months.parquet'
        """
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
        LoadResult
            What was loaded.

        Raises
        ------
        InputError
            With what the database refused; nothing is changed then.

        Examples
        --------
        >>> import tempfile
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     days = ep.dimension("2025-01-01", "2025-01-31")
        ...     days.to_database(f"sqlite:///{folder}/days.db", "days")
        LoadResult(table='days', added=31, mode='create')
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

        The title is the headline, every measure has a panel, and in SVG each mark shows its
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
            The unit of the numbers, shown below the title.
        size : tuple of int
            Width and height in pixels.
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

        Examples
        --------
        >>> import tempfile
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     book.recap("month").plot(f"{folder}/months.svg").name
        'months.svg'
        """
        from eptaro.plots.draw import draw
        from eptaro.plots.theme import PictureOptions, check_ending

        look = PictureOptions(kind, measure, title, unit, size, theme)
        if path is None:
            return draw(self, look).figure
        check_ending(path)
        return draw(self, look).save(path)

    def picture(self, **look: Any) -> Picture:
        """Return what `plot` draws, to be shown where it is asked for, as in a notebook.

        Parameters
        ----------
        look : optional
            What `plot` takes beside a path.

        Returns
        -------
        Picture
            The picture; notebooks show it as SVG, whose marks show their values.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-03"], "fare": [7, 5]}, date="on",
        ...                   measures="revenue=sum(fare)")
        >>> book.recap("month").picture(title="Two months").svg[:5]
        '<?xml'
        """
        from eptaro.plots.draw import draw
        from eptaro.plots.theme import PictureOptions

        return Picture(draw(self, PictureOptions(**look)))


def _as_table(result: Result | None) -> Table | None:
    return None if result is None else Table.of(result)


Arguments = ParamSpec("Arguments")


def returns_table(function: Callable[Arguments, Result]) -> Callable[Arguments, Table]:
    """Return a function whose result comes as a table."""

    @wraps(function)
    def way(*args: Arguments.args, **options: Arguments.kwargs) -> Table:
        return Table.of(function(*args, **options))

    return way
