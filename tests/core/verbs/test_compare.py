"""Comparisons with other sides than the period before, and what explains a change."""

import datetime as dt
import math
import random
import re
import unittest
from decimal import Decimal
from fractions import Fraction
from itertools import product
from pathlib import Path

import numpy as np

import eptaro as ep
from tests import oracle
from tests.core.verbs.test_verbs import book_of

PAGE = Path(__file__).parents[3] / "docs" / "comparisons.md"
CALENDARS = {
    "civil": ep.MonthCalendar(),
    "fiscal": ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY"),
    "tenth": ep.MonthCalendar("tenth", year_starts="09-10", year_named="start"),
    "cafe": ep.WeekCalendar("cafe"),
}


def asked(question: str) -> tuple[str, dict]:
    """Return the arguments of a question as the page writes it."""
    per, options = re.fullmatch(r'`compare\("(\w+)"(.*)\)`', question).groups()
    named = dict(re.findall(r'(\w+)=("[^"]*"|\w+)', options))
    plain = {"True": True, "3": 3}
    return per, {name: plain.get(value, value.strip('"')) for name, value in named.items()}


class Page(unittest.TestCase):
    """Every line of docs/comparisons.md holds."""

    def test_every_line(self):
        books = {
            name: ep.Daybook({"on": ["2018-01-01", "2026-12-31"]}, date="on", measures="n=count()",
                             calendar=calendar)
            for name, calendar in CALENDARS.items()
        }  # fmt: skip
        held = 0
        for line in PAGE.read_text(encoding="utf-8").splitlines():
            parts = [part.strip() for part in line.strip("|").split("|")]
            if parts[0] not in CALENDARS:
                continue
            place = 1 if parts[1].startswith("`") else 2
            per, options = asked(parts[place])
            if place == 2:
                options["as_of"] = parts[1]
            rows = list(books[parts[0]].compare(per, **options).rows())
            row = rows[-1] if place == 2 else next(r for r in rows if r["period"] == parts[2])
            shown = f"{row['prior_first']}..{row['prior_last']}" if row["prior_first"] else ""
            said = "clamped" if row["prior_clamped"] else "" if row["prior_first"] else "none"
            with self.subTest(line):
                self.assertEqual(
                    [f"{row['first']}..{row['last']}", row.get("prior_spans", shown), said],
                    parts[3:6],
                )
            held += 1
        self.assertGreaterEqual(held, 45)

    def test_every_moved_span(self):
        found = re.findall(
            r"\| (\S+\.\.\S+) \| ([+-]\d+) (\w+) \| (\S+\.\.\S+) \|", PAGE.read_text()
        )
        self.assertEqual(len(found), 8)
        for span, n, level, want in found:
            moved = ep.Span.parse(span).shift(int(n), level, CALENDARS["civil"])
            self.assertEqual(str(moved), want)


