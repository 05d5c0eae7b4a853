"""Every measure over every span equals plain Python, however the rows are cut into batches."""

import datetime as dt
import random
import statistics
import tempfile
import unittest
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

import eptaro as ep
from eptaro.core.aggregation.batch import Batch
from eptaro.core.aggregation.fold import Fold
from eptaro.core.aggregation.groups import Categorical
from eptaro.core.aggregation.sums import Squares
from eptaro.core.calendars.days import ordinal
from eptaro.core.kernels import order_statistics
from eptaro.core.measures.calculations import CATALOGUE
from eptaro.core.measures.measure import parse_measures
from eptaro.core.results.column import Column
from tests import oracle
from tests.books import book_of_folded
from tests.oracle import DAY

HOWS = [how for how, one in CATALOGUE.items() if not one.looks_back]
SPECS = [f"x_{how}={how}(x{', 0.3' * (how == 'quantile')})" for how in HOWS]


def expected(how: str, values: list) -> object:
    """Return a measure of a list of values in input order, by plain Python."""
    if how == "count":
        return len(values)
    if how == "sum":
        return oracle.added(values)
    if how == "distinct":
        return len(set(values))
    if len(values) < (2 if how in ("std", "var") else 1):
        return None
    ordered = sorted(values)
    match how:
        case "mean":
            return sum(values, Fraction(0)) / len(values)
        case "first" | "last":
            return values[0 if how == "first" else -1]
        case "min" | "max":
            return ordered[0 if how == "min" else -1]
        case "std" | "var":
            return float(getattr(statistics, {"std": "stdev", "var": "variance"}[how])(values))
    place = (
        Fraction(1, 2) * (len(values) - 1)
        if how == "median"
        else Fraction(3, 10) * (len(values) - 1)
    )
    below = int(place)
    above = min(below + 1, len(values) - 1)
    return ordered[below] + (ordered[above] - ordered[below]) * (place - below)


