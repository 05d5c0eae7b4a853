"""The calendar commands and the dimension command with a config."""

import csv
import io
import json
from pathlib import Path

import icalendar

import eptaro as ep
from eptaro.demo.files import copy_shipped
from eptaro.inputs.config import read_listed
from tests.cli.test_commands import Commands

CONFIG = ("--config", "eptaro.toml")


class WithConfig(Commands):
    """The demo's files stand in the folder."""

    def setUp(self):
        super().setUp()
        copy_shipped(self.folder)


class Calendars(WithConfig):
    """show, check and export."""

    def test_show_prints_months_weeks_quarters_and_holidays(self):
        status, out, _ = self.go(
            "calendar", "show", *CONFIG, "--calendar", "cafe", "--year", "2024"
        )
        self.assertEqual(status, 0)
        for part in ("FY2024  2023-01-29..2024-02-03 371 days (53 weeks)", "FY2024-M12  24 Dec..03 Feb",
                     "FY2024-Q4  2023-10-29..2024-02-03 98 days", "53 28  29  30  31",
                     "Fri 2023-10-27  Founders' Day  (a workday)"):  # fmt: skip
            self.assertIn(part, out)
        _, out, _ = self.go("calendar", "show", "--pattern", "13x4", "--year", "2025")
        self.assertIn("FY2025-M13", out)

    def test_show_draws_a_picture(self):
        for ending, mark in (("png", b"\x89PNG"), ("svg", b"<?xml")):
            status, _, err = self.go(
                "calendar", "show", *CONFIG, "--year", "2025", "--plot", f"y.{ending}"
            )
            self.assertEqual((status, err), (0, f"drawn to y.{ending}\n"))
            self.assertTrue(Path(f"y.{ending}").read_bytes().startswith(mark))

    def test_check_lists_years_and_what_differs(self):
        Path("two.toml").write_text(
            '[calendars.a]\nkind = "week"\n[calendars.b]\nkind = "week"\nends = "last"\n'
        )
        _, out, _ = self.go("calendar", "check", "--config", "two.toml", "--calendar", "a", "--against", "b",
                            "--years", "2020..2026", "--format", "json")  # fmt: skip
        rows = json.loads(out)
        self.assertEqual([row["weeks"] for row in rows], [52, 52, 52, 52, 53, 52, 52])
        self.assertEqual([row["same"] for row in rows], [row["first"] == row["b_first"]
                         and row["last"] == row["b_last"] for row in rows])  # fmt: skip
        self.assertIn(True, [row["same"] for row in rows])
        self.assertIn(False, [row["same"] for row in rows])

    def test_an_export_is_read_back_as_the_same_periods(self):
        for name in ("cafe", "freight"):
            self.go(
                "calendar",
                "export",
                *CONFIG,
                "--calendar",
                name,
                "--years",
                "2023..2025",
                "--out",
                "p.csv",
            )
            prefix = "FY" if name == "cafe" else ""
            listed = read_listed(name, Path("p.csv"), prefix=prefix)
            for level in ("year", "half", "quarter", "month"):
                own = {"cafe": ep.WeekCalendar("cafe"),
                       "freight": ep.MonthCalendar("freight", year_starts="09-10", year_named="start")}[name]  # fmt: skip
                ours, theirs = (c.periods(listed.limits, level) for c in (own, listed))
                self.assertEqual(ours.first.tolist(), theirs.first.tolist())
                self.assertEqual(ours.labels.tolist(), theirs.labels.tolist())

    def test_an_icalendar_export_holds_periods_and_holidays(self):
        self.go("calendar", "export", *CONFIG, "--years", "2025", "--out", "p.ics")
        events = icalendar.Calendar.from_ical(Path("p.ics").read_bytes()).walk("VEVENT")
        found = {(str(e["SUMMARY"]), e.decoded("DTSTART").isoformat()) for e in events}
        self.assertIn(("FY2025-Q1 begins", "2024-04-01"), found)
        self.assertIn(("FY2025 ends", "2025-03-31"), found)
        self.assertIn(("Landfall Day", "2024-07-15"), found)

    def test_mistakes(self):
        bad = (
            (("calendar", "show", "--year", "2025", "--calendar", "fiscal"), 2, "needs a --config"),
            (("calendar", "show", *CONFIG, "--calendar", "caffe", "--year", "2025"), 1, "did you mean 'cafe'"),
            (("calendar", "show", *CONFIG, "--calendar", "cafe", "--prefix", "X", "--year", "1"), 2, "give one"),
            (("calendar", "show", "--year", "2025", "--ends", "last"), 1, "--ends goes with --pattern"),
            (("calendar", "show", "--year", "2025", "--plot", "y.gif"), 1, "unknown picture ending"),
            (("calendar", "check", "--years", "2025..x"), 1, "not a range of years"),
            (("calendar", "check", "--years", "2026..2025"), 1, "run upwards"),
            (("calendar", "show", "--year", "1"), 1, "from 2 to 9998"),
            (("calendar", "show", "--config", "no.toml", "--year", "2025"), 1, "No such file"),
        )  # fmt: skip
        for arguments, expected, message in bad:
            status, _, err = self.go(*arguments)
            self.assertEqual(status, expected, err)
            self.assertIn(message, err)
            self.assertNotIn("Traceback", err)


