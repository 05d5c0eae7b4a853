"""Features against features: a random book of one feature, held in one way and asked with another.

Every pair of `HELD` (where the rows or the book are), `MADE` (what the book is made with) and
`ASKED` (what a question is narrowed to, grouped by or cut at) is a cell of the table. A session
draws one of each, asks several verbs, and compares every value of every row with plain Python
over the days that stand in the row; what is held elsewhere is compared with the book in memory
as well. Run as `python bench/meetings.py [values] [seed]`: it prints how many values were compared
and how many cells were met, and every difference with its seed.
"""

from __future__ import annotations

import calendar
import datetime as dt
import random
import sqlite3
import sys
import tempfile
from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace
from fractions import Fraction
from itertools import zip_longest
from pathlib import Path
from typing import Any

import pyarrow as pa
from pyarrow import csv, parquet

import eptaro as ep

DAY = dt.timedelta(1)
HELD = ("frame", "csv", "parquet", "sqlite", "file", "folder", "shards", "into", "set", "sets")
MADE = (
    *("plain", "where", "groups", "months", "declared", "holidays", "lookup", "own", "blanks"),
    *("adjusted", "shown", "written", "dated"),
)
ASKED = (
    *("plain", "value", "values", "both", "text", "span", "early", "late", "none", "one"),
    *("shares", "totals", "beside"),
)
MEASURES = {
    "total": "sum(x)",
    "rows": "count()",
    "given": "count(x)",
    "most": "max(x)",
    "people": "distinct(who)",
    "big": "count(where y > x)",
    "empty": "count(where x is blank)",
    "busiest": "max(sum(x) per day)",
    "worked": "sum(count() per workday)",
    "ratio": "total / rows",
}


# How dates are written, and the rules that read them.
WRITTEN = {
    "on": (
        (lambda day: int(f"{day:%Y%m%d}"), {}),
        (lambda day: f"{day:%Y%m%d}", {}),
        (lambda day: int(f"{day:%d%m%Y}"), {"order": "dmy"}),
        (lambda day: f"{day:%m%d%y}", {"order": "mdy", "pivot": 60}),
        (lambda day: f"{day:%d.%m.%Y}", {"order": "dmy"}),
        (lambda day: (day - dt.date(1899, 12, 30)).days, {"serials": "1900"}),
        (lambda day: (day - dt.date(1970, 1, 1)).days * 86_400, {"unix": "s"}),
        (lambda day: "{}-W{:02}-{}".format(*day.isocalendar()), {}),
        (lambda day: f"{day:%Y-%j}", {}),
        (lambda day: f"{day:%d %b %Y}", {}),
    ),
    "on + 3": ((lambda day: str(day - 3 * DAY), {}),),
    "shift(on, -4)": ((lambda day: str(day + 4 * DAY), {}),),
}


