"""Holidays from rules, files and countries."""

import datetime as dt
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import eptaro as ep
from eptaro.inputs import holidays

ICS = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//made up//EN
BEGIN:VEVENT
UID:1@made.up
DTSTAMP:20200101T000000Z
DTSTART;VALUE=DATE:20200514
RRULE:FREQ=YEARLY
SUMMARY:Landfall Day
CATEGORIES:regional
END:VEVENT
BEGIN:VEVENT
UID:2@made.up
DTSTAMP:20200101T000000Z
DTSTART;VALUE=DATE:20250801
DTEND;VALUE=DATE:20250804
SUMMARY:Fair
END:VEVENT
END:VCALENDAR
"""


def days(rules, first=2024, last=2026, **options) -> list[str]:
    """Return the days that rules give."""
    return [str(h.day) for h in holidays.HolidaySet.from_rules(rules, first, last, **options)]


class Rules(unittest.TestCase):
    """Each form of rule gives its days."""

    def test_forms(self):
        forms = {
            "05-14": ["2024-05-14", "2025-05-14", "2026-05-14"],
            "02-29": ["2024-02-29"],
            "first monday of may": ["2024-05-06", "2025-05-05", "2026-05-04"],
            "last friday of november": ["2024-11-29", "2025-11-28", "2026-11-27"],
            "fifth friday of january": ["2025-01-31", "2026-01-30"],
            "easter": ["2024-03-31", "2025-04-20", "2026-04-05"],
            "easter - 2": ["2024-03-29", "2025-04-18", "2026-04-03"],
            "Easter +39": ["2024-05-09", "2025-05-29", "2026-05-14"],
            "orthodox easter": ["2024-05-05", "2025-04-20", "2026-04-12"],
        }
        for on, expected in forms.items():
            self.assertEqual(days([{"name": "x", "on": on}]), expected, on)

    def test_years_and_moves(self):
        rule = {"name": "x", "on": "12-25", "from": 2021, "to": 2023}
        self.assertEqual(days([rule], 2019, 2030), ["2021-12-25", "2022-12-25", "2023-12-25"])
        nearest = {"name": "x", "on": "05-14", "moved": "nearest"}  # a Saturday and a Sunday
        self.assertEqual(days([nearest], 2022, 2023), ["2022-05-13", "2023-05-15"])
        both = [
            {"name": "a", "on": "12-25", "moved": "next"},
            {"name": "b", "on": "12-26", "moved": "next"},
        ]
        self.assertEqual(days(both, 2021, 2021), ["2021-12-27", "2021-12-28"])
        self.assertEqual(days([nearest], 2022, 2023, weekend=["friday", "saturday"]),
                         ["2022-05-15", "2023-05-14"])  # fmt: skip

    def test_a_rule_that_cannot_be_read_is_named(self):
        bad = (
            ({"name": "x", "on": "frist monday of may"}, "rule 1 .x.: .*did you mean 'first'"),
            ({"name": "x", "on": "first moonday of may"}, "did you mean 'monday'"),
            ({"name": "x", "on": "first monday of maye"}, "did you mean 'may'"),
            ({"name": "x", "on": "14 May"}, "not a month-day"),
            ({"name": "x", "on": "eastern"}, "cannot be read; write 05-14"),
            ({"name": "x"}, "needs a name and a day"),
            ({"name": "x", "on": "05-14", "moved": "previous"}, "value for moved"),
            ({"name": "x", "on": "05-14", "until": 3}, "unknown key 'until'"),
        )
        for rule, message in bad:
            with self.assertRaisesRegex(ep.CalendarError, message):
                holidays.HolidaySet.from_rules([rule], 2024, 2024)
        with self.assertRaisesRegex(ep.CalendarError, "1583 to 4099"):
            holidays.HolidaySet.from_rules([{"name": "x", "on": "easter"}], 1500, 1500)


class Files(unittest.TestCase):
    """CSV and iCalendar files."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "days"

    def test_csv(self):
        self.path.write_text(
            "date,name,kind,pay_premium\n2025-05-14,Landfall,company,yes\n2025-01-01,Year,,\n"
        )
        year, landfall = ep.HolidaySet.from_csv(self.path)
        self.assertEqual(landfall, ep.Holiday(dt.date(2025, 5, 14), "Landfall", "company", True))
        self.assertEqual((year.kind, year.pay_premium), ("public", False))
        bad = (
            ("date,name\n2025-02-30,x\n", "row 1: '2025-02-30' does not exist"),
            ("day,name\n", "unknown column 'date'"),
            ("date,name,pay_premium\n2025-01-01,x,maybe\n", "row 1: pay_premium='maybe'"),
        )
        for text, message in bad:
            self.path.write_text(text)
            with self.assertRaisesRegex(ep.InputError, message):
                holidays.HolidaySet.from_csv(self.path)
        with self.assertRaisesRegex(ep.InputError, "No such file"):
            holidays.HolidaySet.from_csv("nowhere.csv")

    def test_icalendar_with_recurrence_and_several_days(self):
        self.path.write_text(ICS)
        found = [
            (str(h.day), h.name, h.kind)
            for h in ep.HolidaySet.from_icalendar(self.path, 2024, 2025)
        ]
        self.assertEqual(found[:2], [("2024-05-14", "Landfall Day", "regional"),
                                     ("2025-05-14", "Landfall Day", "regional")])  # fmt: skip
        self.assertEqual([day for day, *_ in found[2:]], ["2025-08-01", "2025-08-02", "2025-08-03"])
        self.path.write_text("no calendar")
        with self.assertRaisesRegex(ep.InputError, "not an iCalendar file"):
            holidays.HolidaySet.from_icalendar(self.path, 2024, 2025)

    def test_countries(self):
        found = ep.HolidaySet.from_country("FR", 2025, 2025)
        self.assertIn(dt.date(2025, 7, 14), {h.day for h in found})
        with self.assertRaisesRegex(ep.CalendarError, "unknown country 'Frnce'"):
            holidays.HolidaySet.from_country("Frnce", 2025, 2025)
        with self.assertRaisesRegex(ep.CalendarError, "unknown subdivision of FR"):
            holidays.HolidaySet.from_country("FR", 2025, 2025, subdivision="zz")

    def test_a_missing_package_is_named_with_its_extra(self):
        with (
            mock.patch.dict("sys.modules", {"holidays": None}),
            self.assertRaisesRegex(ep.InputError, r"pip install 'eptaro\[calendars\]'"),
        ):
            holidays.HolidaySet.from_country("FR", 2025, 2025)
        with (
            mock.patch.dict("sys.modules", {"babel": None}),
            self.assertRaisesRegex(ep.InputError, r"package babel.*eptaro\[locales\]"),
        ):
            ep.dimension("2025-01-01", "2025-01-01", locale="de")
