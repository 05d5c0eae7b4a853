"""`ListedCalendar`: periods listed in a table, for whatever no rule describes."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from itertools import pairwise
from typing import Any, NamedTuple

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Days, Flags, Ints, as_date, ordinal
from eptaro.core.calendars.levels import check_level
from eptaro.core.calendars.period import Periods
from eptaro.core.calendars.span import Span
from eptaro.errors import CalendarError, DateError, count_noun

_GIVEN = ("year", "half", "quarter", "month")


class _Level(NamedTuple):
    """The periods of one level, in time order."""

    years: Ints
    numbers: Ints
    firsts: Ints
    lasts: Ints


class ListedCalendar(Calendar):
    """Periods listed one per row, with columns `year`, optional `half`, `quarter` and
    `month`, `first` and `last`.

    `rows` is a frame or a sequence of mappings; rows are numbered from 1 in messages.
    Levels that no column gives are not offered. Days outside the list are blank in a
    dimension and an error for transactions.

    Parameters
    ----------
    name : str
        What it is called; letters, digits and _.
    rows : frame or iterable of mappings
        The periods, in time order.
    prefix : str
        What labels begin with.
    shown : mapping of str to str, optional
        What is shown for the periods of a level, as of `MonthCalendar`.

    Raises
    ------
    CalendarError
        Naming the rows, for gaps, overlaps, disorder, or numbers that do not count up.

    Examples
    --------
    >>> rows = [{"year": 2025, "quarter": 1, "first": "2025-01-01", "last": "2025-04-02"},
    ...         {"year": 2025, "quarter": 2, "first": "2025-04-03", "last": "2025-06-30"}]
    >>> ListedCalendar("site", rows).period_of("2025-04-02", "quarter").label
    '2025-Q1'
    """

    def __init__(
        self, name: str, rows: Any, *, prefix: str = "", shown: Mapping[str, str] | None = None
    ) -> None:
        self._set_names(name, prefix)
        listed = _mappings(rows)
        self._rows = [{key: str(value) for key, value in row.items()} for row in listed]
        if not listed:
            raise CalendarError(f"calendar {name!r} lists no periods")
        levels = [level for level in _GIVEN if listed[0].get(level) is not None]
        if "year" not in levels:
            raise CalendarError(f"row 1 of calendar {name!r} has no 'year'")
        self.levels = (*levels, "day")
        parsed = [_parse(row, number, levels) for number, row in enumerate(listed, 1)]
        _check_no_gaps(parsed)
        firsts = np.array([row["first"] for row in parsed])
        lasts = np.array([row["last"] for row in parsed])
        years = np.array([row["year"] for row in parsed])
        self._listed = self.limits = Span.of(firsts[0], lasts[-1])
        self._by_level = {
            level: _gather(level, years, np.array([row[level] for row in parsed]), firsts, lasts)
            for level in levels
        }
        self._set_shown(shown)

    def _definition(self) -> tuple[object, ...]:
        lists = (part.tobytes() for level in self._by_level.values() for part in level)
        return (self.name, self.prefix, self.levels, *lists)

    def describe(self) -> str:
        """Return the definition in words.

        Examples
        --------
        >>> rows = [{"year": 2025, "first": "2025-01-01", "last": "2025-12-31"}]
        >>> ListedCalendar("site", rows).describe()
        'site: 1 listed year, 2025-01-01..2025-12-31'
        """
        finest = self.levels[-2]
        count = count_noun(len(self._by_level[finest].firsts), f"listed {finest}")
        return f"{self.name}: {count}, {self.limits}"

    def settings(self) -> dict[str, Any]:
        """Return the kind and arguments, from which the calendar can be recreated.

        Examples
        --------
        >>> rows = [{"year": 2025, "first": "2025-01-01", "last": "2025-12-31"}]
        >>> ListedCalendar("site", rows).settings()["kind"]
        'listed'
        """
        return self._settings("listed", name=self.name, rows=self._rows, prefix=self.prefix)

    def index_of(self, days: Days, level: str) -> Ints:
        """Return the place in the list of the period that holds each day.

        Raises `CalendarError` for a day outside the list.
        """
        check_level(level, self.levels)
        whole: Ints = days.astype(np.int64)
        if level == "day":
            return whole
        outside = (whole < self._listed.lo) | (whole > self._listed.hi)
        if outside.any():
            day = as_date(int(whole[outside][0]))
            raise CalendarError(
                f"{day} lies outside the list of calendar {self.name!r}, {self.limits}"
            )
        return np.searchsorted(self._by_level[level].firsts, whole, side="right") - 1

    def first_days(self, index: Ints, level: str) -> Ints:
        """Return the first day of each period."""
        return index if level == "day" else self._clipped_values(index, level, "firsts")

    def last_days(self, index: Ints, level: str) -> Ints:
        """Return the last day of each period."""
        return index if level == "day" else self._clipped_values(index, level, "lasts")

    def _clipped_values(self, index: Ints, level: str, part: str) -> Ints:
        """Return a part of each listed period, `index` cut to the list; of the shape of `index`."""
        values: Ints = getattr(self._by_level[check_level(level, self.levels)], part)
        return values[np.clip(index, 0, len(values) - 1)]

    def _in_range(self, index: Ints, level: str) -> Flags:
        if level == "day":
            return (index >= self._listed.lo) & (index <= self._listed.hi)
        return (index >= 0) & (index < len(self._by_level[level].firsts))

    def numbers(self, index: Ints, level: str) -> tuple[Ints, Ints]:
        """Return the year that each period belongs to and its number in it, from 1."""
        if level == "day":
            years = self.index_of(index, "year")
            return self._by_level["year"].years[years], index - self.first_days(years, "year") + 1
        years = self._clipped_values(index, level, "years")
        return years, np.ones_like(years) if level == "year" else self._clipped_values(
            index, level, "numbers"
        )

    def index_at(self, years: Ints, numbers: Ints, level: str) -> tuple[Ints, Flags]:
        """Return the place in the list of each numbered period, and whether it is listed."""
        if check_level(level, self.levels) == "day":
            place, listed_year = self.index_at(years, np.ones_like(years), "year")
            day = self.first_days(place, "year") + numbers - 1
            within = (numbers >= 1) & (day <= self.last_days(place, "year"))
            return day, listed_year & within
        listed = self._by_level[level]
        target = years * 1000 + (1 if level == "year" else numbers)
        keys = listed.years * 1000 + (1 if level == "year" else listed.numbers)
        index = np.clip(np.searchsorted(keys, target), 0, len(keys) - 1)
        return index, (keys[index] == target) & ((numbers == 1) | (level != "year"))

    def units(self, level: str, step: str) -> int | None:
        """Return 1 for a level's own steps; lists may vary in everything else."""
        return 1 if level == step else None

    def keeps_place(self, level: str, step: str) -> bool:
        """Return whether both levels are listed and the step is as wide or wider."""
        levels = [*self._by_level]
        return level in levels and step in levels and levels.index(step) <= levels.index(level)

    def counterparts(self, index: Ints, level: str, n: int | Ints, step: str) -> tuple[Ints, Flags]:
        """Return the periods of the same place, `n` listed steps away, and which exist.

        Over years a period keeps its number. Over quarters and halves it keeps its place in
        them; one that may be listed from its middle on, the first, gives no place.
        """
        if step == "year" or level == step or not self.keeps_place(level, step):
            return super().counterparts(index, level, n, step)
        opens = self._by_level[level].firsts
        holder = self.index_of(self.first_days(index, level), step)
        target = holder + n
        place = index - np.searchsorted(opens, self.first_days(holder, step))
        moved = np.searchsorted(opens, self.first_days(target, step)) + place
        fits = self._in_range(target, step) & self._in_range(moved, level)
        fits &= self.last_days(moved, level) <= self.last_days(target, step)
        if self._by_level[level].numbers[0] != 1:
            fits &= (holder > 0) & (target > 0)
        return np.where(fits, moved, index), fits

    def move_days(self, days: Days, n: int | Ints, level: str) -> tuple[Ints, Flags]:
        """Move days, keeping the place within the period of `level`, clamped to its end.

        Raises `CalendarError` where the list does not reach.
        """
        whole: Ints = days.astype(np.int64)
        if level in ("day", "week"):
            moved: Ints = whole + n * (7 if level == "week" else 1)
            return moved, np.zeros(np.shape(days), bool)
        index = self.index_of(whole, level)
        place = whole - self.first_days(index, level)
        target, exists = self.counterparts(index, level, n, level)
        if not exists.all():
            raise CalendarError(
                f"the list of calendar {self.name!r}, {self.limits}, ends before that"
            )
        opens = self.first_days(target, level)
        room = self.last_days(target, level) - opens
        return opens + np.minimum(place, room), place > room

    def periods(self, span: Span, level: str) -> Periods:
        """Return all listed periods of `level` that share a day with the span."""
        inside = span.overlap(self._listed)
        if inside is None:
            raise CalendarError(
                f"{span} lies outside the list of calendar {self.name!r}, {self.limits}"
            )
        return super().periods(inside, level)


