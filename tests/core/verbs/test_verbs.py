"""recap, accumulate and compare equal a slow oracle, and the worked examples hold."""

import datetime as dt
import unittest
from fractions import Fraction

import eptaro as ep
from tests import oracle

MEASURES = ["revenue=sum(amount)", "trips=count()", "typical=mean(amount)"]
BACKS = {
    "month": ("1 month", "1 quarter", "1 year"),
    "quarter": ("1 quarter", "2 quarters", "1 year"),
    "year": ("1 year",),
    "half": ("1 half", "1 year"),
}


def book_of(rows: oracle.Rows, calendar: ep.Calendar, **options) -> ep.Daybook:
    """Fold the oracle's rows."""
    day, group, amount = zip(*rows.rows, strict=True)
    frame = {"on": list(day), "group": list(group), "amount": list(amount)}
    return ep.Daybook(
        frame, date="on", by=["group"], measures=MEASURES, calendar=calendar, **options
    )


class Against(unittest.TestCase):
    """Shared checks of a row's measures against the oracle."""

    def check(self, row: dict, rows: oracle.Rows, group, first, last, suffix: str = "") -> None:
        truth = rows.over(group, first, last) if first else None
        names = {"revenue": "sum", "trips": "count", "typical": "mean"}
        for name, how in names.items():
            got = row[name + suffix]
            want = None if truth is None else truth[how]
            if want is None or how == "count":
                self.assertEqual(got, want, (row, name))
            elif how == "sum":
                self.assertEqual(oracle.exact(got), want, (row, name))
            else:
                self.assertAlmostEqual(got, float(want), 9)

    def cases(self):
        for seed in range(8):
            rows = oracle.random_rows(seed)
            for rule in oracle.FISCAL_RULES:
                yield rows, rule, book_of(rows, ep.MonthCalendar("own", **rule))


class Recap(Against):
    """One row per period and group, quiet ones included."""

    def test_equals_the_oracle(self):
        for rows, rule, book in self.cases():
            for level in oracle.MONTHS_IN:
                table = book.recap(level, by="group")
                seen = []
                for row in table.rows():
                    first, last, *_ = oracle.period(row["first"], level, rule)
                    self.assertEqual((row["first"], row["last"]), (first, last))
                    self.assertEqual(row["complete"], rows.complete(first, last))
                    self.check(row, rows, row["group"], first, last)
                    seen.append((row["group"], first))
                days = oracle.days(rows.first, rows.last)
                spans = sorted(
                    {oracle.period(day, level, rule)[0] for day in days[::7] + days[-1:]}
                )
                self.assertEqual(seen, [(g, first) for g in rows.groups for first in spans])

    def test_the_parts_tie_out_and_the_total_row_is_the_whole(self):
        for rows, _, book in self.cases():
            table = book.recap("month", totals=True)
            *parts, total = table.rows()
            self.assertEqual(sum(row["revenue"] or 0 for row in parts), total["revenue"])
            self.assertEqual(total["trips"], len(rows.rows))
            self.assertIn("add up to", table.meta["tie_out"]["revenue"])

    def test_wide_sets_groups_across_with_totals_on_both_edges(self):
        rows = oracle.random_rows(3)
        book = book_of(rows, ep.MonthCalendar())
        wide = list(book.recap("quarter", by="group", wide=True).rows())
        for row in wide:
            parts = [row[f"{group} revenue"] or 0 for group in rows.groups]
            self.assertEqual(sum(parts), row["total revenue"] or 0)
        self.assertEqual(wide[-1]["period"], "total")
        self.assertEqual(sum(row["total trips"] for row in wide[:-1]), len(rows.rows))
        with self.assertRaisesRegex(ep.QuestionError, "exactly one"):
            book.recap("quarter", wide=True)

    def test_only_narrows_to_days_labels_and_groups(self):
        rows = oracle.random_rows(5)
        book = book_of(rows, ep.MonthCalendar())
        first, last = rows.first + 40 * oracle.DAY, rows.last - 40 * oracle.DAY
        *_, row = book.recap("year", only=[f"{first}..{last}", "group=b"], totals=True).rows()
        self.assertEqual((row["first"], row["last"], row["complete"]), (first, last, False))
        self.check(row, rows, "b", first, last)
        label = ep.MonthCalendar().period_of(first, "quarter").label
        (row,) = book.recap("quarter", only=label).rows()
        self.check(row, rows, None, row["first"], row["last"])
        table = book.recap("year", by="group", only={"group": ["a", "c"]})
        self.assertEqual(set(table["group"]), {"a", "c"})
        for only, message in (
            ("group=z", "value of group"),
            ("2025-Q9", "is not a span"),
            ("group", "is not a span"),
            ("1990", "outside"),
        ):
            with self.assertRaisesRegex(ep.QuestionError, message):
                book.recap("year", only=only)


