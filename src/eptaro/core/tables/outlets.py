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


@dataclass(frozen=True)
class Picture:
    """A drawn table; notebooks show it."""

    png: bytes = field(repr=False)

    def _repr_png_(self) -> bytes:
        return self.png


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
        """Return a pandas DataFrame with Arrow-backed columns."""
        from eptaro.outputs.arrow import to_pandas

        return to_pandas(self._table)

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def write(self, path: str | Path) -> Path:
        """Write to a file whose ending says how (.csv, .parquet, .json, .md, .arrow).

        The file is written beside its place and renamed, so it is never half-written.
        Returns the path; raises `InputError` for an unknown ending or a folder that
        cannot be written.

        Parameters
        ----------
        path : str or Path
            The file; its ending says how: .csv .parquet .json .md .arrow .xlsx .html.

        Returns
        -------
        Path
            The file.

        Raises
        ------
        InputError
            For an unknown ending, or a folder that cannot be written.
        """
        from eptaro.outputs.files import write

        return write(self._table, path)

    def to_database(self, url: str, name: str, *, mode: Mode = "create") -> Any:
        """Write to a table of a database that SQLAlchemy reaches, in one transaction.

        The key is `date_key` or `date`, so it is for dimensions; period indexes are indexed,
        and NAME_columns describes the columns. `create` refuses a table that stands,
        `replace` takes its place, `extend` adds missing days and refuses rows that disagree.
        Returns what was loaded; raises `InputError` with what the database refused.

        Parameters
        ----------
        url : str
            An address as SQLAlchemy has it.
        name : str
            The table there, or `schema.table`.
        mode : {"create", "replace", "extend"}
            Refuse a table that stands, take its place, or add missing days.

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
        self, path: str | Path, *, kind: str | None = None, measure: str | None = None
    ) -> Path:
        """Draw to a .png, .svg or .pdf, 1280 by 800 dots; needs the extra `pictures`.

        Without a `kind` it is the one that suits the verb: `bars` of periods (unfinished
        ones hatched), `lines` of running totals (this period over the prior ones) or rolling
        windows, `changes` by group, `steps` from the prior value to the current one, `heat`
        of two attributes, `boxes`, a `histogram`, or a `sheet` of days shaded by value.
        `measure` is drawn, by default the first. Raises `QuestionError` for a kind that the
        table cannot be drawn as, naming those that it can.

        Parameters
        ----------
        path : str or Path
            A .png, .svg or .pdf.
        kind : str, optional
            The kind of picture; by default the one that suits the verb.
        measure : str, optional
            The measure drawn, by default the first.

        Returns
        -------
        Path
            The file.

        Raises
        ------
        QuestionError
            For a kind that the table cannot be drawn as.
        """
        from eptaro.pictures.draw import draw

        return draw(self._table, path, kind, measure)

    def picture(self, *, kind: str | None = None, measure: str | None = None) -> Picture:
        """Return what `plot` draws, to be shown where it is asked for, as in a notebook.

        Parameters
        ----------
        kind : str, optional
            The kind of picture; by default the one that suits the verb.
        measure : str, optional
            The measure drawn, by default the first.

        Returns
        -------
        Picture
            The picture; notebooks show it.
        """
        from tempfile import TemporaryDirectory

        with TemporaryDirectory() as folder:
            drawn = self.plot(Path(folder) / "picture.png", kind=kind, measure=measure)
            return Picture(drawn.read_bytes())
