"""`BookSet`: several books asked like one, against plain Python over their rows."""

import datetime as dt
import random
import tempfile
import unittest
from decimal import Decimal
from fractions import Fraction

import sqlalchemy

import eptaro as ep
from eptaro.presentation.blanks import why_blank
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
    "total": sum,
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
    """Return the first value over the second."""
    over, under = values
    return None if None in values or not under else Fraction(over) / Fraction(under)


def difference(values):
    """Return the first value less the second."""
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


def sales(**more):
    """Return a small book by branch and product."""
    rows = {
        "on": ["2025-01-02", "2025-01-31", "2025-02-03", "2025-03-31"],
        "branch": ["North", "South", "North", "East"],
        "product": ["tea", "tea", "rope", "rope"],
        "fare": [10, 20, 30, 40],
    }
    options = {"by": ["branch", "product"], "measures": ["revenue=sum(fare)", "n=count()"]}
    options |= {"coverage": "months"} | more
    return ep.Daybook(rows, date="on", **options)


def staff(**more):
    """Return how many people each branch had, a snapshot a month."""
    rows = {
        "month": ["2025-01-01", "2025-01-01", "2025-02-01", "2025-02-01"],
        "branch": ["North", "South", "North", "South"],
        "heads": [2, 4, 3, 4],
    }
    options = {"by": "branch", "measures": ["heads=sum(heads)"], **more}
    return ep.Daybook(rows, date="month", dates=ep.DateRules(grain="month"), **options)


