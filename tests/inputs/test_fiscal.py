"""Dates that are periods of a fiscal calendar, checked against plain `datetime`, in every store."""

import datetime as dt
import random
import shlex
import sqlite3
import tempfile
import unittest
from pathlib import Path

import numpy as np

import eptaro as ep
from tests.commands import run_in
from tests.oracle import add_civil_months

DAY = dt.timedelta(1)
MONTHS_IN = {"year": 12, "half": 6, "quarter": 3, "month": 1}
WEEKS = [4, 4, 5] * 4


class Months:
    """Years of twelve months from a day, by plain arithmetic."""

    def __init__(self, starts, named):
        self.month, self.day = map(int, starts.split("-"))
        self.earlier = named == "end" and starts != "01-01"
        self.calendar = ep.MonthCalendar(
            "own", year_starts=starts, year_named=named, prefix="FY", week_starts="sunday"
        )

    def span(self, year, level, number):
        """Return first and last day of a period."""
        opens = dt.date(year - self.earlier, self.month, self.day)
        first = add_civil_months(opens, MONTHS_IN[level] * (number - 1))
        return first, add_civil_months(first, MONTHS_IN[level]) - DAY


class Shops:
    """Years of 4-4-5 weeks to the Saturday nearest to 31 January."""

    calendar = ep.WeekCalendar("own", pattern="4-4-5", year_ends="01-31", week_starts="sunday")

    def ends(self, year):
        """Return the last day of a year."""
        around = [dt.date(year, 1, 31) + DAY * n for n in range(-3, 4)]
        return next(day for day in around if day.weekday() == 5)

    def span(self, year, level, number):
        """Return first and last day of a period."""
        begin, end = self.ends(year - 1) + DAY, self.ends(year)
        weeks = [*WEEKS]
        weeks[-1] += ((end - begin).days + 1) // 7 - 52
        size = MONTHS_IN[level]
        first = begin + 7 * DAY * sum(weeks[: size * (number - 1)])
        return first, begin + 7 * DAY * sum(weeks[: size * number]) - DAY


RULES = (
    Months("04-01", "end"),
    Months("02-01", "start"),
    Months("09-10", "start"),
    Months("01-01", "end"),
    Shops(),
)


def written(rng, year, level, number):
    """Return a label of a period as people write it."""
    letter = {"year": "", "half": "H", "quarter": "Q", "month": rng.choice("MP")}[level]
    short = f"{year % 100:02}"
    if not letter:
        return rng.choice([f"FY{year}", f"FY{short}", str(year), f"fy {year}"])
    forms = [
        f"FY{year}-{letter}{number:02}",
        f"{year}-{letter}{number}",
        f"FY{short} {letter}{number}",
    ]
    forms += [f"{letter}{number} FY{year}", f"{letter}{number:02} {year}"]
    forms += [f"{year}-{number:02}", f"{number}/{year}"] if level == "month" else []
    return rng.choice(forms)


