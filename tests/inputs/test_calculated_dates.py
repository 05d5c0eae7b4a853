"""Dates that are worked out from other columns: by days, by names of months, by periods."""

import calendar
import datetime as dt
import random
import unittest
from collections import Counter

import pandas as pd

import eptaro as ep

START = dt.date(2023, 11, 20)


def months(table):
    """Return the counts of the periods that have any."""
    return {row["period"]: row["s"] for row in table.rows() if row["s"]}


class Shifted(unittest.TestCase):
    """A date moves by whole days; what is no day is refused or, if asked for, rejected."""

    def test_days_are_added_as_plain_python_adds_them(self):
        rng = random.Random(5)
        rows = [(START + dt.timedelta(rng.randrange(90)), rng.randrange(1, 60)) for _ in range(300)]
        for written, days in (
            ("entered + 7 * (week - 1)", lambda week: 7 * (week - 1)), ("entered - 3", lambda week: -3),
            ("shift(entered, -week)", lambda week: -week), ("entered + 2 * week - 1", lambda week: 2 * week - 1),
        ):  # fmt: skip
            want = Counter(f"{day + dt.timedelta(days(week)):%Y-%m}" for day, week in rows)
            texts = {"entered": [str(day) for day, _ in rows], "week": [week for _, week in rows]}
            typed = pd.DataFrame(
                {"entered": pd.to_datetime(texts["entered"]), "week": texts["week"]}
            )
            for table in (texts, typed):
                with self.subTest(written=written, table=type(table)):
                    book = ep.Daybook(table, date=written, measures="s=count()")
                    self.assertEqual(months(book.recap("month")), dict(want))
                    self.assertGreater(book.prove(book.recap("month")), 0)

    def test_what_is_no_day_is_refused_with_its_row(self):
        for written, week in (("entered + week", 4_000_000), ("entered - 1 * week", 800_000), ("entered + week / 2", 1), ("shift(entered, week)", 0.5),
                              ("entered + week - 1", None)):  # fmt: skip
            table = {
                "entered": ["2024-01-01", "2024-01-02"],
                "week": [1.0 if "/" not in written else 2.0, week],
            }
            said = "row 2: .* is not a day of the calendar"
            with self.subTest(written=written), self.assertRaisesRegex(ep.DateError, said):
                ep.Daybook(table, date=written, measures="s=count()")

    def test_a_column_may_be_called_like_a_sum(self):
        for name in ("order - date", "start+end", "date (local)"):
            book = ep.Daybook({name: ["2024-01-01"]}, date=name, measures="s=count()")
            self.assertEqual(book.rows, 1)

    def test_a_sum_elsewhere_names_the_function(self):
        typed = pd.DataFrame({"on": pd.to_datetime(["2024-01-01"]), "n": [3]})
        with self.assertRaisesRegex(ep.ExpressionError, r"shift\(date, days\)"):
            ep.Daybook(typed, date="on", measures="s=max(on + n)")


class Months(unittest.TestCase):
    """Months by number or English name; the first of a month represents the month."""

    def test_names_and_abbreviations(self):
        for number in range(1, 13):
            name, short = calendar.month_name[number], calendar.month_abbr[number]
            for word in (
                name,
                name.upper(),
                short,
                f"{short.lower()}.",
                f" {name} ",
                str(number),
                f"{number:02}",
            ):
                with self.subTest(word=word):
                    book = ep.Daybook(
                        {"y": [2024], "m": [word]}, date="date(y, m, 1)", measures="s=count()"
                    )
                    self.assertEqual(months(book.recap("month")), {f"2024-{number:02}": 1})
                    self.assertEqual(
                        str(book.coverage.last),
                        f"{dt.date(2024 + number // 12, number % 12 + 1, 1) - dt.timedelta(1)}",
                    )
        with self.assertRaisesRegex(ep.DateError, "'2024, Avril' is not a day"):
            ep.Daybook({"y": [2024], "m": ["Avril"]}, date="date(y, m, 1)", measures="s=count()")

    def test_the_formula_says_which_periods_its_dates_begin(self):
        table = {"y": [2023, 2024], "m": [3, 5], "d": [1, 1]}
        for written, per, finer in (
            ("date(y, m, 1)", "month", "week"),
            ("date(y, 1, 1)", "year", "month"),
            ("date(y, 3, 1)", "month", "week"),
        ):
            book = ep.Daybook(table, date=written, measures="s=count()")
            self.assertEqual(sum(row["s"] for row in book.recap(per).rows()), 2)
            with self.assertRaisesRegex(ep.QuestionError, f"dated by the {per}"):
                book.recap(finer)
        self.assertEqual(
            ep.Daybook(table, date="date(y, m, d)", measures="s=count()").recap("day")["s"].sum(), 2
        )
        daily = ep.Daybook(
            table, date="date(y, m, 1)", dates=ep.DateRules(grain="day"), measures="s=count()"
        )
        self.assertEqual(daily.recap("day")["s"].sum(), 2)

    def test_a_quarter_begins_with_its_first_month(self):
        table, rules = {"y": [2024, 2024], "q": [1, 3]}, ep.DateRules(grain="quarter")
        book = ep.Daybook(table, date="date(y, q * 3 - 2, 1)", dates=rules, measures="s=count()")
        self.assertEqual(months(book.recap("quarter")), {"2024-Q1": 1, "2024-Q3": 1})
        with self.assertRaisesRegex(
            ep.DateError, "neither the first nor the last day of a quarter"
        ):
            ep.Daybook(table, date="date(y, q * 3, 1)", dates=rules, measures="s=count()")


