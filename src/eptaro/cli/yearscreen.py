"""A year of a calendar in the terminal: three months abreast, quarter by quarter."""

from __future__ import annotations

from itertools import zip_longest

from rich.text import Text

from eptaro.cli.screen.printed import Screen
from eptaro.outputs.yearplan import MonthBlock, WeekLine, YearPlan

_WIDTH = 31  # week number and seven days
_GAP = "   "


def print_year(plan: YearPlan, described: str) -> None:
    """Print a year: week numbers at the left of each line, weekends dim, holidays marked."""
    console = Screen(highlight=False)
    console.width = max(console.width, 4 * (_WIDTH + len(_GAP)))
    year = plan.year
    console.print(Text(f"{year.label}  {year.first}..{year.last}", style="bold"), _length(plan))
    console.print(described, style="dim")
    for row in _rows(plan):
        console.print()
        quarter = row[0].quarter
        if quarter and quarter.first == row[0].period.first:
            worked = plan.workdays.count(quarter.span)
            text = f"{quarter.label}  {quarter.first}..{quarter.last}"
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
    title = f"{period.label}  {period.first:%d %b}..{period.last:%d %b}"
    heads = " ".join(f"{day[:2].title():>3}" for day in plan.weekdays)
    made = [
        Text(title.ljust(_WIDTH), style="bold"),
        Text(f" wk{heads} ".ljust(_WIDTH), style="dim"),
    ]
    return [*made, *(_week(plan, line) for line in block.lines)]


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
