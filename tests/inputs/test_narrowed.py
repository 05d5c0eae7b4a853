"""A condition beside `inspect`, `annotate` and `trail_values`: as if the rows left were all."""

import tempfile
import unittest
from decimal import Decimal
from pathlib import Path

import pyarrow as pa

import eptaro as ep

ROWS = {
    "on": ["05/01/2025", "13/01/2025", "14/02/2025", "20/02/2025", "21/03/2025"],
    "route": ["Norrow", "Fenholm", "Norrow", None, "Norrow"],
    "fare": ["7.50", "100000000000.25", "12.00", "3.00", ""],
    "km": [1, 2, 4, 5, 6],
}
DATES = ep.DateRules(order="dmy")


class Conditions(unittest.TestCase):
    """Frames and files, each against the same rows picked beforehand."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.file = self.folder / "rows.csv"
        lines = [
            ",".join(ROWS),
            *(",".join(map(str, row)) for row in zip(*ROWS.values(), strict=True)),
        ]
        self.file.write_text("\n".join(lines).replace("None", "") + "\n")

    def test_inspect_counts_what_is_left(self):
        for source in (ROWS, self.file):
            for where, rows in (
                ("route = 'Norrow'", 3),
                ("on >= '2025-02-14'", 3),
                ("not km = 2", 4),
            ):
                found = ep.inspect(source, date="on", where=where, dates=DATES)
                counts = {row["subject"]: row["count"] for row in found.rows()}
                self.assertEqual(counts["rows"], rows)
                self.assertEqual(counts["left out by the condition"], 5 - rows)

    def test_the_order_of_dates_is_told_by_all_rows(self):
        found = ep.inspect(self.file, date="on", where="on < '2025-01-10'")
        value = {row["subject"]: row["value"] for row in found.rows()}
        self.assertEqual(value["first date"], "2025-01-05")

    def test_annotate_keeps_the_rows_that_meet_it(self):
        whole = ep.annotate(self.file, date="on", add=["day_name"], dates=DATES)
        some = ep.annotate(
            self.file, date="on", add=["day_name"], dates=DATES, where="fare > 5 or fare is blank"
        )
        self.assertEqual(some, whole.take(pa.array([0, 1, 2, 4])))

    def test_trail_values_of_the_rows_that_meet_it(self):
        asked = {"along": "km", "back": 3, "measures": "n=count()", "by": "route"}
        found = ep.trail_values(ROWS, where="route is not blank and km != 4", **asked)
        kept = {name: [values[i] for i in (0, 1, 4)] for name, values in ROWS.items()}
        wanted = [
            row | {"row": (1, 2, 5)[row["row"] - 1]}
            for row in ep.trail_values(kept, **asked).rows()
        ]
        self.assertEqual([*found.rows()], wanted)

    def test_errors_and_findings_tell_rows_by_their_place_in_the_input(self):
        bad = ROWS | {"on": [*ROWS["on"][:3], "31/02/2025", "x"]}
        for ask in (ep.annotate, ep.inspect):
            with self.subTest(ask=ask):
                more = {"add": ["day_name"]} if ask is ep.annotate else {}
                try:
                    told = str([*ask(bad, date="on", where="km > 2", dates=DATES, **more).rows()])
                except ep.DateError as error:
                    told = str(error)
                self.assertIn("row 4", told)
        wide = {"km": [1, 2, 3], "of": pa.array([Decimal(1), Decimal(2), Decimal(10) ** 30])}
        with self.assertRaisesRegex(ep.MeasureError, "row 3 of 'of'"):
            ep.trail_values(wide, along="km", back=1, measures="s=sum(of)", where="km > 1")
        wide["on"] = ["2025-01-01"] * 3
        for where in ("km > 1", "km != 2"):
            with self.assertRaisesRegex(ep.MeasureError, "row 3 of 'of'"):
                ep.Daybook(wide, date="on", measures="s=sum(of)", where=where)

    def test_numbers_too_long_for_floats_are_those_of_the_rows_left(self):
        long = ["7.50", "12345678901234567.25", "12.00", "33333333333333333.33"]
        self.file.write_text(
            "on,k,fare\n" + "".join(f"2025-01-0{n},{n},{fare}\n" for n, fare in enumerate(long, 1))
        )
        for left in ((4,), (2, 3), (1, 4)):
            book = ep.Daybook.read(
                self.file,
                date="on",
                measures="s=sum(fare)",
                where=f"k in ({', '.join(map(str, left))})",
            )
            self.assertEqual(
                [row["s"] for row in book.recap("year").rows()],
                [sum(Decimal(long[n - 1]) for n in left)],
            )

    def test_what_is_wrong_is_told(self):
        for where, said in (("routes = 'x'", "did you mean 'route'"), ("km", "a condition is needed"), ("km >", "km >")):  # fmt: skip
            for ask in (
                lambda where: ep.inspect(ROWS, date="on", where=where, dates=DATES),
                lambda where: ep.annotate(ROWS, date="on", add=["day_name"], where=where, dates=DATES),
                lambda where: ep.trail_values(ROWS, along="km", back=1, measures="n=count()", where=where),
            ):  # fmt: skip
                with self.assertRaisesRegex(ep.EptaroError, said):
                    ask(where)
