"""`prove`: a sample of a table's numbers, each made again from its transactions."""

from __future__ import annotations

import numpy as np

from eptaro.core.proof.trace import ENDINGS
from eptaro.core.tables.table import Table
from eptaro.errors import EptaroError, QuestionError


def prove(table: Table, measures: list[str], sample: int = 40, seed: int = 0) -> int:
    """Trace a random sample of a table's rows, and its totals; return how many numbers agreed.

    Raises `EptaroError` with the whole trace where one disagrees, `QuestionError` where
    the table cannot be traced at all.
    """
    names = [name for name in table.names if _is_traceable(table, name, measures)]
    rng = np.random.default_rng(seed)
    rows = {len(table) - 1, *rng.integers(0, max(len(table), 1), sample).tolist(), *_totals(table)}
    agreed, refused = 0, QuestionError("the table shows no measure that could be traced")
    for row in sorted(rows):
        for name in names:
            try:
                found = table.trace(row, name)
            except QuestionError as error:
                refused = error
                continue
            if not found.agrees:
                raise EptaroError(f"row {row} was not found again: {found}")
            agreed += 1
    if not agreed:
        raise refused
    return agreed


def _totals(table: Table) -> list[int]:
    if "period" not in table:
        return []
    return [row for row, word in enumerate(table.column("period").to_list()) if word == "total"]


def _is_traceable(table: Table, name: str, measures: list[str]) -> bool:
    if name in table.meta.get("heads", ()):
        return True
    endings = [*ENDINGS, *(f"{ending}_{back}" for back in _backs(table) for ending in ENDINGS)]
    return any(name.removesuffix(ending) in measures for ending in endings)


def _backs(table: Table) -> list[str]:
    """Return the endings that tell comparisons apart that stand side by side."""
    return [back.replace(" ", "_") for back in str(table.meta.get("back", "")).split(", ")]
