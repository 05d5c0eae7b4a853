"""Random sessions whose numbers are proved: made again, one transaction at a time, by `prove`.

Used by `soak.py`. Transactions come in any order, with and without times, blanks, groups, and
values from cents to the ends of 64 bits and of floats; questions and their options are drawn
at random. Every question is asked twice: of the book itself, and of one of the same rows that
came about another way (see `routes.py`).
"""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Callable, Iterator
from decimal import Decimal
from typing import Any

import pyarrow as pa
from routes import ROUTES, answers_alike, fits_database, typed, zones

import eptaro as ep

DAY = dt.timedelta(1)
LEVELS = ("year", "half", "quarter", "month", "week", "day")
ATTRIBUTES = ("hour", "weekday", "day of month", "week of month", "month", "quarter", "week",
              "workday", "holiday", "day type")  # fmt: skip
UNITS = ("days", "weeks", "months", "quarters", "years", "workdays", "active days", "entries")
MEASURES = (
    *("s=sum(x)", "n=count()", "nx=count(x)", "a=mean(x)", "lo=min(x)", "hi=max(x)", "f=first(x)"),
    *("l=last(x)", "d=distinct(x)", "dg=distinct(h)", "sd=std(x)", "v=var(x)", "med=median(x)"),
    *("q=quantile(x, 0.9)", "r=sum(x)/count()", "r2=sum(y)/sum(x)", "top=max(sum(x) per day)"),
    *("avg=mean(sum(x) per active day)", "wd=mean(count() per workday)", "sy=sum(y)"),
    *("wk=max(sum(x) per week)", "mo=median(sum(x) per month)", "fy=first(y)"),
)
DRAWN: dict[str, Callable[[random.Random], Any]] = {
    "whole": lambda rng: rng.randint(-50, 50),
    "cents": lambda rng: Decimal(rng.randint(-9999, 99999)).scaleb(-2),
    "float": lambda rng: rng.choice([rng.uniform(-100, 100), rng.uniform(-1, 1) * 1e9]),
    "ends of 64 bits": lambda rng: rng.choice([1, -1]) * (2 ** rng.choice([40, 53, 61, 62])
                                                          + rng.randint(-3, 3)),
    "18 decimals": lambda rng: Decimal(rng.choice([rng.randint(-(10**18), 10**18),
                                                   rng.randint(-5, 5) * 10**18])).scaleb(-18),
    "ends of floats": lambda rng: rng.choice([1e308, -1e308, 1e200, -3e20, 0.25, -0.0, 7.5]),
}  # fmt: skip
WEEKS = {"week": 1, "month": 4, "quarter": 13, "half": 26, "year": 52}


def values(rng: random.Random, count: int) -> list[Any]:
    """Return random values of one kind, some blank, the first never."""
    draw = DRAWN[rng.choice([*DRAWN])]
    return [draw(rng) if not n or rng.random() > 0.06 else None for n in range(count)]


def book(
    rng: random.Random, calendar: ep.Calendar
) -> tuple[ep.Daybook, str, ep.Daybook | None]:  # fmt: skip
    """Return a book of random transactions and measures, and how another of the same rows came
    about, with that book, if that way takes them.
    """
    start = dt.datetime(rng.randint(1960, 2030), rng.randint(1, 12), rng.randint(1, 28))
    reach, count = rng.choice([1, 5, 60, 400, 1100]), rng.choice([1, 2, 20, 200])
    timed = rng.random() < 0.4
    at: list[Any] = [start + DAY * rng.randrange(reach) for _ in range(count)]
    if timed:
        at = [
            moment + dt.timedelta(seconds=rng.choice([0, rng.randrange(86_400)])) for moment in at
        ]
    if rng.random() < 0.3:
        at.sort()
    table = typed({
        "at": at if timed else [moment.date() for moment in at],
        "x": values(rng, count), "y": values(rng, count),
        "g": pa.array([rng.choice(["a", "b", "c", None]) for _ in at], pa.string()),
        "h": pa.array([rng.choice(["p", "q", None]) for _ in at], pa.string()),
    })  # fmt: skip
    asked = {
        "date": "at", "by": rng.choice([[], ["g"], ["g", "h"]]), "calendar": calendar,
        "dates": ep.DateRules(day_starts=rng.choice(["00:00", "04:00"])) if timed else None,
        "measures": rng.sample(MEASURES, rng.randint(1, 5)),
    }  # fmt: skip
    plain = ep.Daybook(table, **asked)
    route = rng.choice([*ROUTES])
    if route in ("merged", "reopened") and asked["dates"]:
        asked["dates"] = None  # where days start is for a whole column to say
        plain = ep.Daybook(table, **asked)
    if route == "database" and not fits_database(table, asked):
        return plain, route, None
    return plain, route, ROUTES[route](table, asked, rng)


