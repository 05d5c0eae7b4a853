"""`recap(across="year")`: months, quarters, halves or weeks down and years across."""

import datetime as dt
import random
import statistics
import tempfile
import unittest
from dataclasses import replace

import eptaro as ep
from tests.core.verbs.test_card import CALENDARS, START, transactions
from tests.oracle import DAY


class Across(unittest.TestCase):
    """Each cell is the recap of its period, each change the comparison of the last two years."""

    def test_cells_are_those_of_a_recap(self):
        rng, seen = random.Random(7), 0
        for _ in range(12):
            calendar, level = (
                rng.choice(CALENDARS),
                rng.choice(["month", "quarter", "half", "week"]),
            )
            book = ep.Daybook(transactions(rng), date="on", by="g", measures=["s=sum(x)", "m=median(x)"],
                              calendar=calendar, coverage=rng.choice([None, "groups"]))  # fmt: skip
            asked = {"by": rng.choice([None, "g"]), "as_of": START + DAY * rng.randrange(500, 900),
                     "only": rng.choice([None, {"g": ["a", "c"]}])}  # fmt: skip
            table = book.recap(level, across="year", totals=True, **asked)
            cells = {
                (row.get("g"), row["period"]): row for row in book.recap(level, **asked).rows()
            }
            of_years = {
                (row.get("g"), row["period"]): row for row in book.recap("year", **asked).rows()
            }
            years = sorted({key[1] for key in of_years})
            names = [name for name in table.names if name.startswith("s ") and "change" not in name]
            self.assertEqual(names, [f"s {year}" for year in years])
            for row in table.rows():
                whole = []
                for year in years:
                    if row[level] == "total":
                        own = of_years[row.get("g"), year]
                    else:
                        number = list(dict.fromkeys(r[level] for r in table.rows())).index(
                            row[level]
                        )
                        label = self.label(calendar, year, level, row[level], number)
                        own = cells.get((row.get("g"), label))
                    for name in ("s", "m"):
                        self.assertEqual(
                            row[f"{name} {year}"], own and own[name], (level, year, row)
                        )
                    whole.append(own)
                    seen += 1
                if len(years) > 1:
                    before, now = whole[-2:]
                    known = before and now and before["complete"] and now["complete"]
                    change = (
                        now["s"] - before["s"]
                        if known and None not in (now["s"], before["s"])
                        else None
                    )
                    self.assertEqual(row[f"s {years[-1]}_change"], change)
                self.assertEqual(row["complete"], all(own["complete"] for own in whole if own))
            self.assertGreater(book.prove(table, sample=8), 5)
        self.assertGreater(seen, 800)

    def label(self, calendar: ep.Calendar, year: str, level: str, shown: str, number: int) -> str:
        """Return the label of a period by its year and what is shown of it."""
        if level == "month" and shown.isalpha():
            return f"{year}-{number + 1:02d}"
        return f"{year}-{shown}"

    def test_the_total_of_weeks_is_that_of_the_weeks_shown(self):
        for calendar in (ep.MonthCalendar(), ep.MonthCalendar(year_starts="04-01")):
            for start, count in (("2023-01-01", 800), ("2023-01-02", 728), ("2022-12-20", 1000)):
                days = [dt.date.fromisoformat(start) + DAY * n for n in range(count)]
                frame = {"on": days, "x": [n % 7 + 1 for n in range(count)]}
                book = ep.Daybook(frame, date="on", measures="s=sum(x)", calendar=calendar)
                *rows, total = book.recap("week", across="year", totals=True).rows()
                years = [name for name in total if name[-4:].isdigit()]
                self.assertGreater(len(years), 1)
                for year in years:
                    self.assertEqual(total[year], sum(row[year] or 0 for row in rows), year)
                # Two years of 52 weeks in the one case; others begin or end within a year.
                whole = (calendar.year_starts, start) == ("01-01", "2023-01-02")
                self.assertEqual(total["complete"], whole)
                self.assertGreater(book.prove(book.recap("week", across="year", totals=True)), 50)

    def test_shards_and_the_largest_groups(self):
        table = transactions(random.Random(8))
        book = ep.Daybook(table, date="on", by="g", measures="s=sum(x)")
        with tempfile.TemporaryDirectory() as folder:
            kept = ep.Daybook.open(book.write(f"{folder}/book/"))
            kept._store = replace(kept._store, at_once=0)
            for asked in ({"by": "g"}, {}, {"by": "g", "top": 1}):
                one, two = (each.recap("quarter", across="year", **asked) for each in (book, kept))
                self.assertEqual([*one.rows()], [*two.rows()])
        largest = book.recap("quarter", across="year", by="g", top=1)
        self.assertEqual(len({row["g"] for row in largest.rows()}), 2)
        sums = [
            sum(x for x, g in zip(table["x"], table["g"], strict=True) if g == name and x)
            for name in "abc"
        ]
        cells = [
            v
            for row in largest.rows()
            for n, v in row.items()
            if n in ("2022", "2023", "2024") and v
        ]
        self.assertEqual(sum(cells), sum(sums))
        self.assertIn("parts add up", largest.meta["tie_out"]["s"])
        self.assertGreater(statistics.mean(cells), 0)

    def test_what_does_not_go_with_it_is_refused(self):
        book = ep.Daybook(
            {"on": ["2025-01-01"], "g": ["a"]}, date="on", by="g", measures="n=count()"
        )
        for more, said in (({"wide": True}, "wide"), ({"sort": "n"}, "sort"), ({"shares": True}, "shares"),
                           ({"top": 1, "top_within": "period", "by": "g"}, "top_within"), ({"across": "month"}, "unknown value for across")):  # fmt: skip
            with self.subTest(more=more), self.assertRaisesRegex(ep.QuestionError, said):
                book.recap("month", **{"across": "year", **more})
        for per in ("year", "day"):
            with self.assertRaisesRegex(ep.QuestionError, "parts of a year"):
                book.recap(per, across="year")
        own = book.with_calendar(ep.OwnCalendars("g", {}, ep.MonthCalendar()))
        with self.assertRaisesRegex(ep.QuestionError, "across needs one calendar for all groups"):
            own.recap("month", across="year", by="g")


