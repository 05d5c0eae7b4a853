"""`show`: a table on the screen, with its answer in words above and its origin below."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import assert_never

import numpy as np

from eptaro.cli.layout import (
    DisplayColumn,
    TextColumn,
    align_decimals,
    arrange_columns,
    bars,
    display_columns,
    group_texts,
    in_blocks,
    room_for_bar,
    split_constant,
    titles,
)
from eptaro.cli.messages import is_quiet, notify
from eptaro.cli.options import AnswerOptions, OutputOptions
from eptaro.cli.process import leave_pandas_out
from eptaro.cli.screen import Lines, open_screen
from eptaro.core.query.lineage import ViewLineage
from eptaro.core.results.format import NUMERIC, Priority, escape_controls, shown_table
from eptaro.core.results.result import Result
from eptaro.errors import QuestionError, count_noun, unknown
from eptaro.presentation.headline import footer, headline

_ROWS = 60  # shown in a terminal, unless asked for more
_LONG = 2_000  # rows that are laid out together
_MANY_COLUMNS = 24
_FEW = 4
_KEYS = ("period", "date")

Maker = Callable[[Result], list[TextColumn]]


def show(table: Result, rows: int | None = None, *, exactly: bool = False) -> None:
    """Print a table.

    An answer begins with its headline; what every row has appears once, above; columns that do not
    fit are named below. `exactly` prints every column under its exact name, as tables that
    answer no question are: those wider than the screen in blocks that repeat the key columns,
    and one of very many columns and few rows, as the look at a dimension is, on its side.
    """
    screen = open_screen()
    answered = table.answer is not None and not exactly
    room = screen.width if screen.is_terminal or answered else None
    words = headline(table)
    if words:
        screen.say(escape_controls(words), room, "bold")
    once, make = _as_answer(table) if answered else (list[DisplayColumn](), _exact_cells)
    if once:
        screen.say(escape_controls(" · ".join(display.constant_text() for display in once)), room)
    if words or once:
        screen.say()
    rest = _rows(screen, table, rows, room, make, answered=answered)
    if not is_quiet():
        screen.say()
        _print_below(screen, table, rest, room, answered=answered)


def _rows(
    screen: Lines, table: Result, rows: int | None, room: int | None, make: Maker, *, answered: bool
) -> list[TextColumn]:
    """Print the rows, and return the columns that did not fit."""
    many = rows or (_ROWS if screen.is_terminal else len(table))
    if len(table) > _LONG and many >= len(table):
        return _stream_rows(screen, table, room, make, answered=answered)
    few = len(table) <= _FEW or table.meta.get("verb") == "dimension"
    sideways = not answered and len(table.names) > _MANY_COLUMNS and few
    limit = rows or (_FEW if sideways else many)
    part, gap = _excerpt(table, limit)
    cells = make(part)
    if gap:
        cells = [cell.with_gap(gap) for cell in cells]
    if sideways:
        cells = _transpose(cells)
    blocks, rest = _blocks(cells, room, answered=answered)
    if answered and not gap:
        blocks = _with_bar(part, blocks, room)
    for number, block in enumerate(blocks):
        if number:
            screen.say()
        screen.print_block(block)
    if gap:
        screen.say(
            f"… {len(table) - len(part):,} of {len(table):,} rows are not shown; "
            f"--rows {len(table)} prints all, --out FILE writes them",
            style="bold",
        )
    return rest


def _blocks(
    cells: list[TextColumn], room: int | None, *, answered: bool
) -> tuple[list[list[TextColumn]], list[TextColumn]]:
    if answered:
        return arrange_columns(cells, room)
    names = [cell.title for cell in cells]
    return in_blocks(
        cells, next((names.index(key) + 1 for key in _KEYS if key in names), 1), room
    ), []


def _as_answer(table: Result) -> tuple[list[DisplayColumn], Maker]:
    """Return what every row has, and what makes the cells of some rows of an answer."""
    columns, once = split_constant(table)
    names, heads = [display.column.name for display in columns], list(titles(columns))

    def make(part: Result) -> list[TextColumn]:
        groups = group_texts(part)
        shown_columns = []
        for name, title, display in zip(names, heads, columns, strict=True):
            last = None if display.last is None else part.column(display.last.name)
            own = replace(display, column=part.column(name), last=last)
            lines = groups[name] if name in groups else own.lines_of(slice(None))
            lines = align_decimals(lines) if own.right else lines
            shown_columns.append(
                TextColumn(
                    escape_controls(title),
                    lines,
                    own.right,
                    display.face.rank,
                    display.face.of,
                    name,
                )
            )
        return shown_columns

    return once, make


def _exact_cells(table: Result) -> list[TextColumn]:
    """Return every column under its exact name."""
    return [
        TextColumn(escape_controls(column.name), lines, column.kind in NUMERIC, name=column.name)
        for column, lines in zip(table.columns, shown_table(table), strict=True)
    ]


def _with_bar(
    table: Result, blocks: list[list[TextColumn]], room: int | None
) -> list[list[TextColumn]]:
    """Return a single block with small bars of its one share or change, where there is room."""
    free = room_for_bar(blocks, room)
    if not free or len(table) < 2:
        return blocks
    block = blocks[0]
    names = [cell.name for cell in block]
    with_bars = [
        column for column in display_columns(table) if column.face.drawn and column.face.of
    ]
    here = [display for display in with_bars if display.column.name in names]
    if len({display.face.of for display in here}) != 1:
        return blocks
    lines = bars(here[0], free)
    if lines is None:
        return blocks
    at = names.index(here[0].column.name) + 1
    at += sum(cell.of == block[at - 1].of and cell.rank < Priority.DAYS for cell in block[at:])
    return [[*block[:at], TextColumn("", lines, right=False), *block[at:]]]


def _stream_rows(
    screen: Lines, table: Result, room: int | None, make: Maker, *, answered: bool
) -> list[TextColumn]:
    """Print a table of many rows some at a time, as wide as a sample of them is."""
    step = max(len(table) // _LONG, 1)
    cells = make(table.take(np.arange(0, len(table), step)))
    blocks, rest = _blocks(cells, room, answered=answered)
    for number, block in enumerate(blocks):
        if number:
            screen.say()
        screen.print_head(block)
        places = [cells.index(cell) for cell in block]
        for start in range(0, len(table), _LONG):
            drawn_cells = make(table.take(slice(start, start + _LONG)))
            screen.print_rows(block, [drawn_cells[at].lines for at in places])
    return rest


def _transpose(cells: list[TextColumn]) -> list[TextColumn]:
    """Return the same cells on their side; the first column becomes the headings."""
    heads, *rest = cells
    rows = [TextColumn(heads.title, [cell.title for cell in rest], right=False)]
    for place, head in enumerate(heads.lines):
        width = max(len(head), *(len(cell.lines[place]) for cell in rest))
        lines = [cell.lines[place] for cell in rest]
        lines = [
            line.rjust(width) if cell.right else line
            for line, cell in zip(lines, rest, strict=True)
        ]
        rows.append(TextColumn(head, lines, right=False))
    return rows


def _excerpt(table: Result, limit: int) -> tuple[Result, int]:
    """Return the first and last rows, and after how many the rest was left out (0: none)."""
    if len(table) <= limit:
        return table, 0
    head = (limit + 1) // 2
    return table.take(np.r_[:head, len(table) - (limit - head) : len(table)]), head


def _print_below(
    screen: Lines, table: Result, rest: Sequence[TextColumn], room: int | None, *, answered: bool
) -> None:
    """Print why values are missing, what columns are, what was tied out, and the footer."""
    lines = []
    numbers = table.answer.numbers if isinstance(table.answer, ViewLineage) else {}
    if answered and any(table.column(name).blank.any() for name in numbers if name in table):
        from eptaro.presentation.blanks import why_blank

        lines = [f'"-" in {reason}' for reason in why_blank(table)]
    if rest:
        names = ", ".join(dict.fromkeys(cell.title for cell in rest))
        lines.append(f"not shown: {names}; --all-columns shows every column")
    for line in lines:
        screen.say(escape_controls(line), room, "dim")
    lines = [f"tied out: {name}, {text}" for name, text in table.meta.get("tie_out", {}).items()]
    for line in [*lines, *filter(None, [footer(table)])]:
        screen.say(escape_controls(line), room if screen.is_terminal else None, "dim")


def deliver(table: Result, output: OutputOptions) -> None:
    """Write a result to a file or print it; where it went is printed on standard error."""
    exactly = False
    if isinstance(output, AnswerOptions):
        exactly = output.all_columns or output.columns is not None
        table = table if output.columns is None else _choose_columns(table, output.columns)
        if output.first is not None and output.first < len(table):
            meta = table.meta | {"headline": headline(table)}  # of the whole answer
            rows = table.take(np.arange(output.first))
            table = Result(rows.columns, meta, rows.answer)
    if output.out is not None or output.form != "table":
        leave_pandas_out()
    if output.out is not None:
        from eptaro.outputs.files import write

        notify(f"{count_noun(len(table), 'row')} written to {write(table, output.out)}")
        return
    if output.form == "table":
        show(table, output.rows, exactly=exactly)
        return
    from eptaro.outputs import text

    match output.form:
        case "csv":
            content = text.to_csv(table)
        case "json":
            content = text.to_json(table)
        case "object":
            content = text.to_json_object(table)
        case "markdown":
            content = text.to_markdown(table)
        case _:
            assert_never(output.form)
    if sys.stdout.isatty():  # a file or another program gets the data as it is
        content = "\n".join(map(escape_controls, content.split("\n")))
    sys.stdout.write(content)


def _choose_columns(table: Result, columns: str) -> Result:
    """Return the columns that are named, by exact names or by headings, separated by commas."""
    names = [name.strip() for name in columns.split(",") if name.strip()]
    heads: dict[str, list[str]] = {}
    displayed = display_columns(table)
    for display, title in zip(displayed, titles(displayed), strict=True):
        of = [display.column.name, *([] if display.last is None else [display.last.name])]
        heads.setdefault(title.casefold(), []).extend(of)
    chosen_names = []
    for name in names:
        if name not in table and name.casefold() not in heads:
            raise QuestionError(f"--columns: {unknown('column', name, table.names)}")
        chosen_names += [name] if name in table else heads[name.casefold()]
    return table.select(list(dict.fromkeys(chosen_names)))