class Everywhere(unittest.TestCase):
    """All measures, all verbs' spans, integers, decimals and floats."""

    def rows(self, seed: int, kind: str) -> list[tuple]:
        rng = random.Random(seed)
        start = dt.date(2023, 12, 1)
        make = {
            "integer": lambda: rng.randint(-40, 40),
            "decimal": lambda: Decimal(rng.randint(-9999, 9999)).scaleb(-2),
            "float": lambda: rng.randint(-9999, 9999) / 64,
        }[kind]
        made = [(start + DAY * rng.randint(0, 90), rng.choice("ab"),
                 None if rng.random() < 0.15 else make()) for _ in range(150)]  # fmt: skip
        return sorted(made, key=lambda row: row[0])

    def check(self, got, how, hit, context):
        values = [Fraction(r[2]) for r in hit if r[2] is not None]
        want = None if how == "sum" and hit and not values else expected(how, values)
        if want is None:
            self.assertIsNone(got, context)
        elif how in ("mean", "std", "var", "median", "quantile"):
            self.assertAlmostEqual(got, float(want), 8, context)
        else:
            self.assertEqual(Fraction(got), want, context)

    def is_decided(self, hit, how):
        """A first or last value is blank where several groups have one on its day."""
        days = [r[0] for r in hit]
        day = (days or [None])[0 if how == "first" else -1]
        return len({r[1] for r in hit if r[0] == day}) < 2

    def test_recap_and_accumulate_equal_plain_python(self):
        for seed, kind in enumerate(("integer", "decimal", "float") * 2):
            rows = self.rows(seed, kind)
            on, group, x = zip(*rows, strict=True)
            book = ep.Daybook(
                {"on": list(on), "g": list(group), "x": list(x)}, date="on", by="g", measures=SPECS
            )
            for row in [*book.recap("month", by="g").rows(), *book.recap("week").rows()]:
                every = [r for r in rows if row["first"] <= r[0] <= row["last"]
                         and r[1] == row.get("g", r[1])]  # fmt: skip
                hit = [r for r in every if r[2] is not None]
                for how in HOWS:
                    decided = how not in ("first", "last") or self.is_decided(hit, how)
                    inside = every if decided else []
                    self.check(row[f"x_{how}"], how, inside, (kind, row["period"], how))
            for row in list(book.accumulate("quarter", by="g").rows())[::7]:
                inside = [r for r in rows if row["first"] <= r[0] <= row["date"]
                          and r[1] == row["g"]]  # fmt: skip
                for how in HOWS:
                    self.check(row[f"x_{how}_to_date"], how, inside, (kind, row["date"], how))

    def test_any_cut_into_batches_in_any_order_gives_the_same(self):
        rng = random.Random(7)
        for kind in ("integer", "decimal", "float"):
            rows = self.rows(11, kind)
            rng.shuffle(rows)
            measures = parse_measures([*SPECS, "rows=count()"])
            planes = {plane for measure in measures for plane in measure.planes}
            answers = []
            for size in (len(rows), 37, 8):
                fold = Fold(["g"], planes)
                starts = list(range(0, len(rows), size))
                rng.shuffle(starts)
                for start in starts:
                    fold.add(self.batch(rows[start : start + size], kind, start))
                groups, cells = fold.result()
                cells.check()
                folded = ep.core.aggregation.folded.Folded(groups, cells, fold.rows, ("a test",))
                book = book_of_folded(
                    folded, measures, ep.MonthCalendar(), "2023-12-01..2024-02-29"
                )
                table = book.recap("week", by="g")
                answers.append(list(table.rows()))
            for other in answers[1:]:
                for one, two in zip(answers[0], other, strict=True):
                    for name, value in one.items():
                        if isinstance(value, float):
                            self.assertAlmostEqual(value, two[name], 9, name)
                        else:
                            self.assertEqual(value, two[name], name)

    def batch(self, rows, kind, start) -> Batch:
        on = np.array([ordinal(row[0]) for row in rows], np.int32)
        words = sorted({row[1] for row in rows})
        codes = np.array([words.index(row[1]) for row in rows], np.int32)
        valid = np.array([row[2] is not None for row in rows])
        scale = 2 if kind == "decimal" else 0
        data = [0 if row[2] is None else row[2] * 10**scale for row in rows]
        x = Column.of(
            "x", kind, np.array(data, float if kind == "float" else np.int64), valid, scale=scale
        )
        choices, found = np.unique(x.data, return_inverse=True)
        coded = Categorical(
            np.where(valid, found, -1).astype(np.int32), Column.of("x", kind, choices, scale=scale)
        )
        groups = {"g": Categorical(codes, Column.text("g", np.array(words)))}
        return Batch(on, groups, {"x": x}, {"x": coded}, None, start)

    def test_first_and_last_go_by_the_time_of_day_then_by_place(self):
        frame = {"at": [dt.datetime(2025, 1, 1, 18), dt.datetime(2025, 1, 1, 9), dt.datetime(2025, 1, 1, 18)],
                 "x": [1, 2, 3]}  # fmt: skip
        book = ep.Daybook(frame, date="at", measures=["a=first(x)", "b=last(x)"])
        (row,) = book.recap("day").rows()
        self.assertEqual((row["a"], row["b"]), (2, 3))

    def test_quiet_days_are_blank_or_zero_and_distinct_takes_text(self):
        frame = {"on": ["2025-01-01", "2025-01-03"], "who": ["ann", None], "x": [1, 2]}
        book = ep.Daybook(frame, date="on", measures=["n=distinct(who)", "m=median(x)", "s=std(x)"])
        rows = [(r["n"], r["m"], r["s"]) for r in book.recap("day").rows()]
        self.assertEqual(rows, [(1, 1.0, None), (0, None, None), (0, 2.0, None)])

    def test_totals_beyond_the_floats_have_a_spread(self):
        for fares, more in (([0.95e308, 0.95e308], 0.5), ([9e307, 9e307], 2.25)):
            book = ep.Daybook(
                {"on": ["2025-01-01"] * 2 + ["2025-01-02"], "x": [*fares, more]},
                date="on", measures="d=std(sum(x) per day)",
            )  # fmt: skip
            (row,) = book.recap("month").rows()
            apart = (sum(map(Fraction, fares)) - Fraction(more)) / 2**10
            self.assertAlmostEqual(row["d"] / 2**10 / (float(apart) / 2**0.5), 1, 12)

    def test_a_quotient_beyond_the_floats_is_blank(self):
        frame = {"on": ["2025-01-01"] * 2, "x": [1e300, 3.0], "y": [1e-300, 0.0]}
        book = ep.Daybook(frame, date="on", measures="r=sum(x)/sum(y)")
        table = book.recap("day")
        self.assertEqual([row["r"] for row in table.rows()], [None])
        self.assertEqual(book.prove(table), 1)

    def test_near_values_far_from_all_others_keep_their_spread(self):
        near = [1e9 + 0.25, 1e9 + 0.75, 1e9 + 1.1]
        frame = {"on": ["2025-01-01"] * 3 + ["2025-01-02"] * 9, "x": [*near, *[-1e9 + 0.3] * 9]}
        book = ep.Daybook(frame, date="on", measures="v=var(x)")
        exact = [*map(Fraction, near)]
        mean = sum(exact) / 3
        wanted = float(sum((value - mean) ** 2 for value in exact) / 2)
        first, second = (row["v"] for row in book.recap("day").rows())
        self.assertAlmostEqual(first / wanted, 1, 14)
        self.assertAlmostEqual(second, 0, 20)

    def test_variance_keeps_small_differences_of_large_values(self):
        for x in ([10**9 + i for i in (1, 2, 3)], [1e9 + i / 8 for i in (1, 2, 3)]):
            book = ep.Daybook({"on": ["2025-01-01"] * 3, "x": x}, date="on", measures="v=var(x)")
            self.assertAlmostEqual(book.recap("day")["v"][0], statistics.variance(x), 9)


