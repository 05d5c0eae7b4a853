"""`Calendar`: periods by label and date, grids, shifted dates and spans."""

from __future__ import annotations

import datetime as dt
import re
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from functools import cached_property
from types import MappingProxyType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import (
    FIRST_DAY,
    LAST_DAY,
    DateLike,
    Days,
    Flags,
    Ints,
    as_date,
    as_dates,
    civil_months,
    month_starts,
    ordinal,
    ordinals,
)
from eptaro.core.calendars.labels import PIVOT, check_templates, fill_template, typed_label
from eptaro.core.calendars.levels import LEVELS, check_level
from eptaro.core.calendars.period import Period, PeriodGrid, Periods
from eptaro.core.calendars.span import MovedSpans, Span
from eptaro.errors import CalendarError, DateError

LETTERS = {"half": "H", "quarter": "Q", "month": "M", "week": "W"}


class CalendarRule(ABC):
    """The rule that cuts days into years, halves, quarters, months and weeks."""

    name: str
    prefix: str
    levels: tuple[str, ...] = LEVELS
    limits: Span | None = None  # the days that the calendar knows, where that is not all
    shown: Mapping[str, str] = MappingProxyType({})  # templates of labels by level

    def _set_names(self, name: str, prefix: str) -> None:
        if not (isinstance(name, str) and name.isidentifier()):
            raise CalendarError(
                f"calendar name {name!r} cannot begin column names; use letters, digits and _"
            )
        if not (isinstance(prefix, str) and prefix.isprintable() and ".." not in prefix):
            raise CalendarError(f"prefix={prefix!r} cannot begin a label; use something like 'FY'")
        self.name, self.prefix = name, prefix

    def _settings(self, kind: str, **arguments: Any) -> dict[str, Any]:
        """Return the settings of a kind of calendar; templates only where there are some."""
        return {"kind": kind, **arguments} | ({"shown": {**self.shown}} if self.shown else {})

    @abstractmethod
    def _definition(self) -> tuple[object, ...]:
        """Return all that makes this calendar what it is, for equality."""

    @abstractmethod
    def describe(self) -> str:
        """Return the definition in words, for footers and reports.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.WeekCalendar("shops", pattern="13x4").describe().partition(",")[0]
        'shops: 13x4 weeks'
        """

    @abstractmethod
    def settings(self) -> dict[str, Any]:
        """Return the kind and arguments, from which `from_settings` makes it again.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.MonthCalendar("fiscal", prefix="FY").settings()["prefix"]
        'FY'
        """

    @abstractmethod
    def index_of(self, days: Days, level: str) -> Ints:
        """Return the index of the period of `level` that holds each day ordinal.

        Parameters
        ----------
        days : int array of shape (n,)
            Day ordinals.
        level : str
            A level that the calendar offers.

        Returns
        -------
        int array of shape (n,)
            The running index of the period that holds each day.

        Examples
        --------
        >>> import eptaro as ep
        >>> days = ordinals(["2025-01-31", "2025-02-01"])
        >>> np.diff(ep.MonthCalendar().index_of(days, "month")).tolist()
        [1]
        """

    @abstractmethod
    def first_days(self, index: Ints, level: str) -> Ints:
        """Return the first day of each period.

        Parameters
        ----------
        index : int array of shape (n,)
            Running indexes of periods of `level`.
        level : str
            A level that the calendar offers.

        Returns
        -------
        int array of shape (n,)
            The first day ordinal of each period.

        Examples
        --------
        >>> import eptaro as ep
        >>> calendar = ep.MonthCalendar()
        >>> index = calendar.index_of(ordinals(["2025-02-14"]), "month")
        >>> as_dates(calendar.first_days(index, "month")).tolist()
        [datetime.date(2025, 2, 1)]
        """

    @abstractmethod
    def numbers(self, index: Ints, level: str) -> tuple[Ints, Ints]:
        """Return the year that each period belongs to and its number in it, from 1.

        Parameters
        ----------
        index : int array of shape (n,)
            Running indexes of periods of `level`.
        level : str
            A level that the calendar offers.

        Returns
        -------
        (int array, int array) of shape (n,) each
            The year of each period, and its number in it from 1.

        Examples
        --------
        >>> import eptaro as ep
        >>> calendar = ep.MonthCalendar("fiscal", year_starts="04-01")
        >>> index = calendar.index_of(ordinals(["2025-02-14"]), "month")
        >>> [part.tolist() for part in calendar.numbers(index, "month")]
        [[2025], [11]]
        """

    @abstractmethod
    def index_at(self, years: Ints, numbers: Ints, level: str) -> tuple[Ints, Flags]:
        """Return the index of each numbered period and whether there is such a one.

        Parameters
        ----------
        years : int array of shape (n,)
            Years, as named.
        numbers : int array of shape (n,)
            Numbers in the year, from 1.
        level : str
            A level that the calendar offers.

        Returns
        -------
        (int array, bool array) of shape (n,) each
            The index of each period, and whether there is such a one.

        Examples
        --------
        >>> import eptaro as ep
        >>> weeks = np.array([53, 53])
        >>> ep.MonthCalendar().index_at(np.array([2020, 2021]), weeks, "week")[1].tolist()
        [True, False]
        """

    @abstractmethod
    def move_days(self, days: Days, n: int | Ints, level: str) -> tuple[Ints, Flags]:
        """Move day ordinals by `n` units of `level`; flag those clamped to a period's end.

        Parameters
        ----------
        days : int array of shape (n,)
            Day ordinals.
        n : int or int array of shape (n,)
            How many units, back where negative.
        level : str
            A level that the calendar offers.

        Returns
        -------
        (int array, bool array) of shape (n,) each
            The days moved, and where they were clamped to a period's end.

        Examples
        --------
        >>> import eptaro as ep
        >>> moved, clamped = ep.MonthCalendar().move_days(ordinals(["2025-03-31"]), -1, "month")
        >>> as_dates(moved).tolist(), clamped.tolist()
        ([datetime.date(2025, 2, 28)], [True])
        """

    @abstractmethod
    def units(self, level: str, step: str) -> int | None:
        """Return how many periods of `level` make one `step`, or None where that varies.

        Parameters
        ----------
        level : str
            A level that the calendar offers.
        step : str
            A level as wide or wider.

        Returns
        -------
        int or None
            How many periods make one step; None where that varies.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.MonthCalendar().units("month", "year"), ep.MonthCalendar().units("week", "year")
        (12, None)
        """

    def last_days(self, index: Ints, level: str) -> Ints:
        """Return the last day of each period.

        Parameters
        ----------
        index : int array of shape (n,)
            Running indexes of periods of `level`.
        level : str
            A level that the calendar offers.

        Examples
        --------
        >>> import eptaro as ep
        >>> month = ep.MonthCalendar().period("2024-02")
        >>> as_dates(ep.MonthCalendar().last_days(np.array([month.index]), "month")).tolist()
        [datetime.date(2024, 2, 29)]
        """
        return self.first_days(index + 1, level) - 1

    @property
    def plain_months(self) -> bool:
        """Whether months are written 2025-03 rather than FY2025-M03."""
        return False

    @property
    def days_keep_numbers(self) -> bool:
        """Whether a day moved by a month or year keeps its number in the month, as dates do.

        Where months are made of weeks or listed, a period to date is met by as many days of
        the prior period instead.
        """
        return False

    def labels(self, index: Ints, level: str) -> NDArray[np.str_]:
        """Return the label of each period; labels sort as text in time order.

        Parameters
        ----------
        index : int array of shape (n,)
            Running indexes of periods of `level`.
        level : str
            A level that the calendar offers.

        Returns
        -------
        str array
            Labels, which sort as text in time order.

        Examples
        --------
        >>> import eptaro as ep
        >>> fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        >>> fiscal.labels(np.array([2025 * 4 + 3, 2025 * 4 + 4]), "quarter").tolist()
        ['FY2025-Q4', 'FY2026-Q1']
        """
        if check_level(level, self.levels) == "day":
            return np.datetime_as_string(as_dates(index), unit="D")
        years, numbers = self.numbers(index, level)
        text = np.strings.add(self.prefix, np.strings.mod("%04d", years))
        if level == "year":
            return text
        if level in ("half", "quarter"):
            form = f"-{LETTERS[level]}%d"
        else:
            form = "-%02d" if level == "month" and self.plain_months else f"-{LETTERS[level]}%02d"
        return np.strings.add(text, np.strings.mod(form, numbers))

    def counterparts(self, index: Ints, level: str, n: int | Ints, step: str) -> tuple[Ints, Flags]:
        """Return the whole periods of the same place `n` steps away, and which exist.

        Within its own level a period steps along; over a wider `step` it keeps its
        number (or its place in the step). Raises `CalendarError` where `level` does not
        fit into `step`.

        Parameters
        ----------
        index : int array of shape (n,)
            Running indexes of periods of `level`.
        level : str
            A level that the calendar offers.
        n : int or int array of shape (n,)
            How many steps, back where negative.
        step : str
            The level that is stepped by.

        Returns
        -------
        (int array, bool array) of shape (n,) each
            The index of each counterpart, and which exist.

        Raises
        ------
        CalendarError
            Where `level` has no place in `step`.

        Examples
        --------
        >>> import eptaro as ep
        >>> weeks = ep.MonthCalendar()
        >>> last = weeks.period("2020-W53")
        >>> weeks.counterparts(np.array([last.index]), "week", -1, "year")[1].tolist()
        [False]
        """
        check_level(step, self.levels)
        check_level(level, self.levels)
        if level == "day":
            moved, clamped = self.move_days(index, n, step)
            del clamped  # the day is used; callers ask `move_days` for the flag
            exists = np.ones(len(index), bool)
        elif (units := self.units(level, step)) is not None:
            moved, exists = index + n * units, np.ones(len(index), bool)
        elif step == "year":
            years, numbers = self.numbers(index, level)
            moved, exists = self.index_at(years + n, numbers, level)
        else:
            raise CalendarError(
                f"{level}s do not divide into {step}s; step by {', '.join(self.steps(level))}"
            )
        return moved, exists & self._in_range(moved, level)

    def steps(self, level: str) -> list[str]:
        """Return the levels by which a whole period of `level` can step.

        Parameters
        ----------
        level : str
            A level that the calendar offers.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.MonthCalendar().steps("quarter")
        ['year', 'half', 'quarter']
        """
        if level == "day":
            return list(self.levels)
        return [
            step
            for step in self.levels
            if step == "year" or (step != "day" and self.keeps_place(level, step))
        ]

    def keeps_place(self, level: str, step: str) -> bool:
        """Return whether a whole period of `level` has a counterpart one `step` away.

        Parameters
        ----------
        level : str
            A level that the calendar offers.
        step : str
            A level as wide or wider.

        Examples
        --------
        >>> import eptaro as ep
        >>> [ep.MonthCalendar().keeps_place(level, "year") for level in ("month", "day")]
        [True, False]
        """
        return self.units(level, step) is not None

    def _in_range(self, index: Ints, level: str) -> Flags:
        """Return which periods lie in the years 1 to 9999; of the shape of `index`."""
        first, last = self.first_days(index, level), self.last_days(index, level)
        return (first >= FIRST_DAY) & (last <= LAST_DAY)

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other) and self._definition() == other._definition()

    def __hash__(self) -> int:
        return hash((type(self), self._definition()))