def _no_frame(frame: Any) -> list[Mapping[str, Any]]:
    raise CalendarError("import ListedCalendar from eptaro to list periods in a frame")


rows_of_frame: Callable[[Any], list[Mapping[str, Any]]] = _no_frame  # `inputs` reads frames


def _mappings(rows: Any) -> list[Mapping[str, Any]]:
    if isinstance(rows, Mapping) or hasattr(rows, "__arrow_c_stream__"):
        return rows_of_frame(rows)
    if isinstance(rows, Iterable) and not isinstance(rows, str):
        return list(rows)
    raise CalendarError(f"rows of {type(rows).__name__} are neither a frame nor mappings")


def _parse(row: Mapping[str, Any], number: int, levels: list[str]) -> dict[str, int]:
    years = {}
    for level in levels:
        try:
            years[level] = int(row[level])
        except (KeyError, TypeError, ValueError):
            raise CalendarError(
                f"row {number}: {level}={row.get(level)!r} is not a number"
            ) from None
    for edge in ("first", "last"):
        try:
            years[edge] = ordinal(row[edge])
        except KeyError:
            raise CalendarError(f"row {number} has no {edge!r}") from None
        except DateError as error:
            raise CalendarError(f"row {number}: {edge}: {error}") from None
    if years["last"] < years["first"]:
        raise CalendarError(
            f"row {number}: its first day {as_date(years['first'])} comes after its last, "
            f"{as_date(years['last'])}"
        )
    return years


