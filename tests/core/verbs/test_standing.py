"""Like for like: groups on both sides, new and closed ones, against plain Python."""

import datetime as dt
import random
import statistics
import tempfile
import unittest
from pathlib import Path

import eptaro as ep
from tests.oracle import DAY

START, DAYS = dt.date(2023, 11, 20), 500
END = START + DAY * (DAYS - 1)
FIRSTS = [n for n in range(DAYS) if (START + DAY * n).day == 1]  # of months
FISCAL = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")


def shops(rng, spans):
    """Return random rows of shops that are open on some of the days, and when they are."""
    rows, open_on = [], {}
    for shop in "abcdefg":
        lo = rng.choice([0, rng.randrange(DAYS), rng.choice(FIRSTS), rng.choice(FIRSTS)])
        later = [first - 1 for first in FIRSTS if first > lo]
        hi = rng.choice([DAYS - 1, rng.randrange(lo, DAYS), rng.choice(later or [DAYS - 1])])
        own = [(START + DAY * rng.randint(lo, hi), shop, rng.randint(-3, 20)) for _ in range(rng.randint(1, 60))]  # fmt: skip
        own += [(START + DAY * lo, shop, 2)] * rng.randrange(2)
        open_on[shop] = ep.Span(str(START + DAY * lo), str(START + DAY * hi))
        rows += own
    if not spans:
        rows += [(START, "a", 1), (END, "b", 1)]
    return rows, open_on


def kind_of(shop, rows, open_on, how, row, as_of):
    """Return how a shop stands in a comparison, by the rule in words."""
    days = [day for day, one, _ in rows if one == shop and day <= as_of]
    here = any(row["first"] <= day <= row["last"] for day in days)
    before = any(row["prior_first"] <= day <= row["prior_last"] for day in days)
    if how is None:
        return {(1, 1): "like for like", (1, 0): "new", (0, 1): "closed"}.get((here, before))
    if not days and how == "groups":
        return None
    opened = min(days) if how == "groups" else open_on[shop].first
    if how == "groups":
        shut = not any(day >= row["first"] for day in days)
    else:
        shut = open_on[shop].last < row["last"]
    if opened > row["last"] or (shut and not (here or before)):
        return None
    return "closed" if shut else "new" if opened > row["prior_first"] else "like for like"


