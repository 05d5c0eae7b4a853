"""Columns beside a comparison: change per day, contribution to the whole change, standing."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints, civil
from eptaro.core.folds.planes import ROWS
from eptaro.core.measures.measure import Measure
from eptaro.core.questions.view import View
from eptaro.core.questions.whole import Sums
from eptaro.core.tables.column import Column
from eptaro.core.tables.face import Face, Rank
from eptaro.core.verbs.compare.sides import Sides

_YEAR = 365.2425  # days
_STANDINGS = ("new", "lost")


def detail_columns(
    view: View,
    measure: Measure,
    now: Column,
    prior: Column,
    days: tuple[NDArray[Any], NDArray[Any]],
    place: Ints,
    keep: Flags,
) -> list[Column]:
    """Return a measure's change per day and, where it adds up, each group's contribution.

    The change per day sets spans of unlike length on equal terms. The contribution is the
    group's change over the prior value of all groups of the period: the contributions of
    a period add up to the change ratio of the whole. Both are blank unless comparable.
    """
    one, two = now.numbers(), prior.numbers()
    name = measure.name
    with np.errstate(over="ignore", invalid="ignore"):
        per_day = one / days[0] - two / np.maximum(days[1], 1)
    filled = keep & np.isfinite(per_day)
    found = [
        Column.of(
            f"{name}_change_per_day",
            "float",
            np.where(filled, per_day, 0.0),
            filled,
            format=now.format,
            description=f"{name} per day less {name}_prior per day",
            face=Face("change per day", Rank.BESIDE, of=name),
        )
    ]
    if measure.additive_plane is None:
        return found
    with np.errstate(over="ignore", invalid="ignore"):
        change = np.where(keep, np.nan_to_num(one - two), 0.0)
    groups, count = view.groups.count, int(place.max(initial=-1)) + 1
    sums = Sums.of(groups, prior.blanked(keep), place, count)
    whole = np.abs(view.of_all(f"{name}_contribution", sums).numbers())[place]
    valid = keep & (whole > 0) & np.isfinite(whole)
    with np.errstate(over="ignore"):
        ratio = np.divide(change, whole, out=np.zeros(len(change)), where=valid)
    valid &= np.isfinite(ratio)
    text = f"{name}_change over the prior value of all groups"
    found.append(
        Column.of(
            f"{name}_contribution",
            "float",
            ratio,
            valid,
            unit="ratio",
            description=text,
            face=Face("contribution", Rank.BESIDE, of=name),
        )
    )
    return found


@np.errstate(over="ignore", invalid="ignore")
def growth_column(
    measure: Measure, now: Column, prior: Column, sides: tuple[Ints, Ints], keep: Flags
) -> Column:
    """Return the rate at which a measure grew from the one side to the other, per year.

    That is (now / prior) ** (1 / years) - 1, the compound rate. Years go from first day to first
    day: in whole months where these are one day of their months, else in days of 365.2425 a
    year, the mean of the Gregorian calendar. Blank unless comparable, where a value is not above 0
    and where the sides begin less than a year apart, of which a rate per year says little.
    """
    one, two = now.numbers(), prior.numbers()
    dates = [civil(np.where(keep, first, 0)) for first in sides]
    months = (dates[0][0] - dates[1][0]) * 12 + dates[0][1] - dates[1][1]
    years = np.where(dates[0][2] == dates[1][2], months / 12, (sides[0] - sides[1]) / _YEAR)
    valid = keep & (one > 0) & (two > 0) & (np.abs(years) >= 1)
    rate = np.divide(one, two, out=np.ones(len(one)), where=valid)
    rate = rate ** np.divide(1.0, years, out=np.zeros(len(one)), where=valid) - 1.0
    valid &= np.isfinite(rate)
    name = measure.name
    text = f"Rate at which {name} grew per year since {name}_prior"
    face = Face("growth per year", Rank.BESIDE, of=name)
    return Column.of(
        f"{name}_growth_per_year",
        "float",
        np.where(valid, rate, 0.0),
        valid,
        unit="ratio",
        description=text,
        face=face,
    )


def standing_column(
    view: View, group: Ints, now: Sides, priors: Sequence[Sides], keep: Flags
) -> Column:
    """Return which groups are new (transactions now, none before) or lost (the other way)."""

    def seen(side: Sides) -> Flags:
        lo, hi = view.cells.axis.bounds(group, side.first, side.last)
        found: Flags = view.cells.sums(ROWS, lo, hi).data > 0
        return found

    here = seen(now)
    before = np.logical_or.reduce([seen(prior) for prior in priors])
    codes = np.where(here & ~before, 0, np.where(before & ~here, 1, -1))
    return Column.text(
        "standing",
        np.array(_STANDINGS),
        np.where(keep, codes, -1),
        description="new: none before; lost: none now",
        face=Face("standing", Rank.BESIDE),
    )
