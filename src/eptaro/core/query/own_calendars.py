"""`OwnCalendars`: each value of a group column keeps its own calendar."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from eptaro.core.aggregation.groups import Groups
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.results.format import BLANK
from eptaro.errors import CalendarError, InputError, unknown


class OwnCalendars:
    """The calendar of each value of a group column; `other` is that of values not named, None
    names the blank.

    Parameters
    ----------
    column : str
        The group column whose values keep calendars.
    calendars : mapping of str to Calendar
        The calendar of each value; None or `(blank)` names the blank.
    other : Calendar, optional
        The calendar of values that are not named.

    Raises
    ------
    CalendarError
        Where two different calendars share one name.

    Examples
    --------
    >>> import eptaro as ep
    >>> own = OwnCalendars("company", {
    ...     "Ferries": ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY"),
    ...     "Freight": ep.MonthCalendar("freight", year_starts="09-10", year_named="start")})
    >>> book = ep.Daybook({"on": ["2025-05-01"] * 2, "company": ["Ferries", "Freight"]},
    ...                   date="on", by="company", measures="n=count()", calendar=own)
    >>> book.recap("year", by="company").column("period").to_list()
    ['FY2026', '2024']
    """

    def __init__(
        self, column: str, calendars: Mapping[str, Calendar], other: Calendar | None = None
    ) -> None:
        self.column, self.other = column, other
        self.calendars = {
            "" if value in (None, BLANK) else value: one for value, one in calendars.items()
        }
        by_name: dict[str, Calendar] = {}
        for calendar in self.every:
            if by_name.setdefault(calendar.name, calendar) != calendar:
                raise CalendarError(f"two different calendars are called {calendar.name!r}")

    @property
    def common(self) -> Calendar:
        """The calendar that is where one for all is wanted: `other`, or civil years."""
        return self.other or MonthCalendar()

    @property
    def every(self) -> list[Calendar]:
        """All calendars that groups keep."""
        return [*self.calendars.values(), *([self.other] if self.other else [])]

    def of_value(self, value: object) -> Calendar | None:
        """Return the calendar of a value of the column; None where it has none.

        Parameters
        ----------
        value : object
            The value; None, `(blank)` or an empty text is the blank.

        Returns
        -------
        Calendar or None
            Its calendar.

        Examples
        --------
        >>> import eptaro as ep
        >>> own = OwnCalendars("company", {"Cafés": ep.WeekCalendar("cafe")}, MonthCalendar())
        >>> own.of_value("Cafés").name, own.of_value("Ferries").name
        ('cafe', 'calendar')
        """
        return self.calendars.get("" if value in (None, BLANK) else str(value), self.other)

    def of_groups(self, groups: Groups, source: str) -> dict[Calendar, Flags]:
        """Return which groups keep each calendar; raises `InputError` where one has none.

        Parameters
        ----------
        groups : Groups
            The groups.
        source : str
            Where they came from, for messages.

        Returns
        -------
        dict of Calendar to bool array
            Which groups keep each calendar.

        Raises
        ------
        InputError
            Where one has none.

        Examples
        --------
        >>> from eptaro.core.aggregation.groups import Categorical
        >>> from eptaro.core.results.column import Column
        >>> coded = Categorical(np.array([0, 1], np.int32), Column.text("company", ["a", "b"]))
        >>> import eptaro as ep
        >>> own = OwnCalendars("company", {"a": ep.WeekCalendar("cafe")}, MonthCalendar("civil"))
        >>> flags = own.of_groups(Groups({"company": coded}, 2), "these rows")
        >>> {calendar.name: which.tolist() for calendar, which in flags.items()}
        {'cafe': [True, False], 'civil': [False, True]}
        """
        if self.column not in groups.names:
            raise InputError(
                f"{source}: calendars go by {self.column!r}, so by= must name it; it names "
                f"{', '.join(groups.names) or 'nothing'}"
            )
        coded = groups.coded[self.column]
        words = [*coded.choices.to_list(), None]
        codes_by_calendar: dict[Calendar, list[int]] = {}
        met = np.unique(coded.codes)  # which go by the rows; calendars go by their first groups
        for code in met[np.argsort(coded.ranks[met])].tolist():
            calendar = self.of_value(words[code])
            if calendar is None:
                word = "" if words[code] is None else str(words[code])
                raise InputError(
                    f"{source}: {self.column} {word!r} has no calendar; name one for it, or "
                    f"other= for all that are not named"
                )
            codes_by_calendar.setdefault(calendar, []).append(code)
        return {
            calendar: np.isin(coded.codes, codes) for calendar, codes in codes_by_calendar.items()
        }

    def describe(self) -> str:
        """Return who keeps which calendar, in words.

        Examples
        --------
        >>> import eptaro as ep
        >>> OwnCalendars("company", {"a": ep.MonthCalendar("civil")}).describe()[:13]
        'by company: a'
        """
        lines = [f"{value}: {calendar.describe()}" for value, calendar in self.calendars.items()]
        if self.other:
            lines.append(f"all others: {self.other.describe()}")
        return f"by {self.column}: " + "; ".join(lines)

    def settings(self) -> dict[str, Any]:
        """Return what `from_settings` makes it again from.

        Examples
        --------
        >>> import eptaro as ep
        >>> own = OwnCalendars("company", {"Cafés": ep.WeekCalendar("cafe")}, MonthCalendar())
        >>> own.settings()["calendars"]["Cafés"]["kind"]
        'week'
        """
        calendars = {value: calendar.settings() for value, calendar in self.calendars.items()}
        other = self.other.settings() if self.other else None
        return {"column": self.column, "calendars": calendars, "other": other}

    @classmethod
    def from_settings(cls, settings: Mapping[str, Any]) -> OwnCalendars:
        """Return the calendars that `settings` describes.

        Parameters
        ----------
        settings : mapping
            What `settings` returned.

        Returns
        -------
        OwnCalendars
            The same calendars.

        Examples
        --------
        >>> import eptaro as ep
        >>> own = OwnCalendars("company", {"Cafés": ep.WeekCalendar("cafe")}, MonthCalendar())
        >>> again = OwnCalendars.from_settings(own.settings())
        >>> again.column, [*again.calendars]
        ('company', ['Cafés'])
        """
        from eptaro.core.calendars.kinds import from_settings

        calendars = {value: from_settings(one) for value, one in settings["calendars"].items()}
        other = settings["other"]
        return cls(settings["column"], calendars, from_settings(other) if other else None)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, OwnCalendars) and self.settings() == other.settings()

    def __hash__(self) -> int:
        return hash((self.column, *self.calendars))


def check_own(calendar: Calendar | OwnCalendars | None) -> tuple[Calendar, OwnCalendars | None]:
    """Return the calendar for all, and those that groups keep for themselves."""
    if isinstance(calendar, OwnCalendars):
        return calendar.common, calendar
    if calendar is not None and not isinstance(calendar, Calendar):
        raise CalendarError(f"calendar={calendar!r} is not a calendar")
    return calendar or MonthCalendar(), None


def named_calendars(
    column: str, names: Mapping[str, str], calendars: Mapping[str, Calendar], other: str | None
) -> OwnCalendars:
    """Return the calendars that values name; raises `CalendarError` for one not defined."""
    for name in [*names.values(), *([other] if other else [])]:
        if name not in calendars:
            raise CalendarError(unknown("calendar", name, calendars))
    own = {value: calendars[name] for value, name in names.items()}
    return OwnCalendars(column, own, calendars[other] if other else None)
