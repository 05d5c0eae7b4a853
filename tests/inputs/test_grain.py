"""Dates that are periods: read in each of their forms, complete, and never asked finer."""

import calendar
import datetime as dt
import json
import random
import sqlite3
import statistics
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import pyarrow as pa
from pyarrow import parquet

import eptaro as ep
from tests.commands import run_in

DAY = dt.timedelta(1)
MEASURE = "s=sum(x)"


def named(day, grain):
    """Return what tells a day's period from others."""
    return {
        "week": day.isocalendar()[:2],
        "month": (day.year, day.month),
        "quarter": (day.year, (day.month - 1) // 3),
        "year": day.year,
    }[grain]


def walked(day, grain, step):
    """Return the last day in some direction that is of the day's own period."""
    own = named(day, grain)
    while named(day + step, grain) == own:
        day += step
    return day


def opens(day, grain):
    """Return the first day of the period that a day lies in."""
    return walked(day, grain, -DAY)


def ends(day, grain):
    """Return the last day of the period that a day lies in."""
    return walked(day, grain, DAY)


def written(rng, day, grain):
    """Return a period in one of its forms."""
    name, short = f"{day:%B}", f"{day:%b}"
    forms = {
        "week": ["{}-W{:02d}", "{}W{:02d}", "{} w{:02d}"],
        "month": [f"{day:%Y-%m}", f"{short} {day.year}", f"{name}-{day.year}", f"{day.year} {name}",
                  f"{short}. {day.year}"],
        "quarter": ["{}-Q{}", "{}Q{}", "{} q{}"],
        "year": [str(day.year), f"{day.year}.0"],
    }  # fmt: skip
    form = rng.choice(forms[grain])
    if grain == "week":
        return form.format(*day.isocalendar()[:2])
    if grain == "quarter":
        quarter = (day.month + 2) // 3
        if rng.random() < 0.3:
            return f"Q{quarter} {day.year}"
        return form.format(day.year, quarter)
    return form


class Forms(unittest.TestCase):
    """Random columns of periods in mixed forms, whatever holds them."""

    def test_each_is_counted_in_its_period_and_the_last_is_complete(self):
        rng = random.Random(8)
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for grain in ("week", "month", "quarter", "year"):
            days = [opens(dt.date(2000, 1, 1) + DAY * rng.randrange(9000), grain)
                    for _ in range(40)]  # fmt: skip
            texts = [written(rng, day, grain) for day in days]
            values = [rng.randint(-50, 50) for _ in days]
            rules = ep.DateRules(grain="year") if grain == "year" else None
            calendar = ep.MonthCalendar()
            if grain == "week":
                calendar = None
            totals = {}
            for day, value in zip(days, values, strict=True):
                totals[day] = totals.get(day, 0) + value
            for book in self.books(folder, {"on": texts, "x": values}, rules):
                with self.subTest(grain=grain):
                    self.assertEqual(book.coverage.first, min(days))
                    self.assertEqual(book.coverage.last, ends(max(days), grain))
                    with self.assertRaisesRegex(ep.QuestionError, f"dated by the {grain}"):
                        book.recap("day")
                    if calendar is None:
                        continue
                    rows = [*book.recap(grain, totals=False).rows()]
                    self.assertTrue(all(row["complete"] for row in rows))
                    found = {row["first"]: row["s"] for row in rows if row["s"]}
                    self.assertEqual(found, {d: t for d, t in totals.items() if t})
                    last = {row["first"]: row["last"] for row in rows}
                    for day in days:
                        self.assertEqual(last[day], ends(day, grain))

    def books(self, folder, frame, rules):
        """Yield the book of a frame, and of files and a table that hold the same."""
        given = {"date": "on", "measures": MEASURE}
        yield ep.Daybook(frame, dates=rules, **given)
        lines = "".join(f"{on},{x}\n" for on, x in zip(*frame.values(), strict=True))
        (folder / "a.csv").write_text("on,x\n" + lines)
        parquet.write_table(pa.table(frame), folder / "a.parquet", row_group_size=7)
        for name in ("a.csv", "a.parquet"):
            book = ep.Daybook.read(folder / name, dates=rules, **given)
            yield book
        book.write(folder / "book.parquet")
        yield ep.Daybook.open(folder / "book.parquet")
        with sqlite3.connect(folder / "a.db") as base:
            base.execute("drop table if exists t")
            base.execute('create table t ("on" text, x integer)')
            base.executemany("insert into t values (?, ?)", zip(*frame.values(), strict=True))
        yield ep.Daybook.from_sql(f"sqlite:///{folder}/a.db", "t", dates=rules, **given)
        half = len(frame["on"]) // 2
        parts = [{n: v[of] for n, v in frame.items()} for of in (slice(half), slice(half, None))]
        one, two = (ep.Daybook(part, dates=rules, **given) for part in parts)
        yield one.merge(two)

    def test_numbers_and_days_that_stand_for_periods(self):
        for values, grain, first, last in (
            ([200601, 200603], "month", "2006-01-01", "2006-03-31"),
            ([1987, 1990], "year", "1987-01-01", "1990-12-31"),
            ([1987.0, 1990.0], "year", "1987-01-01", "1990-12-31"),
            ([19874, 19881], "quarter", "1987-10-01", "1988-03-31"),
            ([202001, 202053], "week", "2019-12-30", "2021-01-03"),
            ([1958.2027, 1959.0, 1958.96], "month", "1958-03-01", "1959-01-31"),
            ([1958.25, 1958.5], "quarter", "1958-04-01", "1958-09-30"),
            (["2024-01-31", "2024-02-29"], "month", "2024-01-01", "2024-02-29"),
            ([dt.date(2024, 1, 1), dt.date(2024, 12, 31)], "quarter", "2024-01-01", "2024-12-31"),
            ([dt.datetime(2024, 1, 1, 9), dt.datetime(2024, 2, 1)], "month",
             "2024-01-01", "2024-02-29"),
            ([20240131, 20240301], "month", "2024-01-01", "2024-03-31"),
        ):  # fmt: skip
            rules = ep.DateRules(grain=grain)
            book = ep.Daybook({"on": values, "x": values}, date="on", measures="n=count()",
                              dates=rules)  # fmt: skip
            self.assertEqual(str(book.coverage), f"{first}..{last}", values)

    def test_what_has_no_grain_is_refused_with_what_to_say(self):
        for values, rules, said in (
            (["2006-01", "2006-01-15"], {}, "both '2006-01-15', a day, and '2006-01', a month"),
            (["2006-Q1", "2006"], {}, r"'2006' is not written .*grain='year'"),
            ([200601], {}, "grain='month'"),
            ([1987], {}, "grain='year'"),
            (["2006-01-15"], {"grain": "month"}, "neither the first nor the last day of a month"),
            ([dt.date(2006, 2, 27)], {"grain": "month"}, "neither the first nor the last"),
            ([20060115], {"grain": "quarter"}, "neither the first nor the last day of a quarter"),
            (["2006-01"], {"grain": "day"}, "is a month"),
            (["2006-Q1"], {"grain": "month"}, "is a quarter"),
            ([200613], {"grain": "month"}, "does not exist"),
            ([202154], {"grain": "week"}, "does not exist"),
            ([123], {"grain": "month"}, "is no number of a month"),
            (["2024-01-07"], {"grain": "week"}, "is not a Monday"),
        ):
            with self.assertRaisesRegex(ep.DateError, said):
                ep.Daybook({"on": values}, date="on", measures="n=count()",
                           dates=ep.DateRules(**rules))  # fmt: skip
        with self.assertRaisesRegex(ep.DateError, "grain"):
            ep.DateRules(grain="fortnight")

    def test_files_that_disagree(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "a.csv").write_text("on,x\n2024-01,1\n")
        (folder / "b.csv").write_text("on,x\n2024-01-05,1\n")
        for rows, said in ((9, "both '2024-01-05', a day, and '2024-01', a month"),
                           (1, "months, and, after row 1, days")):  # fmt: skip
            with (
                mock.patch("eptaro.inputs.sources._ROWS", rows),
                self.assertRaisesRegex(ep.DateError, said),
            ):
                ep.Daybook.read([folder / "a.csv", folder / "b.csv"], date="on", measures=MEASURE)
        one, two = (ep.Daybook.read(folder / n, date="on", measures=MEASURE)
                    for n in ("a.csv", "b.csv"))  # fmt: skip
        with self.assertRaisesRegex(ep.InputError, "months, those of .* days"):
            one.merge(two)

    def test_other_columns_stay_what_they_are(self):
        frame = {"on": ["2024-01", "2024-02"], "due": ["2024-01-09", "2024-03-02"], "x": [1, 2],
                 "period": ["2024-01", "2024-03"]}  # fmt: skip
        book = ep.Daybook(
            frame, date="on", dates=ep.DateRules(grain="month"), where="due > '2024-01-10'",
            measures=["s=sum(x)", "last_due=max(due)", "p=max(period)"],
        )  # fmt: skip
        row = next(iter(book.recap("year").rows()))
        self.assertEqual((row["s"], row["last_due"], row["p"]), (2, dt.date(2024, 3, 2), "2024-03"))


class Questions(unittest.TestCase):
    """Every verb goes by whole periods of the data, and refuses what is finer."""

    def setUp(self):
        rng = random.Random(3)
        self.rows = [
            (f"{year}-{month:02d}", route, rng.randint(1, 90))
            for year in (2023, 2024, 2025)
            for month in range(1, 13)
            for route in ("Norrow", "Fenholm")
            if (year, month) < (2025, 9)
        ]
        on, route, x = zip(*self.rows, strict=True)
        self.frame = {"on": [*on], "route": [*route], "x": [*x]}
        self.book = ep.Daybook(self.frame, date="on", by="route", measures=MEASURE)

    def total(self, *months):
        """Return the total of some months."""
        return sum(x for on, _, x in self.rows if on in months)

    def test_totals_by_month_and_wider(self):
        quarters = [*self.book.recap("quarter").rows()]
        self.assertEqual(quarters[0]["s"], self.total("2023-01", "2023-02", "2023-03"))
        self.assertEqual([row["complete"] for row in quarters], [True] * 10 + [False])
        running = [*self.book.accumulate("year", only="2025").rows()]
        self.assertEqual([str(row["last"]) for row in running][:2], ["2025-01-31", "2025-02-28"])
        self.assertEqual(running[2]["s_to_date"], self.total("2025-01", "2025-02", "2025-03"))
        trailing = [*self.book.trail("2 months").rows()]
        self.assertEqual(trailing[1]["s_trailing"], self.total("2023-01", "2023-02"))
        self.assertEqual(len(trailing), 32)
        (to_date,) = self.book.compare("year", to_date=True).rows()
        months = [f"2024-{month:02d}" for month in range(1, 9)]
        self.assertEqual(to_date["s_prior"], self.total(*months))
        (march,) = [r for r in self.book.rhythm("month").rows() if r["month_of_year"] == "March"]
        self.assertEqual(march["s"], self.total("2023-03", "2024-03", "2025-03"))
        staged = ep.Daybook(self.frame, date="on", measures="m=max(sum(x) per month)")
        self.assertEqual(
            [*staged.recap("year", totals=False).rows()][1]["m"],
            max(self.total(f"2024-{month:02d}") for month in range(1, 13)),
        )
        self.assertTrue(self.book.recap("quarter", by="route").trace(3, "s").agrees)
        self.assertIn("dated by the month", self.book.recap("year").footer)

    def test_what_is_finer_is_refused(self):
        daily = ep.Daybook(self.frame, date="on", measures="m=max(sum(x) per day)")
        weeks = ep.WeekCalendar("retail")
        april = ep.MonthCalendar("tax", year_starts="04-06")
        for ask in (
            lambda: self.book.recap("day"),
            lambda: self.book.recap("week"),
            lambda: self.book.recap("10 days from 2024-01-01"),
            lambda: self.book.recap("month", only="2024-01-15..2024-03-31"),
            lambda: self.book.recap("weekday"),
            lambda: self.book.recap("hour"),
            lambda: self.book.accumulate("year", every="day"),
            lambda: self.book.accumulate("year", every="entry"),
            lambda: self.book.trail("30 days"),
            lambda: self.book.trail("3 months", every="day"),
            lambda: self.book.compare("week"),
            lambda: self.book.compare("month", to_date=True, every="day"),
            lambda: self.book.rhythm("day of month"),
            lambda: daily.recap("year"),
            lambda: ep.Daybook(self.frame, date="on", measures=MEASURE, calendar=april)
            .recap("year"),
            lambda: ep.Daybook(self.frame, date="on", measures=MEASURE, calendar=weeks)
            .recap("month"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ep.QuestionError, "dated by the month"):
                ask()
        with self.assertRaisesRegex(ep.InputError, "not made of whole months"):
            ep.Daybook(self.frame, date="on", measures=MEASURE,
                       coverage="2023-01-01..2025-09-15")  # fmt: skip
        with self.assertRaisesRegex(ep.QuestionError, "differ in day_name"):
            ep.annotate(self.frame, date="on", add=["day_name"])
        self.assertEqual(
            ep.annotate(self.frame, date="on", add=["calendar_quarter"])["calendar_quarter"][6]
            .as_py(), 2)  # fmt: skip

    def test_quarters_years_and_weeks_go_the_same_ways(self):
        texts = {
            "quarter": [f"{y}-Q{q}" for y in (2022, 2023, 2024) for q in (1, 2, 3, 4)],
            "year": [str(year) for year in range(2013, 2025)],
            "week": [f"{y}-W{w:02d}" for y in (2023, 2024) for w in range(1, 53)],
        }
        for grain, on in texts.items():
            calendar = ep.MonthCalendar() if grain != "week" else ep.WeekCalendar(
                "weeks", week_starts="monday", year_ends="12-31", ends="nearest")  # fmt: skip
            values = [rng_value * 3 % 17 for rng_value in range(len(on))]
            book = ep.Daybook({"on": on, "x": values}, date="on", measures=MEASURE,
                              calendar=calendar, dates=ep.DateRules(grain=grain))  # fmt: skip
            with self.subTest(grain=grain):
                recap = [*book.recap(grain, totals=False).rows()]
                self.assertTrue(all(row["complete"] for row in recap))
                self.assertEqual([row["s"] for row in recap], values)
                running = [row["s_to_date"] for row in book.accumulate("all").rows()]
                self.assertEqual(running, [sum(values[: n + 1]) for n in range(len(values))])
                trailing = [row["s_trailing"] for row in book.trail(f"3 {grain}s").rows()]
                self.assertEqual(trailing[5], sum(values[3:6]))
                before = [*book.compare(grain, back=f"1 {grain}").rows()]
                self.assertEqual([row["s_prior"] for row in before][1:], values[:-1])
                self.assertTrue(book.recap(grain).trace(2, "s").agrees)
                finer = {"quarter": "month", "year": "quarter", "week": "day"}[grain]
                for ask in (lambda book=book, finer=finer: book.recap(finer),
                            lambda book=book: book.trail("10 days"),
                            lambda book=book: book.rhythm("weekday")):  # fmt: skip
                    with self.assertRaisesRegex(ep.QuestionError, f"dated by the {grain}"):
                        ask()

    def test_reports_and_cards_go_by_the_periods(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        quarters = {"on": [f"202{n // 4}-Q{n % 4 + 1}" for n in range(12)], "x": [*range(12)]}
        years = {"on": [str(year) for year in range(2015, 2025)], "x": [*range(10)]}
        for frame, rules in ((self.frame, {}), (quarters, {}), (years, {"grain": "year"})):
            book = ep.Daybook(frame, date="on", by="route" if "route" in frame else None,
                              measures=MEASURE, dates=ep.DateRules(**rules))  # fmt: skip
            page = book.report(folder / "a.html").read_text()
            self.assertFalse("could not be made" in page)
            for row in book.card().rows():
                self.assertNotIn(row["level"], ("week", "day"))
            if "grain" not in rules:
                book.report(folder / "a.xlsx")
        levels = [row["level"] for row in self.book.card().rows()]
        self.assertEqual(levels, ["month", "quarter", "year"])

    def test_an_as_of_date_knows_the_months_that_have_ended(self):
        for as_of, last in (("2024-05-31", "2024-05-31"), ("2024-05-30", "2024-04-30")):
            row = [*self.book.recap("year", as_of=as_of, totals=False).rows()][-1]
            months = [f"2024-{month:02d}" for month in range(1, int(last[5:7]) + 1)]
            self.assertEqual(row["s"], self.total(*months))
        with self.assertRaisesRegex(ep.QuestionError, "ends later"):
            self.book.recap("year", as_of="2023-01-30")

    def test_the_command_line_takes_months_and_says_so(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        lines = "".join(f"{on.replace('-', '')},{route},{x}\n" for on, route, x in self.rows)
        (folder / "a.csv").write_text("month,route,x\n" + lines)
        run = ["recap", "a.csv", "--date", "month", "--measure",
               MEASURE, "--per", "month", "--format", "json"]  # fmt: skip
        refused = run_in(folder, *run)
        self.assertEqual(refused.returncode, 1)
        self.assertIn("use --grain month", refused.stderr)
        done = run_in(folder, *run, "--grain", "month")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("2025-08-31", json.dumps(json.loads(done.stdout)))


class YearsWithFractions(unittest.TestCase):
    """Years and their parts, some of which are whole and written without a fraction."""

    def test_whole_years_are_januaries(self):
        rng = random.Random(4)
        for digits in (2, 3, 4, 6, 9):
            months = sorted({rng.randrange(1960 * 12, 1990 * 12) for _ in range(60)} | {1960 * 12})
            texts = []
            for month in months:
                year, part = divmod(month, 12)
                texts.append(f"{year}" if not part else f"{year + part / 12:.{digits}f}")
            for given in (texts, [float(text) for text in texts]):
                book = ep.Daybook({"on": given, "x": [1] * len(given)}, date="on", measures="s=sum(x)",
                                  dates=ep.DateRules(grain="month"))  # fmt: skip
                found = [row["period"] for row in book.recap("month").rows() if row["s"]]
                wanted = [f"{month // 12}-{month % 12 + 1:02d}" for month in months]
                self.assertEqual(found, wanted, digits)
        with self.assertRaisesRegex(ep.DateError, "'1960' is not written as"):  # all may be years
            ep.Daybook(
                {"on": ["1960", "1961"]},
                date="on",
                measures="n=count()",
                dates=ep.DateRules(grain="month"),
            )


class WeeksOfAnyDay(unittest.TestCase):
    """Weeks that end or start on any weekday, against plain `datetime`."""

    def test_totals_windows_and_comparisons_go_by_these_weeks(self):
        rng, names = random.Random(6), [day.lower() for day in calendar.day_name]
        for number, name in enumerate(names):
            for side in ("ending", "starting"):
                first = dt.date(2023, 12, 25) + DAY * number
                days = [first + DAY * 7 * rng.randrange(70) for _ in range(90)]
                table = {"on": [f"{day:%d.%m.%Y}" for day in days], "g": [rng.choice("ab") for _ in days],
                         "x": [rng.randint(-5, 20) for _ in days]}  # fmt: skip
                rules = ep.DateRules(order="dmy", weeks=f"{side} {name}")
                book = ep.Daybook(
                    table, date="on", by="g", measures=["s=sum(x)", "m=max(x)"], dates=rules
                )
                begins = {day: day - DAY * 6 * (side == "ending") for day in days}
                self.assertEqual(book.coverage.first, min(begins.values()))
                self.assertEqual(book.coverage.last, max(begins.values()) + DAY * 6)
                for row in book.recap("week").rows():
                    self.assertEqual((row["last"] - row["first"]).days, 6)
                    own = [
                        x
                        for day, x in zip(days, table["x"], strict=True)
                        if begins[day] == row["first"]
                    ]
                    self.assertEqual(
                        (row["s"], row["m"], row["complete"]),
                        (sum(own), max(own, default=None), True),
                    )
                for row in book.trail("3 weeks").rows():
                    own = [x for day, x in zip(days, table["x"], strict=True)
                           if row["last"] - DAY * 20 <= begins[day] <= row["last"]]  # fmt: skip
                    self.assertEqual(row["s_trailing"], sum(own))
                self.assertGreater(book.prove(book.compare("week", back="1 week", by="g")), 5)
                with tempfile.TemporaryDirectory() as folder:
                    again = ep.Daybook.open(book.write(f"{folder}/book/"))
                    self.assertEqual(
                        [*again.recap("week", by="g").rows()], [*book.recap("week", by="g").rows()]
                    )
                    more = ep.Daybook(
                        table, date="on", by="g", measures=["s=sum(x)", "m=max(x)"], dates=rules
                    )
                    self.assertEqual(again.merge(more, force=True).rows, 180)
                for level in ("day", "month", "year"):
                    with self.assertRaisesRegex(ep.QuestionError, "not made of whole weeks"):
                        book.recap(level)

    def test_a_week_that_straddles_counts_where_the_rule_says(self):
        rng, seen = random.Random(7), 0
        for name in (day.lower() for day in calendar.day_name):
            rule, side = rng.choice(["last day", "most days"]), rng.choice(["ending", "starting"])
            first = dt.date(2023, 12, 20)
            first += DAY * (
                (list(map(str.lower, calendar.day_name)).index(name) - first.weekday()) % 7
            )
            days = [first + DAY * 7 * rng.randrange(70) for _ in range(120)]
            table = {
                "on": days,
                "g": [rng.choice("ab") for _ in days],
                "x": [rng.randint(-5, 20) for _ in days],
            }
            begins = [day - DAY * 6 * (side == "ending") for day in days]
            counted = [day + DAY * (6 if rule == "last day" else 3) for day in begins]
            for day, chosen in zip(
                begins, counted, strict=True
            ):  # most of its days, by counting them
                months = [(day + DAY * n).month for n in range(7)]
                most = months[-1] if rule == "last day" else max(months, key=months.count)
                self.assertEqual(chosen.month, most)
            rules = ep.DateRules(weeks=f"{side} {name}", week_in=rule)
            asked = {
                "date": "on",
                "by": "g",
                "measures": ["s=sum(x)", "l=median(x)"],
                "dates": rules,
            }
            book = ep.Daybook(table, **asked)
            span = book.coverage
            self.assertEqual((span.first, span.last), (min(begins), max(begins) + DAY * 6))
            with tempfile.TemporaryDirectory() as folder:
                kept = ep.Daybook.open(book.write(f"{folder}/book/"))
                for one in (book, kept):
                    for level in ("month", "quarter", "year"):
                        for row in one.recap(level, by="g").rows():
                            own = [x for day, g, x in zip(counted, table["g"], table["x"], strict=True)
                                   if g == row["g"] and row["first"] <= day <= row["last"]]  # fmt: skip
                            self.assertEqual(
                                (row["s"], row["l"]),
                                (sum(own), statistics.median(own) if own else None),
                            )
                            inside = span.first <= row["first"] and row["last"] <= span.last
                            self.assertEqual(row["complete"], inside)
                            seen += 1
                self.assertGreater(
                    book.prove(book.compare("month", back="1 month", to_date=True)), 3
                )
                with self.assertRaisesRegex(ep.QuestionError, "not made of whole weeks"):
                    kept.recap("day")
        self.assertGreater(seen, 500)
        with self.assertRaisesRegex(
            ep.DateError, "holds days, and week_in='last day' goes with weeks"
        ):
            ep.Daybook(
                {"on": ["2025-01-03"]},
                date="on",
                measures="n=count()",
                dates=ep.DateRules(week_in="last day"),
            )

    def test_other_days_and_rules_are_refused(self):
        table = {"on": ["2025-01-03", "2025-01-10", "2025-01-18"]}
        with self.assertRaisesRegex(ep.DateError, "row 3: '2025-01-18' is no Friday"):
            ep.Daybook(
                table, date="on", measures="n=count()", dates=ep.DateRules(weeks="ending friday")
            )
        rows = [*ep.inspect({"on": ["2025-01-03", "2025-01-10", "2025-01-17"]}, date="on").rows()]
        (found,) = [row for row in rows if row["subject"] == "perhaps weeks"]
        self.assertEqual(found["value"], "Friday")
        self.assertIn("weeks='ending friday' or weeks='starting friday'", found["detail"])
        for wrong in ({"weeks": "friday"}, {"weeks": "ending friday", "grain": "month"}):
            with self.assertRaises(ep.DateError):
                ep.DateRules(**wrong)
        own = ep.MonthCalendar("own", week_starts="sunday")
        book = ep.Daybook({"on": table["on"][:2]}, date="on", measures="n=count()", calendar=own,
                          dates=ep.DateRules(weeks="ending friday"))  # fmt: skip
        with self.assertRaisesRegex(ep.QuestionError, "whole weeks from Saturday"):
            book.recap("week")
        retail = book.with_calendar(ep.WeekCalendar("retail", week_starts="saturday"))
        self.assertEqual(sum(retail.recap("month")["n"].tolist()), 2)
