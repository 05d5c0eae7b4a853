"""`Span`: an inclusive range of days."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import NamedTuple, Protocol

import numpy as np

from eptaro.core.calendars.days import DateLike, Days, Flags, Ints, as_date, ordinal
from eptaro.errors import DateError


class MovedSpans(NamedTuple):
    """Spans after a move, and where the end was cut short by the end of its month or period."""

    first: Ints
    last: Ints
    clamped: Flags


class SpanMover(Protocol):
    """Whatever can move spans: every calendar."""

    def move_spans(self, first: Days, last: Days, n: int | Ints, level: str) -> MovedSpans:
        """Move whole arrays of spans at once. `first` and `last` are `(n_spans,)`."""
        ...


@dataclass(frozen=True, order=True, init=False, slots=True)
class Span:
    """An inclusive range of days, `first`..`last`.

    Parameters
    ----------
    first, last : date
        The ends, both included; dates or ISO text.

    Raises
    ------
    DateError
        Where an end is not a date, or the ends are reversed.

    Examples
    --------
    >>> Span("2024-02-01", "2024-02-29").days
    29
    >>> print(Span.parse("2025-05-06..2025-06-17"))
    2025-05-06..2025-06-17
    """

    lo: int
    hi: int

    def __init__(self, first: DateLike, last: DateLike) -> None:
        self._set(ordinal(first), ordinal(last))

    def _set(self, lo: int, hi: int) -> None:
        if hi < lo:
            raise DateError(
                f"the span {as_date(lo)}..{as_date(hi)} is reversed: its first day comes after "
                f"its last; write {as_date(hi)}..{as_date(lo)}"
            )
        object.__setattr__(self, "lo", lo)
        object.__setattr__(self, "hi", hi)

    @classmethod
    def of(cls, lo: int, hi: int) -> Span:
        """Return the span between two day ordinals, both included.

        Parameters
        ----------
        lo, hi : int
            Day ordinals, both included.

        Returns
        -------
        Span
            The days between.

        Raises
        ------
        DateError
            For what is no day ordinal; dates go to `Span(first, last)`.

        Examples
        --------
        >>> Span.of(0, 6)
        Span('1970-01-01', '1970-01-07')
        """
        try:
            lo, hi = int(lo), int(hi)
        except (TypeError, ValueError):
            raise DateError(
                f"Span.of({lo!r}, {hi!r}) takes day ordinals; give dates to Span(first, last)"
            ) from None
        span = cls.__new__(cls)
        span._set(lo, hi)
        return span

    @classmethod
    def parse(cls, text: str) -> Span:
        """Return the span written as `first..last`, or as a single date.

        Parameters
        ----------
        text : str
            `first..last`, or a single date.

        Returns
        -------
        Span
            The days.

        Examples
        --------
        >>> Span.parse("2025-01-01..2025-01-31")
        Span('2025-01-01', '2025-01-31')
        """
        first, dots, last = text.partition("..")
        return cls(first, last if dots else first)

    @property
    def first(self) -> dt.date:
        """The first day."""
        return as_date(self.lo)

    @property
    def last(self) -> dt.date:
        """The last day."""
        return as_date(self.hi)

    @property
    def days(self) -> int:
        """The number of days, both ends counted."""
        return self.hi - self.lo + 1

    def overlap(self, other: Span) -> Span | None:
        """Return the days that both spans hold, or None.

        Parameters
        ----------
        other : Span
            Other days.

        Returns
        -------
        Span or None
            The days that both hold.

        Examples
        --------
        >>> Span("2025-01-01", "2025-01-31").overlap(Span("2025-01-20", "2025-02-10"))
        Span('2025-01-20', '2025-01-31')
        """
        lo, hi = max(self.lo, other.lo), min(self.hi, other.hi)
        return Span.of(lo, hi) if lo <= hi else None

    def __contains__(self, day: object) -> bool:
        if isinstance(day, Span):
            return self.lo <= day.lo and day.hi <= self.hi
        return self.lo <= ordinal(day) <= self.hi  # type: ignore[arg-type]

    def __str__(self) -> str:
        return f"{self.first}..{self.last}"

    def __repr__(self) -> str:
        return f"Span('{self.first}', '{self.last}')"

    def shift(self, n: int, level: str, calendar: SpanMover) -> Span:
        """Return the span `n` units of `level` later (earlier where `n` is negative).

        A span made of whole months of the calendar stays whole under month, quarter,
        half and year shifts; any other span, and any day or week shift, moves its two
        ends as days.

        Parameters
        ----------
        n : int
            How many units, back where negative.
        level : str
            The unit.
        calendar : Calendar
            The calendar that moves them.

        Returns
        -------
        Span
            The days moved.

        Examples
        --------
        >>> from eptaro.core.calendars.month import MonthCalendar
        >>> print(Span("2024-02-01", "2024-02-29").shift(1, "month", MonthCalendar()))
        2024-03-01..2024-03-31
        """
        moved = calendar.move_spans(np.array([self.lo]), np.array([self.hi]), n, level)
        return Span.of(moved.first[0], moved.last[0])

    def prior(self, level: str, calendar: SpanMover, n: int = 1) -> Span:
        """Return the span `n` units of `level` earlier: `shift(-n, level, calendar)`.

        Parameters
        ----------
        level : str
            The unit.
        calendar : Calendar
            The calendar that moves them.
        n : int
            How many units.

        Returns
        -------
        Span
            The days so much earlier.

        Examples
        --------
        >>> import eptaro as ep
        >>> Span("2025-02-01", "2025-02-28").prior("month", ep.MonthCalendar())
        Span('2025-01-01', '2025-01-31')
        """
        return self.shift(-n, level, calendar)