def question(rng: random.Random, asked: ep.Daybook) -> tuple[str, tuple[Any, ...], dict[str, Any]]:
    """Return a verb with random arguments."""
    by, first, last = asked.by, asked.coverage.first, asked.coverage.last

    def day() -> dt.date:
        return first + DAY * rng.randrange((last - first).days + 1)

    common: dict[str, Any] = {
        "by": rng.choice([None, by, by[:1], by[-1:]]), "as_of": rng.choice([None, None, day()]),
        "only": rng.choice([None, None, None, f"{day()}..{last}", f"..{day()}"]),
    }  # fmt: skip
    if by and rng.random() < 0.2:
        common["only"] = {by[0]: rng.choice(["a", "b", None])}
    match rng.randrange(9):
        case 0:
            best = f"-{asked.measures[0].name}"
            more = {"totals": rng.random() < 0.5, "subtotals": rng.choice([(), "year"]),
                    "top": rng.choice([None, 1]), "sort": rng.choice([None, best])}  # fmt: skip
            return "recap", (rng.choice(LEVELS),), common | more
        case 1:
            return "recap", (rng.choice(ATTRIBUTES),), common
        case 2:
            within = rng.choice([*LEVELS, "all", f"{first}.."])
            return "accumulate", (within,), common | {"every": rng.choice([*LEVELS, "day"])}
        case 3:
            more = {"every": rng.choice(["day", "month", "week", "entry"]),
                    "far_edge": rng.choice(["open", "closed"])}  # fmt: skip
            return "trail", (f"{rng.randint(1, 14)} {rng.choice(UNITS)}",), common | more
        case 4:
            back = rng.choice(["1 year", "1 month", "1 quarter", "2 years", "52 weeks", "1 week"])
            more = {"back": back, "periods": rng.choice([1, 2]), "mean_of": rng.choice([1, 1, 2]),
                    "align": rng.choice(["place", "restated"])}  # fmt: skip
            return "compare", (rng.choice(LEVELS[:-1]),), common | more
        case 5:
            more = {"to_date": True, "periods": rng.choice([1, 2, 3]),
                    "match": rng.choice(["date", "elapsed", "weekday", "workday"])}  # fmt: skip
            return "compare", (rng.choice(LEVELS),), common | more
        case 6:
            return "rhythm", tuple(rng.sample(ATTRIBUTES, rng.choice([1, 2]))), common
        case 7:
            at = asked.calendar.period_of(day(), rng.choice(asked.calendar.levels))
            against = rng.choice([str(at), str(at.year), f"{first}..{day()}"])
            more = {"against": against, "to_date": rng.random() < 0.3}
            return "compare", (rng.choice(LEVELS),), common | more
    return "card", (), {name: value for name, value in common.items() if name != "only"}


