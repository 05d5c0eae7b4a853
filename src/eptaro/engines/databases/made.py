"""`Made`: what a part of an expression is in SQL."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, eq=False)
class Made:
    """A part of an expression in SQL. An exact number is one of units of 10**-scale."""

    sql: Any
    scale: int | None = None  # None: a float, or no number
