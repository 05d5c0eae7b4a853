"""`BookSet`: several books asked like one, against plain Python over their rows."""

import datetime as dt
import random
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import sqlalchemy

import eptaro as ep
from tests.oracle import DAY

START = dt.date(2023, 12, 20)
CALENDARS = (
    ep.MonthCalendar(),
    ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY"),
    ep.MonthCalendar("freight", year_starts="09-10", year_named="start"),
    ep.WeekCalendar("cafe", pattern="4-4-5", year_ends="01-31"),
)
MEASURES = ("total=sum(x)", "n=count()", "typical=mean(x)", "top=max(x)")
PLAIN = {
    "total": lambda values: sum(values),
    "n": len,
    "typical": lambda values: Fraction(sum(values), len(values)) if values else None,
    "top": lambda values: max(values, default=None),
}


class Table:
    """Rows of one book, with what the set should know of it."""

    def __init__(self, rng, name, monthly):
        self.name, self.monthly = name, monthly
        first, days = rng.randrange(90), rng.randrange(150, 420)
        self.groups = rng.sample("abcde", rng.randint(1, 4))
        self.rows = []
        for _ in range(rng.randint(3, 80)):
            day = START + DAY * (first + rng.randrange(days))
            day = day.replace(day=1) if monthly else day
            self.rows.append((day, rng.choice(self.groups), rng.choice("xyz"), rng.randint(-5, 30)))
        lo, hi = min(self.rows)[0], max(self.rows)[0]
        if monthly:
            hi = (hi + DAY * 31).replace(day=1) - DAY
        elif rng.random() < 0.4:
            lo, hi = lo - DAY * rng.randrange(40), hi + DAY * rng.randrange(40)
        self.lo, self.hi = lo, hi
        self.measures = rng.sample(MEASURES, rng.randint(1, 3))

    def book(self, rng, folder):
        """Return the rows as a book in some kind of store."""
        columns = zip(*self.rows, strict=True)
        data = dict(zip(("on", "g", "more", "x"), map(list, columns), strict=True))
        options = {"date": "on", "by": ["g", "more"], "measures": self.measures}
        options |= {"dates": ep.DateRules(grain="month")} if self.monthly else {}
        if not self.monthly:
            options["coverage"] = ep.Span(self.lo, self.hi)
        store = rng.choice(["memory", "file", "folder", "database"])
        if store == "database" and not self.monthly:
            url = f"sqlite:///{folder}/{self.name}.db"
            engine = sqlalchemy.create_engine(url)
            with engine.begin() as link:
                link.execute(
                    sqlalchemy.text('create table t ("on" date, g text, more text, x int)')
                )
                for on, g, more, x in self.rows:
                    link.execute(
                        sqlalchemy.text("insert into t values (:a, :b, :c, :d)"),
                        {"a": on.isoformat(), "b": g, "c": more, "d": x},
                    )
            engine.dispose()
            return ep.Daybook.from_sql(url, "t", **options)
        book = ep.Daybook(data, **options)
        if store in ("file", "folder"):
            kept = book.write(f"{folder}/{self.name}" + ("/" if store == "folder" else ".parquet"))
            book = ep.Daybook.open(kept)
        return book

    def value(self, how, group, first, last, until, wanted=None):
        """Return a measure over days, None outside the coverage; `wanted` picks some days."""
        if max(first, self.lo) > min(last, self.hi, until):
            return None
        values = [
            x
            for day, g, more, x in self.rows
            if first <= day <= min(last, until)
            and group in (None, (g,), (g, more))
            and (wanted is None or wanted(day))
        ]
        return PLAIN[how](values)


def plain_measures(tables, own):
    """Return for each measure of the set the calculations that it takes, and what is made of them."""
    names = [text.partition("=")[0] for table in tables for text in table.measures]
    found = {}
    for table in tables:
        for text in table.measures:
            how = text.partition("=")[0]
            name = how if names.count(how) == 1 else f"{table.name}.{how}"
            found[name] = ([(table, how)], lambda values: values[0])
    for name, one, two, sign in own:
        parts = [(table, how) for table, how in (one, two)]
        found[name] = (parts, quotient if sign == "/" else difference)
    return found


def quotient(values):
    over, under = values
    return None if None in values or not under else Fraction(over) / Fraction(under)


def difference(values):
    return None if None in values else values[0] - values[1]


