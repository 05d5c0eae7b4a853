"""Goals: the pace at each day of a period, its end included, and the gap to it."""

import datetime as dt
import random
import tempfile
import types
import unittest
from decimal import Decimal
from pathlib import Path

import eptaro as ep
from eptaro.inputs.goals_and_coverage import read_goals

START = dt.date(2023, 12, 1)

DAYS = [*(f"2024-01-{n:02d}" for n in range(1, 32)), *(f"2025-01-{n:02d}" for n in range(1, 32))]
BOOK = ep.Daybook(
    {"on": DAYS, "x": [1] * 10 + [2] * 21 + [3] * 31}, date="on", measures=["s=sum(x)", "n=count()"]
)


class Straight(unittest.TestCase):
    """goal * days elapsed / days of the period."""

    def test_it_grows_evenly_and_is_the_whole_goal_at_the_periods_end(self):
        table = BOOK.accumulate("month", goals={"2025-01": 62}, only="2025-01")
        for row in table.rows():
            elapsed = row["date"].day
            self.assertAlmostEqual(row["s_goal_to_date"], 62 * elapsed / 31)
            self.assertAlmostEqual(row["s_goal_gap"], 3 * elapsed - 62 * elapsed / 31)
            self.assertAlmostEqual(row["s_goal_reached"], 1.5)
        self.assertAlmostEqual(row["s_goal_to_date"], row["s_goal"])
        self.assertNotIn("n_goal", table)

    def test_periods_without_a_goal_are_blank(self):
        row = next(BOOK.accumulate("month", goals={"2025-01": 62}).rows())
        self.assertEqual(
            [row[f"s_goal{end}"] for end in ("", "_to_date", "_gap", "_reached")], [None] * 4
        )


class ToTheCent(unittest.TestCase):
    """Goals of months add up like amounts of money: one that is met to the cent leaves nothing."""

    def test_goals_of_months_add_up_to_the_cent(self):
        for seed in range(20):
            rng = random.Random(seed)
            cents = [rng.randint(-500, 10**7) for _ in range(12)]
            more = rng.choice([0, 1, -1, 250])
            months = [f"2025-{month:02d}" for month in range(1, 13)]
            amounts = [Decimal(n) / 100 for n in cents]
            fares = [amounts[0] + Decimal(more) / 100, *amounts[1:]]
            rows = {"on": [f"{month}-11" for month in months], "fare": fares}
            book = ep.Daybook(
                rows, date="on", measures="revenue=sum(fare)", coverage="2025-01-01..2025-12-31"
            )
            goals = {month: rng.choice([float, str, Decimal])(a) for month, a in zip(months, amounts, strict=True)}  # fmt: skip
            for verb, options in (
                ("recap", {"per": "year"}),
                ("recap", {"per": "quarter"}),
                ("accumulate", {"within": "year"}),
                ("compare", {"per": "year"}),
            ):
                row = list(getattr(book, verb)(**{"goals": goals} | options).rows())
                row = row[0] if verb == "recap" else row[-1]
                parts = 3 if options.get("per") == "quarter" else 12
                with self.subTest(seed=seed, verb=verb, **options):
                    goal = sum(cents[:parts])
                    self.assertEqual(row["revenue_goal"], goal / 100)
                    self.assertEqual(row["revenue_goal_to_date"], goal / 100)
                    self.assertEqual(row["revenue_goal_gap"], more / 100)


class PriorYear(unittest.TestCase):
    """The share that the prior year's period had reached at the counterpart of the day."""

    def test_it_has_the_prior_years_shape_and_its_end(self):
        table = BOOK.accumulate("month", goals={"2025-01": 104}, pace="prior year", only="2025-01")
        whole = 10 + 2 * 21
        for row in table.rows():
            day = row["date"].day
            reached = min(day, 10) + 2 * max(day - 10, 0)
            self.assertAlmostEqual(row["s_goal_to_date"], 104 * reached / whole)
        self.assertAlmostEqual(row["s_goal_to_date"], 104)

    def test_where_the_prior_year_is_not_known_it_is_blank(self):
        table = BOOK.accumulate("month", goals={"2024-01": 5}, pace="prior year", only="2024-01")
        self.assertEqual({row["s_goal_to_date"] for row in table.rows()}, {None})

    def test_where_the_prior_year_is_known_in_part_it_is_blank(self):
        late = ep.Daybook(
            {"on": DAYS[4:], "x": [1] * len(DAYS[4:])}, date="on", measures=["s=sum(x)"]
        )
        table = late.accumulate("month", goals={"2025-01": 5}, pace="prior year", only="2025-01")
        self.assertEqual({row["s_goal_to_date"] for row in table.rows()}, {None})

    def test_a_comparison_sets_whole_periods_against_their_goals(self):
        table = BOOK.compare("month", goals={"2025-01": 62})
        (row,) = [row for row in table.rows() if row["period"] == "2025-01"]
        self.assertEqual((row["s_goal"], row["s_goal_to_date"], row["s_goal_gap"]), (62, 62, 31))


