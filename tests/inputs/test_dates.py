"""Dates are read strictly; whatever is not plainly a date is refused with its row."""

import datetime as dt
import random
import re
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import pyarrow as pa
from pyarrow import parquet

import eptaro as ep
from eptaro.core.calendars.days import as_dates
from eptaro.inputs.dates.reading import read_dates

DAY = dt.date(2025, 8, 20)
DOCS = Path(__file__).parents[2] / "docs" / "dates.md"


def book(values, **rules) -> ep.Daybook:
    """Return the book of a column of dates under some rules."""
    frame = {"on": values, "x": list(range(1, len(values) + 1))}
    return ep.Daybook(frame, date="on", measures=["s=sum(x)"], dates=ep.DateRules(**rules))


def coverage(values, **rules) -> str:
    """Return the coverage that Eptaro reads from a column of dates."""
    return str(book(values, **rules).coverage)


class Documented(unittest.TestCase):
    """Every spelling in the docs comes to what they say."""

    def test_each_row_of_the_table(self):
        rows = re.findall(
            r"^\| `(.*?)` \| (?:`(.*?)`)? ?\| (.*) \|$",
            DOCS.read_text().split("| spelling |")[1],
            re.M,
        )
        self.assertGreaterEqual(len(rows), 60)
        for text, given, outcome in rows:
            rules = dict(part.split("=", 1) for part in given.split())
            if "pivot" in rules:
                rules["pivot"] = int(rules["pivot"])
            refused = outcome.removeprefix("refused: ")
            if refused == outcome:
                found = coverage(pa.array([text]), **rules)
                shown = found if ".." in outcome else found[:10]
                self.assertEqual(shown, outcome, (text, given))
                continue
            with self.assertRaises(ep.DateError, msg=(text, given)) as caught:
                coverage(pa.array([text]), **rules)
            self.assertIn(refused, str(caught.exception))


