"""Merging folded parts: a new month's file joins the year's book without reading it again."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np

from eptaro.core.aggregation.cells import Cells, Plane, regrouped_together
from eptaro.core.aggregation.encoding import CategoryEncoder, GroupEncoder
from eptaro.core.aggregation.folded import Folded, UnmetRows
from eptaro.core.aggregation.groups import Categorical, Groups
from eptaro.core.aggregation.selected import SelectedValues, ValueLists
from eptaro.core.calendars.days import Ints
from eptaro.core.calendars.grain import plural_of
from eptaro.core.calendars.span import Span
from eptaro.core.results.column import join_columns
from eptaro.core.results.result import Result
from eptaro.errors import InputError, spell_option


def merge(one: Folded, two: Folded, *, force: bool = False) -> Folded:
    """Return what one fold over the rows of both would have left.

    Raises `InputError` where the parts have other groups or planes, or where an input is
    in both, unless `force` says that its rows are to count twice.
    """
    if not one.rows or not two.rows:  # a part without a row that counts
        return _with_nothing(one, two)
    if one.groups.names != two.groups.names:
        raise InputError(f"the books are grouped by {one.groups.names} and {two.groups.names}")
    check_planes(one.cells.tallies, two.cells.tallies)
    metadata = merge_metadata(one, two, force=force)
    two = renumber_distinct(one, two)
    groups, places = numbered_together([one.groups, two.groups])
    first, second = (
        part.cells.regroup(place, groups.count)
        for part, place in zip((one, two), places, strict=True)
    )
    cells, distinct = first.plus(rows_after(second, first)), {**one.distinct, **two.distinct}
    return replace(metadata, groups=groups, cells=cells, distinct=distinct, dated=None)


def _with_nothing(one: Folded, two: Folded) -> Folded:
    """Return two parts of which one has no row that counts; days and rows that it left out do."""
    full, empty = (one, two) if one.rows else (two, one)
    left_out = empty.left is not None or empty.rejected_rows > 0
    if empty.seen is None or not left_out:  # it has no rows at all
        return full
    metadata = merge_metadata(one, replace(two, grain=one.grain))
    return replace(
        metadata, groups=full.groups, cells=full.cells, distinct=full.distinct, grain=full.grain
    )


def combine_pieces(parts: Sequence[Folded]) -> Folded:
    """Return the cells of several parts as one, as `merge` would have put them; of their rows as a
    whole it keeps what the first has.
    """
    groups, places = numbered_together([part.groups for part in parts])
    encoders = {name: CategoryEncoder(name, words=True) for name in parts[0].distinct}
    pieces, ends = list[Cells](), dict[Plane, int]()
    if len(parts) == 1 and np.array_equal(places[0], np.arange(groups.count)):
        return parts[0]
    for part in parts:
        tallies = dict(part.cells.tallies)
        for name, encoder in encoders.items():
            tallies[Plane("codes", name)] = _encode_part(encoder, part, name)
        for plane, tally in tallies.items():
            if isinstance(tally, SelectedValues) and len(tally.row):
                moved = tally.row + (ends.get(plane, 0) - int(tally.row.min()))
                tallies[plane] = replace(tally, row=moved)
                ends[plane] = int(moved.max()) + 1
        pieces.append(Cells(part.cells.axis, tallies))
    distinct = {name: encoder.to_categorical().choices for name, encoder in encoders.items()}
    rows, cells = sum(part.rows for part in parts), regrouped_together(pieces, places, groups.count)
    return replace(parts[0], groups=groups, cells=cells, rows=rows, distinct=distinct)


def _encode_part(encoder: CategoryEncoder, part: Folded, name: str) -> ValueLists:
    """Return which values of a column cells hold, by the numbers that an encoder gives them."""
    choices, tally = part.distinct[name], part.cells.tallies[Plane("codes", name)]
    codes = encoder.encode(Categorical(np.arange(len(choices), dtype=np.int32), choices))
    assert isinstance(tally, ValueLists)
    return replace(tally, value=codes[tally.value])


def numbered_together(parts: Sequence[Groups]) -> tuple[Groups, list[Ints]]:
    """Return all groups of several parts in natural order, and the places of each part's there."""
    combiner, numbers = GroupEncoder(parts[0].names), []
    for part in parts:
        number = combiner.number(part.coded)
        numbers.append(np.zeros(1, np.int64) if number is None else number.astype(np.int64))
    groups, rank = combiner.ranked_groups()
    return groups, [rank[number] for number in numbers]