class Everywhere(unittest.TestCase):
    """Random rows of periods in mixed forms, in each calendar, level and store."""

    def test_each_is_counted_on_the_days_of_its_period(self):
        rng = random.Random(31)
        for rule in RULES:
            for level in MONTHS_IN:
                with self.subTest(rule.calendar.describe(), level=level):
                    self.check(rng, rule, level)

    def check(self, rng, rule, level):
        """Compare the totals of a level and of years with those of plain sums."""
        many = 12 // MONTHS_IN[level]
        rows = [
            (rng.randint(2021, 2024), rng.randint(1, many), rng.randint(-99, 99), rng.choice("ab"))
            for _ in range(rng.randint(5, 40))
        ]
        totals = {}
        for year, number, value, _ in rows:
            for of, place in {(level, number), ("year", 1)}:
                key = of, rule.span(year, of, place)
                totals[key] = totals.get(key, 0) + value
        spans = [rule.span(year, level, number) for year, number, *_ in rows]
        kept = tuple(map(str, (min(s[0] for s in spans), max(s[1] for s in spans))))
        ask = rng.choice(
            (
                lambda book: book.compare("year", to_date=True, by="g"),
                lambda book: book.accumulate("year", every=level),
                lambda book: book.trail(f"2 {level}s", every=level, by="g"),
                lambda book: book.card(),
            )
        )
        answers = []
        for store, book in self.books(rng, rule, level, rows):
            with self.subTest(store):
                answers.append([*ask(book).rows()])
                self.assertEqual(answers[-1], answers[0])
                self.assertEqual(str(book.coverage), "..".join(kept))
                for of in {level, "year"}:
                    answer = book.recap(of)
                    found = {(of, (r["first"], r["last"])): r["s"] for r in answer.rows()}
                    self.assertEqual(
                        {key: value for key, value in found.items() if key in totals or value},
                        {key: value for key, value in totals.items() if key[0] == of},
                    )
                    if store in ("memory", "file", "formula", "numbers"):  # which have the rows
                        self.assertGreater(book.prove(answer), 0)
                with self.assertRaisesRegex(ep.QuestionError, "is dated by the"):
                    book.recap("day")

    def books(self, rng, rule, level, rows):
        """Yield the book of rows in each way in."""
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        texts = [written(rng, year, level, number) for year, number, *_ in rows]
        values, groups = [row[2] for row in rows], [row[3] for row in rows]
        lines = [f"{t},{v},{g}\n" for t, v, g in zip(texts, values, groups, strict=True)]
        (folder / "all.csv").write_text("on,x,g\n" + "".join(lines))
        (folder / "early.csv").write_text("on,x,g\n" + "".join(lines[:3]))
        (folder / "late.csv").write_text("on,x,g\n" + "".join(lines[3:]))
        asked = {
            "by": "g",
            "measures": ["s=sum(x)", "n=count()"],
            "calendar": rule.calendar,
            "dates": ep.DateRules(fiscal_periods=True),
        }
        frame = {"on": texts, "x": values, "g": groups}
        yield "memory", ep.Daybook(frame, date="on", **asked)
        file = ep.Daybook.read(folder / "all.csv", date="on", **asked)
        yield "file", file
        file.write(folder / "kept.parquet")
        yield "kept", ep.Daybook.open(folder / "kept.parquet")
        shards = ep.Daybook.read(
            folder / "early.csv", date="on", into=folder / "shards", shards=2, **asked
        )
        yield "added", shards.add(folder / "late.csv")
        with sqlite3.connect(folder / "rows.db") as rows_of:
            rows_of.execute('create table t ("on" text, x integer, g text)')
            rows_of.executemany(
                "insert into t values (?, ?, ?)", zip(texts, values, groups, strict=True)
            )
        rows_of.close()
        yield (
            "database",
            ep.Daybook.from_sql(f"sqlite:///{folder}/rows.db", "t", date="on", **asked),
        )
        years, numbers = [row[0] for row in rows], [row[1] for row in rows]
        if level == "month":
            parts = {"y": years, "p": numbers, "x": values, "g": groups}
            yield "formula", ep.Daybook(parts, date="date(y, p, 1)", **asked)
        tens = {"year": 1, "quarter": 10, "month": 100}.get(level)
        if tens is not None:
            ons = [y if tens == 1 else y * tens + n for y, n in zip(years, numbers, strict=True)]
            grained = asked | {"dates": ep.DateRules(fiscal_periods=True, grain=level)}
            yield "numbers", ep.Daybook(frame | {"on": ons}, date="on", **grained)