_LABEL = re.compile(r"(\d{4})(?:-(?:([HQMW])(\d{1,2})|(\d{2})))?")
_SOME_YEARS = Span("2023-01-01", "2025-12-31")  # whose labels a template is checked by
_READ_YEARS = Span("1900-01-01", "2100-12-31")  # in which what is shown is read
_TWO_DIGITS = range(PIVOT + 1900, PIVOT + 2000)


def _plain_label(text: str) -> str:
    return " ".join(text.split()).casefold()


class Calendar(CalendarRule):
    """The rule that cuts days into years, halves, quarters, months and weeks.

    `MonthCalendar`, `WeekCalendar` and `ListedCalendar` are the kinds that there are.

    Examples
    --------
    >>> import eptaro as ep
    >>> calendar = ep.MonthCalendar(year_starts="04-01", prefix="FY")
    >>> calendar.period_of("2025-08-20", "quarter")
    Period('FY2026-Q2', quarter, 2025-07-01..2025-09-30)
    """

    def period(self, label: str) -> Period:
        """Return the period with a label.

        Parameters
        ----------
        label : str
            A label such as `FY2026-Q2`.

        Returns
        -------
        Period
            The period that has it.

        Raises
        ------
        CalendarError
            Where this calendar has no such label.

        See Also
        --------
        period_of : The period that holds a date.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.MonthCalendar().period("2025-Q3")
        Period('2025-Q3', quarter, 2025-07-01..2025-09-30)
        """
        text = str(label).strip()
        period = self._of_label(text) or self._of_shown(text)
        if period is None and _LABEL.fullmatch(text.removeprefix(self.prefix)) and not self.prefix:
            raise self._no_label(text)
        return period or self._as_typed(text)

    def _of_label(self, text: str) -> Period | None:
        """Return the period with a label; None where it is written in another way."""
        if re.fullmatch(r"\d{4}-\d{2}-\d{2}", text):
            return Period(self, "day", ordinal(text))
        body = text.removeprefix(self.prefix)
        match = _LABEL.fullmatch(body)
        if not match or (self.prefix and body == text):
            return None
        year = int(match[1])
        level = {letter: level for level, letter in LETTERS.items()}.get(match[2] or "", "year")
        if match[4]:
            level = "month"
        number = int(match[3] or match[4] or 1)
        if level not in self.levels or bool(match[4]) > self.plain_months:
            return None
        index, exists = self.index_at(np.array([year]), np.array([number]), level)
        if not exists[0]:
            raise CalendarError(f"calendar {self.name!r} has no {level} {text}")
        return Period(self, level, int(index[0]))

    def _set_shown(self, shown: Mapping[str, str] | None) -> None:
        """Set the templates by which periods are shown; raises `CalendarError` for one that shows
        the label of another period.
        """
        check_templates(shown or {}, self.levels)
        self.shown, self._texts = dict(shown or {}), dict[str, str]()
        for level, template in self.shown.items():
            periods = self.periods(self.limits or _SOME_YEARS, level)
            shown_for = zip(fill_template(template, periods), periods.labels.tolist(), strict=True)
            for text, label in shown_for:
                alike = text.startswith(self.prefix) and _LABEL.fullmatch(text[len(self.prefix) :])
                if alike and text != label:
                    raise CalendarError(
                        f"shown: {template!r} shows {text} for {label}, which is written like the "
                        f"label of another period"
                    )

    def shown_label(self, label: str) -> str:
        """Return what is shown for the period with a label: what its level's template says, or the
        label; any other text as it is.

        Parameters
        ----------
        label : str
            A label as it is in tables, such as `FY2026-M04`.

        Returns
        -------
        str
            What people see.

        Examples
        --------
        >>> import eptaro as ep
        >>> fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY",
        ...                           shown={"month": "{month_short} {year}"})
        >>> fiscal.shown_label("FY2026-M04"), fiscal.shown_label("FY2026")
        ('Jul 2025', 'FY2026')
        """
        if not self.shown:
            return label
        if label not in self._texts:
            self._texts[label] = label
            period = self._of_label(label)
            if period is not None and period.level in self.shown:
                alone = Periods(self, period.level, np.array([period.index]))
                (self._texts[label],) = fill_template(self.shown[period.level], alone)
        return self._texts[label]

    @cached_property
    def _shown_labels(self) -> dict[str, list[str]]:
        """The labels of the periods of two hundred years by what is shown for them; a text of the
        hundred years that are written with two digits is no period of the others.
        """
        near: dict[str, list[str]] = {}
        far: dict[str, list[str]] = {}
        for level, template in self.shown.items():
            periods = self.periods(self.limits or _READ_YEARS, level)
            texts = map(_plain_label, fill_template(template, periods))
            rows = zip(texts, periods.labels.tolist(), periods.years.tolist(), strict=True)
            for text, label, year in rows:
                part = near if self.limits or year in _TWO_DIGITS else far
                part.setdefault(text, []).append(label)
        return far | near

    def _of_shown(self, text: str) -> Period | None:
        """Return the period that a text is shown for; None where there is none.

        Raises `CalendarError` where it is shown for several.
        """
        periods = self._shown_labels.get(_plain_label(text), []) if self.shown else []
        if len(periods) > 1:
            raise CalendarError(
                f"{text!r} is shown for {len(periods):,} periods of calendar {self.name!r}; write "
                f"the label of one, such as {periods[-1]}"
            )
        return self._of_label(periods[0]) if periods else None

    def _as_typed(self, text: str) -> Period:
        """Return the period of a label that is written in another way, such as `Q3 FY26`.

        Raises `CalendarError` where it could be another period, or none.
        """
        typed = typed_label(text, self.prefix)
        if typed is None and not self.prefix and not self.plain_months:
            typed = typed_label(text, "FY")
        if typed is None:
            raise self._no_label(text)
        year, level, number = typed.year, typed.level, typed.number
        if typed.civil:  # a month of the civil year, which may be one of this calendar too
            first = np.array([ordinal(dt.date(year, number, 1))])
            index = self.index_of(first, "month") if "month" in self.levels else first
            end = month_starts(civil_months(first) + 1) - 1
            same = self.first_days(index, "month") == first, self.last_days(index, "month") == end
            if not same[0][0] or not same[1][0]:
                raise self._no_label(text)
            return Period(self, "month", int(index[0]))
        if typed.spans_two:
            named_for = getattr(self, "year_named", None)
            if named_for is None or self.plain_months:
                raise self._no_label(text)
            year += named_for == "end"
        if level not in self.levels:
            raise self._no_label(text)
        index, exists = self.index_at(np.array([year]), np.array([number]), level)
        if not exists[0]:
            raise self._no_label(text)
        return Period(self, level, int(index[0]))

    def _no_label(self, label: str) -> CalendarError:
        day = self.limits.first if self.limits else dt.date(2025, 4, 1)
        forms = [self.period_of(day, level).label for level in self.levels if level != "day"]
        return CalendarError(
            f"{label!r} is not a label of calendar {self.name!r}; its labels look like "
            f"{', '.join(forms)}; also accepted are {', '.join(self._typed_forms())}"
        )

    def _typed_forms(self) -> list[str]:
        """Return how periods may be typed as well."""
        if self.plain_months and not self.prefix:
            return ["Q3 2025", "Jul 2025", "7/2025"]
        forms = [f"Q3 {self.prefix}2025"]
        forms += [f"{self.prefix}25"] if self.prefix else []
        return [*forms, *(["2025/26"] if hasattr(self, "year_named") else [])]

    def period_of(self, day: DateLike, level: str) -> Period:
        """Return the period of `level` that holds a date.

        Parameters
        ----------
        day : date
            A date, or its ISO text.
        level : str
            A level that the calendar offers.

        Returns
        -------
        Period
            The period that holds it.

        See Also
        --------
        period : The period with a label.
        span_to_date : The days of that period up to the date.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.MonthCalendar("fiscal", year_starts="04-01",
        ...     prefix="FY").period_of("2025-08-20", "quarter")
        Period('FY2026-Q2', quarter, 2025-07-01..2025-09-30)
        """
        check_level(level, self.levels)
        return Period(self, level, int(self.index_of(np.array([ordinal(day)]), level)[0]))

    def span_to_date(self, as_of: DateLike, level: str) -> Span:
        """Return the days of the period that holds a date, up to that date.

        Parameters
        ----------
        as_of : date
            A date, or its ISO text.
        level : str
            A level that the calendar offers.

        Returns
        -------
        Span
            From the first day of its period to the date.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.MonthCalendar().span_to_date("2025-08-20", "quarter")
        Span('2025-07-01', '2025-08-20')
        """
        return Span(self.period_of(as_of, level).first, as_of)

    def periods(self, span: Span, level: str) -> Periods:
        """Return all periods of `level` that share a day with the span, in time order.

        Parameters
        ----------
        span : Span
            The days.
        level : str
            A level that the calendar offers.

        Returns
        -------
        Periods
            All periods that share a day with them, in time order.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.MonthCalendar().periods(ep.Span("2025-01-01", "2025-03-31"),
        ...     "month").labels.tolist()
        ['2025-01', '2025-02', '2025-03']
        """
        check_level(level, self.levels)
        ends = self.index_of(np.array([span.lo, span.hi]), level)
        return Periods(self, level, np.arange(ends[0], ends[1] + 1))

    def grid(self, span: Span) -> PeriodGrid:
        """Return the calendar evaluated densely over a span.

        Parameters
        ----------
        span : Span
            The days.

        Returns
        -------
        PeriodGrid
            The period of every day, at every level.

        Examples
        --------
        >>> import eptaro as ep
        >>> grid = ep.MonthCalendar().grid(ep.Span("2025-01-30", "2025-02-02"))
        >>> grid.periods("month").labels[grid.places("month")].tolist()
        ['2025-01', '2025-01', '2025-02', '2025-02']
        """
        return PeriodGrid(span, {level: self.periods(span, level) for level in self.levels})

    def shift(
        self, days: DateLike | Sequence[DateLike] | NDArray[Any], n: int, level: str
    ) -> dt.date | NDArray[np.datetime64]:
        """Return dates moved by `n` units of `level`: one `date`, or a datetime64[D] array.

        A day whose place does not exist in the target month or period is clamped to
        its end. Raises `DateError` outside the years 1 to 9999.

        Parameters
        ----------
        days : date, or array of dates of shape (n,)
            What to move.
        n : int
            How many units, back where negative.
        level : str
            A level that the calendar offers.

        Returns
        -------
        date or datetime64[D] array
            The dates moved, clamped where their place does not exist.

        Raises
        ------
        DateError
            Outside the years 1 to 9999.

        See Also
        --------
        move_spans : Moves spans, of which whole months stay whole.

        Examples
        --------
        >>> import eptaro as ep
        >>> ep.MonthCalendar().shift("2024-02-29", 1, "year")
        datetime.date(2025, 2, 28)
        """
        check_level(level, self.levels)
        if isinstance(days, str | dt.date | np.datetime64):
            moved, _ = self.move_days(np.array([ordinal(days)]), n, level)
            return as_date(int(moved[0]))
        moved, _ = self.move_days(ordinals(days), n, level)
        return as_dates(check_range(moved))

    def move_spans(self, first: Days, last: Days, n: int | Ints, level: str) -> MovedSpans:
        """Move spans by `n` units of `level`: whole months stay whole, others move as days.

        Parameters
        ----------
        first, last : int array of shape (n,)
            The ends of the spans, as day ordinals.
        n : int or int array of shape (n,)
            How many units, back where negative.
        level : str
            A level that the calendar offers.

        Returns
        -------
        MovedSpans
            The ends moved, and which last days were cut short.

        Examples
        --------
        >>> import eptaro as ep
        >>> february = ep.Span("2024-02-01", "2024-02-29")
        >>> days = np.array([february.lo]), np.array([february.hi])
        >>> as_dates(ep.MonthCalendar().move_spans(*days, -1, "year").last).tolist()
        [datetime.date(2023, 2, 28)]
        """
        check_level(level, self.levels)
        begins, _ = self.move_days(first, n, level)
        ends, clamped = self.move_days(last, n, level)
        unit = self._unit_that_stays_whole(level)
        if unit is not None:
            from_index, to_index = self.index_of(first, unit), self.index_of(last, unit)
            whole = (self.first_days(from_index, unit) == first) & (
                self.last_days(to_index, unit) == last
            )
            low, found_low = self.counterparts(from_index, unit, n, level)
            high, found_high = self.counterparts(to_index, unit, n, level)
            whole &= found_low & found_high
            begins = np.where(whole, self.first_days(low, unit), begins)
            ends = np.where(whole, self.last_days(high, unit), ends)
            clamped = clamped & ~whole
        return MovedSpans(check_range(begins), check_range(ends), clamped)

    def _unit_that_stays_whole(self, level: str) -> str | None:
        """Return the narrowest level whose whole periods stay whole when moved by `level`."""
        if level in ("week", "day"):
            return None
        narrow = [unit for unit in ("month", "quarter", "half", "year") if unit in self.levels]
        return next((unit for unit in narrow if self.keeps_place(unit, level)), None)


def check_range(days: Ints) -> Ints:
    """Return the ordinals unchanged, or raise `DateError` outside years 1 to 9999.

    `days` has any shape.
    """
    if days.size and (days.min() < FIRST_DAY or days.max() > LAST_DAY):
        raise DateError("the move goes beyond the years 1 to 9999")
    return days
