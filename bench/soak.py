"""Random whole sessions against a slow oracle, for a given time.

Run as `python bench/soak.py [seconds] [seed]`. Every session makes random transactions and a
random calendar, asks every verb, and checks numbers of every answer against plain Python:
each number checked is a case. Every third session is one of `proofs.py`, where a number is
checked by its trace, and every third one of `meetings.py`, features against features.
It prints how many cases and how many failures.
"""

from __future__ import annotations

import datetime as dt
import random
import sys
import time
from collections.abc import Iterator
from decimal import Decimal
from fractions import Fraction
from typing import Any

from meetings import Meeting
from meetings import sessions as features_against_features
from proofs import proofs

import eptaro as ep

DAY = dt.timedelta(1)


def calendar(rng: random.Random) -> ep.Calendar:
    """Return a random calendar."""
    kind = rng.random()
    if kind < 0.15:
        return listed(rng)
    if kind < 0.5:
        pattern = rng.choice(["4-4-5", "4-5-4", "5-4-4", "13x4"])
        return ep.WeekCalendar(
            "own", pattern=pattern, long_month=rng.randint(1, 13 if pattern == "13x4" else 12),
            year_ends=f"{rng.randint(1, 12):02d}-{rng.randint(1, 28):02d}",
            ends=rng.choice(["nearest", "last"]), year_named=rng.choice(["start", "end"]),
            week_starts=rng.choice(["monday", "saturday", "sunday"]),
        )  # fmt: skip
    return ep.MonthCalendar(
        "own", year_starts=f"{rng.randint(1, 12):02d}-{rng.randint(1, 28):02d}",
        year_named=rng.choice(["start", "end"]), first_week_days=rng.randint(1, 7),
        week_starts=rng.choice(["monday", "saturday", "sunday"]), prefix=rng.choice(["", "FY"]),
    )  # fmt: skip


def listed(rng: random.Random) -> ep.Calendar:
    """Return a calendar whose months are listed, from 25 to 35 days long."""
    rows, first = [], dt.date(1955, 1, 1)
    for year in range(1955, 2040):
        for month in range(1, 13):
            last = first + DAY * (rng.randint(25, 35) - 1)
            rows.append({"year": year, "half": (month + 5) // 6, "quarter": (month + 2) // 3,
                         "month": month, "first": first, "last": last})  # fmt: skip
            first = last + DAY
    return ep.ListedCalendar("own", rows)


