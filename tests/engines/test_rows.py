"""inspect finds what is in the dates; annotate adds what the dimension knows."""

import datetime as dt
import json
import shlex
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import pyarrow as pa
from pyarrow import parquet

import eptaro as ep
from eptaro.demo.files import copy_shipped

FISCAL = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")


def found(table: ep.Table) -> dict:
    """Return the findings over all rows, the last of each subject."""
    return {row["subject"]: row for row in table.rows() if not row["group"]}


class Inspect(unittest.TestCase):
    """What is told of a column of dates."""

    def test_the_flawed_demo_file(self):
        with tempfile.TemporaryDirectory() as folder:
            copy_shipped(Path(folder))
            told = found(
                ep.inspect(Path(folder) / "consignments.csv", date="shipped", by="shipper")
            )
        self.assertEqual((told["rows"]["count"], told["readable dates"]["count"]), (3200, 3192))
        self.assertEqual((told["blank dates"]["count"], told["unreadable dates"]["count"]), (4, 4))
        self.assertEqual(told["order of dates"]["value"], "dmy")
        self.assertIn("3 only month first", told["order of dates"]["detail"])
        self.assertEqual(told["suggestion"]["detail"],
                         "next time use --date shipped --order dmy --bad-dates reject")  # fmt: skip

    def test_gaps_duplicates_keys_and_weekdays(self):
        frame = {"on": ["2025-01-01", "2025-01-01", "2025-01-04", "2025-04-01", "2025-04-01"],
                 "g": ["a", "a", "b", "b", "b"], "id": [1, 1, 2, 3, 3]}  # fmt: skip
        table = ep.inspect(frame, date="on", by="g", keys=["id"])
        told = found(table)
        self.assertEqual(
            told["days without rows"]["count"], (dt.date(2025, 4, 1) - dt.date(2025, 1, 1)).days - 2
        )
        self.assertEqual(told["days without rows"]["detail"], "longest 2025-01-05..2025-03-31")
        self.assertEqual(told["months without rows"]["value"], "2025-02, 2025-03")
        self.assertEqual(told["duplicate rows"]["count"], 2)
        self.assertEqual(told["duplicate keys"]["detail"], "first in rows 1 and 2")
        groups = {(r["subject"], r["group"]): r for r in table.rows()}
        self.assertEqual(groups["dates", "b"]["value"], "2025-01-04..2025-04-01")
        days = {r["value"]: r["count"] for r in table.rows() if r["subject"] == "weekday"}
        self.assertEqual((days["Wednesday"], days["Saturday"], days["Tuesday"]), (2, 1, 2))

    def test_a_word_and_a_number_is_a_label_and_an_amount_has_a_unit(self):
        frame = {"on": ["2025-01-06", "2025-01-07", "2025-01-08"], "berth": ["Berth 4", "Berth 12", "berth-4"],
                 "route": ["route 07", "route 08", "route 07"], "fare": ["CLP 500", "CLP 40", "CLP 1"],
                 "load": ["5 kg", "12 kg", "7 kg"]}  # fmt: skip
        columns = {
            r["value"]: r["detail"] for r in ep.inspect(frame).rows() if r["subject"] == "column"
        }
        for name, kind in (
            ("berth", "3 distinct"),
            ("route", "2 distinct"),
            ("fare", "without 'CLP'"),
            ("load", "without 'kg'"),
        ):
            self.assertIn(kind, columns[name])

    def test_sentinels_and_implausible_dates(self):
        frame = {"on": [dt.date(1900, 1, 1)] * 9 + [dt.date(2025, 1, 1), dt.date(1066, 1, 1)]}
        told = found(ep.inspect(frame))
        self.assertEqual(told["date column"]["value"], "on")
        self.assertEqual(
            (told["perhaps no date"]["value"], told["perhaps no date"]["count"]), ("1900-01-01", 9)
        )
        self.assertEqual(told["implausible dates"]["count"], 1)

    def test_an_undecided_order_is_told_not_guessed(self):
        told = found(ep.inspect({"on": ["03/04/2025", "05/06/2025"]}, date="on"))
        self.assertEqual(told["order of dates"]["value"], "undecided")
        self.assertIn("--order dmy|mdy", told["suggestion"]["detail"])

    def test_which_column_can_be_dates(self):
        self.assertEqual(
            found(ep.inspect({"a": ["x"], "b": ["2025-01-01"]}))["date column"]["value"], "b"
        )
        for frame, told in (
            (
                {"a": ["x"]},
                "name it with --date, and the rules, such as --order dmy or --date-format",
            ),
            ({"a": ["2025-01-01"], "b": [dt.date(2025, 1, 1)]}, "a, b could all be dates"),
        ):
            self.assertIn(told, found(ep.inspect(frame))["date column"]["detail"])
            with self.assertRaises(ep.InputError):
                ep.Daybook(frame, measures="n=count()")

    def test_decimal_years_are_proposed_as_months_quarters_and_years(self):
        def look(values: list[float]) -> str:
            texts = [f"{value:.11f}".rstrip("0").rstrip(".") for value in values]
            rows = ep.inspect({"time": texts, "n": range(len(texts))}).rows()
            return next(str(row["detail"]) for row in rows if row["value"] == "time")

        for twelfths, grain in ((1, "months"), (3, "quarters"), (12, "years")):
            values = [1949 + twelfths * place / 12 for place in range(20)]
            self.assertIn(f"dates: {grain}", look(values))
            rules = ep.DateRules(grain=grain[:-1])
            book = ep.Daybook({"time": values}, date="time", dates=rules, measures="n=count()")
            self.assertEqual(book.recap(grain[:-1])["n"].tolist(), [1] * 20)
        for values in (
            [1947 + month / 100 for month in range(1, 13)],
            [1810.0, 1650.0, 1900.0],
            [1500.3, 1600.4],
        ):
            self.assertNotRegex(look(values), "dates|years|months")

    def test_parts_of_dates_are_used_where_no_column_has_them_whole(self):
        parts = {"year": [1854, 1854], "month": [4, 5], "n": [7, 5]}
        whole = {"on": ["1854-04-01", "1854-05-01"]}
        told = found(ep.inspect(parts))
        self.assertEqual(told["date column"]["value"], "date(year, month, 1)")
        self.assertEqual(found(ep.inspect(whole | parts))["date column"]["value"], "on")
        without = {"Month": [4, 5], "Day": [1, 9], "n": [7, 5]}
        self.assertIn("date(YEAR, Month, Day)", found(ep.inspect(without))["date column"]["detail"])

    def test_a_sample_is_named_as_one(self):
        for rows, sampled in ((50_001, [50_000]), (50_000, [])):
            found = ep.inspect({"on": ["2025-01-01"] * rows, "x": range(rows)}).rows()
            self.assertEqual([r["count"] for r in found if r["subject"] == "sample"], sampled)

    def test_times_of_day_and_numbers_that_nothing_decides(self):
        rows = [*ep.inspect({"on": ["01/13/2025"] * 12, "Time": ["07:00 AM", "11:30 PM"] * 6,
                             "sales": ["$7,871", "$9,000"] * 6}).rows()]  # fmt: skip
        told = {row["value"]: row["detail"] for row in rows if row["subject"] == "column"}
        self.assertEqual(told["Time"], "times of day")
        self.assertRegex(told["sales"], r"^numbers, which could be read in two ways: '\$7,871' is")

    def test_every_column_is_told_and_a_command_that_works(self):
        path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "a b.csv"
        path.write_text('on,route,fare,ship_id\n2025-01-05,a,"$1,000.00",7\n2025-02-05,a,$2.50,8\n'
                        '2025-02-06,b,,9\n')  # fmt: skip
        rows = [*ep.inspect(path).rows()]
        told = {row["value"]: row["detail"] for row in rows if row["subject"] == "column"}
        self.assertEqual([*told], ["on", "route", "fare", "ship_id"])
        self.assertRegex(told["fare"], r"^numbers to add up \(thousands.*'\$'.*1 blank")
        self.assertIn("2 distinct values", told["route"])
        self.assertIn("identifier (by its name)", told["ship_id"])
        self.assertEqual(rows[-1]["subject"], "next")
        words = shlex.split(rows[-1]["detail"])
        self.assertEqual(words[:3], ["eptaro", "recap", str(path)])
        done = subprocess.run([sys.executable, "-m", *words, "--format", "json"],
                              capture_output=True, text=True, check=False)  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(sum(row["total_fare"] or 0 for row in json.loads(done.stdout)), 1002.5)
        for text, said in (("13.02.2025", "read with order=dmy"),
                           ("03/04/2025", "order='dmy' or order='mdy'")):  # fmt: skip
            first = next(iter(ep.inspect({"d": [text]}).rows()))
            self.assertIn(said, first["detail"])