class Outside(unittest.TestCase):
    """Goals of periods before the book or after the as-of date are named in the footer."""

    def test_they_are_named_whatever_the_verb_and_wherever_the_book_is_kept(self):
        plan = {f"{year}-{month:02}": 10 for year in (2024, 2025) for month in range(1, 13)}
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "rows.csv"
            path.write_text("on,g\n" + "".join(f"{day},{day[-1]}\n" for day in DAYS))
            read = {"date": "on", "by": "g", "measures": "s=count()"}
            kept = ep.Daybook.read(path, into=Path(folder) / "kept", shards=3, **read)
            for book in (ep.Daybook.read(path, **read), kept):
                for verb in ("recap", "accumulate", "compare", "card"):
                    level = [] if verb == "card" else ["month"]
                    for by in ([], ["g"]):
                        table = getattr(book, verb)(*level, by=by, goals=plan)
                        note = "goals without a row: 2025-02, 2025-03, 2025-04 and 8 more"
                        self.assertIn(note, table.footer, (verb, by))
                        table = getattr(book, verb)(
                            *level, by=by, goals={**plan, "2023-12": 1}, as_of="2024-12-31"
                        )
                        note = "goals without a row: 2023-12, 2025-01, 2025-02 and 10 more"
                        self.assertIn(note, table.footer, (verb, by))
        days = ["2024-01-31", "2024-02-01", "2024-03-15"]
        late = ep.Daybook({"on": days}, date="on", measures="s=count()")
        inside = {"2024-01": 1, "2024-02": 1, "2024-03": 1}
        self.assertNotIn("goals without", late.recap("month", goals=inside).footer)
        outside = inside | {"2023-12": 1, "2024-04": 1}
        table = late.recap("month", goals=outside)
        self.assertIn("goals without a row: 2023-12, 2024-04", table.footer)
        self.assertNotIn("more", table.footer)
        here = BOOK.recap("month", only="2025-01", goals={"2024-01": 1, "2025-01": 1})
        self.assertNotIn("goals without", here.footer)