def check_planes(one: Iterable[Plane], two: Iterable[Plane]) -> None:
    """Raise `InputError` where two books keep different things of their rows."""
    if {*one} != {*two}:
        odd = sorted({*one} ^ {*two})[0]
        raise InputError(f"only one of the books keeps {odd.what} of {odd.column!r}")


def merge_metadata(one: Folded, two: Folded, *, force: bool = False) -> Folded:
    """Return the metadata of the rows of both; groups and cells are those of the first.

    Raises `InputError` where an input is in both, unless `force` says that its rows are to count
    twice, and where dates or conditions differ.
    """
    if (one.fingerprints & two.fingerprints) and not force:
        raise InputError(
            f"rows of {two.source} are in the book of {one.source} already; "
            f"use {spell_option('force=True', '--force')} to count them twice"
        )
    if one.grain != two.grain:
        raise InputError(
            f"the dates of {one.source} are {plural_of(one.grain)}, those of {two.source} "
            f"{plural_of(two.grain)}"
        )
    return Folded(
        one.groups,
        one.cells,
        one.rows + two.rows,
        tuple(dict.fromkeys([*one.sources, *two.sources])),
        _merge_rejected(one.rejected, two.rejected),
        {
            name: one.left_out.get(name, 0) + two.left_out.get(name, 0)
            for name in {**one.left_out, **two.left_out}
        },
        (*one.notes, *two.notes),
        one.fingerprints | two.fingerprints,
        one.distinct,
        one.formats,
        seen=_days_of_all_rows(one, two),
        left=_merge_left_out(one, two),
        grain=one.grain,
        dated=_union_of_days(one, two),
        unlisted=one.unlisted + two.unlisted,
    )


def _union_of_days(one: Folded, two: Folded) -> Ints | None:
    """Return the days that have rows of either, where the cells of one are elsewhere."""
    if one.dated is None and two.dated is None:
        return None
    return np.union1d(one.days_with_rows, two.days_with_rows)


def _days_of_all_rows(one: Folded, two: Folded) -> Span | None:
    """Return the days of all rows of both, where a condition left some out of either."""
    if one.seen is None and two.seen is None:
        return None
    spans = [part.seen or _days_of(part) for part in (one, two)]
    return Span.of(min(span.lo for span in spans), max(span.hi for span in spans))


def _days_of(part: Folded) -> Span:
    return Span.of(part.cells.axis.first_day, part.cells.axis.last_day)


def _merge_left_out(one: Folded, two: Folded) -> UnmetRows | None:
    """Return the condition on the rows of both, and how many do not meet it.

    Raises `InputError` where the rows of one were held against another condition.
    """
    conditions = [None if part.left is None else part.left.where for part in (one, two)]
    if conditions[0] != conditions[1]:
        listed = " and ".join("none" if c is None else repr(c) for c in conditions)
        raise InputError(f"the rows of the books meet different conditions: {listed}")
    if one.left is None or two.left is None:
        return None
    return UnmetRows(one.left.where, one.left.rows + two.left.rows)


def rows_after(cells: Cells, first: Cells) -> Cells:
    """Return cells whose rows come after those of others that were folded before them."""
    tallies = dict(cells.tallies)
    for plane, tally in cells.tallies.items():
        before = first.tallies[plane]
        if (
            isinstance(tally, SelectedValues)
            and isinstance(before, SelectedValues)
            and len(tally.row)
        ):
            step = int(before.row.max(initial=-1)) + 1 - int(tally.row.min())
            tallies[plane] = replace(tally, row=tally.row + step)
    return Cells(cells.axis, tallies)


def _merge_rejected(one: Result | None, two: Result | None) -> Result | None:
    """Return the rows rejected of both parts; each has its own numbers."""
    parts = [part for part in (one, two) if part is not None and len(part)]
    if len(parts) < 2:
        return parts[0] if parts else None
    return Result([join_columns([part.column(name) for part in parts]) for name in parts[0].names])


def renumber_distinct(one: Folded, two: Folded) -> Folded:
    """Return the second part with the codes of distinct values numbered as in the first.

    The first part's values keep their numbers, so its cells need no change.
    """
    tallies, distinct = dict(two.cells.tallies), {}
    for name in two.distinct:
        encoder = CategoryEncoder(name, words=True)
        choices = one.distinct[name]
        encoder.encode(Categorical(np.arange(len(choices), dtype=np.int32), choices))
        tallies[Plane("codes", name)] = _encode_part(encoder, two, name)
        distinct[name] = encoder.to_categorical().choices
    return replace(two, cells=Cells(two.cells.axis, tallies), distinct=distinct)
