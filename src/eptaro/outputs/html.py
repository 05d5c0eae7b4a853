"""Tables as HTML: headings that a screen reader can follow, text from data escaped."""

from __future__ import annotations

from html import escape

import numpy as np

from eptaro.core.results.column import Column
from eptaro.core.results.format import NUMERIC, escape_controls, shown_table
from eptaro.core.results.result import Result
from eptaro.presentation.headline import footer, headline

STYLE = """
:root { --ink: #22262b; --soft: #5b626b; --rule: #dcd7cb; --paper: #fbfaf7; --accent: #1f5a7a;
        --warm: #9c4515; --cool: #eef3f6; }
* { box-sizing: border-box; }
body { margin: 0; background: var(--paper); color: var(--ink);
       font: 15px/1.5 system-ui, "DejaVu Sans", "Segoe UI", sans-serif; }
.scroll { overflow-x: auto; max-width: 100%; }
.scroll:focus-visible { outline: 3px solid var(--accent); outline-offset: 2px; }
table { border-collapse: collapse; font-variant-numeric: tabular-nums; font-size: 13.5px; }
caption { caption-side: bottom; text-align: left; color: var(--soft); padding: .5rem 0;
          font-size: 12.5px; }
th, td { padding: .28rem .7rem .28rem 0; text-align: left; vertical-align: bottom;
         white-space: nowrap; }
thead th { border-bottom: 1.5px solid var(--ink); white-space: normal; max-width: 8rem; }
tbody th { font-weight: 600; }
tbody tr + tr > * { border-top: 1px solid var(--rule); }
.number { text-align: right; }
tr.total > * { font-weight: 700; border-top: 1.5px solid var(--ink); }
.down { color: var(--warm); }
@media print { body { background: none; font-size: 11pt; } .scroll { overflow: visible; }
               table { font-size: 9pt; page-break-inside: auto; } tr { break-inside: avoid; }
               th, td { padding-right: .4rem; } }
"""


def table_html(
    table: Result, caption: str | None = None, gap: int = 0, *, words: bool = False
) -> str:
    """Return a `<table>`: the group and period cells of each row are its headings.

    The caption is the table's footer, unless one is given; after `gap` rows a line of dots
    says that some are left out. Heads are exact names, or `words` as a screen has them.
    """
    lists = [[escape(text) for text in texts] for texts in shown_table(table)]
    numeric = [column.kind in NUMERIC for column in table.columns]
    worse = [_shown_as_bad(table, column) for column in table.columns]
    heads = _heading_columns(table)
    text = footer(table) if caption is None else caption
    rows = []
    for row, cells in enumerate(zip(*lists, strict=True)):
        parts = []
        for place, cell in enumerate(cells):
            css = ["number"] if numeric[place] else []
            if numeric[place] and worse[place][row]:
                css.append("down")
            name = f' class="{" ".join(css)}"' if css else ""
            tag = "th" if place < heads else "td"
            scope = ' scope="row"' if tag == "th" else ""
            parts.append(f"<{tag}{scope}{name}>{cell}</{tag}>")
        total = ' class="total"' if "total" in cells[: heads + 1] else ""
        rows.append(f"<tr{total}>{''.join(parts)}</tr>")
    if gap:
        rows.insert(gap, f"<tr>{'<td>…</td>' * len(lists)}</tr>")
    top = "".join(
        f'<th scope="col"{" class=number" if is_number else ""}>{_breakable(name)}</th>'
        for name, is_number in zip(_heads(table, words=words), numeric, strict=True)
    )
    below = f"<caption>{escape(escape_controls(text))}</caption>" if text else ""
    body = "\n".join(rows)
    return f"<table>{below}<thead><tr>{top}</tr></thead>\n<tbody>\n{body}\n</tbody></table>"


def _shown_as_bad(table: Result, column: Column) -> list[bool]:
    """Return which numbers are shown as bad ones: those below 0, and of the changes of a measure
    of which less is better those above.
    """
    if column.kind not in NUMERIC:
        return [False] * len(column)
    of = column.face.of if column.face is not None else ""
    change = of in table and column.name.startswith(f"{of}_change")
    values = np.where(column.blank, 0.0, column.numbers())
    worse = values > 0 if change and table.column(of).lower_is_better else values < 0
    return [bool(flag) for flag in worse]


def _heading_columns(table: Result) -> int:
    """Return how many columns, from the left, identify a row."""
    for key in ("period", "date", "level"):
        if key in table:
            return table.names.index(key) + 1
    return 1


def _heads(table: Result, *, words: bool) -> list[str]:
    """Return what is above each column."""
    if not words:
        return table.names
    return [_word_of_column(column) for column in table.columns]


def _word_of_column(column: Column) -> str:
    if column.face is None:
        return column.name.replace("_", " ")
    return column.face.words.replace("days", "first day") if column.face.ends else column.face.words


def _breakable(name: str) -> str:
    """Return a column's name that may break after its underscores."""
    return escape(escape_controls(name)).replace("_", "_<wbr>")


def to_html(table: Result) -> str:
    """Return a table as a page of its own."""
    title = escape(f"Eptaro: {table.meta.get('verb', 'table')}")
    return (
        f'<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><title>{title}</title>'
        f'<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<style>{STYLE} main {{ padding: 1rem; }}</style></head>\n"
        f'<body><main><h1>{title}</h1><div class="scroll" tabindex="0" role="region" '
        f'aria-label="{title}">{table_html(table)}</div></main></body></html>\n'
    )


def notebook_html(table: Result, gap: int, rows: str) -> str:
    """Return a table as a notebook shows it, numbers to the right."""
    caption = " · ".join(filter(None, (rows, footer(table))))
    style = ".eptaro .number { text-align: right !important } .eptaro caption { text-align: left }"
    lead = f"<p><strong>{escape(headline(table))}</strong></p>" if headline(table) else ""
    body = table_html(table, caption, gap)
    return f'<div class="eptaro"><style>{style}</style>{lead}{body}</div>'
