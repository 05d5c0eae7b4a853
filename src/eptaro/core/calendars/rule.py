"""`CalendarRule`: what a rule that cuts days into periods must say, and what follows at once.

A period is known by its level and its running index. A rule says how indexes and days relate
(`index_of`, `first_days`), how periods are numbered within their year, and how a day moves;
labels and the counterparts of whole periods follow.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import FIRST_DAY, LAST_DAY, Days, Flags, Ints, as_dates
from eptaro.core.calendars.levels import LEVELS, check_level
from eptaro.core.calendars.span import Span
from eptaro.errors import CalendarError

LETTERS = {"half": "H", "quarter": "Q", "month": "M", "week": "W"}


class CalendarRule(ABC):
    """The rule that cuts days into years, halves, quarters, months and weeks."""

    name: str
    prefix: str
    levels: tuple[str, ...] = LEVELS
    limits: Span | None = None  # the days that the calendar knows, where that is not all

    def _set_names(self, name: str, prefix: str) -> None:
        if not (isinstance(name, str) and name.isidentifier()):
            raise CalendarError(
                f"calendar name {name!r} cannot begin column names; use letters, digits and _"
            )
        if not (isinstance(prefix, str) and prefix.isprintable() and ".." not in prefix):
            raise CalendarError(f"prefix={prefix!r} cannot begin a label; use something like 'FY'")
        self.name, self.prefix = name, prefix

    @abstractmethod
    def _definition(self) -> tuple[object, ...]:
        """Return all that makes this calendar what it is, for equality."""

    @abstractmethod
    def describe(self) -> str:
        """Return the definition in words, for footers and reports."""

    @abstractmethod
    def settings(self) -> dict[str, Any]:
        """Return the kind and arguments, from which `calendars.from_settings` makes it again."""

    @abstractmethod
    def index_of(self, days: Days, level: str) -> Ints:
        """Return the index of the period of `level` that holds each day ordinal.

        Parameters
        ----------
        days : int array
            Day ordinals.
        level : str
            A level that the calendar offers.

        Returns
        -------
        int array
            The running index of the period that holds each day.
        """

    @abstractmethod
    def first_days(self, index: Ints, level: str) -> Ints:
        """Return the first day of each period.

        Parameters
        ----------
        index : int array
            Running indexes of periods of `level`.
        level : str
            A level that the calendar offers.

        Returns
        -------
        int array
            The first day ordinal of each period.
        """

    @abstractmethod
    def numbers(self, index: Ints, level: str) -> tuple[Ints, Ints]:
        """Return the year that each period belongs to and its number in it, from 1.

        Parameters
        ----------
        index : int array
            Running indexes of periods of `level`.
        level : str
            A level that the calendar offers.

        Returns
        -------
        (int array, int array)
            The year of each period, and its number in it from 1.
        """

    @abstractmethod
    def index_at(self, years: Ints, numbers: Ints, level: str) -> tuple[Ints, Flags]:
        """Return the index of each numbered period and whether there is such a one.

        Parameters
        ----------
        years : int array
            Years, as named.
        numbers : int array
            Numbers in the year, from 1.
        level : str
            A level that the calendar offers.

        Returns
        -------
        (int array, bool array)
            The index of each period, and whether there is such a one.
        """

    @abstractmethod
    def move_days(self, days: Days, n: int | Ints, level: str) -> tuple[Ints, Flags]:
        """Move day ordinals by `n` units of `level`; flag those clamped to a period's end.

        Parameters
        ----------
        days : int array
            Day ordinals.
        n : int or int array
            How many units, back where negative.
        level : str
            A level that the calendar offers.

        Returns
        -------
        (int array, bool array)
            The days moved, and where they were clamped to a period's end.
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
        """

    def last_days(self, index: Ints, level: str) -> Ints:
        """Return the last day of each period.

        Parameters
        ----------
        index : int array
            Running indexes of periods of `level`.
        level : str
            A level that the calendar offers.
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
        index : int array
            Running indexes of periods of `level`.
        level : str
            A level that the calendar offers.

        Returns
        -------
        str array
            Labels, which sort as text in time order.
        """
        if check_level(level, self.levels) == "day":
            return np.datetime_as_string(as_dates(index), unit="D")
        years, numbers = self.numbers(index, level)
        text = np.char.add(self.prefix, np.char.mod("%04d", years))
        if level == "year":
            return text
        if level in ("half", "quarter"):
            form = f"-{LETTERS[level]}%d"
        else:
            form = "-%02d" if level == "month" and self.plain_months else f"-{LETTERS[level]}%02d"
        return np.char.add(text, np.char.mod(form, numbers))

    def counterparts(self, index: Ints, level: str, n: int | Ints, step: str) -> tuple[Ints, Flags]:
        """Return the whole periods of the same place `n` steps away, and which exist.

        Within its own level a period steps along; over a wider `step` it keeps its
        number (or its place in the step). Raises `CalendarError` where `level` does not
        fit into `step`.

        Parameters
        ----------
        index : int array
            Running indexes of periods of `level`.
        level : str
            A level that the calendar offers.
        n : int or int array
            How many steps, back where negative.
        step : str
            The level that is stepped by.

        Returns
        -------
        (int array, bool array)
            The index of each counterpart, and which exist.

        Raises
        ------
        CalendarError
            Where `level` has no place in `step`.
        """
        check_level(step, self.levels)
        check_level(level, self.levels)
        if level == "day":
            moved, clamped = self.move_days(index, n, step)
            del clamped  # the day stands in for its place; callers ask `move_days` for the flag
            exists = np.ones(len(index), bool)
        elif (units := self.units(level, step)) is not None:
            moved, exists = index + n * units, np.ones(len(index), bool)
        elif step == "year":
            years, numbers = self.numbers(index, level)
            moved, exists = self.index_at(years + n, numbers, level)
        else:
            raise CalendarError(
                f"a {level} has no place in a {step}; step by {', '.join(self.steps(level))}"
            )
        return moved, exists & self._in_range(moved, level)

    def steps(self, level: str) -> list[str]:
        """Return the levels by which a whole period of `level` can step.

        Parameters
        ----------
        level : str
            A level that the calendar offers.
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
        """
        return self.units(level, step) is not None

    def _in_range(self, index: Ints, level: str) -> Flags:
        first, last = self.first_days(index, level), self.last_days(index, level)
        return (first >= FIRST_DAY) & (last <= LAST_DAY)

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other) and self._definition() == other._definition()

    def __hash__(self) -> int:
        return hash((type(self), self._definition()))
