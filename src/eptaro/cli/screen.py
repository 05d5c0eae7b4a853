"""Results on the screen: a table that never cuts a figure, or CSV, JSON or Markdown."""

from __future__ import annotations

import re
import sys
from collections.abc import Sequence
from typing import assert_never

import numpy as np
from rich.box import Box
from rich.console import Console
from rich.table import Table as Grid
from rich.text import Text

from eptaro.cli.options import OutputOptions
from eptaro.cli.reading import tell
from eptaro.core.tables.column import Column
from eptaro.core.tables.display import NUMERIC, shown_table, visible
from eptaro.core.tables.table import Table

_ROWS = 60  # shown in a terminal, unless asked for more
_LONG = 2_000  # rows that are laid out together
_MANY_COLUMNS = 24
_FEW = 4
_KEYS = ("period", "date")
_GAP = 2
_RULED = Box("    \n    \n ─  \n    \n    \n    \n    \n    \n")  # one rule, below the headings


class Screen(Console):
    """A console for which a reader that went away is no error."""

    def on_broken_pipe(self) -> None:
        """Tell the command line, which ends quietly."""
        raise BrokenPipeError


def deliver(table: Table, output: OutputOptions) -> None:
    """Write a result to a file or print it; where it went is told on standard error."""
    if output.out is not None:
        tell(f"{len(table):,} rows written to {table.write(output.out)}")
        return
    if output.form == "table":
        show(table, output.rows)
        return
    from eptaro.outputs import text

    match output.form:
        case "csv":
            made = text.to_csv(table)
        case "json":
            made = text.to_json(table)
        case "markdown":
            made = text.to_markdown(table)
        case _:
            assert_never(output.form)
    if sys.stdout.isatty():  # a file or another program gets the data as it is
        made = "\n".join(map(visible, made.split("\n")))
    sys.stdout.write(made)


def show(table: Table, rows: int | None = None) -> None:
    """Print a table; one wider than the terminal goes in blocks that repeat its key columns.

    One of very many columns and few rows, as the look at a dimension is, is turned on its
    side: a line per column.
    """
    console = Screen(highlight=False)
    room = console.width if console.is_terminal else None
    if len(table) > _LONG and (rows or _ROWS) >= (len(table) if console.is_terminal else 0):
        _stream(table, room)
        _print_below(console, table, room)
        return
    few = len(table) <= _FEW or table.meta.get("verb") == "dimension"
    sideways = len(table.names) > _MANY_COLUMNS and few
    limit = rows or (_FEW if sideways else _ROWS if console.is_terminal else len(table))
    part, gap = _excerpt(table, limit)
    cells = [
        _Cells.of(column, lines, gap)
        for column, lines in zip(part.columns, shown_table(part), strict=True)
    ]
    if sideways:
        cells = _turned(cells)
    for number, block in enumerate(_blocks(cells, room)):
        if number:
            console.print()
        console.width = max(console.width, sum(cell.width + _GAP for cell in block))
        console.print(_grid(block), end="")
    if gap:
        console.print(
            f"… {len(table) - len(part):,} of {len(table):,} rows are not shown; "
            f"--rows {len(table)} prints all, --out FILE writes them",
            style="bold",
            soft_wrap=True,
        )
    console.print()
    _print_below(console, table, room)


def _print_below(console: Screen, table: Table, room: int | None) -> None:
    """Print what was tied out, and the footer."""
    below = [f"tied out: {name}, {text}" for name, text in table.meta.get("tie_out", {}).items()]
    for line in [*below, *filter(None, [table.footer()])]:
        wraps = not console.is_terminal
        console.print(Text(visible(line)), style="dim", soft_wrap=wraps, width=room)


