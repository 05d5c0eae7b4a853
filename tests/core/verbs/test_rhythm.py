"""How measures and values spread over hours, weekdays and months equals plain loops."""

import datetime as dt
import statistics
import unittest
from collections import Counter, defaultdict
from fractions import Fraction

import numpy as np

import eptaro as ep
from tests import oracle
from tests.books import book_of_folded

ROWS = oracle.random_rows(17, size=250)
AT = [dt.datetime.combine(r[0], dt.time(i % 24, 7)) for i, r in enumerate(ROWS.rows)]
REST = {d for d in oracle.days(ROWS.first, ROWS.last) if (d.month, d.day) == (5, 1)}
WORKED = ep.Workdays(holidays=ep.HolidaySet(ep.Holiday(day, "Rest") for day in REST))


def kind(day):
    """Return workday, weekend or holiday."""
    return "weekend" if day.weekday() > 4 else "holiday" if day in REST else "workday"


OF_DAY = {
    "weekday": lambda d: f"{d:%A}", "day of month": lambda d: str(d.day),
    "week of month": lambda d: str((d.day + 6) // 7), "month": lambda d: f"{d:%B}",
    "quarter": lambda d: f"Q{(d.month + 2) // 3}", "day type": kind,
    "workday": lambda d: "workday" if kind(d) == "workday" else "other day",
    "holiday": lambda d: "holiday" if d in REST else "other day",
    "week": lambda d: f"W{d.isocalendar()[1]:02d}", "hour": None,
}  # fmt: skip
COLUMNS = {"month": "month_of_year", "quarter": "quarter_of_year", "week": "week_of_year"}


def book() -> ep.Daybook:
    """Return the rows as a book with times."""
    frame = {"at": AT, "g": [r[1] for r in ROWS.rows], "x": [r[2] for r in ROWS.rows]}
    specs = ["s=sum(x)", "n=count()", "m=mean(x)", "top=max(sum(x) per day)", "typical=mean(count() per active day)"]  # fmt: skip
    return ep.Daybook(frame, date="at", by="g", measures=specs, workdays=WORKED)


class Rhythm(unittest.TestCase):
    """One attribute, or two crossed."""

    BOOK = book()

    def words(self, name, at):
        return f"{at.hour:02d}" if name == "hour" else OF_DAY[name](at.date())

    def check(self, per, across=None):
        plain = book_of_folded(
            self.BOOK._store.facts.folded, self.BOOK.measures[:3], ep.MonthCalendar(), None, WORKED
        )
        names = [name for name in (per, across) if name]
        staged = "hour" not in names
        table = (self.BOOK if staged else plain).rhythm(per, across, by="g")
        hits, lasting = defaultdict(list), Counter()
        for r, at in zip(ROWS.rows, AT, strict=True):
            hits[r[1], *(self.words(name, at) for name in names)].append(r)
        for day in oracle.days(ROWS.first, ROWS.last):
            lasting[tuple(None if name == "hour" else OF_DAY[name](day) for name in names)] += 1
        for row in table.rows():
            keys = [row[COLUMNS.get(name, name.replace(" ", "_"))] for name in names]
            hit = hits[row["g"], *keys]
            days = lasting[tuple(
                None if name == "hour" else key for name, key in zip(names, keys, strict=True)
            )]  # fmt: skip
            filled = [Fraction(r[2]) for r in hit if r[2] is not None]
            added = oracle.added(r[2] for r in hit)
            self.assertEqual((row["days"], row["n"], row["s"]), (days, len(hit), added))
            if added is None:
                self.assertIsNone(row["s_per_day"])
            else:
                self.assertAlmostEqual(row["s_per_day"], float(added) / days, 6)
            self.assertEqual(row["m"] is None, not filled)
            if staged:
                totals = defaultdict(Fraction)
                for day, _, x in hit:
                    totals[day] += Fraction(x or 0)
                quiet = [Fraction(0)] if len(totals) < days else []
                self.assertEqual(row["top"], max([*totals.values(), *quiet]))
                active = {r[0] for r in hit}
                self.assertEqual(row["typical"] is None, not active)
                if active:
                    self.assertAlmostEqual(row["typical"], len(hit) / len(active))
        return table

    def test_each_attribute_and_pairs_of_them(self):
        for per in OF_DAY:
            self.check(per)
        for pair in (("weekday", "hour"), ("hour", "day type"), ("month", "weekday")):
            self.check(*pair)

    def test_proved_and_told_wide(self):
        for table in (self.BOOK.rhythm("weekday", "month", by="g"), self.BOOK.rhythm("day type")):
            self.assertGreater(self.BOOK.prove(table), 12)
        long = self.BOOK.rhythm("weekday", "quarter")
        wide = self.BOOK.rhythm("weekday", "quarter", wide=True)
        self.assertEqual(wide.names, ["weekday", "Q1", "Q2", "Q3", "Q4"])
        cells = {(r["weekday"], r["quarter_of_year"]): r["s_per_day"] for r in long.rows()}
        for row in wide.rows():
            for quarter in wide.names[1:]:
                self.assertEqual(row[quarter], cells[row["weekday"], quarter])

    def test_wide_rows_hold_only_what_their_days_bear(self):
        book = ep.Daybook({"on": ["2025-01-06", "2025-01-07", "2025-02-05"], "g": ["a", "b", "b"], "x": [1, 2, 4]},
                          date="on", by="g", measures="s=sum(x)")  # fmt: skip
        for only, shown in (
            ("2025-01-06..2025-01-08", [1, 0, 0, 0, 2, 0]),
            ("2025-01-06..2025-01-07", [1, 0, 0, 2]),
        ):
            wide = book.rhythm("month", "weekday", by="g", only=only, wide=True)
            told = [value for row in wide.rows() for value in [*row.values()][2:]]
            self.assertEqual(told, shown)

    def test_what_cannot_be(self):
        daily = ep.Daybook(
            {"on": ["2025-01-01"], "x": [1]}, date="on", measures="t=max(sum(x) per week)"
        )
        for question, message in (
            (lambda: daily.rhythm("weekdays"), "did you mean 'weekday'"),
            (lambda: daily.rhythm("weekday", "weekday"), "is already"),
            (lambda: daily.rhythm("weekday"), "not of weeks"),
            (lambda: self.BOOK.rhythm("weekday", wide=True), "name one"),
            (lambda: ep.Daybook({"on": ["2025-01-01"]}, date="on", measures="n=count()").rhythm("hour"), "no time of day"),
            (lambda: daily.spread("y"), "unknown column of values"),
            (lambda: ep.Daybook({"on": ["2025-01-01"], "x": [1]}, date="on", measures="n=count(x)").spread("x"), "unknown column of values"),
            (lambda: daily.spread("x", "fortnight"), "unknown level or attribute"),
            (lambda: daily.histogram("x", bins=0), "from 1 to"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ep.QuestionError, message):
                question()


class Spread(unittest.TestCase):
    """Box figures and histograms."""

    def runs(self, per):
        found = {}
        for (day, _, x), at in zip(ROWS.rows, AT, strict=True):
            if x is not None:
                key = (
                    f"{day.year}-Q{(day.month + 2) // 3}"
                    if per == "quarter"
                    else f"{at.hour:02d}"
                    if per == "hour"
                    else None
                    if per is None
                    else OF_DAY[per](day)
                )
                found.setdefault(key, []).append(x)
        return {key: sorted(values) for key, values in found.items()}

    def test_boxes_equal_the_statistics_module(self):
        for per in ("weekday", "quarter", "hour", None):
            runs = self.runs(per)
            rows = list(book().spread("x", per).rows())
            self.assertEqual(len(rows), len(runs))
            for row in rows:
                values = runs[row.get("period" if per == "quarter" else per)]
                quarters = (
                    statistics.quantiles(values, n=4, method="inclusive")
                    if len(values) > 1 else [values[0]] * 3
                )  # fmt: skip
                for name, want in zip(
                    ("quartile_1", "median", "quartile_3"), quarters, strict=True
                ):
                    self.assertAlmostEqual(row[name], float(want), 6)
                reach = (quarters[2] - quarters[0]) * 3 / 2
                kept = [v for v in values if quarters[0] - reach <= v <= quarters[2] + reach]
                self.assertEqual(
                    (row["entries"], row["outliers"]), (len(values), len(values) - len(kept))
                )
                self.assertEqual([row["low"], row["high"]], [float(kept[0]), float(kept[-1])])
                self.assertEqual([row["least"], row["most"]], [float(values[0]), float(values[-1])])

    def test_few_and_many_and_far_apart_values(self):
        rng = np.random.default_rng(3)
        n = 2_000
        frame = {"on": np.datetime64("2025-01-01") + rng.integers(0, 90, n),
                 "g": rng.choice(["b", "a", "c"], n)}  # fmt: skip
        weekday = np.array([f"{day:%A}" for day in frame["on"].tolist()])
        for unit in (1, 10**9, 10**17):
            x = rng.integers(-4, 30, n) * unit
            y = np.where(x == 7 * unit, np.nan, x + 0.0)
            days = ep.Daybook(frame | {"x": x, "y": y}, date="on", by="g",
                              measures=["m=max(x)", "t=max(y)"])  # fmt: skip
            for column, blank, by in (("x", [], None), ("x", [], "g"), ("y", 7 * unit, "g")):
                table = days.spread(column, "weekday", by=by, only={"g": ["a", "b"]})
                self.assertEqual(len(table), 14 if by else 7)
                for row in table.rows():
                    held = (weekday == row["weekday"]) & (frame["g"] != "c") & ~np.isin(x, blank)
                    held &= (frame["g"] == row["g"]) if by else True
                    values = x[held].astype(float).tolist()
                    self.assertEqual(row["entries"], len(values))
                    self.assertEqual((row["least"], row["most"]), (min(values), max(values)))
                    self.assertEqual(row["median"], statistics.median(values))
                    mean = statistics.fmean(values)
                    self.assertAlmostEqual(row["mean"] / unit, mean / unit, 9)

    def test_histograms_share_their_ranges_and_count_every_value(self):
        for per, bins in (("weekday", 7), (None, 30), ("day type", 1)):
            runs, shares, edges = self.runs(per), {}, {}
            for row in book().histogram("x", per, bins=bins).rows():
                key = row.get(per.replace(" ", "_")) if per else None
                inside = [v for v in runs[key] if row["from"] <= v < row["to"]]
                self.assertEqual(row["entries"], len(inside))
                shares[key] = shares.get(key, 0) + row["share"]
                edges.setdefault(key, []).append((row["from"], row["to"]))
            self.assertEqual(len({tuple(e) for e in edges.values()}), 1)
            self.assertTrue(all(abs(share - 1) < 1e-9 for share in shares.values()))


class Ends(unittest.TestCase):
    """Box figures and ranges of values at the ends of floats."""

    def test_what_does_not_fit_is_blank_or_refused(self):
        book = ep.Daybook({"on": ["2025-01-01"] * 4, "x": [1e308, 1e308, -1e308, 0.5]}, date="on",
                          measures="s=count()", values="x")  # fmt: skip
        row = next(book.spread("x").rows())
        self.assertEqual((row["mean"], row["entries"], row["most"]), (None, 4, 1e308))
        with self.assertRaisesRegex(ep.QuestionError, "too far apart"):
            book.histogram("x")

    def test_values_without_a_measure_are_read_where_they_are_named(self):
        rows = {"on": ["2025-01-01"] * 2, "x": [1, 3], "y": [5, 6]}
        book = ep.Daybook(rows, date="on", measures="n=count()", values=["x"])
        self.assertEqual(book.spread("x")["mean"].tolist(), [2.0])
        with self.assertRaisesRegex(ep.QuestionError, "unknown column of values 'y'"):
            book.spread("y")
