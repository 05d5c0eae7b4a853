"""The largest groups of each period, or of a comparison, and all others as one."""

import datetime as dt
import random
import statistics
import unittest
from collections import defaultdict

import eptaro as ep
from tests.oracle import DAY

START = dt.date(2024, 10, 9)
LEVELS = {
    "month": lambda day: (day.year, day.month),
    "year": lambda day: day.year,
    "week": lambda day: day.isocalendar()[:2],
}


class EachPeriod(unittest.TestCase):
    """`top_within="period"` against plain Python."""

    def test_equal_plain_python(self):
        rng, seen = random.Random(5), 0
        for _ in range(6):
            rows = [(START + DAY * rng.randrange(150), rng.choice("abcdef"), rng.choice("xy"), rng.randint(-3, 20))
                    for _ in range(200)]  # fmt: skip
            on, shop, kind, v = zip(*rows, strict=True)
            book = ep.Daybook({"on": on, "shop": shop, "kind": kind, "v": v}, date="on", by=["shop", "kind"],
                              measures=["s=sum(v)", "m=median(v)"])  # fmt: skip
            level, top = rng.choice([*LEVELS]), rng.randint(1, 4)
            within = rng.random() < 0.5
            asked = {"by": ["kind", "shop"], "top_within": ["period", "kind"]} if within else {"by": "shop", "top_within": "period"}  # fmt: skip
            table = book.recap(level, top=top, **asked)
            self.assertGreater(book.prove(table), 10)
            found = defaultdict(list)
            for row in table.rows():
                found[LEVELS[level](max(row["first"], START)), row.get("kind")].append(row)
            for (period, one), own in found.items():
                inside = [r for r in rows if LEVELS[level](r[0]) == period and one in (None, r[2])]
                sums = {name: sum(r[3] for r in inside if r[1] == name) for name in sorted({*shop})}
                order = sorted(sums, key=lambda name: -sums[name])
                kept, others = order[:top], order[top:]
                self.assertEqual(
                    [r["shop"] for r in own], [*kept, *(["(others)"] if others else [])]
                )
                for row in own:
                    names = others if row["shop"] == "(others)" else [row["shop"]]
                    held = [r[3] for r in inside if r[1] in names]
                    self.assertEqual(row["s"], sum(held))
                    self.assertEqual(row["m"], statistics.median(held) if held else None)
                    seen += 1
        self.assertGreater(seen, 150)

    def test_a_headline_names_who_is_largest_most_often(self):
        frame = {"on": ["2025-01-01", "2025-01-02", "2025-02-01", "2025-03-01"], "g": [*"abba"], "v": [3, 2, 5, 1]}  # fmt: skip
        book = ep.Daybook(frame, date="on", by="g", measures="s=sum(v)")
        table = book.recap("month", by="g", top=1, top_within="period")
        self.assertIn("Largest g in 2 of 3 periods: a.", table.headline)
        self.assertEqual(table.meta["tie_out"], {"s": "6 parts add up to 11"})

    def test_what_does_not_go_with_it_is_refused(self):
        frame = {"on": ["2025-01-01"], "g": ["a"], "v": [3]}
        book = ep.Daybook(frame, date="on", by="g", measures="s=sum(v)")
        for more in ({"shares": True}, {"totals": True}, {"subtotals": "year"}, {"wide": True}):
            with (
                self.subTest(more=more),
                self.assertRaisesRegex(
                    ep.QuestionError, f"other groups in each period.*{next(iter(more))}"
                ),
            ):
                book.recap("month", by="g", top=1, top_within="period", **more)
        with self.assertRaisesRegex(ep.QuestionError, "does not go with per='weekday'"):
            book.recap("weekday", by="g", top=1, top_within="period")


class Compared(unittest.TestCase):
    """`compare(top=)` against books whose other groups were renamed before."""

    def test_others_are_one_group(self):
        rng, seen = random.Random(6), 0
        for _ in range(8):
            rows = [
                (START + DAY * rng.randrange(500), rng.choice("abcdef"), rng.randint(-3, 20))
                for _ in range(300)
            ]
            on, shop, v = zip(*rows, strict=True)
            how = rng.choice([
                {"per": "quarter", "to_date": True}, {"per": "month", "back": ["1 month", "1 year"]},
                {"per": "quarter", "details": True}, {"per": "month", "to_date": True, "periods": 3, "match": "elapsed"},
                {"per": "year", "effects": "workdays"}, {"per": "month", "trailing": "2 months", "back": "1 month"},
            ])  # fmt: skip
            asked = {"date": "on", "by": "shop", "measures": ["s=sum(v)", "m=median(v)"]}
            top = rng.randint(1, 4)
            book = ep.Daybook({"on": on, "shop": shop, "v": v}, **asked)
            found = book.compare(**how, by="shop", top=top)
            sides = [*book.compare(**how).rows()]
            first, last = min(r["first"] for r in sides), max(r["last"] for r in sides)
            sums = {name: sum(r[2] for r in rows if r[1] == name and first <= r[0] <= last) for name in sorted({*shop})}  # fmt: skip
            kept = sorted(sums, key=lambda name: -sums[name])[:top]
            renamed = [name if name in kept else "(others)" for name in shop]
            other = ep.Daybook({"on": on, "shop": renamed, "v": v}, **asked)
            wanted = {(r["shop"], r["period"]): r for r in other.compare(**how, by="shop").rows()}
            for row in found.rows():
                self.assertEqual(row, wanted[row["shop"], row["period"]])
                seen += 1
            names = list(dict.fromkeys(row["shop"] for row in found.rows()))
            self.assertEqual(names, [*kept, "(others)"])
            self.assertGreater(book.prove(found), 4)
        self.assertGreater(seen, 80)

    def test_goals_are_of_groups_by_name(self):
        book = ep.Daybook(
            {"on": ["2025-01-01"], "g": ["a"], "v": [3]}, date="on", by="g", measures="s=sum(v)"
        )
        with self.assertRaisesRegex(ep.QuestionError, "goals.*does not go with top"):
            book.compare("month", by="g", top=1, goals={"2025-01": 4})


if __name__ == "__main__":
    unittest.main()
