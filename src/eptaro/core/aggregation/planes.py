"""`Plane`: what the fold keeps of a column in each cell."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, NamedTuple, TypeAlias

What: TypeAlias = Literal[
    "rows", "filled", "sum", "square", "min", "max", "first", "last", "values", "codes"
]


class Plane(NamedTuple):
    """What the fold keeps per cell.

    `rows`, or of a column: `filled` (how many are not blank), `sum`, `square`, `min`,
    `max`, `first`, `last`, `values` (all of them) or `codes` (which of its values).
    """

    what: What
    column: str = ""


ROWS = Plane("rows")

# The calculations that the time of rows decides, and what is kept for each.
BY_TIME: Mapping[str, What] = {"first": "first", "last": "last"}
