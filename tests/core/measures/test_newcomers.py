"""`new(x over all)`: values that no group of the book had before."""

import datetime as dt
import random
import tempfile
import unittest
from dataclasses import replace

import eptaro as ep
from tests.oracle import DAY

START = dt.date(2024, 11, 20)


class NewToAll(unittest.TestCase):
    """Groups, windows and stores against plain Python; beside `new(x)`, which looks at one group."""

    def test_equal_plain_python_in_every_store(self):
        rng, seen = random.Random(2), 0
        for number in range(4):
            rows = [(START + DAY * rng.randrange(90), rng.choice("abc"), rng.choice([None, *range(40)]), rng.random())
                    for _ in range(150)]  # fmt: skip
            on, shop, who, x = zip(*rows, strict=True)
            table = {"on": on, "shop": shop, "who": who, "x": x}
            spec = rng.choice(["new(who over all)", "new(who where x < 0.6 over all)"])
            asked = {"date": "on", "by": "shop", "measures": [f"v={spec}", f"w=new(who) - {spec}"]}
            counted = [r for r in rows if r[2] is not None and ("where" not in spec or r[3] < 0.6)]
            first = {}
            for day, _, name, _ in sorted(counted, key=lambda r: r[0]):
                first.setdefault(name, day)
            book = ep.Daybook(table, **asked)
            with tempfile.TemporaryDirectory() as folder:
                kept = ep.Daybook.open(book.write(f"{folder}/kept/"))
                kept._store = replace(kept._store, at_once=0)
                for one, by, only in (
                    (book, "shop", None), (kept, "shop", None), (book, None, None), (kept, None, "shop=b"),
                    (book, "shop", "shop=a"), (kept, "shop", {"shop": ["a", "c"]}),
                ):  # fmt: skip
                    tables = [
                        one.recap("week", by=by, only=only),
                        one.trail("20 days", by=by, only=only),
                    ]
                    for table_, ending in zip(tables, ("", "_trailing"), strict=True):
                        for row in table_.rows():
                            wanted = only if only is None or isinstance(only, dict) else {"shop": [only[-1]]}  # fmt: skip
                            names = [row["shop"]] if by else (wanted or {"shop": "abc"})["shop"]
                            met = {
                                r[2]
                                for r in counted
                                if r[1] in names and row["first"] <= r[0] <= row["last"]
                                and first[r[2]] == r[0]
                            }  # fmt: skip
                            if row["last"] >= min(on):
                                self.assertEqual(row[f"v{ending}"], len(met), (number, row))
                                seen += 1
                    if one is book:
                        self.assertGreater(book.prove(tables[0]), 3)
        self.assertGreater(seen, 1500)

    def test_it_is_the_same_as_new_where_there_is_one_group(self):
        table = {"on": ["2025-01-01", "2025-01-02", "2025-02-01"], "who": [*"aab"], "g": [*"xyx"]}
        book = ep.Daybook(table, date="on", by="g", measures=["n=new(who)", "a=new(who over all)"])
        self.assertEqual(book.recap("month")["n"].tolist(), book.recap("month")["a"].tolist())
        rows = {row["g"]: (row["n"], row["a"]) for row in book.recap("year", by="g").rows()}
        self.assertEqual(rows, {"x": (2, 2), "y": (1, 0)})
        with self.assertRaisesRegex(ep.EptaroError, "over"):
            ep.Daybook(table, date="on", measures="d=distinct(who over all)")
        with self.assertRaisesRegex(ep.QuestionError, "goes by all days before"):
            book.rhythm("weekday")
        with self.assertRaisesRegex(ep.QuestionError, "needs whole days"):
            book.trail("2 entries")


if __name__ == "__main__":
    unittest.main()
