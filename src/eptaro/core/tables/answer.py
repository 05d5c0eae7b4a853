"""What stands behind a table: the question that it answers, and the days of each number.

The base classes alone; `core.questions.answer` has what verbs make of them.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Self

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints


class Answer(ABC):
    """The typed side of a table, which goes along when rows are picked or put in order."""

    @property
    @abstractmethod
    def question(self) -> object:
        """The question that the table answers."""

    @property
    @abstractmethod
    def by(self) -> tuple[str, ...]:
        """The names of the group columns."""

    @property
    @abstractmethod
    def measures(self) -> tuple[str, ...]:
        """The names of the measures."""

    @property
    @abstractmethod
    def others(self) -> Flags | None:
        """Which rows are of the group of all those not picked; None where there is none."""

    @property
    @abstractmethod
    def calendar(self) -> Calendar | None:
        """The calendar of all rows; None where there are several."""

    @abstractmethod
    def take(self, places: Ints | slice) -> Self:
        """Return the answer for the rows at the given places."""


@dataclass(frozen=True)
class Untraced(Answer):
    """The answer of a table that came without its view: what was asked, and of what."""

    asked: object
    groups: tuple[str, ...]
    names: tuple[str, ...]  # of the measures
    goes_by: Calendar | None

    @property
    def question(self) -> object:
        """The question."""
        return self.asked

    @property
    def by(self) -> tuple[str, ...]:
        """The names of the group columns."""
        return self.groups

    @property
    def measures(self) -> tuple[str, ...]:
        """The names of the measures."""
        return self.names

    @property
    def others(self) -> None:
        """None: no groups were picked."""
        return None

    @property
    def calendar(self) -> Calendar | None:
        """The calendar of all rows; None where there are several."""
        return self.goes_by

    def take(self, places: Ints | slice) -> Self:
        """Return the same: it goes for any rows."""
        return self