class Accumulate(Against):
    """Running totals that restart at each period."""

    def test_equals_the_oracle_every_day(self):
        for rows, rule, book in self.cases():
            for within in ("year", "month"):
                table = list(book.accumulate(within, by="group").rows())
                days = oracle.days(rows.first, rows.last)
                self.assertEqual(len(table), len(days) * len(rows.groups))
                for row in table[::13]:
                    first = oracle.period(row["date"], within, rule)[0]
                    self.assertEqual((row["first"], row["complete"]), (first, first >= rows.first))
                    self.check(row, rows, row["group"], row["date"], row["date"])
                    self.check(row, rows, row["group"], first, row["date"], "_to_date")

    def test_each_row_since_a_fixed_day(self):
        rows = oracle.random_rows(2)
        book = book_of(rows, ep.MonthCalendar())
        days = oracle.days(rows.first, rows.last)
        for since in (rows.first - 9 * oracle.DAY, rows.first, days[len(days) // 2], rows.last):
            found = [*book.accumulate(f"{since}..", by="group", every="entry").rows()]
            self.assertEqual(len(found), sum(row[0] >= since for row in rows.rows))
            for row in found:
                own = rows.rows[row["row"] - 1]
                self.assertEqual((row["date"], row["group"], row["first"]), (own[0], own[1], since))
                self.assertEqual(row["complete"], since >= rows.first)
                self.check(row, rows, own[1], since, own[0], "_to_date")

    def test_every_week_is_cut_at_the_years_end_so_parts_add_up(self):
        rows = oracle.random_rows(1)
        book = book_of(rows, ep.MonthCalendar())
        running, within = 0, None
        for row in book.accumulate("year", every="week").rows():
            own = row["revenue"] or 0
            running = own if row["within"] != within else running + own
            within = row["within"]
            self.assertEqual(row["revenue_to_date"] or 0, running)

    def test_only_picks_rows_whose_totals_still_run_from_the_start(self):
        rows = oracle.random_rows(2)
        book = book_of(rows, ep.MonthCalendar())
        last = rows.last - 30 * oracle.DAY
        (row,) = book.accumulate("year", only=ep.Span(last, last)).rows()
        self.check(row, rows, None, last.replace(month=1, day=1), last, "_to_date")

    def test_since_a_fixed_date_and_as_of(self):
        rows = oracle.random_rows(4)
        book = book_of(rows, ep.MonthCalendar())
        since, upto = rows.first + 50 * oracle.DAY, rows.first + 90 * oracle.DAY
        *_, row = book.accumulate(f"{since}..", as_of=upto).rows()
        self.assertEqual((row["date"], row["within"]), (upto, f"{since}.."))
        self.check(row, rows, None, since, upto, "_to_date")

    def test_declared_coverage_holds_the_total_over_quiet_days_and_a_later_as_of_does_not(self):
        frame = {"on": ["2025-08-20"], "fare": [5]}
        book = ep.Daybook(frame, date="on", measures="revenue=sum(fare)")
        self.assertEqual(book.accumulate("month", as_of="2025-08-23")["revenue"].tolist(), [5])
        span = "2025-08-20..2025-08-23"
        book = ep.Daybook(frame, date="on", measures="revenue=sum(fare)", coverage=span)
        table = book.accumulate("month", as_of="2025-08-23")
        self.assertEqual(table["revenue_to_date"].tolist(), [5, 5, 5, 5])
        self.assertEqual(table["revenue"].tolist(), [5, 0, 0, 0])

    def test_every_wider_than_within_is_refused(self):
        book = book_of(oracle.random_rows(0), ep.MonthCalendar())
        with self.assertRaisesRegex(ep.QuestionError, "use month, week, day"):
            book.accumulate("month", every="quarter")


class Compare(Against):
    """Each period against a prior one."""

    def test_whole_periods_equal_the_oracle(self):
        for rows, rule, book in self.cases():
            for level, backs in BACKS.items():
                for back in backs:
                    n, unit = back.split()
                    months = int(n) * oracle.MONTHS_IN[unit.rstrip("s")]
                    for row in book.compare(level, back=back, by="group").rows():
                        first = oracle.add_civil_months(row["first"], -months)
                        last = oracle.period(first, level, rule)[1]
                        self.assertEqual((row["prior_first"], row["prior_last"]), (first, last))
                        both = rows.complete(row["first"], row["last"]) and rows.complete(
                            first, last
                        )
                        self.assertEqual(row["comparable"], both)
                        self.check(row, rows, row["group"], row["first"], row["last"])
                        self.check(row, rows, row["group"], first, last, "_prior")
                        self.check_change(row)

    def check_change(self, row: dict) -> None:
        for name in ("revenue", "trips"):
            now, prior = row[name], row[f"{name}_prior"]
            if not row["comparable"] or None in (now, prior):
                self.assertIsNone(row[f"{name}_change"])
                self.assertIsNone(row[f"{name}_change_ratio"])
                continue
            self.assertEqual(row[f"{name}_change"], now - prior)
            if prior:
                ratio = float(Fraction(now - prior) / abs(Fraction(prior)))
                self.assertAlmostEqual(row[f"{name}_change_ratio"], ratio, 12)
            else:
                self.assertIsNone(row[f"{name}_change_ratio"])

    def test_to_date_equals_the_oracle(self):
        for rows, rule, book in self.cases():
            for as_of in oracle.days(rows.last - 45 * oracle.DAY, rows.last)[::9]:
                for level in oracle.MONTHS_IN:
                    table = book.compare(level, to_date=True, as_of=as_of, by="group")
                    first = oracle.period(as_of, level, rule)[0]
                    prior_first = oracle.add_civil_months(first, -12)
                    month_last = oracle.period(as_of, "month", rule)[1]
                    if as_of == month_last:
                        prior_last = (
                            oracle.add_civil_months(month_last + oracle.DAY, -12) - oracle.DAY
                        )
                    else:
                        prior_last = oracle.add_civil_months(as_of, -12)
                    seen = oracle.Rows([r for r in rows.rows if r[0] <= as_of])
                    seen.last = as_of
                    for row in table.rows():
                        spans = (row["first"], row["last"], row["prior_first"], row["prior_last"])
                        self.assertEqual(spans, (first, as_of, prior_first, prior_last))
                        self.check(row, seen, row["group"], first, as_of)
                        self.check(row, seen, row["group"], prior_first, prior_last, "_prior")
                        self.check_change(row)

    def to_date(self, level: str, as_of: str, **options) -> dict:
        book = ep.Daybook({"on": ["2020-01-01", as_of]}, date="on", measures="n=count()")
        (row,) = book.compare(level, to_date=True, **options).rows()
        return {key: str(value) for key, value in row.items()}

    def test_worked_examples_of_the_design(self):
        row = self.to_date("quarter", "2025-08-20")
        self.assertEqual((row["first"], row["last"]), ("2025-07-01", "2025-08-20"))
        self.assertEqual((row["prior_first"], row["prior_last"]), ("2024-07-01", "2024-08-20"))
        row = self.to_date("quarter", "2025-08-20", match="weekday")
        self.assertEqual((row["prior_first"], row["prior_last"]), ("2024-07-02", "2024-08-21"))
        row = self.to_date("month", "2025-02-28")
        self.assertEqual((row["prior_first"], row["prior_last"]), ("2024-02-01", "2024-02-29"))
        row = self.to_date("month", "2024-03-31", back="1 month", match="elapsed")
        self.assertEqual((row["prior_last"], row["prior_clamped"]), ("2024-02-29", "True"))
        row = self.to_date("month", "2024-03-30", back="1 month")
        self.assertEqual((row["prior_last"], row["prior_clamped"]), ("2024-02-29", "True"))

    def test_as_many_workdays_equal_a_loop(self):
        held = ep.Workdays(holidays=ep.HolidaySet([ep.Holiday(dt.date(2024, 8, 1), "Rest")]))

        def worked(day):
            return day.weekday() < 5 and day != dt.date(2024, 8, 1)

        on = ["2020-01-01", "2025-12-31"]
        book = ep.Daybook({"on": on}, date="on", measures="n=count()", workdays=held)
        for as_of in oracle.days(dt.date(2025, 7, 1), dt.date(2025, 9, 30))[::2]:
            (row,) = book.compare("month", to_date=True, match="workday", as_of=as_of).rows()
            first = as_of.replace(day=1)
            elapsed = sum(worked(day) for day in oracle.days(first, as_of))
            begin = first.replace(year=2024)
            end = oracle.add_civil_months(begin, 1) - oracle.DAY
            fits = [d for d in oracle.days(begin, end)
                    if sum(worked(x) for x in oracle.days(begin, d)) == elapsed]  # fmt: skip
            if worked(as_of):
                fits = fits[:1] or [end]
            self.assertEqual(row["prior_last"], fits[-1] if fits else None, as_of)

    def test_restated_sets_the_same_calendar_dates_after_week_53(self):
        cafe = ep.WeekCalendar("cafe")
        book = ep.Daybook(
            {"on": ["2022-02-01", "2025-08-20"]}, date="on", measures="n=count()", calendar=cafe
        )
        rows = {r["period"]: r for r in book.compare("month", align="restated").rows()}
        shifted, same = rows["FY2025-M03"], rows["FY2024-M03"]
        self.assertEqual(shifted["first"] - shifted["prior_first"], dt.timedelta(364))
        self.assertEqual(shifted["last"] - shifted["prior_last"], dt.timedelta(364))
        plain = {r["period"]: r for r in book.compare("month").rows()}
        self.assertEqual(
            plain["FY2025-M03"]["first"] - plain["FY2025-M03"]["prior_first"], dt.timedelta(371)
        )
        self.assertEqual(same, plain["FY2024-M03"])
        for options, message in (({"back": "2 years"}, "back='1 year'"), ({"align": "moved"}, "")):
            with self.assertRaisesRegex(ep.QuestionError, message):
                book.compare("month", **{"align": "restated", **options})
        civil = ep.Daybook({"on": ["2025-01-01"]}, date="on", measures="n=count()")
        with self.assertRaisesRegex(ep.QuestionError, "years of whole weeks"):
            civil.compare("month", align="restated")

    def test_several_prior_periods_stand_side_by_side(self):
        book = book_of(oracle.random_rows(6), ep.MonthCalendar())
        both = list(book.compare("quarter", back=["1 quarter", "1 year"], by="group").rows())
        for back in ("1 quarter", "1 year"):
            for one, row in zip(
                book.compare("quarter", back=back, by="group").rows(), both, strict=True
            ):
                ending = "_" + back.replace(" ", "_")
                for name, value in one.items():
                    self.assertEqual(row.get(name + ending, row.get(name)), value, name)
        with self.assertRaisesRegex(ep.QuestionError, "names no prior period"):
            book.compare("quarter", back=[])

    def test_details_add_up_and_name_who_is_new_or_lost(self):
        rows = oracle.random_rows(6)
        book = book_of(rows, ep.MonthCalendar())
        whole = {r["period"]: r for r in book.compare("quarter").rows()}
        parts = {}
        for row in book.compare("quarter", by="group", details=True).rows():
            if not row["comparable"]:
                self.assertIsNone(row["standing"])
                self.assertIsNone(row["trips_contribution"])
                continue
            now, before = (rows.over(row["group"], row[a], row[b])["count"]
                           for a, b in (("first", "last"), ("prior_first", "prior_last")))  # fmt: skip
            standing = "new" if now and not before else "lost" if before and not now else None
            self.assertEqual(row["standing"], standing)
            lengths = [
                (row[b] - row[a]).days + 1
                for a, b in (("first", "last"), ("prior_first", "prior_last"))
            ]
            self.assertAlmostEqual(
                row["trips_change_per_day"], now / lengths[0] - before / lengths[1]
            )
            self.assertNotIn("typical_contribution", row)
            parts[row["period"]] = parts.get(row["period"], 0.0) + (
                row["trips_contribution"] or 0.0
            )
        self.assertTrue(parts)
        for period, total in parts.items():
            self.assertAlmostEqual(total, whole[period]["trips_change_ratio"] or 0.0)

    def test_groups_that_cannot_be_compared_take_no_part_in_contributions(self):
        days = ["2024-01-01", "2024-04-01", "2024-02-15", "2024-04-01", "2024-06-30"]
        book = ep.Daybook({"on": days, "group": [*"aabba"], "x": [8, 10, 100, 100, 0]}, date="on", by="group", measures="s=sum(x)", coverage="groups")  # fmt: skip
        rows = book.compare("quarter", back="1 quarter", by="group", details=True).rows()
        found = {(r["group"], r["period"]): r["s_contribution"] for r in rows}
        self.assertEqual((found["a", "2024-Q2"], found["b", "2024-Q2"]), (0.25, None))

    def test_week_53_is_not_comparable_with_a_year_of_52(self):
        book = ep.Daybook({"on": ["2019-01-01", "2021-02-01"]}, date="on", measures="n=count()")
        rows = {row["period"]: row for row in book.compare("week").rows()}
        self.assertEqual(rows["2020-W52"]["prior_period"], "2019-W52")
        self.assertTrue(rows["2020-W52"]["comparable"])
        blank = rows["2020-W53"]
        self.assertFalse(blank["comparable"])
        for name in ("prior_period", "prior_first", "prior_last", "n_prior", "n_change"):
            self.assertIsNone(blank[name])

    def test_week_to_date_is_cut_at_the_same_weekday(self):
        row = self.to_date("week", "2025-08-20")
        self.assertEqual((row["prior_period"], row["prior_last"]), ("2024-W34", "2024-08-21"))

    def test_an_unfinished_quarter_is_not_set_against_a_whole_one(self):
        book = ep.Daybook({"on": ["2023-01-01", "2025-08-20"]}, date="on", measures="n=count()")
        rows = {row["period"]: row for row in book.compare("quarter").rows()}
        self.assertFalse(rows["2025-Q3"]["comparable"])
        self.assertIsNone(rows["2025-Q3"]["n_change"])
        self.assertTrue(rows["2025-Q2"]["comparable"])
        self.assertFalse(rows["2023-Q1"]["comparable"])

    def test_earlier_periods_are_each_cut_at_their_own_counterpart(self):
        book = ep.Daybook({"on": ["2020-01-01", "2025-05-31"]}, date="on", measures="n=count()")
        rows = list(book.compare("quarter", to_date=True, periods=3).rows())
        cuts = [(row["period"], str(row["last"]), str(row["prior_last"])) for row in rows]
        self.assertEqual(cuts, [("2024-Q4", "2024-11-30", "2023-11-30"),
                                ("2025-Q1", "2025-02-28", "2024-02-29"),
                                ("2025-Q2", "2025-05-31", "2024-05-31")])  # fmt: skip

    def test_what_does_not_fit_is_refused_with_what_does(self):
        book = book_of(oracle.random_rows(0), ep.MonthCalendar())
        bad = (
            (("week",), {"back": "1 month"}, "a number of years or weeks"),
            (("year",), {"back": "1 quarter"}, "a number of years"),
            (("month",), {"back": "a year"}, "write it as"),
            (("month",), {"back": "2 fortnights"}, "unknown unit"),
            (("month",), {"back": "0 months"}, "at least 1"),
            (("month",), {"match": "elapsed"}, "to_date=True"),
            (("month",), {"to_date": True, "match": "dates"}, "did you mean 'date'"),
            (("month",), {"to_date": True, "only": "2001"}, "use as_of instead"),
            (("month",), {"as_of": "1980-01-01"}, "before the coverage"),
        )
        for arguments, options, message in bad:
            with self.assertRaisesRegex(ep.QuestionError, message):
                book.compare(*arguments, **options)


class Exactness(unittest.TestCase):
    """Blanks differ from zero, and cents survive any turnover."""

    def test_blank_outside_the_coverage_zero_inside_it(self):
        frame = {"on": ["2024-01-01", "2024-03-01"], "x": [1.5, None]}
        book = ep.Daybook(frame, date="on", measures=["s=sum(x)", "c=count(x)", "m=mean(x)"])
        rows = list(book.recap("month").rows())
        self.assertEqual(
            [(r["s"], r["c"], r["m"]) for r in rows], [(1.5, 1, 1.5), (0, 0, None), (None, 0, None)]
        )
        (row,) = book.compare("month", to_date=True).rows()
        self.assertEqual([row["s_prior"], row["c_prior"]], [None, None])

    def test_floats_stay_right_to_the_cent_after_1e15(self):
        values = [1e15, 0.1, 0.2, 0.3, -1e15, 0.07]
        frame = {"on": [f"2024-01-{i:02d}" for i in range(1, 7)], "x": values}
        book = ep.Daybook(frame, date="on", measures="s=sum(x)")
        got = book.recap("day")["s"]
        for value, want in zip(got, values, strict=True):
            self.assertAlmostEqual(value, want, 6)

    def test_a_total_that_does_not_fit_is_an_error(self):
        frame = {"on": ["2024-01-01"] * 2, "x": [2**62, 2**62]}
        book = ep.Daybook(frame, date="on", measures="s=sum(x)")
        with self.assertRaisesRegex(ep.MeasureError, "'s': .* does not fit into 64 bits"):
            book.recap("month")
        frame = {"on": ["2024-01-01"], "x": [float("inf")]}
        with self.assertRaisesRegex(ep.MeasureError, "row 1 is infinite"):
            ep.Daybook(frame, date="on", measures="s=sum(x)")

    def test_a_ratio_divides_the_totals(self):
        frame = {"on": ["2024-01-01", "2024-01-02"], "fare": [10, 30], "people": [1, 3]}
        book = ep.Daybook(frame, date="on", measures="each=sum(fare)/sum(people)")
        self.assertEqual(book.recap("month")["each"].tolist(), [10.0])


class Groups(unittest.TestCase):
    """Groups come in natural order; only combinations that occur have rows."""

    def test_order_blanks_and_several_columns(self):
        frame = {
            "on": ["2024-01-01"] * 5,
            "shop": ["10", "9", "9", None, "10"],
            "open": [True, False, True, True, True],
            "day": [dt.date(2020, 1, 1)] * 5,
        }
        book = ep.Daybook(frame, date="on", by=["shop", "open", "day"], measures="n=count()")
        rows = [
            (r["shop"], r["open"], r["n"]) for r in book.recap("month", by=["shop", "open"]).rows()
        ]
        self.assertEqual(rows, [("9", False, 1), ("9", True, 1), ("10", True, 2), (None, True, 1)])
        self.assertEqual(book.recap("month", by="day")["day"].astype(str).tolist(), ["2020-01-01"])
        with self.assertRaisesRegex(ep.QuestionError, "did you mean 'shop'"):
            book.recap("month", by="shopp")

    def test_a_group_that_is_named_or_covered_by_the_as_of_has_rows(self):
        frame = {"on": ["2024-01-01", "2024-02-01"], "g": ["a", "b"]}
        whole = ep.Daybook(frame, date="on", by="g", measures="n=count()")
        own = ep.Daybook(frame, date="on", by="g", measures="n=count()", coverage="groups")
        named = {"only": {"g": ["a", "b"]}}
        for book, options, want in (
            (whole, {}, [("a", 1), ("b", 0)]), (own, {}, [("a", 1)]),
            (whole, named, [("a", 1), ("b", 0)]), (own, named, [("a", 1), ("b", None)]),
        ):  # fmt: skip
            table = book.recap("month", by="g", as_of="2024-01-31", **options)
            self.assertEqual([(row["g"], row["n"]) for row in table.rows()], want)


class Coverage(unittest.TestCase):
    """The coverage is what the data covers."""

    FRAME = {"on": ["2024-01-03", "2024-02-10"]}  # noqa: RUF012

    def test_a_given_coverage_makes_whole_months(self):
        book = ep.Daybook(
            self.FRAME, date="on", measures="n=count()", coverage="2024-01-01..2024-02-29"
        )
        self.assertTrue(book.recap("month")["complete"].all())
        self.assertFalse(
            ep.Daybook(self.FRAME, date="on", measures="n=count()").recap("month")["complete"].any()
        )

    def test_the_first_and_last_years_of_all(self):
        frame = {"on": ["0001-01-01", "9999-12-31"], "x": [1, 2]}
        calendar = ep.MonthCalendar("own", year_starts="04-01")
        book = ep.Daybook(frame, date="on", measures="s=sum(x)", calendar=calendar)
        first, *_, last = book.recap("year").rows()
        self.assertEqual((first["first"], str(first["last"])), (None, "0001-03-31"))
        self.assertEqual((str(last["first"]), last["last"]), ("9999-04-01", None))
        self.assertEqual((first["s"], last["s"], last["complete"]), (1, 2, False))

    def test_rows_outside_a_given_coverage_are_an_error(self):
        days = {"on": [f"2025-01-0{n}" for n in range(1, 8)]}
        with self.assertRaisesRegex(
            ep.InputError, "4 rows lie outside coverage=2025-01-02..2025-01-04"
        ):
            ep.Daybook(days, date="on", measures="n=count()", coverage="2025-01-02..2025-01-04")
        with self.assertRaisesRegex(ep.InputError, "1 row lies outside"):
            ep.Daybook(
                self.FRAME, date="on", measures="n=count()", coverage="2024-01-01..2024-01-31"
            )
