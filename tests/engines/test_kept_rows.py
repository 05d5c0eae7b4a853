"""A condition over frames: as if Arrow had picked the rows before, whatever the columns are."""

import datetime as dt
import random
import unittest
from decimal import Decimal
from unittest import mock

import numpy as np
import pyarrow as pa

import eptaro as ep
from eptaro.core.results.column import Column
from eptaro.inputs.columns import formulas

KINDS = {
    "of": [pa.int16(), pa.float64(), pa.float32(), pa.decimal128(12, 2), pa.uint64()],
    "on": [pa.date32(), pa.timestamp("ms"), pa.string(), pa.date64()],
    "by": [pa.string(), pa.dictionary(pa.int8(), pa.string()), pa.int8(), pa.bool_(), pa.date32()],
}


class Parts(unittest.TestCase):
    """A formula worked out for some rows at a time, also where its numbers change their kind."""

    def test_parts_of_one_kind_and_of_several(self):
        for kinds in ((0, 0, 0), (0, 2, 2), (2, 2, 0)):
            rows = np.arange(25)

            def work(of, kinds=kinds, rows=rows):
                scale = kinds[min(of.start // 10, 2)]
                valid = rows[of] % 7 > 0 if of.start else None
                kind = "decimal" if scale else "integer"
                return Column.of("", kind, rows[of] * 10**scale, valid, scale=scale)

            with mock.patch.object(formulas, "_EACH", 10):
                found = formulas.in_parts(work, 25).to_list()
            wanted = [n if n < 10 or n % 7 else None for n in range(25)]
            self.assertEqual(found, wanted, kinds)


class Picked(unittest.TestCase):
    """Slices of chunks of random kinds with blanks."""

    def test_the_rows_that_are_left(self):
        rng = random.Random(4)
        for turn in range(60):
            kinds = {name: rng.choice(of) for name, of in KINDS.items()}
            rows = rng.choice((1, 7, 65, 200))
            table = self.table(rng, kinds, rows)
            kept = [x is not None and x > 2 for x in table["x"].to_pylist()]
            if not any(kept):
                continue
            asked = {
                "date": "on",
                "by": ["by"],
                "measures": [
                    "s=sum(of)",
                    "n=count(of)",
                    "rows=count()",
                    "latest=last(of)",
                    "d=distinct(by)",
                ],
            }
            with self.subTest(turn=turn, kinds=kinds):
                found = ep.Daybook(table, where="x > 2", coverage="2024-01-01..2024-12-31", **asked)
                wanted = ep.Daybook(
                    table.filter(pa.array(kept)), coverage="2024-01-01..2024-12-31", **asked
                )
                for by in (None, "by"):
                    answers = (book.recap("month", by=by).rows() for book in (found, wanted))
                    self.assertEqual(*map(repr, map(list, answers)))
                known = [n + 1 for n, keep in enumerate(kept) if keep]
                left = [row["row"] for row in found.accumulate("month", every="entry").rows()]
                self.assertEqual(left, known)

    def table(self, rng, kinds, rows):
        """Return a random table whose chunks begin somewhere in their buffers."""
        columns = {}
        for name, kind in (*kinds.items(), ("x", pa.int32())):
            chunks, left = [], rows
            while left:
                size = rng.randint(1, left)
                values = [self.value(rng, name, kind) for _ in range(size + 3)]
                chunks.append(pa.array(values, kind).slice(rng.choice((1, 2)), size))
                left -= size
            columns[name] = pa.chunked_array(chunks, kind)
        return pa.table(columns)

    def value(self, rng, name, kind):
        if name == "on":
            day = dt.date(2024, 1, 1) + dt.timedelta(rng.randrange(366))
            if pa.types.is_timestamp(kind):
                return dt.datetime(day.year, day.month, day.day, rng.randrange(24))
            return str(day) if kind == pa.string() else day
        if rng.random() < 0.2:
            return None
        match name:
            case "x":
                return rng.randint(0, 5)
            case "of":
                number = rng.randint(0, 900)
                return Decimal(number) if pa.types.is_decimal(kind) else number
        if pa.types.is_date(kind):
            return dt.date(2024, 1, rng.randint(1, 3))
        if pa.types.is_integer(kind):
            return rng.randint(0, 3)
        return rng.random() < 0.5 if kind == pa.bool_() else rng.choice(["Norrow", "Fenholm"])
