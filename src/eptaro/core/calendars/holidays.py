"""`Holidays`: a set of holidays in time order."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Self

import numpy as np

from eptaro.core.calendars.days import Ints, ordinal
from eptaro.core.calendars.span import Span
from eptaro.errors import CalendarError, unknown
from eptaro.record import Record


@dataclass(frozen=True, eq=False, repr=False)
class Holiday(Record):
    """One holiday: its day, name, kind (such as public, regional or company) and whether
    work on it is paid a premium.

    Parameters
    ----------
    day : date
        Its day.
    name : str
        Its name.
    kind : str
        Public, regional, company, or another word.
    pay_premium : bool
        Whether work on it is paid a premium.

    Examples
    --------
    >>> Holiday(dt.date(2025, 5, 6), "Founders' Day", "company").name
    "Founders' Day"
    """

    day: dt.date
    name: str
    kind: str = "public"
    pay_premium: bool = False


class Holidays:
    """Holidays in time order; several may fall on one day.

    Parameters
    ----------
    holidays : iterable of Holiday
        The holidays, in any order.

    Examples
    --------
    >>> holidays = Holidays([Holiday(dt.date(2025, 5, 14), "Landfall Day")])
    >>> len(holidays), holidays.kinds
    (1, ('public',))
    """

    def __init__(self, holidays: Iterable[Holiday]) -> None:
        self.holidays = tuple(sorted(set(holidays), key=lambda h: (h.day, h.name)))
        self.days: Ints = np.array([ordinal(h.day) for h in self.holidays], np.int64)

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds that occur, sorted."""
        return tuple(sorted({h.kind for h in self.holidays}))

    def __len__(self) -> int:
        return len(self.holidays)

    def __iter__(self) -> Iterator[Holiday]:
        return iter(self.holidays)

    def of_kinds(self, kinds: Iterable[str]) -> Self:
        """Return the holidays of some kinds; raises `CalendarError` for one that is not there.

        Parameters
        ----------
        kinds : iterable of str
            Kinds that occur.

        Returns
        -------
        Holidays
            The holidays of these kinds.

        Raises
        ------
        CalendarError
            For a kind that does not occur.

        Examples
        --------
        >>> days = Holidays([Holiday(dt.date(2025, 1, 1), "New Year", "public"),
        ...                  Holiday(dt.date(2025, 5, 2), "Outing", "company")])
        >>> [day.name for day in days.of_kinds(["company"])]
        ['Outing']
        """
        names = set(kinds)
        for kind in sorted(names - set(self.kinds)):
            raise CalendarError(unknown("kind of holiday", kind, self.kinds))
        return type(self)(h for h in self.holidays if h.kind in names)

    def between(self, span: Span) -> Self:
        """Return the holidays of a span.

        Parameters
        ----------
        span : Span
            The days.

        Returns
        -------
        Holidays
            The holidays in them.

        Examples
        --------
        >>> days = Holidays([Holiday(dt.date(2025, 1, 1), "New Year"),
        ...                  Holiday(dt.date(2025, 5, 1), "May")])
        >>> [day.name for day in days.between(Span("2025-04-01", "2025-12-31"))]
        ['May']
        """
        return type(self)(h for h in self.holidays if h.day in span)