class Session:
    """Random transactions, and the plain totals of any span of their days."""

    def __init__(self, rng: random.Random) -> None:
        self.rng = rng
        start = dt.date(rng.randint(1990, 2030), rng.randint(1, 12), rng.randint(1, 28))
        reach = rng.choice([5, 60, 400, 1100])
        self.rows = sorted(
            ((start + DAY * rng.randrange(reach), rng.choice("abc"),
              None if rng.random() < 0.05 else Decimal(rng.randint(-9999, 99999)).scaleb(-2))
             for _ in range(rng.choice([1, 20, 300]))), key=lambda row: row[0],
        )  # fmt: skip
        self.calendar = calendar(rng)
        on, group, x = zip(*self.rows, strict=True)
        self.book = ep.Daybook(
            {"on": on, "g": group, "x": x}, date="on", by="g", calendar=self.calendar,
            measures=["s=sum(x)", "n=count()", "hi=max(x)", "m=median(x)"],
        )  # fmt: skip
        self.first, self.last = self._covered(on)

    def _covered(self, on: tuple[dt.date, ...]) -> tuple[dt.date, dt.date]:
        """Return the first and last day that is known, days off at the ends among them."""
        first, last = on[0], on[-1]
        inside = {first + DAY * n for n in range((last - first).days + 1)}
        off = {day for day in inside if day.weekday() > 4}
        if off and not off & {*on}:
            least = self.calendar.period_of(first, "month").first
            most = self.calendar.period_of(last, "month").last
            while first > least and (first - DAY).weekday() > 4:
                first -= DAY
            while last < most and (last + DAY).weekday() > 4:
                last += DAY
        return first, last

    def over(self, group: str | None, first: dt.date, last: dt.date) -> dict[str, Any]:
        """Return the measures of a span, one transaction at a time."""
        if last < self.first or first > self.last:
            return {"s": None, "n": None, "hi": None, "m": None}
        hit = [row[2] for row in self.rows if group in (None, row[1]) and first <= row[0] <= last]
        filled = sorted(Fraction(x) for x in hit if x is not None)
        middle = None
        if filled:
            half = len(filled) // 2
            middle = filled[half] if len(filled) % 2 else (filled[half - 1] + filled[half]) / 2
        total = sum(filled, Fraction(0)) if filled or not hit else None
        return {"s": total, "n": len(hit), "hi": filled[-1] if filled else None,
                "m": middle}  # fmt: skip

    def answers(self) -> Iterator[tuple[str, ep.Table, str]]:
        """Yield a question of every kind, its answer, and the ending of its values."""
        rng, book = self.rng, self.book
        by = rng.choice([None, "g"])
        levels = book.calendar.levels
        level = rng.choice(levels)
        as_of = self.first + DAY * rng.randrange((self.last - self.first).days + 1)
        yield f"recap {level}", book.recap(level, by=by), ""
        within = rng.choice(levels)
        yield f"accumulate {within}", book.accumulate(within, by=by), "_to_date"
        back = (
            f"{rng.randint(1, 14)} {rng.choice(['days', 'weeks', 'months', 'quarters', 'years'])}"
        )
        try:
            yield f"trail {back}", book.trail(back, by=by, every=rng.choice(levels)), "_trailing"
        except ep.CalendarError:  # a list that has no weeks, or ends there
            return
        per = rng.choice(["year", "half", "quarter", "month"])
        match = rng.choice(["date", "elapsed", "weekday", "workday"])
        try:
            yield f"compare {per}", book.compare(per, by=by), ""
            yield f"compare to date {match} {as_of}", book.compare(
                per, by=by, to_date=True, match=match, as_of=as_of), "to date"  # fmt: skip
        except (ep.QuestionError, ep.CalendarError):
            return

    def check(self) -> Iterator[tuple[str, bool]]:
        """Yield a name and whether it agreed for numbers of every answer."""
        for name, table, ending in self.answers():
            rows = list(table.rows())
            for row in self.rng.sample(rows, min(12, len(rows))):
                group = row.get("g")
                if ending == "to date":
                    yield from self._cut(name, row, group)
                    continue
                last = row.get("last", row.get("date"))
                want = self.over(group, row["first"], last)
                yield from self._same(name, row, want, ending)
                if row.get("prior_first"):
                    want = self.over(group, row["prior_first"], row["prior_last"])
                    yield from self._same(name, row, want, "_prior")

    def _cut(self, name: str, row: dict[str, Any], group: str | None) -> Iterator[tuple[str, bool]]:
        """Check a period to date: nothing after its last day is seen on either side."""
        whole, seen = self.last, row["last"]
        self.last = max(seen, self.first)
        yield from self._same(name, row, self.over(group, row["first"], seen), "")
        self.last = whole
        if row["s_change"] is not None:
            yield f"{name} change", row["s_change"] == row["s"] - row["s_prior"]

    def _same(
        self, name: str, row: dict[str, Any], want: dict[str, Any], ending: str
    ) -> Iterator[tuple[str, bool]]:
        for measure, value in want.items():
            got = row[f"{measure}{ending}"]
            if got is None or value is None:
                yield f"{name} {measure}", got is None and value is None
            elif isinstance(got, float):
                yield f"{name} {measure}", abs(got - float(value)) < 1e-6
            else:
                yield f"{name} {measure}", Fraction(got) == value


def met(meeting: Meeting) -> Iterator[tuple[str, int, bool]]:
    """Yield what differs where features meet, and how many values were compared."""
    yield from ((told, 0, False) for told in meeting.differences())
    yield meeting.name, meeting.values, True


def main(seconds: float, seed: int) -> int:
    """Soak for some seconds; return how many cases failed."""
    meetings = features_against_features(seed)
    stop, cases, failures, sessions = time.monotonic() + seconds, 0, 0, 0
    while time.monotonic() < stop:
        rng = random.Random(seed + sessions)
        made = (
            met(next(meetings)) if sessions % 3 == 2 else proofs(rng, calendar(rng)) if sessions % 3
            else ((name, 1, agreed) for name, agreed in Session(rng).check())
        )  # fmt: skip
        for name, count, agreed in made:
            cases += count
            if not agreed:
                failures += 1
                print(f"seed {seed + sessions}: {name} differs", flush=True)
        sessions += 1
    print(f"{cases:,} cases in {sessions:,} sessions, {failures:,} failures")
    return failures


if __name__ == "__main__":
    given = [float(word) for word in sys.argv[1:]]
    sys.exit(bool(main(given[0] if given else 60, int(given[1]) if len(given) > 1 else 1)))
