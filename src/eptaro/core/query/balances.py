"""Balances of accounts: the last row of each, carried forward until the next.

A row puts its account's balance in the row's group, and takes the one before away from the group
where that was. Added up by group and day, these movements give the balances at the end of any day.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.cells import Cells, Plane
from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.selected import ValueLists
from eptaro.core.aggregation.sums import RunningSum, Sum
from eptaro.core.calendars.days import Ints, as_date
from eptaro.core.kernels import bigint
from eptaro.core.kernels.range_sums import running_sums
from eptaro.core.kernels.sorting import stable_order
from eptaro.core.measures.term import Term
from eptaro.core.results.column import Column, ColumnKind
from eptaro.errors import QuestionError
from eptaro.record import record

_DAYS = 1 << 32  # more than there are, for keys of group and day


@record
class Balances:
    """The movements of the groups of a view, in the order of `keys`, `group * 2**32 + day`."""

    keys: Ints
    amounts: RunningSum
    accounts: Ints  # how many accounts came into the group before each movement

    @classmethod
    def of(cls, folded: Folded, term: Term, places: Ints) -> Balances:
        """Return the balances of a term; `places` is the group of the view that each of the book
        is in, -1 for one that is left out.

        `places` is `(n_groups,)`.

        Raises `QuestionError` where an account has rows of several groups on one day, as which is
        the last is not known then, and where dates have times.
        """
        name = f"movements of {term.members}"
        if name not in folded.cache:
            folded.cache[name] = _Movements.of(folded, term)
        moved: _Movements = folded.cache[name]
        place = places[moved.group]
        rows = np.flatnonzero(place >= 0)
        keys = place[rows].astype(np.int64) * _DAYS + moved.day[rows]
        order = stable_order(keys)
        rows = rows[order]
        amounts = Sum.of(moved.amount[rows], moved.kind, moved.scale).prefix()
        return cls(keys[order], amounts, running_sums(moved.step[rows]))

    def at_end_of(self, group: Ints, day: Ints) -> Column:
        """Return the balance of each row's group at the end of its day, `(n_rows,) int64` each;
        blank where no account has one yet.
        """
        lo = np.searchsorted(self.keys, group * _DAYS)
        hi = np.searchsorted(self.keys, group * _DAYS + day, side="right")
        hi = np.maximum(lo, hi)
        balances = self.amounts.between(lo, hi)
        return balances.blanked(self.accounts[hi] > self.accounts[lo])


class _Movements(NamedTuple):
    """What comes into groups of the book, and leaves them, on days; `step` is 1 or -1 account."""

    group: Ints
    day: Ints
    amount: NDArray[Any]
    step: Ints
    kind: ColumnKind
    scale: int

    @classmethod
    def of(cls, folded: Folded, term: Term) -> _Movements:
        """Return the movements of the accounts of a term."""
        assert term.members is not None and term.members.values is not None
        if folded.timed:
            raise QuestionError(
                f"{term} takes the last row of each day in the order of the input, and these dates "
                f"have times; put the rows in order, and give their days as "
                f"date='date(year(on), month(on), day(on))'"
            )
        owners, values = (
            _list_of(folded.cells, plane)
            for plane in (
                Plane("codes", term.members.codes.name),
                Plane("values", term.members.values.name),
            )
        )
        axis = folded.cells.axis
        group, day = np.divmod(axis.all_keys[owners.cell], axis.days)
        order = stable_order(owners.value.astype(np.int64) * axis.days + day)
        account, day, group = owners.value[order], day[order] + axis.first_day, group[order]
        again = (account[1:] == account[:-1]) & (day[1:] == day[:-1])
        mixed = np.flatnonzero(again & (group[1:] != group[:-1]))
        if len(mixed):
            at = int(mixed[0])
            word = folded.distinct[term.members.codes.name].to_list()[int(account[at])]
            raise QuestionError(
                f"{term}: {word!r} has rows of several groups on {as_date(int(day[at]))}, and "
                f"which is its last is not known; group by fewer columns"
            )
        last = np.flatnonzero(np.append(~again, True)) if len(day) else order
        account, day, group = account[last], day[last], group[last]
        value = values.value[order[last]]
        later = np.flatnonzero(account[1:] == account[:-1]) + 1
        gone = value[later - 1]
        gone = -gone if values.kind == "float" else bigint.multiply(gone, -1)
        return cls(
            np.concatenate([group, group[later - 1]]),
            np.concatenate([day, day[later]]),
            np.concatenate([value, gone]),
            np.repeat([1, -1], [len(day), len(later)]),
            values.kind,
            values.scale,
        )


def _list_of(cells: Cells, plane: Plane) -> ValueLists:
    lists = cells.tallies[plane]
    assert isinstance(lists, ValueLists)
    return lists
