"""`FolderBook`: a book that lies in a folder and may be larger than memory."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from eptaro.core.answering import Answering
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.groups import Coded, Groups
from eptaro.core.folds.merge import merge
from eptaro.core.questions.book_options import BookOptions, Worked
from eptaro.core.questions.group_coverage import Coverage, GroupSpans, asked_by_group, group_spans
from eptaro.core.questions.own_calendars import OwnCalendars, check_own
from eptaro.core.questions.whole import AllGroups
from eptaro.core.tables.column import Column
from eptaro.core.tables.format import Format
from eptaro.core.tables.table import Table
from eptaro.daybook import Daybook
from eptaro.engines.local import free_memory
from eptaro.errors import InputError, QuestionError, as_path
from eptaro.places import Place
from eptaro.rules.dates import DateRules
from eptaro.rules.files import FileRules
from eptaro.rules.lookups import Lookups
from eptaro.rules.numbers import Numbers
from eptaro.sharded.questions.asking import answer
from eptaro.sharded.questions.told import Told
from eptaro.sharded.questions.verb import ShardedVerb
from eptaro.sharded.readas import ReadAs
from eptaro.sharded.shards import FolderShards, Shards
from eptaro.storage.about import options_of
from eptaro.storage.folder.manifest import Manifest

_NOTHING = Coded(np.zeros(0, np.int32), Column.text("", np.array([], object)))
_BYTES = 24  # of each cell in memory, and again for each plane
AT_ONCE = 1_000_000  # cells that are held in memory without another thought


class FolderBook(Daybook):
    """A book in a folder: the questions of a `Daybook`, answered shard by shard.

    `Daybook.open` and `Daybook.fold(into=...)` make one, and take the other parameters of a book.
    It is the book as it stood when it was opened; what is added later is in the one that `add`
    returns.

    Examples
    --------
    >>> import tempfile, eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-31", "2025-02-01"], "fare": [7, 5]}, date="on",
    ...                   measures="revenue=sum(fare)")
    >>> folder = tempfile.mkdtemp() + "/bookings"
    >>> kept = ep.Daybook.open(book.write(folder + "/"))
    >>> kept.recap("month")["revenue"].tolist()
    [7, 5]
    """

    folder: Place | None  # None where workers hold the shards
    manifest: Manifest
    shards: Shards
    at_once: int
    formats: Mapping[str, Format]

    def __init__(self, *args: object, **options: object) -> None:
        raise TypeError("open a book's folder with Daybook.open, or make one with Daybook.fold")

    @classmethod
    def _made(
        cls,
        folder: Place | None,
        manifest: Manifest,
        *,
        shards: Shards | None = None,
        calendar: Calendar | OwnCalendars | None = None,
        workdays: Workdays | None = None,
        formats: Mapping[str, Format] | None = None,
        at_once: int | None = None,
    ) -> FolderBook:
        """Return the book of a manifest; `calendar` takes the place of its own."""
        book = cls.__new__(cls)
        if shards is None:
            assert folder is not None
            shards = FolderShards(folder, manifest)
        asked = manifest.options
        common, own = check_own(calendar or asked.calendar)
        book.__dict__.update(
            folder=folder,
            manifest=manifest,
            shards=shards,
            at_once=AT_ONCE if at_once is None else at_once,
            measures=asked.measures,
            calendar=common,
            own=own,
            coverage=Span.parse(manifest.about["coverage"]),
            workdays=workdays or asked.workdays,
            declared=None if asked_by_group(asked.coverage) else asked.coverage,
            formats=formats or {},
            part=None,
            whole=AllGroups(),
        )
        return book

    if not TYPE_CHECKING:
        recap, accumulate, trail, compare = (ShardedVerb() for _ in range(4))
        card, rhythm, spread, histogram, view = (ShardedVerb() for _ in range(5))

    @property
    def told(self) -> Told:
        """What every shard has in common."""
        rows = self.manifest.told()
        return Told(
            replace(rows, groups=self.groups, formats=self.formats),
            self.measures,
            self.calendar,
            self.coverage,
            self.workdays,
            self.own,
            asked_by_group(self.manifest.options.coverage),
        )

    @property
    def groups(self) -> Groups:
        """The names of the group columns and how many groups there are, without their values."""
        return Groups(dict.fromkeys(self.manifest.by, _NOTHING), self.manifest.groups)

    @cached_property
    def folded(self) -> Folded:
        """All cells in memory, which only some questions need."""
        needed = self.manifest.cells * _BYTES * (1 + len(self.manifest.planes))
        if needed > free_memory():
            raise QuestionError(
                f"this takes all {self.manifest.cells:,} cells of {self.source} into memory, about "
                f"{needed / 2**30:,.1f} GiB; ask by fewer group columns, or narrow with only="
            )
        found = self.shards.joined(_all_of, merge)
        if found is None:
            raise InputError(f"{self.folder}: the book holds no rows")
        rows = self.told.rows
        return replace(rows, groups=found.groups, cells=found.cells, distinct=found.distinct)

    @cached_property
    def spans(self) -> GroupSpans | None:
        """The coverage of each group, where it has its own."""
        asked = self.told.asked
        return None if asked is None else group_spans(asked, self.folded, self.coverage)

    @property
    def rows(self) -> int:
        """How many transactions were counted."""
        return int(self.manifest.about["rows"])

    @property
    def source(self) -> str:
        """Where they came from."""
        return self.told.rows.source

    @property
    def aside(self) -> Table:
        """Nothing: rows without a date were told when they were read."""
        return Table([])

    @property
    def notes(self) -> tuple[str, ...]:
        """What was decided while reading, and on what evidence."""
        return self.told.rows.notes

    @property
    def queries(self) -> tuple[str, ...]:
        """Nothing: files were folded."""
        return ()

    def using(
        self, calendar: Calendar | OwnCalendars, *, workdays: Workdays | None = None
    ) -> FolderBook:
        """Return the same transactions on another calendar.

        Parameters
        ----------
        calendar : Calendar or OwnCalendars
            The calendar, or the own ones of groups.
        workdays : Workdays, optional
            Which days are worked, by default those of the book.

        Returns
        -------
        FolderBook
            A book of the same folder.
        """
        return self._made(
            self.folder,
            self.manifest,
            shards=self.shards,
            calendar=calendar,
            workdays=workdays or self.workdays,
            formats=self.formats,
            at_once=self.at_once,
        )

    def add(
        self,
        what: str | Path | Sequence[str | Path] | Daybook,
        *,
        replace_days: Span | str | None = None,
        force: bool = False,
        date: str | None = None,
        dates: DateRules | None = None,
        zone: str | None = None,
        files: FileRules | None = None,
        numbers: Numbers = None,
        lookups: Lookups = None,
        coverage: Coverage = None,
        workdays: Worked = None,
    ) -> FolderBook:
        """Put more rows into the folder, all of them or, if anything fails, none.

        Files are read as those before were, but for what is said here. Only the shards and months
        that rows touch are written anew; who has the book open sees it as it was.

        Parameters
        ----------
        what : str, Path, several of these, or Daybook
            The files, or a book with the same groups and measures.
        replace_days : Span or str, optional
            The days whose rows are taken out in the same step; all new ones lie in them.
        force : bool
            Count rows that are in the folder already once more, rather than refuse them.
        date, dates, zone, files, numbers, lookups, coverage, workdays : optional
            As for `Daybook.fold`; the days covered and the holidays add to those of the book.

        Returns
        -------
        FolderBook
            The book with these rows.

        Raises
        ------
        InputError
            Where rows are in it already, or lie outside of the days that they replace, or
            somebody else is writing; nothing has changed then.
        """
        from eptaro.sharded.adding import put_files, put_folded, written_in

        folder = written_in(self.folder)
        out = Span.parse(replace_days) if isinstance(replace_days, str) else replace_days
        if isinstance(what, Daybook):
            made = put_folded(folder, what.folded, options_of(what), out=out, force=force)
            return self._of_manifest(made)
        given = [what] if isinstance(what, str | Path) else [*what]
        if not self.manifest.reading and date is None:
            raise InputError(
                f"{folder}: no file has been folded into this book; say with date= (--date) which "
                f"column holds the dates"
            )
        read = ReadAs.again(self.manifest, date, dates, zone, files, numbers, lookups)
        asked = BookOptions.of(
            self.measures,
            read.by,
            self.manifest.options.calendar,
            values=read.values,
            where=read.where,
            date=read.date,
            coverage=coverage,
            workdays=workdays,
        )
        made = put_files(
            folder, [str(one) for one in given if as_path(one)], asked, read, out=out, force=force
        )
        return self._of_manifest(made)

    @classmethod
    def _in_memory(cls) -> Any:
        return Daybook

    def _of_manifest(self, manifest: Manifest) -> FolderBook:
        return self._made(
            self.folder,
            manifest,
            workdays=self.workdays,
            formats=self.formats,
            at_once=self.at_once,
        )

    def _whole(self) -> Answering:
        return self.told.facts(self.folded, self.spans)

    def _answer(self, verb: str, *args: Any, **options: Any) -> Table:
        if self.manifest.cells <= self.at_once:
            found: Table = getattr(self._whole(), verb)(*args, **options)
            return found
        count = self.manifest.shards
        return answer(self.shards, count, self.told, verb, args, options)

    def __repr__(self) -> str:
        by = f" by {', '.join(self.manifest.by)}" if self.manifest.by else ""
        return (
            f"<Daybook in {self.folder} of {self.rows:,} rows{by}, {self.coverage}, "
            f"{self.manifest.groups:,} groups in {self.manifest.shards} shards, "
            f"calendar {self.calendar.name!r}>"
        )


def _all_of(shard: int, folded: Folded) -> Folded:
    return folded