class Refused(unittest.TestCase):
    """Goals that cannot be."""

    def test_they_are_told(self):
        for goals, more, message in (
            (5, {}, "must go from period labels"), ({"2025-13": 1}, {}, "2025-13"),
            ({"2025-01": 1}, {"pace": "fast"}, "unknown value for pace 'fast'"),
            ({"2025-01": 1}, {"within": "all"}, "need whole periods"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ValueError, message):
                BOOK.accumulate(**({"within": "month", "goals": goals} | more))


class InParts(unittest.TestCase):
    """Goals of shorter periods add up, each at its own pace; all of them must be there."""

    MONTHS = types.MappingProxyType({f"2025-{n:02d}": 31 * n for n in range(1, 13)})

    def setUp(self):
        self.rng = random.Random(4)
        self.days = [START + dt.timedelta(n) for n in range(800)]
        rows = [
            (day, self.rng.choice("ab"), self.rng.randrange(1, 9))
            for day in self.days
            for _ in range(2)
        ]
        self.rows = rows
        self.book = ep.Daybook(
            {"on": [r[0] for r in rows], "g": [r[1] for r in rows], "x": [r[2] for r in rows]},
            date="on", by="g", measures="s=sum(x)",
        )  # fmt: skip

    def paced(self, day, within, prior):
        """Return what should have been reached by a day, by a loop over months."""
        total = 0.0
        for label, goal in self.MONTHS.items():
            month = int(label[5:])
            if within == "quarter" and (month - 1) // 3 != (day.month - 1) // 3:
                continue
            first = dt.date(2025, month, 1)
            end = dt.date(2025 + month // 12, month % 12 + 1, 1) - dt.timedelta(1)
            if day >= end:
                total += goal
            elif day >= first and not prior:
                total += goal * ((day - first).days + 1) / ((end - first).days + 1)
            elif day >= first:
                then = [r for r in self.rows if (r[0].year, r[0].month) == (2024, month)]
                total += (
                    goal * sum(r[2] for r in then if r[0].day <= day.day) / sum(r[2] for r in then)
                )
        return total

    def test_months_make_up_quarters_and_years(self):
        for within in ("quarter", "year"):
            for pace in ("straight", "prior year"):
                table = self.book.accumulate(within, goals=self.MONTHS, pace=pace, only="2025")
                for row in table.rows():
                    if row["date"] != dt.date(
                        2025, 2, 28
                    ):  # whose counterpart is the 28th or the 29th
                        want = self.paced(row["date"], within, pace == "prior year")
                        self.assertAlmostEqual(
                            row["s_goal_to_date"], want, msg=(within, pace, row["date"])
                        )
        (row,) = [
            r
            for r in self.book.compare("quarter", goals=self.MONTHS).rows()
            if r["period"] == "2025-Q2"
        ]
        self.assertEqual(row["s_goal"], 31 * (4 + 5 + 6))

    def test_groups_and_missing_parts(self):
        goals = {("a", label): goal for label, goal in self.MONTHS.items()} | {("b", "2025-01"): 7}
        found = {
            (r["g"], r["period"]): r["s_goal"]
            for r in self.book.compare("quarter", by="g", goals=goals).rows()
        }
        self.assertEqual(found["a", "2025-Q1"], 31 * (1 + 2 + 3))
        self.assertIsNone(found["b", "2025-Q1"])  # two of its months have none
        note = "without a goal, as some of their parts have none: 2025-Q1"
        partial = {"2025-01": 5, "2025-02": 5} | {f"2025-{n:02d}": 1 for n in range(4, 13)}
        for ask in (
            lambda asked: self.book.compare("quarter", by="g", goals=asked),
            lambda asked: self.book.recap("quarter", by="g", goals=asked),
            lambda asked: self.book.recap("month", subtotals="quarter", by="g", goals=asked),
            lambda asked: self.book.accumulate("quarter", by="g", every="month", goals=asked),
        ):
            for asked in (goals, partial, {"s": partial}):
                self.assertTrue(ask(asked).footer.endswith(note), ask(asked).footer)
            self.assertNotIn("some of their parts", ask(self.MONTHS).footer)

    def test_a_total_row_has_none_of_those_of_groups(self):
        goals = {("a", label): goal for label, goal in self.MONTHS.items()}
        for pace in ("straight", "prior year"):
            for asked in (goals, {"s": goals}, goals | {"2025-01": 3}):
                table = self.book.accumulate(
                    "month", by="g", every="month", totals=True, goals=asked, pace=pace
                )
                total = [row for row in table.rows() if row["g"] == "total"]
                given = [row for row in total if row["s_goal"] is not None]
                self.assertEqual(len(given), int("2025-01" in asked))
                self.assertGreater(len(total), 10)

    def test_a_month_that_is_over_counts_whole_whatever_the_prior_year_was(self):
        days = [
            START + dt.timedelta(n) for n in range(62, 62 + 395)
        ]  # from 2024-02-01 to 2025-03-01
        book = ep.Daybook({"on": days, "x": [1] * len(days)}, date="on", measures="s=sum(x)")
        goals = {"2025-01": 10, "2025-02": 20, "2025-03": 30}
        table = book.accumulate(
            "quarter", goals=goals, pace="prior year", only="2025-02-10..2025-03-01"
        )
        found = {row["date"]: row["s_goal_to_date"] for row in table.rows()}
        self.assertAlmostEqual(found[dt.date(2025, 2, 14)], 10 + 20 * 14 / 29)
        self.assertAlmostEqual(found[dt.date(2025, 3, 1)], 10 + 20 + 30 / 31)

    def test_what_does_not_add_up_is_refused(self):
        for goals, within, said in (
            ({"2025-01": 1, "2025-Q2": 2}, "year", "2025-01 is a month and 2025-Q2 a quarter; give all for one level"),
            ({"2025": 1}, "month", "2025 is a year, and the goals of these rows are per month"),
            ({"2025-W03": 1}, "month", "do not add up to a month"),
            ({"2031-01": 1}, "month", "none is for a month of these rows"),
        ):  # fmt: skip
            with self.subTest(goals=goals), self.assertRaisesRegex(ep.QuestionError, said):
                self.book.accumulate(within, goals=goals)


class OfEachMeasure(unittest.TestCase):
    """Goals of several measures, in every verb that takes goals."""

    def rows(self, rng):
        """Return random rows, and goals of two measures for the months of some groups."""
        rows = [
            (START + dt.timedelta(rng.randrange(420)), rng.choice("ab"), rng.randint(1, 20))
            for _ in range(rng.randint(40, 120))
        ] + [(START, "a", 1), (START, "b", 1), (dt.date(2025, 1, 20), "a", 1)]
        months = [f"2024-{month:02d}" for month in range(1, 13)] + ["2025-01"]
        goals = {
            name: {(group, month): rng.randint(10, 90) for group in "ab" for month in months}
            for name in ("s", "n")
        }
        return rows, goals

    def expected(self, goals, name, group, first, last, through):
        """Return the goal of a row, and what of it was due by its last day, from its months."""
        whole = due = 0
        day = first
        while day <= last:
            end = (day + dt.timedelta(32)).replace(day=1) - dt.timedelta(1)
            own = sum(goals[name].get((one, f"{day:%Y-%m}"), 0) for one in group)
            whole += own
            gone = (min(end, through) - day).days + 1
            due += own * max(gone, 0) / ((end - day).days + 1)
            day = end + dt.timedelta(1)
        return whole, due

    def test_recap_accumulate_compare_and_card_agree_with_plain_python(self):
        rng, count = random.Random(5), 0
        for _ in range(12):
            rows, goals = self.rows(rng)
            on, group, x = zip(*rows, strict=True)
            book = ep.Daybook(
                {"on": list(on), "g": list(group), "x": list(x)},
                date="on", by="g", measures=["s=sum(x)", "n=count()"],
            )  # fmt: skip
            through = book.coverage.last
            asks = [
                (book.recap("month", by="g", goals=goals, only="2024-01..2025-01"), ""),
                (book.recap("quarter", by="g", goals=goals, only="2024", subtotals="year"), ""),
                (book.accumulate("month", by="g", goals=goals, every="month", only="2024-01.."), "_to_date"),
                (book.compare("month", back="1 month", by="g", goals=goals, only="2024-02..2025-01"), ""),
                (book.card(levels=["month"], by="g", goals=goals), "_to_date"),
            ]  # fmt: skip
            for table, ending in asks:
                for row in table.rows():
                    first, last = row["first"], row["last"]
                    if ending and table.meta["verb"] == "card":
                        last = (first + dt.timedelta(32)).replace(day=1) - dt.timedelta(1)
                    if row.get("within") is not None:
                        last = (first + dt.timedelta(32)).replace(day=1) - dt.timedelta(1)
                    for name in ("s", "n"):
                        whole, due = self.expected(goals, name, row["g"], first, last, through)
                        self.assertEqual(row[f"{name}_goal"], whole, (name, row))
                        if last > through and "comparable" in row:
                            self.assertIsNone(row[f"{name}_goal_gap"])  # of a part there is none
                            continue
                        self.assertAlmostEqual(row[f"{name}_goal_to_date"], due, 9, (name, row))
                        now = row[f"{name}{ending}"]
                        if row[f"{name}_goal_gap"] is not None:
                            self.assertAlmostEqual(row[f"{name}_goal_gap"], now - due, 9)
                        count += 1
        self.assertGreater(count, 1_000)

    def test_what_cannot_be(self):
        for ask, words in (
            (lambda: BOOK.recap("month", goals={"z": {"2025-01": 1}}), "unknown measure 'z'"),
            (lambda: BOOK.recap("month", goals={"s": 7, "n": {}}), "goals of 's'"),
            (
                lambda: BOOK.recap("month", goals={"s": {"2025": 1}}),
                "goals are for each year, not for per=.month.",
            ),
            (lambda: BOOK.recap("weekday", goals={"2025-01": 1}), "per='weekday' is none"),
            (lambda: BOOK.recap("month", goals={"2025-01": 1}, wide=True), "does not go with wide"),
            (lambda: BOOK.recap("month", goals={"2025-01": 1}, across="year"), "goals"),
            (lambda: BOOK.recap("5 days from 2024-01-01", goals={"2025-01": 1}), "5 days"),
            (
                lambda: BOOK.accumulate("year", every="entry", goals={"2025": 1}),
                "every='entry' has a row per transaction",
            ),
            (lambda: BOOK.accumulate("year", pace="prior year"), "pace='prior year' belongs to"),
            (lambda: BOOK.recap("month", pace="prior year"), "belongs to goals"),
            (lambda: BOOK.compare("month", pace="prior year"), "belongs to goals"),
        ):
            with self.assertRaisesRegex(ep.QuestionError, words):
                ask()

    def test_a_file_has_a_column_for_each_measure(self):
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder, "goals.csv")
            file.write_text("period,route,s,n\n2025-01,a,62,31\n2025-01,b,10,\n")
            self.assertEqual(
                read_goals(file),
                {"s": {("a", "2025-01"): 62, ("b", "2025-01"): 10}, "n": {("a", "2025-01"): 31}},
            )
            file.write_text("period,s,n\n2025-01,62,1\n2025-02,62,x\n")
            with self.assertRaisesRegex(ep.InputError, "row 2: n='x' is not a number"):
                read_goals(file)
            file.write_text("period,note,more\n2025-01,a,b\n")
            with self.assertRaisesRegex(ep.InputError, "unknown column 'goal'"):
                read_goals(file)
