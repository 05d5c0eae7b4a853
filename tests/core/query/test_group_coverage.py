"""Coverage by groups: what lies before a group's first day is blank, and is no zero anywhere."""

import datetime as dt
import random
import statistics
import tempfile
import unittest
from collections import defaultdict
from pathlib import Path

import eptaro as ep

DAY = dt.timedelta(1)
FIRST, LAST = dt.date(2024, 1, 1), dt.date(2024, 12, 31)
OPENS = {"Norrow": FIRST, "Fenholm": dt.date(2024, 5, 10), "Skerrick": dt.date(2024, 9, 1)}
MEASURES = ("s=sum(x)", "n=count()", "low=min(sum(x) per day)", "avg=mean(sum(x) per month)")


def days(first, last):
    """Return all days from a first to a last one."""
    return [first + DAY * n for n in range((last - first).days + 1)]


class ByGroups(unittest.TestCase):
    """Every verb against days counted one by one."""

    def setUp(self):
        rng = random.Random(2)
        rows = [(OPENS[route], route, 5) for route in OPENS] + [(LAST, "Norrow", 7)]
        rows += [
            (day, route, rng.randint(-9, 90))
            for route, opens in OPENS.items()
            for day in days(opens, LAST)
            if rng.random() < 0.3
        ]
        rng.shuffle(rows)
        self.totals = defaultdict(int)
        for day, route, x in rows:
            self.totals[route, day] += x
        on, route, x = (list(part) for part in zip(*rows, strict=True))
        self.frame = {"on": on, "route": route, "x": x}
        self.book = self.make("groups")
        self.ends = dict.fromkeys(OPENS, LAST)

    def make(self, coverage, measures=MEASURES):
        return ep.Daybook(self.frame, date="on", by="route", measures=measures, coverage=coverage)

    def own(self, route, first, last):
        """Return the totals of the days of a span that a group speaks for."""
        lo, hi = max(first, OPENS[route]), min(last, self.ends[route])
        return [self.totals[route, day] for day in days(lo, hi)] if lo <= hi else []

    def check(self, row, value, name="s", first="first", last="last"):
        """Check a row's value and whether it is complete."""
        own = self.own(row["route"], row[first], row[last])
        self.assertEqual(value, sum(own) if own else None, (row, name))
        whole = OPENS[row["route"]] <= row[first] and row[last] <= self.ends[row["route"]]
        self.assertEqual(row["complete"], whole, row)

    def test_rows_per_transaction(self):
        for coverage, opens in (("groups", OPENS), (None, dict.fromkeys(OPENS, FIRST))):
            book, seen, end = self.make(coverage, ["s=sum(x)"]), set(), dt.date(2024, 12, 15)
            for table in (
                book.recap("month", by="route", every="entry", as_of=end),
                book.accumulate("quarter", by="route", every="entry", as_of=end),
                book.trail("30 days", by="route", every="entry", as_of=end),
            ):
                for row in table.rows():
                    whole = opens[row["route"]] <= row["first"] and row["last"] <= end
                    self.assertEqual(row["complete"], whole, (coverage, row))
                    seen.add(whole)
            self.assertEqual(seen, {True, False})

    def test_recap_and_its_measures_of_finer_spans(self):
        for per in ("month", "quarter", "week"):
            for row in self.book.recap(per, by="route").rows():
                self.check(row, row["s"])
                own = self.own(row["route"], row["first"], row["last"])
                self.assertEqual(row["low"], min(own) if own else None, row)
        for row in self.book.recap("year", by="route").rows():
            months = [(dt.date(2024, m, 1), dt.date(2024, m + 1, 1) - DAY if m < 12 else LAST)
                      for m in range(1, 13)]  # fmt: skip
            own = [sum(self.own(row["route"], *month)) for month in months
                   if month[0] >= OPENS[row["route"]]]  # fmt: skip
            self.assertAlmostEqual(row["avg"], statistics.fmean(own))

    def test_running_totals_and_windows(self):
        for row in self.book.accumulate("quarter", by="route").rows():
            span = {**row, "last": row["date"]}
            self.check(span, row["s_to_date"])
            own = self.own(row["route"], row["date"], row["date"])
            self.assertEqual(row["s"], own[0] if own else None)
        for row in self.book.trail("20 days", by="route").rows():
            self.check(row, row["s_trailing"])
        for row in self.book.trail(
            "2 months", by="route", every="month", incomplete="blank"
        ).rows():
            self.assertEqual(row["s_trailing"] is None, not row["complete"], row)

    def test_comparisons_only_where_both_sides_are_known(self):
        for row in self.book.compare("month", by="route", back="1 month").rows():
            known = OPENS[row["route"]] <= row["prior_first"] and row["last"] <= LAST
            self.assertEqual(row["comparable"], known and row["prior_first"] >= FIRST, row)
            self.assertEqual(row["s_change"] is None, not row["comparable"], row)
            own = self.own(row["route"], row["prior_first"], row["prior_last"])
            self.assertEqual(row["s_prior"], sum(own) if own else None)

    def test_rhythm_counts_the_days_of_each_group(self):
        measures = (*MEASURES[:3], "daily=mean(sum(x) per day)")
        for row in self.make("groups", measures).rhythm("weekday", by="route").rows():
            own = [day for day in days(OPENS[row["route"]], LAST)
                   if f"{day:%A}" == row["weekday"]]  # fmt: skip
            total = sum(self.totals[row["route"], day] for day in own)
            self.assertEqual((row["days"], row["s"]), (len(own), total))
            self.assertAlmostEqual(row["s_per_day"], total / len(own))
            self.assertAlmostEqual(row["daily"], total / len(own))
            self.assertEqual(row["low"], min(self.totals[row["route"], day] for day in own))

    def test_all_together_begin_with_the_first_group(self):
        common = self.make(None)
        for ask in (lambda book: book.recap("month"), lambda book: book.trail("30 days"),
                    lambda book: book.compare("quarter"), lambda book: book.card()):  # fmt: skip
            found, wanted = ([*ask(book).rows()] for book in (self.book, common))
            self.assertEqual(found, wanted)
        (january, *_) = self.book.recap("month", by="route", wide=True).rows()
        self.assertEqual((january["Fenholm s"], january["Norrow s"] is None), (None, False))
        self.assertEqual(january["total s"], january["Norrow s"])
        for row in self.book.card(by="route").rows():
            self.check(row, row["s_to_date"])
        (rest, *_) = [row for row in self.book.recap("month", by="route", top=1).rows()
                      if row["route"] == "(others)"]  # fmt: skip
        self.assertIsNone(rest["s"])

    def test_traces_prove_blanks_and_partly_known_spans(self):
        for table, name in (
            (self.book.recap("month", by="route"), "s"),
            (self.book.recap("quarter", by="route"), "low"),
            (self.book.recap("year", by="route"), "avg"),
            (self.book.trail("2 months", by="route", every="month"), "s_trailing"),
            (self.make("groups", MEASURES[:3]).rhythm("weekday", by="route"), "low"),
        ):
            for row in range(len(table)):
                self.assertTrue(table.trace(row, name).agrees, (table.meta["verb"], row, name))

    def test_spans_for_some_groups(self):
        spans = {
            "Fenholm": "2024-04-01..2025-02-28",
            "Skerrick": ep.Span("2024-09-01", "2024-12-31"),
        }
        book = self.make(spans)
        self.assertEqual(str(book.coverage), "2024-01-01..2025-02-28")
        rows = {(r["route"], r["period"]): r for r in book.recap("month", by="route").rows()}
        self.assertEqual(rows["Fenholm", "2024-04"]["s"], 0)
        self.assertTrue(rows["Fenholm", "2024-04"]["complete"])
        self.assertIsNone(rows["Fenholm", "2024-03"]["s"])
        self.assertEqual(rows["Fenholm", "2025-02"]["s"], 0)
        self.assertIsNone(rows["Skerrick", "2025-01"]["s"])
        for wrong, said in (
            ({"Nowhere": "2024-01-01..2024-12-31"}, "there is no group 'Nowhere'"),
            ({"Fenholm": "2024-06-01..2024-12-31"}, "leaves out some of its transactions"),
            ({"Fenholm": "june"}, "coverage of 'Fenholm'"),
        ):
            with self.assertRaisesRegex(ep.InputError, said):
                self.make(wrong)

    def test_written_merged_and_on_another_calendar(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        half = len(self.frame["on"]) // 2
        parts = [{n: v[of] for n, v in self.frame.items()}
                 for of in (slice(half), slice(half, None))]  # fmt: skip
        one, two = (ep.Daybook(part, date="on", by="route", measures=MEASURES, coverage="groups")
                    for part in parts)  # fmt: skip
        for book in (
            ep.Daybook.open(self.book.write(folder / "a.parquet")),
            one.merge(two),
            self.book.with_calendar(ep.MonthCalendar()),
        ):
            self.assertEqual(
                [*book.recap("month", by="route").rows()],
                [*self.book.recap("month", by="route").rows()],
            )
        spans = {"Fenholm": "2024-04-01..2024-12-31"}
        written = ep.Daybook.open(self.make(spans).write(folder / "b.parquet"))
        self.assertEqual(
            [*written.recap("month", by="route").rows()],
            [*self.make(spans).recap("month", by="route").rows()],
        )
        with self.assertRaisesRegex(ep.InputError, "only one of the books"):
            one.merge(ep.Daybook(parts[1], date="on", by="route", measures=MEASURES))
