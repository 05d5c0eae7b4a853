"""The rules that read most of a column of dates, by its evidence."""

from __future__ import annotations

from dataclasses import replace

import pyarrow as pa

from eptaro.engines.findings import Findings
from eptaro.errors import DateError
from eptaro.inputs.dates import read_dates, resolve
from eptaro.inputs.dates.evidence import Evidence
from eptaro.inputs.dates.outcome import is_text
from eptaro.rules.dates import DateRules


def decided_rules(
    column: pa.ChunkedArray, rules: DateRules, name: str, found: Findings
) -> tuple[DateRules, list[str]]:
    """Return rules that read most of the column, and the options that say so."""
    chosen = rules.order or rules.formats or rules.serials or rules.unix
    if not is_text(column.type) or (chosen and rules.order != "infer"):
        return rules, [f"--order {rules.order}"] if rules.order else []
    if rules.order != "infer" and _share(column, rules) >= 0.5:
        return rules, []
    try:
        decided, evidence = resolve(column, replace(rules, order="infer"), name)
    except DateError as error:
        seen = Evidence.of(column)
        days, months = len(seen.day_first), len(seen.month_first)
        if min(days, months) * 20 > max(days, months) or not days + months:
            found.add("order of dates", "undecided", detail=str(error))
            return replace(rules, order=None), ["--order dmy|mdy"]
        decided = replace(rules, order="dmy" if days > months else "mdy")
        evidence = f"{days:,} distinct values can only be day first, {months:,} only month first"
    if _share(column, decided) > _share(column, replace(rules, order=None)):
        found.add("order of dates", decided.order or "", detail=evidence)
        return decided, [f"--order {decided.order}"]
    return replace(rules, order=None), []


def readable_share(column: pa.ChunkedArray, rules: DateRules, *, of_none: float) -> float:
    """Return the share of filled rows that the rules can read; `of_none` where none is filled."""
    try:
        read = read_dates(column, rules)
    except DateError:
        return 0.0
    if read.bad is None or read.reasons is None:
        return 1.0
    filled = read.reasons != "blank"
    return float(1 - read.bad[filled].mean()) if filled.any() else of_none


def _share(column: pa.ChunkedArray, rules: DateRules) -> float:
    """Return the readable share, judged by the first rows."""
    return readable_share(column.slice(0, 20_000), rules, of_none=1.0)