class ByHand(unittest.TestCase):
    """Small cases whose answers can be seen at a glance."""

    def test_a_snapshot_per_month_beside_daily_sales(self):
        both = ep.BookSet({"sales": sales(), "staff": staff()}, "each=sales.revenue / staff.heads")
        found = both.recap("month", measures=["each", "revenue"])
        self.assertEqual(found["each"].tolist(), [30 / 6, 30 / 7])
        self.assertEqual(found["last"].tolist()[-1], dt.date(2025, 2, 28))  # staff ends first
        self.assertEqual(found.meta["ends_first"], "staff")
        self.assertIn("as of 2025-02-28 · the last day of staff", found.footer)
        for per in ("week", "day"):
            with self.assertRaisesRegex(
                ep.QuestionError, r"^staff: the data is dated by the month"
            ):
                both.recap(per, measures="each")
        self.assertEqual(len(both.recap("day", measures="revenue")), 90)

    def test_months_of_a_snapshot_need_whole_months_of_the_other(self):
        both = ep.BookSet(
            {"sales": sales(coverage=None), "staff": staff()}, "each=sales.revenue / staff.heads"
        )
        found = both.recap("month", measures="each")
        self.assertEqual(found.column("each").to_list(), [None, 30 / 7])
        (why,) = why_blank(found)
        self.assertIn("sales: the data does not cover 2025-01-01; if nothing happened then", why)

    def test_names_that_two_books_have(self):
        both = ep.BookSet({"one": sales(), "two": sales()}, ["more=one.revenue - two.revenue"])
        self.assertEqual(
            [m.name for m in both.measures],
            ["one.revenue", "one.n", "two.revenue", "two.n", "more"],
        )
        self.assertEqual(both.recap("year", measures="more")["more"].tolist(), [0])
        self.assertEqual(
            both.recap("year").filter("one.revenue = 100")["two.revenue"].tolist(), [100]
        )

    def test_groups_of_one_book_alone(self):
        both = ep.BookSet(
            {"sales": sales(), "staff": staff(coverage=ep.Span("2025-01-01", "2025-03-31"))},
            ["each=sales.revenue / staff.heads"],
        )
        self.assertEqual(both.by, ["branch"])
        rows = [*both.recap("quarter", by="branch", measures=["revenue", "heads", "each"]).rows()]
        self.assertEqual([row["branch"] for row in rows], ["East", "North", "South"])
        self.assertEqual([row["heads"] for row in rows], [0, 5, 8])
        self.assertEqual([row["each"] for row in rows], [None, 40 / 5, 20 / 8])
        self.assertEqual(both.notes, ("branch: sales alone has 'East'",))
        with self.assertRaisesRegex(ep.QuestionError, "staff has no column 'product'; without it, ask measures=.'revenue', 'n'."):  # fmt: skip
            both.recap("year", by="product")
        self.assertEqual(len(both.recap("year", by="product", measures="revenue")), 2)

    def test_groups_with_their_own_coverage_and_texts_beside_numbers(self):
        rows = {"day": ["2025-01-15", "2025-03-31"], "branch": ["North", "South"], "x": [5, 7]}
        doors = ep.Daybook(rows, date="day", by="branch", measures="x=sum(x)", coverage="groups")
        both = ep.BookSet({"sales": sales(), "doors": doors}, "y=sales.revenue / doors.x")
        found = {(r["branch"], r["period"]): r for r in both.recap("month", by="branch").rows()}
        self.assertIsNone(found["South", "2025-01"]["x"])
        self.assertFalse(found["North", "2025-01"]["complete"])
        self.assertEqual(found["North", "2025-02"]["y"], None)  # 30 / 0
        self.assertEqual(found["North", "2025-01"]["y"], 0)  # that of the 2nd came before
        codes = ep.Daybook({"day": ["2025-01-15"], "branch": [7], "x": [5]}, date="day", by="branch",
                           measures="x=sum(x)")  # fmt: skip
        mixed = ep.BookSet({"sales": sales(), "codes": codes})
        self.assertEqual(mixed.recap("year", by="branch")["branch"].tolist(), ["7", "East", "North", "South"])  # fmt: skip

    def test_calendars_and_what_is_shown(self):
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        money = sales(formats={"revenue": ep.Format(sign="€", places=0)}, calendar=fiscal)
        both = ep.BookSet({"sales": money, "staff": staff()})
        self.assertIn("calendar: 'fiscal' is used for all; staff keeps another when asked alone", both.notes)  # fmt: skip
        self.assertIn("€60", str(both.recap("year", measures="revenue", as_of="2025-02-28")))
        self.assertEqual(both.with_calendar(ep.MonthCalendar()).recap("year")["period"].tolist(), ["2025"])  # fmt: skip
        self.assertEqual(repr(both), "<BookSet of 8 rows by branch, 2025-01-01..2025-03-31, 3 groups in 2 books, calendar 'fiscal'>")  # fmt: skip
        self.assertEqual(both.books, {"sales": ["revenue", "n"], "staff": ["heads"]})

    def test_what_cannot_be(self):
        one, other = sales(), staff()
        late = ep.Daybook({"on": ["2026-01-01"], "x": [1]}, date="on", measures="x=sum(x)")
        both = ep.BookSet({"sales": one, "staff": other})
        for make, words in (
            (lambda: ep.BookSet({}), "a mapping of names to books"),
            (lambda: ep.BookSet([one]), "a mapping of names to books"),
            (lambda: ep.BookSet({"a": one}, calendar="fiscal"), "one calendar"),
            (lambda: ep.BookSet({"a b": one}), "cannot name a book"),
            (lambda: ep.BookSet({"a": "sales.csv"}), "is not a Daybook"),
            (lambda: ep.BookSet({"a": one, "b": late}).recap("year"), "no day in common"),
            (lambda: ep.BookSet({"a": one}, "x=b.revenue / n"), "unknown book 'b'"),
            (lambda: ep.BookSet({"a": one}, "x=a.income / n"), "unknown measure of a 'income'"),
            (lambda: ep.BookSet({"a": one}, ["x=y + n", "y=x + n"]), "'y' is after it"),
            (lambda: ep.BookSet({"a": one}, "x=x + n"), "the measure itself"),
            (lambda: ep.BookSet({"a": one}, "x=sum(fare)"), "give sum.fare. to its book"),
            (lambda: ep.BookSet({"a": one}, names={"b": {}}), "unknown book 'b'"),
            (
                lambda: ep.BookSet({"a": one}, names={"a": {"shop": "store"}}),
                "unknown group column",
            ),
            (lambda: ep.BookSet({"a": one}, formats={"z": ep.Format()}), "unknown measure"),
            (lambda: both.recap("month", as_of="2024-12-31"), "before the coverage"),
            (lambda: both.recap("month", only="town=x"), "town"),
            (lambda: both.spread("fare"), "one book: ask that book"),
            (lambda: both.trail("3 entries"), "single transactions"),
        ):
            with self.assertRaisesRegex(ep.EptaroError, words):
                make()

    def test_whole_books_are_asked_like_their_set(self):
        """A set of one book answers as that book does."""
        book = sales()
        alone = ep.BookSet({"sales": book})
        for ask in (
            lambda one: one.recap("month", by="branch", shares=True, ranks=True, totals=True),
            lambda one: one.recap("month", by="branch", wide=True),
            lambda one: one.recap("quarter", by="all", top=1),
            lambda one: one.accumulate("quarter", every="week", by="product"),
            lambda one: one.trail("6 weeks", every="week"),
            lambda one: one.compare("month", back="1 month", by="branch", details=True),
            lambda one: one.compare("month", back="1 month", effects="weekdays"),
            lambda one: one.compare("month", back="1 month", by="branch", groups="both"),
            lambda one: one.card(by="branch", back="1 month"),
            lambda one: one.rhythm("weekday", by="branch"),
        ):
            self.assertEqual([*ask(alone).rows()], [*ask(book).rows()])


