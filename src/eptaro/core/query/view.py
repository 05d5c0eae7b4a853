"""`BookData`: folded transactions and their options; `View`: the part that a question is about."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.cells import BY_TIME, ROWS, Cells, Plane
from eptaro.core.aggregation.folded import Folded, aside_note, left_note
from eptaro.core.aggregation.groups import Categorical, Groups
from eptaro.core.aggregation.selected import SelectedValues
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints, as_date
from eptaro.core.calendars.grain import check_whole, may_straddle, whole_periods_in
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.measures.measure import Measure, term_over_cells
from eptaro.core.measures.term import Term
from eptaro.core.query.coverage import Coverage, GroupSpans
from eptaro.core.query.own_calendars import OwnCalendars
from eptaro.core.query.query import (
    ADJUSTMENT,
    EVERY,
    AsOf,
    By,
    Filter,
    Only,
    group_names,
    looked_at,
    nothing_left,
)
from eptaro.core.query.totals import AnyShare, GlobalTotals
from eptaro.core.results.column import NO_NUMBERS, Column, ManyFlags, TiledArray
from eptaro.core.results.format import Format
from eptaro.core.results.result import Result
from eptaro.errors import QuestionError, unknown
from eptaro.record import record

OTHERS = "(others)"
NOTES = ("undecided", "by_input_order")  # of answers, kept in their meta


@record
class SetTable:
    """A book of a set, and for each of its groups the place among the groups of the set."""

    facts: BookData
    places: Ints


@record
class BookData:
    """Folded transactions with their measures, calendar and coverage.

    `own` are the calendars that groups keep for themselves, `part` the groups looked at
    where these are not all. A set has its numbers in the cells of its `tables`; its own cells only
    count their transactions.
    """

    folded: Folded
    measures: tuple[Measure, ...]
    calendar: Calendar
    coverage: Span
    workdays: Workdays = field(default_factory=Workdays)
    own: OwnCalendars | None = None
    part: Flags | None = None
    spans: GroupSpans | None = None  # the coverage of each group, where it has its own
    whole: GlobalTotals = field(default_factory=GlobalTotals)
    declared: Coverage = None  # how the coverage was given, where it is common to all groups
    tables: Mapping[str, SetTable] = field(default_factory=dict)  # the books of a set, by name

    def formatted(self, formats: Mapping[str, Format]) -> BookData:
        """Return the same with some measures shown in another way."""
        every = {**self.folded.formats, **formats}
        return replace(self, folded=replace(self.folded, formats=every))

    @property
    def groups(self) -> Groups:
        """The groups in natural order."""
        return self.folded.groups

    @property
    def by(self) -> list[str]:
        """The group columns, but for that of adjustment periods."""
        return [name for name in self.groups.names if name != ADJUSTMENT]

    @property
    def cells(self) -> Cells:
        """One entry per group, day and plane."""
        return self.folded.cells

    @property
    def rows(self) -> int:
        """How many transactions were counted."""
        return self.folded.rows

    @property
    def source(self) -> str:
        """Where they came from."""
        return self.folded.source

    @property
    def rejected(self) -> Result:
        """The rows whose date could not be read: row, value and reason."""
        return self.folded.rejected or Result([])

    def in_parts(self) -> list[BookData]:
        """Return the facts calendar by calendar, each seeing the groups that keep it."""
        if self.own is None:
            return [self]
        return [
            replace(self, own=None, calendar=calendar, part=flags)
            for calendar, flags in self.own.of_groups(self.groups, self.source).items()
        ]

    def view(self, by: By = None, only: Only = None, as_of: AsOf = None) -> View:
        """Return what one question looks at: groups, coverage up to the as-of date, window.

        Parameters
        ----------
        by : str or sequence of str, optional
            Group columns; without them all groups add up; `all` for those of the book.
        only : span, label, mapping, or several, optional
            What the question is narrowed to.
        as_of : date, optional
            The last day looked at.

        Returns
        -------
        View
            The cells that one question looks at.
        """
        names = group_names(by)
        if names == [EVERY] and EVERY not in self.groups.names:
            names = self.groups.names
        # Periods such as `this month` count from the as-of date, not from the end of the data.
        today, coverage = self.looked_at(as_of)
        narrowed = Filter.of(only, self.calendar, self.groups.names, today)
        wanted_values = narrowed.wanted
        cells, groups = self.cells, self.groups
        wanted_groups = (
            groups.matching(wanted_values) if wanted_values else np.ones(groups.count, bool)
        )
        # A group that is named, or whose coverage has begun, has rows; others have none yet.
        keep = wanted_groups
        if not wanted_values and not self.whole.named:
            keep = wanted_groups & self._groups_begun(coverage.hi)
        if self.part is not None:
            keep = keep & self.part
        if not keep.any():
            raise nothing_left(coverage)
        every = bool(keep.all())
        if every and names == groups.names:  # they are in their order
            fewer, target = groups, np.arange(groups.count)
        else:
            places = np.flatnonzero(keep)
            fewer, onto = (groups if every else groups.at(places)).onto(names)
            target = np.full(groups.count, -1)
            target[places] = onto
            cells = cells.regroup(target, fewer.count)
        view = View(self, fewer, cells, coverage, today, narrowed.window, target)
        if wanted_values or self.whole.named:
            view = replace(view, names_groups=True)
        if not self.tables:
            return view
        return replace(view, tables={n: view.of_table(n, t) for n, t in self.tables.items()})

    def _groups_begun(self, last: int) -> Flags:
        """Return which groups' own coverage has begun by a day, in any book of a set."""
        if not self.tables:
            count = self.groups.count
            return np.ones(count, bool) if self.spans is None else self.spans.lo <= last
        begun = np.zeros(self.groups.count, bool)
        for table in self.tables.values():
            begun[table.places[table.facts._groups_begun(last)]] = True
        return begun

    def narrowed(self, only: Only, as_of: AsOf) -> Filter:
        """Return what `only` narrows a question to as of a date."""
        return Filter.of(only, self.calendar, self.groups.names, self.looked_at(as_of)[0])

    @property
    def last_of_all(self) -> dt.date:
        """The last day that all books of a set cover, or that the book does."""
        ends = [table.facts.coverage.hi for table in self.tables.values()]
        return as_date(min(ends, default=self.coverage.hi))

    def coverage_until(self, as_of: AsOf) -> Span:
        """Return the coverage up to an as-of date."""
        return self.looked_at(as_of)[1]

    def looked_at(self, as_of: AsOf) -> tuple[int, Span]:
        """Return the day ordinal of an as-of date, and the coverage up to it."""
        if self.tables and (as_of is None or as_of == "latest"):
            as_of = self.last_of_all
        return looked_at(as_of, self.coverage, self.folded.grain)


