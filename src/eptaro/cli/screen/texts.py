"""`Texts`: one column of a table as text, with its heading and its width."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from eptaro.core.tables.face import Rank

GAP = 2


@dataclass(frozen=True)
class Texts:
    """The texts of one column, its rank, and the measure that it belongs to."""

    title: str
    lines: Sequence[str]
    right: bool
    rank: Rank = Rank.ANSWER
    of: str = ""
    name: str = ""

    @cached_property
    def heading(self) -> str:
        """The title, folded to about the width of the column."""
        return folded(self.title, max(map(len, self.lines), default=0))

    @cached_property
    def width(self) -> int:
        """How many letters wide the column is."""
        return max(map(len, [*self.lines, *self.heading.split("\n")]))

    def with_gap(self, after: int) -> Texts:
        """Return the cells with a mark for rows left out after so many rows."""
        return replace(self, lines=[*self.lines[:after], "…", *self.lines[after:]])


def aligned(lines: Sequence[str]) -> list[str]:
    """Return numbers with their decimal marks in one place; what is no number stays at the right.

    >>> aligned(["+31.0%", "-0.05%", "7", "-"])
    ['+31.0% ', '-0.05%', '7    ', '-']
    """
    tails = [_tail(line) for line in lines]
    most = max(tails, default=0)
    if min(tails, default=0) == most:
        return list(lines)
    return [
        line if tail < 0 else line + " " * (most - tail)
        for line, tail in zip(lines, tails, strict=True)
    ]


def _tail(line: str) -> int:
    """Return how many letters stand from the decimal mark on, -1 where there is no digit."""
    at = line.rfind(".")
    if at >= 0:
        return len(line) - at
    digits = line.rstrip("% ")
    return len(line) - len(digits) if digits[-1:].isdigit() else -1


def folded(name: str, width: int) -> str:
    """Fold a heading after underscores and spaces to about the width of its column.

    >>> folded("revenue_change_ratio", 8).split()
    ['revenue_', 'change_', 'ratio']
    """
    parts = re.findall(r"(?:% )?[^_ ]*[_ ]?", name)[:-1]
    width = max([width, *(len(part.rstrip()) for part in parts)])
    lines = [""]
    for part in parts:
        if lines[-1] and len((lines[-1] + part).rstrip()) > width:
            lines.append("")
        lines[-1] += part
    return "\n".join(line.rstrip() for line in lines)


def total_width(cells: Sequence[Texts]) -> int:
    """Return how many letters wide some columns are side by side."""
    return sum(cell.width + GAP for cell in cells) - GAP if cells else 0
