"""A shard's cells by fewer groups, and those of several shards put together."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.calendars.span import Span
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.groups import Groups, code_of
from eptaro.core.folds.shards import only_used
from eptaro.core.questions.group_coverage import Asked, GroupSpans, group_spans
from eptaro.core.questions.whole import Fewer
from eptaro.errors import QuestionError

Wanted = Mapping[str, Sequence[Any]]


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
    found = replace(folded, groups=only_used(fewer), cells=cells)
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
    try:
        return bool((groups.coded[name].codes == code_of(name, choices, value)).any())
    except QuestionError:
        return False
