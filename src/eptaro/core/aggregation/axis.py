"""`Axis`: which cell belongs to which group and day, dense or sparse."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.allocation import allocate, on_disk
from eptaro.core.kernels.parallel import parallel_for
from eptaro.core.kernels.range_sums import bounds, bounds_of_all, count_below
from eptaro.core.kernels.sorting import distinct_cells, joined_runs
from eptaro.record import record

# Cells; beyond, only occupied cells are kept. A dense axis needs no search for a cell, but room for
# every day of every group, which for many groups with few days each is mostly empty.
MOST_DENSE = 1 << 24


@record
class Axis:
    """Cells in the order of groups, then days.

    Dense: one cell for every group and day, at group * days + day. Sparse: `keys` holds
    that number for each occupied cell, in order. Either way `place` leads from a group
    and day to the first cell at or after it, and all prefix sums work alike.
    """

    groups: int
    first_day: int
    days: int
    keys: Ints | None = None

    def on_disk(self) -> Axis:
        """Return the axis with its keys in a file."""
        return self if self.keys is None else replace(self, keys=on_disk(self.keys))

    @property
    def size(self) -> int:
        """The number of cells."""
        return self.groups * self.days if self.keys is None else len(self.keys)

    @property
    def last_day(self) -> int:
        """The last day."""
        return self.first_day + self.days - 1

    def cell_of(self, group: Ints, day: Ints) -> Ints:
        """Return the first cell of each group at or after each day ordinal.

        All arrays are `(n,)`.
        """
        # A day after the last leads to the next group's first cell, which ends the range of this
        # one.
        key: Ints = group * self.days + np.clip(day - self.first_day, 0, self.days)
        return key if self.keys is None else count_below(self.keys, key)

    def bounds(self, group: Ints, first: Ints, last: Ints) -> tuple[Ints, Ints]:
        """Return the half-open range of cells of each group from its first to its last day; an
        empty one where the last comes before the first.

        All arrays are `(n_ranges,)`.
        """
        return bounds(self.keys, group, first, last, self.first_day, self.days)

    def bounds_of_all(self, first: Ints, last: Ints) -> tuple[Ints, Ints]:
        """Return the ranges of cells of the same spans of days for every group, group by group.

        `first` and `last` are `(n_spans,)`, the results `(n_groups * n_spans,)`.
        """
        return bounds_of_all(self.keys, self.groups, first, last, self.first_day, self.days)

    @property
    def all_keys(self) -> Ints:
        """The number group * days + day of every cell."""
        return np.arange(self.size) if self.keys is None else self.keys

    def cells_of(self) -> tuple[Ints, Ints]:
        """Return group and day ordinal of every cell."""
        group, day = np.divmod(self.all_keys, self.days)
        return group, day + self.first_day

    def same(self, other: Axis) -> bool:
        """Return whether two axes are surely one."""
        both_dense = self.keys is None and other.keys is None
        return self is other or (
            both_dense
            and (self.groups, self.first_day, self.days)
            == (other.groups, other.first_day, other.days)
        )

    def keys_in(self, other: Axis) -> Ints:
        """Return the key of each own cell on another axis."""
        if (self.first_day, self.days) == (other.first_day, other.days):
            return self.all_keys
        moved = self.first_day - other.first_day
        return self._anew(lambda group, day: group * other.days + (day + moved))

    def onto(self, other: Axis) -> Ints:
        """Return the place of each own cell on an axis that covers it."""
        keys = self.keys_in(other)
        return keys if other.keys is None else count_below(other.keys, keys)

    def regroup(self, target: Ints, count: int) -> tuple[Axis, Ints]:
        """Return the axis with group i renumbered to `target[i]` (-1: left out), and the
        place of each own cell on it, -1 where left out.

        `target` is `(n_groups,)`, the places are `(n_cells,)`.
        """
        # Cells that are left out get the key 0, so the others make room for it.
        left_out = bool((target < 0).any())  # these come first

        def key(group: Ints, day: Ints) -> Ints:
            new = target[group]
            return np.where(new < 0, 0, new * self.days + day + left_out)

        keys = self._anew(key)
        if self.keys is None:
            return Axis(count, self.first_day, self.days), keys - left_out
        unique, places = distinct_cells(keys, count * self.days + left_out)
        if left_out:
            some = int(len(unique) > 0 and unique[0] == 0)
            unique, places = unique[some:] - 1, places - some
        return Axis(count, self.first_day, self.days, unique), places

    def keys_of_groups(self, target: Ints, first: int, days: int) -> Ints:
        """Return the key of each own cell where its group is another, on an axis of other days.

        `target` is `(n_groups,)`, the keys are `(n_cells,)`.
        """
        moved = self.first_day - first
        return self._anew(lambda group, day: target[group] * days + (day + moved))

    def _anew(self, key: Callable[[Ints, Ints], Ints]) -> Ints:
        """Return what becomes of the group and the place of the day of each cell.

        The result is `(n_cells,)`; `key` takes arrays that are broadcast.
        """
        if self.keys is None:
            keys = allocate(self.size, np.int64, None)
            rows, day = keys.reshape(self.groups, self.days), np.arange(self.days)[None, :]

            def some_groups(of: slice) -> None:
                rows[of] = key(np.arange(of.start, of.stop)[:, None], day)

            parallel_for(some_groups, self.groups, each=self.days)
            return keys
        every = self.keys
        keys = allocate(len(every), np.int64, every)

        def some(of: slice) -> None:
            keys[of] = key(*np.divmod(every[of], self.days))

        parallel_for(some, len(every))
        return keys


def union_axis(axes: Sequence[Axis]) -> tuple[Axis, list[Ints | None]]:
    """Return an axis that has the cells of several, and the places of each one's there, None
    where they stay; groups are numbered alike in all.
    """
    first = min(axis.first_day for axis in axes)
    days = max(axis.last_day for axis in axes) - first + 1
    wide = Axis(max(axis.groups for axis in axes), first, days)
    # If one is dense already the result may be; two sparse ones stay sparse, however small.
    roomy = wide.size <= MOST_DENSE and any(axis.keys is None for axis in axes)
    if roomy or axes[0].same(wide):
        return wide, [None if axis.same(wide) else axis.keys_in(wide) for axis in axes]
    keys = [axis.keys_in(wide) for axis in axes]
    # Two runs are merged in one go; more are cheaper sorted together.
    if len(keys) == 2:
        unique, *onto = joined_runs(*keys)
    else:
        unique, places = distinct_cells(np.concatenate(keys), wide.size)
        onto = np.split(places, np.cumsum([len(part) for part in keys])[:-1])
    return Axis(wide.groups, first, days, unique), [*onto]


def union_renumbered(
    axes: Sequence[Axis], targets: Sequence[Ints], count: int
) -> tuple[Axis, list[Ints | None]]:
    """Return an axis that has the cells of several after group i of each is renumbered to its
    `target[i]`, and the places of each one's cells there.

    Each target is `(n_groups,) int64`, each of the places `(n_cells,) int64`.
    """
    first = min(axis.first_day for axis in axes)
    days = max(axis.last_day for axis in axes) - first + 1
    keys = [
        axis.keys_of_groups(target, first, days) for axis, target in zip(axes, targets, strict=True)
    ]
    if count * days <= MOST_DENSE:
        return Axis(count, first, days), [*keys]
    unique, places = distinct_cells(np.concatenate(keys), count * days)
    ends = np.cumsum([len(part) for part in keys])[:-1]
    return Axis(count, first, days, unique), [*np.split(places, ends)]


def cells_axis(group: Ints, day: Ints, count: int) -> tuple[Axis, Ints]:
    """Return an axis for cells of known groups and days, and the place of each on it.

    `group`, `day` and the places are `(n_cells,) int64`.
    """
    first = int(day.min())
    days = int(day.max()) - first + 1
    keys = group * days + (day - first)
    if count * days <= MOST_DENSE:
        return Axis(count, first, days), keys
    unique, places = distinct_cells(keys, count * days)
    return Axis(count, first, days, unique), places
