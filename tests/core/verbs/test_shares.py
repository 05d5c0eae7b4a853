"""Shares, ranks and the order of rows: ties, blanks, parents, the group of all others."""

import datetime as dt
import random
import unittest
from decimal import Decimal

import eptaro as ep

ROWS = {
    "on": [
        "2025-01-05",
        "2025-01-05",
        "2025-01-06",
        "2025-02-01",
        "2025-02-02",
        "2025-02-03",
        "2026-01-01",
    ],
    "g": ["a", "b", "c", "a", "b", "c", "a"],
    "x": [4, 4, 2, 1, None, 7, 10],
}
BOOK = ep.Daybook(ROWS, date="on", by="g", measures=["s=sum(x)", "hi=max(x)"])


def rows(table):
    """Return the rows of a table."""
    return list(table.rows())


class Ranks(unittest.TestCase):
    """1 for the largest; equal values share a rank, what is blank has none."""

    def test_ties_share_a_rank_and_the_next_is_left_out(self):
        january = [
            row
            for row in rows(BOOK.recap("month", by="g", ranks=True))
            if row["period"] == "2025-01"
        ]
        self.assertEqual([row["s_rank"] for row in january], [1, 1, 3])

    def test_blanks_have_no_rank_and_one_group_is_ranked_among_its_periods(self):
        table = BOOK.recap("month", by="g", ranks=True)
        self.assertEqual(
            [row["hi_rank"] for row in rows(table) if row["period"] == "2025-02"], [2, None, 1]
        )
        alone = [
            (row["s"], row["s_rank"]) for row in rows(BOOK.recap("month", ranks=True)) if row["s"]
        ]
        self.assertEqual(alone, [(10, 1), (8, 3), (10, 1)])

    def test_subtotals_are_ranked_among_their_own_level(self):
        table = BOOK.recap("month", ranks=True, subtotals="year")
        years = [row["s_rank"] for row in rows(table) if row["level"] == "year"]
        self.assertEqual(years, [1, 2])

    def test_all_others_take_no_rank_and_come_last_whichever_way_rows_are_sorted(self):
        for sort in ("s", "-s"):
            table = BOOK.recap("year", by="g", top=1, ranks=True, sort=sort)
            words = [row["g"] for row in rows(table)]
            self.assertEqual(words[-2:], ["(others)", "(others)"])
            self.assertTrue(
                all(row["s_rank"] is None for row in rows(table) if row["g"] == "(others)")
            )


class Sorted(unittest.TestCase):
    """By a column, either way; blanks come last both ways, and equal rows keep their order."""

    def test_blanks_come_last(self):
        for sort, want in (("hi", [1, 2, 4, 4, 7, 10]), ("-hi", [10, 7, 4, 4, 2, 1])):
            found = [row["hi"] for row in rows(BOOK.recap("month", by="g", sort=sort))]
            self.assertEqual([value for value in found if value is not None], want)
            self.assertEqual(found[: len(want)], want)

    def test_equal_rows_keep_their_order_and_text_goes_by_letters(self):
        table = BOOK.recap("month", by="g", only="2025-01", sort="-s")
        self.assertEqual([row["g"] for row in rows(table)], ["a", "b", "c"])
        self.assertEqual([row["g"] for row in rows(table.sorted("-g"))], ["c", "b", "a"])

    def test_a_second_column_decides_between_equals(self):
        plain = list(rows(BOOK.recap("month", by="g")))
        size = lambda r: (r["s"] is None, -(r["s"] or 0))  # noqa: E731
        for sort, key in ((["period", "-s"], lambda r: (r["period"], size(r))),
                          (["-s", "period", "-g"], lambda r: (size(r), r["period"], -ord(r["g"])))):  # fmt: skip
            with self.subTest(sort=sort):
                found = list(rows(BOOK.recap("month", by="g", sort=sort)))
                self.assertEqual(found, sorted(plain, key=key))
        for sort in (5, ["s", 5]):
            with (
                self.subTest(sort=sort),
                self.assertRaisesRegex(ep.QuestionError, "must be the name"),
            ):
                BOOK.recap("month", by="g", sort=sort)

    def test_an_unknown_column_is_told(self):
        with self.assertRaisesRegex(ep.QuestionError, "unknown column 'z'"):
            BOOK.recap("month", sort="-z")