class Annotate(unittest.TestCase):
    """Rows keep what they have and gain what is asked."""

    def test_attributes_equal_the_dimension(self):
        days = [dt.date(2025, 3, 31), dt.date(2024, 2, 29), dt.date(2025, 4, 1)]
        names = [
            "fiscal_quarter_label",
            "day_name",
            "is_workday",
            "fiscal_day_of_year",
            "same_day_last_year",
        ]
        rows = ep.annotate(
            {"on": days, "x": [1, 2, 3]}, date="on", add=names, calendars=FISCAL
        ).to_pylist()
        self.assertEqual([row["x"] for row in rows], [1, 2, 3])
        for row in rows:
            (known,) = ep.dimension(row["on"], row["on"], calendars=FISCAL, columns=names).rows()
            self.assertEqual({name: row[name] for name in names}, known)

    def test_parts_of_the_time_and_the_periods_that_hold_it(self):
        names = ["hour", "minute", "second", "fraction", "hour_first_moment", "minute_last_moment",
                 "decade_first", "century_last"]  # fmt: skip
        for unit in ("ms", "us", "ns"):
            at = dt.datetime(2025, 8, 20, 9, 5, 7, 250_000)
            (row,) = ep.annotate(
                {"at": pa.array([at], pa.timestamp(unit))}, date="at", add=names
            ).to_pylist()
            self.assertEqual([row[n] for n in names[:4]], [9, 5, 7, 250_000])
            self.assertEqual(row["hour_first_moment"], dt.datetime(2025, 8, 20, 9))
            self.assertEqual(row["minute_last_moment"], dt.datetime(2025, 8, 20, 9, 5, 59, 999_999))
            self.assertEqual(
                (row["decade_first"], row["century_last"]),
                (dt.date(2020, 1, 1), dt.date(2100, 12, 31)),
            )

    def test_offsets_go_by_the_zone(self):
        names = ["utc_offset_minutes", "utc_offset_text", "hour"]
        rules = ep.DateRules(zone="Asia/Kolkata")
        stamp = dt.datetime(2025, 1, 1, 12)
        for column in (["2025-01-01T12:00Z"], pa.array([stamp], pa.timestamp("s", "UTC"))):
            (row,) = ep.annotate({"at": column}, date="at", add=names, dates=rules).to_pylist()
            self.assertEqual([row[n] for n in names], [330, "+05:30", 17])
        with self.assertRaisesRegex(ep.QuestionError, "carry no UTC offset"):
            ep.annotate({"at": ["2025-01-01"]}, date="at", add=names)

    def test_files_stream_to_files(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "t.csv")
            path.write_text('id,on\n007,2025-08-20\n"a,b",\n')
            rules = ep.DateRules(bad_dates="reject")
            for ending in ("csv", "parquet", "arrow"):
                out = ep.annotate(
                    path, add=["day_name"], date="on", dates=rules, out=Path(folder, f"o.{ending}")
                )
                self.assertTrue(out.exists())
            self.assertEqual(Path(folder, "o.csv").read_text(),
                             'id,on,day_name\n"007","2025-08-20","Wednesday"\n"a,b",,\n')  # fmt: skip
            rows = parquet.read_table(Path(folder, "o.parquet")).to_pylist()
            self.assertEqual(rows[0], {"id": "007", "on": "2025-08-20", "day_name": "Wednesday"})
            self.assertIsNone(rows[1]["day_name"])

    def test_books_have_no_rows_to_read(self):
        with tempfile.TemporaryDirectory() as folder:
            book = ep.Daybook({"on": ["2025-08-20"], "x": [1]}, date="on", measures="s=sum(x)")
            for name in ("b.parquet", "b/"):
                kept = book.write(f"{folder}/{name}")
                for read in (
                    lambda kept=kept: ep.annotate(kept, add="hour"),
                    lambda kept=kept: ep.inspect(kept),
                    lambda kept=kept: ep.Daybook.read(kept, date="day", measures="n=count()"),
                ):
                    with self.assertRaisesRegex(ep.InputError, "belongs to a book"):
                        read()

    def test_conditions_beside_rules_for_numbers(self):
        rows = {"on": ["2025-08-20", "2025-08-21"], "x": ["5-", "7"]}
        rules = ep.NumberRules(trailing_minus=True)
        some = ep.annotate(rows, date="on", add="day_name", where="x < 0", numbers=rules)
        self.assertEqual(some["day_name"].to_pylist(), ["Wednesday"])

    def test_what_cannot_be_added(self):
        bad = (
            ({"add": ["dayname"]}, ep.QuestionError, "did you mean 'day_name'"),
            ({"add": ["weekday"]}, ep.QuestionError, "did you mean 'day_name'"),
            ({"add": ["year"]}, ep.QuestionError, "did you mean 'calendar_year_label'"),
            ({"add": ["x"]}, ep.QuestionError, "unknown attribute"),
            ({"add": ["hour"], "out": "x.xlsx"}, ep.InputError, "unknown file ending"),
            ({"add": ["hour"], "date": "at"}, ep.InputError, "unknown column 'at'"),
        )
        for options, kind, message in bad:
            with self.assertRaisesRegex(kind, message):
                ep.annotate({"on": ["2025-08-20"], "hours": [1]}, **{"date": "on", **options})
        with self.assertRaisesRegex(ep.DateError, "row 2 of 'on': 'soon' is not written"):
            ep.annotate({"on": ["2025-08-20", "soon"]}, date="on", add=["hour"])
        with self.assertRaisesRegex(ep.QuestionError, "has a column 'hour' already"):
            ep.annotate({"on": ["2025-08-20"], "hour": [1]}, date="on", add=["hour"])


class Codes(unittest.TestCase):
    """Codes that tell things apart are no amounts."""

    def test_padded_codes_are_keys(self):
        table = {
            "on": ["2025-01-01", "2025-01-02"],
            "who": ["C0958", "C1200"],
            "zone": ["01234", "90210"],
            "paid": ["C10", "C200"],
        }
        found = {
            row["value"]: row["detail"]
            for row in ep.inspect(table).rows()
            if row["subject"] == "column"
        }
        for name in ("who", "zone"):
            self.assertTrue(found[name].startswith("identifier (codes such as"), found)
        self.assertTrue(found["paid"].startswith("numbers to add up"), found)
