"""`Outlets`: where a table goes: to frames, files, databases and pictures.

Each method imports inside itself what does the work, in the outer layers.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

if TYPE_CHECKING:
    from eptaro.core.tables.table import Table

Mode: TypeAlias = Literal["create", "replace", "extend"]  # of a table in a database
ThemeName: TypeAlias = Literal["light", "dark", "print"]  # of a picture


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


class Outlets(ABC):
    """The ways out of a `Table`, which alone is one."""

    @property
    @abstractmethod
    def _table(self) -> Table:
        """The table itself."""

    @property
    def headline(self) -> str:
        """The answer in plain words, empty where the table answers no question."""
        from eptaro.core.headlines.headline import headline

        return headline(self._table)

    def to_arrow(self) -> Any:
        """Return a pyarrow Table: dates as date32, decimals as decimal128, blanks as null."""
        from eptaro.outputs.arrow import to_arrow

        return to_arrow(self._table)

    def to_pandas(self) -> Any:
        """Return a pandas DataFrame: days as datetime64, all else backed by Arrow and exact."""
        from eptaro.outputs.arrow import to_pandas

        return to_pandas(self._table)

    def to_polars(self) -> Any:
        """Return a Polars DataFrame."""
        from eptaro.outputs.arrow import to_polars

        return to_polars(self._table)

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
            from eptaro.outputs.folders import write_folder

            return write_folder(self._table, path)
        from eptaro.outputs.files import write

        return write(self._table, path)

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

        return load_table(self._table, url, name, mode)

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
            return drawn(self._table, look).figure
        check_ending(path)
        return drawn(self._table, look).save(path)

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

        return Picture(drawn(self._table, PictureOptions(**look)))