class Sides(unittest.TestCase):
    """What stands on the prior side equals the oracle."""

    def check(self, rows, row, want, ending="_prior"):
        for name, plain in (("trips", "count"), ("revenue", "sum")):
            self.assertEqual(row[name + ending], want[plain] if want else None)

    def test_against_a_fixed_year_and_a_fixed_span(self):
        for seed in range(4):
            rows = oracle.random_rows(seed)
            book = book_of(rows, ep.MonthCalendar())
            year = rows.first.year + 1
            for row in book.compare("month", against=str(year), by="group").rows():
                first = row["first"].replace(year=year)
                last = oracle.add_civil_months(first, 1) - oracle.DAY
                self.assertEqual((row["prior_first"], row["prior_last"]), (first, last))
                self.check(rows, row, rows.over(row["group"], first, last))
            span = f"{rows.first}..{rows.first + 99 * oracle.DAY}"
            want = rows.over(None, rows.first, rows.first + 99 * oracle.DAY)
            for row in book.compare("quarter", against=span).rows():
                self.assertEqual(row["prior_period"], span)
                self.check(rows, row, want)

    def test_a_mean_of_the_largest_floats(self):
        days = {"on": ["2023-01-05", "2024-01-05", "2025-01-05"], "x": [1.5e308, 1.1e308, 1.0]}
        book = ep.Daybook(days, date="on", measures="s=max(x)", coverage="2023-01-01..2025-12-31")
        table = book.compare("year", mean_of=2)
        *_, row = table.rows()
        self.assertEqual(row["s_prior"], 1.3e308)
        self.assertGreater(book.prove(table), 3)

    def test_what_is_made_of_days_beyond_the_floats(self):
        days = {"on": ["2024-05-02"] * 4 + ["2024-05-03"] * 3 + ["2024-05-06"],
                "x": [1e308, 1e308, 5e307, -4e307, -1e308, 15.25, 0.0, 1e308]}  # fmt: skip
        book = ep.Daybook(days, date="on", measures="a=mean(sum(x) per active day)")
        table = book.compare("day", against="2024-05-02")
        self.assertEqual({row["a_change"] for row in table.rows()}, {None})
        self.assertEqual(book.recap("day", only="2024-05-03..2024-05-06")["a"].tolist()[0], -1e308)
        for made in (
            table,
            book.compare("day", against="2024-05-03..2024-05-06"),
            book.recap("day"),
            book.rhythm("month"),
        ):
            self.assertGreater(book.prove(made), 0)
        tied = ep.Daybook({"on": ["2024-05-02", *["2024-05-03"] * 6], "x": [1e308, 1e308, 1e308, -1e308, -1e308, -1e308, 15.25]},
                          date="on", measures="a=mean(sum(x) per active day)")  # fmt: skip
        self.assertEqual(tied.recap("month")["a"].tolist(), [0.0])
        self.assertGreater(tied.prove(tied.recap("month")), 0)

    def test_money_like_its_mean_has_not_changed(self):
        years = [f"{year}-01-11" for year in range(2022, 2026)]
        for seed in range(20):
            rng = random.Random(seed)
            cents = [rng.randint(1, 10**6) for _ in range(3)]
            cents[0] += -sum(cents) % 3
            x = [Decimal(n) / 100 for n in (*cents, sum(cents) // 3)]
            book = ep.Daybook({"on": years, "x": x}, date="on", measures="s=sum(x)", coverage="2022-01-01..2025-12-31")  # fmt: skip
            (row,) = book.compare("year", mean_of=3, only="2025").rows()
            self.assertEqual((row["s_prior"], row["s_change"]), (float(row["s"]), 0.0))

    def test_mean_of_the_years_before(self):
        for seed in range(4):
            rows = oracle.random_rows(seed)
            book = book_of(rows, ep.MonthCalendar())
            for row in book.compare("quarter", mean_of=2, by="group").rows():
                found, complete = [], rows.complete(row["first"], row["last"])
                for n in (1, 2):
                    first = oracle.add_civil_months(row["first"], -12 * n)
                    last = oracle.add_civil_months(first, 3) - oracle.DAY
                    complete &= rows.complete(first, last)
                    found.append((rows.over(row["group"], first, last) or {}).get("sum"))
                self.assertEqual(row["comparable"], complete)
                if None in found:
                    self.assertIsNone(row["revenue_prior"])
                    continue
                self.assertAlmostEqual(row["revenue_prior"], float(sum(found)) / 2)
                if complete:
                    self.assertAlmostEqual(
                        row["revenue_change"], float(row["revenue"]) - float(sum(found)) / 2
                    )

    def test_day_by_day_is_the_answer_of_every_day(self):
        rows = oracle.random_rows(3)
        for calendar in CALENDARS.values():
            book = book_of(rows, calendar)
            for match in ("date", "elapsed", "weekday", "workday"):
                table = book.compare(
                    "quarter", to_date=True, every="day", match=match, by="group", as_of=rows.last
                )
                for row in [*table.rows()][::7]:
                    alone = book.compare(
                        "quarter", to_date=True, match=match, by="group", as_of=row["last"],
                        only=f"group={row['group']}",
                    )  # fmt: skip
                    (want,) = alone.rows()
                    self.assertEqual(row["day"], (row["last"] - row["first"]).days + 1)
                    for name in ("prior_first", "prior_last", "revenue", "revenue_prior"):
                        self.assertEqual(row[name], want[name], (name, match, row))
        ends = book.compare("year", to_date=True, every="quarter")["last"]
        self.assertLessEqual(len(ends), 4)

    def test_trailing_windows_equal_two_trails(self):
        rows = oracle.random_rows(8)
        for calendar in CALENDARS.values():
            book = book_of(rows, calendar)
            trails = {r["last"]: r for r in book.trail("3 months").rows()}
            for row in book.compare("month", trailing="3 months", back="3 months").rows():
                self.assertEqual(row["revenue"], trails[row["last"]]["revenue_trailing"])
                before = trails.get(row["prior_last"])
                if before and before["first"] == row["prior_first"]:
                    self.assertEqual(row["revenue_prior"], before["revenue_trailing"])
                self.check(rows, row, rows.over(None, row["prior_first"], row["prior_last"]))

    def test_sorted_by_change_and_goals(self):
        rows = oracle.random_rows(5)
        book = book_of(rows, ep.MonthCalendar())
        year = rows.first.year + 1
        table = book.compare("year", by="group", only=str(year), sort="-revenue")
        self.assertEqual(sorted(table["revenue"], reverse=True), table["revenue"].tolist())
        goals = {("a", str(year)): 1000, ("b", str(year)): 2000}
        for row in book.compare("year", by="group", goals=goals).rows():
            goal = goals.get((row["group"], row["period"]))
            self.assertEqual(row["revenue_goal"], goal)
            if goal is None or not rows.complete(row["first"], row["last"]):
                self.assertIsNone(row["revenue_goal_gap"])
            else:
                self.assertAlmostEqual(row["revenue_goal_gap"], float(row["revenue"]) - goal)
                self.assertAlmostEqual(row["revenue_goal_reached"], float(row["revenue"]) / goal)

    def test_what_does_not_go_together(self):
        book = book_of(oracle.random_rows(0), ep.MonthCalendar())
        bad = (
            ({"against": "FY2019"}, "is not a span"),
            ({"against": "2019-W03"}, "weeks are not whole months"),
            ({"against": "2019-01-01..2019-01-31", "to_date": True}, "needs a period to cut"),
            ({"against": "2019", "align": "restated"}, "goes with back"),
            ({"mean_of": 0}, "must be 1 to 200"),
            ({"mean_of": 10_000}, "must be 1 to 200"),
            ({"mean_of": 2, "effects": "days"}, "do not go together"),
            ({"every": "day"}, "belongs to to_date=True"),
            ({"every": "year", "to_date": True}, "wider than per"),
            ({"trailing": "12 months", "to_date": True}, "not with to_date"),
            ({"trailing": "9 entries"}, "not a span of time"),
            ({"effects": "days of rest"}, "unknown value for effects"),
            ({"sort": "-revenu"}, "did you mean 'revenue'"),
        )
        for options, message in bad:
            with self.subTest(options), self.assertRaisesRegex(ep.EptaroError, message):
                book.compare("month", **options)


class Effects(unittest.TestCase):
    """Effects and rest add up to the change exactly, and each is what it says."""

    def test_floats_near_their_end(self):
        days = [dt.date(2025, 1, 1) + dt.timedelta(n) for n in range(59)]
        book = ep.Daybook({"on": days, "x": [5e306] * len(days)}, date="on", measures="s=sum(x)")
        row = list(book.compare("month", back="1 month", effects="workdays").rows())[-1]
        self.assertAlmostEqual(row["s_effect_of_workdays"] / 5e306, -3)  # 23 and 20 of them
        parts = [row[name] for name in row if name.startswith("s_effect_of_")] + [row["s_rest"]]
        self.assertTrue(all(map(math.isfinite, parts)), row)
        self.assertAlmostEqual(sum(parts) / 1e306, row["s_change"] / 1e306)
        beyond = ep.Daybook({"on": ["2024-01-05", "2024-01-08", "2025-01-03"], "x": [1e308, 1e308, -1e308]},
                            date="on", measures="s=sum(x)", coverage="2024-01-01..2025-01-31")  # fmt: skip
        for ask in (lambda: beyond.compare("month", details=True), lambda: beyond.recap("month", shares=True),
                    lambda: beyond.compare("month", effects="workdays")):  # fmt: skip
            with self.assertRaisesRegex(ep.MeasureError, "does not fit into a float"):
                list(ask().rows())

    def test_by_a_plain_loop(self):
        held = {dt.date(2000, 5, 1), dt.date(2001, 7, 4)}
        worked = ep.Workdays(holidays=ep.HolidaySet(ep.Holiday(day, "Rest") for day in held))

        def kind(day):
            return "weekends" if day.weekday() > 4 else "holidays" if day in held else "workdays"

        names = {"days": lambda day: "days", "workdays": kind,
                 "weekdays": lambda day: f"{day:%A}s".lower()}  # fmt: skip
        for seed in range(3):
            rows = oracle.random_rows(seed)
            book = ep.Daybook(
                {"on": [r[0] for r in rows.rows], "group": [r[1] for r in rows.rows],
                 "x": [r[2] for r in rows.rows], "f": [float(r[2] or 0) for r in rows.rows]},
                date="on", by="group", measures=["s=sum(x)", "n=count()", "f=sum(f)", "m=mean(x)"],
                workdays=worked,
            )  # fmt: skip
            for per, (effects, of) in product(("quarter", "week"), names.items()):
                table = book.compare(per, by="group", back=f"1 {per}", effects=effects)
                self.assertNotIn("m_rest", table)
                for row in table.rows():
                    self.check(row, rows, of)

    def check(self, row, rows, of):
        kinds = [name.removesuffix("_prior") for name in row if name.endswith("days_prior")]
        kinds += [name for name in ("weekends", "holidays") if name in row]
        if not row["comparable"]:
            self.assertIsNone(row["s_rest"])
            return
        spans = ((row["first"], row["last"]), (row["prior_first"], row["prior_last"]))
        for name in ("s", "n", "f"):
            parts = [row[f"{name}_effect_of_{kind}"] for kind in kinds] + [row[f"{name}_rest"]]
            if row[f"{name}_change"] is None:  # all values of a side are missing
                self.assertEqual({*parts}, {None})
                continue
            if name == "f":
                self.assertAlmostEqual(sum(parts), row["f_change"], 6)
            else:
                self.assertEqual(sum(parts, Decimal(0)), row[f"{name}_change"])
        for kind in kinds if row["s_change"] is not None else ():
            counts = [sum(of(d) == kind for d in oracle.days(*span)) for span in spans]
            self.assertEqual([row[kind], row[f"{kind}_prior"]], counts)
            sums = [
                sum((Fraction(r[2]) for r in rows.rows if r[1] == row["group"] and r[2] is not None
                     and a <= r[0] <= b and of(r[0]) == kind), Fraction(0))
                for a, b in spans
            ]  # fmt: skip
            which = 1 if counts[1] else 0
            mean = sums[which] / counts[which] if counts[which] else Fraction(0)
            effect = mean * (counts[0] - counts[1])
            self.assertLessEqual(
                abs(effect - Fraction(row[f"s_effect_of_{kind}"])), Fraction(1, 200)
            )


class OwnCalendars(unittest.TestCase):
    """Each group answers in its own calendar, and all of them in a common one."""

    OWN = ep.OwnCalendars("group", {"a": CALENDARS["fiscal"], "b": CALENDARS["cafe"]},
                          CALENDARS["tenth"])  # fmt: skip
    OF = (("a", "fiscal"), ("b", "cafe"), ("c", "tenth"))

    def book(self, calendar):
        rows = oracle.random_rows(13)
        on, group, x = zip(*rows.rows, strict=True)
        return ep.Daybook({"on": on, "group": group, "x": x}, date="on", by="group",
                          measures=["revenue=sum(x)", "daily=mean(sum(x) per day)"],
                          calendar=calendar)  # fmt: skip

    def test_every_verb_gives_what_each_calendar_gives_alone(self):
        own = self.book(self.OWN)
        asked = (
            ("recap", ("month",), {"totals": True}), ("accumulate", ("quarter",), {}),
            ("trail", ("2 months",), {"every": "month"}), ("card", (), {}),
            ("compare", ("quarter",), {}), ("compare", ("year",), {"to_date": True}),
        )  # fmt: skip
        for verb, arguments, options in asked:
            table = getattr(own, verb)(*arguments, by="group", **options)
            together = list(table.rows())
            for group, name in self.OF:
                alone = self.book(CALENDARS[name])
                want = getattr(alone, verb)(
                    *arguments, by="group", only={"group": group}, **options
                )
                mine = [row for row in together if row["group"] == group]
                self.assertEqual({row.pop("calendar") for row in mine}, {name})
                self.assertEqual(
                    mine,
                    [
                        r if verb != "card" else {k: v for k, v in r.items() if k != "calendar"}
                        for r in want.rows()
                    ],
                )
            self.assertEqual([r["group"] for r in together], sorted(r["group"] for r in together))
            self.assertGreater(own.prove(table), 10)

    def test_entries_stay_in_the_order_of_the_input(self):
        table = self.book(self.OWN).recap("month", by="group", every="entry")
        self.assertEqual(table["row"].tolist(), list(range(1, len(table) + 1)))

    def test_common_periods_stay_possible_and_a_file_keeps_the_calendars(self):
        own = self.book(self.OWN)
        civil = own.with_calendar(ep.MonthCalendar())
        self.assertEqual(
            list(civil.recap("month", by="group").rows()),
            list(self.book(ep.MonthCalendar()).recap("month", by="group").rows()),
        )
        self.assertEqual(ep.OwnCalendars.from_settings(self.OWN.settings()), self.OWN)

    def test_what_cannot_be(self):
        own = self.book(self.OWN)
        for options, message in (({}, "group by it"), ({"by": "group", "wide": True}, "one calendar"),
                                 ({"by": "group", "only": {"group": "z"}}, "unknown value")):  # fmt: skip
            with self.assertRaisesRegex(ep.QuestionError, message):
                own.recap("month", **options)
        with self.assertRaisesRegex(ep.InputError, "has no calendar"):
            self.book(ep.OwnCalendars("group", {"a": CALENDARS["fiscal"]}))
        with self.assertRaisesRegex(ep.InputError, "by= must name it"):
            self.book(ep.OwnCalendars("company", {}))
        with self.assertRaisesRegex(ep.CalendarError, "two different calendars"):
            ep.OwnCalendars("group", {"a": ep.WeekCalendar("x"), "b": ep.MonthCalendar("x")})


class Retraced(unittest.TestCase):
    """Traces of every kind of number lead to its transactions."""

    ROWS = oracle.random_rows(21)
    MEASURES = (
        "s=sum(x)", "busiest=max(sum(x) per day)", "typical=median(sum(x) per week)",
        "daily=mean(sum(x) per workday)", "active=mean(count() per active day)",
        "months=std(sum(x) per month)", "q=quantile(x, 0.3)", "v=var(f)", "f=mean(f)",
    )  # fmt: skip

    def setUp(self):
        on, group, x = zip(*self.ROWS.rows, strict=True)
        at = [dt.datetime.combine(day, dt.time(7 + i % 5)) for i, day in enumerate(on)]
        frame = {
            "on": at,
            "g": group,
            "x": x,
            "f": [None if v is None else float(v) / 7 for v in x],
        }
        self.book = ep.Daybook(frame, date="on", by="g", measures=self.MEASURES)
        self.plain = ep.Daybook(frame, date="on", by="g", measures=["s=sum(x)", "f=mean(f)"])

    def test_two_stages_and_every_verb(self):
        tables = [
            self.book.recap("quarter", by="g", totals=True), self.book.trail("70 days", every="month"),
            self.book.compare("quarter", by="g"), self.book.accumulate("year", every="month"),
            self.plain.recap("quarter", by="g", wide=True), self.plain.trail("9 entries", by="g"),
            self.plain.compare("quarter", mean_of=2), self.plain.compare("month", trailing="60 days"),
            self.plain.compare("month", back=["1 month", "1 year"], by="g", sort="-s"),
            self.plain.compare("year", to_date=True, every="month", against=str(self.ROWS.first.year + 1)),
            *(self.plain.recap(per, by="g") for per in
              ("weekday", "hour", "workday", "holiday", "month of year", "week of year", "day of month")),
        ]  # fmt: skip
        for table in tables:
            self.assertGreater(ep.Daybook.prove(self.book, table, sample=12), 5, table.names)

    def test_a_corrupted_cross_tab_and_windows_of_entries_are_caught(self):
        for table, name in (
            (self.plain.recap("quarter", by="g", wide=True), "total s"),
            (self.plain.trail("9 entries", by="g"), "s_trailing"),
            (self.plain.recap("weekday"), "s"),
            (self.plain.compare("quarter", mean_of=2), "s_prior"),
        ):
            columns = [
                c if c.name != name
                else ep.Column.of(c.name, c.kind, c.data + 1, c.valid, scale=c.scale)
                for c in table.columns
            ]  # fmt: skip
            with self.assertRaisesRegex(ep.EptaroError, "was not found again"):
                self.plain.prove(ep.Table(columns, table.meta, table.answer))

    def test_days_are_paired_under_the_match_rule(self):
        on = ["2023-01-01", "2024-02-29", "2024-02-28", "2025-02-28", "2025-12-31"]
        x = [Decimal(text) for text in ("1.50", "2.25", "4", "8", "0")]
        book = ep.Daybook({"on": on, "x": x}, date="on", measures="s=sum(x)")
        table = book.compare("month", to_date=True, as_of="2025-02-28")
        pairs = list(table.trace(0, "s_change").pairs.rows())
        self.assertEqual(len(pairs), 29)
        alone = next(row for row in pairs if row["date"] is None)
        self.assertEqual((str(alone["prior_date"]), alone["s"], alone["s_prior"]),
                         ("2024-02-29", None, Decimal("2.25")))  # fmt: skip
        last = next(row for row in pairs if str(row["date"]) == "2025-02-28")
        self.assertEqual((str(last["prior_date"]), last["prior_weekday"], last["s_prior"]),
                         ("2024-02-28", "Wednesday", 4))  # fmt: skip
        for match, first in (("weekday", "2024-02-03"), ("elapsed", "2024-02-01")):
            table = book.compare("month", to_date=True, as_of="2025-02-20", match=match)
            rows = list(table.trace(0, "s_change").pairs.rows())
            self.assertEqual([str(rows[0]["prior_date"]), len(rows)], [first, 20])
        table = book.compare("month", to_date=True, as_of="2025-02-20", match="workday")
        for row in table.trace(0, "s_change").pairs.rows():
            if row["date"] and row["prior_date"]:
                self.assertNotIn(row["weekday"], ("Saturday", "Sunday"))
        self.assertIsNone(table.trace(0, "s").pairs)


class Counterparts(unittest.TestCase):
    """Prior sides that were found wrong once, each against plain dates."""

    def book(self, first, last, calendar=None):
        days = [first + dt.timedelta(n) for n in range((last - first).days + 1)]
        return ep.Daybook(
            {"on": days, "x": [1] * len(days)}, date="on", measures="s=sum(x)", calendar=calendar
        )

    def test_weeks_against_a_year_go_by_their_week_year(self):
        made = self.book(dt.date(2018, 12, 1), dt.date(2021, 1, 10))
        rows = made.compare("week", against="2019").rows()
        found = {row["period"]: row["prior_period"] for row in rows}
        self.assertEqual(
            (found["2020-W01"], found["2019-W01"], found["2020-W52"]),
            ("2019-W01", "2019-W01", "2019-W52"),
        )
        self.assertIsNone(found["2020-W53"])
        for label, prior in found.items():
            if prior is not None:
                self.assertEqual(label[5:], prior[5:])

    def test_weekdays_of_earlier_periods_start_where_the_current_side_does(self):
        made = self.book(dt.date(2017, 1, 1), dt.date(2021, 12, 31))
        for per, weeks in (("quarter", 13), ("month", 4), ("year", 52), ("half", 26)):
            for row in made.compare(
                per, to_date=True, match="weekday", periods=3, as_of="2021-07-22"
            ).rows():
                moved = {row[edge] - row[f"prior_{edge}"] for edge in ("first", "last")}
                self.assertEqual(moved, {dt.timedelta(7 * 52)}, (per, weeks))
        rows = list(
            made.compare(
                "year", to_date=True, match="weekday", periods=2, as_of="2021-07-22"
            ).rows()
        )
        self.assertEqual(str(rows[0]["first"]), "2020-01-03")
        self.assertEqual(str(rows[0]["prior_first"]), "2019-01-04")

    def test_week_calendars_begin_at_the_periods_first_day(self):
        for long_month in range(1, 13, 2):
            calendar = ep.WeekCalendar("c", long_month=long_month)
            made = self.book(dt.date(2021, 1, 1), dt.date(2025, 6, 1), calendar)
            for as_of in (
                dt.date(2024, 2, 20) + dt.timedelta(n) for n in range(long_month, 330, 29)
            ):
                for per in ("month", "quarter", "half", "year"):
                    (row,) = made.compare(per, to_date=True, as_of=as_of).rows()
                    prior = calendar.period(row["prior_period"])
                    self.assertEqual(row["prior_first"], prior.first)
                    days = (row["last"] - row["first"]).days
                    whole = calendar.period(row["period"]).last == as_of
                    want = (
                        prior.last if whole else min(prior.first + dt.timedelta(days), prior.last)
                    )
                    self.assertEqual(row["prior_last"], want, (long_month, as_of, per))
                    self.assertEqual(
                        row["prior_clamped"],
                        not whole and prior.first + dt.timedelta(days) > prior.last,
                    )

    def test_restated_years_are_clamped_where_the_others_are(self):
        made = self.book(dt.date(2020, 1, 1), dt.date(2026, 1, 31), CALENDARS["cafe"])
        for year in range(2021, 2026):
            last = CALENDARS["cafe"].period(f"FY{year}").last
            (plain,) = made.compare("year", to_date=True, as_of=last - dt.timedelta(1)).rows()
            (row,) = made.compare(
                "year", to_date=True, as_of=last - dt.timedelta(1), align="restated"
            ).rows()
            weeks = [CALENDARS["cafe"].weeks_in(np.array([at]))[0] for at in (year - 1, year)]
            self.assertEqual(plain["prior_clamped"], weeks[1] > weeks[0])
            self.assertEqual(row["prior_clamped"], plain["prior_clamped"], year)
            if weeks[0] == 53:
                self.assertEqual(row["prior_first"], row["first"] - dt.timedelta(364))

    def test_days_that_meet_one_day_are_paired_once(self):
        made = self.book(dt.date(2025, 1, 1), dt.date(2025, 4, 30))
        table = made.compare("month", back="1 month", to_date=True, as_of="2025-03-31")
        pairs = {row["date"]: row["prior_date"] for row in table.trace(0, "s_change").pairs.rows()}
        found = [str(pairs[dt.date(2025, 3, day)]) for day in (1, 27, 28, 29, 30, 31)]
        self.assertEqual(found, ["2025-02-01", "2025-02-27", "2025-02-28", "None", "None", "None"])

    def test_a_day_clamped_is_told(self):
        made = self.book(dt.date(2019, 1, 1), dt.date(2020, 3, 31))
        (row,) = made.compare("day", to_date=True, as_of="2020-02-29").rows()
        self.assertEqual((str(row["prior_last"]), row["prior_clamped"]), ("2019-02-28", True))

    def test_too_few_workdays_are_told_also_at_weekends(self):
        # May 2021 has 20 workdays by the 29th, a Saturday, as has May 2020 none left after 20.
        shut = [ep.Holiday(dt.date(2020, 5, d), "shut") for d in range(11, 30)]
        days = [dt.date(2020, 1, 1) + dt.timedelta(n) for n in range(600)]
        made = ep.Daybook({"on": days, "x": [1] * 600}, date="on", measures="s=sum(x)",
                          workdays=ep.Workdays(holidays=ep.HolidaySet(shut)))  # fmt: skip
        (row,) = made.compare("month", to_date=True, match="workday", as_of="2021-05-29").rows()
        self.assertEqual((str(row["prior_last"]), row["prior_clamped"]), ("2020-05-31", True))

    def test_goals_and_comparisons_share_the_counterpart(self):
        made = self.book(dt.date(2023, 1, 1), dt.date(2024, 12, 31))
        for as_of in ("2024-02-28", "2024-03-10", "2024-12-30"):
            (row,) = made.compare("year", to_date=True, as_of=as_of).rows()
            goal = list(
                made.accumulate("year", as_of=as_of, goals={"2024": 365}, pace="prior year").rows()
            )[-1]
            self.assertAlmostEqual(goal["s_goal_to_date"], row["s_prior"], 9, as_of)
