"""Dates whose times of day are in a column of their own."""

import datetime as dt
import random
import sqlite3
import tempfile
import unittest
from collections import defaultdict
from pathlib import Path

import pyarrow as pa

import eptaro as ep
from tests.commands import run_in

MIDNIGHT = dt.datetime(2025, 1, 1)
WRITTEN = {
    "24 hours": lambda t: f"{t:%H:%M:%S}",
    "minutes": lambda t: f"{t.hour}:{t:%M}",
    "a.m.": lambda t: f"{(t.hour + 11) % 12 + 1}:{t:%M} {'ap'[t.hour > 11]}.m.",
    "AM": lambda t: f"{(t.hour + 11) % 12 + 1:02d}:{t:%M:%S}{'AP'[t.hour > 11]}M",
    "fractions": lambda t: f"{t:%H:%M:%S}.250",
    "typed": lambda t: t.time(),
}
NUMBERS = {
    "hours": lambda t: t.hour + t.minute / 60,
    "minutes": lambda t: t.hour * 60 + t.minute,
    "seconds": lambda t: t.hour * 3600 + t.minute * 60 + t.second,
    "hhmm": lambda t: t.hour * 100 + t.minute,
}


class TimesOfDay(unittest.TestCase):
    """`time=` in every form that times are written in, against plain `datetime`."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_every_form_gives_hours_order_and_days(self):
        rng, seen = random.Random(3), 0
        forms = [*((name, how, None) for name, how in WRITTEN.items()),
                 *((f"numbers of {name}", how, name) for name, how in NUMBERS.items())]  # fmt: skip
        for name, how, unit in forms:
            for starts in ("00:00", "04:30"):
                moments = [
                    MIDNIGHT + dt.timedelta(seconds=60 * rng.randrange(4 * 24 * 60))
                    for _ in range(60)
                ]
                columns = {
                    "day": [f"{m:%Y-%m-%d}" for m in moments],
                    "clock": [how(m) for m in moments],
                    "x": [*range(60)],
                }
                asked = {
                    "date": "day", "dates": ep.DateRules(time="clock", time_in=unit, day_starts=starts),
                    "measures": ["n=sum(x)", "a=first(x)", "z=last(x)", "late=count(where hour(day) >= 18)"],
                }  # fmt: skip
                ways = [ep.Daybook(columns, **asked)]
                if name != "typed":
                    path = self.folder / "rows.csv"
                    lines = [",".join(map(str, row)) for row in zip(*columns.values(), strict=True)]
                    path.write_text("\n".join(["day,clock,x", *lines]))
                    ways.append(ep.Daybook.read(path, **asked))
                late = dt.timedelta(hours=int(starts[:2]), minutes=int(starts[3:]))
                days = defaultdict(list)
                for x, moment in enumerate(moments):
                    days[(moment - late).date()].append((moment, x))
                for book in ways:
                    with self.subTest(form=name, starts=starts, source=book.source):
                        for row in book.recap("day").rows():
                            inside = sorted(days.get(row["first"], []))
                            self.assertEqual(row["n"], sum(x for _, x in inside))
                            if inside:
                                self.assertEqual(
                                    (row["a"], row["z"]), (inside[0][1], inside[-1][1])
                                )
                            self.assertEqual(row["late"], sum(m.hour >= 18 for m, _ in inside))
                            seen += 1
                        for row in book.rhythm("hour").rows():
                            hit = [x for x, m in enumerate(moments) if m.hour == int(row["hour"])]
                            self.assertEqual(row["n"], sum(hit))
                        self.assertGreater(book.prove(book.recap("day")), 3)
        self.assertGreater(seen, 60)

    def test_an_hour_of_any_column_of_times(self):
        columns = {"on": ["2025-01-01"] * 4, "seen": ["5:00 a.m.", "17:30", "", "23:59:59"],
                   "typed": [dt.time(9), None, dt.time(18, 5), dt.time(0)], "x": [1, 2, 4, 8]}  # fmt: skip
        measures = ["a=sum(x where hour(seen) > 12)", "b=sum(x where hour(typed) < 10)",
                    "c=sum(x where seen is blank)"]  # fmt: skip
        row = next(iter(ep.Daybook(columns, date="on", measures=measures).recap("day").rows()))
        self.assertEqual((row["a"], row["b"], row["c"]), (10, 9, 4))

    def test_calculated_dates_have_times_too(self):
        columns = {"y": [2025, 2025], "m": [3, 3], "d": [9, 9], "hour": [22, 3], "x": [1, 2]}
        book = ep.Daybook(
            columns, date="date(y, m, d)", measures="z=last(x)", dates=ep.DateRules(time="hour")
        )
        self.assertEqual(book.recap("day")["z"].tolist(), [1])

    def test_the_end_of_a_day_and_blank_times(self):
        columns = {"on": ["2025-01-01"] * 3, "t": ["24:00", None, "23:59"], "x": [1, 2, 4]}
        book = ep.Daybook(columns, date="on", measures=["z=last(x)", "a=first(x)", "n=count()"], dates=ep.DateRules(time="t"))  # fmt: skip
        (row,) = book.recap("day").rows()
        self.assertEqual((row["z"], row["a"]), (1, 2))
        self.assertIn("1 row without a time of day", " ".join(book.notes))
        hours = {row["hour"]: row["n"] for row in book.rhythm("hour").rows()}
        self.assertEqual((hours["23"], hours["00"], sum(hours.values())), (2, 0, 2))
        late = ep.Daybook(columns, date="on", measures=["h=count(where hour(on) < 1)", "b=count(where hour(on) is blank)"], dates=ep.DateRules(time="t"))  # fmt: skip
        (row,) = late.recap("day").rows()
        self.assertEqual((row["h"], row["b"]), (0, 1))
        self.assertGreater(late.prove(late.recap("day")), 1)
        added = pa.table(
            ep.annotate(columns, add=["hour"], date="on", dates=ep.DateRules(time="t"))
        )
        self.assertEqual(added["hour"].to_pylist(), [23, None, 23])

    def test_what_cannot_be_read_is_an_error_or_rejected(self):
        columns = {"on": ["2025-01-01", "2025-01-02"], "t": ["25:10", "11:00"], "x": [1, 2]}
        wrong = "row 1: '2025-01-01' has the time '25:10' in 't', which is none"
        with self.assertRaisesRegex(ep.DateError, wrong):
            ep.Daybook(columns, date="on", measures="s=sum(x)", dates=ep.DateRules(time="t"))
        rules = ep.DateRules(time="t", bad_dates="reject")
        book = ep.Daybook(columns, date="on", measures="s=sum(x)", dates=rules)
        self.assertEqual((book.recap("day")["s"].tolist(), len(book.rejected)), ([2], 1))
        for more, said in (
            ({"t": [517, 1330]}, "'t' holds 517, and a day has 24 hours; say .* time_in='hhmm'"),
            ({"t": [True, False]}, "holds bool, not times"),
            ({"u": ["1:00", "2:00"]}, "unknown column 't'"),
            ({"on": ["2025-01-01 05:00", "2025-01-02 06:00"]}, "holds times itself"),
            ({"on": ["2025-01", "2025-02"]}, "dated by the month"),
        ):
            table = {**columns, "t": ["1:00", "2:00"], **more}
            if "u" in more:
                del table["t"]
            with self.subTest(said=said), self.assertRaisesRegex(ep.EptaroError, said):
                ep.Daybook(table, date="on", measures="s=sum(x)", dates=ep.DateRules(time="t"))
        path = self.folder / "rows.db"
        with sqlite3.connect(path) as base:
            base.execute("create table r (d date, t text, x integer)")
            base.execute("insert into r values ('2025-01-01', '1:00', 2)")
        with self.assertRaisesRegex(
            ep.DateError, "not read in a database; fold it with Daybook.read"
        ):
            ep.Daybook.from_sql(
                f"sqlite:///{path}",
                "r",
                date="d",
                measures="s=sum(x)",
                dates=ep.DateRules(time="t"),
            )

    def test_rows_are_annotated_and_inspected(self):
        columns = {"on": ["2025-01-01"] * 2, "t": ["1:30 pm", "2:05"]}
        rules = ep.DateRules(time="t")
        found = pa.table(ep.annotate(columns, add=["hour"], date="on", dates=rules))
        self.assertEqual(found["hour"].to_pylist(), [13, 2])
        rows = [*ep.inspect(columns, date="on").rows()]
        (one,) = [row for row in rows if row["subject"] == "times of day"]
        self.assertEqual((one["value"], one["detail"]), ("t", "time='t' reads them with the dates"))
        rows = [*ep.inspect({**columns, "t": ["1:30 pm", "31:00"]}, date="on", dates=rules).rows()]
        words = {row["subject"]: (row["value"], row["count"]) for row in rows}
        self.assertEqual(words["times of day"], ("t", 1))
        self.assertEqual(words["unreadable time"][0], "'31:00'")

    def test_the_command_line_takes_it(self):
        path = self.folder / "rows.csv"
        path.write_text("on,t,x\n2025-01-01,730,1\n2025-01-01,1915,2\n")
        command = ["rhythm", str(path), "--date", "on", "--time", "t",
                   "--time-in", "hhmm", "--per", "hour", "--measure", "s=sum(x)", "--format", "csv"]  # fmt: skip
        ran = run_in(self.folder, *command)
        lines = [line.split(",") for line in ran.stdout.splitlines()]
        self.assertEqual([line[0] for line in lines[1:] if line[2] != "0"], ["07", "19"])


if __name__ == "__main__":
    unittest.main()
