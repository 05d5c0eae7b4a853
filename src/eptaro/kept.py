"""`KeptBook`: what is done with a book beside asking it: kept, merged, moved, reported."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields
from pathlib import Path
from typing import Any, Self

from eptaro.core.answering import Answering
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.merge import merge
from eptaro.core.questions.book_options import BookOptions
from eptaro.core.questions.coverage import PERIODS
from eptaro.core.questions.group_coverage import merged_coverage
from eptaro.core.questions.own_calendars import OwnCalendars
from eptaro.core.questions.scope import AsOf
from eptaro.core.questions.view import Facts
from eptaro.core.tables.table import Table
from eptaro.core.verbs.compare.counterparts import Match
from eptaro.errors import CalendarError, InputError, as_path
from eptaro.patience import PATIENCE, waiting_at_most
from eptaro.places import Place, names_folder
from eptaro.storage.layout import NAME


class KeptBook(Answering):
    """Folded transactions as a value: written, merged, put on another calendar, reported."""

    def _settle(self, folded: Folded, asked: BookOptions) -> None:
        facts = asked.facts(folded)
        super().__init__(**{one.name: getattr(facts, one.name) for one in fields(Facts)})

    @classmethod
    def _of(cls, folded: Folded, asked: BookOptions) -> Self:
        """Return the book of transactions that are folded already: every way in ends here."""
        book = cls.__new__(cls)
        book._settle(folded, asked)
        return book

    def write(self, path: str | Path) -> Path | str:
        """Write the book to a Parquet file, or a new folder, that `Daybook.open` reads back.

        Parameters
        ----------
        path : str or Path
            The file; it is written beside its place and renamed. With a `/` at its end, a folder
            of shards, which more rows can be added to.

        Returns
        -------
        Path or str
            The file or folder; of an object store, its address.
        """
        if names_folder(path):
            from eptaro.sharded.adding import put_folded
            from eptaro.storage.about import options_of

            place = Place.of(path)
            put_folded(place, self.folded, options_of(self), new=True)
            return place.name if place.local is None else Path(path)
        from eptaro.storage.writing import write_book

        as_path(path)  # raises where it is none
        return write_book(self, Place.of(path))

    @classmethod
    def open(cls, path: str | Path, *, client: Any = None, patience: float = PATIENCE) -> Self:
        """Open a book that `write` wrote, or that files were folded into.

        Parameters
        ----------
        path : str or Path
            Its file or folder.
        client : Client or str, optional
            Of a folder: a Dask cluster, or its scheduler's address, whose workers all reach the
            folder and answer questions shard by shard.
        patience : float
            Seconds after which a store or a cluster is given up that gives no answer.

        Returns
        -------
        Daybook
            The book; it has no transactions to trace.

        Raises
        ------
        InputError
            Where the file is missing, is no book, or is damaged.
        """
        as_path(path)  # raises where it is none
        with waiting_at_most(patience):
            place = Place.of(path)
            if not place.is_file() and (place / NAME).is_file():
                from eptaro.sharded.opened import open_folder

                return open_folder(place, client, patience)  # type: ignore[return-value]
            from eptaro.storage.reading import open_book

            return cls._of(*open_book(place))

    def using(self, calendar: Calendar | OwnCalendars, *, workdays: Workdays | None = None) -> Self:
        """Return the same transactions on another calendar.

        Parameters
        ----------
        calendar : Calendar or OwnCalendars
            The calendar, or the own ones of groups.
        workdays : Workdays, optional
            Which days are worked, by default those of the book.

        Returns
        -------
        Daybook
            A book of the same cells.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-05-01"]}, date="on", measures="n=count()")
        >>> fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        >>> str(book.using(fiscal).latest("year"))
        'FY2026'
        """
        coverage = self.declared if self.spans is None else self.spans.asked
        asked = BookOptions(
            *(self.measures, [], calendar, coverage),
            workdays=workdays or self.workdays,
            span=self.coverage,
        )
        return self._of(self.folded, asked)

    def merged(self, other: Self, *, force: bool = False) -> Self:
        """Return the book that one fold over the rows of both would have made.

        Parameters
        ----------
        other : Daybook
            A book with the same groups, measures and calendar.
        force : bool
            Count rows that are in both twice rather than refuse them.

        Returns
        -------
        Daybook
            The book of the rows of both.

        Raises
        ------
        InputError
            Where the two differ, or rows of the other are in this one already.
        """
        if not isinstance(other, KeptBook):
            raise InputError(f"{other!r} is not a Daybook")
        mine, theirs = self.own or self.calendar, other.own or other.calendar
        if (self.measures, mine) != (other.measures, theirs):
            raise InputError(
                f"the books differ: {[*self.measures]} in {mine.describe()}, against "
                f"{[*other.measures]} in {theirs.describe()}"
            )
        try:
            workdays = self.workdays.joined(other.workdays)
        except CalendarError as error:
            raise InputError(f"the books differ: {error}") from None
        coverage = self.declared
        if self.spans is not None or other.spans is not None:
            coverage = merged_coverage(self.spans, other.spans)
        elif coverage not in (None, *PERIODS) or coverage != other.declared:
            ends = self.coverage, other.coverage
            coverage = Span.of(min(span.lo for span in ends), max(span.hi for span in ends))
        asked = BookOptions(self.measures, [], mine, coverage, workdays=workdays)
        return self._in_memory()._of(merge(self.folded, other.folded, force=force), asked)

    @classmethod
    def _in_memory(cls) -> type[Self]:
        """Return the class of books whose cells are in memory."""
        return cls

    def report(
        self,
        path: str | Path,
        *,
        quality: Table | None = None,
        as_of: AsOf = None,
        title: str | None = None,
        sections: Sequence[str] | None = None,
        per: str | None = None,
        within: str | None = None,
        trailing: str | None = None,
        match: Match | None = None,
        sheets: str | None = None,
        parts: str | None = None,
        years: int | None = None,
    ) -> Path:
        """Write a report to send on: a page (.html) without scripts, or a workbook (.xlsx).

        Parameters
        ----------
        path : str or Path
            The file; its ending decides.
        quality : Table, optional
            Of a page: what `inspect` found in the dates.
        as_of : date, optional
            The last day that is looked at.
        title, sections, per, within, trailing, match : optional
            Of a page: its title, its sections in order, the levels of the comparison and of the
            running total, the rolling window, and how prior spans are cut.
        sheets, parts, years : optional
            Of a workbook: a sheet per period of this level or per value of this group column,
            the level of their rows, and how many years back they go.

        Returns
        -------
        Path
            The file.

        Raises
        ------
        InputError
            For another ending, or an option of the other kind of report.
        """
        from eptaro.reports.report import ReportOptions, write_report

        asked = ReportOptions(title, sections, per, within, trailing, match, sheets, parts, years)
        return write_report(self, path, asked, quality, as_of)

    def __repr__(self) -> str:
        by = f" by {', '.join(self.groups.names)}" if self.groups.names else ""
        return (
            f"<Daybook of {self.rows:,} rows{by}, {self.coverage}, "
            f"{self.groups.count:,} groups, calendar {self.calendar.name!r}>"
        )
