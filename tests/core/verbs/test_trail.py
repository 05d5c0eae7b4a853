"""Rolling windows equal plain loops over the transactions."""

import datetime as dt
import random
import statistics
import unittest
from decimal import Decimal
from fractions import Fraction

import eptaro as ep
from tests import oracle
from tests.core.measures.test_measures import SPECS, expected
from tests.core.verbs.test_verbs import book_of
from tests.oracle import DAY

HELD = ep.Workdays(holidays=ep.HolidaySet([ep.Holiday(dt.date(2024, 12, 25), "Rest")]))


def shift(day: dt.date, n: int, unit: str) -> dt.date:
    """Move a day by n units, by plain datetime."""
    if unit in ("day", "week"):
        return day + n * DAY * (7 if unit == "week" else 1)
    return oracle.add_civil_months(day, n * oracle.MONTHS_IN[unit])


def window(day: dt.date, n: int, unit: str) -> dt.date:
    """Return the first day of a window of n units that ends on a day."""
    return max(shift(day, -n, unit) + DAY, shift(day + DAY, -n, unit))


class Windows(unittest.TestCase):
    """Which days a window holds."""

    def test_weighted_means_of_money_are_rounded_once(self):
        rng = random.Random(5)
        cents = [rng.randint(1, 10**6) for _ in range(24)]
        months = [f"{2024 + n // 12}-{n % 12 + 1:02d}-11" for n in range(24)]
        rows = {"on": months, "x": [Decimal(n) / 100 for n in cents]}
        book = ep.Daybook(rows, date="on", measures="s=sum(x)", coverage="2024-01-01..2025-12-31")
        table = book.trail("3 months", every="month", weights=[1, 2, 4])
        found = [value for value in table.column("s_trailing").to_list() if value is not None]
        wanted = [
            (a + 2 * b + 4 * c) / 700 for a, b, c in zip(cents, cents[1:], cents[2:], strict=False)
        ]
        self.assertEqual(found, wanted)

    def test_worked_examples_of_the_design(self):
        book = ep.Daybook({"on": ["2020-01-01", "2025-03-01"]}, date="on", measures="n=count()")
        for back, day, first in (("6 months", "2025-02-28", "2024-09-01"), ("1 year", "2024-02-28", "2023-03-01"),
                                 ("1 month", "2024-03-31", "2024-03-01"), ("1 month", "2024-03-30", "2024-03-01"),
                                 ("7 days", "2024-03-01", "2024-02-24")):  # fmt: skip
            (row,) = book.trail(back, only=ep.Span(day, day)).rows()
            self.assertEqual((str(row["first"]), str(row["last"])), (first, day), back)
        (row,) = book.trail("2 days", ahead="3 days", only="2024-02-27").rows()
        self.assertEqual(
            (str(row["first"]), str(row["last"]), row["days"]), ("2024-02-26", "2024-03-01", 5)
        )
        (row,) = book.trail("1 day", ahead="1 month", only="2024-01-31").rows()
        self.assertEqual(str(row["last"]), "2024-02-29")
        (row,) = book.trail("1 month", far_edge="closed", only="2024-03-31").rows()
        self.assertEqual(str(row["first"]), "2024-02-29")
        (row,) = book.trail("5 days", centred=True, only="2024-03-01").rows()
        self.assertEqual((str(row["first"]), str(row["last"])), ("2024-02-28", "2024-03-03"))

    def test_workdays_count_only_days_worked(self):
        frame = {"on": ["2024-12-01", "2025-01-31"]}
        book = ep.Daybook(frame, date="on", measures="n=count()", workdays=HELD)
        for day, first in (
            ("2024-12-27", "2024-12-24"),
            ("2024-12-29", "2024-12-24"),
            ("2024-12-25", "2024-12-20"),
        ):
            (row,) = book.trail("3 workdays", only=ep.Span(day, day)).rows()
            self.assertEqual(str(row["first"]), first, day)
        (row,) = book.trail(
            "1 day", ahead="2 workdays", only=ep.Span("2024-12-24", "2024-12-24")
        ).rows()
        self.assertEqual(str(row["last"]), "2024-12-27")

    def test_what_cannot_be(self):
        book = ep.Daybook({"on": ["2025-01-01"]}, date="on", measures="n=count()")
        bad = (
            (("6 moons",), {}, "unknown unit"),
            (("months",), {}, "not an amount"),
            (("0 days",), {}, "at least 1"),
            (("1 day",), {"far_edge": "shut"}, "far_edge"),
            (("1 day",), {"incomplete": "drop"}, "Accepted: keep, blank"),
            (("3 months",), {"centred": True}, "centred window"),
            (("3 entries",), {"ahead": "1 day"}, "entries reach back only"),
            (("3 active days",), {"far_edge": "closed"}, "no far edge"),
            (("3 days",), {"weights": [1, 2]}, "2 weights for 3 days"),
            (("2 months",), {"weights": [1, 2]}, "every='month'"),
            (("2 days",), {"weights": [1, -1]}, "add up to nothing"),
            (
                ("2 days",),
                {"weights": [1, 2], "every": "entry"},
                "leave out weights or every='entry'",
            ),
        )
        for arguments, options, message in bad:
            with self.assertRaisesRegex(ep.QuestionError, message):
                book.trail(*arguments, **options)


