"""The groups of a table, each a panel of its own."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from eptaro.core.tables.table import Table
from eptaro.pictures.asked import group_names
from eptaro.pictures.page import MOST_PANELS, Page


def parts_of(
    table: Table, name: str | None, by: Sequence[str] | None = None
) -> list[tuple[str, Table]]:
    """Return each group's name and rows, those with most of a column first if one is named; `by`
    names what tells them apart where that is not the groups alone.
    """
    names = group_names(table) if by is None else by
    if not names:
        return [("", table)]
    keys: dict[tuple[Any, ...], list[int]] = {}
    for row, key in enumerate(zip(*(table.column(n).to_list() for n in names), strict=True)):
        keys.setdefault(key, []).append(row)
    parts = [(titled(key), table.take(np.array(rows))) for key, rows in keys.items()]
    if name is None:
        return parts
    size = [np.nansum(np.abs(part.column(name).numbers())) for _, part in parts]
    return [parts[i] for i in np.argsort(-np.array(size), kind="stable")]


def titled(key: tuple[Any, ...]) -> str:
    """Return a group's name; the blank one is told as such."""
    return ", ".join("(blank)" if word is None else str(word) for word in key)


def panels_of(
    page: Page,
    table: Table,
    name: str | None,
    *,
    same_scale: bool = True,
    by: Sequence[str] | None = None,
) -> Iterator[tuple[Any, Table]]:
    """Yield axes and rows of each group; of many, those with most of a column, or the first."""
    parts = parts_of(table, name, by)
    if len(parts) > MOST_PANELS:
        which = "first" if name is None else "largest"
        page.note(f"the {MOST_PANELS} {which} of {len(parts)} groups are drawn")
        parts = parts[:MOST_PANELS]
    axes = page.panels([title for title, _ in parts], same_scale=same_scale)
    if len(parts) > 1 and not same_scale:
        page.note("each panel has a scale of its own")
    for one, (_, part) in zip(axes, parts, strict=True):
        yield one, part