class Dimension(WithConfig):
    """The dimension command."""

    def test_all_calendars_of_the_config_and_chosen_columns(self):
        _, out, _ = self.go("dimension", *CONFIG, "--from", "2025-07-14", "--through", "2025-07-14",
                            "--columns", "date,holiday_name,cafe_week_label,freight_year", "--format", "csv")  # fmt: skip
        (row,) = csv.DictReader(io.StringIO(out))
        self.assertEqual(row, {"date": "2025-07-14", "holiday_name": "Landfall Day",
                               "cafe_week_label": "FY2026-W24", "freight_year": "2024"})  # fmt: skip

    def test_the_span_of_a_file_rounded_out_to_whole_years(self):
        _, out, _ = self.go("dimension", *CONFIG, "--calendar", "fiscal", "--cover", "bookings.csv",
                            "--date", "sailed_on", "--columns", "key", "--format", "csv")  # fmt: skip
        rows = list(csv.DictReader(io.StringIO(out)))
        self.assertEqual((rows[0]["date"], rows[-1]["date"]), ("2022-04-01", "2026-03-31"))

    def test_the_data_dictionary(self):
        _, out, _ = self.go("dimension", *CONFIG, "--from", "2025-01-01", "--through", "2025-01-01",
                            "--columns", "all", "--describe", "--format", "json")  # fmt: skip
        rows = {row["column"]: row for row in json.loads(out)}
        self.assertGreater(len(rows), 400)
        self.assertEqual(rows["cafe_quarter_days"]["unit"], "days")

    def test_locale_as_of_and_unknown_row(self):
        _, out, _ = self.go("dimension", "--from", "2025-03-01", "--through", "2025-03-01", "--locale", "de",
                            "--as-of", "2025-03-02", "--unknown-row", "--format", "json")  # fmt: skip
        unknown, known = json.loads(out)
        self.assertEqual((unknown["date_key"], unknown["date"]), (0, None))
        self.assertEqual((known["day_name"], known["days_from_as_of"]), ("Samstag", -1))


