"""The same rows, held as any kind of Arrow column, give the same answers."""

import datetime as dt
import random
import unittest
from decimal import Decimal

import numpy as np
import pyarrow as pa

import eptaro as ep

RNG = random.Random(5)
UTC = ep.DateRules(zone="UTC")
STAMPS = [
    dt.datetime(2024, 11, 1) + dt.timedelta(minutes=RNG.randrange(150 * 1440), seconds=RNG.randrange(60))
    for _ in range(300)
]  # fmt: skip
SECONDS = [int(stamp.replace(tzinfo=dt.UTC).timestamp()) for stamp in STAMPS]
VALUES = [RNG.randrange(-100, 100) for _ in STAMPS]
GROUPS = [RNG.choice(["a", "b", None]) for _ in STAMPS]
MEASURES = [
    *("s=sum(x)", "m=median(x)", "f=first(x)", "l=last(x)", "d=distinct(x)", "sd=std(x)"),
    "n=count(x)",
]


def answers(at: pa.Array, x: pa.Array, g: pa.Array, rules: ep.DateRules | None = None) -> list:
    """Return the rows of answers that need days, times, groups and values."""
    table = pa.table({"at": at, "x": x, "g": g})
    book = ep.Daybook(table, date="at", by="g", measures=MEASURES, dates=rules)
    tables = [book.recap("month", by="g"), book.rhythm("hour"), book.rhythm("weekday", by="g"),
              book.rhythm("weekday", "hour"), book.recap("hour", by="g"),
              book.accumulate("month", every="entry")]  # fmt: skip
    for asked in tables[:-1]:
        assert book.prove(asked, sample=5)
    tables += [book.spread("x", "hour"), book.histogram("x", "hour", bins=3)]
    return [[*row.values()] for asked in tables for row in asked.rows()]


class Kinds(unittest.TestCase):
    """Every kind against whole microseconds, whole numbers and plain text."""

    AT = pa.array(STAMPS, pa.timestamp("us"))
    X, G = pa.array(VALUES), pa.array(GROUPS)
    EXPECTED = answers(AT, X, G)

    def check(self, name, found):
        self.assertEqual(len(found), len(self.EXPECTED), name)
        for one, two in zip(found, self.EXPECTED, strict=True):
            for a, b in zip(one, two, strict=True):
                if isinstance(a, float | Decimal) and b is not None:
                    self.assertAlmostEqual(float(a), float(b), 9, name)
                else:
                    self.assertEqual(a, b, name)

    def test_hours_are_those_of_the_clock(self):
        book = ep.Daybook({"at": self.AT, "x": VALUES}, date="at", measures="n=count()")
        counts = {row["hour"]: row["n"] for row in book.rhythm("hour").rows()}
        for hour in range(24):
            self.assertEqual(counts[f"{hour:02d}"], sum(s.hour == hour for s in STAMPS))

    def test_a_late_start_of_the_day_moves_days_and_no_hours(self):
        rules = ep.DateRules(day_starts="04:00")
        days = {str((stamp - dt.timedelta(hours=4)).date()) for stamp in STAMPS}
        clock = {f"{hour:02d}": sum(s.hour == hour for s in STAMPS) for hour in range(24)}
        for kind in (*(pa.timestamp(unit) for unit in ("s", "ms", "us", "ns")), pa.string()):
            at = (
                pa.array([stamp.isoformat() for stamp in STAMPS])
                if kind == pa.string()
                else self.AT.cast(kind)
            )
            book = ep.Daybook(
                {"at": at, "x": VALUES},
                date="at",
                measures=["n=count()", "f=first(x)"],
                dates=rules,
            )
            hours = book.rhythm("hour")
            self.assertEqual({row["hour"]: row["n"] for row in hours.rows()}, clock)
            self.assertEqual({r["period"] for r in book.recap("day").rows() if r["n"]}, days)
            self.assertGreater(book.prove(hours), 24)
            added = ep.annotate({"at": at}, date="at", add=["hour"], dates=rules)
            self.assertEqual(added["hour"].to_pylist(), [stamp.hour for stamp in STAMPS])
        for dates in (["2025-01-02"], [dt.date(2025, 1, 2)], [dt.datetime(2025, 1, 2)], [20250102]):
            book = ep.Daybook({"at": dates}, date="at", measures="n=count()", dates=rules)
            self.assertEqual(str(book.coverage), "2025-01-02..2025-01-02")

    def test_times(self):
        text = pa.array([stamp.isoformat() for stamp in STAMPS])
        kinds = {unit: (pa.array(STAMPS, pa.timestamp(unit)), None) for unit in ("s", "ms", "ns")}
        kinds |= {f"{unit} of a zone": (pa.array(STAMPS, pa.timestamp(unit, "UTC")), UTC)
                  for unit in ("s", "ms", "us", "ns")}  # fmt: skip
        kinds |= {str(kind): (text.cast(kind), None)
                  for kind in (pa.string(), pa.large_string(), pa.string_view())}  # fmt: skip
        kinds["dictionary"] = text.dictionary_encode(), None
        kinds["with an offset"] = pa.array([f"{stamp.isoformat()}Z" for stamp in STAMPS]), UTC
        for unit, times in (("s", 1), ("ms", 1000)):
            seconds = pa.array([second * times for second in SECONDS])
            kinds[f"unix {unit}"] = seconds, ep.DateRules(unix=unit, zone="UTC")
        for name, (at, rules) in kinds.items():
            self.check(name, answers(at, self.X, self.G, rules))
            parts = ["hour", "minute", "second"]
            added = ep.annotate(pa.table({"at": at}), date="at", add=parts, dates=rules)
            clock = [(stamp.hour, stamp.minute, stamp.second) for stamp in STAMPS]
            found = zip(*(added[part].to_pylist() for part in parts), strict=True)
            self.assertEqual([*found], clock, name)

    def test_arrays(self):
        for at in (np.array(STAMPS, "datetime64[m]"), np.array(STAMPS, "datetime64[h]")):
            book = ep.Daybook(
                {"at": at, "x": np.array(VALUES, ">i4")}, date="at", measures="s=sum(x)"
            )
            sums = {row["hour"]: row["s"] for row in book.rhythm("hour").rows()}
            for hour in range(24):
                own = (x for s, x in zip(STAMPS, VALUES, strict=True) if s.hour == hour)
                self.assertEqual(sums[f"{hour:02d}"], sum(own))

    def test_values(self):
        decimals = pa.array([Decimal(value) for value in VALUES])
        kinds = [self.X.cast(kind) for kind in (pa.int8(), pa.int16(), pa.float32(), pa.float64())]
        kinds += [decimals.cast(kind) for kind in (pa.decimal128(10, 2), pa.decimal256(40, 2))]
        kinds += [self.X.dictionary_encode(), pa.array(np.array(VALUES, np.float16))]
        for x in kinds:
            self.check(x.type, answers(self.AT, x, self.G))

    def test_groups(self):
        coded = self.G.dictionary_encode()
        kinds = [self.G.cast(pa.large_string()), self.G.cast(pa.string_view()), coded]
        kinds.append(coded.cast(pa.dictionary(pa.int8(), pa.string())))
        kinds.append(coded.cast(pa.dictionary(pa.int32(), pa.large_string())))
        for index in (pa.uint8(), pa.uint32()):  # as some frames number their categories
            kinds += [coded.cast(pa.dictionary(index, pa.string()))]
            kinds += [pa.DictionaryArray.from_arrays(coded.indices.cast(index),
                                                     coded.dictionary.cast(pa.string_view()))]  # fmt: skip
        for g in kinds:
            self.check(g.type, answers(self.AT, self.X, g))