class Worded(unittest.TestCase):
    """Months that are words, in any order, with and without a weekday."""

    def test_every_day_of_some_years_in_every_usual_way(self):
        days = [dt.date(1999, 12, 25) + dt.timedelta(n * 7 + n % 7) for n in range(400)]
        for form in ("%d %B %Y", "%B %d, %Y", "%d-%b-%Y", "%b %d %Y", "%Y-%b-%d", "%a, %d %b %Y 10:00:00 GMT", "%A %B %d %Y"):  # fmt: skip
            texts = pa.chunked_array([[f"{day:{form}}" for day in days]])
            zone = {"zone": "UTC"} if "GMT" in form else {}
            found = read_dates(texts, ep.DateRules(**zone))
            self.assertTrue(found.bad is None or not found.bad.any(), form)
            self.assertEqual(as_dates(found.days).tolist(), days, form)

    def test_a_wrong_weekday_or_word_is_refused(self):
        for text, said in (
            ("Mon, 20 Aug 2025", "another weekday"), ("Xyz, 20 Aug 2025", "is not written as"), ("20 Foo 2025", "another language"),
            ("31 Feb 2025", "does not exist"), ("20 Aug 25", "two digits"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ep.DateError, said):
                book([text, "2025-01-01"])

    def test_a_refusal_names_the_rule_that_reads_it(self):
        cures = (
            ("03/04/2025", {"order": "dmy"}), ("1/1/97", {"order": "mdy", "pivot": 49}), ("25/8/2", {"order": "ymd", "pivot": 49}),
            ("45889", {"serials": "1900"}), ("1755648000", {"unix": "s"}), ("1755648000000", {"unix": "ms"}), ("20 août 2025", {"locale": "fr", "order": "dmy"}),
        )  # fmt: skip
        for text, rules in cures:
            with self.assertRaises(ep.DateError) as caught:
                book([text])
            for rule in rules:
                if (text, rule) != ("20 août 2025", "order"):
                    self.assertIn(f"{rule}=", str(caught.exception), text)
            self.assertEqual(book([text], **rules).rows, 1)


class Typed(unittest.TestCase):
    """Each accepted type means its own day."""

    def test_every_type(self):
        late = dt.datetime(2025, 8, 20, 23, 59, 59)
        forms = [
            [DAY],
            [late],
            [20250820],
            [20250820.0],
            [Decimal(20250820)],
            np.array(["2025-08-20"], "datetime64[D]"),
            np.array([late], "datetime64[ns]"),
            pa.array([DAY], pa.date32()),
            pa.array([DAY], pa.date64()),
            *(pa.array([late], pa.timestamp(unit)) for unit in ("s", "ms", "us", "ns")),
            pa.array(["2025-08-20"], pa.large_string()),
            pa.array(["2025-08-20"]).dictionary_encode(),
        ]
        for form in forms:
            self.assertEqual(coverage(form), "2025-08-20..2025-08-20", form)

    def test_the_days_start_moves_small_hours_in_every_unit(self):
        early = dt.datetime(2025, 8, 21, 3, 59, 59)
        for unit in ("s", "ms", "us", "ns"):
            column = pa.array([early, early + dt.timedelta(seconds=1)], pa.timestamp(unit))
            self.assertEqual(coverage(column, day_starts="04:00"), "2025-08-20..2025-08-21")

    def test_zones_cut_days_in_summer_and_winter(self):
        stamps = [dt.datetime(2025, 1, 1, 23, 30), dt.datetime(2025, 7, 1, 23, 30)]
        column = pa.array(stamps, pa.timestamp("s", "UTC"))
        self.assertEqual(coverage(column, zone="Europe/Lisbon"), "2025-01-01..2025-07-02")
        self.assertEqual(coverage(column), "2025-01-01..2025-07-01")  # of its own zone

    def test_days_before_1970(self):
        self.assertEqual(
            coverage([dt.datetime(1969, 12, 31, 23, 59, 59)]), "1969-12-31..1969-12-31"
        )


class Refused(unittest.TestCase):
    """Bad rows are counted and the first are shown."""

    BAD = (
        (["2025-08-20", "20.08.2025"], "1 of 2 rows.*: row 2: '20.08.2025' is not written as"),
        (["2025-13-01", "x"], "2 of 2 rows.*: row 1: '2025-13-01' does not exist.*; row 2"),
        (["2025-08-20", None], "row 2: blank"),
        ([45889], "is a number, but not yyyymmdd"),
        ([20250820.5], "is a number, but not yyyymmdd"),
        ([DAY, None], "1 of 2 rows.*row 2: blank"),
        ([None, None], "2 of 2 rows"),
        ([dt.time(10)], "holds time64"),
        (pa.array([-(10**14)], pa.timestamp("s")), "row 1.*outside the years 1 to 9999"),
        (["x"] * 9, "9 of 9 rows.*, the first: row 1: 'x' is not written"),
    )

    def test_each_bad_form_says_what_and_where(self):
        for values, message in self.BAD:
            with self.assertRaisesRegex(ep.DateError, message):
                coverage(values)

    def test_rules_that_cannot_be(self):
        bad = (
            ({"order": "dym"}, "did you mean 'dmy'|unknown value for order"),
            ({"pivot": 150}, "two-digit year"),
            ({"day_starts": "24:00"}, "not a time of day"),
            ({"order": "dmy", "unix": "s"}, "contradict"),
            ({"bad_dates": "skip"}, "Accepted: raise, reject"),
            ({"zone": "Mars"}, "not a time zone"),
            ({"formats": "%d.%m"}, "needs a year"),
            ({"formats": "%q"}, "%q is not known"),
            ({"formats": "%Y%Y-%m-%d"}, "twice"),
        )
        for rules, message in bad:
            with self.assertRaisesRegex(ep.DateError, message):
                coverage(["2025-08-20"], **rules)


class Inferred(unittest.TestCase):
    """An order is inferred from the whole column or not at all."""

    def test_on_the_evidence_of_a_value_over_12(self):
        found = book(["03/04/2025", "25/04/2025"], order="infer")
        self.assertEqual(str(found.coverage), "2025-04-03..2025-04-27")
        self.assertIn("'25/04/2025' can only be day first", found.notes[0])
        self.assertEqual(
            coverage(["03/04/2025", "04/25/2025"], order="infer"), "2025-03-04..2025-04-27"
        )

    def test_never_against_evidence_and_never_without(self):
        with self.assertRaisesRegex(
            ep.DateError, "'13/01/2025' can only be day first, '01/13/2025' only month"
        ):
            coverage(["13/01/2025", "01/13/2025"], order="infer")
        with self.assertRaisesRegex(ep.DateError, "'03/04/2025' and '05/06/2025' fit both"):
            coverage(["03/04/2025", "05/06/2025"], order="infer")


class SetAside(unittest.TestCase):
    """Rows without a readable date are rejected only when asked, and never silently."""

    def test_the_rest_goes_on_and_what_is_left_out_is_told(self):
        found = book(["2025-08-20", "soon", None, "2025-08-22"], bad_dates="reject")
        self.assertEqual(found.recap("month")["s"].tolist(), [1 + 4])
        rows = [(r["row"], r["value"], r["reason"][:14]) for r in found.rejected.rows()]
        self.assertEqual(rows, [(2, "soon", "is not written"), (3, "", "blank")])
        self.assertEqual(found._store.facts.folded.left_out, {"x": 2 + 3})
        self.assertIn("left out 2 rows without a date: sum(x) 5", found.recap("month").footer)

    def test_a_sentinel_counts_as_blank_only_when_declared(self):
        values = ["2025-08-20", "1900-01-01"]
        self.assertEqual(coverage(values), "1900-01-01..2025-08-20")
        for column in (values, [dt.date.fromisoformat(v) for v in values], [20250820, 19000101]):
            found = book(column, blanks=["1900-01-01", "19000101"], bad_dates="reject")
            self.assertEqual(
                (str(found.coverage), len(found.rejected)), ("2025-08-20..2025-08-20", 1)
            )

    def test_nothing_left_is_an_error(self):
        with self.assertRaisesRegex(ep.DateError, "no row is left"):
            book(["soon"], bad_dates="reject")


class Zones(unittest.TestCase):
    """After the years that zone files list, their rule goes on, as the standard library has it."""

    def test_moments_to_2400(self):
        rng, begin = random.Random(5), dt.datetime(2030, 1, 1, tzinfo=dt.UTC)
        for zone in (
            "Europe/Lisbon",
            "America/New_York",
            "Australia/Lord_Howe",
            "America/Santiago",
            "Asia/Tokyo",
        ):
            at = [begin + dt.timedelta(minutes=rng.randrange(370 * 365 * 1440)) for _ in range(300)]
            at += [dt.datetime(2040, 3, 25, 0, 59, tzinfo=dt.UTC), dt.datetime(2040, 3, 25, 1, tzinfo=dt.UTC),
                   dt.datetime(2040, 7, 1, 23, 30, tzinfo=dt.UTC)]  # fmt: skip
            column = pa.chunked_array([pa.array(at, pa.timestamp("us", "UTC"))])
            read = read_dates(column, ep.DateRules(zone=zone))
            local = [moment.astimezone(ZoneInfo(zone)) for moment in at]
            self.assertEqual(
                as_dates(read.days).tolist(), [moment.date() for moment in local], zone
            )
            clock = [(m.hour * 60 + m.minute) * 60 + m.second for m in local]
            self.assertEqual((np.asarray(read.times) // 1_000_000_000).tolist(), clock, zone)
            self.assertEqual(
                read.offsets.tolist(), [m.utcoffset() // dt.timedelta(minutes=1) for m in local]
            )
            texts = pa.chunked_array([pa.array([moment.isoformat() for moment in at])])
            again = read_dates(texts, ep.DateRules(zone=zone))
            self.assertEqual(again.days.tolist(), read.days.tolist())

    def test_days_start_as_the_whole_column_says(self):
        early, noon = dt.datetime(2025, 1, 2, 0, 0), dt.datetime(2025, 1, 2, 12, 0)
        rules = ep.DateRules(day_starts="04:00")
        for moments, days in (([early] * 3 + [noon], 2), ([early] * 4, 1)):
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "t.parquet"
                parquet.write_table(pa.table({"on": moments}), path, row_group_size=1)
                book = ep.Daybook.read(path, date="on", measures="n=count()", dates=rules)
            self.assertEqual(book.coverage.days, days)


class Reasons(unittest.TestCase):
    """Refusals give their true reason; nanoseconds are a unit."""

    def refused(self, text, rules):
        with self.assertRaises(ep.DateError) as caught:
            ep.Daybook({"on": [text]}, date="on", measures="n=count()", dates=rules)
        return str(caught.exception)

    def test_two_digit_years(self):
        for rules in (ep.DateRules(formats=["%m/%d/%y"]), ep.DateRules(order="mdy")):
            self.assertIn("'08/20/25' has a year of two digits", self.refused("08/20/25", rules))
        self.assertIn("is not written as", self.refused("today", ep.DateRules(order="mdy")))

    def test_mixed_separators(self):
        for text in ("1/2-2025", "1.2/2025", "1 2.2025"):
            self.assertIn("two different separators", self.refused(text, ep.DateRules(order="dmy")))
        book = ep.Daybook({"on": ["1. 2. 2025", "2 August, 2025"]}, date="on", measures="n=count()",
                          dates=ep.DateRules(order="dmy"))  # fmt: skip
        self.assertEqual(str(book.coverage), "2025-02-01..2025-08-02")

    def test_nanoseconds(self):
        moment = 1_750_000_000_123_456_789
        for values in ([moment], [str(moment)]):
            book = ep.Daybook(
                {"on": values}, date="on", measures="n=count()", dates=ep.DateRules(unix="ns")
            )
            self.assertEqual(str(book.coverage.first), "2025-06-15")
