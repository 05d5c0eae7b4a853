"""Folded transactions dealt out to shards, by a hash of each group's values that never changes.

The hash of a text is FNV-1a in 64 bits over its UTF-8 bytes (by Fowler, Noll and Vo).
Whole numbers, dates and flags are hashed as their texts (`42`, `2025-08-20`, `true`), the blank
is 0. The hash of a group begins with the offset of FNV-1a; for each group column it is combined
with the value's by exclusive or, and multiplied by the prime. Its upper half is then combined
with its lower half by exclusive or; the remainder by the number of shards names the shard.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.axis import Axis
from eptaro.core.folds.cells import Cells
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.groups import Coded, Groups
from eptaro.core.folds.picks import Entries
from eptaro.core.folds.planes import ROWS, Plane
from eptaro.core.folds.sums import Sum
from eptaro.core.kernels.occurring import occurring
from eptaro.core.tables import exact
from eptaro.core.tables.column import Column

Hashes = NDArray[np.uint64]
_OFFSET, _PRIME = np.uint64(0xCBF29CE484222325), np.uint64(0x00000100000001B3)
_HALF = np.uint64(32)


def hashes_of_texts(words: Sequence[str]) -> Hashes:
    """Return the FNV-1a hash of each text.

    >>> [hex(one) for one in hashes_of_texts(["", "a", "foobar"]).tolist()]
    ['0xcbf29ce484222325', '0xaf63dc4c8601ec8c', '0x85944171f73967e8']
    """
    joined = "".join(words).encode()
    lengths = np.fromiter(map(len, words), np.int64, len(words))
    if len(joined) != int(lengths.sum()):  # some letters are several bytes
        lengths = np.array([len(word.encode()) for word in words], np.int64)
    starts = np.cumsum(lengths) - lengths
    letters = np.frombuffer(joined, np.uint8).astype(np.uint64)
    found = np.full(len(words), _OFFSET)
    longest_first = np.argsort(-lengths, kind="stable")
    left = np.sort(-lengths)
    for at in range(int(lengths.max(initial=0))):
        rows = longest_first[: np.searchsorted(left, -at)]
        found[rows] = (found[rows] ^ letters[starts[rows] + at]) * _PRIME
    return found


def _texts(choices: Column) -> list[str]:
    if choices.kind == "flag":
        return ["true" if value else "false" for value in choices.to_list()]
    return [*map(str, choices.to_list())]


def shards_of(groups: Groups, shards: int) -> Ints:
    """Return the shard of each group."""
    found = np.full(groups.count, _OFFSET)
    for coded in groups.coded.values():
        hashes = np.append(hashes_of_texts(_texts(coded.choices)), np.uint64(0))
        found = (found ^ hashes[coded.codes]) * _PRIME
    return ((found ^ (found >> _HALF)) % np.uint64(shards)).astype(np.int64)


def dealt(folded: Folded, shards: int) -> Iterator[tuple[int, Folded]]:
    """Yield each shard that has groups, and what was folded of these; of the input as a whole
    (notes, rows set aside, fingerprints) they tell nothing.

    >>> from eptaro import Daybook
    >>> book = Daybook({"on": ["2025-01-31"] * 3, "route": ["a", "b", "c"]}, date="on", by="route",
    ...                measures="trips=count()")
    >>> [(shard, part.groups.columns([0])[0].to_list()) for shard, part in dealt(book.folded, 16)]
    [(0, ['a']), (11, ['b']), (14, ['c'])]
    """
    shard = shards_of(folded.groups, shards)
    order = np.argsort(shard, kind="stable")
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    groups = folded.groups.at(order) if len(order) > 1 else folded.groups
    cells = folded.cells
    if not np.array_equal(rank, np.arange(len(rank))):
        cells = cells.regrouped(rank, groups.count)
    numbers, begins = np.unique(shard[order], return_index=True)
    for number, begin, end in zip(
        numbers.tolist(), begins.tolist(), [*begins[1:].tolist(), len(order)], strict=True
    ):
        yield number, _part(folded, groups, cells, begin, end)


def _part(folded: Folded, groups: Groups, cells: Cells, begin: int, end: int) -> Folded:
    """Return what was folded of the groups `begin` to below `end`."""
    some = of_groups(cells, begin, end)
    tallies, distinct = dict(some.tallies), {}
    for name, choices in folded.distinct.items():
        plane = Plane("codes", name)
        tally = tallies[plane]
        assert isinstance(tally, Entries)
        met, codes = occurring(np.asarray(tally.value, np.int64), len(choices))
        tallies[plane] = replace(tally, value=codes)
        distinct[name] = choices.take(met)
    rows = tallies[ROWS]
    assert isinstance(rows, Sum)
    return Folded(
        only_used(groups.at(np.arange(begin, end))),
        Cells(some.axis, tallies),
        exact.total(rows.whole),
        (),
        distinct=distinct,
        timed=folded.timed,
        grain=folded.grain,
    )


def of_groups(cells: Cells, begin: int, end: int) -> Cells:
    """Return the cells of the groups `begin` to below `end`, which are numbered from 0 then."""
    axis = cells.axis
    ends = np.array([begin, end]) * axis.days
    if axis.keys is None:
        lo, hi = ends.tolist()
        some = Axis(end - begin, axis.first_day, axis.days)
    else:
        lo, hi = np.searchsorted(axis.keys, ends).tolist()
        some = Axis(end - begin, axis.first_day, axis.days, axis.keys[lo:hi] - ends[0])
    return Cells(some, {plane: tally.between(lo, hi) for plane, tally in cells.tallies.items()})


def only_used(groups: Groups) -> Groups:
    """Return the groups with no other values in their columns than occur."""
    found = {}
    for name, coded in groups.coded.items():
        met, codes = occurring(coded.codes.astype(np.int64) + 1, len(coded.choices) + 1)
        blank = int(len(met) > 0 and met[0] == 0)
        found[name] = Coded(codes.astype(np.int32) - blank, coded.choices.take(met[blank:] - 1))
    return Groups(found, groups.count)
