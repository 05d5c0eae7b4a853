"""A shard's cells by fewer groups, and those of several shards put together."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from functools import partial
from itertools import product
from math import prod
from typing import Any

import numpy as np

from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.groups import Groups, code_of
from eptaro.core.aggregation.shards import combine_hashes, shard_of_hashes
from eptaro.core.calendars.days import Flags, Ints, ordinal
from eptaro.core.calendars.span import Span
from eptaro.core.kernels.texts import hashes_of_numbers, hashes_of_texts
from eptaro.core.query.coverage import GivenSpans, GroupSpans, group_spans
from eptaro.core.query.totals import ReducedBook
from eptaro.core.results.display import BLANK
from eptaro.errors import DateError
from eptaro.sharded.shards import Shards

_MOST = 10_000  # combinations of values; of more, all shards are looked at
_WHOLE = re.compile(r"-?\d{1,18}")


def shards_with(
    names: Sequence[str], wanted: Mapping[str, Sequence[Any]], shards: int
) -> list[int] | None:
    """Return the shards in which groups with some values can be; None where that may be all.

    >>> shards_with(["route"], {"route": ["a"]}, 16), shards_with(["route"], {}, 16)
    ([0], None)
    """
    if not names or any(name not in wanted for name in names):
        return None
    columns = [{one for value in wanted[name] for one in _hashes(value)} for name in names]
    if prod(map(len, columns)) > _MOST:
        return None
    keys = np.array([*product(*columns)], np.uint64).reshape(-1, len(names))
    return sorted({int(shard) for shard in shard_of_hashes(combine_hashes(keys.T), shards)})


def _hashes(value: Any) -> Iterable[int]:
    """Yield the hashes of a value, which may be given as its text, for each kind it may be of."""
    text = str(value)
    if value is None or text in ("", BLANK):
        yield 0
    yield int(hashes_of_texts(np.array([text], object))[0])
    numbers = []
    if _WHOLE.fullmatch(text):
        numbers.append(int(text))
    if text in ("True", "False"):
        numbers.append(int(text == "True"))
    with suppress(DateError):
        numbers.append(ordinal(text))
    yield from (int(one) for one in hashes_of_numbers(np.array(numbers, np.int64)))


WantedGroups = Mapping[str, Sequence[Any]]
StringTable = frozenset[tuple[str, str]]  # columns, and what groups are called in them


def reduce_groups(
    folded: Folded,
    names: Sequence[str],
    wanted: WantedGroups,
    spans: GivenSpans | None,
    coverage: Span,
) -> ReducedBook | None:
    """Return the groups with wanted values, added up by some of their columns; None where there
    are none.
    """
    keep = groups_with(folded.groups, wanted)
    if not keep.any():
        return None
    own = None if spans is None else group_spans(spans, folded, coverage, part=True)
    places = np.flatnonzero(keep)
    fewer, onto = folded.groups.at(places).onto(names)
    target = np.full(folded.groups.count, -1)
    target[places] = onto
    cells = folded.cells
    if list(names) != folded.groups.names or not keep.all():
        cells = cells.regrouped(target, fewer.count)
    found = replace(folded, groups=fewer.drop_unused(), cells=cells)
    if own is None:
        return ReducedBook(found)
    return ReducedBook(found, GroupSpans(*_ends(own, target, fewer.count), own.asked))


def _ends(own: GroupSpans, target: Ints, count: int) -> tuple[Ints, Ints]:
    lo, hi = own.onto(target, count, np.iinfo(np.int64).max)
    return lo, hi


def groups_with(groups: Groups, wanted: WantedGroups) -> Flags:
    """Return which groups bear wanted values; those of other shards are passed over."""
    keep = np.ones(groups.count, bool)
    for name, values in values_present(groups, wanted).items():
        keep &= groups.matching({name: values}) if values else False
    return keep


def values_present(groups: Groups, wanted: WantedGroups) -> dict[str, list[Any]]:
    """Return the wanted values that occur, column by column."""
    found = {}
    for name, values in wanted.items():
        choices = groups.coded[name].choices
        found[name] = [value for value in values if _occurs(groups, name, choices, value)]
    return found


def _occurs(groups: Groups, name: str, choices: Any, value: Any) -> bool:
    """Return whether a value occurs; None alone is the blank (see `resolve_blanks`)."""
    words = [None] if value is None else [str(word) for word in choices.to_list()]
    if value is not None and str(value) not in words:
        return False
    return bool((groups.coded[name].codes == code_of(name, choices, value)).any())


def resolve_blanks(shards: Shards, wanted: Mapping[str, list[Any]]) -> Mapping[str, list[Any]]:
    """Return wanted values of which those that may represent the blank do so, unless a group of any
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


def _called(shard: int, folded: Folded, names: WantedGroups) -> StringTable:
    """Return what groups of a shard are called of some words, with their columns."""
    found = values_present(folded.groups, names)
    return frozenset((name, str(value)) for name, values in found.items() for value in values)


def _either(one: StringTable, two: StringTable) -> StringTable:
    return one | two
