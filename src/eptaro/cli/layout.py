"""A table as text: columns, their widths, and their lines."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import cached_property

import numpy as np

from eptaro.core.results.column import Column
from eptaro.core.results.format import (
    NUMERIC,
    DisplayHint,
    Priority,
    float_decimals,
    format_column,
    shown_table,
    with_plus,
)
from eptaro.core.results.result import Result
from eptaro.record import Record, record

GAP = 2


@record
class TextColumn(Record):
    """The texts of one column, its rank, and the measure that it belongs to."""

    title: str
    lines: Sequence[str]
    right: bool
    rank: Priority = Priority.ANSWER
    of: str = ""
    name: str = ""

    @cached_property
    def heading(self) -> str:
        """The title, folded to about the width of the column."""
        return wrap_heading(self.title, max(map(text_width, self.lines), default=0))

    @cached_property
    def width(self) -> int:
        """How many letters wide the column is."""
        return max(map(text_width, [*self.lines, *self.heading.split("\n")]))

    def with_gap(self, after: int) -> TextColumn:
        """Return the cells with a mark for rows left out after so many rows."""
        return replace(self, lines=[*self.lines[:after], "…", *self.lines[after:]])


def text_width(text: str) -> int:
    """Return how many letters wide a text is printed.

    Wide letters of East Asia take the room of two (Unicode Standard Annex 11), marks that are set
    above or below others none.

    >>> text_width("fare"), text_width("東京")
    (4, 4)
    """
    if text.isascii():
        return len(text)
    widths = "".join(map(unicodedata.east_asian_width, text))
    wide = widths.count("W") + widths.count("F")
    return len(text) + wide - sum(map(bool, map(unicodedata.combining, text)))


def align_decimals(lines: Sequence[str]) -> list[str]:
    """Return numbers with their decimal marks in one place; what is no number stays at the right.

    >>> align_decimals(["+31.0%", "-0.05%", "7", "-"])
    ['+31.0% ', '-0.05%', '7    ', '-']
    """
    tails = [_tail(line) for line in lines]
    most = max(tails, default=0)
    if min(tails, default=0) == most:
        return list(lines)
    return [
        line if tail < 0 else line + " " * (most - tail)
        for line, tail in zip(lines, tails, strict=True)
    ]


def _tail(line: str) -> int:
    """Return how many letters are from the decimal mark on, -1 where there is no digit."""
    at = line.rfind(".")
    if at >= 0:
        return len(line) - at
    digits = line.rstrip("% ")
    return len(line) - len(digits) if digits[-1:].isdigit() else -1


def wrap_heading(name: str, width: int) -> str:
    """Fold a heading after underscores and spaces to about the width of its column.

    >>> wrap_heading("revenue_change_ratio", 8).split()
    ['revenue_', 'change_', 'ratio']
    """
    parts = re.findall(r"(?:% )?[^_ ]*[_ ]?", name)[:-1]
    width = max([width, *(len(part.rstrip()) for part in parts)])
    lines = [""]
    for part in parts:
        if lines[-1] and len((lines[-1] + part).rstrip()) > width:
            lines.append("")
        lines[-1] += part
    return "\n".join(line.rstrip() for line in lines)


def total_width(cells: Sequence[TextColumn]) -> int:
    """Return how many letters wide some columns are side by side."""
    return sum(cell.width + GAP for cell in cells) - GAP if cells else 0


NO_VALUE = "-"  # what is where an answer is blank


@record
class DisplayColumn(Record):
    """A column of an answer and its face; of first days, the one of last days as well."""

    column: Column
    face: DisplayHint
    last: Column | None = None
    decimals: int = 2  # of its floats, by all rows, whichever are printed

    @property
    def same(self) -> bool:
        """Whether every row has the same, so that it need be given once only."""
        return _is_constant(self.column) and (self.last is None or _is_constant(self.last))

    @property
    def right(self) -> bool:
        """Whether it is set to the right."""
        return self.column.kind in NUMERIC

    def constant_text(self) -> str:
        """Return what every row has, in words."""
        return f"{self.face.words}: {self.lines_of(slice(0, 1))[0]}"

    def lines_of(self, rows: slice) -> list[str]:
        """Return the texts of some rows."""
        first = format_column(self.column.take(rows), self.decimals)
        if self.face.drawn and self.column.unit != "share":  # a change carries its sign
            first = [*map(with_plus, first)]
        if self.last is None:
            return [text or NO_VALUE for text in first]
        pairs = zip(first, format_column(self.last.take(rows)), strict=True)
        return [f"{one}..{two}" if one and two else NO_VALUE for one, two in pairs]


def _is_constant(column: Column) -> bool:
    if column.valid is not None and column.valid.any() and not column.valid.all():
        return False
    return len(column) > 0 and bool((column.data == column.data[0]).all())


def display_columns(table: Result) -> list[DisplayColumn]:
    """Return the columns of an answer with their faces, those of last days with the first."""
    columns = {column.name: column for column in table.columns}
    last = {name: columns.get(c.face.ends) for name, c in columns.items() if c.face is not None}
    ends = {column.name for column in last.values() if column is not None}
    return [
        DisplayColumn(column, face_of(table, column), last.get(name), float_decimals(column))
        for name, column in columns.items()
        if name not in ends
    ]


def face_of(table: Result, column: Column) -> DisplayHint:
    """Return the face of a column; of one that has none: a group, a measure, or its name."""
    answer = table.answer
    if answer is not None and column.name in answer.by:
        return DisplayHint(column.name.replace("_", " "), Priority.KEY)
    if column.face is not None:
        return column.face
    measure = answer is not None and column.name in answer.measures
    words = column.name.replace("_", " ") if measure else column.name
    return DisplayHint(words, of=column.name if measure else "")


def split_constant(table: Result) -> tuple[list[DisplayColumn], list[DisplayColumn]]:
    """Return the columns to show row by row, and those that are the same in every row.

    Groups and numbers stay, whatever they are.
    """
    groups = () if table.answer is None else table.answer.by
    rows, once = list[DisplayColumn](), list[DisplayColumn]()
    for display in display_columns(table):
        lifted = display.face.rank in (Priority.DAYS, Priority.DETAIL) or (
            display.face.rank in (Priority.KEY, Priority.BESIDE)
            and display.column.kind in ("text", "date")
        )
        column = display.column
        if display.face.rare and (
            column.blank.all() if column.kind == "text" else not column.data.any()
        ):
            continue
        stays = display.column.name in groups or not lifted or not display.same
        (rows if stays else once).append(display)
    return (rows, once) if rows else (once, [])


def titles(columns: list[DisplayColumn]) -> Iterator[str]:
    """Yield the heading of each column; it names the measure where there are several."""
    several = len({display.face.of for display in columns if display.face.of}) > 1
    for display in columns:
        has_measure = (
            several and display.face.of and display.face.words != display.face.of.replace("_", " ")
        )
        yield (
            f"{display.face.of.replace('_', ' ')} {display.face.words}"
            if has_measure
            else display.face.words
        )


def group_texts(table: Result) -> dict[str, list[str]]:
    """Return the texts of the group columns, in which a blank is a value of its own."""
    names = () if table.answer is None else table.answer.by
    part = table.select([name for name in names if name in table])
    return dict(zip(part.names, shown_table(part), strict=True))


def bars(one: DisplayColumn, room: int) -> list[str] | None:
    """Return a small bar for each value, with the way of a change in a word; None without any."""
    numbers = np.nan_to_num(one.column.numbers())
    signed = one.column.unit != "share"
    room -= len("down ") if signed else 0
    most = np.abs(numbers).max(initial=0.0)
    if not most > 0 or not np.isfinite(most) or room < 4:
        return None
    sizes = np.rint(np.abs(numbers) / most * room).astype(int)
    words = np.where(numbers > 0, "up   ", np.where(numbers < 0, "down ", "")) if signed else ""
    blank = one.column.blank
    texts = np.strings.add(
        np.broadcast_to(words, len(sizes)).astype(str), np.strings.multiply("▇", sizes)
    )
    return ["" if gone else str(text) for gone, text in zip(blank, texts, strict=True)]


_LEAST_BAR, _MOST_BAR = 10, 26


def arrange_columns(
    cells: Sequence[TextColumn], room: int | None
) -> tuple[list[list[TextColumn]], list[TextColumn]]:
    """Return blocks of columns that fit, and the columns that are left out.

    Keys and answers are always shown; the others by rank as far as they fit. Answers too wide for
    one block go in several, each of which begins with the keys and has as many measures as fit.
    """
    keys = [cell for cell in cells if cell.rank is Priority.KEY]
    answers = [cell for cell in cells if cell.rank is Priority.ANSWER]
    if room is None or total_width([*keys, *answers]) <= room:
        block, rest = _fill_block(cells, [*keys, *answers], room)
        return [block], rest
    blocks: list[list[TextColumn]] = []
    rest = list[TextColumn]()
    measures = dict.fromkeys(cell.of for cell in answers)
    for number, measure in enumerate(measures):
        own = [c for c in cells if c.of == measure or (not number and c.rank >= Priority.DAYS)]
        must = [*keys, *(cell for cell in own if cell.rank is Priority.ANSWER)]
        block, unfit = _fill_block([*keys, *own], must, room)
        rest += unfit
        beside = [*blocks[-1], *block[len(keys) :]] if blocks else block
        if blocks and total_width(beside) <= room:
            blocks[-1] = _in_order(beside, cells)
        else:
            blocks += in_blocks(block, len(keys), room)
    return blocks, rest


def _fill_block(
    cells: Sequence[TextColumn], must: Sequence[TextColumn], room: int | None
) -> tuple[list[TextColumn], list[TextColumn]]:
    """Return the columns that must be shown and those others that fit, in their order."""
    fitting, rest = list(must), list[TextColumn]()
    needed = {id(cell) for cell in must}
    for cell in sorted((c for c in cells if id(c) not in needed), key=lambda c: c.rank):
        fits = room is None or total_width([*fitting, cell]) <= room
        (fitting if fits else rest).append(cell)
    return _in_order(fitting, cells), rest


def _in_order(block: Sequence[TextColumn], cells: Sequence[TextColumn]) -> list[TextColumn]:
    """Return the columns of a block by their places, and at each in the order of all columns."""
    order = {id(cell): (_place(cell), at) for at, cell in enumerate(cells)}
    return sorted(block, key=lambda cell: order[id(cell)])


def _place(cell: TextColumn) -> int:
    """Return where a column is: keys, answers and what belongs to them, days, the rest."""
    return Priority.ANSWER if cell.rank is Priority.BESIDE else cell.rank


def in_blocks(cells: list[TextColumn], keys: int, room: int | None) -> list[list[TextColumn]]:
    """Split columns into blocks that fit; each begins with so many keys."""
    if room is None or total_width(cells) <= room:
        return [cells]
    head, rest = cells[:keys], cells[keys:]
    blocks: list[list[TextColumn]] = []
    for cell in rest:
        if not blocks or total_width([*blocks[-1], cell]) > room:
            blocks.append([*head])
        blocks[-1].append(cell)
    return blocks


def room_for_bar(blocks: list[list[TextColumn]], room: int | None) -> int:
    """Return how wide a bar may be beside a single block, 0 where there is no room."""
    if room is None or len(blocks) > 1:
        return 0
    free = room - total_width(blocks[0]) - GAP
    return min(free, _MOST_BAR) if free >= _LEAST_BAR else 0


def head_lines(block: Sequence[TextColumn]) -> list[str]:
    """Return the lines of the headings of a block, and of the rule below them."""
    heads = [cell.heading.split("\n") for cell in block]
    tall = max(map(len, heads))
    lines = [[""] * (tall - len(head)) + head for head in heads]
    rule = join_cells(block, ["─" * cell.width if cell.title else "" for cell in block])
    return [*(join_cells(block, row) for row in zip(*lines, strict=True)), rule]


def pad(cell: TextColumn, text: str) -> str:
    """Return a text of a column in the column's width."""
    room = " " * (cell.width - text_width(text))
    return room + text if cell.right else text + room


def join_cells(block: Sequence[TextColumn], texts: Sequence[str]) -> str:
    """Return one line of a block, each text in the width of its column."""
    return (" " * GAP).join(map(pad, block, texts)).rstrip()
