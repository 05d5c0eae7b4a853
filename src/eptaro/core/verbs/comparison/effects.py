"""Calendar effects: how much of a change comes from the days that two spans are made of.

A span of more workdays takes more, with nothing sold better. The effect of a day type
is its mean over the prior side times the difference in the number of such days; where the
prior side had none, the mean of the current side is in. What is left of the change is
the rest: what happened on like days. Effects and rest add up to the change exactly.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.aggregation.sums import Sum
from eptaro.core.calendars.days import Days, Flags, Ints, weekday
from eptaro.core.calendars.levels import WEEKDAYS
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.kernels import bigint
from eptaro.core.kernels.range_sums import running_sums
from eptaro.core.measures.measure import Measure
from eptaro.core.query.view import View
from eptaro.core.results.column import Column, ColumnKind
from eptaro.core.results.format import DisplayHint, Priority
from eptaro.core.verbs.comparison.sides import Sides
from eptaro.core.verbs.queries import EFFECTS, Effect
from eptaro.errors import QuestionError, unknown

_PLACES = 2  # decimals of effects at least, so that those of counts are not all rounded away


DayKinds = tuple[Sequence[str], Callable[[Days], Ints]]


def kinds_of_day(effects: Effect, workdays: Workdays) -> DayKinds:
    """Return the kinds that days are distinguished by: their names, and the kind of each day."""

    def worked(days: Days) -> Ints:
        off = np.where(workdays.is_weekend(days), 1, 2)
        return np.where(workdays.is_workday(days), 0, off)

    match effects:
        case "days":
            return ("days",), lambda days: np.zeros(len(days), np.int64)
        case "workdays":
            return ("workdays", "weekends", "holidays"), worked
        case "weekdays":
            return [f"{name}s" for name in WEEKDAYS], weekday
        case _:
            raise QuestionError(unknown("value for effects", effects, EFFECTS))


class Effects:
    """The numbers of days of each kind on both sides, and what they do to measures."""

    def __init__(self, view: View, effects: Effect, group: Ints, now: Sides, prior: Sides) -> None:
        """Count the days of each kind on both sides; `group` is `(n_rows,)`."""
        self._view, self._group, self._sides = view, group, (now, prior)
        self._names, kind_of = kinds_of_day(effects, view.facts.workdays)
        lo = int(min(now.first.min(), prior.first.min()))
        hi = int(max(now.last.max(), prior.last.max()))
        kinds = kind_of(np.arange(lo, hi + 1))
        self._counts = []
        for side in self._sides:
            counts = []
            for kind in range(len(self._names)):
                so_far = running_sums((kinds == kind).astype(np.int64))
                counts.append(so_far[side.last - lo + 1] - so_far[side.first - lo])
            self._counts.append(counts)
        self._kind_of = kind_of

    def day_columns(self, exists: Flags) -> list[Column]:
        """Return how many days of each kind the two sides have. `exists` is `(n_rows,)`."""
        columns = []
        for kind, name in enumerate(self._names):
            now, prior = (counts[kind] for counts in self._counts)
            text = f"{name.capitalize()} on the"
            columns += [
                Column.of(
                    name,
                    "integer",
                    now,
                    unit="days",
                    description=f"{text} current side",
                    face=DisplayHint(name, Priority.DETAIL),
                ),
                Column.of(
                    f"{name}_prior",
                    "integer",
                    prior,
                    exists,
                    unit="days",
                    description=f"{text} prior side",
                    face=DisplayHint(f"prior {name}", Priority.DETAIL),
                ),
            ]
        return columns

    @np.errstate(over="ignore", invalid="ignore")  # what floats do not hold is blank
    def columns(self, measure: Measure, change: Column) -> list[Column]:
        """Return a measure's effect of each day type, and the rest of its change.

        Measures whose parts do not add up have none.
        """
        if measure.additive_plane is None:
            return []
        keep = ~change.blank
        places = 0 if change.kind == "float" else max(change.scale, _PLACES)
        rest: NDArray[Any] = change.numbers() if not places else change.data
        if places:
            rest = bigint.widen(change.data) * 10 ** (places - change.scale)
        columns = []
        for kind, name in enumerate(self._names):
            effect = self._effect(measure, kind, places)
            rest = rest - effect
            text = f"Change of {measure.name} from the number of {name}"
            columns.append(
                _effect_column(measure, f"effect_of_{name}", effect, keep, places, change, text)
            )
        text = f"{measure.name}_change without these effects: what happened on like days"
        return [*columns, _effect_column(measure, "rest", rest, keep, places, change, text)]

    def _effect(self, measure: Measure, kind: int, places: int) -> NDArray[Any]:
        """Return mean of the kind times difference in number; decimals in whole units."""
        sums = [self._sum(measure, kind, side, places) for side in self._sides]
        now, prior = (counts[kind] for counts in self._counts)
        has_prior = prior > 0
        total = np.where(has_prior, sums[1], sums[0])
        days = np.maximum(np.where(has_prior, prior, now), 1)
        if not places:
            effect = np.asarray(total * (now - prior) / days)
            beyond = ~np.isfinite(effect)  # perhaps in between alone
            return (
                np.where(beyond, total / days * (now - prior), effect) if beyond.any() else effect
            )
        doubled = 2 * total * (now - prior) + days  # rounds to the nearest unit, halves up
        return np.asarray(doubled // (2 * days))

    def _sum(self, measure: Measure, kind: int, side: Sides, places: int) -> NDArray[Any]:
        plane = measure.additive_plane
        assert plane is not None
        view = self._view.table(measure.term.table)
        tally = view.cells.tallies[plane]
        assert isinstance(tally, Sum)
        _, day = view.cells.axis.cells_of()
        ours = self._kind_of(day) == kind
        rest = None if tally.rest is None else np.where(ours, tally.rest, 0.0)
        sums = Sum(np.where(ours, tally.whole, 0), rest, tally.kind, tally.scale).prefix()
        coverage, axis = view.coverage, view.cells.axis
        first, last = np.maximum(side.first, coverage.lo), np.minimum(side.last, coverage.hi)
        sums_between = sums.between(*axis.bounds(self._group, first, last))
        return (
            bigint.widen(sums_between.data) * 10 ** (places - sums_between.scale)
            if places
            else sums_between.numbers()
        )


def _effect_column(
    measure: Measure,
    part_name: str,
    data: NDArray[Any],
    keep: Flags,
    places: int,
    like: Column,
    text: str,
) -> Column:
    """Return the column of an effect; `data` and `keep` are `(n_rows,)`."""
    kind: ColumnKind = "decimal" if places else "float"
    keep = keep if places else keep & np.isfinite(data)
    data = np.where(keep, data, 0)
    return Column.of(
        f"{measure.name}_{part_name}",
        kind,
        data,
        keep,
        scale=places,
        format=like.format,
        description=text,
        face=DisplayHint(part_name.replace("_", " "), Priority.BESIDE, of=measure.name),
    )
