"""Answers that were proved once and must not change: questions of every kind, with all they show.

Each page of `known/` is a doctest about one book of `BOOKS`. Where an answer is to change,
`python -m tests.core.test_known` writes the pages anew; what changed then shows as a difference.
"""

from __future__ import annotations

import datetime as dt
import doctest
import hashlib
import itertools
import random
import re
import sys
import traceback
import unittest
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

import eptaro as ep
from eptaro.core.calendars.days import ordinal

PAGES = Path(__file__).parent / "known"
SHOWN = 3  # first rows that are written out; a fingerprint stands for all
WIDEST = 240  # characters of a row that are written out
DAY = dt.timedelta(1)
FERRIES = ["s=sum(x)", "n=count()", "each=sum(x)/count()", "lo=min(y)", "hi=max(y)", "l=last(y)"]
SPREAD = [
    "v=var(y)",
    "sd=std(x)",
    "med=median(x)",
    "q=quantile(y, 0.9)",
    "d=distinct(h)",
    "f=first(x)",
]
PER = ["top=max(sum(x) per day)", "avg=mean(sum(x) per active day)", "wk=min(count() per week)",
       "mo=median(sum(y) per month)", "a=mean(y)", "sy=sum(y)"]  # fmt: skip
BROKEN = ["s=sum(x)", "n=count(y)", "avg=mean(sum(x) per day)", "sd=std(sum(x) per day)", "v=var(x)",
          "whole=sum(mean(x) per active day)", "q=quantile(x, 0.3)"]  # fmt: skip
HUGE = ["s=sum(x)", "z=sum(z)", "vz=std(z)", "sd=std(sum(x) per day)", "hi=max(sum(z) per day)",
        "whole=sum(sum(x) per month)", "fz=first(z)"]  # fmt: skip
HOLIDAYS = ep.HolidaySet(
    [ep.Holiday(dt.date(2024, 5, 17), "Landfall"), ep.Holiday(dt.date(2025, 1, 1), "Year's day")]
)


def rows(seed: int, count: int, days: int, *, timed: bool = False) -> pa.Table:
    """Return transactions on random days, some values blank."""
    rng = random.Random(seed)
    at = [dt.datetime(2024, 2, 20) + DAY * rng.randrange(days) for _ in range(count)]
    if timed:
        at = [moment + dt.timedelta(seconds=rng.randrange(86_400)) for moment in at]
    cents = [rng.choice([None, *[Decimal(rng.randint(-900, 9900)).scaleb(-2)] * 9]) for _ in at]
    return pa.table({
        "at": at if timed else [moment.date() for moment in at],
        "x": pa.array(cents, pa.decimal128(12, 2)),
        "y": [rng.choice([None, *[rng.randint(-400, 4000) / 8] * 9]) for _ in at],
        "g": [rng.choice(["Aldmoor", "Brinefen", None]) for _ in at],
        "h": [rng.choice(["car", "foot"]) for _ in at],
    })  # fmt: skip


def unlike(seed: int, count: int, days: int) -> pa.Table:
    """Return transactions of very different sizes: fractions, floats beyond 64 bits, large integers."""
    rng = random.Random(seed)
    sizes = [0.1, 0.7, 33.3, 1e13 + 0.3, 1e15 + 0.25, 3e18, 2.0**63, 1.7e20]
    huge = [-(2**58), 2**58, 1 - 2**58, 2**58 - 3, 2**44, 1 - 2**45, 7]
    made = rows(seed, count, days)
    x = pa.array([rng.choice([None, *sizes]) for _ in range(count)], pa.float64())
    z = pa.array([rng.choice([None, *huge]) for _ in range(count)], pa.int64())
    return made.set_column(1, "x", x).append_column("z", z)


def listed() -> ep.ListedCalendar:
    """Return a calendar whose months are listed."""
    found, first = [], dt.date(2023, 1, 1)
    for month in range(36):
        last = first + DAY * (27 + month * 5 % 8)
        place = month % 12 + 1
        found.append({"year": 2023 + month // 12, "half": (place + 5) // 6, "quarter": (place + 2) // 3,
                      "month": place, "first": first, "last": last})  # fmt: skip
        first = last + DAY
    return ep.ListedCalendar("ledger", found)


def _weeks(**given: Any) -> ep.WeekCalendar:
    return ep.WeekCalendar("weeks", **{"year_ends": "01-31", **given})


BOOKS: dict[str, ep.Daybook] = {
    name: ep.Daybook(table, date="at", by=by, calendar=calendar, measures=measures, **more)  # type: ignore[arg-type]
    for name, table, by, calendar, measures, more in [
        ("plain", rows(1, 120, 500), ["g"], ep.MonthCalendar(), FERRIES, {}),
        ("fiscal", rows(2, 90, 460, timed=True), ["g", "h"],
         ep.MonthCalendar("fiscal", year_starts="04-06", year_named="start", prefix="FY"),
         FERRIES, {"workdays": ep.Workdays(holidays=HOLIDAYS), "formats": {"s": ep.Format("€", 1)}}),
        ("spread", rows(3, 150, 400), ["g", "h"],
         ep.MonthCalendar("own", week_starts="sunday", first_week_days=1), SPREAD, {}),
        ("per", rows(4, 60, 700, timed=True), ["g"], ep.MonthCalendar("own", year_starts="07-01"), PER,
         {"dates": ep.DateRules(day_starts="04:00")}),
        ("weeks", rows(5, 130, 800), ["g"], _weeks(), FERRIES, {"workdays": ep.Workdays(holidays=HOLIDAYS)}),
        ("thirteen", rows(6, 100, 800), ["h"],
         _weeks(pattern="13x4", ends="last", week_starts="saturday", year_named="start"), PER, {}),
        ("listed", rows(7, 80, 500), ["g"], listed(), FERRIES, {}),
        ("several", rows(8, 90, 500), ["g"], ep.OwnCalendars(
            "g", {"Aldmoor": _weeks(pattern="5-4-4"), "Brinefen": ep.MonthCalendar("brine", year_starts="10-01")},
            ep.MonthCalendar("other")), FERRIES, {}),
        ("broken", unlike(9, 100, 430).select(["at", "y", "g"]).append_column(
            "x", pa.array([(i * 37 % 900) / 30 - 7 for i in range(100)])), ["g"],
         ep.MonthCalendar("fiscal", year_starts="10-01"), BROKEN, {}),
        ("huge", unlike(10, 100, 430), ["g"], ep.MonthCalendar(), HUGE, {}),
    ]
}  # fmt: skip