class TwoStages(unittest.TestCase):
    """Measures on the totals of a finer grain."""

    def test_equal_plain_python(self):
        rng = random.Random(4)
        start, end = dt.date(2024, 1, 30), dt.date(2024, 4, 9)
        rows = [
            (start + DAY * rng.randint(0, 70), rng.choice("ab"), rng.randint(-9, 99))
            for _ in range(90)
        ]
        rows += [(start, "a", 1), (end, "b", 1)]
        on, group, x = zip(*rows, strict=True)
        held = ep.Workdays(holidays=ep.HolidaySet([ep.Holiday(dt.date(2024, 3, 29), "Rest")]))
        calendar = ep.MonthCalendar()
        for grain in ("day", "workday", "active day", "week", "month"):
            specs = [f"{how}_={how}(sum(x) per {grain})" for how in HOWS if how != "quantile"]
            book = ep.Daybook({"on": list(on), "g": list(group), "x": list(x)}, date="on", by="g",
                              measures=specs, workdays=held)  # fmt: skip
            for row in [*book.recap("month", by="g").rows(), *book.recap("quarter").rows()]:
                inside = [r for r in rows if r[1] == row.get("g", r[1])]
                first, last = max(row["first"], start), min(row["last"], end)
                totals = []
                day = first
                while day <= last:
                    stop = day
                    if grain in ("week", "month"):
                        period = calendar.period_of(day, grain)
                        stop = period.last
                        if period.first < first or stop > last:
                            day = stop + DAY
                            continue
                    hit = [r[2] for r in inside if day <= r[0] <= stop]
                    free = day.weekday() > 4 or day == dt.date(2024, 3, 29)
                    if not (grain == "workday" and free) and not (
                        grain == "active day" and not hit
                    ):
                        totals.append(Fraction(sum(hit)))
                    day = stop + DAY
                for how in HOWS:
                    if how == "quantile":
                        continue
                    want = expected(how, totals)
                    got = row[f"{how}_"]
                    if want is None:
                        self.assertIsNone(got, (grain, how, row))
                    else:
                        self.assertAlmostEqual(float(got), float(want), 8, (grain, how, row))

    def test_a_short_february_compares_fairly(self):
        frame = {
            "on": [f"2025-0{m}-{d:02d}" for m, n in ((1, 31), (2, 28)) for d in range(1, n + 1)]
        }
        book = ep.Daybook(frame, date="on", measures="daily=mean(count() per day)")
        self.assertEqual(book.recap("month")["daily"].tolist(), [1.0, 1.0])


class Unnamed(unittest.TestCase):
    """A calculation without a name gets one of its words."""

    def test_names_are_made_of_the_words(self):
        for text, name in (
            ("sum(fare)", "sum_fare"), ("count()", "count"), ("count(where x = 1)", "count_where_x_1"),
            ("max(sum(fare) per day)", "max_sum_fare_per_day"), ("sum(a)/sum(b)", "sum_a_sum_b"),
        ):  # fmt: skip
            found = ep.Measure.parse(text)
            self.assertEqual((found.name, found.formula), (name, text))
        with self.assertRaisesRegex(ep.MeasureError, "two measures are called 'count'"):
            ep.Daybook({"on": ["2025-01-01"]}, date="on", measures=["count()", "count()"])