class Shares(unittest.TestCase):
    """Of all rows, of the period, of the wider period, and of those shown so far."""

    def test_of_all_and_of_their_period(self):
        table = BOOK.recap("month", by="g", only="2025", shares=True)
        for row in rows(table):
            month = {"2025-01": 10, "2025-02": 8}.get(row["period"], 0)
            if row["s"] is None:  # all its values are missing, and so is its share
                self.assertEqual((row["s_share"], row["s_share_of_period"]), (None, None))
                continue
            self.assertAlmostEqual(row["s_share"], row["s"] / 18)
            if month:
                self.assertAlmostEqual(row["s_share_of_period"], row["s"] / month)
        self.assertNotIn("hi_share", table)

    def test_of_the_wider_period_in_each_group(self):
        table = BOOK.recap("month", by="g", shares=True, subtotals="year")
        years = {
            (row["g"], row["period"]): row["s"] for row in rows(table) if row["level"] == "year"
        }
        self.assertEqual(years["a", "2025"], 5)
        for row in rows(table):
            if row["level"] == "month":
                whole = years[row["g"], row["period"][:4]]
                want = row["s"] / whole if whole and row["s"] is not None else None
                self.assertEqual(row["s_share_of_parent"], want, row)
            else:
                self.assertIsNone(row["s_share_of_parent"])

    def test_running_shares_go_in_the_order_shown_and_end_at_one(self):
        for sort in (None, "-s"):
            table = BOOK.recap("month", by="g", shares=True, sort=sort)
            running, so_far = [row["s_running_share"] for row in rows(table)], 0
            for share, row in zip(running, rows(table), strict=True):
                so_far += row["s"] or 0
                self.assertAlmostEqual(share, so_far / 28)
            self.assertAlmostEqual(running[-1], 1)

    def test_running_shares_of_money_are_those_of_its_cents(self):
        for seed in range(20):
            rng = random.Random(seed)
            cents = sorted((rng.randint(1, 10**6) for _ in range(30)), reverse=True)
            data = {
                "on": ["2025-01-01"] * 30,
                "g": [f"{n:02d}" for n in range(30)],
                "x": [Decimal(n) / 100 for n in cents],
            }
            book = ep.Daybook(data, date="on", by="g", measures="s=sum(x)")
            running = book.recap("year", by="g", shares=True, sort="-s")["s_running_share"]
            wanted = [sum(cents[: n + 1]) / sum(cents) for n in range(30)]
            self.assertEqual(running.tolist(), wanted)

    def test_totals_are_not_counted_again(self):
        table = BOOK.recap("month", shares=True, totals=True, subtotals="year")
        total = next(row for row in rows(table) if row["period"] == "total")
        self.assertAlmostEqual(total["s_share"], 1)
        self.assertAlmostEqual(total["s_running_share"], 1)


