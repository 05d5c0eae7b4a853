"""The finer questions of recap and accumulate, row-level answers and windows along values."""

import datetime as dt
import random
import unittest
from collections import defaultdict
from decimal import Decimal
from fractions import Fraction
from inspect import signature
from itertools import pairwise, product
from unittest import mock

import eptaro as ep
from eptaro.core.query import transactions
from tests import oracle
from tests.core.verbs.test_verbs import book_of
from tests.oracle import DAY

ROWS = oracle.random_rows(12, size=200)


def total(rows, keep) -> Fraction | None:
    """Add up the amounts of the rows that are kept."""
    return oracle.added(r[2] for r in rows.rows if keep(r))


class ByAttribute(unittest.TestCase):
    """Recaps by what is no period come in natural order."""

    def test_equal_plain_datetime(self):
        held = ep.Workdays(holidays=ep.HolidaySet([ep.Holiday(ROWS.rows[0][0], "Rest")]))
        book = book_of(ROWS, ep.MonthCalendar(), workdays=held)
        value = {
            "weekday": lambda d: f"{d:%A}", "month of year": lambda d: f"{d:%B}",
            "quarter of year": lambda d: f"Q{(d.month + 2) // 3}", "day of month": lambda d: str(d.day),
            "week of year": lambda d: f"W{d.isocalendar().week:02d}",
            "holiday": lambda d: "holiday" if d == ROWS.rows[0][0] else "other day",
            "workday": lambda d: "workday" if d.weekday() < 5 and d != ROWS.rows[0][0] else "other day",
        }  # fmt: skip
        for per, of in value.items():
            days = defaultdict(int)
            for day in oracle.days(ROWS.first, ROWS.last):
                days[of(day)] += 1
            rows = list(book.recap(per, by="group").rows())
            name = per.replace(" ", "_")
            self.assertEqual({r[name] for r in rows}, set(days), per)
            for row in rows:
                word, group = row[name], row["group"]
                self.assertEqual(row["days"], days[word])
                self.assertEqual(
                    oracle.exact(row["revenue"]),
                    total(ROWS, lambda r, of=of, w=word, g=group: of(r[0]) == w and r[1] == g),
                )
        order = [r["weekday"] for r in book.recap("weekday").rows()]
        self.assertEqual((order[0], order[-1]), ("Monday", "Sunday"))
        sunday = book_of(ROWS, ep.MonthCalendar(week_starts="sunday"))
        self.assertEqual(next(sunday.recap("weekday").rows())["weekday"], "Sunday")

    def test_hours(self):
        at = [dt.datetime(2025, 1, 1, h, 59) for h in (0, 9, 9, 23)]
        book = ep.Daybook(
            {"at": at, "x": [1, 2, 3, 4], "g": list("abab")}, date="at", by="g", measures="s=sum(x)"
        )
        rows = {(r["g"], r["hour"]): r["s"] for r in book.recap("hour", by="g").rows()}
        self.assertEqual(
            [rows["a", "09"], rows["b", "09"], rows["a", "10"], rows["b", "23"]], [3, 2, 0, 4]
        )
        with self.assertRaisesRegex(ep.QuestionError, "cannot be combined with wide"):
            book.recap("weekday", totals=True)
        with self.assertRaisesRegex(ep.QuestionError, "no time of day"):
            book_of(ROWS, ep.MonthCalendar()).recap("hour")