def proofs(rng: random.Random, calendar: ep.Calendar) -> Iterator[tuple[str, int, bool]]:
    """Yield, for each of eight questions, its words, how many numbers, and whether all agreed."""
    yield from zones(rng)
    try:
        asked, route, twin = book(rng, calendar)
    except ep.CalendarError:
        return  # days outside of a list
    except Exception as error:  # whatever it is, it is a failure to be told
        yield f"a book: {type(error).__name__}: {error}", 1, False
        return
    for _ in range(8):
        try:
            verb, arguments, options = question(rng, asked)
        except ep.EptaroError:
            continue  # of a list that ends there
        said = f"{verb} {arguments} {options} of {[*map(str, asked.measures)]}"
        table = _answer(asked, verb, arguments, options)
        if twin is not None:
            other = _answer(twin, verb, arguments, options)
            if table is None or other is None:
                needs_rows = options.get("every") == "entry" or "entries" in str(arguments)
                hours = "hour" in arguments
                yield f"{said} as {route}", 1, table is other or needs_rows or hours
            else:
                count = answers_alike(table, other)
                yield f"{said} as {route}", abs(count), count >= 0
        if table is None:
            continue
        if verb == "compare":
            yield f"{said}: its spans", len(table), _spans_hold(table, asked, options)
        try:
            yield said, asked.prove(table, sample=5), True
        except (ep.QuestionError, ep.MeasureError):
            continue  # what has no answer, or one too large to be shown, is refused
        except Exception as error:  # whatever it is, it is a failure to be told
            yield f"{said}: {type(error).__name__}: {error}", 1, False
    yield from weighted(rng, asked)


def _answer(
    asked: ep.Daybook, verb: str, arguments: tuple[Any, ...], options: dict[str, Any]
) -> ep.Table | None:
    """Return an answer, or None where the question is refused or a value does not fit."""
    try:
        table: ep.Table = getattr(asked, verb)(*arguments, **options)
    except ep.EptaroError:
        return None
    return table


def _spans_hold(table: ep.Table, asked: ep.Daybook, options: dict[str, Any]) -> bool:
    """Return whether the spans of periods to date lie as their match rule says."""
    if not options.get("to_date") or options.get("against"):
        return True
    match, step, calendar = options["match"], options.get("back", "1 year"), asked.calendar
    per = table.meta["per"]
    for row in table.rows():
        if row["prior_first"] is None:
            continue
        now, before = ((row[f"{side}last"] - row[f"{side}first"]).days for side in ("", "prior_"))
        period = calendar.period_of(row["prior_first"], per)
        if match == "weekday":
            moved = {(row[edge] - row[f"prior_{edge}"]).days for edge in ("first", "last")}
            if moved != {7 * WEEKS[step.split()[1]]}:
                return False
        elif match == "elapsed" or (match == "date" and not isinstance(calendar, ep.MonthCalendar)):
            whole = calendar.period_of(row["first"], per).last == row["last"]
            cut = row["prior_last"] == period.last and (row["prior_clamped"] or whole)
            if row["prior_first"] != period.first or (now != before and not cut and per != "day"):
                return False
        elif match == "date" and per not in ("week", "day"):
            want = ep.Span(row["first"], row["last"]).prior("year", calendar)
            if (want.first, want.last) != (row["prior_first"], row["prior_last"]):
                return False
    return True


def weighted(rng: random.Random, asked: ep.Daybook) -> Iterator[tuple[str, int, bool]]:
    """Yield whether weighted windows are what the values of their days come to."""
    weights = [rng.randint(1, 9) for _ in range(rng.randint(1, 4))]
    name = f"{asked.measures[0].name}_trailing"
    try:
        table = asked.trail(f"{len(weights)} days", weights=weights)
        days = asked.trail("1 day").column(name).numbers()
    except ep.EptaroError:
        return
    for row, got in enumerate(table.column(name).numbers().tolist()[:40]):
        own = days[max(row - len(weights) + 1, 0) : row + 1]
        if len(own) < len(weights):
            yield f"weights {weights}", 1, got != got
            continue
        want = sum(w * v for w, v in zip(weights, own.tolist(), strict=True)) / sum(weights)
        same = (got != got and want != want) or abs(got - want) <= 1e-9 * max(abs(want), 1)
        yield f"weights {weights} row {row}: {got} and not {want}", 1, same or abs(want) > 1e300