def show(table: ep.Table) -> None:
    """Print what an answer holds: its first and last rows, and fingerprints of all and of its columns."""
    heads = [(c.name, c.kind, c.scale, c.unit, str(c.format), c.description) for c in table.columns]
    every = [" | ".join(map(_written, row.values())) for row in table.rows()]
    kept = every if len(every) <= SHOWN + 2 else [*every[:SHOWN], "...", every[-1]]
    print(" | ".join(table.names)[:WIDEST], *[f"  {row}"[:WIDEST] for row in kept], sep="\n")
    print(f"{len(every)} rows {_fingerprint(every)} of columns {_fingerprint(heads)}")
    print(table.footer)
    told = []
    for row in sorted({0, len(table) // 3, len(table) - 1}) if len(table) else ():
        for name in table.names[-4:]:
            try:
                trace = table.trace(row, name)
                told.append((name, _written_alike(str(trace)), _written(trace.plain)))
            except ep.EptaroError as error:
                told.append((name, str(error)))
    shown = _fingerprint([_written_alike(repr(table)), table.meta])
    print(f"{len(told)} traces {_fingerprint(told)}, shown {shown}")


def turn(calendar: ep.Calendar, first: str, last: str) -> None:
    """Print fingerprints of what a calendar says of the days of a span, by level."""
    days = np.arange(ordinal(first), ordinal(last) + 1)
    print(calendar.describe(), _fingerprint(calendar.settings()))
    for level in calendar.levels:
        index = calendar.index_of(days, level)
        years, numbers = calendar.numbers(index, level)
        found = [index, calendar.first_days(index, level), calendar.last_days(index, level), years, numbers,
                 *calendar.index_at(years + 1, numbers + 7, level), calendar.labels(index, level)]  # fmt: skip
        for n, wide in itertools.product((-1, 1, 13), calendar.levels):
            for ask in (calendar.move_days, calendar.shift):
                try:
                    found += [ask(days[::9], n, wide)]
                except ep.EptaroError as error:
                    found.append(str(error))
        lists = [
            [np.asarray(part).tolist() for part in (one if isinstance(one, tuple) else (one,))]
            for one in found
        ]
        steps = [wide for wide in calendar.levels if calendar.units(level, wide) is not None]
        print(
            level,
            calendar.period_of(first, level),
            calendar.period_of(last, level),
            steps,
            _fingerprint(lists),
        )


def _written(value: Any) -> str:
    return f"{value:.12g}" if isinstance(value, float) else str(value)


def _written_alike(text: str) -> str:
    """Return a text without the last digits of floats, which may be others on another machine."""
    return re.sub(
        r"\d[\d,]*\.\d{6,}(e[-+]\d+)?", lambda m: f"{float(m[0].replace(',', '')):.10g}", text
    )


def _fingerprint(found: Any) -> str:
    return hashlib.sha256(repr(found).encode()).hexdigest()[:12]


def given_to(page: str) -> dict[str, Any]:
    """Return what the questions of a page may name."""
    calendars = {f"of_{name}": book.calendar for name, book in BOOKS.items()}
    return {"show": show, "turn": turn, "ep": ep, "HOLIDAYS": HOLIDAYS, **calendars, **BOOKS}


class Known(unittest.TestCase):
    """The pages."""

    def test_all_books_are_asked(self) -> None:
        self.assertEqual({page.stem for page in PAGES.glob("*.txt")}, {*BOOKS, "calendars"})

    def check(self, name: str) -> None:
        """Hold the answers of one page."""
        page = PAGES / f"{name}.txt"
        given = {"module_relative": False, "globs": given_to(name)}
        found = doctest.testfile(str(page), optionflags=doctest.REPORT_NDIFF, **given)  # type: ignore[arg-type]
        self.assertGreater(found.attempted, 15)
        self.assertEqual(found.failed, 0)


def _held(name: str) -> Any:
    return lambda self: self.check(name)


for _name in (*BOOKS, "calendars"):
    setattr(Known, f"test_{_name}", _held(_name))


def rewrite(page: Path) -> None:
    """Write the answers of a page anew."""
    import contextlib
    import io

    said: list[str] = [f"Questions of {page.stem!r}.\n"]
    for example in doctest.DocTestParser().get_examples(page.read_text()):
        shown = io.StringIO()
        with contextlib.redirect_stdout(shown):
            try:
                exec(example.source, given_to(page.stem))
            except ep.EptaroError as error:
                kind = traceback.format_exception_only(error)[-1]
                shown.write(f"Traceback (most recent call last):\n{kind}")
        said.append(f">>> {example.source}{shown.getvalue()}")
    page.write_text("\n".join(said))


if __name__ == "__main__":
    for _page in sorted(PAGES.glob("*.txt")):
        rewrite(_page)
        sys.stdout.write(f"{_page.name} written\n")
