"""`Workdays`: which days are worked, counted without a loop over days; and `Holidays`.

Workdays are numbered over all time: `number(day)` is how many come before a day. That
number is whole weeks times workdays per week, plus those of the week begun, less the
holidays passed; every count is a difference of two numbers, every search its inverse.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, Self, overload

import numpy as np

from eptaro.core.calendars.days import (
    DateLike,
    Days,
    Flags,
    Ints,
    as_date,
    as_dates,
    ordinal,
    ordinals,
    weekday,
)
from eptaro.core.calendars.levels import WEEKDAYS, check_weekday
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.errors import CalendarError, QuestionError, unknown
from eptaro.record import Record, record

_MONDAY = 4  # 1970-01-05


@record(guarded=True)
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


class Workdays:
    """Which days are worked: all but weekends and holidays.

    `weekend` is any set of weekdays, none to six; `closed` names the kinds of holiday
    that are no workdays, by default all.

    Parameters
    ----------
    weekend : str or sequence of str
        Weekdays that are not worked, none to six.
    holidays : HolidaySet, optional
        Days off.
    closed : iterable of str, optional
        The kinds of holiday that are no workdays, by default all.

    Raises
    ------
    CalendarError
        Where no workday would be left, or for an unknown word.

    Examples
    --------
    >>> from eptaro.core.calendars.workdays import Holiday
    >>> easter = Holidays([Holiday(dt.date(2025, 4, 18), "Good Friday"),
    ...                      Holiday(dt.date(2025, 4, 21), "Easter Monday")])
    >>> days = Workdays(holidays=easter)
    >>> days.count(Span("2025-04-01", "2025-04-30")), str(days.next("2025-04-17"))
    (20, '2025-04-22')
    """

    def __init__(
        self,
        weekend: Sequence[str] = ("saturday", "sunday"),
        *,
        holidays: Holidays | None = None,
        closed: Iterable[str] | None = None,
    ) -> None:
        if holidays is not None and not isinstance(holidays, Holidays):
            raise CalendarError(
                f"holidays={holidays!r} must be a HolidaySet, such as HolidaySet.from_csv(path)"
            )
        self.holidays = holidays or Holidays(())
        self._kinds = None if closed is None else tuple(closed)
        self._off = np.zeros(7, bool)
        for name in [weekend] if isinstance(weekend, str) else weekend:
            self._off[check_weekday(name, "weekend")] = True
        if self._off.all():
            raise CalendarError("weekend names all seven days; there would be no workdays")
        self._open = np.flatnonzero(~self._off)
        self._begun = np.concatenate([[0], np.cumsum(~self._off)])
        closing = self.holidays
        if self._kinds is not None:
            closing = self.holidays.of_kinds(self._kinds)
        days = closing.days  # in order; some have two holidays
        days = days[np.diff(days, prepend=days[:1] - 1) > 0]
        self._closed: Ints = days[~self._off[weekday(days)]]

    def settings(self) -> dict[str, Any]:
        """Return what `from_settings` makes them again from, as JSON takes it.

        Examples
        --------
        >>> Workdays(weekend="sunday").settings()["weekend"]
        ['sunday']
        """
        return {
            "weekend": [WEEKDAYS[day] for day in np.flatnonzero(self._off).tolist()],
            "holidays": [
                [str(day.day), day.name, day.kind, day.pay_premium] for day in self.holidays
            ],
            "closed": None if self._kinds is None else [*self._kinds],
        }

    @classmethod
    def from_settings(cls, settings: Mapping[str, Any]) -> Workdays:
        """Return the workdays that `settings` describes.

        Parameters
        ----------
        settings : mapping
            What `settings` returned.

        Returns
        -------
        Workdays
            The same workdays.

        Examples
        --------
        >>> Workdays.from_settings(Workdays(weekend="sunday").settings()).is_workday("2025-08-16")
        True
        """
        days = [
            Holiday(dt.date.fromisoformat(day), name, kind, premium)
            for day, name, kind, premium in settings["holidays"]
        ]
        return cls(settings["weekend"], holidays=Holidays(days), closed=settings["closed"])

    def describe(self) -> str:
        """Return in words which days are no workdays.

        Examples
        --------
        >>> Workdays().describe()
        'off: Saturday and Sunday'
        """
        off = [WEEKDAYS[day].title() for day in np.flatnonzero(self._off).tolist()]
        closed = len(self._closed)
        parts = [" and ".join(off) or "no weekend"]
        parts += [f"{closed:,} holiday{'' if closed == 1 else 's'} on other days"] if closed else []
        return "off: " + ", ".join(parts)

    def union(self, other: Workdays) -> Workdays:
        """Return the workdays of both, which agree in the years of which both know holidays.

        Parameters
        ----------
        other : Workdays
            Those of other years, such as the holidays of the next one.

        Returns
        -------
        Workdays
            With the holidays of both.

        Raises
        ------
        CalendarError
            Where weekends or holidays differ.

        Examples
        --------
        >>> one, two = (
        ...     Workdays(holidays=Holidays([Holiday(dt.date(year, 5, 1), "May")]))
        ...     for year in (2024, 2025)
        ... )
        >>> len(one.union(two).holidays)
        2
        """
        sides = self, other
        if self == other:
            return self
        alike = (self._off == other._off).all() and self._kinds == other._kinds
        years = [{day.day.year for day in side.holidays} for side in sides]
        if not alike or not all(years):
            raise CalendarError(f"workdays differ: {self.describe()}; and {other.describe()}")
        both = years[0] & years[1]
        for year in sorted(both):
            one, two = ({day for day in side.holidays if day.day.year == year} for side in sides)
            if odd := sorted(one ^ two, key=lambda holiday: holiday.day):
                raise CalendarError(
                    f"workdays differ: only one side has the holiday {odd[0].name} of {odd[0].day}"
                )
        weekend, holidays = self.settings()["weekend"], [*self.holidays, *other.holidays]
        return Workdays(weekend, holidays=Holidays(holidays), closed=self._kinds)

    def __eq__(self, other: object) -> bool:
        """Whether the same days are worked, and the holidays are called alike."""
        return isinstance(other, Workdays) and self.settings() == other.settings()

    def __hash__(self) -> int:
        return hash((self._off.tobytes(), self._closed.tobytes()))

    def is_weekend(self, days: Days) -> Flags:
        """Return which day ordinals fall on the weekend.

        Parameters
        ----------
        days : int array of shape (n,)
            Day ordinals.

        Examples
        --------
        >>> import numpy as np
        >>> Workdays().is_weekend(np.array([0, 1, 2, 3])).tolist()
        [False, False, True, True]
        """
        flags: Flags = self._off[weekday(days)]
        return flags

    @overload
    def is_workday(self, days: DateLike) -> bool: ...
    @overload
    def is_workday(self, days: Days) -> Flags: ...
    def is_workday(self, days: Days | DateLike) -> Flags | bool:
        """Return whether a date is a workday, or which of many days are.

        Parameters
        ----------
        days : date, or int array of shape (n,)
            A date, or day ordinals.

        Returns
        -------
        bool or bool array of shape (n,)
            Whether it is one; of an array for each.

        Examples
        --------
        >>> import numpy as np
        >>> Workdays().is_workday("2025-08-16")
        False
        >>> Workdays().is_workday(np.array([0, 1, 2, 3])).tolist()
        [True, True, False, False]
        """
        if not isinstance(days, np.ndarray):
            return bool(self.is_workday(np.array([ordinal(days)]))[0])
        dates, closed = days.astype("datetime64[D]"), self._closed.astype("datetime64[D]")
        return np.is_busday(dates, weekmask=(~self._off).astype(np.int8), holidays=closed)

    def number(self, days: Days) -> Ints:
        """Return how many workdays come before each day ordinal, from a fixed day on.

        Parameters
        ----------
        days : int array of shape (n,)
            Day ordinals.

        Returns
        -------
        int array of shape (n,)
            How many workdays come before each, from a fixed day on.

        Examples
        --------
        >>> days = ordinals(["2025-08-15", "2025-08-18"])  # a Friday and the Monday after
        >>> np.diff(Workdays().number(days)).tolist()
        [1]
        """
        weeks, begun = np.divmod(days.astype(np.int64) - _MONDAY, 7)
        passed = np.searchsorted(self._closed, days, side="left")
        numbers: Ints = weeks * len(self._open) + self._begun[begun] - passed
        return numbers

    def day_at(self, numbers: Ints) -> Ints:
        """Return the workday with each number; the inverse of `number`.

        Parameters
        ----------
        numbers : int array of shape (n,)
            Numbers of workdays, as `number` gives them.

        Returns
        -------
        int array of shape (n,)
            The day ordinals that have them.

        Examples
        --------
        >>> monday = ordinals(["2025-08-18"])
        >>> as_dates(Workdays().day_at(Workdays().number(monday) + 5)).tolist()
        [datetime.date(2025, 8, 25)]
        """
        passed: Ints = np.zeros(np.shape(numbers), np.int64)
        while True:
            weeks, begun = np.divmod(numbers + passed, len(self._open))
            days: Ints = _MONDAY + 7 * weeks + self._open[begun]
            before = np.searchsorted(self._closed, days, side="right")
            if (before == passed).all():
                return days
            passed = before

    def between(self, first: Days, last: Days) -> Ints:
        """Return the number of workdays in each span of day ordinals, both ends included.

        Parameters
        ----------
        first, last : int array of shape (n,)
            The ends of spans, both included.

        Returns
        -------
        int array of shape (n,)
            The number of workdays in each.

        Examples
        --------
        >>> import numpy as np
        >>> Workdays().between(np.array([0]), np.array([6])).tolist()
        [5]
        """
        return self.number(last + 1) - self.number(first)

    # ---- for dates --------------------------------------------------------------

    def count(self, span: Span) -> int:
        """Return the number of workdays in a span.

        Parameters
        ----------
        span : Span
            The days.

        Examples
        --------
        >>> import eptaro as ep
        >>> Workdays().count(ep.Span("2025-08-01", "2025-08-31"))
        21
        """
        return int(self.between(np.array([span.lo]), np.array([span.hi]))[0])

    def nth(self, within: Span | Period, n: int) -> dt.date:
        """Return the n-th workday of a span or period, from 1; -1 is the last.

        Parameters
        ----------
        within : Span or Period
            The days.
        n : int
            From 1; -1 is the last.

        Returns
        -------
        date
            That workday.

        Raises
        ------
        QuestionError
            Where there are not so many.

        Examples
        --------
        >>> import eptaro as ep
        >>> Workdays().nth(ep.Span("2025-08-01", "2025-08-31"), 1)
        datetime.date(2025, 8, 1)
        """
        span = within if isinstance(within, Span) else within.span
        count = self.count(span)
        if not 1 <= abs(n) <= count:
            raise QuestionError(f"{span} has {count} workdays; there is no number {n}")
        first = self.number(np.array([span.lo]))
        return as_date(int(self.day_at(first + (n - 1 if n > 0 else count + n))[0]))

    def next(self, day: DateLike) -> dt.date:
        """Return the first workday after a day.

        Parameters
        ----------
        day : date
            A date, or its ISO text.

        Examples
        --------
        >>> Workdays().next("2025-08-15")
        datetime.date(2025, 8, 18)
        """
        return as_date(int(self.day_at(self.number(np.array([ordinal(day) + 1])))[0]))

    def previous(self, day: DateLike) -> dt.date:
        """Return the last workday before a day.

        Parameters
        ----------
        day : date
            A date, or its ISO text.

        Examples
        --------
        >>> Workdays().previous("2025-08-18")
        datetime.date(2025, 8, 15)
        """
        return as_date(int(self.day_at(self.number(np.array([ordinal(day)])) - 1)[0]))

    def elapsed(self, within: Span | Period, day: DateLike) -> int:
        """Return how many workdays of a span or period have come by the end of a day.

        Parameters
        ----------
        within : Span or Period
            The days.
        day : date
            A date, or its ISO text.

        Examples
        --------
        >>> import eptaro as ep
        >>> Workdays().elapsed(ep.Span("2025-08-01", "2025-08-31"), "2025-08-20")
        14
        """
        span = within if isinstance(within, Span) else within.span
        part = span.overlap(Span.of(span.lo, max(ordinal(day), span.lo)))
        return 0 if ordinal(day) < span.lo or part is None else self.count(part)

    def remaining(self, within: Span | Period, day: DateLike) -> int:
        """Return how many workdays of a span or period come after a day.

        Parameters
        ----------
        within : Span or Period
            The days.
        day : date
            A date, or its ISO text.

        Returns
        -------
        int
            How many of their workdays come after it.

        Examples
        --------
        >>> import eptaro as ep
        >>> Workdays().remaining(ep.Span("2025-08-01", "2025-08-31"), "2025-08-20")
        7
        """
        span = within if isinstance(within, Span) else within.span
        return self.count(span) - self.elapsed(span, day)

    def shift(self, days: Any, n: int) -> Any:
        """Return dates moved by n workdays: one `date`, or a datetime64[D] array.

        From a day that is no workday, 1 leads to the next workday and -1 to the previous.

        Parameters
        ----------
        days : date, or array of dates of shape (n,)
            What to move.
        n : int
            How many workdays, back where negative.

        Returns
        -------
        date or datetime64[D] array
            The dates moved.

        Examples
        --------
        >>> Workdays().shift("2025-08-15", 3)
        datetime.date(2025, 8, 20)
        """
        one = isinstance(days, str | dt.date | np.datetime64)
        moved = self.move(np.array([ordinal(days)]) if one else ordinals(days), n)
        return as_date(int(moved[0])) if one else as_dates(moved)

    def move(self, days: Days, n: int) -> Ints:
        """Move day ordinals by n workdays, 0 leaving them where they are.

        Parameters
        ----------
        days : int array of shape (n,)
            Day ordinals.
        n : int
            How many workdays, back where negative.

        Returns
        -------
        int array of shape (n,)
            The days moved.

        Examples
        --------
        >>> friday = ordinals(["2025-08-15"])
        >>> as_dates(Workdays().move(friday, 1)).tolist()
        [datetime.date(2025, 8, 18)]
        """
        if n == 0:
            return days.astype(np.int64)
        return self.day_at(self.number(days + 1) - 1 + n if n > 0 else self.number(days) + n)