@record
class View:
    """The cells that one question looks at."""

    facts: BookData
    groups: Groups
    cells: Cells
    coverage: Span  # of the data, up to the as-of date
    today: int  # the as-of date, which may lie after the last covered day
    window: Span | None
    places: Ints  # for each group of the facts its place here, -1 where left out
    cache: dict[str, Any] = field(default_factory=dict)  # what was calculated once
    names_groups: bool = False  # whether the question names those that it is about
    others: Flags | None = None  # which groups are all those not picked, where some are
    tables: Mapping[str, View] = field(default_factory=dict)  # of the books of a set, by name

    def of_table(self, name: str, table: SetTable) -> View:
        """Return the view of the same groups and days in one book of a set.

        Raises `QuestionError` where its coverage begins after the as-of date.
        """
        facts, target = table.facts, self.places[table.places]
        try:
            today, coverage = looked_at(as_date(self.today), facts.coverage, facts.folded.grain)
        except QuestionError as error:
            raise QuestionError(f"{name}: {error}") from None
        cells = facts.cells
        if len(target) != self.groups.count or (target != np.arange(len(target))).any():
            # What no measure of the set needs is not moved along.
            planes = {ROWS}.union(*(measure.planes for measure in facts.measures))
            cells = Cells(cells.axis, {plane: cells.tallies[plane] for plane in planes})
            cells = cells.regroup(target, self.groups.count)
        return View(facts, self.groups, cells, coverage, today, self.window, target)

    def table(self, name: str) -> View:
        """Return the view of one book of a set; outside of sets there is one, without a name."""
        return self.tables[name] if name else self

    def picks_texts(self, measure: Measure) -> bool:
        """Return whether a measure picks a text or a date, with which nothing can be calculated."""
        for term in measure.terms:
            tallies = self.table(term.table).cells.tallies
            for plane in measure.planes & tallies.keys():
                tally = tallies[plane]
                if isinstance(tally, SelectedValues) and tally.kind in NO_NUMBERS:
                    return True
        return False

    def regroup(self, target: Ints, groups: Groups) -> View:
        """Return the view with group i at the place `target[i]` of others; several may meet, -1 is
        left out.

        `target` is `(n_groups,)`.
        """
        return replace(
            self,
            groups=groups,
            cells=self.cells.regroup(target, groups.count),
            places=np.where(self.places < 0, -1, target[self.places]),
            cache={},
            others=None,
            tables={name: one.regroup(target, groups) for name, one in self.tables.items()},
        )

    @property
    def calendar(self) -> Calendar:
        """The calendar of the facts."""
        return self.facts.calendar

    @cached_property
    def seen(self) -> Span:
        """The days in the coverage that the question's window leaves."""
        if self.window is None:
            return self.coverage
        lo, hi = max(self.window.lo, self.coverage.lo), min(self.window.hi, self.coverage.hi)
        if hi < lo:
            late = f"; {self.data_age}" if self.data_age else ""
            raise QuestionError(
                f"only={self.window} lies outside the coverage {self.coverage}{late}"
            )
        return Span.of(lo, hi)

    @property
    def data_age(self) -> str:
        """How old the data is at the as-of date, in words; empty where it reaches that date.

        Nobody knows what happened on the days in between: they are blank, and no zeros.
        """
        days = self.today - self.coverage.hi
        if days <= 0:
            return ""
        return (
            f"the data ends on {self.coverage.last}, {days:,} day{'' if days == 1 else 's'} before "
            f"the as-of date"
        )

    def cut_to_coverage(self, first: Ints, last: Ints) -> Ints:
        """Return the last days of spans to date, cut at the last covered day: none of those that
        begin after it, which stay as they are.

        All arrays are `(n_spans,)`.
        """
        return np.where(first <= self.coverage.hi, np.minimum(last, self.coverage.hi), last)

    @cached_property
    def own(self) -> tuple[Ints, Ints] | None:
        """The first and last day of each group's own coverage, where groups have one."""
        spans = self.facts.spans
        if spans is None:
            return None
        return spans.onto(self.places, self.groups.count, self.coverage.hi)

    def own_within(self, seen: Span) -> tuple[Ints, Ints] | None:
        """Return the first and last day of each group's own coverage; None where all groups cover
        all of some days.
        """
        if self.own is not None or seen in self.coverage:
            return self.own
        count = self.groups.count
        return np.full(count, self.coverage.lo), np.full(count, self.coverage.hi)

    def coverage_of(self, group: int) -> Span:
        """Return the coverage of one group."""
        if self.own is None:
            return self.coverage
        lo, hi = (int(days[group]) for days in self.own)
        return Span.of(max(lo, self.coverage.lo), max(hi, lo))

    @property
    def covers_by_group(self) -> bool:
        """Whether groups, or those of a book of the set, have a coverage of their own."""
        return self.own is not None or any(one.covers_by_group for one in self.tables.values())

    def complete(self, first: Ints, last: Ints, group: NDArray[Any] | None = None) -> Flags:
        """Return which spans lie wholly in the coverage, or in that of each one's group; of a set,
        in that of every book.

        All arrays are `(n_spans,)`.
        """
        if self.tables:
            every = [one.complete(first, last, group) for one in self.tables.values()]
            return np.asarray(np.logical_and.reduce(every))
        whole = (first >= self.coverage.lo) & (last <= self.coverage.hi)
        if self.own is None or group is None:
            return whole
        lo, hi = self.own
        flags: Flags = whole & (first >= lo[group]) & (last <= hi[group])
        return flags

    def complete_of_all(self, first: Ints, last: Ints) -> ManyFlags:
        """Return for every group which of the same spans lie wholly in its coverage.

        `first` and `last` are `(n_spans,)`, the flags `(n_groups * n_spans,)`.
        """
        groups = self.groups.count
        if not self.covers_by_group:
            return TiledArray.of_spans(self.complete(first, last), groups)
        group = np.repeat(np.arange(groups), len(first))
        return self.complete(np.tile(first, groups), np.tile(last, groups), group)

    def together(self) -> View:
        """Return the same view with all its groups added up to one."""
        return self.regroup(np.zeros(self.groups.count, np.int64), Groups({}, 1))

    def global_value(self, name: str, share: AnyShare) -> AnyShare:
        """Return the result of all groups, where `share` is the result of those at hand; `name`
        distinguishes what a question asks for."""
        return self.facts.whole.global_value((self.calendar.name, name), share)

    def value(self, measure: Measure, group: Ints, first: Ints, last: Ints) -> Column:
        """Return a measure over one span of days per row, blank outside the coverage.

        `group`, `first` and `last` are `(n_rows,)`.

        The part of a span that goes beyond the coverage counts for nothing.
        """
        lo, hi = self._days_of(measure, group, first, last)
        parts = [self.table(term.table)._term(term, group, lo, hi) for term in measure.terms]
        column = measure.of_terms(parts, self.facts.folded.formats).blanked(lo <= hi)
        return column.named(measure.name, f"{measure.formula} over the row's days")

    def _days_of(self, measure: Measure, group: Ints, first: Ints, last: Ints) -> tuple[Ints, Ints]:
        """Return what spans of days have in the coverage of every book that a measure takes: of
        books dated by periods, whole ones.

        All arrays are `(n_rows,)`.
        """
        every = [self._days_in(name, group, first, last) for name in measure.tables]
        if len(every) == 1:
            return every[0]
        lo: Ints = np.maximum.reduce([lo for lo, _ in every])
        hi: Ints = np.minimum.reduce([hi for _, hi in every])
        for name in measure.tables:
            lo, hi = whole_periods_in(lo, hi, self.table(name).facts.folded.grain)
        return lo, hi

    def common_days(self, measure: Measure) -> Span | None:
        """Return the days that every book of a measure covers, whole periods where one is dated
        by these; None where there is none.
        """
        books = [self.table(name) for name in measure.tables]
        if len(books) == 1:
            return books[0].coverage
        lo = np.array([max(book.coverage.lo for book in books)])
        hi = np.array([min(book.coverage.hi for book in books)])
        for book in books:
            lo, hi = whole_periods_in(lo, hi, book.facts.folded.grain)
        return Span.of(int(lo[0]), int(hi[0])) if lo[0] <= hi[0] else None

    def _days_in(self, name: str, group: Ints, first: Ints, last: Ints) -> tuple[Ints, Ints]:
        """Return what spans of days have in the coverage of a book of the set, or of the one.

        All arrays are `(n_rows,)`.
        """
        one = self.table(name)
        lo, hi = one.within_coverage(first, last, name)
        if one.own is not None:
            lo, hi = np.maximum(lo, one.own[0][group]), np.minimum(hi, one.own[1][group])
        return lo, hi

    def value_of_all(self, measure: Measure, first: Ints, last: Ints) -> Column:
        """Return a measure over the same spans of days for every group, group by group.

        `first` and `last` are `(n_spans,)`; the column has `n_groups * n_spans` values.
        """
        groups = self.groups.count
        if self.tables and len(measure.tables) == 1:
            own = measure.of_table("", measure.name)
            value = self.table(measure.term.table).value_of_all(own, first, last)
            return value.shown_as(self.facts.folded.formats.get(measure.name))
        if measure.is_staged or measure.over_all or self.tables:
            group = np.repeat(np.arange(groups), len(first))
            return self.value(measure, group, np.tile(first, groups), np.tile(last, groups))
        lo, hi = self.within_coverage(first, last)
        inside = lo <= hi
        at = self.cells.axis.bounds_of_all(lo, hi)
        column = measure.over_cells(self.cells, *at, self.facts.folded.formats)
        if self.own is not None:  # no transactions lie outside: the numbers are right as they are
            begins, ends = (np.repeat(days, len(lo)) for days in self.own)
            column = column.blanked((np.tile(hi, groups) >= begins) & (np.tile(lo, groups) <= ends))
        if not inside.all():
            column = column.blanked(np.tile(inside, groups))
        return column.named(measure.name, f"{measure.formula} over the row's days")

    def within_coverage(self, first: Ints, last: Ints, name: str = "") -> tuple[Ints, Ints]:
        """Return what spans of days have in the coverage; periods of the data must be whole, and
        an error names the book of the set.

        All arrays are `(n_spans,)`.
        """
        lo, hi = np.maximum(first, self.coverage.lo), np.minimum(last, self.coverage.hi)
        grain = self.facts.folded.grain
        try:
            if may_straddle(grain):  # what is cut off by the coverage is no finer question
                check_whole(first, last, grain)
            else:
                check_whole(lo, hi, grain)
        except QuestionError as error:
            raise QuestionError(f"{name}: {error}" if name else str(error)) from None
        return lo, hi

    def _term(self, term: Term, group: Ints, first: Ints, last: Ints) -> Column:
        """Return a term over one span of days per row; the arrays are `(n_rows,)`."""
        if term.inner is not None and term.members is None:
            from eptaro.core.measures.stages import NestedAggregation

            facts = self.facts
            grain = facts.folded.grain
            calendar, workdays = facts.calendar, facts.workdays
            stage = NestedAggregation(
                *(self.cells, self.coverage, calendar, workdays, grain, self.own), self._balances
            )
            return stage.value(term, group, first, last)
        lo, hi = self.cells.axis.bounds(group, first, last)
        if term.is_balance:
            return self._balances(term, group, first, last)
        if term.over_all:
            plane = Plane("codes", term.column)
            from eptaro.core.measures.members import new_to_all

            return new_to_all(self.cells, plane, self._first_day_of_each(plane), lo, hi)
        return term_over_cells(self.cells, term, lo, hi)

    def _balances(self, term: Term, group: Ints, first: Ints, last: Ints) -> Column:
        """Return the balances of groups at the end of days, or before they begin.

        `group`, `first` and `last` are `(n_rows,)`.
        """
        from eptaro.core.query.balances import Balances  # few measures are balances

        name = f"balances of {term.members}"
        if name not in self.cache:
            self.cache[name] = Balances.of(self.facts.folded, term, self.places)
        balances: Balances = self.cache[name]
        return balances.at_end_of(group, last if term.how == "closing" else first - 1)

    def _first_day_of_each(self, plane: Plane) -> Ints:
        """Return the first day of each value of a column in any group of the book."""
        name = f"first day of each {plane.column}"
        if name not in self.cache:
            from eptaro.core.measures.members import first_days_of

            self.cache[name] = first_days_of(self.facts.cells, plane)
        days: Ints = self.cache[name]
        return days

    def meta(self, verb: str) -> dict[str, Any]:
        """Return what is beside every result."""
        facts = self.facts
        return (
            {
                "verb": verb,
                "calendar": facts.calendar.describe(),
                "coverage": self._coverage_said(),
                "as_of": str(as_date(self.today)),
                **({"data_age": self.data_age} if self.data_age else {}),
                **({} if facts.folded.grain == "day" else {"dated_by": facts.folded.grain}),
                "by": self.groups.names,
                "measures": {m.name: m.formula for m in facts.measures},
                "rows": facts.rows,
                "source": facts.source,
            }
            | self._of_each_table(lambda view: aside_note(view.facts.folded))
            | self._of_each_table(lambda view: left_note(view.facts.folded))
            | self.describe_ties()
            | self.by_input_order()
            | self._ends_first()
            | ({} if self.others is None else {"others": OTHERS})
        )

    def _coverage_said(self) -> str:
        """Return the coverage in words, of a set that of each book."""
        if self.tables:
            return ", ".join(f"{name} {one._coverage_said()}" for name, one in self.tables.items())
        return str(self.coverage) + ("" if self.own is None else ", group by group")

    def _of_each_table(self, notes_of: Callable[[View], Mapping[str, str]]) -> dict[str, str]:
        """Return the notes of a book, or those of each book of a set behind its name."""
        if not self.tables:
            return dict(notes_of(self))
        texts = dict[str, str]()
        for name, view in self.tables.items():
            for key, text in notes_of(view).items():
                texts[key] = f"{texts[key]}; {name}: {text}" if key in texts else f"{name}: {text}"
        return texts

    def _ends_first(self) -> dict[str, str]:
        """Return which books of a set end on the as-of date, where others go on."""
        ends = {name: table.facts.coverage.hi for name, table in self.facts.tables.items()}
        first = [name for name, end in ends.items() if end == self.today]
        return {"ends_first": ", ".join(first)} if first and len(first) < len(ends) else {}

    def __getstate__(self) -> dict[str, Any]:
        """Return what a copy needs: all but what was calculated and can be again."""
        return vars(self) | {"cache": {}}

    def by_input_order(self) -> dict[str, str]:
        """Return which first and last values the order of the input decides, as several rows of one
        group share the deciding day; of dates with a time that is left to the times.
        """
        if self.tables:
            return self._of_each_table(lambda view: view.by_input_order())
        if self.facts.folded.timed:
            return {}
        notes = []
        for term in dict.fromkeys(term for m in self.facts.measures for term in m.terms):
            if term.how not in BY_TIME or term.inner is not None:
                continue
            deciding = self._deciding(Plane(BY_TIME[term.how], term.column))
            if deciding is not None:
                (rows, day), plane = deciding, Plane(BY_TIME[term.how], term.column)
                note = f"{term}: {rows:,} rows of {as_date(day)}, "
                note += f"the {term.how} of the input counts"
                if self.cells.tallies[plane].kind not in NO_NUMBERS:
                    note += f"; for a total of the day: {term.how}(sum({term.column}) per day)"
                    if term.how == "last":
                        note += f", for balances: closing({term.column} per ACCOUNT)"
                notes.append(note)
        return {"by_input_order": "; ".join(notes)} if notes else {}

    def _deciding(self, plane: Plane) -> tuple[int, int] | None:
        """Return how many rows share the first or the last day with a value, and that day; of the
        group where this is latest, or earliest. None where it is one row.
        """
        pick, axis = self.cells.tallies[plane], self.cells.axis
        assert isinstance(pick, SelectedValues)
        _, day = axis.cells_of()
        at = pick.cell[(day[pick.cell] >= self.seen.lo) & (day[pick.cell] <= self.seen.hi)]
        if pick.shared is not None and len(pick.shared):
            at = np.setdiff1d(at, pick.cell[pick.shared])  # which are blank, and named as such
        if not len(at):
            return None
        ends = day[at].max() if plane.what == "last" else day[at].min()
        cells = at[day[at] == ends]
        rows = int(self.cells.sums(ROWS, cells, cells + 1).data.max())
        return (rows, int(ends)) if rows > 1 else None

    def describe_ties(self) -> dict[str, str]:
        """Return why first and last values are blank where several groups share their time."""
        if self.tables:
            return self._of_each_table(lambda view: view.describe_ties())
        tied = [
            f"{plane.what}({plane.column})"
            for plane, tally in self.cells.tallies.items()
            if isinstance(tally, SelectedValues) and tally.flags().any()
        ]
        if not tied:
            return {}
        return {
            "undecided": f"{', '.join(tied)} of several groups at the same time: blank, as "
            f"only the order of the rows would decide"
        }