class Book:
    """Random transactions, the options of their book, and plain sums over any of their days."""

    def __init__(self, rng: random.Random, made: str) -> None:
        self.rng, self.made = rng, made
        start = dt.date(rng.randint(2015, 2026), rng.randint(1, 12), rng.randint(1, 28))
        reach = rng.choice([20, 90, 400])
        weekdays = rng.random() < 0.4
        rows = []
        for _ in range(rng.choice([8, 60, 240])):
            day = start + DAY * rng.randrange(reach)
            if weekdays and day.weekday() > 4:
                continue
            x = None if rng.random() < 0.25 else rng.randint(-50, 400)
            period = rng.choice([13, 14]) if made == "adjusted" and rng.random() < 0.2 else 1
            rows.append((day, rng.choice("abcd"), rng.choice(["p", "q"]), x, rng.randint(-60, 300),
                         rng.choice(["ann", "bo", "cy"]), period))  # fmt: skip
        self.rows = sorted(rows or [(start, "a", "p", 1, 2, "ann", 1)], key=lambda row: row[0])
        self.rows[0] = (*self.rows[0][:6], 1)
        if all(row[3] is None for row in self.rows):
            self.rows[0] = (*self.rows[0][:3], 7, *self.rows[0][4:])
        self.off: set[dt.date] = set()
        self.calendar: Any = ep.MonthCalendar("fiscal", year_starts=f"{rng.randint(1, 12):02d}-01")
        self.calendars = [self.calendar]
        self.options: dict[str, Any] = {
            "date": "on", "by": ["g", "h"], "calendar": self.calendar,
            "measures": [f"{name}={spec}" for name, spec in MEASURES.items()],
        }  # fmt: skip
        self._choose()
        seen = [row for row in self.rows if made != "where" or row[4] > 0]
        if not seen:
            seen = self.rows = [(start, "a", "p", 1, 2, "ann", 1)]
        self.seen = seen
        self.first, self.last = self._covered()
        self.begun: dict[tuple[str, str], dt.date] = {}
        self.groups: dict[tuple[str | None, str | None], tuple[list[Any], dt.date]] = {}
        if made == "groups":
            for row in seen:
                self.begun.setdefault((row[1], row[2]), row[0])

    def _choose(self) -> None:
        rng, options = self.rng, self.options
        match self.made:
            case "where":
                options["where"] = "y > 0"
            case "groups" | "months":
                options["coverage"] = self.made
            case "declared":
                first, last = self.rows[0][0], self.rows[-1][0]
                options["coverage"] = f"{first - DAY * 9}..{last + DAY * rng.randint(0, 40)}"
            case "holidays":
                days = [row[0] + DAY * rng.randint(-2, 2) for row in self.rows[:3]]
                self.off = {*days}
                held = ep.HolidaySet(ep.Holiday(day, "Fair") for day in {*days})
                options["workdays"] = ep.Workdays(holidays=held)
            case "lookup":
                table = {"code": [*"abcd"], "g": ["north", "south", "north", "east"]}
                options["lookups"] = ep.Lookup(table, "code")
            case "own":
                whole = ep.WeekCalendar("weeks", pattern="4-4-5")
                self.calendars = [self.calendar, whole, ep.MonthCalendar("civil")]
                own = dict(zip("ab", self.calendars, strict=False))
                options["calendar"] = ep.OwnCalendars("g", own, self.calendars[2])
            case "written":
                options["date"] = rng.choice([*["on"] * 5, *WRITTEN])
                self.write, rules = rng.choice(WRITTEN[options["date"]])
                options["dates"] = ep.DateRules(**rules)
            case "dated":
                table = {"trip": self._trips(), "on": [row[0] for row in self.rows]}
                options["lookups"] = ep.Lookup(table, "trip")
            case "adjusted":
                options["adjustments"] = "period"
            case "shown":
                own = {"month": "{month_short} {year}", "quarter": "Q{number} {start}/{end_short}"}
                starts = self.calendar.year_starts
                options["calendar"] = ep.MonthCalendar("fiscal", year_starts=starts, shown=own)
            case "blanks":
                options["numbers"] = ep.NumberRules(blanks=("NA",))

    def _trips(self) -> list[str]:
        return [f"trip {number}" for number in range(len(self.rows))]

    # ---- what is known ----------------------------------------------------------

    def is_off(self, day: dt.date) -> bool:
        """Return whether nothing is expected on a day."""
        return day.weekday() > 4 or day in self.off

    def _covered(self) -> tuple[dt.date, dt.date]:
        """Return the first and last day that is known: days off at the ends, or whole months."""
        first, last = self.rows[0][0], self.rows[-1][0]
        if self.made == "declared":
            one, two = self.options["coverage"].split("..")
            return dt.date.fromisoformat(one), dt.date.fromisoformat(two)
        if self.made == "months":
            end = calendar.monthrange(last.year, last.month)[1]
            return first.replace(day=1), last.replace(day=end)
        inside = {first + DAY * n for n in range((last - first).days + 1)}
        off = {day for day in inside if self.is_off(day)}
        if len(self.seen) < len(self.rows):
            return first, last  # on which days the others lie is not kept
        if not off or off & {row[0] for row in self.rows}:
            return first, last
        least = max(one.period_of(first, "month").first for one in self.calendars)
        most = min(one.period_of(last, "month").last for one in self.calendars)
        while first > least and self.is_off(first - DAY):
            first -= DAY
        while last < most and self.is_off(last + DAY):
            last += DAY
        return first, last

    def named(self, row: Any) -> tuple[str, str]:
        """Return the group of a row, as its book names it."""
        lookup = {"a": "north", "b": "south", "c": "north", "d": "east"}
        return (lookup[row[1]] if self.made == "lookup" else row[1], row[2])

    def of_group(self, g: str | None, h: str | None) -> tuple[list[Any], dt.date]:
        """Return the rows of a group, and the first day that it is known."""
        if (g, h) not in self.groups:
            mine = [row for row in self.seen if g in (None, self.named(row)[0])]
            mine = [row for row in mine if h in (None, row[2])]
            first = self.first
            if self.begun:
                first = min((self.begun[row[1], row[2]] for row in mine), default=dt.date.max)
            self.groups[g, h] = mine, max(first, self.first)
        return self.groups[g, h]

    def over(
        self,
        g: str | None,
        h: str | None,
        days: tuple[dt.date, dt.date],
        end: dt.date,
        periods: Sequence[int],
    ) -> dict[str, Any]:
        """Return every measure of a span, as far as it is known by the `end`; of postings to some
        `periods`.
        """
        first, last = days
        rows, begun = self.of_group(g, h)
        last, begin = min(last, end), max(first, begun)
        if begin > last:
            return dict.fromkeys(MEASURES)
        dates = [row[0] for row in rows]
        hit = rows[bisect_left(dates, begin) : bisect_right(dates, last)]
        hit = [row for row in hit if row[6] in periods]
        filled = [row[3] for row in hit if row[3] is not None]
        each: dict[dt.date, list[Any]] = {}
        for row in hit:
            each.setdefault(row[0], []).append(row[3])
        sums = [0] if len(each) < (last - begin).days + 1 else []
        for found in each.values():
            known = [x for x in found if x is not None]
            sums += [sum(known)] if known else []
        total = sum(filled) if filled or not hit else None
        return {
            "total": total, "rows": len(hit), "given": len(filled),
            "most": max(filled, default=None), "people": len({row[5] for row in hit}),
            "big": sum(row[3] is not None and row[4] > row[3] for row in hit),
            "empty": sum(row[3] is None for row in hit), "busiest": max(sums, default=None),
            "worked": sum(not self.is_off(row[0]) for row in hit),
            "ratio": Fraction(total, len(hit)) if hit and total is not None else None,
        }  # fmt: skip

    # ---- where it is held -------------------------------------------------------

    def frame(self) -> dict[str, list[Any]]:
        """Return the columns of the rows."""
        on, g, h, x, y, who, period = (list(part) for part in zip(*self.rows, strict=True))
        key = "code" if self.made == "lookup" else "g"
        dates = {"on": on}
        if self.made == "written":
            dates = {"on": [self.write(day) for day in on]}
        elif self.made == "dated":
            dates = {"trip": self._trips()}
        return {**dates, key: g, "h": h, "x": x, "y": y, "who": who, "period": period}

    def held(self, how: str, folder: Path) -> Any:
        """Return the book, held in a way."""
        frame, options = self.frame(), dict(self.options)
        if how != "csv":
            options.pop("numbers", None)
        kinds = (
            {"x": pa.int64()} if self.made == "written" else {"x": pa.int64(), "on": pa.date32()}
        )
        table = pa.table({name: pa.array(v, kinds.get(name)) for name, v in frame.items()})
        match how:
            case "csv":
                if "numbers" in options:
                    words = ["NA" if x is None else str(x) for x in frame["x"]]
                    table = table.set_column(
                        table.schema.get_field_index("x"), "x", pa.array(words)
                    )
                csv.write_csv(table, folder / "rows.csv")
                return ep.Daybook.read(folder / "rows.csv", **options)
            case "parquet":
                parquet.write_table(table, folder / "rows.parquet", row_group_size=37)
                return ep.Daybook.read(folder / "rows.parquet", **options)
            case "sqlite":
                return self._in_database(folder, frame, options)
            case "into":
                parquet.write_table(table, folder / "rows.parquet", row_group_size=37)
                book = ep.Daybook.read(
                    folder / "rows.parquet", into=folder / "into", shards=3, **options
                )
                book._store = replace(book._store, at_once=0)
                return book
        book = ep.Daybook(table, **options)
        if how in ("set", "sets") and self.made not in ("own", "adjusted"):  # which sets have not
            others = {"other": ep.Daybook(table, **options)} if how == "sets" else {}
            both = ep.BookSet({"book": book, **others})
            named = [m.name for m in both.measures if m.tables == ("book",)]
            return ep.BookSet._of(both._store.measuring(named))
        if how == "file":
            return ep.Daybook.open(book.write(folder / "kept.parquet"))
        if how in ("folder", "shards"):
            kept = ep.Daybook.open(book.write(f"{folder}/kept/"))
            if how == "shards":
                kept._store = replace(kept._store, at_once=0)
            return kept
        return book

    def _in_database(
        self, folder: Path, frame: dict[str, list[Any]], options: dict[str, Any]
    ) -> Any:
        kinds = {"on": "date", "x": "integer", "y": "integer", "period": "integer"}
        if self.made == "written" and options["date"] == "on":  # text is not calculated with there
            kinds["on"] = "integer" if isinstance(frame["on"][0], int) else "text"
        columns = ", ".join(f'"{name}" {kinds.get(name, "text")}' for name in frame)
        url = f"sqlite:///{folder / 'rows.db'}"
        with sqlite3.connect(folder / "rows.db") as database:
            database.execute(f"create table t ({columns})")
            marks = ", ".join("?" * len(frame))
            rows = [tuple(str(v) if isinstance(v, dt.date) else v for v in row)
                    for row in zip(*frame.values(), strict=True)]  # fmt: skip
            database.executemany(f"insert into t values ({marks})", rows)
            if "lookups" in options:
                pairs, key = options["lookups"].table, options["lookups"].key
                database.execute(f'create table others ({key} text, "{[*pairs][1]}" text)')
                database.executemany("insert into others values (?, ?)",
                                     [*zip(pairs[key], map(str, [*pairs.values()][1]),
                                           strict=True)])  # fmt: skip
                options["lookups"] = ep.Lookup("others", key)
        database.close()
        return ep.Daybook.from_sql(url, "t", **options)


