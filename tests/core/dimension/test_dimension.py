"""The date dimension: every attribute against plain `datetime`, sets, names and the as-of date."""

import calendar
import datetime as dt
import unittest

import eptaro as ep
from tests import oracle
from tests.oracle import DAY

FISCAL = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
HELD = [ep.Holiday(dt.date(2025, 1, 1), "New Year", "public", True),
        ep.Holiday(dt.date(2025, 1, 1), "Rest Day", "company"),
        ep.Holiday(dt.date(2024, 12, 25), "Midwinter")]  # fmt: skip
WORK = ep.Workdays(holidays=ep.HolidaySet(HELD))


def key(day: dt.date) -> int:
    """Return yyyymmdd."""
    return int(f"{day:%Y%m%d}")


class Attributes(unittest.TestCase):
    """Values equal those that plain datetime gives."""

    @classmethod
    def setUpClass(cls):
        cls.table = ep.dimension("2023-12-25", "2025-03-10", calendars=[ep.MonthCalendar(), FISCAL],
                                 columns="all", workdays=WORK, as_of="2025-02-28")  # fmt: skip
        cls.rows = list(cls.table.rows())
        cls.worked = {d for d in oracle.days(dt.date(2022, 1, 1), dt.date(2026, 12, 31))
                      if d.weekday() < 5 and d not in {h.day for h in HELD}}  # fmt: skip

    def test_a_hundred_and_twenty_and_more_for_one_calendar(self):
        table = ep.dimension("2025-01-01", "2025-01-01", columns="all")
        self.assertGreaterEqual(len(table.names), 120)
        self.assertEqual(len(ep.dimension("2025-01-01", "2025-01-01").names), 45)

    def test_leap_years_of_all_ages(self):
        for year in (1600, 1700, 1896, 1900, 1999, 2000, 2024, 2100, 2400):
            (row,) = ep.dimension(f"{year}-02-01", f"{year}-02-01", columns="all").rows()
            self.assertEqual(row["is_leap_year"], calendar.isleap(year), year)
            self.assertEqual(row["days_in_month"], calendar.monthrange(year, 2)[1], year)

    def test_of_the_day(self):
        held = {d: [h for h in HELD if h.day == d] for d in {h.day for h in HELD}}
        for row in self.rows:
            day = row["date"]
            iso = day.isocalendar()
            month_later = day + 7 * DAY
            expected = {
                "date_key": key(day), "date_text": str(day), "year_month_key": key(day) // 100,
                "iso_week_date": f"{iso.year}-W{iso.week:02d}-{iso.weekday}",
                "iso_week_year": iso.year, "iso_week": iso.week, "day_of_month": day.day,
                "day_name": f"{day:%A}", "day_name_short": f"{day:%a}", "month_name": f"{day:%B}",
                "weekday_from_monday_1": day.isoweekday(), "weekday_from_monday_0": day.weekday(),
                "weekday_from_sunday_1": day.isoweekday() % 7 + 1,
                "weekday_in_month": (day.day + 6) // 7,
                "is_last_weekday_in_month": month_later.month != day.month,
                "is_weekend": day.weekday() > 4, "is_weekday": day.weekday() < 5,
                "is_workday": day in self.worked, "is_holiday": day in held,
                "holiday_name": "; ".join(h.name for h in held.get(day, [])) or None,
                "holiday_kind": "; ".join(h.kind for h in held.get(day, [])) or None,
                "is_pay_premium": any(h.pay_premium for h in held.get(day, [])),
                "next_workday": min(d for d in self.worked if d > day),
                "previous_workday": max(d for d in self.worked if d < day),
                "is_leap_year": day.year == 2024, "decade": 2020, "century": 21,
                "same_day_last_year": oracle.add_civil_months(day, -12),
                "same_day_last_month_key": key(oracle.add_civil_months(day, -1)),
                "same_weekday_last_year": day - 364 * DAY,
                "days_from_as_of": (day - dt.date(2025, 2, 28)).days,
            }  # fmt: skip
            self.assertEqual({name: row[name] for name in expected}, expected)

    def test_of_both_calendars(self):
        rules = {"calendar": oracle.CIVIL, "fiscal": oracle.APRIL_END}
        for row in self.rows[::5]:
            day = row["date"]
            for name, rule in rules.items():
                for level in oracle.MONTHS_IN:
                    first, last, year, number = oracle.period(day, level, rule)
                    every = oracle.days(first, last)
                    passed = [d for d in every if d <= day]
                    workdays = [d for d in every if d in self.worked]
                    expected = {
                        level: year if level == "year" else number, f"{level}_first": first,
                        f"{level}_last": last, f"{level}_days": len(every),
                        f"{level}_workdays": len(workdays), f"day_of_{level}": len(passed),
                        f"days_left_in_{level}": len(every) - len(passed),
                        f"is_{level}_first": day == first, f"is_{level}_last": day == last,
                        f"workdays_left_in_{level}": len([d for d in workdays if d > day]),
                        f"workday_of_{level}": len([d for d in workdays if d <= day])
                        if day in self.worked else None,
                    }  # fmt: skip
                    got = {part: row[f"{name}_{part}"] for part in expected}
                    self.assertEqual(got, expected, (day, name))

    def test_labels_names_and_prior_labels(self):
        row = next(row for row in self.rows if str(row["date"]) == "2024-08-20")
        expected = {"fiscal_quarter_name": "2nd quarter FY2025", "fiscal_month_name": "August 2024",
                    "fiscal_month_label": "FY2025-M05", "fiscal_month_label_before": "FY2025-M04",
                    "fiscal_quarter_label_last_year": "FY2024-Q2",
                    "calendar_week_label": "2024-W34",
                    "calendar_quarter_key": 20243, "calendar_month_key": 202408,
                    "fiscal_month_of_quarter": 2, "fiscal_quarter_of_half": 2}  # fmt: skip
        self.assertEqual({name: row[name] for name in expected}, expected)

    def test_cut_weeks_restart_with_the_period_and_step_on_mondays(self):
        for before, row in zip(self.rows, self.rows[1:], strict=False):
            for level in ("year", "month"):
                name, day_of = f"fiscal_week_in_{level}", f"fiscal_day_of_{level}"
                step = row["date"].weekday() == 0
                self.assertEqual(row[name], 1 if row[day_of] == 1 else before[name] + step)
        self.assertEqual(max(row["fiscal_week_in_month"] for row in self.rows), 6)

    def test_relative_to_the_as_of_date(self):
        for row in self.rows:
            day = row["date"]
            self.assertEqual(row["is_past"], day < dt.date(2025, 2, 28))
            months = (day.year - 2025) * 12 + day.month - 2
            self.assertEqual(row["calendar_months_from_as_of"], months)
            self.assertEqual(row["calendar_is_current_month"], months == 0)
            # As of the last day of February every month is to date as a whole.
            self.assertTrue(row["calendar_is_month_to_date"])
            self.assertEqual(row["calendar_is_year_to_date"], day.month <= 2)
            self.assertEqual(row["calendar_is_week_to_date"], day.weekday() <= 4)

    def test_every_column_is_described(self):
        described = list(self.table.describe().rows())
        self.assertEqual([row["column"] for row in described], self.table.names)
        self.assertTrue(all(row["description"] and row["kind"] for row in described))