class Sets(unittest.TestCase):
    """Values, completeness and comparability of random sets of random books."""

    def test_answers_equal_plain_python(self):
        rng, count = random.Random(3), 0
        for _ in range(25):
            count += self.hold(rng)
        self.assertGreater(count, 2_000)

    def hold(self, rng):
        """Hold the answers of one random set against its rows; return how many values were."""
        tables = [
            Table(rng, name, rng.random() < 0.25) for name in ("one", "two", "three")[: rng.choice([2, 2, 3])]
        ]  # fmt: skip
        if max(t.lo for t in tables) > min(t.hi for t in tables):
            return 0
        calendar = rng.choice(CALENDARS[:2] if any(t.monthly for t in tables) else CALENDARS)
        own, texts = [], []
        for number in range(rng.randint(1, 2)):
            one, two = rng.sample(tables, 2)
            left, right = (rng.choice(t.measures).partition("=")[0] for t in (one, two))
            sign = rng.choice("/-")
            own.append((f"made{number}", (one, left), (two, right), sign))
            texts.append(f"made{number}={one.name}.{left} {sign} {two.name}.{right}")
        with tempfile.TemporaryDirectory() as folder:
            books = {table.name: table.book(rng, folder) for table in tables}
            both = ep.BookSet(books, texts, calendar)
            plain = plain_measures(tables, own)
            self.assertEqual([m.name for m in both.measures], [*plain])
            asked = rng.sample([*plain], rng.randint(1, len(plain)))
            used = list(dict.fromkeys(t for name in asked for t, _ in plain[name][0]))
            by = rng.choice([None, ["g"], ["g", "more"]])
            low, high = max(t.lo for t in used), min(t.hi for t in used)
            as_of = rng.choice([None, low + DAY * rng.randrange((high - low).days + 60)])
            until = as_of or high
            if any(t.monthly for t in used):  # only months that have ended count
                until = (until + DAY).replace(day=1) - DAY
                if until < low:
                    return 0
            per = rng.choice(["month", "quarter", "year"])
            ask = {"by": by, "as_of": as_of, "measures": asked}
            verb = rng.choice(
                [self.recap, self.accumulate, self.trail, self.compare, self.card, self.rhythm]
            )
            if verb == self.rhythm and any(t.monthly for t in tables):
                verb = self.recap
            if any(t.monthly for t in used):
                until_of = {t: min(until, t.hi) for t in used}
            until_of = {t: min(until, t.hi) for t in used}
            return verb(both, per, ask, [(name, *plain[name]) for name in asked], used, until_of)

    def group_of(self, row, by):
        return None if by is None else tuple(row[name] for name in by)

    def agree(self, row, column, made, span, by, until, wanted=None):
        """Hold one value against the rows on the days that all books of it cover, and of months
        the whole ones.
        """
        parts, make = made
        group = self.group_of(row, by)
        first = max([span[0], *(t.lo for t, _ in parts)])
        last = min([span[1], *(until[t] for t, _ in parts)])
        if any(t.monthly for t, _ in parts):
            first = first if first.day == 1 else (first.replace(day=1) + DAY * 32).replace(day=1)
            last = last if (last + DAY).day == 1 else last.replace(day=1) - DAY
        values = [t.value(how, group, first, last, until[t], wanted) for t, how in parts]
        outside = first > last
        if wanted is not None:
            days = range(min((last - first).days + 1, 7))
            outside = outside or not any(wanted(first + DAY * n) for n in days)
        expected = None if outside else make(values)
        got = row[column]
        if expected is None or got is None:
            self.assertEqual(got, None if expected is None else expected, (column, row))
        else:
            self.assertAlmostEqual(float(got), float(expected), 9, (column, row))
        return 1

    def whole(self, first, last, used, until):
        return all(t.lo <= first and last <= until[t] for t in used)

    def recap(self, both, per, ask, made, used, until):
        count = 0
        for row in both.recap(per, **ask).rows():
            span = row["first"], row["last"]
            self.assertEqual(row["complete"], self.whole(*span, used, until), row)
            for name, *how in made:
                count += self.agree(row, name, how, span, ask["by"], until)
        return count

    def accumulate(self, both, per, ask, made, used, until):
        count = 0
        for row in both.accumulate(per, every="month", **ask).rows():
            begins = both.calendar.period(row["within"]).first
            span = max(begins, row["first"]), row["last"]
            for name, *how in made:
                count += self.agree(
                    row, f"{name}_to_date", how, (begins, span[1]), ask["by"], until
                )
        return count

    def trail(self, both, per, ask, made, used, until):
        count = 0
        for row in both.trail("3 months", every="month", **ask).rows():
            span = row["first"], row["last"]
            if any(t.monthly for t in used) and span[0].day != 1:
                continue
            self.assertEqual(row["complete"], self.whole(*span, used, until), row)
            for name, *how in made:
                count += self.agree(row, f"{name}_trailing", how, span, ask["by"], until)
        return count

    def compare(self, both, per, ask, made, used, until):
        count = 0
        for row in both.compare(per, back=f"1 {per}", **ask).rows():
            spans = (row["first"], row["last"]), (row["prior_first"], row["prior_last"])
            comparable = all(self.whole(*span, used, until) for span in spans)
            self.assertEqual(row["comparable"], comparable, row)
            for name, *how in made:
                count += self.agree(row, name, how, spans[0], ask["by"], until)
                count += self.agree(row, f"{name}_prior", how, spans[1], ask["by"], until)
                values = row[name], row[f"{name}_prior"]
                expected = None if None in values or not comparable else values[0] - values[1]
                got = row[f"{name}_change"]
                self.assertEqual(got is None, expected is None, row)
                if expected is not None:
                    self.assertAlmostEqual(float(got), float(expected), 9)
                count += 1
        return count

    def card(self, both, per, ask, made, used, until):
        count = 0
        for row in both.card(levels=["month", "quarter", "year"], **ask).rows():
            span = row["first"], row["last"]
            for name, *how in made:
                count += self.agree(row, f"{name}_to_date", how, span, ask["by"], until)
        return count

    def rhythm(self, both, per, ask, made, used, until):
        count, seen = 0, both.recap("year", **ask)
        lo, hi = min(seen["first"].tolist()), max(seen["last"].tolist())
        for row in both.rhythm("weekday", **ask).rows():

            def wanted(day, word=row["weekday"]):
                return day.strftime("%A") == word

            for name, *how in made:
                count += self.agree(row, name, how, (lo, hi), ask["by"], until, wanted)
        return count
