"""Folded transactions distributed to shards by a fixed hash of each group's values.

The hash of a text is FNV-1a in 64 bits over its UTF-8 bytes (by Fowler, Noll and Vo); that of a
whole number, of the days from 1970-01-01 to a date, and of a flag (0 or 1) is the same over the
eight bytes of its 64 bits, the least first; that of a blank is 0.

The hash of a group begins with the offset of FNV-1a; for each group column it is combined with
the value's by exclusive or, and multiplied by the prime. Its upper half is then combined with
its lower half by exclusive or; the remainder by the number of shards names the shard.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

import numpy as np

from eptaro.core.aggregation.axis import Axis
from eptaro.core.aggregation.cells import ROWS, Cells, Plane
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.groups import Groups, words_of
from eptaro.core.aggregation.selected import ValueLists
from eptaro.core.aggregation.sums import Sum
from eptaro.core.calendars.days import Ints
from eptaro.core.kernels import bigint
from eptaro.core.kernels.factorize import factorize
from eptaro.core.kernels.texts import OFFSET, PRIME, Hashes, hashes_of_numbers, hashes_of_texts
from eptaro.core.results.column import Column

_HALF = np.uint64(32)


def _hashes(choices: Column) -> Hashes:
    if choices.kind == "text":
        return hashes_of_texts(words_of(choices))
    return hashes_of_numbers(choices.data)


def shards_of(groups: Groups, shards: int) -> Ints:
    """Return the shard of each group."""
    columns = [
        np.append(_hashes(coded.choices), np.uint64(0))[coded.codes]
        for coded in groups.coded.values()
    ]
    return shard_of_hashes(combine_hashes(columns, groups.count), shards)


def combine_hashes(columns: Iterable[Hashes], count: int = 0) -> Hashes:
    """Return the hashes of groups from those of their values, a column each.

    Each column is `(n_groups,) uint64`, and so is the result.
    """
    combined = None
    for hashes in columns:
        before = np.full(len(hashes), OFFSET) if combined is None else combined
        combined = (before ^ hashes) * PRIME
    return np.full(count, OFFSET) if combined is None else combined


def shard_of_hashes(hashes: Hashes, shards: int) -> Ints:
    """Return the shard of each group from its hash.

    `hashes` is `(n_groups,) uint64`, the result `(n_groups,) int64`.
    """
    return ((hashes ^ (hashes >> _HALF)) % np.uint64(shards)).astype(np.int64)


def partition_cells(folded: Folded, shards: int) -> Iterator[tuple[int, Folded]]:
    """Yield each shard that has groups, and what was folded of these; of the input as a whole
    (notes, rows rejected, fingerprints) they have nothing.

    >>> from eptaro import Daybook
    >>> book = Daybook({"on": ["2025-01-31"] * 3, "route": ["a", "b", "c"]}, date="on", by="route",
    ...                measures="trips=count()")
    >>> folded = book._store.facts.folded
    >>> parts = partition_cells(folded, 16)
    >>> [(shard, part.groups.columns([0])[0].to_list()) for shard, part in parts]
    [(0, ['a']), (11, ['b']), (14, ['c'])]
    """
    if not folded.rows:
        return
    shard = shards_of(folded.groups, shards)
    order = np.argsort(shard, kind="stable")
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    groups = folded.groups.at(order) if len(order) > 1 else folded.groups
    cells = folded.cells
    if not np.array_equal(rank, np.arange(len(rank))):
        cells = cells.regroup(rank, groups.count)
    numbers, begins = np.unique(shard[order], return_index=True)
    for number, begin, end in zip(
        numbers.tolist(), begins.tolist(), [*begins[1:].tolist(), len(order)], strict=True
    ):
        yield number, _slice_groups(folded, groups, cells, begin, end)


def _slice_groups(folded: Folded, groups: Groups, cells: Cells, begin: int, end: int) -> Folded:
    """Return what was folded of the groups `begin` to below `end`."""
    some = of_groups(cells, begin, end)
    tallies, distinct = dict(some.tallies), {}
    for name, choices in folded.distinct.items():
        plane = Plane("codes", name)
        tally = tallies[plane]
        assert isinstance(tally, ValueLists)
        met, codes = factorize(np.asarray(tally.value, np.int64), len(choices))
        tallies[plane] = replace(tally, value=codes)
        distinct[name] = choices.take(met)
    rows = tallies[ROWS]
    assert isinstance(rows, Sum)
    return Folded(
        groups.at(np.arange(begin, end)).drop_unused(),
        Cells(some.axis, tallies),
        bigint.exact_total(rows.whole),
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