class Values(unittest.TestCase):
    """What windows hold."""

    def test_every_measure_over_sparse_months_equals_the_oracle(self):
        for seed, (n, unit) in enumerate(
            ((7, "day"), (2, "week"), (1, "month"), (6, "month"), (1, "quarter"), (1, "year"))
        ):
            rows = oracle.random_rows(seed)
            on, group, x = zip(*rows.rows, strict=True)
            book = ep.Daybook(
                {"on": list(on), "g": list(group), "x": list(x)}, date="on", by="g", measures=SPECS
            )
            for row in [
                *list(book.trail(f"{n} {unit}s", by="g").rows())[::61],
                *book.trail(f"{n} {unit}s", every="month").rows(),
            ]:
                first = window(row["date"], n, unit)
                self.assertEqual((row["first"], row["last"]), (first, row["date"]))
                self.assertEqual(row["complete"], rows.complete(first, row["date"]))
                hit = [
                    r
                    for r in rows.rows
                    if first <= r[0] <= row["date"] and r[1] == row.get("g", r[1])
                ]
                self.assertEqual(row["entries"], len(hit))
                for name in (
                    "sum",
                    "count",
                    "mean",
                    "min",
                    "max",
                    "distinct",
                    "std",
                    "median",
                    "quantile",
                ):
                    want = expected(name, [Fraction(r[2]) for r in hit if r[2] is not None])
                    if name == "sum":
                        want = oracle.added(r[2] for r in hit)
                    got = row[f"x_{name}_trailing"]
                    if want is None:
                        self.assertIsNone(got)
                    else:
                        self.assertAlmostEqual(float(got), float(want), 7, (row, name))

    def test_entries_and_active_days_equal_the_oracle(self):
        rows = oracle.random_rows(9, size=60, years=1)
        book = book_of(rows, ep.MonthCalendar())
        for row in list(book.trail("5 entries", by="group").rows())[::17]:
            own = [
                r
                for r in sorted(rows.rows, key=lambda r: r[0])
                if r[1] == row["group"] and r[0] <= row["date"]
            ]
            last = own[-5:]
            self.assertEqual((row["entries"], row["complete"]), (len(last), len(last) == 5))
            self.assertEqual(
                oracle.exact(row["revenue_trailing"]), oracle.added(r[2] for r in last)
            )
            self.assertEqual(row["first"], last[0][0] if last else row["date"])
        for row in list(book.trail("4 active days", by="group").rows())[::17]:
            own = sorted({r[0] for r in rows.rows if r[1] == row["group"] and r[0] <= row["date"]})[
                -4:
            ]
            self.assertEqual(
                (row["first"], row["complete"]), (own[0] if own else row["date"], len(own) == 4)
            )
            hit = [
                r[2]
                for r in rows.rows
                if r[1] == row["group"] and row["first"] <= r[0] <= row["date"]
            ]
            self.assertEqual(oracle.exact(row["revenue_trailing"]), oracle.added(hit))

    def test_a_window_of_a_periods_length_on_its_last_day_is_its_recap(self):
        rows = oracle.random_rows(3)
        for rule in oracle.FISCAL_RULES:
            book = book_of(rows, ep.MonthCalendar("own", **rule))
            for level in ("month", "quarter", "year"):
                recap = list(book.recap(level).rows())[:-1]
                trail = list(book.trail(f"1 {level}", every=level).rows())
                for one, two in zip(recap, trail, strict=False):
                    if one["complete"]:
                        self.assertEqual(
                            (one["first"], one["revenue"]), (two["first"], two["revenue_trailing"])
                        )

    def test_cents_survive_a_turnover_of_1e15(self):
        values = [1e15, *(i / 100 for i in range(1, 40))]
        frame = {"on": [dt.date(2025, 1, 1) + DAY * i for i in range(40)], "x": values}
        got = ep.Daybook(frame, date="on", measures="s=sum(x)").trail("7 days")["s_trailing"]
        for i in range(7, 40):
            self.assertAlmostEqual(got[i], sum(values[i - 6 : i + 1]), 6)

    def test_incomplete_windows_are_kept_or_blank(self):
        book = ep.Daybook(
            {"on": ["2025-01-01", "2025-01-03"], "x": [1, 2]}, date="on", measures="s=sum(x)"
        )
        self.assertEqual(book.trail("2 days")["complete"].tolist(), [False, True, True])
        self.assertEqual(
            book.trail("2 days", incomplete="blank").column("s_trailing").to_list(), [None, 1, 2]
        )
        for every in ("day", "entry"):
            table = book.trail("2 days", every=every, incomplete="blank")
            for row in table.rows():
                self.assertEqual(row["s_trailing"] is None, not row["complete"], row)

    def test_weights(self):
        book = ep.Daybook(
            {"on": ["2025-01-01", "2025-02-10", "2025-03-31"], "x": [1, 2, 6]},
            date="on",
            measures="s=sum(x)",
        )
        got = book.trail("2 days", weights=[1, 3]).column("s_trailing").to_list()
        self.assertEqual(got[:3], [None, 0.25, 0.0])
        got = book.trail("2 months", every="month", weights=[1, 3]).column("s_trailing").to_list()
        self.assertEqual(got, [None, (1 + 6) / 4, (2 + 18) / 4])
        cut = book.trail("2 months", every="month", weights=[1, 3], only="2025-03-01..2025-03-30")
        self.assertEqual(cut.column("s_trailing").to_list(), [2 / 4])

    def test_two_stages_find_the_busiest_day(self):
        book = ep.Daybook({"on": ["2025-01-01", "2025-01-01", "2025-01-03"], "x": [1, 2, 2]}, date="on",
                          measures=["b=max(sum(x) per day)", "m=mean(sum(x) per day)"])  # fmt: skip
        *_, row = book.trail("90 days").rows()
        self.assertEqual((row["b_trailing"], row["m_trailing"]), (3, 5 / 3))

    def test_an_opened_book_has_no_entries(self):
        import tempfile
        from pathlib import Path

        book = ep.Daybook({"on": ["2025-01-01"]}, date="on", measures="n=count()")
        with tempfile.TemporaryDirectory() as folder:
            opened = ep.Daybook.open(book.write(Path(folder, "b.parquet")))
        with self.assertRaisesRegex(ep.QuestionError, "needs the transactions"):
            opened.trail("3 entries")