def _stream(table: Table, room: int | None) -> None:
    """Print a table of many rows some at a time, as wide as a sample of them is."""
    step = max(len(table) // _LONG, 1)
    sample = table.take(np.arange(0, len(table), step))
    cells = [
        _Cells.of(c, lines, 0) for c, lines in zip(sample.columns, shown_table(sample), strict=True)
    ]
    for number, block in enumerate(_blocks(cells, room)):
        heads = [cell.heading.split("\n") for cell in block]
        tall = max(map(len, heads))
        lines = [[""] * (tall - len(head)) + head for head in heads]
        print(
            "\n" * bool(number) + "\n".join(_line(block, row) for row in zip(*lines, strict=True))
        )
        print(_line(block, ["─" * cell.width for cell in block]))
        names = [cells.index(cell) for cell in block]
        for start in range(0, len(table), _LONG):
            part = table.take(slice(start, start + _LONG))
            shown = shown_table(part)
            rows = zip(*(shown[at] for at in names), strict=True)
            sys.stdout.write("\n".join(_line(block, row) for row in rows) + "\n")
    print()


def _line(block: list[_Cells], texts: Sequence[str]) -> str:
    padded = (
        text.rjust(cell.width) if cell.right else text.ljust(cell.width)
        for cell, text in zip(block, texts, strict=True)
    )
    return (" " * _GAP).join(padded).rstrip()


class _Cells:
    """One column as text, with its folded heading and width."""

    def __init__(self, name: str, lines: list[str], *, right: bool) -> None:
        self.name, self.lines, self.right = name, lines, right
        self.heading = _folded(name, max(map(len, lines), default=0))
        self.width = max(map(len, [*lines, *self.heading.split("\n")]))

    @classmethod
    def of(cls, column: Column, lines: list[str], gap: int) -> _Cells:
        if gap:
            lines = [*lines[:gap], "…", *lines[gap:]]
        return cls(visible(column.name), lines, right=column.kind in NUMERIC)


def _turned(cells: list[_Cells]) -> list[_Cells]:
    """Return the same cells on their side; the first column becomes the headings."""
    heads, *rest = cells
    made = [_Cells(heads.name, [cell.name for cell in rest], right=False)]
    for place, head in enumerate(heads.lines):
        width = max(len(head), *(len(cell.lines[place]) for cell in rest))
        lines = [cell.lines[place] for cell in rest]
        lines = [
            line.rjust(width) if cell.right else line
            for line, cell in zip(lines, rest, strict=True)
        ]
        made.append(_Cells(head, lines, right=False))
    return made


def _excerpt(table: Table, limit: int) -> tuple[Table, int]:
    """Return the first and last rows, and after how many the rest was left out (0: none)."""
    if len(table) <= limit:
        return table, 0
    head = (limit + 1) // 2
    return table.take(np.r_[:head, len(table) - (limit - head) : len(table)]), head


def _folded(name: str, width: int) -> str:
    """Fold a heading after underscores and spaces to about the width of its column.

    >>> _folded("revenue_change_ratio", 8).split()
    ['revenue_', 'change_', 'ratio']
    """
    parts = re.findall(r"[^_ ]*[_ ]?", name)[:-1]
    width = max(width, *map(len, parts))
    lines = [""]
    for part in parts:
        if lines[-1] and len(lines[-1]) + len(part) > width:
            lines.append("")
        lines[-1] += part
    return "\n".join(line.rstrip() for line in lines)


def _blocks(cells: list[_Cells], width: int | None) -> list[list[_Cells]]:
    """Split columns into blocks that fit; each begins with the groups and the period."""
    if width is None or sum(cell.width + _GAP for cell in cells) <= width:
        return [cells]
    names = [cell.name for cell in cells]
    stop = next((names.index(key) + 1 for key in _KEYS if key in names), 1)
    keys, rest = cells[:stop], cells[stop:]
    room = width - sum(cell.width + _GAP for cell in keys)
    blocks: list[list[_Cells]] = []
    left = 0
    for cell in rest:
        left -= cell.width + _GAP
        if left < 0 or not blocks:
            blocks.append([*keys])
            left = room - cell.width - _GAP
        blocks[-1].append(cell)
    return blocks


def _grid(block: list[_Cells]) -> Grid:
    grid = Grid(
        box=_RULED,
        show_edge=False,
        pad_edge=False,
        padding=(0, _GAP - 1, 0, 0),
        header_style="bold",
        border_style="dim",
    )
    for cell in block:
        grid.add_column(
            Text(cell.heading),
            justify="right" if cell.right else "left",
            no_wrap=True,
            width=cell.width,
            vertical="bottom",
        )
    for row in zip(*(cell.lines for cell in block), strict=True):
        grid.add_row(*(_styled(text) for text in row), style="bold" if "total" in row else "")
    return grid


def _styled(text: str) -> Text:
    return Text(text, style="dim" if text in ("no", "…") else "")
