"""A slow, independent oracle: plain `datetime` and `fractions`, one row and one day at a time."""

from __future__ import annotations

import datetime as dt
import random
from decimal import Decimal
from fractions import Fraction
from typing import Any

DAY = dt.timedelta(1)
CIVIL = {"year_starts": "01-01", "year_named": "end"}
APRIL_END = {"year_starts": "04-01", "year_named": "end"}
SEPTEMBER_START = {"year_starts": "09-10", "year_named": "start"}
FISCAL_RULES = (CIVIL, APRIL_END, SEPTEMBER_START)
MONTHS_IN = {"year": 12, "half": 6, "quarter": 3, "month": 1}


def add_civil_months(day: dt.date, n: int) -> dt.date:
    """Move a day by civil months, clamped to the month's end."""
    years, month = divmod(day.year * 12 + day.month - 1 + n, 12)
    for number in range(day.day, 0, -1):
        try:
            return dt.date(years, month + 1, number)
        except ValueError:
            continue
    raise AssertionError


def year_start(day: dt.date, rule: dict[str, str]) -> dt.date:
    """Return the first day of the rule's year that holds a day."""
    month, number = map(int, rule["year_starts"].split("-"))
    start = dt.date(day.year, month, number)
    return start if start <= day else dt.date(day.year - 1, month, number)


def period(day: dt.date, level: str, rule: dict[str, str]) -> tuple[dt.date, dt.date, int, int]:
    """Return first day, last day, named year and number of the period holding a day."""
    begin = year_start(day, rule)
    end = add_civil_months(begin, 12) - DAY
    year = begin.year if rule["year_named"] == "start" else end.year
    first, number = begin, 1
    while add_civil_months(first, MONTHS_IN[level]) <= day:
        first, number = add_civil_months(first, MONTHS_IN[level]), number + 1
    return first, add_civil_months(first, MONTHS_IN[level]) - DAY, year, number


def week_numbers(day: dt.date, starts: int, first_days: int) -> tuple[int, int]:
    """Return week-year and week number (civil years) by counting days of each week."""
    first = day - DAY * ((day.weekday() - starts) % 7)
    week = [first + DAY * i for i in range(7)]
    later = sum(d.year == week[-1].year for d in week)
    year = week[-1].year if later >= first_days or later == 7 else week[0].year
    number, probe = 1, first - 7 * DAY
    while True:
        inside = [probe + DAY * i for i in range(7)]
        count = sum(d.year == year for d in inside)
        earlier = inside[0].year < year
        if (earlier and count < first_days) or count == 0:
            return year, number
        number, probe = number + 1, probe - 7 * DAY


def days(first: dt.date, last: dt.date) -> list[dt.date]:
    """Return all days of a span."""
    return [first + DAY * i for i in range((last - first).days + 1)]


def added(values: Any) -> Fraction | None:
    """Return what the values of some rows add up to: 0 of no rows, blank where all are missing."""
    values = list(values)
    filled = [Fraction(value) for value in values if value is not None]
    return sum(filled, Fraction(0)) if filled or not values else None


def exact(value: Any) -> Fraction | None:
    """Return a value of a table exactly."""
    return None if value is None else Fraction(value)


class Rows:
    """Transactions as (day, group, amount or None), questioned by plain loops."""

    def __init__(self, rows: list[tuple[dt.date, str, Decimal | None]]) -> None:
        self.rows = rows
        self.first = min(row[0] for row in rows)
        self.last = max(row[0] for row in rows)
        self.groups = sorted({row[1] for row in rows})

    def over(self, group: str | None, first: dt.date, last: dt.date) -> dict[str, Any] | None:
        """Return sum, count and mean over a span, or None where it is outside the coverage."""
        if last < self.first or first > self.last:
            return None
        hit = [r[2] for r in self.rows if group in (None, r[1]) and first <= r[0] <= last]
        filled = [Fraction(x) for x in hit if x is not None]
        mean = sum(filled) / len(filled) if filled else None
        return {"sum": added(hit), "count": len(hit), "mean": mean}

    def complete(self, first: dt.date, last: dt.date) -> bool:
        """Return whether a span lies wholly in the coverage."""
        return self.first <= first and last <= self.last


def random_rows(seed: int, size: int = 120, years: int = 3) -> Rows:
    """Return sparse random transactions: late groups, negatives, blanks, several a day."""
    rng = random.Random(seed)
    start = dt.date(rng.randint(1999, 2027), rng.randint(1, 12), rng.randint(1, 28))
    rows = []
    for _ in range(size):
        group = rng.choice("abc")
        day = start + DAY * rng.randint(0 if group != "c" else 200, 365 * years)
        amount = Decimal(rng.randint(-50_000, 500_000)).scaleb(-2)
        rows.append((day, group, None if rng.random() < 0.05 else amount))
    return Rows(rows)