class Wide(unittest.TestCase):
    """More measures than the loops take at once."""

    def test_a_hundred_measures_equal_each_by_itself(self):
        rng, hows = random.Random(3), ("sum", "max", "mean", "min", "std")
        frame = {"on": [f"2025-{1 + n % 12:02d}-{1 + n % 28:02d}" for n in range(200)]}
        for name in range(100):
            frame[f"c{name}"] = [rng.choice([None, rng.randint(-9, 9)]) for _ in range(200)]
        specs = [f"m{name}={hows[name % 5]}(c{name})" for name in range(100)]
        found = ep.Daybook(frame, date="on", measures=specs).recap("month")
        for name in range(0, 100, 7):
            alone = ep.Daybook(frame, date="on", measures=specs[name]).recap("month")
            self.assertEqual(*(str(t[f"m{name}"].tolist()) for t in (found, alone)))


class Sparse(unittest.TestCase):
    """Too many groups for one cell a day give the same answers."""

    def test_many_groups_equal_few(self):
        rng = np.random.default_rng(3)
        n, groups = 20_000, 12_000
        frame = {"on": rng.integers(0, 3000, n).astype("datetime64[D]"), "g": rng.integers(0, groups, n),
                 "x": rng.integers(-99, 99, n), "half": rng.integers(0, 2, n)}  # fmt: skip
        specs = ["s=sum(x)", "n=count()", "a=min(x)", "m=median(x)", "d=distinct(x)", "b=max(x)"]
        many = ep.Daybook(frame, date="on", by=["half", "g"], measures=specs)
        few = ep.Daybook(frame, date="on", by=["half"], measures=specs)
        self.assertIsNotNone(many._store.facts.cells.axis.keys)
        self.assertIsNone(few._store.facts.cells.axis.keys)
        for by in (None, "half"):
            self.assertEqual(
                list(many.recap("year", by=by).rows()), list(few.recap("year", by=by).rows())
            )
        one = next(many.recap("year", by="g", only={"g": 17}, totals=True).rows())
        self.assertEqual(one["g"], 17)


class Deviations(unittest.TestCase):
    """The spread of floats of very different sizes."""

    def test_of_neighbours(self):
        for values in ([0, 1], [7, 8], [-1, 0]):
            book = ep.Daybook(
                {"on": ["2025-01-01"] * 2, "x": values},
                date="on",
                measures=["v=var(x)", "d=std(x)"],
            )
            (row,) = book.recap("day").rows()
            self.assertEqual((row["v"], row["d"]), (0.5, 0.5**0.5))

    def book(self, values):
        groups = ["small" if abs(value) < 1e4 else "large" for value in values]
        days = np.datetime64("2025-01-01") + np.arange(len(values)) % 50
        return ep.Daybook(
            {"on": days, "g": groups, "x": values}, date="on", by="g", measures="v=var(x)"
        )

    def check(self, book, values):
        for row in book.recap("year", by="g").rows():
            own = [Fraction(v) for v in values if (abs(v) < 1e4) == (row["g"] == "small")]
            mean = sum(own) / len(own)
            want = float(sum((v - mean) ** 2 for v in own) / (len(own) - 1))
            self.assertAlmostEqual(row["v"] / want, 1, 6)

    def test_small_ones_keep_theirs_beside_large_ones(self):
        rng = np.random.default_rng(8)
        small, large = rng.normal(100, 0.3, 60), rng.normal(0, 1, 60) * 3e9
        far = np.array([1e15, -1e15, 3e14])
        one, two, three = (
            np.concatenate(v).tolist() for v in ((small, large), (small[:9], -large), (far,))
        )
        self.check(self.book(one), one)
        self.check(self.book(one).merge(self.book(two), force=True), one + two)
        with tempfile.TemporaryDirectory() as folder:
            kept = ep.Daybook.open(self.book(one).write(Path(folder) / "b.parquet"))
        self.check(kept, one)
        self.check(self.book(three), three)
        mixed = kept.merge(self.book(three)).recap("year", by="g", only={"g": "large"})
        every = [Fraction(v) for v in [*large.tolist(), *three]]
        mean = sum(every) / len(every)
        want = float(sum((v - mean) ** 2 for v in every) / (len(every) - 1))
        self.assertAlmostEqual(next(mixed.rows())["v"] / want, 1, 9)


