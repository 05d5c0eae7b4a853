"""What changed most in the period to date, and why: the groups, and the days of the calendar."""

from __future__ import annotations

from typing import Any

import numpy as np

from eptaro.core.calendars.levels import as_wide
from eptaro.core.tables.result import Result
from eptaro.core.verbs.queries import Compare
from eptaro.presentation.words import titled
from eptaro.reports.section import Asked, Section, columns_of, only_filled, said

_MOST_GROUPS = 40


def groups(asked: Asked) -> Section | None:
    """Return what changed most and why: contributions of groups, and effects of the calendar."""
    book, rules = asked.book, asked.rules
    section = Section("What changed, and why", "groups")
    within = as_wide(rules.within, book.about.folded.grain)
    _effects(section, asked, within)
    if asked.grouped.about.groups.names:
        _contributions(section, asked, within)
    return section if section.sentences or section.tables else None


def _effects(section: Section, asked: Asked, within: str) -> None:
    """Tell what the number of workdays did to the change of the first measure."""
    book, name = asked.book, asked.book.about.measures[0].name
    if book.about.measures[0].additive_plane is None or book.about.folded.grain != "day":
        return
    table = book.ask(
        Compare(
            within, to_date=True, match=asked.rules.match, effects="workdays", as_of=asked.as_of
        )
    )
    (row,) = table.rows()
    if row[f"{name}_change"] is None:
        return
    kinds = [n.removeprefix(f"{name}_effect_of_") for n in table.names if "_effect_of_" in n]
    kinds = [kind for kind in kinds if f"{name}_effect_of_{kind}" in table]
    parts = [
        f"{_signed(table, f'{name}_effect_of_{kind}')} from {row[kind]} {kind} against "
        f"{row[f'{kind}_prior']}"
        for kind in kinds
        if row[kind] != row[f"{kind}_prior"]
    ]
    whole = f"{titled(name)} changed by {_signed(table, f'{name}_change')}"
    if not parts:
        section.sentences.append(
            f"{whole}; the calendar explains none of it, as both sides have the same kinds of days."
        )
        return
    rest = f"{_signed(table, f'{name}_rest')} from what happened on like days"
    section.sentences.append(f"{whole}: {', '.join([*parts, rest])}.")


def _signed(table: Result, name: str) -> str:
    words = said(table.column(name), 0)
    return words if words.startswith("-") else f"+{words}"


def _contributions(section: Section, asked: Asked, within: str) -> None:
    """Add each group's change, the largest gain first, for every measure."""
    book, rules = asked.grouped, asked.rules
    name = book.about.measures[0].name
    table = book.ask(
        Compare(
            within,
            to_date=True,
            by=book.about.groups.names,
            match=rules.match,
            details=True,
            sort=f"-{name}_change",
            as_of=asked.as_of,
        )
    )
    known = np.flatnonzero(~table.column(f"{name}_change").blank)
    if len(known):
        best, worst = (next(table.take(at).rows()) for at in (known[:1], known[-1:]))

        def tell(row: dict[str, Any]) -> str:
            of = ", ".join(str(row[group]) for group in book.about.groups.names)
            return f"{of} ({row[f'{name}_change']:+,})"

        alt = f"Largest gain: {tell(best)}; largest loss or least gain: {tell(worst)}."
        section.sentences.append(alt)
        section.add_picture(table, f"Changes by group. {alt}", kind="changes")
    row = next(table.take(slice(0, 1)).rows())
    caption = f"{row['first']} to {row['last']} against {row['prior_first']} to {row['prior_last']}"
    if len(table) > _MOST_GROUPS:
        caption = f"the first {_MOST_GROUPS} of {len(table)} groups · {caption}"
    for measure in book.about.measures:
        names = [*book.about.groups.names, "standing", *columns_of(measure.name)]
        names.append(f"{measure.name}_contribution")
        shown_rows = only_filled(table, names).take(slice(0, _MOST_GROUPS))
        section.add_table(shown_rows, f"{measure.name} by group", caption)