class Verbs(WithConfig):
    """With a config a command line stays short."""

    def test_the_data_set_of_the_config(self):
        _, out, _ = self.go("recap", *CONFIG, "--per", "year", "--format", "json")
        rows = json.loads(out)
        self.assertEqual(rows[0]["period"], "FY2023")
        self.assertLessEqual({"revenue", "trips"}, set(rows[0]))
        _, out, _ = self.go(
            "recap", *CONFIG, "--calendar", "cafe", "--per", "year", "--format", "json"
        )
        self.assertEqual(json.loads(out)[0]["first"], "2022-01-30")

    def test_trail_card_goals_and_finer_recaps(self):
        _, out, _ = self.go(
            "trail", *CONFIG, "--back", "12 months", "--every", "month", "--format", "json"
        )
        rows = json.loads(out)
        self.assertEqual((rows[-1]["first"], rows[-1]["complete"]), ("2024-08-21", True))
        _, out, _ = self.go("trail", *CONFIG, "--back", "2 days", "--weights", "1,3", "--rows", "4")
        self.assertIn("Revenue, the weighted mean over the 2 days to 2025-08-20: 2,113.85.", out)
        _, out, _ = self.go("accumulate", *CONFIG, "--card", "--format", "json")
        self.assertEqual(
            {row["calendar"] for row in json.loads(out)}, {"calendar", "fiscal", "cafe", "freight"}
        )
        code, _, err = self.go("accumulate", *CONFIG, "--card", "--sort", "-revenue_to_date")
        self.assertEqual(code, 2)
        self.assertIn("--sort does not go with --card", err)
        Path("goals.csv").write_text("period,goal\nFY2026,500000\n")
        _, out, _ = self.go(
            "accumulate",
            *CONFIG,
            "--within",
            "year",
            "--goals",
            "goals.csv",
            "--only",
            "2025-08-20",
            "--format",
            "json",
        )
        (row,) = json.loads(out)
        self.assertAlmostEqual(row["revenue_goal_to_date"], 500_000 * 142 / 365)
        paced = ("--goals", "goals.csv", "--pace", "prior-year", "--only", "2025-08-20")
        _, out, err = self.go("accumulate", *CONFIG, "--within", "year", *paced, "--format", "json")
        (row,) = json.loads(out or err)
        self.assertNotAlmostEqual(row["revenue_goal_to_date"], 500_000 * 142 / 365)
        _, out, _ = self.go(
            "recap",
            *CONFIG,
            "--per",
            "weekday",
            "--by",
            "route",
            "--top",
            "2",
            "--sort",
            "-revenue",
        )
        self.assertIn("(others)", out)
        _, out, _ = self.go("recap", *CONFIG, "--per", "year", "--totals")
        self.assertIn("tied out: trips, 4 parts add up to 28,000", out)
        for arguments, status, message in (
            (("trail", *CONFIG, "--back", "2 days", "--weights", "a"), 1, "are not numbers"),
            (("accumulate", *CONFIG), 2, "Missing option '--within'"),
            (("accumulate", *CONFIG, "--within", "year", "--goals", "no.csv"), 1, "cannot be read"),
        ):
            got, _, err = self.go(*arguments)
            self.assertEqual((got, message in err), (status, True), err)

    def test_trace_and_prove(self):
        asked = [*CONFIG, "--per", "quarter", "--to-date", "--by", "route", "--as-of", "2025-08-20"]
        status, out, err = self.go("trace", "compare", *asked, "--row", "1", "--column", "revenue_change",
                                   "--rows-to", "rows.csv")  # fmt: skip
        self.assertEqual(status, 0, err)
        for part in ("current side: Tuesday 2025-07-01 to Wednesday 2025-08-20, 51 days",
                     "prior side: Monday 2024-07-01 to Tuesday 2024-08-20", "table: 962.85",
                     "the same, calculated independently"):  # fmt: skip
            self.assertIn(part, out)
        self.assertEqual(len(Path("rows.csv").read_text().splitlines()), 1 + 847)
        for verb, more in (("recap", ["--per", "month", "--by", "route"]), ("accumulate", ["--within", "year"]),
                           ("trail", ["--back", "90 days", "--every", "month"]), ("compare", ["--per", "year"])):  # fmt: skip
            status, _, err = self.go(verb, *CONFIG, *more, "--prove", "--format", "csv")
            self.assertEqual(status, 0, err)
            self.assertRegex(err, r"proved: \d+ numbers recalculated")
        of_year = ("trace", "recap", *CONFIG, "--per", "year", "--column", "revenue")
        self.assertEqual(self.go(*of_year, "--row", "4")[0], 0)
        status, _, err = self.go(*of_year, "--row", "99")
        self.assertEqual(
            (status, "there is no row 99; the answer has 4 rows" in err), (1, True), err
        )

    def test_annotate_knows_holidays_of_any_year(self):
        Path("old.csv").write_text("on\n1888-07-14\n2100-12-24\n")
        status, _, err = self.go("annotate", "old.csv", "--date", "on", *CONFIG, "--add", "holiday_name",
                                 "--out", "named.csv")  # fmt: skip
        self.assertEqual(status, 0, err)
        rows = list(csv.DictReader(io.StringIO(Path("named.csv").read_text())))
        self.assertEqual([row["holiday_name"] for row in rows], ["", ""])
        Path("old.csv").write_text("on\n1887-07-14\n2098-12-25\n")
        self.go(
            "annotate",
            "old.csv",
            "--date",
            "on",
            *CONFIG,
            "--add",
            "holiday_name",
            "--out",
            "named.csv",
        )
        rows = list(csv.DictReader(io.StringIO(Path("named.csv").read_text())))
        self.assertEqual([row["holiday_name"] for row in rows], ["Landfall Day", "Midwinter Day"])

    def test_trace_takes_goals_and_weights_as_its_verb_does(self):
        Path("goals.csv").write_text("period,goal\nFY2026,500000\n")
        status, out, err = self.go("trace", "accumulate", *CONFIG, "--within", "year", "--goals", "goals.csv",
                                   "--only", "2025-08-20", "--row", "1", "--column", "trips_to_date")  # fmt: skip
        self.assertEqual((status, "4,381 transactions" in out), (0, True), err)
        status, _, err = self.go("trace", "trail", *CONFIG, "--back", "2 days", "--weights", "1,x", "--row", "1",
                                 "--column", "trips_trailing")  # fmt: skip
        self.assertEqual((status, "are not numbers" in err), (1, True), err)
