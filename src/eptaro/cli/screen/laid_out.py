"""Which columns stand side by side in the width that there is."""

from __future__ import annotations

from collections.abc import Sequence

from eptaro.cli.screen.texts import GAP, Texts, total_width
from eptaro.core.tables.face import Rank

_LEAST_BAR, _MOST_BAR = 10, 26


def laid_out(cells: Sequence[Texts], room: int | None) -> tuple[list[list[Texts]], list[Texts]]:
    """Return blocks of columns that fit, and the columns that are left out.

    Keys and answers are always shown; the others by rank as far as they fit. Answers too wide
    for one block have one for each measure, which begins with the keys.
    """
    keys = [cell for cell in cells if cell.rank is Rank.KEY]
    answers = [cell for cell in cells if cell.rank is Rank.ANSWER]
    if room is None or total_width([*keys, *answers]) <= room:
        block, left = _filled(cells, [*keys, *answers], room)
        return [block], left
    blocks: list[list[Texts]] = []
    left = list[Texts]()
    measures = dict.fromkeys(cell.of for cell in answers)
    for number, measure in enumerate(measures):
        own = [c for c in cells if c.of == measure or (not number and c.rank >= Rank.DAYS)]
        must = [*keys, *(cell for cell in own if cell.rank is Rank.ANSWER)]
        block, unfit = _filled([*keys, *own], must, room)
        left += unfit
        blocks += in_blocks(block, len(keys), room)
    return blocks, left


def _filled(
    cells: Sequence[Texts], must: Sequence[Texts], room: int | None
) -> tuple[list[Texts], list[Texts]]:
    """Return the columns that must be shown and those others that fit, in their order."""
    taken, left = list(must), list[Texts]()
    for cell in sorted((c for c in cells if c not in must), key=lambda c: c.rank):
        fits = room is None or total_width([*taken, cell]) <= room
        (taken if fits else left).append(cell)
    order = {id(cell): (_place(cell), at) for at, cell in enumerate(cells)}
    return sorted(taken, key=lambda cell: order[id(cell)]), left


def _place(cell: Texts) -> int:
    """Return where a column stands: keys, answers and what belongs to them, days, the rest."""
    return Rank.ANSWER if cell.rank is Rank.BESIDE else cell.rank


def in_blocks(cells: list[Texts], keys: int, room: int | None) -> list[list[Texts]]:
    """Split columns into blocks that fit; each begins with so many keys."""
    if room is None or total_width(cells) <= room:
        return [cells]
    head, rest = cells[:keys], cells[keys:]
    blocks: list[list[Texts]] = []
    for cell in rest:
        if not blocks or total_width([*blocks[-1], cell]) > room:
            blocks.append([*head])
        blocks[-1].append(cell)
    return blocks


def room_for_bar(blocks: list[list[Texts]], room: int | None) -> int:
    """Return how wide a bar may be beside a single block, 0 where there is no room."""
    if room is None or len(blocks) > 1:
        return 0
    free = room - total_width(blocks[0]) - GAP
    return min(free, _MOST_BAR) if free >= _LEAST_BAR else 0