class Refused(unittest.TestCase):
    """What is no period of the calendar is named, and what would be misread is refused."""

    def book(self, values, calendar=RULES[0].calendar, **rules):
        """Return the book of some dates."""
        dates = ep.DateRules(fiscal_periods=True, **rules)
        frame = {"on": values, "x": [1] * len(values)}
        return ep.Daybook(frame, date="on", measures="s=sum(x)", calendar=calendar, dates=dates)

    def test_rows_that_name_no_period(self):
        for values, words in (
            (["FY2024-M13"], "row 1: 'FY2024-M13' does not exist in calendar 'own'"),
            (["FY2024-M01", "2024-04-01"], "row 2: '2024-04-01' is a day, and no period of"),
            (["FY2024-M01", "?"], "row 2: '.' is no period of calendar 'own'"),
            ([202403], "'202403' is a number; a month"),
            (["FY2024-M01", ""], "row 2: blank"),
            (["FY2024-M01", "FY2024-Q1"], "holds both 'FY2024-M01', a month, and 'FY2024-Q1'"),
            ([2024.5], "numbers with decimals"),
            ([dt.date(2024, 1, 1)], "holds date32.day., not periods of a calendar; leave out"),
        ):
            with self.subTest(values), self.assertRaisesRegex(ep.DateError, words):
                self.book(values)
        with self.assertRaisesRegex(ep.DateError, "'FY2024-Q1' is a quarter .grain=month"):
            self.book(["FY2024-M01", "FY2024-Q1"], grain="month")
        left = self.book(["FY2024-M01", "?", "FY2024-M02"], bad_dates="reject")
        self.assertEqual(str(left.coverage), "2023-04-01..2023-05-31")
        self.assertEqual(left.rejected["row"].tolist(), [2])

    def test_calendars_that_cannot_be_meant(self):
        for calendar in (None, ep.MonthCalendar()):
            with self.assertRaisesRegex(ep.DateError, "needs the calendar of the fiscal years"):
                self.book(["FY2024-M01"], calendar)
        own = ep.OwnCalendars("g", {"a": RULES[0].calendar, "b": ep.WeekCalendar("weeks")})
        with self.assertRaisesRegex(ep.DateError, "goes with one calendar"):
            self.book(["FY2024-M01"], own)
        with self.assertRaisesRegex(ep.DateError, "order and fiscal_periods contradict"):
            ep.DateRules(fiscal_periods=True, order="dmy")
        with self.assertRaisesRegex(ep.DateError, "fiscal_periods and grain='day' contradict"):
            ep.DateRules(fiscal_periods=True, grain="day")
        with self.assertRaisesRegex(ep.DateError, "use fiscal_periods=True"):
            ep.Daybook({"on": ["FY2024-M01"]}, date="on", measures="count()")

    def test_days_in_a_file_are_no_periods_and_nor_are_calculated_days(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "days.csv").write_text("on,x\n" + "2024-04-01,1\n" * 2000)
        asked = {
            "measures": "s=sum(x)",
            "calendar": RULES[0].calendar,
            "dates": ep.DateRules(fiscal_periods=True),
        }
        with self.assertRaisesRegex(ep.DateError, "'2024-04-01' is a day, and no period"):
            ep.Daybook.read(folder / "days.csv", date="on", **asked)
        frame = {"y": [2024, 2025], "m": [1, 2], "x": [1, 2]}
        for date in ("date(y, 1, m)", "shift(date(y, m, 1), 0)"):
            with self.assertRaisesRegex(
                ep.ExpressionError, "calculated are weeks, months or years"
            ):
                ep.Daybook(frame, date=date, **asked)
        with self.assertRaisesRegex(ep.ExpressionError, "calculated are weeks, months or years"):
            rules = ep.DateRules(fiscal_periods=True, grain="year")  # and a month is none
            ep.Daybook(frame, date="date(y, m, 1)", **asked | {"dates": rules})
        years = ep.Daybook(frame, date="date(y, 1, 1)", **asked)
        self.assertEqual(str(years.coverage), "2023-04-01..2025-03-31")
        listed = ep.ListedCalendar(
            "weeks",
            [
                {"year": 2024, "month": 1, "first": "2024-01-07", "last": "2024-02-03"},
                {"year": 2024, "month": 2, "first": "2024-02-04", "last": "2024-03-02"},
            ],
        )
        frame = {"y": [2024, 2024, 2024], "m": [1, 2, 3], "x": [1, 2, 4]}
        asked |= {"calendar": listed}
        with self.assertRaisesRegex(ep.DateError, "row 3: .* is no period of the calendar"):
            ep.Daybook(frame, date="date(y, m, 1)", **asked)
        frame = {"on": ["2024-M01", "2024-P02", "2/2024"], "x": [1, 2, 4]}
        book = ep.Daybook(frame, date="on", **asked)
        self.assertEqual(book.recap("month")["s"].tolist(), [1, 6])
        self.assertEqual(str(book.coverage), "2024-01-07..2024-03-02")

    def test_weeks_are_those_of_the_calendar(self):
        frame = {"on": ["FY2024-W01", "W02 FY24", "2024-W52"], "x": [1, 2, 4]}
        dates = ep.DateRules(fiscal_periods=True)
        book = ep.Daybook(
            frame, date="on", measures="s=sum(x)", calendar=Shops.calendar, dates=dates
        )
        first = Shops().ends(2023) + DAY
        self.assertEqual(str(book.coverage), f"{first}..{first + 7 * 52 * DAY - DAY}")
        answer = [*book.recap("week").rows()]
        self.assertEqual([row["s"] for row in answer if row["s"]], [1, 2, 4])
        with self.assertRaisesRegex(ep.QuestionError, "dated by the week from Sunday"):
            book.recap("day")

    def test_other_columns_are_read_as_ever(self):
        frame = {
            "on": ["FY2024-M01", "FY2024-M01", "FY2024-M02"],
            "paid": ["1 Feb 2024", "5 Mar 2024", "2 Apr 2024"],
            "key": ["a", "b", "a"],
        }
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        lines = [",".join(row) for row in zip(*frame.values(), strict=True)]
        (folder / "rows.csv").write_text("\n".join(["on,paid,key", *lines, ""]))
        (folder / "rates.csv").write_text("key,since,rate\na,2023-01-01,2\na,2023-05-01,3\n")
        given = {
            "date": "on",
            "calendar": RULES[0].calendar,
            "dates": ep.DateRules(fiscal_periods=True),
            "lookups": ep.Lookup(folder / "rates.csv", "key", first="since"),
        }
        late = "n=count(where paid >= '2024-03-01')"
        book = ep.Daybook.read(folder / "rows.csv", measures=[late, "r=sum(rate)"], **given)
        self.assertEqual(
            [(row["n"], row["r"]) for row in book.recap("month").rows()], [(1, 2), (1, 3)]
        )
        after = "d=max(days(date(2024, 1, 1), paid))"
        book = ep.Daybook.read(folder / "rows.csv", measures=after, **given)
        self.assertEqual(np.abs(book.recap("month")["d"]).tolist(), [31, 92])

    def test_a_calendar_of_the_dates_beside_that_of_the_questions(self):
        dates = ep.DateRules(fiscal_periods=RULES[4].calendar)
        frame = {"on": ["FY2024-M01", "FY2024-M02"], "x": [1, 2]}
        book = ep.Daybook(frame, date="on", measures="s=sum(x)", dates=dates)
        self.assertEqual(str(book.coverage), "2023-01-29..2023-03-25")
        with self.assertRaisesRegex(ep.QuestionError, "whole months of 'own'"):
            book.recap("month")
        halves = self.book(["FY2024-H1"], RULES[1].calendar)
        with self.assertRaisesRegex(ep.QuestionError, "not made of whole halves of 'own'"):
            halves.recap("quarter")
        with tempfile.TemporaryDirectory() as folder:  # years of its own calendar: one sheet
            years = self.book(["FY2024", "FY2025"])
            years.report(Path(folder) / "years.xlsx")
        asked = book.with_calendar(RULES[4].calendar)
        self.assertEqual(asked.recap("month")["s"].tolist(), [1, 2])


