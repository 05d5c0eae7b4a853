"""The rows of a recap: periods of a level, wider ones below their parts, chunks of time."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import cached_property, partial
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints, as_dates, ordinal
from eptaro.core.calendars.levels import LEVELS, Amount, check_level
from eptaro.core.calendars.span import Span
from eptaro.core.query.view import View
from eptaro.core.results.column import (
    AnyColumn,
    Column,
    LazyColumn,
    TiledArray,
    date_column,
    day_counts,
    with_shown_labels,
)
from eptaro.core.results.format import COMPLETE, FIRST, LAST, PERIOD, DisplayHint, Priority
from eptaro.errors import CalendarError, QuestionError, show_option, unknown
from eptaro.record import record

_WHOLE = "Whether the row is a whole period inside the coverage"
TOTAL = "total"  # label and level of the row that adds up all others


@record
class PeriodRows:
    """The spans that rows represent, with their labels; `level` is `total` for totals."""

    first: Ints
    last: Ints
    complete: Flags
    level: Column
    level_of_parts: str
    labelling: Callable[[], NDArray[Any]]
    calendar: Calendar

    @classmethod
    def of(cls, view: View, per: str, levels: Sequence[str], *, with_total: bool) -> PeriodRows:
        """Return the periods of a level or chunks, those of wider levels among them, and, last,
        a total of them all.
        """
        parts = [spans_of(view, per)]
        names = [per]
        if levels:
            names += wider_levels(levels, check_level(per, view.calendar.levels), view.calendar)
            parts += [spans_of(view, level) for level in names[1:]]
        first, last, complete = (
            np.concatenate(part) for part in zip(*(m[:3] for m in parts), strict=True)
        )
        rank = np.repeat(np.arange(len(parts)), [len(part[0]) for part in parts])
        order = np.lexsort((rank, last))  # a wider period follows the last of its parts
        first, last, complete, rank = first[order], last[order], complete[order], rank[order]
        if with_total:
            first, last = np.append(first, first.min()), np.append(last, last.max())
            complete, rank = np.append(complete, complete.all()), np.append(rank, len(names))

        def labels() -> NDArray[Any]:
            words = np.concatenate([labelling().astype(object) for *_, labelling in parts])[order]
            return np.append(words, TOTAL) if with_total else words

        words = np.array([*names, TOTAL] if with_total else names)
        by_letters = np.argsort(words)
        level = Column.text(
            "level",
            words[by_letters],
            np.argsort(by_letters)[rank],
            description="Level of the period",
            face=DisplayHint("level", Priority.KEY),
        )
        return cls(first, last, complete, level, per, labels, view.calendar)

    def __len__(self) -> int:
        return len(self.first)

    @cached_property
    def labels(self) -> Column:
        """The period's label, written out when it is asked for."""
        words = distinct_labels(self.labelling())
        label = Column.text("period", *words, description="The period's label", face=PERIOD)
        return with_shown_labels(label, self.calendar)

    @property
    def levels(self) -> list[str]:
        """The levels that occur."""
        assert self.level.choices is not None
        return [str(level) for level in self.level.choices]

    def of_level(self, level: str) -> Flags:
        """Return which rows are of a level."""
        code = self.levels.index(level) if level in self.levels else len(self.levels)
        return np.asarray(self.level.data == code)

    @property
    def parts(self) -> Flags:
        """Which rows are the parts that totals are made of."""
        return self.of_level(self.level_of_parts)

    def row_of_label(self, label: str) -> int:
        """Return the row of a period; raises `QuestionError` where there is none."""
        words = [str(word) for word in self.labels.to_list()]
        parts = np.flatnonzero(self.parts).tolist()
        row_by_label = {words[row]: row for row in parts}
        if label not in row_by_label:
            with suppress(CalendarError):
                label = self.calendar.period(label).label
        if label not in row_by_label:
            raise QuestionError(unknown("period", label, row_by_label))
        return row_by_label[label]

    def parents(self) -> Ints:
        """Return for each row the row of the next wider subtotal that holds it, or -1.

        A wider period follows its parts.
        """
        levels = [level for level in reversed(LEVELS) if level in self.levels]
        places = np.full(len(self.level), -1)
        for narrow, wide in pairwise(levels):
            inner, outer = (np.flatnonzero(self.of_level(level)) for level in (narrow, wide))
            at = np.searchsorted(self.last[outer], self.last[inner])
            places[inner] = outer[np.minimum(at, len(outer) - 1)]
        return places

    def head(self) -> list[AnyColumn]:
        """Return the columns that label the rows, the same for every group: label and days."""
        return [
            LazyColumn("period", len(self), lambda: self.labels),
            *([] if {*self.levels} <= {self.level_of_parts, TOTAL} else [self.level]),
            date_column("first", self.first, None, "First day of the row", FIRST),
            date_column("last", self.last, None, "Last day of the row", LAST),
            day_counts(self.last - self.first + 1, "Days from first to last"),
        ]

    def complete_of_all(self, view: View) -> LazyColumn:
        """Return the column that says for every group which rows are whole."""
        groups = view.groups.count

        def make() -> Column:
            whole = np.asarray(TiledArray.of_spans(self.complete, groups))
            if view.covers_by_group:
                whole = whole & view.complete_of_all(self.first, self.last)[:]
            return Column.of("complete", "flag", whole, description=_WHOLE, face=COMPLETE)

        return LazyColumn("complete", len(self) * groups, make)


