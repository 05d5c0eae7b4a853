"""A suggested `eptaro.toml` for several data sets, with the group columns that they share."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path

from eptaro.engines.suggestion import Suggestion, head, toml_value
from eptaro.record import Record, record

_ALIKE = 0.5  # of the values of two columns that must be the same


@record
class SuggestedTable(Record):
    """A data set of several: its name, its files, its date column and what they seem to hold."""

    name: str
    files: list[str]
    date: str
    suggestion: Suggestion
    written: Mapping[str, object]


def name_of_table(file: str, names_taken: Sequence[str]) -> str:
    """Return a name for the data set of a file: a plain word that no other has.

    >>> name_of_table("2025 sales.csv", []), name_of_table("sales.csv", ["sales"])
    ('sales', 'sales2')
    """
    word = re.sub(r"\W+", "_", Path(file).stem.split(".")[0]).strip("_").lower()
    word = re.sub(r"^[\d_]+", "", word) or "data"
    name, number = word, 1
    while name in names_taken:
        number += 1
        name = f"{word}{number}"
    return name


def shared_groups(tables: Sequence[SuggestedTable]) -> dict[str, dict[str, str]]:
    """Return the group columns that all tables have, by the name in the first: what each calls
    them. A column of another name is taken for the same where half of the values are.
    """
    first, *others = tables
    names = {}
    for name in first.suggestion.groups:
        called = {first.name: name}
        for other in others:
            twin = _twin_column(first.suggestion, name, other.suggestion)
            if twin is None:
                break
            called[other.name] = twin
        else:
            names[name] = called
    return names


def _twin_column(one: Suggestion, name: str, other: Suggestion) -> str | None:
    """Return the group column of another table that is the same as one by name or by values."""
    if name in other.groups:
        return name
    values = {look.name: look.values for look in (*one.looks, *other.looks) if look.values}
    best, most = None, 0.0
    for column in other.groups:
        mine, theirs = values.get(name, frozenset()), values.get(column, frozenset())
        least = min(len(mine), len(theirs))
        alike = len(mine & theirs) / least if least else 0.0
        if alike >= _ALIKE and alike > most:
            best, most = column, alike
    return best


def set_text(tables: Sequence[SuggestedTable], year_starts: str | None) -> str:
    """Return a config of several data sets: the groups that they share, and a measure between them
    to begin with.
    """
    shared, calendar = shared_groups(tables), "fiscal" if year_starts else "calendar"
    lines = head(year_starts)
    for table in tables:
        own = [called[table.name] for called in shared.values()]
        by = own or table.suggestion.groups[:1]
        key = f"data.{table.name}"
        lines += table.suggestion.part(key, table.files, table.date, by, calendar, table.written)
        lines.append("")
    return "\n".join([*lines, *_lines_of_set(tables, shared)]) + "\n"


def _lines_of_set(
    tables: Sequence[SuggestedTable], shared: Mapping[str, Mapping[str, str]]
) -> list[str]:
    """Return the lines of what the data sets are as one."""
    lines = ["[set]"]
    renamed: dict[str, dict[str, str]] = {}
    for name, called in shared.items():
        for table, own in called.items():
            if own != name:
                renamed.setdefault(table, {})[name] = own
    if renamed:
        parts = [
            f"{table} = {{ {', '.join(f'{n} = {toml_value(own)}' for n, own in names.items())} }}"
            for table, names in renamed.items()
        ]
        lines.append(f"names = {{ {', '.join(parts)} }}   # whose values are mostly the same")
    if not shared:
        lines.append("# no group column is the same in all; they can be asked together without by")
    one, two = (f"{table.name}.{_first_measure(table.suggestion)}" for table in tables[:2])
    example = toml_value(f"{one} / {two}")
    return [*lines, "", "[set.measures]", f"ratio = {example}   # change it to what you ask"]


def _first_measure(suggestion: Suggestion) -> str:
    """Return the first measure that adds up a column, or the count of rows."""
    sums = [
        name for name, (formula, _) in suggestion.measures().items() if formula.startswith("sum(")
    ]
    return sums[0] if sums else next(iter(suggestion.measures()))
