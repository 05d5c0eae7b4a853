"""An `eptaro.toml` for a file, written after a look at it."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace

import pyarrow as pa
import pyarrow.compute as pc

from eptaro.engines.findings import Findings
from eptaro.engines.inspect import decided_rules, readable_share
from eptaro.errors import InputError
from eptaro.inputs.dates.outcome import is_text
from eptaro.inputs.dates.reading import looks_like_dates
from eptaro.inputs.files.damage import readable
from eptaro.inputs.sources import Source
from eptaro.rules.dates import DateRules
from eptaro.rules.files import FileRules

_LOOKED_AT = 200_000  # rows
_MOST_GROUPS = 60  # distinct values of a column worth grouping by
_ENOUGH = 0.95  # of the filled values that must be readable as dates


@dataclass
class Suggestion:
    """What a file seems to hold: dates (column to rules), groups and numbers, in its order."""

    dates: dict[str, DateRules] = field(default_factory=dict)
    groups: list[str] = field(default_factory=list)
    numbers: list[str] = field(default_factory=list)

    def text(
        self,
        files: list[str],
        date: str,
        year_starts: str | None = None,
        written: Mapping[str, str | None] | None = None,
    ) -> str:
        """Return the config; the order of dates is set where the evidence decided it, and how
        files are written where that is not the usual way.
        """
        lines = ["# Written after a look at the file; change what it could not know.", ""]
        name = "calendar"
        if year_starts:
            name = "fiscal"
            lines += [
                "[calendars.fiscal]",
                'kind = "month"',
                f"year_starts = {_said(year_starts)}",
                'year_named = "end"          # or "start"',
                'prefix = "FY"',
                "",
            ]
        lines += [
            "[data]",
            f"files = {_said(files)}",
            f"date = {_said(date)}",
            f"by = {_said(self.groups[:1])}",
            f"calendar = {_said(name)}",
        ]
        if self.groups[1:]:
            lines.append(f"# also worth grouping by: {', '.join(self.groups[1:])}")
        rules = self.dates[date]
        own = [f"order = {_said(rules.order)}"] if rules.order else []
        if rules.bad_dates != "raise":
            own.append(f"bad_dates = {_said(rules.bad_dates)}   # some cannot be read")
        if own:
            lines += ["", "[data.dates]", *own]
        usual = asdict(FileRules())
        unusual = {key: value for key, value in (written or {}).items() if value != usual[key]}
        if unusual:
            lines += ["", "[data.written]", *(f"{key} = {_said(v)}" for key, v in unusual.items())]
        lines += ["", "[data.measures]", 'entries = "count()"']
        for column in self.numbers:
            term = f'"{column}"' if any(mark in column for mark in '(),"') else column
            lines.append(
                f"{_said('total ' + column) if not _plain(column) else 'total_' + column}"
                f" = {_said(f'sum({term})')}"
            )
        return "\n".join(lines) + "\n"


def _plain(name: str) -> bool:
    return name.isascii() and name.replace("_", "").replace("-", "").isalnum()


def _said(value: object) -> str:
    """Return a value as TOML writes it, which for text and lists is as JSON does."""
    return json.dumps(value, ensure_ascii=False)


def suggest(source: Source, rules: DateRules | None = None) -> Suggestion:
    """Look at the first rows of a source and tell which columns can be what.

    A column holds dates where nearly all of its values can be read as such, day and month
    told apart by evidence; groups where text repeats; numbers otherwise. Raises
    `InputError` where no column holds dates.
    """
    with readable(source.name):
        parts, rows = [], 0
        for part in source.whole():
            parts.append(part)
            rows += part.num_rows
            if rows >= _LOOKED_AT:
                break
    if not rows:
        raise InputError(f"{source.name}: has no rows to look at")
    table = pa.concat_tables(parts, promote_options="permissive").slice(0, _LOOKED_AT)
    found = Suggestion()
    for name in table.column_names:
        column = table[name]
        own = _date_rules(column, rules or DateRules(), name)
        if own is not None:
            found.dates[name] = own
        elif (
            pa.types.is_floating(column.type)
            or pa.types.is_decimal(column.type)
            or (pa.types.is_integer(column.type) and not _is_key(name))
        ):
            found.numbers.append(name)
        elif is_text(column.type) and _repeats(column):
            found.groups.append(name)
        elif is_text(column.type) and _are_numbers(column) and not _is_key(name):
            found.numbers.append(name)
    if not found.dates:
        raise InputError(
            f"{source.name}: no column holds dates that can be read; name the rules, such as "
            f"--order dmy or --date-format"
        )
    return found


def _date_rules(column: pa.ChunkedArray, rules: DateRules, name: str) -> DateRules | None:
    """Return rules that read nearly all of a column as dates, or None."""
    if pa.types.is_floating(column.type) or pa.types.is_boolean(column.type):
        return None
    if not looks_like_dates(column, rules):
        return None
    if pa.types.is_integer(column.type) and not rules.serials and not rules.unix:
        values = pc.min_max(column).as_py()
        if values["min"] is None or not 1000_01_01 <= values["min"] <= values["max"] <= 9999_12_31:
            return None
    decided, _ = decided_rules(column, rules, name, Findings())
    share = readable_share(column, decided, of_none=0.0)
    if share < _ENOUGH:
        return None
    return decided if share == 1 else replace(decided, bad_dates="set aside")


def _repeats(column: pa.ChunkedArray) -> bool:
    distinct = pc.count_distinct(column).as_py()
    return 1 < distinct <= min(_MOST_GROUPS, max(len(column) // 2, 2)) and not _are_numbers(column)


def _are_numbers(column: pa.ChunkedArray) -> bool:
    try:
        column.cast(pa.float64())
    except pa.ArrowInvalid:
        return False
    return True


def _is_key(name: str) -> bool:
    """Return whether a column's name says that its numbers are not to be added up."""
    parts = name.lower().replace("-", "_").split("_")
    return bool({"id", "key", "no", "nr", "number", "code", "year", "month", "zip"} & set(parts))
