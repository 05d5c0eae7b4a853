"""The columns of an answer as a screen has them: words above them, days as one, the same once."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from eptaro.core.tables.column import Column
from eptaro.core.tables.display import NUMERIC, shown, shown_table
from eptaro.core.tables.face import Face, Rank
from eptaro.core.tables.table import Table

NO_VALUE = "-"  # what stands where an answer is blank


@dataclass(frozen=True)
class Faced:
    """A column of an answer and its face; of first days, the one of last days as well."""

    column: Column
    face: Face
    last: Column | None = None

    @property
    def same(self) -> bool:
        """Whether every row has the same, so that it need be said once only."""
        return all(map(_is_constant, filter(None, (self.column, self.last))))

    @property
    def right(self) -> bool:
        """Whether it is set to the right."""
        return self.column.kind in NUMERIC

    def said(self) -> str:
        """Return what every row has, in words."""
        return f"{self.face.words}: {self.lines_of(slice(0, 1))[0]}"

    def lines_of(self, rows: slice) -> list[str]:
        """Return the texts of some rows."""
        first = shown(self.column.take(rows))
        if self.face.drawn and self.column.unit != "share":  # a change carries its sign
            first = [
                f"+{text}" if text[:1].isdigit() and text.strip("0.,") else text for text in first
            ]
        if self.last is None:
            return [text or NO_VALUE for text in first]
        pairs = zip(first, shown(self.last.take(rows)), strict=True)
        return [f"{one}..{two}" if one and two else NO_VALUE for one, two in pairs]


def _is_constant(column: Column) -> bool:
    if column.valid is not None and column.valid.any() and not column.valid.all():
        return False
    return len(column) > 0 and bool((column.data == column.data[0]).all())


def faced(table: Table) -> list[Faced]:
    """Return the columns of an answer with their faces, those of last days with the first."""
    ends = {c.face.ends for c in table.columns if c.face is not None and c.face.ends in table}
    return [
        Faced(
            column,
            face_of(table, column),
            table.column(column.face.ends) if column.face and column.face.ends in table else None,
        )
        for column in table.columns
        if column.name not in ends
    ]


def face_of(table: Table, column: Column) -> Face:
    """Return the face of a column; of one that has none: a group, a measure, or its name."""
    answer = table.answer
    if answer is not None and column.name in answer.by:
        return Face(column.name.replace("_", " "), Rank.KEY)
    if column.face is not None:
        return column.face
    measure = answer is not None and column.name in answer.measures
    words = column.name.replace("_", " ") if measure else column.name
    return Face(words, of=column.name if measure else "")


def split(table: Table) -> tuple[list[Faced], list[Faced]]:
    """Return the columns to show row by row, and those that are the same in every row.

    Groups and numbers stay, whatever they are.
    """
    groups = () if table.answer is None else table.answer.by
    rows, once = list[Faced](), list[Faced]()
    for one in faced(table):
        lifted = one.face.rank in (Rank.DAYS, Rank.DETAIL) or (
            one.face.rank in (Rank.KEY, Rank.BESIDE) and one.column.kind in ("text", "date")
        )
        if one.face.rare and not one.column.data.any():
            continue
        stays = one.column.name in groups or not lifted or not one.same
        (rows if stays else once).append(one)
    return (rows, once) if rows else (once, [])


def titles(columns: list[Faced]) -> Iterator[str]:
    """Yield the heading of each column; it names the measure where there are several."""
    several = len({one.face.of for one in columns if one.face.of}) > 1
    for one in columns:
        named = several and one.face.of and one.face.words != one.face.of.replace("_", " ")
        yield f"{one.face.of.replace('_', ' ')} {one.face.words}" if named else one.face.words


def group_texts(table: Table) -> dict[str, list[str]]:
    """Return the texts of the group columns, in which a blank is a value of its own."""
    names = () if table.answer is None else table.answer.by
    part = table.select([name for name in names if name in table])
    return dict(zip(part.names, shown_table(part), strict=True))


def bars(one: Faced, room: int) -> list[str] | None:
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
    texts = np.char.add(
        np.broadcast_to(words, len(sizes)).astype(str), np.char.multiply("▇", sizes)
    )
    return ["" if gone else str(text) for gone, text in zip(blank, texts, strict=True)]