class Ranges(unittest.TestCase):
    """Statistics of many ranges equal a loop over them."""

    @given(st.lists(st.integers(-9, 9), max_size=40), st.data())
    def test_equal_a_loop(self, values, data):
        ends = st.integers(0, len(values))
        asked = data.draw(st.lists(st.tuples(ends, ends).map(sorted), min_size=1, max_size=12))
        lo, hi = (np.array(side) for side in zip(*asked, strict=True))
        array = np.array(values, np.int64)
        parts = [values[a:b] for a, b in asked]
        with (
            mock.patch.object(
                order_statistics, "_BLOCK", data.draw(st.sampled_from([1, 5, 1 << 18]))
            ),
            mock.patch.object(order_statistics, "_SHARED", data.draw(st.sampled_from([0, 8]))),
        ):
            distinct = order_statistics.count_distinct(array, lo, hi)
            median = order_statistics.quantiles(array, lo, hi, 0.5)
        self.assertEqual(distinct.tolist(), [len(set(p)) for p in parts])
        least = order_statistics.extremes(array, lo, hi, largest=False)
        for part, low, middle in zip(parts, least, median, strict=True):
            if part:
                self.assertEqual((low, middle), (min(part), statistics.median(part)))


class SumsOfSquares(unittest.TestCase):
    """Sums of squares that come ready made."""

    def test_they_add_up_over_any_number_of_cells(self):
        cells, each = 100_000, 2**48 - 1
        running = Squares.of_exact(np.array([each] * cells, object), "integer", 0).prefix()
        self.assertEqual(int(running.whole[-1]), cells * each)

    def test_rows_of_one_day_and_of_many_add_up_beyond_64_bits(self):
        rng = np.random.default_rng(1)
        for most, days in ((2**24, 1), (2**24, 365), (2**43, 30), (2**62, 3)):
            x = rng.integers(-most, most, 300_000)
            on = np.datetime64("2025-01-01") + rng.integers(0, days, len(x))
            book = ep.Daybook({"on": on, "x": x}, date="on", measures=["s=std(x)"])
            self.assertAlmostEqual(book.recap("year")["s"][0] / x.std(ddof=1), 1, 9, (most, days))


class Places(unittest.TestCase):
    """Quantiles lie where their share says, not a hair beside it."""

    def test_a_whole_place_gives_the_value_that_stands_there(self):
        values = [-1e12] * 29 + [1.5] * 72  # 0.29 of 100 steps is 29; as floats it is a little less
        book = ep.Daybook(
            {"on": ["2025-01-01"] * 101, "x": values}, date="on", measures="q=quantile(x, 0.29)"
        )
        table = book.recap("year")
        self.assertEqual((next(table.rows())["q"], book.prove(table)), (1.5, 1))


class Parsing(unittest.TestCase):
    """Measures are read as written."""

    def test_forms(self):
        (one,) = parse_measures('net=sum("fare (net), cash")')
        self.assertEqual(
            (one.term.column, one.formula), ("fare (net), cash", 'sum("fare (net), cash")')
        )
        (two,) = parse_measures("high = quantile( fare , 0.9 )")
        self.assertEqual((two.formula, two.term.share), ("quantile(fare, 0.9)", 0.9))
        staged = 'b=max(sum("fare (net)") per active day)/mean(count() per week)'
        self.assertEqual(parse_measures(staged)[0].formula, staged[2:])
        for text, message in (("q=quantile(x)", "takes a share"), ("q=quantile(x, 2)", "from 0 to 1"),
                              ("q=max(sum(x) per dy)", "did you mean 'day'"),
                              ("q=max(max(sum(x) per day) per week)", "a measure has one 'per'"),
                              ("q=sum(x, 1)", "only a quantile"), ("q=sum(x)/", "a value is missing at the end"), ("q=sum(x", "is not closed"), ("q=avg(x)", "did you mean 'mean'"),
                              ("q=count(*)", r"it is written count\(\)"), ("q=sum(*)", r"as in sum\(fare\)"), ("q=sum", "write it as"),
                              ("q=sum(x)+", "a value is missing"), ("q=sum(x)+1)", "an operator is missing")):  # fmt: skip
            with self.assertRaisesRegex(ep.MeasureError, message):
                parse_measures(text)
