"""What has changed since an earlier keeping of a book, against plain Python."""

import datetime as dt
import random
import tempfile
import unittest

import eptaro as ep
from tests.oracle import DAY

START = dt.date(2024, 1, 10)
MEASURES = ["s=sum(x)", "n=count()", "top=max(x)"]


def book(rows, **more):
    """Return rows of day, group and number as a book."""
    on, group, x = (list(part) for part in zip(*rows, strict=True))
    return ep.Daybook({"on": on, "g": group, "x": x}, date="on", by="g", measures=MEASURES, **more)


class Changed(unittest.TestCase):
    """Periods and groups that differ, and no others."""

    def test_equal_plain_python(self):
        rng, seen = random.Random(12), 0
        for number in range(25):
            rows = [
                (START + DAY * rng.randrange(300), rng.choice("abc"), rng.randint(-3, 9))
                for _ in range(rng.randint(5, 120))
            ]
            ends = START + DAY * rng.randrange(60, 300)
            before = [row for row in rows if row[0] <= ends and rng.random() < 0.8]
            before += [(START + DAY * rng.randrange(50), "d", 1)] * rng.randrange(2)
            if not before or rng.random() < 0.2:
                before = [row for row in rows if row[0] <= ends] or rows
            now, then = book(rows), book(before)
            with tempfile.TemporaryDirectory() as folder:
                if number % 2:
                    then = ep.Daybook.open(then.write(f"{folder}/then.parquet"))
                by = rng.choice([None, "g"])
                per = rng.choice(["month", "quarter"])
                found = [*now.restated(then, per, by=by).rows()]
            lo = max(now.coverage.first, then.coverage.first)
            hi = min(now.coverage.last, then.coverage.last)
            groups = sorted({g for _, g, _ in [*rows, *before]}) if by else [None]
            wanted = []
            for group in groups:
                days = [lo + DAY * n for n in range((hi - lo).days + 1)]
                labels = dict.fromkeys(now.calendar.period_of(day, per).label for day in days)
                for label in labels:
                    values = []
                    for kept in (rows, before):
                        own = [
                            x
                            for day, g, x in kept
                            if lo <= day <= hi and group in (None, g)
                            and now.calendar.period_of(day, per).label == label
                        ]  # fmt: skip
                        values.append((sum(own), len(own), max(own, default=None)))
                    if values[0] != values[1]:
                        wanted.append((group, label, *values))
            self.assertEqual(
                [
                    (row.get("g"), row["period"], (row["s"], row["n"], row["top"]),
                     (row["s_before"], row["n_before"], row["top_before"]))
                    for row in found
                ],
                wanted,
            )  # fmt: skip
            for row in found:
                self.assertEqual(row["s_change"], row["s"] - row["s_before"])
                seen += 9
        self.assertGreater(seen, 300)

    def test_days_that_the_earlier_one_did_not_cover_are_no_change(self):
        rows = [(START, "a", 1), (START + DAY * 40, "a", 5)]
        table = book(rows).restated(book(rows[:1]))
        self.assertEqual(len(table), 0)
        self.assertEqual(table.headline, "Nothing has changed in any of 1 month up to 2024-01-10.")

    def test_it_says_what_changed_most_and_shows_the_rows_of_both(self):
        rows = [(START, "a", 1), (START + DAY * 40, "b", 5), (START + DAY * 80, "a", 2)]
        later = [(START, "a", 4), *rows[1:], (START + DAY * 41, "b", 3)]
        money = {"formats": {"s": ep.Format(sign="€", places=0)}}
        table = book(later, **money).restated(book(rows, **money), by="g")
        self.assertEqual(
            table.headline,
            "2 of 3 months up to 2024-03-30 have changed. The largest change of s: +€3, a, 2024-01.",
        )
        found = table.trace(1, "s_change")
        self.assertTrue(found.agrees)
        self.assertEqual(list(zip(found.tables, found.rows, strict=True)), [("now", 2), ("now", 4), ("before", 2)])  # fmt: skip
        self.assertGreater(book(later).prove(table), 6)

    def test_what_cannot_be(self):
        one = book([(START, "a", 1)])
        other = ep.Daybook({"on": [START], "x": [1]}, date="on", measures="z=sum(x)")
        late = book([(START + DAY * 500, "a", 1)])
        words = ep.Daybook({"on": [START], "t": ["x"]}, date="on", measures="t=last(t)")
        for ask, said in (
            (lambda: one.restated(other), "none of the measures"),
            (lambda: one.restated(late), "no day in common"),
            (lambda: one.restated("then.parquet"), "is not a Daybook"),
            (lambda: words.restated(words), "only numbers"),
            (lambda: one.restated(one, "fortnight"), "fortnight"),
            (lambda: one.restated(one, by="z"), "z"),
            (lambda: one.restated(one, as_of="2020-01-01"), "before the coverage"),
        ):
            with self.assertRaisesRegex(ep.EptaroError, said):
                ask()
