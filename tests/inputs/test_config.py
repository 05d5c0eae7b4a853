"""`eptaro.toml` is checked strictly, and its schema is shipped."""

import json
import tempfile
import unittest
from pathlib import Path

import eptaro as ep
from eptaro.inputs import schema
from eptaro.inputs.config import read_config

DEMO = Path(ep.__file__).parent / "demo" / "data" / "eptaro.toml"


class Meaning(unittest.TestCase):
    """What a config says holds."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def config(self, text: str):
        path = self.folder / "eptaro.toml"
        path.write_text(text)
        return read_config(path)

    def test_the_demos_config(self):
        config = ep.read_config(DEMO)
        self.assertEqual(list(config.calendars), ["calendar", "fiscal", "cafe", "freight"])
        self.assertEqual(config.calendar("cafe"), ep.WeekCalendar("cafe"))
        work = config.workdays(2025, 2025)
        names = [h.name for h in work.holidays.between(ep.Span("2025-01-01", "2025-12-31"))]
        self.assertEqual(names, ["New Year's Day", "Good Friday", "Easter Monday", "Net Blessing",
                                 "Landfall Day", "Founders' Day", "Midwinter Day"])  # fmt: skip
        self.assertEqual(work.count(ep.Span("2025-10-27", "2025-10-31")), 5)  # the Day is worked

    def test_a_listed_calendar_and_holiday_files_are_found_beside_it(self):
        (self.folder / "p.csv").write_text("year,month,first,last\n2025,1,2025-01-01,2025-02-03\n")
        (self.folder / "h.csv").write_text("date,name\n2025-01-02,Rest\n")
        config = self.config(
            '[calendars.site]\nkind = "listed"\nfile = "p.csv"\n'
            '[holidays.h]\nfiles = ["h.csv"]\ncountry = "FR"\n[workdays]\nholidays = "h"\nweekend = []\n'
        )
        self.assertEqual(config.calendar("site").period("2025-M01").days, 34)
        self.assertEqual(config.workdays(2025, 2025).count(ep.Span("2025-01-01", "2025-01-05")), 3)

    def test_the_shipped_schema_is_current(self):
        shipped, made = (json.loads(t) for t in (schema.SCHEMA.read_text(), schema.schema_text()))
        for one, two in (
            (shipped, made),
            *zip(shipped["$defs"].values(), made["$defs"].values(), strict=True),
        ):
            self.assertEqual(one["properties"].keys(), two["properties"].keys())

    def test_each_mistake_gives_the_key_and_what_is_accepted(self):
        bad = (
            ("locale = 3", "locale: input should be a valid string, not 3"),
            (
                '[data]\nfiles = "a.csv"\ndate = "on"\n[data.measures]\nn = "count()"',
                r'data.files: must be a list; write files = \["a.csv"\]',
            ),
            (
                '[data]\nfiles = ["a.csv"]\ndate = "on"\nmeasures = ["count()"]',
                r"data.measures: must be a table; write \[data.measures\], and below it lines of",
            ),
            ('[calendar.x]\nkind = "month"', "unknown key 'calendar': did you mean 'calendars'"),
            (
                '[calendars.x]\nkind = "moon"',
                "calendars.x: unknown kind 'moon'.*month, week, listed",
            ),
            (
                '[calendars.x]\nyear_starts = "04-01"',
                "calendars.x: kind is missing: month, week or listed",
            ),
            ('[calendars.x]\nkind = "month"\nyear_start = "04-01"', "did you mean 'year_starts'"),
            ('[calendars.x]\nkind = "month"\nyear_starts = "04-31"', "calendars.x: .*day 1 to 28"),
            ('[calendars.x]\nkind = "week"\npattern = "4-4-4"', "calendars.x: .*48 weeks"),
            (
                '[calendars.x]\nkind = "week"\nends = "close"',
                "ends: input should be 'nearest' or 'last'",
            ),
            ('[calendars.x]\nkind = "listed"\nfile = "no.csv"', "no.csv: cannot be read"),
            ('[holidays.x]\nrules = [{name = "a", when = "01-01"}]', "unknown key|field required"),
            ('[workdays]\nholidays = "isle"\n[holidays.isles]', "did you mean 'isles'"),
            ('[workdays]\nweekend = ["sun"]', "weekend.0: input should be 'monday'"),
            ('[data]\nfiles = ["a.csv"]', "data.measures: field required"),
            ("x = [", "is not a TOML file"),
        )
        for text, message in bad:
            with self.assertRaisesRegex(ep.EptaroError, message):
                self.config(text)
        with self.assertRaisesRegex(ep.InputError, "No such file"):
            read_config("nowhere.toml")
        with self.assertRaisesRegex(ep.CalendarError, "did you mean 'fiscal'"):
            read_config(DEMO).calendar("fiscl")