def asked(folder, command):
    """Run a command as it is written."""
    done = run_in(folder, *shlex.split(command))
    assert not done.returncode, done.stderr
    return done


class Numbered(unittest.TestCase):
    """The numbers of weeks and of periods of a year, in columns of their own."""

    def everywhere(self, columns, **asked):
        """Yield a book of some columns in memory, in files and in a folder."""
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        yield ep.Daybook(columns, **asked)
        lines = [",".join(map(str, row)) for row in zip(*columns.values(), strict=True)]
        (folder / "rows.csv").write_text("\n".join([",".join(columns), *lines]))
        yield ep.Daybook.read(folder / "rows.csv", **asked)
        yield ep.Daybook.read(folder / "rows.csv", into=folder / "book", **asked)

    def check(self, per, expected, columns, **asked):
        """Compare the total of each period with what it should be."""
        books = self.everywhere(columns, measures="s=sum(n)", **asked)
        for book, proved in zip(books, (True, True, False), strict=True):
            table = book.recap(per)
            found = {(r["first"], r["last"]): r["s"] for r in table.rows() if r["s"]}
            self.assertEqual(found, expected)
            if proved:
                book.prove(table)

    def columns(self, rng, most):
        """Return random years, numbers up to that of each year, and amounts."""
        years = [rng.randint(2019, 2026) for _ in range(60)]
        return {
            "yr": years,
            "no": [rng.randint(1, most(year)) for year in years],
            "n": [*range(1, 61)],
        }

    def test_weeks_of_iso_8601(self):
        columns = self.columns(
            random.Random(7), lambda year: dt.date(year, 12, 28).isocalendar().week
        )
        expected = {}
        for year, number, n in zip(*columns.values(), strict=True):
            first = dt.date.fromisocalendar(year, number, 1)
            key = first, first + 6 * DAY
            expected[key] = expected.get(key, 0) + n
        self.check("week", expected, columns, date="week(yr, no)")

    def test_weeks_and_periods_of_a_calendar(self):
        shops = Shops()
        sunday = ep.MonthCalendar("own", week_starts="sunday", first_week_days=1)
        thirteen = ep.WeekCalendar("own", pattern="13x4", year_ends="12-31")

        def first_sunday(year):
            return dt.date(year, 1, 1) - DAY * (dt.date(year, 1, 1).isoweekday() % 7)

        for calendar, days, begins in (
            (shops.calendar, 7, lambda year: shops.ends(year - 1) + DAY),
            (sunday, 7, first_sunday),
            (thirteen, 28, lambda year: thirteen.period(f"FY{year}").first),
        ):
            per, date = ("week", "week(yr, no)") if days == 7 else ("month", "date(yr, no, 1)")
            with self.subTest(calendar=calendar, per=per):
                columns = self.columns(
                    random.Random(8), lambda y, b=begins, d=days: (b(y + 1) - b(y)).days // d
                )
                expected = {}
                for year, number, n in zip(*columns.values(), strict=True):
                    first, after = begins(year) + days * DAY * (number - 1), begins(year + 1)
                    rest = (after - first).days < 2 * days  # the last may be longer
                    key = first, after - DAY if rest else first + (days - 1) * DAY
                    expected[key] = expected.get(key, 0) + n
                rules = ep.DateRules(fiscal_periods=True)
                self.check(per, expected, columns, date=date, calendar=calendar, dates=rules)

    def test_what_is_no_week_of_a_year_is_refused(self):
        frame = {"yr": [2025, 2025, 25], "no": [1, 53, 1], "n": [1, 2, 4]}
        fiscal = {"dates": ep.DateRules(fiscal_periods=True), "calendar": RULES[0].calendar}
        for asked in ({}, fiscal):
            with self.assertRaises(ep.DateError) as caught:
                ep.Daybook(frame, date="week(yr, no)", measures="s=sum(n)", **asked)
            self.assertIn(
                "'2025, 53' is " + ("no period" if asked else "not a week"), str(caught.exception)
            )
            self.assertIn("'25, 1' has a year of two digits", str(caught.exception))


