"""`prove`: a sample of a table's numbers, each made again from its transactions."""

from __future__ import annotations

import numpy as np

from eptaro.core.questions.answer import Traceable
from eptaro.core.tables.table import Table
from eptaro.errors import EptaroError, QuestionError


def prove(table: Table, sample: int = 40, seed: int = 0) -> int:
    """Trace a random sample of a table's rows, and its totals; return how many numbers agreed.

    Raises `EptaroError` with the whole trace where one disagrees, `QuestionError` where
    the table cannot be traced at all.
    """
    answer = table.answer
    if not isinstance(answer, Traceable) or not answer.numbers:
        raise QuestionError("this table has no transactions behind it that could be traced")
    refused = QuestionError("the table shows no measure that could be traced")
    names = [name for name in table.names if name in answer.numbers]
    rng = np.random.default_rng(seed)
    picked = rng.integers(0, max(len(table), 1), sample).tolist()
    agreed = 0
    for row in sorted({len(table) - 1, *picked, *answer.totals.tolist()}):
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