def top_groups(view: View, count: int, within: Sequence[str], days: Span | None = None) -> View:
    """Return the view with the groups that have most of the first measure, by size, and the rest
    as one group, `(others)`: over all, or within each value of some of the group columns; by what
    they have on all days seen, unless some are named.

    Raises `QuestionError` for a column that is none, and where no column is left to pick from.
    """
    names = view.groups.names
    for name in within:
        if name not in names:
            raise QuestionError(unknown("group column", name, names))
    largest_of = [name for name in names if name not in within]
    if not largest_of:
        other = " that top_within does not name" if within else ""
        raise QuestionError(f"top picks groups; name a column in by{other}")
    if count < 1:
        raise QuestionError(f"top={count} must be at least 1")
    size, around = group_sizes(view, days), view.groups.onto(within)[1]
    leading = view.facts.whole.pick_groups(view.places, view.groups.count)
    if leading is None:
        leading = leading_groups(view.groups, size, count, within)
    order = np.lexsort((-size.ranks(), ~leading, around))
    runs, leading = around[order], leading[order]
    opens = np.append(True, (runs[1:] != runs[:-1]) | (leading[1:] != leading[:-1]))
    first = leading | opens  # of each new group the first old one
    target = np.empty(len(order), np.int64)
    target[order] = np.cumsum(first) - 1
    others: Flags = ~leading[first]
    groups = view.groups.at(order[first])
    coded = {
        name: _with_others(name, groups, others) if name in largest_of else groups.coded[name]
        for name in names
    }
    regrouped = view.regroup(target, Groups(coded, len(others)))
    return replace(regrouped, others=others if others.any() else None)