class Commands(unittest.TestCase):
    """On the command line: proposed where it is likely, and answered."""

    def test_a_ledger_of_fiscal_years_and_periods(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        rows = "".join(f"{2024 + n // 12},{n % 12 + 1},{n + 1}.25\n" for n in range(24))
        (folder / "ledger.csv").write_text("fiscal_year,fiscal_period,amount\n" + rows)
        shown = asked(folder, "inspect ledger.csv").stdout
        self.assertIn("if they are fiscal ones, use --fiscal-periods", shown)
        command = shown.splitlines()[-1].removeprefix("next: eptaro ").replace("MM-01", "07-01")
        self.assertIn("--fiscal-periods", command)
        answer = asked(folder, f"{command} --format csv").stdout.splitlines()
        self.assertEqual(answer[1].split(",")[:3], ["2024-M01", "2023-07-01", "2023-07-31"])
        self.assertEqual(len(answer), 25)

        asked(folder, "init ledger.csv --fiscal-periods --year-starts 07-01 --out own.toml")
        answer = asked(folder, "recap --config own.toml --per quarter --format csv").stdout
        self.assertIn("FY2025-Q4,2025-04-01,2025-06-30", answer)
        shown = asked(folder, "inspect ledger.csv --fiscal-periods --pattern 4-4-5").stdout
        self.assertIn("months of 'fiscal' without rows", shown)

    def test_a_ledger_with_periods_that_adjust_its_years(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        rows = "".join(f"{y},{p},{p}\n" for y in (2023, 2024) for p in range(1, 15))
        (folder / "ledger.csv").write_text("fiscal_year,fiscal_period,amount\n" + rows)
        shown = asked(folder, "inspect ledger.csv --fiscal-periods --year-starts 04-01").stdout
        command = shown.splitlines()[-1].removeprefix("next: eptaro ")
        self.assertIn("least(fiscal_period, 12)", command)
        answer = asked(folder, f"{command} --subtotals year --format csv").stdout
        self.assertIn("2024-X14,adjustment,2023-04-01,2024-03-31,366,true,1,14", answer)
        self.assertIn("2024,year,2023-04-01,2024-03-31,366,true,14,105", answer)
        asked(folder, "init ledger.csv --fiscal-periods --year-starts 04-01 --out own.toml")
        answer = asked(folder, "recap --config own.toml --per year --format csv").stdout
        self.assertIn("FY2024,2023-04-01,2024-03-31,366,true,14,105", answer)
        plain = "recap ledger.csv --date 'date(fiscal_year, fiscal_period, 1)' --per year"
        options = "--measure 'count()' --fiscal-periods --year-starts 04-01"
        done = run_in(folder, *shlex.split(f"{plain} {options}"))
        self.assertIn("row 13: '2023, 13' is no period of the calendar (one that", done.stderr)
        shown = asked(folder, "inspect ledger.csv --fiscal-periods --pattern 13x4").stdout
        self.assertIn("--date fiscal_year --fiscal-periods --pattern 13x4", shown)

    def test_a_config_keeps_the_calendar_of_its_dates(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "plan.csv").write_text("on,x\n2024-M01,1\n2024-M02,2\n")
        (folder / "own.toml").write_text(
            "[calendars.fiscal]\nkind = 'month'\nyear_starts = '04-01'\n[calendars.late]\nkind = 'month'\nyear_starts = '10-01'\n"
            "[data]\nfiles = ['plan.csv']\ndate = 'on'\ncalendar = 'fiscal'\n"
            "measures = {s = 'sum(x)'}\ndates = {fiscal_periods = true}\n"
        )
        for more, label in (("", "2024-M01"), ("--calendar late", "2023-M07")):
            answer = asked(
                folder, f"recap --config own.toml --per month --format csv {more}"
            ).stdout
            self.assertTrue(answer.splitlines()[1].startswith(f"{label},2023-04-01"), answer)
        (folder / "listed.csv").write_text(
            "year,month,first,last\n2024,1,2024-01-07,2024-02-03\n2024,2,2024-02-04,2024-03-02\n"
        )
        (folder / "listed.toml").write_text(
            "[calendars.own]\nkind = 'listed'\nfile = 'listed.csv'\n"
            "[data]\nfiles = ['plan.csv']\ndate = 'on'\ncalendar = 'own'\n"
            "measures = {s = 'sum(x)'}\ndates = {fiscal_periods = true}\n"
        )
        shown = asked(folder, "inspect --config listed.toml").stdout
        self.assertIn("the last day of the last month: dates are months of 'own'", shown)
        answer = asked(folder, "recap --config listed.toml --per month --format csv").stdout
        self.assertIn("2024-M02,2024-02-04,2024-03-02", answer)

    def test_labels_are_told_from_other_text(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "years.csv").write_text("year,x\n2023,1\n2024,2\n")
        self.assertNotIn("fiscal", asked(folder, "inspect years.csv").stdout)
        (folder / "plan.csv").write_text("on,x\nFY2024-M01,1\nFY2024-M02,2\n")
        self.assertIn("periods of fiscal years; as dates", asked(folder, "inspect plan.csv").stdout)
        (folder / "paid.csv").write_text(
            "on,paid,x\nFY2024-M01,13/04/2023,1\nFY2024-M02,20/05/2023,2\n"
        )
        options = "--fiscal-periods --year-starts 04-01"
        shown = asked(folder, f"inspect paid.csv {options}").stdout
        self.assertRegex(shown, "column +paid +2 +dates: read with order=")
        self.assertIn(f"next: eptaro recap paid.csv --date on {options}", shown)
        shown = asked(folder, "inspect plan.csv --date on --fiscal-periods --year-starts 04-01")
        self.assertIn("next time use --date on --fiscal-periods --year-starts 04-01", shown.stdout)


if __name__ == "__main__":
    unittest.main()
