"""What `inspect` says of columns of numbers: amounts, levels, flags, codes and identifiers."""

import datetime as dt
import math
import random
import unittest

import pyarrow as pa

import eptaro as ep

DAYS = [dt.date(2024, 1, 1) + dt.timedelta(n) for n in range(300)]


def details(columns, **more):
    """Return what is said of each column beside the dates."""
    table = ep.inspect({"on": DAYS} | columns, **more)
    return {row["value"] or "": row["detail"] for row in table.rows() if row["subject"] == "column"}


class Numbers(unittest.TestCase):
    """Amounts are added up; what is not is averaged, grouped by or left out, with the reason."""

    def test_values_decide_where_names_do_not(self):
        rng = random.Random(1)
        found = details(
            {
                "isig": [100 + 40 * math.sin(n / 25) for n in range(300)],
                "w": [rng.choice([3, 18, 250, 7, 0.5]) * rng.randint(1, 9) for _ in range(300)],
                "x": [rng.random() for _ in range(300)],
                "dummy": [rng.randint(0, 1) for _ in range(300)],
                "grade": [rng.choice([1, 2, 3]) for _ in range(300)],
                "": list(range(1, 301)),
                "upto": [n * n + rng.randint(0, 2 * n) for n in range(300)],
            }
        )
        for name, words in (
            ("isig", "a level, averaged"),
            ("w", "numbers to add up"),
            ("x", "a rate or a share, averaged"),
            ("dummy", "yes or no"),
            ("grade", "category: 3 distinct whole numbers"),
            ("", "counts the rows"),
            ("upto", "averaged"),
        ):
            self.assertIn(words, found[name], name)

    def test_numbers_that_need_rules_are_looked_at_as_well(self):
        level = [10_000 + 4_000 * math.sin(n / 25) for n in range(300)]
        rng = random.Random(3)
        found = ep.inspect(
            {
                "on": DAYS,
                "usd": ["N/A" if n % 3 == 0 else f"{x:.4f}" for n, x in enumerate(level)],
                "stock": [f"{x:,.2f}" for x in level],
                "sold": ["-" if n == 7 else f"{rng.randint(1, 9 * 10**6):,}" for n in range(300)],
                "nothing": ["N/A"] * 300,
                "empty": [None] * 300,
            }
        )
        said = {row["value"]: (row["count"], row["detail"]) for row in found.rows()}
        for name, filled, words in (
            ("usd", 200, "a level, averaged, not summed ('N/A' counts as blank), 100 blank"),
            ("stock", 300, "a level, averaged, not summed (thousands ',')"),
            ("sold", 299, "numbers to add up (thousands ','; '-' counts as blank), 1 blank"),
            ("nothing", 0, "only words that mean blank, 300 blank"),
            ("empty", 0, "no value, 300 blank"),
        ):
            self.assertEqual(said[name][0], filled, name)
            self.assertIn(words, said[name][1])

    def test_the_type_of_texts_changes_nothing(self):
        columns = {
            "on": ["2025-01-01"] * 8 + ["Total"],
            "x": ["1,234.50"] * 7 + ["N/A", "2,345,678.00"],
            "g": ["North", "north ", "South"] * 3,
        }
        found = [
            ep.inspect(pa.table({name: pa.array(texts).cast(kind) for name, texts in columns.items()})).column("detail").to_list()
            for kind in (pa.string(), pa.large_string(), pa.dictionary(pa.int8(), pa.string()))
        ]  # fmt: skip
        self.assertIn("dates: read with bad_dates=reject", found[0])
        self.assertEqual(found[0], found[1])
        self.assertEqual(found[0], found[2])

    def test_names_decide_first(self):
        rng = random.Random(2)
        names = ("sales", "countyid", "fcode", "paid", "life_exp", "price", "lnwage", "hour", "lat",
                 "number_of_cds", "house_number")  # fmt: skip
        found = details({name: [rng.uniform(5, 90) // 1 for _ in DAYS] for name in names})
        found |= details(
            {"dep_time": [100 * rng.randint(0, 23) + rng.randint(0, 59) for _ in DAYS]}
        )
        upto = {name: [rng.randint(1, 99) for _ in DAYS] for name in ("salesYTD", "running total", "cost_to_date")}  # fmt: skip
        found |= (so_far := details(upto))
        self.assertTrue(all("a total so far" in so_far[name] for name in upto), so_far)
        found |= details({"flight": [rng.randint(1, 5000) for _ in DAYS]})
        self.assertIn("times of day, as 1745", found["dep_time"])
        self.assertIn("identifier", found["flight"])
        found |= details({"wait_time": [rng.randint(0, 2400) for _ in DAYS]})
        self.assertIn("averaged", found["wait_time"])
        found |= details({"air_time": [rng.randint(1, 5000) for _ in DAYS]})
        self.assertIn("averaged", found["air_time"])
        found |= details({"lnwage": [rng.uniform(5, 90) for _ in DAYS]})
        wanted = ("numbers to add up", "identifier", "identifier", "numbers to add up", "averaged",
                  "averaged", "averaged", "part of a date", "coordinate", "numbers to add up", "identifier")  # fmt: skip
        for name, words in zip(names, wanted, strict=True):
            self.assertIn(words, found[name], name)

    def test_identifiers_of_panels_and_what_they_bear_are_left_out(self):
        rng = random.Random(3)
        rows = [(2000 + year, 17 * thing + 3) for thing in range(40) for year in range(9)]
        sector = {17 * thing + 3: rng.randint(20, 60) for thing in range(40)}
        table = ep.inspect(
            {
                "year": [year for year, _ in rows],
                "unit": [thing for _, thing in rows],
                "kind": [sector[thing] for _, thing in rows],
                "miles": [rng.gauss(20, 4) for _ in rows],
                "output": [rng.randint(1, 9_000) for _ in rows],
            }
        )
        found = {row["value"]: row["detail"] for row in table.rows() if row["subject"] == "column"}
        self.assertIn("names what each date has a row of", found["unit"])
        self.assertIn("the same for each unit", found["kind"])
        self.assertIn("much the same in all rows", found["miles"])
        self.assertIn("numbers to add up", found["output"])
