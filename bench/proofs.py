"""Random sessions whose numbers are proved: made again, one transaction at a time, by `prove`.

Used by `soak.py`. Transactions come in any order, with and without times, blanks, groups, and
values from cents to thousands of millions; questions and their options are drawn at random.
"""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Callable, Iterator
from decimal import Decimal
from typing import Any

import eptaro as ep

DAY = dt.timedelta(1)
LEVELS = ("year", "half", "quarter", "month", "week", "day")
ATTRIBUTES = ("hour", "weekday", "day of month", "week of month", "month", "quarter", "week",
              "workday", "holiday", "kind of day")  # fmt: skip
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
}


def values(rng: random.Random, count: int) -> list[Any]:
    """Return random values of one kind, some blank, the first never."""
    draw = DRAWN[rng.choice([*DRAWN])]
    return [draw(rng) if not n or rng.random() > 0.06 else None for n in range(count)]


def book(rng: random.Random, calendar: ep.Calendar) -> ep.Daybook:
    """Return a book of random transactions and measures."""
    start = dt.datetime(rng.randint(1960, 2030), rng.randint(1, 12), rng.randint(1, 28))
    reach, count = rng.choice([1, 5, 60, 400, 1100]), rng.choice([1, 2, 20, 200])
    timed = rng.random() < 0.6
    at: list[Any] = [start + DAY * rng.randrange(reach) for _ in range(count)]
    if timed:
        at = [
            moment + dt.timedelta(seconds=rng.choice([0, rng.randrange(86_400)])) for moment in at
        ]
    if rng.random() < 0.3:
        at.sort()
    frame = {
        "at": at if timed else [moment.date() for moment in at],
        "x": values(rng, count), "y": values(rng, count),
        "g": [rng.choice(["a", "b", "c", None]) for _ in at],
        "h": [rng.choice(["p", "q", None]) for _ in at],
    }  # fmt: skip
    rules = ep.DateRules(day_starts=rng.choice(["00:00", "04:00"])) if timed else None
    return ep.Daybook(
        frame, date="at", by=rng.choice([[], ["g"], ["g", "h"]]), calendar=calendar, dates=rules,
        measures=rng.sample(MEASURES, rng.randint(1, 5)),
    )  # fmt: skip


def question(rng: random.Random, asked: ep.Daybook) -> tuple[str, tuple[Any, ...], dict[str, Any]]:
    """Return a verb with random arguments."""
    by, first, last = asked.groups.names, asked.coverage.first, asked.coverage.last

    def day() -> dt.date:
        return first + DAY * rng.randrange((last - first).days + 1)

    common: dict[str, Any] = {
        "by": rng.choice([None, by, by[:1], by[-1:]]), "as_of": rng.choice([None, None, day()]),
        "only": rng.choice([None, None, None, f"{day()}..{last}", f"..{day()}"]),
    }  # fmt: skip
    if by and rng.random() < 0.2:
        common["only"] = {by[0]: rng.choice("ab")}
    match rng.randrange(8):
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
            more = {"to_date": True,
                    "match": rng.choice(["date", "elapsed", "weekday", "workday"])}  # fmt: skip
            return "compare", (rng.choice(LEVELS[:-2]),), common | more
        case 6:
            return "rhythm", tuple(rng.sample(ATTRIBUTES, rng.choice([1, 2]))), common
    return "card", (), {name: value for name, value in common.items() if name != "only"}


def proofs(rng: random.Random, calendar: ep.Calendar) -> Iterator[tuple[str, int, bool]]:
    """Yield, for each of eight questions, its words, how many numbers, and whether all agreed."""
    asked = book(rng, calendar)
    for _ in range(8):
        verb, arguments, options = question(rng, asked)
        said = f"{verb} {arguments} {options} of {[*map(str, asked.measures)]}"
        try:
            yield said, asked.prove(getattr(asked, verb)(*arguments, **options), sample=5), True
        except ep.QuestionError:
            continue  # what has no answer is refused
        except Exception as error:  # whatever it is, it is a failure to be told
            yield f"{said}: {error}", 1, False
