"""Questions that analysts ask of rows as they come, each in one call, against plain Python."""

import dataclasses
import datetime as dt
import random
import statistics
import tempfile
import unittest
import unittest.mock
from collections import defaultdict
from decimal import Decimal
from pathlib import Path

import eptaro as ep
from eptaro.inputs.goals_and_coverage import read_goals

DICE = random.Random(37)
DAY = dt.timedelta(1)
FROM = dt.date(2024, 1, 1)
NAMES = "January February March April May June July August September October November December"
MONTHS = NAMES.split()

# Fares by customer and route over two whole years, some days without any.
FARES = sorted(
    (FROM + DAY * DICE.randrange(731), DICE.choice("kmn"), f"c{DICE.randrange(9)}", DICE.randrange(90))
    for _ in range(1500)
)  # fmt: skip
FARES = [(FROM, "k", "c1", 4), *FARES, (dt.date(2025, 12, 31), "m", "c2", 7)]
FARE_FILE = "on,route,customer,fare\n" + "".join(f"{d},{r},{c},{f}\n" for d, r, c, f in FARES)

# A value for each month of three years, as tables of years and months have them.
MONTHLY = {(y, m): DICE.randrange(100, 999) for y in (2023, 2024, 2025) for m in range(1, 13)}


def totals(rows, key, value=lambda row: row[3]):
    """Return the sum per key, in the order of the keys."""
    found = defaultdict(int)
    for row in rows:
        found[key(row)] += value(row)
    return [found[one] for one in sorted(found)]


def lists(rows, key, value=lambda row: row[3]):
    """Return the values per key, in the order of the keys."""
    found = defaultdict(list)
    for row in rows:
        found[key(row)].append(value(row))
    return {one: found[one] for one in sorted(found)}


def month(row):
    """Return the month of a row."""
    return row[0].strftime("%Y-%m")


def quarter(row):
    """Return the quarter of a row."""
    return f"{row[0].year}-Q{(row[0].month + 2) // 3}"


class Cases(unittest.TestCase):
    """A file, a question, and the column of the answer."""

    def setUp(self):
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def book(self, text=FARE_FILE, **options):
        """Return the book of a file with these lines."""
        path = self.folder / "rows.csv"
        path.write_text(text, encoding="utf-8")
        if text is FARE_FILE:
            options = {"date": "on", "measures": "s=sum(fare)"} | options
        return ep.Daybook.read(path, **options)

    def values(self, table, name="s"):
        """Return the values of a column."""
        return [row[name] for row in table.rows()]