class Top(unittest.TestCase):
    """Groups of several columns, over all and within each value of some."""

    def setUp(self):
        rng = random.Random(4)
        self.data = {
            "on": [f"2025-{rng.randint(1, 3):02d}-05" for _ in range(300)],
            "a": [rng.choice(["x", "y", None]) for _ in range(300)],
            "b": [rng.randint(1, 6) for _ in range(300)],
            "v": [rng.randint(1, 50) for _ in range(300)],
        }
        self.book = ep.Daybook(self.data, date="on", by=["a", "b"], measures="s=sum(v)")

    def totals(self, *names):
        found: dict[tuple, int] = {}
        for row in zip(*(self.data[name] for name in (*names, "v")), strict=True):
            found[row[:-1]] = found.get(row[:-1], 0) + row[-1]
        return found

    def test_over_all(self):
        found = rows(self.book.recap("year", by=["a", "b"], top=3))
        order = sorted(self.totals("a", "b").items(), key=lambda item: -item[1])
        wanted = [(a, str(b), s) for (a, b), s in order[:3]]
        rest = ("(others)", "(others)", sum(s for _, s in order[3:]))
        self.assertEqual([(r["a"], r["b"], r["s"]) for r in found], [*wanted, rest])

    def test_within_each_value_of_a_column(self):
        for within, picked in (("a", "b"), ("b", "a")):
            for count in (1, 2, 9):
                found = rows(
                    self.book.recap("year", by=["a", "b"], top=count, top_within=within, ranks=True)
                )
                every = self.totals(within, picked)
                for value in {key for key, _ in every}:
                    own = sorted((s for (key, _), s in every.items() if key == value), reverse=True)
                    mine = [r for r in found if r[within] == value]
                    wanted = [*own[:count], *([sum(own[count:])] if own[count:] else [])]
                    self.assertEqual([r["s"] for r in mine], wanted)
                    for row in mine:
                        self.assertEqual(row[picked] == "(others)", row["s_rank"] is None)
                        self.assertIn(row[within], self.data[within])

    def test_a_rest_is_traced_and_tied_out(self):
        table = self.book.recap("year", by=["a", "b"], top=1, top_within="a", totals=True)
        for row in range(len(table)):
            found = table.trace(row, "s")
            self.assertTrue(found.agrees)
            self.assertEqual(found.plain, table["s"][row])
        self.assertEqual(self.book.prove(table), len(table))

    def test_what_cannot_be(self):
        for options, said in (
            ({"top": 0}, "at least 1"), ({"top": 1, "top_within": "c"}, "unknown group column 'c'"),
            ({"top": 1, "top_within": ["a", "b"]}, "that top_within does not name"), ({"top_within": "a"}, "goes with top"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ep.QuestionError, said):
                self.book.recap("year", by=["a", "b"], **options)


class Indexes(unittest.TestCase):
    """Indexes, shares of a cross-tab, growth per year."""

    BOOK = ep.Daybook(
        {
            "on": ["2020-01-15", "2020-02-10", "2021-01-20", "2021-02-03", "2024-01-31", "2024-02-09"],
            "g": ["a", "b", "a", "b", "a", "b"],
            "x": [200, 0, 300, 50, 800, 20],
        },
        date="on", by="g", measures=["s=sum(x)", "m=mean(x)"], coverage="2020-01-01..2024-02-20",
    )  # fmt: skip

    def test_the_base_is_a_hundred_and_part_finished_periods_are_blank(self):
        for name, base, per in (("a", "2020-01", "month"), ("b", "2021", "year")):
            found = rows(self.BOOK.recap(per, by="g", index=base, totals=True))
            mine = [row for row in found if row["g"] == name]
            whole = next(row["s"] for row in mine if row["period"] == base)
            for row in mine:
                counts = row["complete"] and row["period"] != "total"
                wanted = 100 * row["s"] / whole if counts else None
                self.assertEqual(row["s_index"], wanted, row)
        found = rows(self.BOOK.recap("month", by="g", index="2024-02"))
        self.assertEqual({row["s_index"] for row in found}, {None})
        with self.assertRaisesRegex(ep.QuestionError, "unknown period '2020-13'"):
            self.BOOK.recap("month", index="2020-13")
        for options in ({"per": "weekday"}, {"per": "year", "wide": True, "by": "g"}):
            with self.assertRaises(ep.QuestionError):
                self.BOOK.recap(index="2020", **options)

    def test_shares_of_a_cross_tab(self):
        table = self.BOOK.recap("year", by="g", wide=True, shares=True)
        self.assertNotIn("a m share", table.names)
        long = {
            (r["g"], r["period"]): r for r in rows(self.BOOK.recap("year", by="g", shares=True))
        }
        for row in rows(table):
            if row["period"] != "total":
                for name in "ab":
                    wanted = long[name, row["period"]]["s_share_of_period"]
                    self.assertEqual(row[f"{name} s share"], wanted)
            self.assertEqual(row["total s share"], row["total s"] / 1370)

    def test_growth_per_year_since_a_fixed_period(self):
        found = rows(self.BOOK.compare("month", against="2020-01", by="g"))
        rates = {(row["g"], row["period"]): row["s_growth_per_year"] for row in found}
        self.assertAlmostEqual(rates["a", "2024-01"], 4 ** (1 / 4) - 1, 14)
        self.assertAlmostEqual(rates["a", "2021-01"], 0.5, 14)
        self.assertIsNone(rates["a", "2020-01"])
        self.assertIsNone(rates["a", "2024-02"])  # part-finished
        self.assertIsNone(rates["b", "2021-02"])  # from nothing
        found = rows(self.BOOK.compare("year", against="2020-01-10..2020-01-20"))
        row = next(row for row in found if row["period"] == "2021")
        self.assertIsNone(row["s_growth_per_year"])  # less than a year later
        found = rows(self.BOOK.compare("year", against="2020-01-01..2020-01-20"))
        row = next(row for row in found if row["period"] == "2021")
        self.assertAlmostEqual(row["s_growth_per_year"], 0.75, 14)
        found = rows(self.BOOK.compare("month", against="2020-01-10..2020-01-20", by="g"))
        years = (dt.date(2024, 1, 1) - dt.date(2020, 1, 10)).days / 365.2425
        row = next(row for row in found if (row["g"], row["period"]) == ("a", "2024-01"))
        self.assertAlmostEqual(row["s_growth_per_year"], 4 ** (1 / years) - 1, 12)
        self.assertNotIn("s_growth_per_year", self.BOOK.compare("year").names)
