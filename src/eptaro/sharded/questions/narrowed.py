"""A shard's cells by fewer groups, and those of several shards put together."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.span import Span
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.groups import Groups, code_of
from eptaro.core.questions.group_coverage import Asked, GroupSpans, group_spans
from eptaro.core.questions.whole import Fewer
from eptaro.core.tables.display import BLANK
from eptaro.sharded.shards import Shards

Wanted = Mapping[str, Sequence[Any]]
Words = frozenset[tuple[str, str]]  # columns, and what groups are called in them


def narrowed(
    folded: Folded, names: Sequence[str], wanted: Wanted, asked: Asked | None, coverage: Span
) -> Fewer | None:
    """Return the groups with wanted values, added up by some of their columns; None where there
    are none.
    """
    keep = bearing(folded.groups, wanted)
    if not keep.any():
        return None
    own = None if asked is None else group_spans(asked, folded, coverage, part=True)
    places = np.flatnonzero(keep)
    fewer, onto = folded.groups.at(places).onto(names)
    target = np.full(folded.groups.count, -1)
    target[places] = onto
    cells = folded.cells
    if list(names) != folded.groups.names or not keep.all():
        cells = cells.regrouped(target, fewer.count)
    found = replace(folded, groups=fewer.only_used(), cells=cells)
    if own is None:
        return Fewer(found)
    return Fewer(found, GroupSpans(*_ends(own, target, fewer.count), own.asked))


def _ends(own: GroupSpans, target: Ints, count: int) -> tuple[Ints, Ints]:
    lo, hi = own.onto(target, count, np.iinfo(np.int64).max)
    return lo, hi


def bearing(groups: Groups, wanted: Wanted) -> Flags:
    """Return which groups bear wanted values; those of other shards are passed over."""
    keep = np.ones(groups.count, bool)
    for name, values in present(groups, wanted).items():
        keep &= groups.matching({name: values}) if values else False
    return keep


def present(groups: Groups, wanted: Wanted) -> dict[str, list[Any]]:
    """Return the wanted values that occur, column by column."""
    found = {}
    for name, values in wanted.items():
        choices = groups.coded[name].choices
        found[name] = [value for value in values if _occurs(groups, name, choices, value)]
    return found


def _occurs(groups: Groups, name: str, choices: Any, value: Any) -> bool:
    """Return whether a value occurs; None alone is the blank (see `settled`)."""
    words = [None] if value is None else [str(word) for word in choices.to_list()]
    if value is not None and str(value) not in words:
        return False
    return bool((groups.coded[name].codes == code_of(name, choices, value)).any())


def settled(shards: Shards, wanted: Mapping[str, list[Any]]) -> Mapping[str, list[Any]]:
    """Return wanted values of which those that may stand for the blank do so, unless a group of any
    shard is called so.
    """
    doubtful = {n: [v for v in values if _may_be_blank(v)] for n, values in wanted.items()}
    if not any(doubtful.values()):
        return wanted
    found = shards.joined(partial(_called, names=doubtful), _either) or frozenset()
    return {
        name: [
            None if _may_be_blank(value) and (name, str(value)) not in found else value
            for value in values
        ]
        for name, values in wanted.items()
    }


def _may_be_blank(value: Any) -> bool:
    return value is not None and str(value) in ("", BLANK)


def _called(shard: int, folded: Folded, names: Wanted) -> Words:
    """Return what groups of a shard are called of some words, with their columns."""
    found = present(folded.groups, names)
    return frozenset((name, str(value)) for name, values in found.items() for value in values)


def _either(one: Words, two: Words) -> Words:
    return one | two