class RandomQuestion:
    """How questions are put: what they are narrowed to, grouped by and cut at."""

    def __init__(self, rng: random.Random, book: Book, how: str) -> None:
        names = sorted({book.named(row) for row in book.seen})
        self.by: Any = ["g", "h"]
        self.only: Any = None
        self.as_of: Any = None
        self.more: dict[str, Any] = {}
        self.per = "month"
        self.beside: dict[str, Any] = {}
        g, h = rng.choice(names)
        span = (book.last - book.first).days
        match how:
            case "value":
                self.only, self.by = {"g": g}, rng.choice([["g"], ["h"], ["g", "h"]])
            case "values":
                self.only, self.by = (
                    {"g": sorted({one for one, _ in names})},
                    rng.choice([["h"], ["g"]]),
                )
            case "both":
                self.only, self.by = [{"g": g}, {"h": h}], rng.choice([["g", "h"], ["h"], ["g"]])
            case "text":
                self.only, self.by = f"h={h}", ["g"]
            case "span":
                first = book.first + DAY * rng.randint(0, span)
                self.only = f"{first}..{first + DAY * rng.randint(0, span)}"
            case "early":
                self.as_of = book.first + DAY * rng.randint(0, span)
            case "late":
                self.as_of = book.last + DAY * rng.randint(1, 200)
            case "none":
                self.by = []
            case "one":
                self.by = [rng.choice(["g", "h"])]
            case "shares":
                self.more = {"shares": True}
            case "totals":
                self.beside = {"totals": True}
            case "beside":
                self.more = {"beside": ep.WeekCalendar("cafe")}
        if book.made == "own":
            self.by = ["g", "h"] if "h" in self.by else ["g"]
        self.options = {"by": self.by, "only": self.only, "as_of": self.as_of}

    def questions(self, rng: random.Random) -> Iterator[tuple[str, Any, str]]:
        """Yield the name of a verb, the call that asks it, and the ending of its values."""
        o, per = self.options, rng.choice(["month", "quarter", "year", "week"])
        self.per = per
        within = rng.choice(["month", "year"])
        match = rng.choice(["date", "elapsed", "weekday"])
        yield "recap", lambda b: b.recap(per, **o, **self.more), ""
        yield (
            "accumulate",
            lambda b: b.accumulate(within, every=rng.choice(["day"]), **o, **self.beside),
            "_to_date",
        )
        yield "trail", lambda b: b.trail("20 days", every="week", **o, **self.beside), "_trailing"
        yield "compare", lambda b: b.compare("month", back="1 month", **o, **self.beside), ""
        yield (
            "to date",
            lambda b: b.compare("quarter", to_date=True, match=match, back="1 quarter", **o),
            "",
        )
        yield "card", lambda b: b.card(**o), "_to_date"


