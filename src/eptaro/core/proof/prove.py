"""`prove`: a sample of a table's numbers, each made again from its transactions."""

from __future__ import annotations

import math
from fractions import Fraction

import numpy as np

from eptaro.core.questions.answer import Answered, Traceable
from eptaro.core.tables.table import Table
from eptaro.core.verbs.queries import Recap
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
    return agreed + _beside(table, answer, names)


def _beside(table: Table, answer: Traceable, names: list[str]) -> int:
    """Work out the shares and indexes of a whole recap again, from its values alone; return how
    many agreed.

    Raises `EptaroError` where one does not.
    """
    asked = answer.question
    if not isinstance(answer, Answered) or not isinstance(asked, Recap) or asked.wide:
        return 0
    if len(answer.rows) < len(answer.group) or answer.others is not None:
        return 0  # of some rows the whole is not at hand
    agreed = 0
    totals = set(answer.totals.tolist())
    parts = [row for row in range(len(table)) if row not in totals and _is_part(asked, table, row)]
    groups = answer.group[answer.rows].tolist()
    for name in names:
        values = _fractions(table, name)
        if f"{name}_share" in table:
            whole = sum((v for row in parts if (v := values[row]) is not None), Fraction(0))
            shares = [None if v is None or not whole else v / whole for v in values]
            agreed += _all_agree(table, f"{name}_share", shares)
        if f"{name}_index" in table and asked.index is not None:
            labels = table.column("period").to_list()
            base = {groups[row]: values[row] for row in parts if labels[row] == asked.index}
            told = table.column(f"{name}_index").blank.tolist()
            found = [
                None if skip or v is None or not (under := base.get(group)) else 100 * v / under
                for v, group, skip in zip(values, groups, told, strict=True)
            ]
            agreed += _all_agree(table, f"{name}_index", found)
    return agreed


def _is_part(asked: Recap, table: Table, row: int) -> bool:
    """Return whether a row is of the level that was asked for, and no subtotal."""
    return not asked.subtotal_levels or table.column("level").to_list()[row] == asked.per


def _fractions(table: Table, name: str) -> list[Fraction | None]:
    column = table.column(name)
    blank = column.blank.tolist()
    return [None if blank[row] else column.fraction(row) for row in range(len(table))]


def _all_agree(table: Table, name: str, wanted: list[Fraction | None]) -> int:
    """Return how many values of a column agree; raises `EptaroError` for one that does not."""
    found = table.column(name).to_list()
    for row, (one, two) in enumerate(zip(found, wanted, strict=True)):
        if (one is None) != (two is None) or (
            one is not None and two is not None and not math.isclose(one, two, abs_tol=1e-12)
        ):
            raise EptaroError(f"row {row}, {name}: the table has {one}, its values give {two}")
    return len(found)