class Dates(Cases):
    """Dates as they come."""

    def test_a_time_in_a_column_of_its_own(self):
        rows = [(FROM + DAY * n, DICE.randrange(24 * 60), n) for n in range(40)]
        for write, more in (
            (lambda m: f"{m // 60:02}:{m % 60:02}:00", {}),
            (lambda m: f"{(m // 60 - 1) % 12 + 1}:{m % 60:02} {'ap'[m >= 720]}.m.", {}),
            (lambda m: m // 60 * 100 + m % 60, {"time_in": "hhmm"}),
            (lambda m: m, {"time_in": "minutes"}),
        ):
            text = "d,clock,x\n" + "".join(f"{d},{write(m)},{x}\n" for d, m, x in rows)
            rules = ep.DateRules(time="clock", day_starts="04:00", **more)
            book = self.book(text, date="d", dates=rules, measures="s=sum(x)")
            moved = [(d - DAY * (m < 240), x) for d, m, x in rows]
            want = totals(moved, lambda row: row[0].strftime("%G-%V"), lambda row: row[1])
            self.assertEqual(self.values(book.recap("week")), want)
            hours = totals(rows, lambda row: row[1] // 60, lambda row: row[2])
            found = self.values(book.rhythm("hour"))
            self.assertEqual([value for value in found if value], [one for one in hours if one])

    def test_an_hour_of_a_clock_in_a_condition(self):
        text = "d,clock,x\n2025-01-01,11:38:36,1\n2025-01-01,5:00 p.m.,2\n2025-01-02,17:59,4\n"
        book = self.book(
            text, date="d", dates=ep.DateRules(time="clock"), measures="s=sum(x)",
            where="hour(clock) = 17",
        )  # fmt: skip
        self.assertEqual(self.values(book.recap("year")), [6])

    def test_english_names_of_months(self):
        for write in (str, str.upper, lambda name: name[:3].upper()):
            text = "y,m,x\n" + "".join(
                f"{y},{write(MONTHS[m - 1])},{x}\n" for (y, m), x in MONTHLY.items()
            )
            book = self.book(text, date="date(y, m, 1)", measures="s=sum(x)")
            self.assertEqual(self.values(book.recap("month")), list(MONTHLY.values()))

    def test_columns_of_months_beside_a_year(self):
        text = "y," + ",".join(name[:3] for name in MONTHS) + "\n"
        for y in (2023, 2024, 2025):
            text += f"{y}," + ",".join(str(MONTHLY[y, m]) for m in range(1, 13)) + "\n"
        book = self.book(
            text, across="Jan..Dec as month, x", date="date(y, month, 1)", measures="s=sum(x)"
        )
        self.assertEqual(self.values(book.recap("month")), list(MONTHLY.values()))

    def test_a_list_of_columns_and_a_pattern(self):
        text = "on,beef,pork,lamb\n2025-01-01,1,2,3\n2025-02-01,4,5,6\n"
        book = self.book(text, across="beef, pork, lamb as meat, x", date="on", by="meat",
                         measures="s=sum(x)")  # fmt: skip
        self.assertEqual(self.values(book.recap("year", by="meat")), [5, 9, 7])
        text = "who,population_2020,population_2021\nk,5,6\nm,7,8\n"
        book = self.book(text, across="population_{year} as year, x", date="date(year, 1, 1)",
                         measures="s=sum(x)")  # fmt: skip
        self.assertEqual(self.values(book.recap("year")), [12, 14])

    def test_firsts_of_months_are_months(self):
        text = "y,m,x\n" + "".join(f"{y},{m},{x}\n" for (y, m), x in MONTHLY.items())
        book = self.book(text, date="date(y, m, 1)", measures="s=sum(x)")
        self.assertEqual(str(book.coverage), "2023-01-01..2025-12-31")
        self.assertEqual(set(self.values(book.recap("quarter"), "complete")), {True})

    def test_a_month_that_begins_no_quarter_is_refused(self):
        text = "y,q,x\n2025,1,1\n2025,2,2\n"
        with self.assertRaisesRegex(ep.EptaroError, "quarter"):
            self.book(text, date="date(y, q * 3, 1)", measures="s=sum(x)",
                      dates=ep.DateRules(grain="quarter"))  # fmt: skip

    def test_weeks_that_end_on_a_friday(self):
        weeks = [(dt.date(2022, 1, 7) + DAY * 7 * n, DICE.randrange(90)) for n in range(160)]
        text = "on,x\n" + "".join(f"{d},{x}\n" for d, x in weeks)
        for week_in, of in (("last day", 0), ("most days", 3)):
            rules = ep.DateRules(weeks="ending friday", week_in=week_in)
            book = self.book(text, date="on", dates=rules, measures="s=sum(x)")
            want = totals(weeks, lambda row, of=of: (row[0] - DAY * of).year, lambda row: row[1])
            self.assertEqual(self.values(book.recap("year")), want)

    def test_decimal_years(self):
        text = "t,x\n" + "".join(
            f"{f'{y + (m - 1) / 12:.3f}'.rstrip('0').rstrip('.')},{x}\n"
            for (y, m), x in MONTHLY.items()
        )
        book = self.book(text, date="t", dates=ep.DateRules(grain="month"), measures="s=sum(x)")
        self.assertEqual(self.values(book.recap("month")), list(MONTHLY.values()))

    def test_a_date_and_a_number_of_days(self):
        rows = [(FROM + DAY * DICE.randrange(300), DICE.randrange(1, 9), n) for n in range(50)]
        text = "entered,week,x\n" + "".join(f"{d},{w},{x}\n" for d, w, x in rows)
        book = self.book(text, date="entered + 7 * (week - 1)", measures="s=sum(x)")
        moved = [(d + DAY * 7 * (w - 1), x) for d, w, x in rows]
        self.assertEqual(
            [one for one in self.values(book.recap("day")) if one],
            [one for one in totals(moved, lambda row: row[0], lambda row: row[1]) if one],
        )

    def test_year_first_with_any_separator(self):
        for mark in "/.-":
            text = f"on,x\n2012{mark}01{mark}02,1\n2012{mark}3{mark}4,2\n"
            book = self.book(text, date="on", measures="s=sum(x)")
            self.assertEqual(self.values(book.recap("month")), [1, 0, 2])

    def test_a_zone_of_its_own(self):
        import pandas as pd

        stamps = pd.to_datetime(["2025-01-31 23:30", "2025-02-01 00:10"]).tz_localize("Asia/Tokyo")
        book = ep.Daybook(pd.DataFrame({"on": stamps, "x": [1, 2]}), date="on", measures="s=sum(x)")
        self.assertEqual(self.values(book.recap("month")), [1, 2])

    def test_files_without_a_header(self):
        text = "2025-01-01,5\n2025-02-01,6\n"
        book = self.book(
            text, date="c1", measures="s=sum(c2)", files=ep.FileRules(header_row="none")
        )
        self.assertEqual(self.values(book.recap("month")), [5, 6])

    def test_frames_of_periods_and_lists_of_dicts(self):
        import pandas as pd
        import polars as pl

        months = [f"{y}-{m:02}" for y, m in MONTHLY]
        rows = [{"on": on, "x": x} for on, x in zip(months, MONTHLY.values(), strict=True)]
        periods = pd.DataFrame(rows).assign(on=pd.PeriodIndex(months, freq="M"))
        for frame, date in (
            (rows, "on"), (pl.DataFrame(rows).lazy(), "on"), (periods, "on"),
            (periods.set_index("on"), "on"),
        ):  # fmt: skip
            book = ep.Daybook(frame, date=date, measures="s=sum(x)")
            self.assertEqual(self.values(book.recap("month")), list(MONTHLY.values()))


class Questions(Cases):
    """What is asked of fares."""

    def test_the_typical_customer_of_each_month(self):
        for how, plain in (
            ("median", statistics.median), ("mean", statistics.fmean), ("max", max),
        ):  # fmt: skip
            book = self.book(measures=f"s={how}(sum(fare) per customer)")
            want = [
                plain(totals(rows, lambda row: row[2]))
                for rows in lists(FARES, month, lambda row: row).values()
            ]
            for found, wanted in zip(self.values(book.recap("month")), want, strict=True):
                self.assertAlmostEqual(float(found), wanted)

    def test_the_spread_of_what_customers_pay(self):
        read = {"by": "route", "measures": "s=median(sum(fare) per customer)"}
        kept = self.book(into=self.folder / "kept", shards=3, **read)
        apart = ep.Daybook.open(self.folder / "kept")
        apart._store = dataclasses.replace(apart._store, at_once=0)
        for book in (self.book(**read), kept, apart):
            for per, label in ((None, lambda row: ""), ("quarter", quarter)):
                for by in ([], ["route"]):
                    keys = [(row[1] if by else "", label(row)) for row in FARES]
                    runs = lists(zip(keys, FARES, strict=True), lambda p: p[0], lambda p: p[1])
                    want = [sorted(totals(rows, lambda row: row[2])) for rows in runs.values()]
                    table = book.spread("s", per, by=by)
                    self.assertEqual(self.values(table, "entries"), [*map(len, want)])
                    self.assertEqual(self.values(table, "least"), [own[0] for own in want])
                    self.assertEqual(
                        self.values(table, "median"), [statistics.median(own) for own in want]
                    )
                    ranges = book.histogram("s", per, by=by, bins=4)
                    found = [(row["from"], row["to"], row["entries"]) for row in ranges.rows()]
                    edges = sorted({(low, high) for low, high, _ in found})
                    self.assertEqual(
                        [entries for *_, entries in found],
                        [
                            sum(low <= value < high for value in own)
                            for own in want for low, high in edges
                        ],
                    )  # fmt: skip
            with self.assertRaisesRegex(ep.QuestionError, "over days in a row: per='weekday'"):
                book.spread("s", "weekday")
        few = self.book(**read)
        with unittest.mock.patch("eptaro.core.measures.members._AT_ONCE", 40):
            parts = [*few.spread("s", "quarter", by="route").rows()]
        self.assertEqual(parts, [*self.book(**read).spread("s", "quarter", by="route").rows()])
        yearly = ep.Daybook(
            {"on": ["2024", "2025"], "customer": ["a", "b"], "fare": [1, 2]}, date="on",
            dates=ep.DateRules(grain="year"), measures="s=median(sum(fare) per customer)",
        )  # fmt: skip
        self.assertEqual(self.values(yearly.spread("s", "year"), "median"), [1, 2])
        with self.assertRaisesRegex(ep.QuestionError, "year"):
            yearly.spread("s", "month")

    def test_the_largest_of_each_period(self):
        book = self.book(by="customer")
        table = book.recap("quarter", by="customer", top=2, top_within="period")
        want = []
        for rows in lists(FARES, quarter, lambda row: row).values():
            sums = sorted(((sum(v), c) for c, v in lists(rows, lambda r: r[2]).items()),
                          key=lambda pair: (-pair[0], pair[1]))  # fmt: skip
            want += [[c, s] for s, c in sums[:2]] + [[None, sum(s for s, _ in sums[2:])]]
        found = [[row["customer"], row["s"]] for row in table.rows()]
        self.assertEqual([pair[1] for pair in found], [pair[1] for pair in want])
        self.assertEqual(
            [pair[0] for n, pair in enumerate(found) if n % 3 < 2],
            [pair[0] for n, pair in enumerate(want) if n % 3 < 2],
        )

    def test_order_by_several_columns(self):
        book = self.book(by=["route", "customer"])
        table = book.recap("year", by=["route", "customer"], sort=["route", "-s"])
        want = defaultdict(int)
        for on, route, customer, fare in FARES:
            want[route, on.year, customer] += fare
        order = sorted((route, -value) for (route, _, _), value in want.items())
        self.assertEqual([(row["route"], -row["s"]) for row in table.rows()], order)

    def test_goals_of_months_in_a_quarter(self):
        goals = {f"2025-{m:02}": m * 10 for m in range(1, 13)}
        row = next(self.book().recap("quarter", only="2025-Q2", goals=goals).rows())
        self.assertEqual(row["s_goal"], 40 + 50 + 60)
        (row,) = self.book().recap("year", as_of="2025-05-10", only="2025", goals=goals).rows()
        self.assertAlmostEqual(row["s_goal_to_date"], 10 + 20 + 30 + 40 + 50 * 10 / 31)

    def test_goals_in_the_shape_of_the_prior_year(self):
        (row,) = (
            self.book()
            .recap(
                "month",
                as_of="2025-05-10",
                only="2025-05",
                goals={"2025-05": 100},
                pace="prior year",
            )
            .rows()
        )
        may = [row for row in FARES if month(row) == "2024-05"]
        share = sum(f for d, _, _, f in may if d.day <= 10) / sum(f for *_, f in may)
        self.assertAlmostEqual(row["s_goal_to_date"], 100 * share)

    def test_arithmetic_within_days(self):
        book = self.book(measures="s=mean(max(fare) - min(fare) per day)")
        days = lists(FARES, lambda row: row[0])
        spans = [(d, max(f) - min(f)) for d, f in days.items()]
        want = [statistics.fmean(v) for v in lists(spans, month, lambda row: row[1]).values()]
        # A day without rows has no fare at all, so it has no part in the mean.
        for found, wanted in zip(self.values(book.recap("month")), want, strict=True):
            self.assertAlmostEqual(float(found), wanted)

    def test_the_last_complete_month(self):
        for as_of, label in (("2025-12-31", "2025-12"), ("2025-12-30", "2025-11")):
            table = self.book().recap("month", only="last complete month", as_of=as_of)
            self.assertEqual(self.values(table, "period"), [label])
            self.assertEqual(self.values(table), [sum(r[3] for r in FARES if month(r) == label)])

    def test_the_largest_groups_of_a_comparison_across(self):
        table = self.book(by="customer").compare("year", by="customer", top=2, only="2025")
        sums = lists([r for r in FARES if r[0].year == 2025], lambda row: row[2])
        want = sorted((sum(v) for v in sums.values()), reverse=True)
        self.assertEqual(self.values(table), [*want[:2], sum(want[2:])])

    def test_the_largest_groups_side_by_side_in_a_comparison(self):
        table = self.book(by="customer").compare("year", by="customer", top=1, wide=True)
        of_year = {
            year: {c: sum(v) for c, v in lists(rows, lambda row: row[2]).items()}
            for year, rows in lists(FARES, lambda row: row[0].year, lambda row: row).items()
        }
        both = {c: of_year[2024][c] + of_year[2025][c] for c in of_year[2025]}
        name = max(both, key=lambda c: both[c])
        row = [*table.rows()][-1]
        self.assertEqual(row[f"{name} s"], of_year[2025][name])
        self.assertEqual(row[f"{name} s_change"], of_year[2025][name] - of_year[2024][name])
        self.assertEqual(row["total s"], sum(of_year[2025].values()))

    def test_a_goals_file_names_its_column_as_the_data_does(self):
        (self.folder / "goals.csv").write_text("period,route,s\n2025-03,k,50\n2025-03,m,60\n")
        goals = read_goals(self.folder / "goals.csv")
        table = self.book(by="route").recap("month", by="route", only="2025-03", goals=goals)
        self.assertEqual(self.values(table, "s_goal"), [50, 60, None])

    def test_windows_of_entries(self):
        table = self.book().trail("3 entries", every="entry")
        fares = [row[3] for row in FARES]
        want = [sum(fares[max(n - 2, 0) : n + 1]) for n in range(len(fares))]
        self.assertEqual(self.values(table, table.names[-1])[2:], want[2:])

    def test_customers_that_are_new(self):
        book = self.book(by="route", measures=["own=new(customer)", "all=new(customer over all)"])
        table = book.recap("month", by="route")
        first, first_of_all = {}, {}
        for on, route, customer, _ in FARES:
            first.setdefault((route, customer), on)
            first_of_all.setdefault(customer, on)
        for row in table.rows():
            own = [
                c
                for (r, c), d in first.items()
                if r == row["route"] and month((d,)) == row["period"]
            ]
            self.assertEqual(row["own"], len(own))
            new = [c for c in own if first_of_all[c] == first[row["route"], c]]
            self.assertEqual(row["all"], len(new))

    def test_blanks_are_no_zeros(self):
        text = "on,x\n2025-01-05,\n2025-02-05,4\n2025-04-05,5\n"
        book = self.book(text, date="on", measures="s=sum(x)")
        self.assertEqual(self.values(book.recap("month")), [None, 4, 0, 5])

    def test_holidays_of_a_file(self):
        (self.folder / "rest.csv").write_text("date,name\n2025-01-01,New Year\n2025-01-06,Day\n")
        rest = ep.HolidaySet.from_csv(self.folder / "rest.csv")
        text = "on,x\n2025-01-01,1\n2025-01-31,2\n"
        book = self.book(text, date="on", measures="n=mean(sum(x) per workday)",
                         workdays=ep.Workdays(holidays=rest))  # fmt: skip
        workdays = sum((FROM.replace(2025) + DAY * n).weekday() < 5 for n in range(31)) - 2
        (value,) = self.values(book.recap("month"), "n")
        self.assertAlmostEqual(float(value), 2 / workdays)

    def test_a_condition_of_one_question(self):
        for route in "km":
            book = self.book(measures=f"s=sum(fare where route = '{route}')")
            want = [sum(r[3] for r in rows if r[1] == route)
                    for rows in lists(FARES, month, lambda row: row).values()]  # fmt: skip
            self.assertEqual(self.values(book.recap("month")), want)


class Shown(Cases):
    """What is shown and handed on."""

    def test_rates_tell_neighbours_apart(self):
        text = "on,a,b\n2025-01-01,813,10000\n2025-02-01,847,10000\n"
        book = self.book(text, date="on", measures="rate=sum(a) / sum(b)")
        shown = str(book.recap("month"))
        self.assertIn("0.0813", shown)
        self.assertIn("0.0847", shown)

    def test_money_keeps_its_scale(self):
        text = "on,a\n2025-01-01,8.10\n2025-01-02,0.05\n"
        book = self.book(text, date="on", measures="s=sum(a)")
        self.assertIn("8.15", str(book.recap("month")))
        self.assertEqual(self.values(book.recap("month")), [Decimal("8.15")])

    def test_frames_compute(self):
        frame = self.book().recap("month").to_pandas()
        want = totals(FARES, month)
        self.assertEqual(frame["s"].cumsum().iloc[-1], sum(want))
        self.assertEqual((frame["s"] * 2).tolist(), [2 * one for one in want])
        self.assertAlmostEqual(frame["s"].pct_change().iloc[1], want[1] / want[0] - 1)
        self.assertEqual(str(frame["first"].dtype)[:10], "datetime64")

    def test_an_as_of_month_is_its_last_day(self):
        table = self.book().recap("year", as_of="2025-01", only="2025")
        self.assertEqual(self.values(table), [sum(r[3] for r in FARES if month(r) == "2025-01")])

    def test_an_empty_frame(self):
        import pandas as pd

        frame = pd.DataFrame({"on": pd.to_datetime([]), "x": pd.Series([], dtype="int64")})
        book = ep.Daybook(frame, date="on", measures="s=sum(x)")
        self.assertEqual(len(book.recap("month")), 0)

    def test_frequencies_of_other_tools_name_ours(self):
        with self.assertRaisesRegex(ep.EptaroError, "month"):
            self.book().recap("M")
        with self.assertRaisesRegex(ep.EptaroError, "7 days"):
            self.book().trail("7D")

    def test_shapes_and_slices(self):
        table = self.book().recap("month")
        self.assertEqual(table.shape, (24, len(table.names)))
        self.assertEqual(self.values(table[:3]), totals(FARES, month)[:3])

    def test_first_rows_in_an_order(self):
        table = self.book().recap("month").sorted("-s").head(3)
        self.assertEqual(self.values(table), sorted(totals(FARES, month), reverse=True)[:3])


if __name__ == "__main__":
    unittest.main()