class Meeting:
    """One session: its differences, and how many values it compared."""

    def __init__(self, seed: int, held: str, made: str, asked: str) -> None:
        self.rng = random.Random(seed)
        self.name = f"{held} × {made} × {asked}"
        self.how = held
        self.book = Book(self.rng, made)
        self.asked = RandomQuestion(self.rng, self.book, asked)
        self.values = 0

    def differences(self) -> Iterator[str]:
        """Yield what differs, in words."""
        with tempfile.TemporaryDirectory() as folder:
            mine = self.book.held(self.how, Path(folder))
            plain = mine if self.how == "frame" else self.book.held("frame", Path(folder))
            for verb, ask, ending in self.asked.questions(self.rng):
                found, want = _told(ask, mine), _told(ask, plain)
                if self.how == "sets" and not isinstance(found, str):
                    found = [
                        {name.removeprefix("book."): value for name, value in row.items()}
                        for row in found
                    ]
                if isinstance(found, str) or isinstance(want, str):
                    if found != want:
                        yield f"{self.name}: {verb}: {str(found)[:200]} for {str(want)[:200]}"
                    continue
                if self.how != "frame":
                    self.values += len(want) * len(MEASURES)
                    pairs = [*zip_longest(map(_plain, found), map(_plain, want))]
                    for one, other in [pair for pair in pairs if pair[0] != pair[1]][:1]:
                        yield f"{self.name}: {verb} {self.asked.options}: {one} for {other}"
                for row in found:
                    yield from self._row(verb, row, ending)

    def _row(self, verb: str, row: dict[str, Any], ending: str) -> Iterator[str]:
        """Compare a row with plain sums over the days that stand in it."""
        end = self.book.last
        if self.asked.as_of is not None:
            end = min(end, self.asked.as_of)
        if self.asked.only and isinstance(self.asked.only, str) and ".." in self.asked.only:
            return  # narrowed to days, every value is of those inside
        g, h = self._group(row)
        last = row.get("last", row.get("date"))
        sides = [(row["first"], last, ending)]
        if verb in ("compare", "to date"):
            sides.append((row["prior_first"], row["prior_last"], "_prior"))
        for first, until, tail in sides:
            if first is None or until is None:
                continue
            want = self.book.over(g, h, (first, until), end, self._periods(verb, row))
            for name, value in want.items():
                if f"{name}{tail}" in row:
                    self.values += 1
                    if not _same(row[f"{name}{tail}"], value):
                        asked = f"{self.name}: {verb} {self.asked.options}"
                        got = row[f"{name}{tail}"]
                        yield f"{asked}: {name}{tail} is {got} for {value}, in {row}"

    def _periods(self, verb: str, row: dict[str, Any]) -> Sequence[int]:
        """Return the periods whose postings count in a row."""
        if row.get("level") == "adjustment":
            return [int(row["period"][-2:])]
        if verb == "recap" and self.asked.per == "year" and not self.asked.more:
            return (1, 13, 14)
        return (1,)

    def _group(self, row: dict[str, Any]) -> tuple[str | None, str | None]:
        """Return what a row's group is called, with what all rows were narrowed to."""
        if row.get("g", row.get("h")) == "total":
            return None, None
        names: dict[str, Any] = {"g": row.get("g"), "h": row.get("h")}
        only = self.asked.only
        for part in only if isinstance(only, list) else [only]:
            if isinstance(part, str) and "=" in part:
                names["h"] = part.partition("=")[2]
            for name, value in (part if isinstance(part, dict) else {}).items():
                if not isinstance(value, list):
                    names[name] = value
        return names["g"], names["h"]