class Choice(unittest.TestCase):
    """Columns, languages and the unknown row are chosen."""

    def test_columns(self):
        table = ep.dimension(
            "2025-01-01", "2025-01-02", calendars=FISCAL, columns=["fiscal_year", "date"]
        )
        self.assertEqual(table.names, ["fiscal_year", "date"])
        with self.assertRaisesRegex(ep.QuestionError, "did you mean 'fiscal_year'"):
            ep.dimension("2025-01-01", "2025-01-02", calendars=FISCAL, columns=["fiscal_yr"])
        with self.assertRaisesRegex(ep.QuestionError, "Accepted: key, standard, all"):
            ep.dimension("2025-01-01", "2025-01-02", columns="most")
        with self.assertRaisesRegex(ep.CalendarError, "two calendars are called 'fiscal'"):
            ep.dimension("2025-01-01", "2025-01-02", calendars=[FISCAL, FISCAL])

    def test_locales(self):
        (row,) = ep.dimension("2025-03-01", "2025-03-01", columns="all", locale="fr").rows()
        self.assertEqual((row["day_name"], row["calendar_month_name"]), ("samedi", "mars 2025"))
        (row,) = ep.dimension("2025-03-01", "2025-03-01", columns="all", locale="pt-BR").rows()
        self.assertEqual(row["month_name"], "março")
        with self.assertRaisesRegex(ep.CalendarError, "unknown locale 'xx'"):
            ep.dimension("2025-03-01", "2025-03-01", locale="xx")

    def test_the_unknown_row_has_key_0_and_is_blank(self):
        unknown, known = ep.dimension("2025-03-01", "2025-03-01", unknown_row=True).rows()
        self.assertEqual(unknown.pop("date_key"), 0)
        self.assertEqual(set(unknown.values()), {None})
        self.assertEqual(known["date_key"], 20250301)
