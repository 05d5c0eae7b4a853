"""`Findings`: the rows of a report on dates: gaps, groups and duplicates."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.aggregation.encoding import GroupEncoder
from eptaro.core.calendars.days import Ints, as_date, civil_months, month_starts
from eptaro.core.calendars.grain import Grain, first_days, plural_of
from eptaro.core.kernels.factorize import factorize
from eptaro.core.results.column import Column
from eptaro.core.results.result import Result
from eptaro.inputs.columns.codes import read_codes
from eptaro.inputs.files.chunks import encode_dictionary, plain
from eptaro.inputs.sources import ColumnRequest, Source
from eptaro.progress import report_progress

_MOST_ROWS = 5_000_000  # for whole-row duplicates


@dataclass
class Findings:
    """Rows of the table in the making."""

    rows: list[tuple[str, str, str, int | None, str]] = field(default_factory=list)

    def add(
        self,
        subject: str,
        value: object = "",
        count: int | None = None,
        detail: str = "",
        group: str = "",
    ) -> None:
        """Add one finding."""
        self.rows.append((subject, group, str(value), count, detail))

    def table(self, meta: dict[str, Any]) -> Result:
        """Return all findings, one per row."""
        subject, group, value, count, detail = zip(*self.rows, strict=True)
        counts = np.array([0 if n is None else n for n in count])
        has_count = np.array([n is not None for n in count])
        return Result(
            [
                _text_column("subject", subject, "What the finding is about"),
                _text_column("group", group, "The group that it concerns; blank for all rows"),
                _text_column("value", value, "What was found"),
                Column.of("count", "integer", counts, has_count, description="How many"),
                _text_column("detail", detail, "Where it was found, or the evidence"),
            ],
            meta,
        )


def _text_column(name: str, texts: Sequence[str], description: str) -> Column:
    codes = np.array([place if text else -1 for place, text in enumerate(texts)])
    choices = np.array([*texts, None], object)[:-1]
    return Column.text(name, choices, codes, description=description)


def look_for_gaps(present: Ints, findings: Findings, group: str, grain: Grain = "day") -> None:
    """Report days and months without rows between the first and last day that has some; or the
    periods that dates represent.
    """
    if grain != "day":
        every = np.unique(first_days(np.arange(present[0], present[-1] + 1), grain))
        quiet = np.setdiff1d(every, first_days(present, grain))
        _add_quiet(quiet, f"{plural_of(grain)} without rows", group, findings, "%Y-%m-%d")
        return
    steps = np.diff(present) - 1
    missing = int(steps.sum())
    detail = ""
    if missing:
        at = int(np.argmax(steps))
        detail = f"longest {as_date(int(present[at]) + 1)}..{as_date(int(present[at + 1]) - 1)}"
    findings.add("days without rows", "", missing, detail, group)
    months = np.unique(civil_months(present))
    quiet = np.setdiff1d(np.arange(months[0], months[-1] + 1), months)
    _add_quiet(month_starts(quiet), "months without rows", group, findings, "%Y-%m")


def _add_quiet(first: Ints, subject: str, group: str, findings: Findings, form: str) -> None:
    """Report how many periods there are, by their first days, and the first of them."""
    labels = ", ".join(f"{as_date(int(day)):{form}}" for day in first[:6])
    more = ", …" if len(first) > 6 else ""
    findings.add(subject, labels + more, len(first), "", group)


def look_per_group(
    source: Source,
    groups: list[str],
    days: NDArray[np.int32],
    good: NDArray[np.bool_],
    findings: Findings,
    grain: Grain = "day",
) -> None:
    """Look for gaps in days and months of each group."""
    if not groups:
        return
    numbers, combiner = _number_combinations(source, groups)
    key_groups = combiner.groups()
    order = key_groups.order()
    place = np.empty(len(order), np.int64)
    place[order] = np.arange(len(order))
    least = int(days[good].min())
    keys, counts = np.unique(
        (place[numbers[good]] << 32) + (days[good] - least), return_counts=True
    )
    group, day = keys >> 32, (keys & 0xFFFFFFFF) + least
    starts = np.flatnonzero(np.diff(group, prepend=-1))
    rows = np.add.reduceat(counts, starts)
    named_by = zip(*(c.to_list() for c in key_groups.columns(order[group[starts]])), strict=True)
    for values, start, stop, count in zip(
        named_by, starts.tolist(), [*starts[1:].tolist(), len(keys)], rows.tolist(), strict=True
    ):
        label = ", ".join("(blank)" if value is None else str(value) for value in values)
        own = day[start:stop]
        findings.add("dates", f"{as_date(int(own[0]))}..{as_date(int(own[-1]))}", count, "", label)
        look_for_gaps(own, findings, label, grain)


def _number_combinations(source: Source, names: list[str]) -> tuple[Ints, GroupEncoder]:
    """Return for each row the number of its combination of values, and the combiner."""
    combiner, parts, rows = GroupEncoder(names), [], 0
    for table in source.batches(ColumnRequest(names[0], names[1:])):
        coded = {name: read_codes(table[name], name) for name in names}
        number = combiner.number(coded)
        assert number is not None
        parts.append(number.astype(np.int64))
        rows += table.num_rows
        report_progress(rows, source.share)
    return np.concatenate(parts) if parts else np.zeros(0, np.int64), combiner


def _number_distinct(source: Source, names: list[str]) -> Ints:
    """Return for each row a number that rows of the same values share."""
    tables = list(source.batches(ColumnRequest(names[0], names[1:])))
    numbers, bound = np.zeros(sum(table.num_rows for table in tables), np.int64), 1
    for name in names:
        parts = [chunk for table in tables for chunk in table[name].chunks]
        coded = encode_dictionary(pa.chunked_array(parts, parts[0].type)) if parts else None
        if coded is None:
            continue
        codes = plain(coded.indices.fill_null(len(coded.dictionary))).astype(np.int64)
        numbers = numbers * (len(coded.dictionary) + 1) + codes
        unique, numbers = factorize(numbers, bound * (len(coded.dictionary) + 1))
        numbers, bound = numbers.astype(np.int64), len(unique)
    return numbers


def look_for_duplicates(source: Source, keys: list[str], findings: Findings, total: int) -> None:
    """Look for whole rows, and for keys, that repeat."""
    for subject, names in (("duplicate rows", source.names()), ("duplicate keys", keys)):
        if not names:
            continue
        if total > _MOST_ROWS and names is not keys:
            findings.add(subject, "not looked at", detail=f"over {_MOST_ROWS:,} rows; name keys")
            continue
        numbers = _number_distinct(source, list(dict.fromkeys(names)))
        _, firsts, counts = np.unique(numbers, return_index=True, return_counts=True)
        extra = int((counts - 1).sum())
        detail = ""
        if extra:
            twice = int(np.flatnonzero(counts > 1)[0])
            second = np.flatnonzero(numbers == numbers[firsts[twice]])[1]
            detail = f"first in rows {firsts[twice] + 1:,} and {second + 1:,}"
        what = "" if names is not keys else ", ".join(keys)
        findings.add(subject, what, extra, detail)
