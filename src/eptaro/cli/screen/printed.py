"""Blocks of columns printed: as a grid, or many rows some at a time."""

from __future__ import annotations

import sys
from collections.abc import Sequence

from rich.box import Box
from rich.console import Console
from rich.table import Table as Grid
from rich.text import Text

from eptaro.cli.screen.texts import GAP, Texts

_RULED = Box("    \n    \n ─  \n    \n    \n    \n    \n    \n")  # one rule, below the headings


class Screen(Console):
    """A console for which a reader that went away is no error."""

    def on_broken_pipe(self) -> None:
        """Tell the command line, which ends quietly."""
        raise BrokenPipeError


def grid(block: Sequence[Texts]) -> Grid:
    """Return columns as a grid with a rule below the headings."""
    made = Grid(
        box=_RULED,
        show_edge=False,
        pad_edge=False,
        padding=(0, GAP - 1, 0, 0),
        header_style="bold",
        border_style="dim",
    )
    for cell in block:
        made.add_column(
            Text(cell.heading),
            justify="right" if cell.right else "left",
            no_wrap=True,
            width=cell.width,
            vertical="bottom",
        )
    for row in zip(*(cell.lines for cell in block), strict=True):
        made.add_row(*(_styled(text) for text in row), style="bold" if "total" in row else "")
    return made


def _styled(text: str) -> Text:
    return Text(text, style="dim" if text.strip() in ("no", "…", "-") else "")


def print_head(block: Sequence[Texts]) -> None:
    """Print the headings of a block and the rule below them."""
    heads = [cell.heading.split("\n") for cell in block]
    tall = max(map(len, heads))
    lines = [[""] * (tall - len(head)) + head for head in heads]
    print("\n".join(_line(block, row) for row in zip(*lines, strict=True)))
    print(_line(block, ["─" * cell.width for cell in block]))


def print_rows(block: Sequence[Texts], columns: Sequence[Sequence[str]]) -> None:
    """Print some rows of a block whose widths are known."""
    rows = zip(*columns, strict=True)
    sys.stdout.write("\n".join(_line(block, row) for row in rows) + "\n")


def _line(block: Sequence[Texts], texts: Sequence[str]) -> str:
    padded = (
        text.rjust(cell.width) if cell.right else text.ljust(cell.width)
        for cell, text in zip(block, texts, strict=True)
    )
    return (" " * GAP).join(padded).rstrip()