def _check_no_gaps(rows: list[dict[str, int]]) -> None:
    for number, (before, after) in enumerate(pairwise(rows), 1):
        spans = [f"{as_date(row['first'])}..{as_date(row['last'])}" for row in (before, after)]
        where = f"rows {number} and {number + 1} ({spans[0]} and {spans[1]})"
        if after["first"] < before["first"]:
            raise CalendarError(f"{where} are out of order; list the periods in time order")
        if after["first"] <= before["last"]:
            raise CalendarError(f"{where} overlap")
        if after["first"] > before["last"] + 1:
            raise CalendarError(f"{where} leave a gap from {as_date(before['last'] + 1)}")


def _gather(level: str, years: Ints, numbers: Ints, firsts: Ints, lasts: Ints) -> _Level:
    """Join consecutive rows of one period, and check that the numbers count up.

    All arrays are `(n_rows,)`, a row of the list each.
    """
    changes = np.flatnonzero((np.diff(years) != 0) | (np.diff(numbers) != 0)) + 1
    starts = np.concatenate([[0], changes])
    ends = np.concatenate([changes, [len(years)]]) - 1
    own_years, own = years[starts], numbers[starts]
    for i in range(len(starts)):
        same = i > 0 and own_years[i] == own_years[i - 1]
        if i > 0 and own_years[i] < own_years[i - 1]:
            raise CalendarError(
                f"row {starts[i] + 1}: year {own_years[i]} comes after {own_years[i - 1]}"
            )
        expected = own[i - 1] + 1 if same else 1
        if level != "year" and own[i] != expected and i > 0:
            raise CalendarError(f"row {starts[i] + 1}: {level} {own[i]} should be {expected}")
    return _Level(own_years, own, firsts[starts], lasts[ends])
