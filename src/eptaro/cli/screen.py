"""Where an answer is printed: a terminal, with styles and fitted to its width, or plain lines."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from functools import partial
from textwrap import wrap
from typing import TYPE_CHECKING, ClassVar, Literal, TypeAlias

from eptaro.cli.layout import GAP, TextColumn, head_lines, join_cells, pad

if TYPE_CHECKING:
    from rich.text import Text

Style: TypeAlias = Literal["", "bold", "dim"]

_fold_words = partial(wrap, break_long_words=False, break_on_hyphens=False)

_WIDE = 120  # letters, where no terminal says how many there are


class Lines:
    """Plain lines, as a file or another program reads them; as wide as `COLUMNS` says."""

    is_terminal: ClassVar[bool] = False

    def __init__(self) -> None:
        words = os.environ.get("COLUMNS", "")
        self.width = int(words) if words.isdecimal() and int(words) else _WIDE

    def say(self, text: str = "", room: int | None = None, style: Style = "") -> None:
        """Print a text, folded at spaces to some room; unset, one line for each of its own."""
        for line in text.split("\n"):
            folded = _fold_words(line, room) if room and line else [line]
            sys.stdout.write("\n".join(folded) + "\n")

    def print_block(self, block: Sequence[TextColumn]) -> None:
        """Print columns side by side, below their headings and a rule."""
        self.print_head(block)
        self.print_rows(block, [cell.lines for cell in block])

    def print_head(self, block: Sequence[TextColumn]) -> None:
        """Print the headings of a block and the rule below them."""
        sys.stdout.write("\n".join(head_lines(block)) + "\n")

    def print_rows(self, block: Sequence[TextColumn], columns: Sequence[Sequence[str]]) -> None:
        """Print some rows of a block whose widths are known."""
        rows = zip(*columns, strict=True)
        sys.stdout.write("".join(join_cells(block, row) + "\n" for row in rows))


class Terminal(Lines):
    """A terminal: headings are bold, what says little is dim."""

    is_terminal = True

    def __init__(self) -> None:
        from rich.console import Console  # a program that reads the answer needs none of it

        class Screen(Console):
            """A console for which a reader that went away is no error."""

            def on_broken_pipe(self) -> None:
                """Let the command line know, which then ends quietly."""
                raise BrokenPipeError

        self.console = Screen(highlight=False)
        self.width = self.console.width

    def say(self, text: str = "", room: int | None = None, style: Style = "") -> None:
        """Print a text in a style, folded at spaces to some room; unset, as the terminal does."""
        from rich.text import Text

        self.console.width = room or self.width
        self.console.print(Text(text, style=style), soft_wrap=room is None)

    def print_block(self, block: Sequence[TextColumn]) -> None:
        """Print columns side by side; rows of totals are bold."""
        from rich.text import Text

        *heads, rule = head_lines(block)
        self._print(*(Text(head, style="bold") for head in heads), Text(rule, style="dim"))
        for row in zip(*(cell.lines for cell in block), strict=True):
            line = Text(style="bold" if "total" in row else "")
            for at, (cell, text) in enumerate(zip(block, row, strict=True)):
                style = "dim" if text.strip() in ("no", "…", "-") else ""
                line.append(" " * GAP * bool(at) + pad(cell, text), style=style)
            line.rstrip()
            self._print(line)

    def _print(self, *lines: Text) -> None:
        for line in lines:
            self.console.print(line, soft_wrap=True)


def open_screen() -> Lines:
    """Return the screen that standard output is."""
    forced = os.environ.get("FORCE_COLOR")  # as other programs take it
    return Terminal() if forced or sys.stdout.isatty() else Lines()
