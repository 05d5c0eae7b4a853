"""Running totals: this period over those before it, along the months of the period."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.span import Span
from eptaro.core.results.format import format_column
from eptaro.core.results.result import Result
from eptaro.core.verbs.comparison.sides import Sides, of_to_date
from eptaro.core.verbs.queries import Accumulate, Compare
from eptaro.plots.groups import calendar_of, group_names, panels_of, query_of, view_of
from eptaro.plots.page import Page
from eptaro.plots.timeaxis import Marks, day_marks, month_named, set_marks
from eptaro.plots.words import compact, end_labels, format_number, format_numbers

_NAMES = 96.0  # dots at the right for the labels of lines
_SAID = 34.0  # dots above for where a period is, in two lines


def draw_to_date(table: Result, page: Page, measures: Sequence[str]) -> None:
    """Draw running totals along the days of the period: the last over those before it.

    The gap is to the period before, up to the counterpart by date, as `compare` has it.
    """
    query = query_of(table, Accumulate)
    last = format_column(table.column("within"))[-1]
    so_far = "" if _is_over(table, query.within) else " so far"
    of = f"the {query.within}{so_far}, {last} over the periods before"
    by = group_names(table)
    each = f", by {' and '.join(by)}" if by else ""
    page.say(f"running totals of {', '.join(measures)}: {of}{each}")
    before = _day_before(table, query.within)
    right, above = (12.0, _SAID / 2) if by else (_NAMES, _SAID)
    panels = panels_of(
        page, table, measures, ending="_to_date", same_scale=False, right=right, above=above
    )
    for axes, part, name in panels:
        _draw_periods(page, axes, part, name, before, wide=not by)


def _is_over(table: Result, within: str) -> bool:
    """Return whether the last period drawn is drawn to its end."""
    calendar = calendar_of(table)
    if within not in calendar.levels:
        return False
    last = table.column("date" if "date" in table else "last").data[-1:].astype(np.int64)
    return bool(calendar.last_days(calendar.index_of(last, within), within)[0] == last[0])


def _day_before(table: Result, within: str) -> int | None:
    """Return the counterpart, in the period before, of the last day drawn, as `compare` has it."""
    view = view_of(table)
    if view is None or within not in view.calendar.levels or not len(table):
        return None
    last = table.column("date" if "date" in table else "last").data[-1:].astype(np.int64)
    now = Sides.of(view.calendar, within, view.calendar.index_of(last, within), last=last)
    prior = of_to_date(view, within, within, "date")(now, 1)
    return int(prior.last[0]) if prior.exists[0] else None


def _draw_periods(
    page: Page, axes: Any, part: Result, stem: str, day_before: int | None, *, wide: bool
) -> None:
    name, theme = f"{stem}_to_date", page.theme
    column = part.column(name)
    labels = np.array([str(word) for word in part.column("within").to_list()])
    titles = dict(zip(labels.tolist(), format_column(part.column("within")), strict=True))
    date = part.column("date" if "date" in part else "last").data.astype(np.int64)
    first = part.column("first").data.astype(np.int64)
    values = column.numbers()
    order = list(dict.fromkeys(labels))[-(1 + len(theme.earlier)) :]
    ends, longest = [], 1
    for back, label in enumerate(reversed(order)):
        mine = labels == label
        colour = theme.accent if not back else theme.earlier[back - 1]
        day = (date - first)[mine]
        longest = max(longest, int(day.max()) + 1)
        depth = 12 - back
        axes.plot(day, values[mine], color=colour, lw=1.5 if back else 2.6, zorder=depth)
        days = part.take(np.flatnonzero(mine)).column("date" if "date" in part else "last")
        tips = [
            f"{titles[label]} to {on}: {number}"
            for on, number in zip(days.to_list(), format_numbers(column, values[mine]), strict=True)
        ]
        page.tip_points(axes, day, values[mine], tips)
        ends.append((float(day[-1]), float(values[mine][-1]), titles[label], theme.soft))
    x, value = ends[0][0], ends[0][1]
    axes.plot([x], [value], "o", color=theme.accent, ms=6, zorder=20)
    sentence = f"{titles[order[-1]]}: {format_number(column, value)}"
    if len(order) > 1:
        mine = (labels == order[-2]) & (date == day_before)
        before = values[mine][0] if mine.any() else np.nan
        if before == before and value == value:
            axes.plot([x, x], [before, value], color=theme.warm, lw=2.2, zorder=19)
            side = "above" if value >= before else "below"
            gap = format_number(column, abs(value - before))
            sentence += f"\n{gap} {side} {titles[order[-2]]} at this point"
            if not wide or max(map(len, sentence.split("\n"))) * 8.6 > page.dots(axes)[0]:
                sentence = f"{compact(abs(value - before), column)} {side} so far"
    _axis(page, axes, part, longest)
    page.format_axis(axes, column)
    axes.margins(y=0.06)
    axes.autoscale_view(scalex=False)
    low, high = axes.get_ylim()
    if np.nanmin(values, initial=0.0) >= 0:
        low = 0.0
    axes.set_ylim(low, high)
    axes.annotate(
        sentence,
        (0, 1),
        xytext=(0, 4),
        xycoords="axes fraction",
        textcoords="offset points",
        va="bottom",
        size=9.5,
        color=theme.accent,
        weight="bold",
        zorder=22,
    )
    if wide:
        end_labels(page, axes, ends[1:], right=longest * 1.005)


def _axis(page: Page, axes: Any, part: Result, longest: int) -> None:
    """Name the days across by the months of the last period."""
    calendar = calendar_of(part)
    query = query_of(part, Accumulate)
    first = int(part.column("first").data[-1])
    last = first + longest - 1
    if query.within in calendar.levels:
        last = int(
            calendar.last_days(calendar.index_of(np.array([first]), query.within), query.within)[0]
        )
    set_period_marks(page, axes, calendar, (first, last), longest)


def set_period_marks(
    page: Page, axes: Any, calendar: Calendar, period: tuple[int, int], longest: int
) -> None:
    """Mark an axis of days of a period, from 0, by the months, or days, of that period; the
    axis is as long as the longest period drawn.
    """
    first, last = period
    room = page.dots(axes)[0]
    span = Span.of(first, last)
    if span.days > 100 and "month" in calendar.levels:
        months = calendar.periods(span, "month")
        inside = months.first >= first
        places = [float(day - first) for day in months.first[inside]]
        words = [month_named(int(day)) for day in months.first[inside]]
        marks = Marks(places, words)
    else:
        days = day_marks(calendar, first, last, room)
        marks = Marks(
            [place - first for place in days.places],
            [word.partition("\n")[0] for word in days.words],
        )
    set_marks(page, axes, marks, -0.5, max(last - first, longest - 1) * 1.005 + 0.5)


def draw_day_by_day(table: Result, page: Page, measures: Sequence[str]) -> None:
    """Draw a period to date, day by day, over its counterpart."""
    query = query_of(table, Compare)
    now, before = (format_column(table.column(n))[-1] for n in ("period", "prior_period"))
    page.say(
        f"running totals of {', '.join(measures)}, each day of {now} against its counterpart in "
        f"{before} (match {query.match})"
    )
    page.legend(("line", page.theme.accent, now), ("line", page.theme.earlier[0], before))
    for axes, part, name in panels_of(page, table, measures, same_scale=False):
        _draw_last_and_prior(page, axes, part, name)


def _draw_last_and_prior(page: Page, axes: Any, part: Result, name: str) -> None:
    """Draw the last period of some rows over its counterpart."""
    column = part.column(name)
    periods = np.array([str(period) for period in part.column("period").to_list()])
    rows = part.take(np.flatnonzero(periods == periods[-1]))
    day = rows["day"] - 1
    for own, dates, colour in (
        (f"{name}_prior", "prior_last", page.theme.earlier[0]),
        (name, "last", page.theme.accent),
    ):
        values = rows.column(own).numbers()
        axes.plot(day, values, color=colour, lw=2.6 if own == name else 1.6)
        numbers = zip(rows.column(dates).to_list(), format_numbers(column, values), strict=True)
        page.tip_points(axes, day, values, [f"to {on}: {number}" for on, number in numbers])
    axes.plot(day[-1:], rows.column(name).numbers()[-1:], "o", color=page.theme.accent, ms=6)
    first, last = (int(rows.column(end).data[-1]) for end in ("first", "last"))
    calendar, per = calendar_of(part), query_of(part, Compare).per
    whole = calendar.last_days(calendar.index_of(np.array([first]), per), per)
    set_period_marks(page, axes, calendar, (first, int(whole[0])), last - first + 1)
    page.format_axis(axes, column)
    axes.margins(y=0.08)
    if np.nanmin(rows.column(name).numbers(), initial=0.0) >= 0:
        axes.set_ylim(bottom=min(0.0, axes.get_ylim()[0]))