class LikeForLike(unittest.TestCase):
    """`compare(groups="both")`."""

    def test_equal_plain_python_in_every_kind_of_coverage(self):
        rng, seen = random.Random(11), {}
        for number in range(24):
            how = rng.choice([None, "groups", "spans"])
            rows, open_on = shops(rng, how == "spans")
            on, shop, v = zip(*rows, strict=True)
            coverage = open_on if how == "spans" else how
            book = ep.Daybook({"on": on, "shop": shop, "v": v}, date="on", by="shop", coverage=coverage, calendar=FISCAL,
                              measures=["s=sum(v)", "m=median(v)", "each=sum(v)/count()"])  # fmt: skip
            last = book.coverage.last
            as_of = last - DAY * rng.choice([0, 0, rng.randrange(40)])
            asked = rng.choice([{}, {"to_date": True}, {"to_date": True, "periods": 2}, {"trailing": "2 months"},
                                {"effects": "workdays"}])  # fmt: skip
            per, back = rng.choice(
                [
                    ("month", "1 month"),
                    ("quarter", "1 quarter"),
                    ("month", "1 year"),
                    ("quarter", "1 year"),
                ]
            )
            try:
                table = book.compare(per, back=back, by="shop", groups="both", as_of=as_of, **asked)
            except ep.NothingLeftError:
                continue
            if number < 12:
                self.assertGreater(book.prove(table), 3)
            found = {}
            for row in table.rows():
                found.setdefault((row["first"], row["last"]), {})[row["standing"]] = row
            whole = book.compare(per, back=back, as_of=as_of, **asked)
            self.assertEqual(len(found), len(whole))
            for kinds in found.values():
                total = kinds.pop("total")
                if not total["comparable"]:
                    self.assertEqual((kinds, total["s_change"]), ({}, None))
                    continue
                stand = {}
                for one in sorted({*shop}):
                    kind = kind_of(one, rows, open_on, how, total, as_of)
                    if kind is not None:
                        stand.setdefault(kind, []).append(one)
                self.assertEqual({kind: row["named"] for kind, row in kinds.items()},
                                 {kind: ", ".join(names) for kind, names in stand.items()})  # fmt: skip
                for kind, row in kinds.items():
                    seen[how, kind] = seen.get((how, kind), 0) + 1
                    self.assertEqual(row["groups"], len(stand[kind]))
                    sides = [[x for day, one, x in rows if one in stand[kind] and row[a] <= day <= row[b]]
                             for a, b in (("first", "last"), ("prior_first", "prior_last"))]  # fmt: skip
                    self.assertEqual(
                        (row["s"], row["s_prior"]), (sum(sides[0]), sum(sides[1])), row
                    )
                    for name, side in (("m", sides[0]), ("m_prior", sides[1])):
                        self.assertEqual(row[name], statistics.median(side) if side else None)
                for name in ("s", "s_prior", "s_change"):
                    self.assertEqual(sum(row[name] for row in kinds.values()), total[name], name)
        self.assertEqual(len(seen), 9, seen)
        self.assertGreater(min(seen.values()), 5, seen)

    def test_groups_with_too_little_history_are_new(self):
        rng, seen = random.Random(3), 0
        for _ in range(12):
            rows, _ = shops(rng, False)
            on, shop, v = zip(*rows, strict=True)
            book = ep.Daybook({"on": on, "shop": shop, "v": v}, date="on", by="shop", measures="s=sum(v)")  # fmt: skip
            months = rng.choice([2, 4, 13])
            ask = {"per": "month", "back": "1 month", "by": "shop", "groups": "both"}
            plain = {(r["first"], r["standing"]): r for r in book.compare(**ask).rows()}
            begun = {one: day for day, one, _ in sorted(rows, reverse=True)}
            for row in book.compare(**ask, history=f"{months} months").rows():
                first = row["first"]
                number = first.year * 12 + first.month - 1 - months
                least = dt.date(number // 12, number % 12 + 1, 1)
                young = {one for one in begun if begun[one] > least}
                kinds = {k: plain.get((first, k)) for k in ("like for like", "new", "closed")}
                named = {k: set((r["named"] or "").split(", ")) - {""} if r else set() for k, r in kinds.items()}  # fmt: skip
                wanted = {
                    "like for like": named["like for like"] - young,
                    "new": named["new"] | (named["like for like"] & young),
                    "closed": named["closed"],
                }
                if row["standing"] != "total":
                    self.assertEqual(set(row["named"].split(", ")), wanted[row["standing"]])
                    seen += 1
        self.assertGreater(seen, 60)
        with self.assertRaisesRegex(ep.QuestionError, "history goes with groups"):
            book.compare("month", history="2 months")

    def test_balances_of_accounts_without_rows_are_carried_and_add_up(self):
        rows = {"on": ["2024-01-02", "2024-01-02", "2024-03-05", "2024-04-05", "2024-04-09"],
                "account": ["a", "b", "a", "a", "c"], "balance": [10, 20, 12, 15, 7]}  # fmt: skip
        for coverage in (None, "groups"):
            book = ep.Daybook(rows, date="on", by="account", measures="c=closing(balance per account)", coverage=coverage)  # fmt: skip
            table = book.compare("month", back="1 month", by="account", groups="both", to_date=True)
            found = [[row["standing"], row["named"], row["c"], row["c_prior"], row["c_change"]] for row in table.rows()]  # fmt: skip
            self.assertEqual(
                found,
                [
                    ["like for like", "a, b", 35, 32, 3],
                    ["new", "c", 7, None, None],  # an account not seen yet has no balance
                    ["total", None, 42, 32, 10],
                ],
            )
            self.assertGreater(book.prove(table), 3)

    def test_sentences_traces_pictures_and_sorting(self):
        rows = {"on": ["2024-01-05", "2024-01-09", "2025-01-05", "2025-01-06"], "v": [10, 4, 13, 7],
                "shop": ["Norrow", "Skarrey", "Norrow", "Fenholm"]}  # fmt: skip
        book = ep.Daybook(rows, date="on", by="shop", measures=["s=sum(v)", "n=count()"],
                          coverage="2024-01-01..2025-01-31")  # fmt: skip
        table = book.compare("month", by="shop", groups="both", as_of="2025-01-31")
        self.assertIn("S like for like (1 shop): +3 (+30.0%); new (Fenholm): +7; closed (Skarrey): -4 (-100.0%). N: 2", table.headline)  # fmt: skip
        last = len(table) - 4
        self.assertEqual(
            table.column("standing").to_list()[last:], ["like for like", "new", "closed", "total"]
        )
        self.assertEqual([side.rows for side in table.trace(last + 1, "s").sides], [(4,)])
        self.assertEqual(
            [side.rows for side in table.trace(last + 2, "s_change").sides], [(), (2,)]
        )
        with tempfile.TemporaryDirectory() as folder:
            for kind in ("bars", "changes", "steps"):
                self.assertTrue(table.plot(Path(folder) / f"{kind}.png", kind=kind).exists())
        order = book.compare("month", by="shop", groups="both", sort="-s_change", to_date=True)
        self.assertEqual(
            order.column("standing").to_list(), ["new", "total", "like for like", "closed"]
        )
        self.assertNotIn("standing_1", " ".join(order.names))

    def test_what_it_cannot_go_with_is_refused(self):
        book = ep.Daybook({"on": ["2024-01-05"], "g": ["a"], "v": [1]}, date="on", by="g", measures="s=sum(v)")  # fmt: skip
        for asked, why in (
            ({"by": None}, "name a column in by"), ({"groups": "all"}, "unknown value for groups"), ({"top": 1}, "and top"),
            ({"wide": True}, "wide=True cannot"), ({"mean_of": 2}, "and mean_of"), ({"back": ["1 year", "1 month"]}, "several back"),
            ({"to_date": True, "every": "day"}, "and every"), ({"goals": {"2024": 1}}, "and goals"),
        ):  # fmt: skip
            with self.subTest(asked=asked), self.assertRaisesRegex(ep.QuestionError, why):
                book.compare("month", **{"by": "g", "groups": "both"} | asked)
        own = book.with_calendar(ep.OwnCalendars("g", {"a": FISCAL}, ep.MonthCalendar()))
        with self.assertRaisesRegex(ep.QuestionError, "groups needs one calendar for all groups"):
            own.compare("month", by="g", groups="both")