class Zoned(unittest.TestCase):
    """A column that keeps its time zone means that zone's days, unless another one is named."""

    def test_its_own_zone_is_the_default(self):
        stamps = pd.to_datetime(["2025-01-01 00:30", "2025-01-31 23:30"])
        for zone in ("Europe/Lisbon", "Asia/Tokyo", "America/New_York", "UTC"):
            table = pd.DataFrame({"at": stamps.tz_localize(zone), "x": [1, 2]})
            book = ep.Daybook(table, date="at", measures="s=sum(x)")
            self.assertEqual(str(book.coverage), "2025-01-01..2025-01-31")
            self.assertIn(zone, book.notes[0])
            looked = {row["detail"] for row in ep.inspect(table).rows()}
            self.assertIn(f"dates: read with zone={zone}", looked)
        self.assertEqual(str(ep.Daybook(table, date="at", zone="Asia/Tokyo", measures="s=sum(x)").coverage),
                         "2025-01-01..2025-02-01")  # fmt: skip


class Proposed(unittest.TestCase):
    """What `inspect` proposes for dates that are the first days of periods, or in two columns."""

    def details(self, table):
        return [(row["subject"], row["value"], row["detail"]) for row in ep.inspect(table).rows()]

    def test_the_widest_period_that_all_dates_begin(self):
        for step, grain in ((1, "month"), (3, "quarter"), (12, "year")):
            days = [str(dt.date(2020 + n * step // 12, n * step % 12 + 1, 1)) for n in range(5)]
            self.assertIn(("column", "on", f"dates: {grain}s, read with grain={grain}"),
                          self.details({"on": days, "x": [1] * 5}))  # fmt: skip
        daily = [str(dt.date(2020, 1, 1) + dt.timedelta(n)) for n in (0, 31, 60, 61)]
        self.assertIn(
            ("column", "on", "dates: read as written"), self.details({"on": daily, "x": [1] * 4})
        )

    def test_a_year_and_a_month(self):
        for words in (["April", "MAY", "Sept"], [4, 5, 9]):
            found = self.details({"year": [2020, 2020, 2021], "month": words, "v": [1, 2, 3]})
            self.assertIn(
                ("date column", "date(year, month, 1)", "calculated from these columns"), found
            )
        days = {"year": [2020], "month": [4], "on": ["2020-04-07"], "v": [1]}
        self.assertIn(("date column", "on", "the only column of days"), self.details(days))
        parts = {"year": [2020, 2021], "month": [4, 5], "day": [7, 8], "v": [1, 4]}
        zoned = {"at": ["2020-04-07T01:00Z", "2021-05-08T02:00Z"]}
        too = "at could be dates too: use --date COLUMN"
        both = "date(year, month, day)", f"calculated from these columns; {too}"
        self.assertIn(("date column", *both), self.details(parts | zoned))
        plain = {"on": ["2020-04-07", "2021-05-08"], **zoned}
        self.assertIn(("date column", "on", f"the plainest dates; {too}"), self.details(plain))

    def test_a_date_that_takes_no_column_is_refused(self):
        with self.assertRaisesRegex(ep.DateError, "is the same in every row; name the columns"):
            ep.Daybook({"x": [1]}, date="date(2025, 1, 1)", measures="s=sum(x)")

    def test_a_calculated_date_is_looked_at(self):
        found = ep.inspect({"y": [2020, 2020], "m": ["May", "Mayor"]}, date="date(y, m, 1)")
        values = {row["subject"]: (row["value"], row["count"]) for row in found.rows()}
        self.assertEqual((values["first date"][0], values["blank dates"][1]), ("2020-05-01", 1))


class MonthsOfALanguage(unittest.TestCase):
    """Names of months in `date(year, month, day)` are those of the language that rules name."""

    def test_names_and_abbreviations(self):
        words = {
            "fr": ["janvier", "févr.", "AOÛT", "déc"],
            "de": ["Januar", "Feb", "August", "Dezember"],
        }
        for locale, months in words.items():
            table = {"y": [2025] * 4, "m": months, "x": [1, 2, 4, 8]}
            rules = ep.DateRules(locale=locale)
            book = ep.Daybook(
                table, date="date(y, m, 1)", measures="s=sum(x where m != 'z')", dates=rules
            )
            found = {row["period"]: row["s"] for row in book.recap("month").rows() if row["s"]}
            self.assertEqual(
                found, {"2025-01": 1, "2025-02": 2, "2025-08": 4, "2025-12": 8}, locale
            )
            self.assertGreater(book.prove(book.recap("month")), 3)
        with self.assertRaisesRegex(ep.DateError, "row 2: '2025, mai, 1'|row 2"):
            ep.Daybook(
                {"y": [2025, 2025], "m": ["January", "luty"]},
                date="date(y, m, 1)",
                measures="n=count()",
                dates=ep.DateRules(locale="fr"),
            )