def spans_of(view: View, per: str) -> tuple[Ints, Ints, Flags, Callable[[], NDArray[Any]]]:
    """Return first and last days of periods or chunks, which are whole, and what labels them."""
    chunks = Chunks.parse(per, view.calendar)
    if chunks is not None:
        begins, ends = chunks.over(view.seen)
        labelling = partial(Chunks.labels, begins, ends)
    else:
        periods = view.calendar.periods(view.seen, check_level(per, view.calendar.levels))
        begins, ends = periods.first, periods.last
        labelling = partial(view.calendar.labels, periods.index, periods.level)
    first, last = begins, ends
    if view.window:
        first, last = np.maximum(first, view.window.lo), np.minimum(last, view.window.hi)
    whole = (first == begins) & (last == ends) & view.complete(first, last)
    return first, last, whole, labelling


def distinct_labels(labels: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any]]:
    """Return the distinct labels and the code of each row.

    `labels` is `(n_rows,) str`; the results are `(n_distinct,)` and `(n_rows,)`.
    """
    choices, codes = np.unique(labels.astype(str), return_inverse=True)
    return choices, codes


_CHUNKS = re.compile(r"(\d+\s+[a-z]+)\s+from\s+(\d{4}-\d{2}-\d{2})")


class Chunks:
    """Spans of so many units, one after the other from a day on, both ways."""

    def __init__(self, amount: Amount, start: int, calendar: Calendar) -> None:
        self._amount, self._start, self._calendar = amount, start, calendar

    @classmethod
    def parse(cls, per: str, calendar: Calendar) -> Chunks | None:
        """Return the chunks written as `5 months from 2024-03-20`, or None."""
        match = _CHUNKS.fullmatch(per.strip().lower())
        if not match:
            return None
        return cls(Amount.of_levels(match[1], "per"), ordinal(match[2]), calendar)

    def over(self, span: Span) -> tuple[Ints, Ints]:
        """Return first and last days of the chunks that share a day with a span."""
        width = {"day": 1, "week": 7, "month": 28, "quarter": 84, "half": 168, "year": 364}
        least = width[self._amount.unit] * self._amount.n
        before = max(self._start - span.lo, 0) // least + 2
        after = max(span.hi - self._start, 0) // least + 2
        steps = np.arange(-before, after + 1) * self._amount.n
        start = np.full(len(steps), self._start)
        begins = self._calendar.move_days(start, steps, self._amount.unit)[0]
        first, last = begins[:-1], begins[1:] - 1
        keep = (last >= span.lo) & (first <= span.hi)
        return first[keep], last[keep]

    @staticmethod
    def labels(first: Ints, last: Ints) -> NDArray[np.str_]:
        """Return the labels of chunks: their first and last days. All arrays are `(n_chunks,)`."""
        one, two = (np.datetime_as_string(as_dates(days), unit="D") for days in (first, last))
        return np.strings.add(np.strings.add(one, ".."), two)


def wider_levels(levels: Sequence[str], per: str, calendar: Calendar) -> list[str]:
    """Return levels for subtotals, narrow first; each must be wider than `per`."""
    for level in levels:
        if level not in calendar.levels or LEVELS.index(level) >= LEVELS.index(per):
            fits = [lv for lv in calendar.levels if LEVELS.index(lv) < LEVELS.index(per)]
            raise QuestionError(
                f"{show_option('subtotals', level)} is not wider than {show_option('per', per)}; "
                f"use {', '.join(fits) or 'none'}"
            )
    return sorted(dict.fromkeys(levels), key=LEVELS.index, reverse=True)
