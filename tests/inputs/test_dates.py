"""Dates are read strictly; whatever is not plainly a date is refused with its row."""

import datetime as dt
import unittest

import numpy as np
import pyarrow as pa

import eptaro as ep

DAY = dt.date(2025, 8, 20)


def coverage(values) -> str:
    """Return the coverage that Eptaro reads from a column of dates."""
    return str(ep.Daybook({"on": values}, date="on", measures="n=count()").coverage)


class Accepted(unittest.TestCase):
    """Each accepted form means its own day."""

    def test_every_type(self):
        late = dt.datetime(2025, 8, 20, 23, 59, 59)
        forms = [
            ["2025-08-20"],
            ["2025-08-20T23:59"],
            ["2025-08-20 23:59:59.123"],
            [DAY],
            [late],
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

    def test_days_before_1970_and_the_first_and_last_of_all(self):
        before = dt.datetime(1969, 12, 31, 23, 59, 59)
        self.assertEqual(coverage([before]), "1969-12-31..1969-12-31")
        for text in ("0001-01-01", "9999-12-31"):
            self.assertEqual(coverage([text]), f"{text}..{text}")


class Refused(unittest.TestCase):
    """What is no ISO date is refused, naming the first bad row and why."""

    BAD = (
        (["2025-08-20", "20.08.2025"], "1 of 2 rows.*row 2: '20.08.2025' is not written as"),
        (["2025-02-30"], "row 1: '2025-02-30' does not exist in the calendar"),
        (["2025-13-01", "x"], "2 of 2 rows.*row 1: '2025-13-01' does not exist"),
        (["2025-08-20", None], "row 2: blank"),
        (["2025-08-20", " "], "row 2: blank"),
        (["2025-08-20T10:00+02:00"], "row 1.*is not written"),
        (["2025-8-2"], "is not written"),
        ([20250820], "holds numbers .row 1: 20250820., not dates"),
        ([45889.0], "holds numbers"),
        ([DAY, None], "1 of 2 rows have no date in 'on'; the first is row 2"),
        ([dt.time(10)], "holds time64"),
        (pa.array([1], pa.timestamp("s", "UTC")), "time zone .UTC., whose day depends"),
        (pa.array([-10**14], pa.timestamp("s")), "row 1.*outside the years 1 to 9999"),
    )  # fmt: skip

    def test_each_bad_form_says_what_and_where(self):
        for values, message in self.BAD:
            with self.assertRaisesRegex(ep.DateError, message):
                coverage(values)