class Plans(unittest.TestCase):
    """A plan by the month, spread over days, beside rows by the day."""

    def test_sums_are_dealt_out_to_the_cent(self):
        rng, seen = random.Random(9), 0
        for _ in range(20):
            scale = rng.choice([0, 2])
            rows = [
                (dt.date(2024, rng.randint(1, 6), 1), rng.choice("ab"), rng.randint(-900, 90_000))
                for _ in range(rng.randint(1, 12))
            ]
            cents = [Decimal(value).scaleb(-scale) for *_, value in rows]
            on, group, _ = zip(*rows, strict=True)
            plan = ep.Daybook({"on": list(on), "g": list(group), "v": cents if scale else [int(v) for v in cents]},
                              date="on", by="g", measures=["goal=sum(v)", "n=count()"], dates=ep.DateRules(grain="month"))  # fmt: skip
            daily = plan.spread_over_days()
            self.assertEqual(daily.coverage, plan.coverage)
            for row in daily.accumulate("month", by="g").rows():
                day = row["date"]
                length = ((day.replace(day=1) + DAY * 32).replace(day=1) - day.replace(day=1)).days
                whole = sum(v for d, g, v in rows if g == row["g"] and d == day.replace(day=1))
                due = (2 * whole * day.day + length) // (2 * length)
                self.assertEqual(row["goal_to_date"], Decimal(due).scaleb(-scale))
                seen += 1
            for by in (None, "g"):
                for per in ("month", "year"):
                    names = ["goal", "n"]
                    one, two = (book.recap(per, by=by).select(names) for book in (plan, daily))
                    self.assertEqual([*one.rows()], [*two.rows()])
        self.assertGreater(seen, 2_000)

    def test_the_shape_of_the_prior_year_is_followed(self):
        rng, followed = random.Random(4), 0
        for _ in range(8):
            rows = [
                (
                    dt.date(2024, 1, 1) + DAY * rng.randrange(120),
                    rng.choice("ab"),
                    rng.randint(1, 50),
                )
                for _ in range(150)
            ] + [(dt.date(2024, 1, 1), "a", 3), (dt.date(2024, 4, 30), "b", 3)]
            on, group, x = (list(part) for part in zip(*rows, strict=True))
            past = ep.Daybook(
                {"on": on, "g": group, "x": x}, date="on", by="g", measures="s=sum(x)"
            )
            plan = ep.Daybook({"on": ["2025-01-01", "2025-02-01", "2025-05-01"] * 2, "g": list("aaabbc"),
                               "v": [rng.randint(100, 9_000) for _ in range(6)]}, date="on", by="g",
                              measures="v=sum(v)", dates=ep.DateRules(grain="month"))  # fmt: skip
            daily = plan.spread_over_days(past, rng.choice([None, "s"]))
            whole = {(r["g"], r["first"]): r["v"] for r in plan.recap("month", by="g").rows()}
            for row in daily.accumulate("month", by="g").rows():
                day, start = row["date"], row["date"].replace(day=1)
                last = (start + DAY * 32).replace(day=1) - DAY
                goal = whole.get((row["g"], start)) or 0
                before = [(d, v) for d, g, v in rows if g == row["g"] and (d.month, d.year) == (day.month, 2024)]  # fmt: skip
                total = sum(v for _, v in before)
                upto = 29 if (day.month, day.day) == (2, 28) else day.day
                if total and day.month < 5:
                    reached = sum(v for d, v in before if d.day <= upto)
                    due = goal if day == last else int(goal * (reached / total) + 0.5)
                    followed += goal > 0
                else:
                    due = (2 * goal * day.day + last.day) // (2 * last.day)
                self.assertEqual(row["v_to_date"], due, row)
        self.assertGreater(followed, 300)

    def test_it_is_asked_to_date_beside_daily_rows(self):
        plan = ep.Daybook({"on": ["2025-01-01", "2025-02-01"], "v": [310, 560]}, date="on",
                          measures="v=sum(v)", dates=ep.DateRules(grain="month"))  # fmt: skip
        both = ep.BookSet({"sales": sales(), "plan": plan.spread_over_days()}, "gap=sales.revenue - plan.v")  # fmt: skip
        (row,) = both.compare("month", to_date=True, as_of="2025-02-07", measures="gap", back="1 month").rows()  # fmt: skip
        self.assertEqual((row["gap"], row["gap_prior"]), (30 - 140, 10 - 70))

    def test_what_cannot_be(self):
        with self.assertRaisesRegex(ep.QuestionError, "dated by the day"):
            sales().spread_over_days()
        with self.assertRaisesRegex(ep.QuestionError, "leave out top"):
            staff(measures=["heads=sum(heads)", "top=max(heads)"]).spread_over_days()
