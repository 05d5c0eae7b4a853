"""The `calendar` commands: show a year, check years, export periods."""

from __future__ import annotations

from itertools import zip_longest
from pathlib import Path

import click
from rich.text import Text

from eptaro.cli.help import DEMO, QUESTION, HeadedCommand, option
from eptaro.cli.messages import notify
from eptaro.cli.options import CalendarOptions, OutputOptions, calendar_options, output_options
from eptaro.cli.screen import Terminal
from eptaro.cli.settings import Settings
from eptaro.cli.show import deliver
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.span import Span
from eptaro.errors import InputError
from eptaro.outputs.calendars import MonthBlock, WeekLine, YearPlan

_WIDTH = 31  # week number and seven days
_GAP = "   "


def print_year(plan: YearPlan, described: str) -> None:
    """Print a year: week numbers at the left of each line, weekends dim, holidays marked."""
    console = Terminal().console
    console.width = max(console.width, 4 * (_WIDTH + len(_GAP)))
    year = plan.year
    console.print(Text(f"{year.shown}  {year.first}..{year.last}", style="bold"), _length(plan))
    console.print(described, style="dim")
    for row in _rows(plan):
        console.print()
        quarter = row[0].quarter
        if quarter and quarter.first == row[0].period.first:
            worked = plan.workdays.count(quarter.span)
            text = f"{quarter.shown}  {quarter.first}..{quarter.last}"
            console.print(
                Text(text, style="bold underline"), f"{quarter.days} days, {worked} workdays"
            )
        for parts in zip_longest(*(_lines(plan, block) for block in row)):
            console.print(Text(_GAP).join(part or Text(" " * _WIDTH) for part in parts))
    if plan.holidays:
        console.print()
        console.print(Text("Holidays (*)", style="bold"))
        for day, name in plan.holidays.items():
            open_day = "  (a workday)" if plan.is_workday(day) else ""
            console.print(f"{day:%a} {day}  {name}{open_day}")


def _length(plan: YearPlan) -> str:
    weeks, rest = divmod(plan.year.days, 7)
    whole = f" ({weeks} weeks)" if not rest else ""
    return f"{plan.year.days} days{whole}, {plan.workdays.count(plan.year.span)} workdays"


def _rows(plan: YearPlan) -> list[list[MonthBlock]]:
    """Return the months in rows: those of one quarter together, at most three otherwise."""
    rows: list[list[MonthBlock]] = []
    for block in plan.blocks:
        if rows and (rows[-1][0].quarter == block.quarter if block.quarter else len(rows[-1]) < 3):
            rows[-1].append(block)
        else:
            rows.append([block])
    return rows


def _lines(plan: YearPlan, block: MonthBlock) -> list[Text]:
    period = block.period
    title = f"{period.shown}  {period.first:%d %b}..{period.last:%d %b}"
    heads = " ".join(f"{day[:2].title():>3}" for day in plan.weekdays)
    lines = [
        Text(title.ljust(_WIDTH), style="bold"),
        Text(f" wk{heads} ".ljust(_WIDTH), style="dim"),
    ]
    return [*lines, *(_week(plan, line) for line in block.lines)]


def _week(plan: YearPlan, line: WeekLine) -> Text:
    text = Text(f"{line.number:>3}", style="dim")
    for day in line.days:
        mark = "*" if day in plan.holidays else " "
        cell = f"{day.day:>3}{mark}" if day else "    "
        style = ""
        if day and mark == "*":
            style = "bold red"
        elif day and not plan.is_workday(day):
            style = "dim"
        text.append(cell, style=style or "not dim")
    return text


@click.group()
def calendar() -> None:
    """Show a year of any calendar, check its boundaries, export its periods."""


