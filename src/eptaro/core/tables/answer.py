"""What stands behind a table: the question that it answers, and the days of each number.

The base classes alone; `core.questions.answer` has what verbs make of them.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import ClassVar, Self

from eptaro.core.calendars.days import Flags, Ints


@dataclass(frozen=True)
class Question:
    """What a verb was asked: a frozen dataclass of its options for each verb.

    `pictures` names those of `pictures/draw.py` that suit every answer, the most fitting first.
    """

    verb: ClassVar[str]
    pictures: ClassVar[tuple[str, ...]] = ()


class Answer(ABC):
    """The typed side of a table, which goes along when rows are picked or put in order."""

    @property
    @abstractmethod
    def question(self) -> Question:
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

    @abstractmethod
    def take(self, places: Ints | slice) -> Self:
        """Return the answer for the rows at the given places."""