class Recaps(unittest.TestCase):
    """Chunks, relative spans, subtotals, shares, ranks, top and sort."""

    BOOK = book_of(ROWS, ep.MonthCalendar())

    def test_chunks_follow_from_a_day_both_ways(self):
        rows = list(self.BOOK.recap(f"5 months from {ROWS.first + 400 * DAY}").rows())
        self.assertEqual(sum(r["revenue"] for r in rows), total(ROWS, lambda r: True))
        for before, after in pairwise(rows):
            self.assertEqual(before["last"] + DAY, after["first"])
            self.assertEqual(after["period"], f"{after['first']}..{after['last']}")
        self.assertIn(ROWS.first + 400 * DAY, [r["first"] for r in rows])

    def test_relative_spans_go_by_the_as_of_date(self):
        as_of = dt.date(ROWS.last.year, 3, 15)
        for only, first, last in (("this year", (1, 1), (12, 31)), ("last month", (2, 1), (2, 28)),
                                  ("this quarter", (1, 1), (3, 31))):  # fmt: skip
            rows = list(self.BOOK.recap("month", only=only, as_of=as_of).rows())
            year = as_of.year
            leap = last == (2, 28) and year % 4 == 0
            self.assertEqual(rows[0]["first"], dt.date(year, *first))
            self.assertLessEqual(rows[-1]["last"], dt.date(year, *last) + DAY * leap)
        labels = [
            r["period"] for r in self.BOOK.recap("month", only="last 3 months", as_of=as_of).rows()
        ]
        self.assertEqual(labels, [f"{as_of.year - 1}-12", f"{as_of.year}-01", f"{as_of.year}-02"])

    def test_the_last_complete_periods_have_ended_by_the_as_of_date(self):
        for day in (-1, 0, 1, 13):  # around the end of a month that ends a quarter
            as_of = dt.date(ROWS.last.year, 4, 1) + dt.timedelta(day)
            ends = [dt.date(as_of.year, m, 1) - DAY for m in (2, 3, 4)] + [
                dt.date(as_of.year, 4, 30)
            ]
            month = [f"{end:%Y-%m}" for end in ends if end <= as_of][-2:]
            quarter = f"{as_of.year}-Q1" if as_of >= ends[2] else f"{as_of.year - 1}-Q4"
            for per, only, want in (("month", "last 2 complete months", month),
                                    ("month", "LAST  complete month", month[-1:]),
                                    ("quarter", "last complete quarter", [quarter])):  # fmt: skip
                with self.subTest(as_of=as_of, only=only):
                    rows = self.BOOK.recap(per, only=only, as_of=as_of).rows()
                    self.assertEqual([row["period"] for row in rows], want)
        with self.assertRaisesRegex(ep.QuestionError, "'this' is one period"):
            self.BOOK.recap("month", only="this complete month")

    def test_subtotals_follow_their_parts(self):
        rows = list(self.BOOK.recap("month", subtotals=["year", "quarter"]).rows())
        running = defaultdict(Fraction)
        for row in rows:
            if row["level"] == "month":
                running["quarter"] += Fraction(row["revenue"] or 0)
                running["year"] += Fraction(row["revenue"] or 0)
            else:
                self.assertEqual(Fraction(row["revenue"]), running.pop(row["level"]), row)
        with self.assertRaisesRegex(
            ep.QuestionError, "not wider than per='month'; use year, half, quarter"
        ):
            self.BOOK.recap("month", subtotals="week")

    def test_parts_are_shares_of_their_parent(self):
        rows = list(
            self.BOOK.recap("month", by="group", subtotals=["quarter", "year"], shares=True).rows()
        )
        for level, wide in (("month", "quarter"), ("quarter", "year")):
            for parent in (r for r in rows if r["level"] == wide and r["trips"]):
                own = [r for r in rows if r["level"] == level and r["group"] == parent["group"]
                       and parent["first"] <= r["first"] <= parent["last"]]  # fmt: skip
                self.assertAlmostEqual(sum(r["trips_share_of_parent"] for r in own), 1.0)
        self.assertIsNone(rows[-1]["trips_share_of_parent"])

    def test_shares_ranks_and_sort(self):
        rows = list(
            self.BOOK.recap("year", by="group", shares=True, ranks=True, sort="-trips").rows()
        )
        self.assertEqual(
            [r["trips"] for r in rows], sorted((r["trips"] for r in rows), reverse=True)
        )
        whole = sum(r["trips"] for r in rows)
        for row in rows:
            peers = [r for r in rows if r["period"] == row["period"]]
            self.assertAlmostEqual(row["trips_share"], row["trips"] / whole)
            self.assertAlmostEqual(
                row["trips_share_of_period"], row["trips"] / sum(r["trips"] for r in peers)
            )
            self.assertEqual(row["trips_rank"], 1 + sum(r["trips"] > row["trips"] for r in peers))
        *_, last = self.BOOK.recap("year", by="group", shares=True).rows()
        self.assertAlmostEqual(last["trips_running_share"], 1.0)
        self.assertNotIn("typical_share", rows[0])

    def test_top_keeps_the_largest_and_adds_up_the_rest(self):
        every = {
            r["group"]: r["revenue"]
            for r in self.BOOK.recap("year", by="group", totals=True).rows()
            if r["period"] == "total"
        }
        rows = [
            r
            for r in self.BOOK.recap("year", by="group", totals=True, top=1).rows()
            if r["period"] == "total"
        ]
        best = max(every, key=every.get)
        self.assertEqual([r["group"] for r in rows], [best, "(others)"])
        self.assertEqual(rows[1]["revenue"], sum(every.values()) - every[best])
        with self.assertRaisesRegex(ep.QuestionError, "name a column in by"):
            self.BOOK.recap("year", top=1)