@calendar.command(
    cls=HeadedCommand,
    examples=(
        ("A year of the cafés' calendar", f"calendar show {DEMO} --calendar cafe --year 2025"),
        ("Any rule at hand", "calendar show --pattern 5-4-4 --year-ends 12-31 --year 2026"),
        ("As a picture", f"calendar show {DEMO} --calendar cafe --year 2025 --plot year.png"),
    ),
)
@option(QUESTION, "--year", type=int, required=True, help="The year, as the calendar names it.")
@option(
    QUESTION,
    "--plot",
    type=click.Path(path_type=Path),
    metavar="FILE",
    default=None,
    help="Draw it to a .png, .svg or .pdf instead.",
)
@calendar_options
def show(year: int, plot: Path | None, rules: CalendarOptions) -> None:
    """Show a year: its months, week numbers, quarters and holidays."""
    chosen_calendar, settings = _choose_calendar(rules)
    span = Span(f"{max(year, 2) - 1:04d}-01-01", f"{min(max(year, 2), 9998) + 1:04d}-12-31")
    plan = YearPlan.of(chosen_calendar, year, settings.workdays(span))
    if plot is not None:
        from eptaro.plots.yearsheet import draw_year

        notify(f"drawn to {draw_year(plan, chosen_calendar.describe(), plot)}")
        return

    print_year(plan, chosen_calendar.describe())


@calendar.command(
    cls=HeadedCommand,
    examples=(
        ("Which years have 53 weeks", f"calendar check {DEMO} --calendar cafe --years 2020..2030"),
        (
            "Where two calendars differ",
            f"calendar check {DEMO} --calendar cafe --years 2020..2030 --against fiscal",
        ),
    ),
)
@option(QUESTION, "--years", metavar="A..B", required=True, help="The years to list.")
@option(
    QUESTION,
    "--against",
    metavar="NAME",
    default=None,
    help="Another calendar of the config, to see which years differ.",
)
@calendar_options
@output_options
def check(years: str, against: str | None, rules: CalendarOptions, output: OutputOptions) -> None:
    """List years with their first and last days, lengths and weeks (52 or 53)."""
    from eptaro.outputs.calendars import check_years

    chosen_calendar, settings = _choose_calendar(rules)
    first, last = _years(years)
    other = settings.config.calendar(against) if against and settings.config else None
    if against and other is None:
        raise click.UsageError("--against needs a --config that defines the other calendar")
    if chosen_calendar.limits is None:
        chosen_calendar.grid(_span_of_years(chosen_calendar, first, last)).check()
    deliver(check_years(chosen_calendar, first, last, other), output)


@calendar.command(
    cls=HeadedCommand,
    examples=(
        (
            "Periods and holidays for a calendar program",
            f"calendar export {DEMO} --calendar cafe --years 2024..2026 --out p.ics",
        ),
        (
            "The periods as a list",
            f"calendar export {DEMO} --calendar cafe --years 2024..2026 --out periods.csv",
        ),
    ),
)
@option(QUESTION, "--years", metavar="A..B", required=True, help="The years to export.")
@calendar_options
@output_options
def export(years: str, rules: CalendarOptions, output: OutputOptions) -> None:
    """Export periods and holidays as .ics, or the periods as a list that can be read back."""
    from eptaro.outputs.calendars import list_periods, write_icalendar

    chosen_calendar, settings = _choose_calendar(rules)
    span, out = _span_of_years(chosen_calendar, *_years(years)), output.out
    if isinstance(out, Path) and out.suffix.lower() == ".ics":
        path = write_icalendar(chosen_calendar, span, settings.workdays(span), out)
        notify(f"written to {path}")
        return
    deliver(list_periods(chosen_calendar, span), output)


def _choose_calendar(rules: CalendarOptions) -> tuple[Calendar, Settings]:
    settings = Settings(rules)
    return settings.calendar(rules.calendar), settings


def _span_of_years(calendar: Calendar, first: int, last: int) -> Span:
    begins, ends = (calendar.period(f"{calendar.prefix}{year:04d}") for year in (first, last))
    return Span(begins.first, ends.last)


def _years(text: str) -> tuple[int, int]:
    first, dots, last = text.partition("..")
    try:
        years = int(first), int(last if dots else first)
    except ValueError:
        raise InputError(f"--years {text!r} is not a range of years; write 2020..2030") from None
    if not 1 <= years[0] <= years[1] <= 9998:
        raise InputError(f"--years {text!r} must run upwards within 1 to 9998")
    return years
