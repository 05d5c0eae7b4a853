"""A query of one shard: what all shards share, and the data of one."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import field, replace
from functools import partial
from itertools import product
from math import prod
from typing import Any, cast

import numpy as np

from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.groups import Groups, code_of
from eptaro.core.aggregation.shards import combine_hashes, of_groups, shard_of_hashes
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints, ordinal
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.kernels.texts import hashes_of_numbers, hashes_of_texts
from eptaro.core.measures.measure import Measure
from eptaro.core.query.coverage import GivenSpans, GroupSpans, group_spans
from eptaro.core.query.own_calendars import OwnCalendars
from eptaro.core.query.query import Only, Query
from eptaro.core.query.totals import AnyShare, GlobalTotals, Key, ReducedBook, Share
from eptaro.core.query.view import BookData
from eptaro.core.results.format import BLANK
from eptaro.core.results.result import Result
from eptaro.core.verbs.store import answer
from eptaro.errors import DateError, NothingLeftError
from eptaro.record import record
from eptaro.sharded.shards import Shards


@record
class BookContext:
    """What every shard of a book has in common; `asked` is the coverage that goes by groups."""

    rows: Folded  # of all shards, without their cells
    measures: tuple[Measure, ...]
    calendar: Calendar
    coverage: Span
    workdays: Workdays
    own: OwnCalendars | None
    asked: GivenSpans | None

    def facts(
        self, folded: Folded, spans: GroupSpans | None = None, whole: GlobalTotals | None = None
    ) -> BookData:
        """Return facts of some cells that share the settings of the whole book."""
        rows = self.rows
        part = replace(
            rows, groups=folded.groups, cells=folded.cells, distinct=folded.distinct, cache={}
        )
        facts = (part, self.measures, self.calendar, self.coverage, self.workdays, self.own)
        return BookData(*facts, None, spans, whole or GlobalTotals())

    def part(self, folded: Folded, whole: GlobalTotals) -> BookData:
        """Return the facts of one shard among several, which make up the whole."""
        spans = None
        if self.asked is not None:
            spans = group_spans(self.asked, folded, self.coverage, part=True)
        return self.facts(folded, spans, whole)


@record
class PartialTotals:
    """Shares of the whole, in the order in which a verb asks for each."""

    shares: Mapping[Key, list[Share]] = field(default_factory=dict)

    def combine(self, other: PartialTotals) -> PartialTotals:
        """Return the shares of both, put together."""
        shares = {**self.shares, **other.shares}
        for key in {*self.shares} & {*other.shares}:
            pairs = zip(self.shares[key], other.shares[key], strict=True)
            shares[key] = [one.combine(two) for one, two in pairs]
        return PartialTotals(shares)


@record
class ShardTotals(GlobalTotals):
    """All shards, of which one is at hand.

    The shares of the one are kept in `mine`; `every` holds those of all, once they are gathered.
    """

    every: PartialTotals | None = None
    mine: dict[Key, list[Share]] = field(default_factory=dict)

    def global_value(self, key: Key, share: AnyShare) -> AnyShare:
        """Return the result of the groups of all shards, or those at hand until it is gathered."""
        mine = self.mine.setdefault(key, [])
        mine.append(share)
        if self.every is None:
            return share
        return cast(AnyShare, self.every.shares[key][len(mine) - 1])


@record
class PickedBefore(GlobalTotals):
    """The largest groups, and those that are all `others` put together."""

    others: Flags
    named: bool = False

    def pick_groups(self, places: Ints, count: int) -> Flags:
        """Return which groups are the largest."""
        flags, others = np.ones(count, bool), places[self.others]
        flags[others[others >= 0]] = False
        return flags


_FEW = 64  # groups


@record
class ShardQuery:
    """A query that a shard is asked, in no order; `others` is what it is narrowed to beside the
    `wanted` group values. To see whether it can be answered at all, a `few` of its groups may do.
    """

    context: BookContext
    query: Query
    others: list[Any]
    wanted: WantedGroups
    few: bool = False
    every: PartialTotals | None = None

    def __call__(self, shard: int, folded: Folded) -> tuple[Result, PartialTotals] | None:
        """Return what a shard answers, and its shares of what goes by all groups; None where it has
        nothing to say.
        """
        if self.few and folded.groups.count > _FEW:
            some = folded.groups.at(np.arange(_FEW))
            cells = of_groups(folded.cells, 0, _FEW)
            answer = self._answer(replace(folded, groups=some, cells=cells))
            if answer is not None:
                return answer
        return self._answer(folded)

    def facts(self, folded: Folded) -> tuple[BookData, ShardTotals, Only] | None:
        """Return the facts of a shard, the whole that it is of, and what narrows a question to its
        groups; None where it has no wanted ones.
        """
        own = values_present(folded.groups, self.wanted)
        if not all(own.values()):
            return None
        only = [*self.others, *([own] if own else [])]
        whole = ShardTotals(self.every)
        return self.context.part(folded, whole), whole, only or None

    def _answer(self, folded: Folded) -> tuple[Result, PartialTotals] | None:
        asked_facts = self.facts(folded)
        if asked_facts is None:
            return None
        facts, whole, only = asked_facts
        query = self.query if self.every is not None else self.query.without_group_goals()
        try:
            table = answer(facts, replace(query, only=only))
        except NothingLeftError:
            return None
        return table, PartialTotals(whole.mine)


_MOST = 10_000  # combinations of values; of more, all shards are looked at
_WHOLE = re.compile(r"-?\d{1,18}")


def shards_with(
    names: Sequence[str], values: Mapping[str, Sequence[Any]], shards: int
) -> list[int] | None:
    """Return the shards in which groups with some values can be; None where that may be all.

    >>> shards_with(["route"], {"route": ["a"]}, 16), shards_with(["route"], {}, 16)
    ([0], None)
    """
    if not names or any(name not in values for name in names):
        return None
    columns = [{key for value in values[name] for key in _hashes(value)} for name in names]
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
    yield from (int(number) for number in hashes_of_numbers(np.array(numbers, np.int64)))


WantedGroups = Mapping[str, Sequence[Any]]
GroupNames = frozenset[tuple[str, str]]  # columns, and what groups are called in them


def reduce_groups(
    folded: Folded,
    names: Sequence[str],
    values: WantedGroups,
    spans: GivenSpans | None,
    coverage: Span,
) -> ReducedBook | None:
    """Return the groups with wanted values, added up by some of their columns; None where there
    are none.
    """
    keep = groups_with(folded.groups, values)
    if not keep.any():
        return None
    own = None if spans is None else group_spans(spans, folded, coverage, part=True)
    places = np.flatnonzero(keep)
    fewer, onto = folded.groups.at(places).onto(names)
    target = np.full(folded.groups.count, -1)
    target[places] = onto
    cells = folded.cells
    if list(names) != folded.groups.names or not keep.all():
        cells = cells.regroup(target, fewer.count)
    reduced = replace(folded, groups=fewer.drop_unused(), cells=cells)
    if own is None:
        return ReducedBook(reduced)
    return ReducedBook(reduced, GroupSpans(*_ends(own, target, fewer.count), own.asked))


def _ends(own: GroupSpans, target: Ints, count: int) -> tuple[Ints, Ints]:
    lo, hi = own.onto(target, count, np.iinfo(np.int64).max)
    return lo, hi


def groups_with(groups: Groups, wanted_values: WantedGroups) -> Flags:
    """Return which groups bear wanted values; those of other shards are passed over."""
    keep = np.ones(groups.count, bool)
    for name, values in values_present(groups, wanted_values).items():
        keep &= groups.matching({name: values}) if values else False
    return keep


def values_present(groups: Groups, wanted_values: WantedGroups) -> dict[str, list[Any]]:
    """Return the wanted values that occur, column by column."""
    values_by_name = {}
    for name, values in wanted_values.items():
        choices = groups.coded[name].choices
        values_by_name[name] = [
            value for value in values if _value_occurs(groups, name, choices, value)
        ]
    return values_by_name


def _value_occurs(groups: Groups, name: str, choices: Any, value: Any) -> bool:
    """Return whether a value occurs; None alone is the blank (see `resolve_blanks`)."""
    words = [None] if value is None else [str(word) for word in choices.to_list()]
    if value is not None and str(value) not in words:
        return False
    return bool((groups.coded[name].codes == code_of(name, choices, value)).any())


def resolve_blanks(
    shards: Shards, wanted_values: Mapping[str, list[Any]]
) -> Mapping[str, list[Any]]:
    """Return wanted values of which those that may represent the blank do so, unless a group of any
    shard is called so.
    """
    doubtful = {n: [v for v in values if _may_be_blank(v)] for n, values in wanted_values.items()}
    if not any(doubtful.values()):
        return wanted_values
    matched = shards.reduce(partial(_match_words, names=doubtful), _union_of) or frozenset()
    return {
        name: [
            None if _may_be_blank(value) and (name, str(value)) not in matched else value
            for value in values
        ]
        for name, values in wanted_values.items()
    }


def _may_be_blank(value: Any) -> bool:
    return value is not None and str(value) in ("", BLANK)


def _match_words(shard: int, folded: Folded, names: WantedGroups) -> GroupNames:
    """Return what groups of a shard are called of some words, with their columns."""
    values_by_name = values_present(folded.groups, names)
    return frozenset(
        (name, str(value)) for name, values in values_by_name.items() for value in values
    )


def _union_of(one: GroupNames, two: GroupNames) -> GroupNames:
    return one | two