class ToDate(unittest.TestCase):
    """Cards, goals and running totals over all."""

    BOOK = book_of(ROWS, ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY"))

    def test_the_card_equals_accumulate(self):
        as_of = ROWS.last - 20 * DAY
        rows = list(
            self.BOOK.card(
                calendars=[ep.MonthCalendar(), self.BOOK.calendar], by="group", as_of=as_of
            ).rows()
        )
        self.assertEqual(len(rows), len(ROWS.groups) * 2 * 4)
        for row in rows:
            if row["calendar"] == "fiscal" and row["level"] != "week":
                *_, run = self.BOOK.accumulate(
                    row["level"], by="group", as_of=as_of, only={"group": row["group"]}
                ).rows()
                self.assertEqual(
                    (row["revenue_to_date"], row["period"]), (run["revenue_to_date"], run["within"])
                )

    def test_over_all_days(self):
        *_, row = self.BOOK.accumulate("all").rows()
        self.assertEqual(Fraction(row["revenue_to_date"]), total(ROWS, lambda r: True))

    def test_goals_at_a_straight_pace_and_in_the_prior_years_shape(self):
        on = [
            dt.date(2024, 1, 1),
            dt.date(2024, 1, 10),
            dt.date(2024, 12, 31),
            dt.date(2025, 1, 10),
        ]
        book = ep.Daybook(
            {"on": on, "x": [3, 1, 6, 5], "g": ["a"] * 4}, date="on", by="g", measures="s=sum(x)"
        )
        for pace, expected in (("straight", 365 * 12 / 365), ("prior year", 365 * 4 / 10)):
            *_, row = book.accumulate("year", goals={"2025": 365}, pace=pace).rows()
            self.assertAlmostEqual(row["s_goal_to_date"], expected)
            self.assertAlmostEqual(row["s_goal_gap"], 5 - expected)
        first = next(book.accumulate("year", by="g", goals={("a", "2025"): 365}).rows())
        self.assertIsNone(first["s_goal"])
        for goals, message in (
            ({"2025-Q9": 1}, "has no quarter"),
            ({("z", "2025"): 1}, "unknown group"),
        ):
            with self.assertRaisesRegex(ValueError, message):
                book.accumulate("year", by="g", goals=goals)
        with self.assertRaisesRegex(ep.QuestionError, "Accepted: straight, prior year"):
            book.accumulate("year", goals={}, pace="steep")


class PerEntry(unittest.TestCase):
    """One row per transaction, in the order of the input."""

    def test_every_verb_gathers_from_its_cells(self):
        book = book_of(ROWS, ep.MonthCalendar())
        runs = {
            (r["group"], r["date"]): r["revenue_to_date"]
            for r in book.accumulate("year", by="group").rows()
        }
        periods = {
            (r["group"], r["period"]): r["revenue"] for r in book.recap("month", by="group").rows()
        }
        windows = {
            (r["group"], r["date"]): r["revenue_trailing"]
            for r in book.trail("30 days", by="group").rows()
        }
        entries = (
            book.accumulate("year", every="entry", by="group"),
            book.recap("month", every="entry", by="group"),
            book.trail("30 days", every="entry", by="group"),
        )
        for one, two, three, source in zip(*(t.rows() for t in entries), ROWS.rows, strict=True):
            self.assertEqual((one["date"], one["group"]), source[:2])
            self.assertEqual(one["revenue_to_date"], runs[source[1], source[0]])
            self.assertEqual(two["revenue"], periods[source[1], two["period"]])
            self.assertEqual(three["revenue_trailing"], windows[source[1], source[0]])
        self.assertEqual(entries[0]["row"].tolist(), list(range(1, len(ROWS.rows) + 1)))

    def test_few_rows_over_many_cells_are_gathered_alike(self):
        book = book_of(ROWS, ep.MonthCalendar())
        for ask in (lambda: book.accumulate("month", by="group", every="entry"),
                    lambda: book.trail("9 days", every="entry"),
                    lambda: book.recap("month", by="group", every="entry")):  # fmt: skip
            dense = [*ask().rows()]
            with mock.patch.object(transactions, "MOST_DENSE", 0):
                self.assertEqual([*ask().rows()], dense)


class EveryOption(unittest.TestCase):
    """An option changes the answer, or is refused with the reason; none is passed over."""

    ASKED = (
        ("recap", ("month",), {}),
        ("recap", ("month",), {"every": "entry"}),
        ("recap", ("month",), {"across": "year"}),
        ("recap", ("month",), {"goals": {"2024-01": 5, "2024-02": 9}}),
        ("recap", ("weekday",), {}),
        ("accumulate", ("year",), {}),
        ("accumulate", ("year",), {"every": "entry"}),
        ("trail", ("30 days",), {}),
        ("trail", ("30 days",), {"every": "entry"}),
        ("compare", ("month",), {}),
        ("compare", ("month",), {"to_date": True, "periods": 3}),
        ("compare", ("month",), {"against": "2024-02"}),
    )
    OPTIONS = (
        *({"totals": True}, {"subtotals": "year"}, {"shares": True}, {"ranks": True}),
        *({"index": "2024-01"}, {"sort": "-s"}, {"top": 1}, {"top": 1, "top_within": "period"}),
        *({"across": "year"}, {"groups": "both"}, {"history": True}, {"details": True}),
        *({"effects": True}, {"mean_of": 2}, {"match": "weekday"}, {"align": "restated"}),
        *({"trailing": "3 months"}, {"every": "week"}, {"weights": [1, 2]}, {"centred": True}),
        *({"ahead": "3 days"}, {"far_edge": "closed"}, {"goals": {"2024-01": 5}}),
        *({"pace": "prior year"}, {"incomplete": "blank"}, {"back": "2 years"}, {"periods": 2}),
        {"wide": True},
    )

    def test_it_is_answered_or_refused(self):
        rng = random.Random(4)
        days = [dt.date(2023, 1, 1) + dt.timedelta(rng.randrange(800)) for _ in range(300)]
        frame = {"on": days, "g": [rng.choice("abc") for _ in days]}
        frame["v"] = [rng.randrange(-200, 900) / 4 for _ in days]
        book = ep.Daybook(frame, date="on", by="g", measures=["s=sum(v)", "n=count()"])
        answered = refused = 0
        for verb, arguments, asked in self.ASKED:
            ask = getattr(book, verb)
            plain = ask(*arguments, by="g", **asked)
            for option in self.OPTIONS:
                known = signature(ask).parameters.keys()
                if not option.keys() <= known or option.keys() & asked.keys():
                    continue
                if (verb, *option) == ("trail", "back"):
                    continue
                with self.subTest(verb=verb, asked=asked, option=option):
                    try:
                        other = ask(*arguments, by="g", **asked, **option)
                    except ep.EptaroError:
                        refused += 1
                        continue
                    answered += 1
                    if option == {"pace": "prior year"} and verb != "accumulate":
                        continue  # a period that is over has its whole goal, whatever the pace
                    same = plain.names == other.names and [*plain.rows()] == [*other.rows()]
                    self.assertFalse(same, "it is passed over")
        self.assertGreater(answered, 60)
        self.assertGreater(refused, 60)


class WrongTypes(unittest.TestCase):
    """A value of another type is refused in our words, whatever the verb and the option."""

    VALUES = (5, -1, True, 2.5, [], {}, "", "x", ["x"], [1], object(), b"x", dt.date(2024, 1, 1),
              10**30, None, ["month"], "\0")  # fmt: skip

    def test_each_option_of_each_verb(self):
        days = [dt.date(2024, 1, 1) + dt.timedelta(n) for n in range(60)]
        frame = {"on": days, "g": ["a", "b"] * 30, "v": [*range(60)]}
        book = ep.Daybook(frame, date="on", by="g", measures="s=sum(v)", values="v")
        refused = 0
        for verb, first in (("recap", "month"), ("accumulate", "year"), ("trail", "30 days"),
                            ("compare", "month"), ("rhythm", "weekday"), ("card", None),
                            ("spread", "v"), ("histogram", "v")):  # fmt: skip
            ask = getattr(book, verb)
            names = [*signature(ask).parameters]
            for option, value in product(names, self.VALUES):
                given = {names[0]: first} if first else {}
                with self.subTest(verb=verb, option=option, value=value):
                    try:
                        [*ask(**(given | {option: value})).rows()]
                    except ep.EptaroError:
                        refused += 1
        self.assertGreater(refused, 500)
        for asked, words in (({"levels": ["x"]}, "unknown level 'x'"), ({"only": "2024"}, "card"),
                             ({"match": "weekday"}, "belongs to back"),
                             ({"calendars": "fiscal"}, "must be calendars")):  # fmt: skip
            with self.assertRaisesRegex(ep.EptaroError, words):
                book.card(**asked)
        self.assertEqual(len(book.card(levels="month")), 1)


class AlongValues(unittest.TestCase):
    """Windows along a column equal a loop over the rows."""

    def test_equal_a_loop(self):
        rng = random.Random(2)
        rows = [
            (rng.randint(0, 30) / 10, rng.choice("ab"), Decimal(rng.randint(-99, 99)))
            for _ in range(80)
        ]
        km, group, x = zip(*rows, strict=True)
        frame = {"km": list(km), "g": list(group), "x": list(x)}
        specs = ["s=sum(x)", "m=median(x)", "n=count()", "d=distinct(x)"]
        for edge in ("open", "closed"):
            table = ep.trail_values(
                frame, along="km", back=0.7, ahead=0.2, far_edge=edge, by="g", measures=specs
            )
            for row in table.rows():
                lo, hi = row["km"] - 0.7, row["km"] + 0.2
                own = [
                    r[2]
                    for r in rows
                    if r[1] == row["g"]
                    and (lo < r[0] or (edge == "closed" and lo == r[0]))
                    and r[0] <= hi
                ]
                self.assertEqual((row["s_trailing"], row["n_trailing"]), (sum(own), len(own)))
                self.assertEqual(row["d_trailing"], len(set(own)))
        with self.assertRaisesRegex(ep.QuestionError, "back greater than 0"):
            ep.trail_values(frame, along="km", back=0, measures=specs)