class LastEntries(unittest.TestCase):
    """`every="entry"` with a number of entries, against plain Python."""

    def test_each_row_and_those_before_it(self):
        rng, seen = random.Random(12), 0
        for _ in range(8):
            rows = [
                (dt.datetime(2025, 1, 1) + dt.timedelta(hours=rng.randrange(900)), rng.choice("ab"),
                 rng.choice([None, *range(9)]), number)
                for number in range(80)
            ]  # fmt: skip
            on, group, x, _ = zip(*rows, strict=True)
            n, where = rng.randint(1, 5), rng.choice([None, "x > 2 or x is blank"])
            by, only = rng.choice([None, "g"]), rng.choice([None, "2025-01-10..2025-01-20"])
            incomplete = rng.choice(["keep", "blank"])
            book = ep.Daybook({"on": on, "g": group, "x": x}, date="on", by="g", where=where,
                              measures=["s=sum(x)", "m=median(x)", "l=last(x)", "n=count()"])  # fmt: skip
            table = book.trail(
                f"{n} entries", every="entry", by=by, only=only, incomplete=incomplete
            )
            kept = [r for r in rows if where is None or r[2] is None or r[2] > 2]
            inside = [r for r in kept if only is None or (10 <= r[0].day <= 20 and r[0].month == 1)]
            self.assertEqual(table["row"].tolist(), [r[3] + 1 for r in inside])
            for row, own in zip(table.rows(), inside, strict=True):
                before = [r for r in kept if (by is None or r[1] == own[1]) and (r[0], r[3]) <= (own[0], own[3])]  # fmt: skip
                window = sorted(before, key=lambda r: (r[0], r[3]))[-n:]
                held = [r[2] for r in window if r[2] is not None]
                self.assertEqual((row["first"], row["last"]), (window[0][0].date(), own[0].date()))
                self.assertEqual(row["complete"], len(window) == n)
                found = [row[f"{name}_trailing"] for name in "smln"]
                wanted = [sum(held) if held else None, statistics.median(held) if held else None,
                          held[-1] if held else None, len(window)]  # fmt: skip
                if incomplete == "blank" and len(window) < n:
                    wanted = [None] * 4
                self.assertEqual(found, wanted, (own, n))
                seen += 1
        self.assertGreater(seen, 200)
        with self.assertRaisesRegex(ep.QuestionError, "leave out weights"):
            book.trail("2 entries", every="entry", weights=[1, 2])
        with self.assertRaisesRegex(ep.QuestionError, "days or entries, not of 2 active days"):
            book.trail("2 active days", every="entry")
