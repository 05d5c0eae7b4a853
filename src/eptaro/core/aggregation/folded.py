"""`Folded`: the result of a fold."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import field
from typing import Any

import numpy as np

from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.cells import Cells
from eptaro.core.aggregation.groups import Groups
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.grain import Grain, first_days, last_days
from eptaro.core.calendars.span import Span
from eptaro.core.results.column import Column
from eptaro.core.results.format import Format
from eptaro.core.results.result import Result
from eptaro.errors import count_noun
from eptaro.record import Record, record

_MOST_NAMED = 2  # sources that are named one by one


@record
class UnmetRows(Record):
    """The condition on the rows of a book, and how many do not meet it."""

    where: str
    rows: int


def note_of_blanks(column: str, count: int) -> str:
    """Return the note on values that are blank, and so in no measure.

    >>> note_of_blanks("fare", 2)
    "2 blank values in 'fare' left out"
    """
    return f"{count_noun(count, 'blank value')} in {column!r} left out"


@record
class Folded:
    """What a fold leaves: groups, cells, and where they came from.

    `rows` of the `sources` were counted; `rejected` lists those without a readable date,
    `left_out` what they add up to. `notes` say what was decided, `fingerprints` which inputs
    are in. `distinct` holds the values that the codes of distinct columns represent,
    `formats` how measures are shown, `timed` says whether dates have times. `reread`
    yields the transactions once more, `cache` holds what was calculated of these once;
    `queries` are those that a database folded by.
    """

    groups: Groups
    cells: Cells
    rows: int
    sources: tuple[str, ...]
    rejected: Result | None = None
    left_out: Mapping[str, Any] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    fingerprints: frozenset[str] = frozenset()
    distinct: Mapping[str, Column] = field(default_factory=dict)
    formats: Mapping[str, Format] = field(default_factory=dict)
    reread: Callable[[], Iterable[Batch]] | None = None
    timed: bool = False
    queries: tuple[str, ...] = ()
    seen: Span | None = None  # the days of all rows, where a condition left some out
    left: UnmetRows | None = None
    grain: Grain = "day"  # the periods that dates represent, each known by its first day
    dated: Ints | None = None  # the days that have rows, where the cells are elsewhere
    unlisted: int = 0  # rows rejected beside those listed; a book's file keeps only how many
    cache: dict[str, Any] = field(default_factory=dict)

    @property
    def rejected_rows(self) -> int:
        """How many rows have no readable date, listed or not."""
        return self.unlisted + (0 if self.rejected is None else len(self.rejected))

    @property
    def days_with_rows(self) -> Ints:
        """The day ordinals on which rows that count lie, in order."""
        if self.dated is not None:
            return self.dated
        return self.cells.days_with_rows() if self.rows else np.zeros(0, np.int64)

    @property
    def days(self) -> Span:
        """The days that the rows cover, whether they meet a condition or not."""
        axis = self.cells.axis
        span = self.seen or Span.of(axis.first_day, axis.last_day)
        if self.grain == "day":
            return span
        ends = np.array([span.lo, span.hi])
        first, last = first_days(ends[:1], self.grain), last_days(ends[1:], self.grain)
        return Span.of(int(first[0]), int(last[0]))

    @property
    def source(self) -> str:
        """Where the transactions came from, in words."""
        if len(self.sources) > _MOST_NAMED:
            return f"{self.sources[0]} and {len(self.sources) - 1} more"
        return " and ".join(self.sources)

    def __getstate__(self) -> dict[str, Any]:
        """Return what a copy needs: all but what was calculated and can be again."""
        return vars(self) | {"cache": {}}


def left_note(folded: Folded) -> dict[str, Any]:
    """Return the condition on rows, where there is one, and how many it left out."""
    if folded.left is None:
        return {}
    return {"where": folded.left.where, "left_out": count_noun(folded.left.rows, "row")}


def aside_note(folded: Folded) -> dict[str, Any]:
    """Return how many rows were rejected, and what they add up to, where any were."""
    if not folded.rejected_rows:
        return {}
    sums = ", ".join(f"sum({name}) {total:,}" for name, total in folded.left_out.items())
    return {
        "rejected": f"{count_noun(folded.rejected_rows, 'row')} without a date"
        + (f": {sums}" if sums else "")
    }


def rows_note(folded: Folded) -> dict[str, str]:
    """Return how the rows read and the rows counted differ, where any were rejected."""
    rejected = folded.rejected_rows
    left_out = 0 if folded.left is None else folded.left.rows
    if not rejected and not left_out:
        return {}
    whole = f"{folded.rows + rejected + left_out:,} read = {folded.rows:,} counted"
    whole += f" + {rejected:,} rejected" if rejected else ""
    return {"rows": whole + (f" + {left_out:,} left out by the condition" if left_out else "")}