if __name__ == "__main__":
    unittest.main()


class SeveralSpans(unittest.TestCase):
    """Several spans in `only`, side by side."""

    def test_columns_are_the_recaps_of_each(self):
        rng, seen = random.Random(5), 0
        for number in range(15):
            rows = {"on": [dt.date(2024, 1, 5) + DAY * rng.randrange(500) for _ in range(150)],
                    "g": [rng.choice("ab") for _ in range(150)], "x": [rng.randint(0, 9) for _ in range(150)]}  # fmt: skip
            book = ep.Daybook(rows, date="on", by="g", measures=["s=sum(x)", "m=median(x)"])
            spans = rng.sample(["2024-Q1", "2024-Q2", "2025-Q1", "2024-11-03..2024-12-05", "2024"], rng.choice([2, 3]))  # fmt: skip
            by, per = rng.choice([None, "g"]), rng.choice(["month", "quarter", "week"])
            with tempfile.TemporaryDirectory() as folder:
                if number % 3 == 0:
                    book.write(f"{folder}/kept/")
                    book = ep.Daybook.open(f"{folder}/kept")
                    book._store = replace(book._store, at_once=0)
                only = [*spans, *([{"g": ["a", "b"]}] if rng.random() < 0.3 else [])]
                found = [*book.recap(per, by=by, only=only).rows()]
                parts = {span: [*book.recap(per, by=by, only=span).rows()] for span in spans}
            for group in ("a", "b") if by else (None,):
                mine = [row for row in found if row.get("g") == group]
                for span in spans:
                    own = [row for row in parts[span] if row.get("g") == group]
                    for name in ("s", "m"):
                        got = [row[f"{name} {span}"] for row in mine]
                        wanted = [row[name] for row in own] + [None] * (len(mine) - len(own))
                        self.assertEqual(got, wanted, (span, name))
                        seen += len(got)
        self.assertGreater(seen, 150)

    def test_it_is_proved_and_described(self):
        rows = {"on": ["2024-01-05", "2024-02-05", "2025-01-07"], "x": [3, 4, 9]}
        book = ep.Daybook(rows, date="on", measures="s=sum(x)", coverage="months")
        table = book.recap("month", only=["2024-01", "2025-01"])
        (row,) = table.rows()
        self.assertEqual((row["2024-01"], row["2025-01"], row["2025-01_change"]), (3, 9, 6))
        self.assertEqual(table.headline, "S: 2024-01 3, 2025-01 9.")
        self.assertEqual(book.prove(table), 4)
        for how, words in (({"shares": True}, "without shares"), ({"wide": True}, "without wide")):
            with self.assertRaisesRegex(ep.QuestionError, words):
                book.recap("month", only=["2024-01", "2025-01"], **how)
        with self.assertRaisesRegex(ep.QuestionError, "only names 2 spans"):
            book.trail("7 days", only=["2024-01", "2025-01"])