def group_sizes(view: View, days: Span | None = None) -> Column:
    """Return what each group has of the first measure over some days, by default all seen."""
    every, span = np.arange(view.groups.count), days or view.seen
    spans = (np.full(len(every), day) for day in (span.lo, span.hi))
    return view.value(view.facts.measures[0], every, *spans)


def leading_groups(groups: Groups, size: Column, count: int, within: Sequence[str]) -> Flags:
    """Return which groups are the largest, so many within each value of some of their columns; of
    equal ones those that come first.
    """
    around = groups.onto(within)[1]
    order = np.lexsort((-size.ranks(), around))
    runs, rows = around[order], np.arange(len(order))
    opens = np.append(True, runs[1:] != runs[:-1])
    leading = np.zeros(len(order), bool)
    leading[order] = rows - np.maximum.accumulate(np.where(opens, rows, 0)) < count
    return leading


def _with_others(name: str, groups: Groups, others: Flags) -> Categorical:
    """Return a group column as texts, those of all others under their own word.

    `others` is `(n_groups,)`.
    """
    if not others.any():
        return groups.coded[name]
    values: list[Any] = groups.columns(np.arange(groups.count))[groups.names.index(name)].to_list()
    words = [None if value is None else str(value) for value in values]
    words = [OTHERS if other else word for word, other in zip(words, others.tolist(), strict=True)]
    codes = np.array([-1 if word is None else at for at, word in enumerate(words)], np.int32)
    texts: NDArray[Any] = np.array([*("" if word is None else word for word in words)])
    return Categorical(codes, Column.text(name, texts))