def _told(ask: Any, book: Any) -> list[dict[str, Any]] | str:
    """Return the rows of an answer, or why there is none."""
    try:
        return [*ask(book).rows()]
    except ep.EptaroError as error:
        return f"{type(error).__name__}: {error}"


def _plain(row: dict[str, Any]) -> list[tuple[str, Any]]:
    return [(name, round(v, 9) if isinstance(v, float) else v) for name, v in row.items()]


def _same(found: Any, want: Any) -> bool:
    if found is None or want is None:
        return found is None and want is None
    return abs(float(found) - float(want)) <= 1e-9 * max(1.0, abs(float(want)))


def sessions(seed: int) -> Iterator[Meeting]:
    """Yield sessions without end: each pair of features in turn, the third at random."""
    while True:
        rng = random.Random(seed)
        triples = [(held, made, rng.choice(ASKED)) for held in HELD for made in MADE]
        triples += [(held, rng.choice(MADE), asked) for held in HELD for asked in ASKED]
        triples += [(rng.choice(HELD), made, asked) for made in MADE for asked in ASKED]
        for number, triple in enumerate(rng.sample(triples, len(triples))):
            yield Meeting(seed * 1000 + number, *triple)
        seed += 1


def main(least: int, seed: int) -> int:
    """Compare at least so many values; return how many differ."""
    values = failures = count = 0
    cells: Counter[tuple[str, str]] = Counter()
    shown: set[str] = set()
    for meeting in sessions(seed):
        for told in meeting.differences():
            failures += 1
            if meeting.name not in shown and len(shown) < 40:
                print(told[:600], flush=True)
            shown.add(meeting.name)
        held, made, asked = meeting.name.split(" × ")
        cells.update([(held, made), (held, asked), (made, asked)])
        values, count = values + meeting.values, count + 1
        if values >= least:
            break
    met = f"{len(cells)} pairs of features, each {min(cells.values())} times or more"
    print(f"{values:,} values in {count:,} sessions, {met}, {failures:,} failures")
    return failures


if __name__ == "__main__":
    given = [int(word) for word in sys.argv[1:]]
    sys.exit(bool(main(given[0] if given else 100_000, given[1] if len(given) > 1 else 1)))
