"""The local engine: batches are read, folded and forgotten, one after the other."""

from __future__ import annotations

import os
from collections.abc import Iterable
from functools import partial
from typing import Any

from eptaro.core.expressions.formula import PLAIN, Formulas
from eptaro.core.folds.fold import Fold
from eptaro.core.folds.folded import Folded, Left
from eptaro.core.folds.planes import Plane
from eptaro.inputs.datecolumn import find_date
from eptaro.inputs.files.damage import readable
from eptaro.inputs.sources import FrameSource, Source
from eptaro.inputs.transactions import Transactions
from eptaro.rules.dates import DateRules


def fold_table(
    table: Any,
    date: str | None,
    by: list[str],
    planes: Iterable[Plane],
    rules: DateRules,
    limit: int | None = None,
    formulas: Formulas = PLAIN,
) -> Folded:
    """Return the cells of a source, or of a frame, or of a mapping of arrays."""
    source = table if isinstance(table, Source) else FrameSource(table)
    return fold_source(source, date, by, planes, rules, limit, formulas=formulas)


def fold_source(
    source: Source,
    date: str | None,
    by: list[str],
    planes: Iterable[Plane],
    rules: DateRules,
    limit: int | None = None,
    *,
    settled: bool = False,
    formulas: Formulas = PLAIN,
) -> Folded:
    """Return the cells of all transactions of a source.

    The rules may be `settled` by a look at more than this source.

    Raises `InputError` where the source turns out damaged on the way.
    """
    with readable(source.name):
        return _folded(source, date, by, list(planes), rules, limit, settled, formulas)


def _folded(
    source: Source,
    date: str | None,
    by: list[str],
    wanted: list[Plane],
    rules: DateRules,
    limit: int | None,
    settled: bool,
    formulas: Formulas,
) -> Folded:
    notes = []
    if date is None:
        date = find_date(source, rules)
        notes.append(f"dates are taken from {date!r}, the only column that can be dates")
    fold = Fold(by, wanted, limit=limit or free_memory() * 4 // 5)
    read = partial(
        Transactions, source, date, by, wanted, rules, settled=settled, formulas=formulas
    )
    transactions = read()
    timed = False
    for batch in transactions:
        fold.add(batch)
        timed = timed or batch.times is not None
    if transactions.evidence:
        notes.append(f"order of dates: {transactions.evidence}")
    notes += [
        f"{n:,} blanks in {name!r} are left out"
        for name, n in transactions.blanks.items()
        if n and not formulas.is_conditional(name)
    ]
    if formulas.where is not None:
        notes.append(
            f"{transactions.unmet:,} of {transactions.rows:,} rows do not meet the condition "
            f"{formulas.where.text!r}"
        )
    notes += source.notes
    groups, cells = fold.result()
    if any(plane.what in ("values", "codes") for plane in wanted):
        notes.append(
            f"distinct and quantile measures keep every value: {cells.memory / 2**20:,.1f} MiB"
        )
    return Folded(
        groups,
        cells,
        fold.rows,
        source.inputs,
        transactions.aside,
        transactions.left_out,
        tuple(notes),
        frozenset([source.fingerprint()]),
        fold.distinct_values(),
        reread=partial(read, inputs=True),
        timed=timed,
        grain=transactions.grain or "day",
        seen=transactions.seen,
        left=None if formulas.where is None else Left(formulas.where.text, transactions.unmet),
    )


def free_memory() -> int:
    """Return the bytes of memory that are free, or 8 GiB where that cannot be told."""
    try:
        return os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    except (ValueError, OSError, AttributeError):
        return 8 << 30
