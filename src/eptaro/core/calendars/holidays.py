"""`HolidaySet`: holidays in time order, from rules, files or a country."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from eptaro.core.calendars.days import Ints, ordinal
from eptaro.core.calendars.span import Span
from eptaro.errors import CalendarError, unknown


@dataclass(frozen=True)
class Holiday:
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
    """

    day: dt.date
    name: str
    kind: str = "public"
    pay_premium: bool = False


class HolidaySet:
    """Holidays in time order; several may fall on one day.

    Parameters
    ----------
    holidays : iterable of Holiday
        The holidays, in any order.

    Examples
    --------
    >>> found = HolidaySet([Holiday(dt.date(2025, 5, 14), "Landfall Day")])
    >>> len(found), found.kinds
    (1, ('public',))
    """

    def __init__(self, holidays: Iterable[Holiday]) -> None:
        self.holidays = tuple(sorted(set(holidays), key=lambda h: (h.day, h.name)))
        self.days: Ints = np.array([ordinal(h.day) for h in self.holidays], np.int64)

    @classmethod
    def from_rules(
        cls,
        rules: Iterable[Mapping[str, Any]],
        first_year: int,
        last_year: int,
        *,
        weekend: Sequence[str] = ("saturday", "sunday"),
    ) -> HolidaySet:
        """Return the holidays that rules give in the years: see `eptaro.inputs.holidays`.

        Parameters
        ----------
        rules : iterable of mappings
            Each with `name` and `on`, such as `easter - 2` or `first monday of may`.
        first_year, last_year : int
            The years that it is for.
        weekend : sequence of str
            Weekdays that moved holidays avoid.

        Returns
        -------
        HolidaySet
            The holidays of these years.

        Raises
        ------
        InputError
            For a rule that cannot be read.

        Examples
        --------
        >>> import eptaro as ep
        >>> rules = [{"name": "Good Friday", "on": "easter - 2"}]
        >>> [str(holiday.day) for holiday in ep.HolidaySet.from_rules(rules, 2025, 2025)]
        ['2025-04-18']
        """
        from eptaro.inputs.holidays import from_rules

        return from_rules(rules, first_year, last_year, weekend=weekend)

    @classmethod
    def from_csv(cls, path: str | Path) -> HolidaySet:
        """Return the holidays of a CSV file: date, name, optional kind and pay_premium.

        Parameters
        ----------
        path : str or Path
            A file with date, name, and optional kind and pay_premium.

        Returns
        -------
        HolidaySet
            Its holidays.
        """
        from eptaro.inputs.holidays import from_csv

        return from_csv(path)

    @classmethod
    def from_icalendar(cls, path: str | Path, first_year: int, last_year: int) -> HolidaySet:
        """Return the whole-day events of an iCalendar file in the years.

        Parameters
        ----------
        path : str or Path
            The file.
        first_year, last_year : int
            The years that it is for.

        Returns
        -------
        HolidaySet
            Its whole-day events in these years.
        """
        from eptaro.inputs.holidays import from_icalendar

        return from_icalendar(path, first_year, last_year)

    @classmethod
    def from_country(
        cls, country: str, first_year: int, last_year: int, *, subdivision: str | None = None
    ) -> HolidaySet:
        """Return the public holidays of a country (ISO 3166), or of one of its subdivisions.

        Parameters
        ----------
        country : str
            Its ISO 3166 code.
        first_year, last_year : int
            The years that it is for.
        subdivision : str, optional
            The code of one of its parts.

        Returns
        -------
        HolidaySet
            The public holidays of these years.
        """
        from eptaro.inputs.holidays import from_country

        return from_country(country, first_year, last_year, subdivision=subdivision)

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds that occur, sorted."""
        return tuple(sorted({h.kind for h in self.holidays}))

    def __len__(self) -> int:
        return len(self.holidays)

    def __iter__(self) -> Any:
        return iter(self.holidays)

    def of_kinds(self, kinds: Iterable[str]) -> HolidaySet:
        """Return the holidays of some kinds; raises `CalendarError` for one that is not there.

        Parameters
        ----------
        kinds : iterable of str
            Kinds that occur.

        Returns
        -------
        HolidaySet
            The holidays of these kinds.

        Raises
        ------
        CalendarError
            For a kind that does not occur.
        """
        wanted = set(kinds)
        for kind in sorted(wanted - set(self.kinds)):
            raise CalendarError(unknown("kind of holiday", kind, self.kinds))
        return HolidaySet(h for h in self.holidays if h.kind in wanted)

    def between(self, span: Span) -> HolidaySet:
        """Return the holidays of a span.

        Parameters
        ----------
        span : Span
            The days.

        Returns
        -------
        HolidaySet
            The holidays in them.
        """
        return HolidaySet(h for h in self.holidays if h.day in span)
