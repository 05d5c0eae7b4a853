"""`Face`: the words above a column on a screen, and how soon the column is shown there."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import IntEnum


class Rank(IntEnum):
    """How soon a column is shown: keys and answers always, the others where there is room."""

    KEY = 0
    ANSWER = 1
    BESIDE = 2
    DAYS = 3
    DETAIL = 4


@dataclass(frozen=True)
class Face:
    """How a column is shown on a screen; files have its exact name.

    Parameters
    ----------
    words : str
        What stands above it.
    rank : Rank
        How soon it is shown.
    of : str
        The measure that it belongs to; named as well where there are several.
    ends : str
        Of a column of first days, the one with the last days, which is shown with it.
    rare : bool
        Whether it is told only where it holds for some row.
    drawn : bool
        Whether it is a share or a change, which a small bar shows as well.
    """

    words: str
    rank: Rank = Rank.ANSWER
    of: str = ""
    ends: str = ""
    rare: bool = False
    drawn: bool = False

    def against(self, what: str) -> Face:
        """Return the face with what its values are set against."""
        return replace(self, words=f"{self.words}, {what}")


PERIOD = Face("period", Rank.KEY)
FIRST = Face("days", Rank.DAYS, ends="last")
LAST = Face("last day", Rank.DAYS)
COMPLETE = Face("complete", Rank.DETAIL)
DATE = Face("date", Rank.KEY)
