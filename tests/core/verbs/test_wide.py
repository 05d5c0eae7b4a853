"""Accumulate, trail and compare with the groups of one column side by side."""

import datetime as dt
import random
import tempfile
import unittest
from dataclasses import replace

import eptaro as ep
from tests.oracle import DAY

START = dt.date(2023, 3, 5)
SHARED = ("complete", "comparable", "entries")  # what labels rows goes by all groups together


def book(rng: random.Random, **more) -> ep.Daybook:
    """Return random transactions of groups, one of which has no name."""
    count = 400
    columns = {
        "on": [START + DAY * rng.randrange(700) for _ in range(count)],
        "g": [rng.choice(["a", "b", None, "total"]) for _ in range(count)],
        "x": [rng.choice([None, rng.randint(-9, 30)]) for _ in range(count)],
    }
    return ep.Daybook(columns, date="on", by="g", measures=["s=sum(x)", "m=median(x)"], **more)


class Wide(unittest.TestCase):
    """Each group's columns are those of its own rows, the last those of all."""

    def questions(self, rng: random.Random):
        return [
            ("compare", rng.choice([{"per": "quarter"}, {"per": "month", "to_date": True, "periods": 3},
                                    {"per": "year", "details": True}, {"per": "month", "back": ["1 month", "1 year"]}])),
            ("trail", rng.choice([{"back": "3 months", "every": "month"}, {"back": "9 days", "every": "week", "incomplete": "blank"}])),
            ("accumulate", rng.choice([{"within": "year", "every": "month"}, {"within": "quarter"}])),
        ]  # fmt: skip

    def test_columns_are_the_rows_of_each_group(self):
        rng, seen = random.Random(4), 0
        for _ in range(5):
            one = book(rng, coverage=rng.choice([None, "groups"]))
            for verb, how in self.questions(rng):
                only = rng.choice([None, {"g": ["a", None]}])
                ask = getattr(one, verb)
                wide = ask(**how, by="g", only=only, wide=True)
                long, whole = (
                    [*ask(**how, by="g", only=only).rows()],
                    [*ask(**how, only=only).rows()],
                )
                groups = list(dict.fromkeys(row["g"] for row in long))
                titles = {None: "(blank)", "total": "g=total"}
                self.assertEqual(len(wide), len(whole))
                for number, row in enumerate(wide.rows()):
                    for place, group in enumerate(groups):
                        own = long[place * len(whole) + number]
                        self.assertEqual(own["g"], group)
                        for name, value in own.items():
                            title = f"{titles.get(group, group)} {name}"
                            if title in wide.names:
                                self.assertEqual(row[title], value, (verb, how, title))
                                seen += 1
                            elif name != "g" and name not in SHARED:
                                self.assertEqual(row[name], value, (verb, how, name))
                    for name, value in whole[number].items():
                        self.assertEqual(
                            row[f"total {name}" if f"total {name}" in wide.names else name], value
                        )
                self.assertGreater(one.prove(wide, sample=4), 5)
                self.assertEqual(wide.headline, ask(**how, only=only).headline)
        self.assertGreater(seen, 5000)

    def test_files_have_it_and_what_does_not_go_with_it_is_refused(self):
        one = book(random.Random(5))
        table = one.compare("year", by="g", wide=True)
        with tempfile.TemporaryDirectory() as folder:
            for ending in ("csv", "parquet", "xlsx", "html", "json"):
                self.assertGreater(table.write(f"{folder}/t.{ending}").stat().st_size, 100)
            self.assertIn("a s_change", (table.write(f"{folder}/t.csv")).read_text())
            with self.assertRaisesRegex(ep.QuestionError, "no picture"):
                table.plot(f"{folder}/t.png")
        only = one.compare("year", by="g", wide=True, measures="s")
        self.assertEqual(only.head(1).names, only.names)
        for more, said in (
            ({"sort": "-s"}, "cannot be combined with sort"), ({"by": None}, "name exactly one"),
            ({"by": ["g"], "only": "g=zzz"}, "unknown value of g"),
        ):  # fmt: skip
            with self.subTest(more=more), self.assertRaisesRegex(ep.QuestionError, said):
                one.compare("year", **{"by": "g", "wide": True, **more})
        with self.assertRaisesRegex(ep.QuestionError, "a transaction has one"):
            one.trail("9 days", every="entry", by="g", wide=True)
        own = one.with_calendar(
            ep.OwnCalendars(
                "g", {"a": ep.MonthCalendar("f", year_starts="04-01")}, ep.MonthCalendar()
            )
        )
        with self.assertRaisesRegex(ep.QuestionError, "wide needs one calendar for all groups"):
            own.compare("year", by="g", wide=True)


class Totals(unittest.TestCase):
    """`totals`: the rows of each group, and after them those of all groups together."""

    questions = Wide.questions

    def test_columns_are_the_rows_of_each_group(self):
        rng, seen = random.Random(8), 0
        for number in range(6):
            one = book(rng, coverage=rng.choice([None, "groups"]))
            with tempfile.TemporaryDirectory() as folder:
                if number % 2:
                    one.write(f"{folder}/kept/")
                    one = ep.Daybook.open(f"{folder}/kept")
                    one._store = replace(one._store, at_once=0)  # shard by shard
                for verb, how in self.questions(rng):
                    only = rng.choice([None, {"g": ["a", None]}])
                    ask = getattr(one, verb)
                    order = rng.choice([None, "-first"])
                    found = [*ask(**how, by="g", only=only, totals=True, sort=order).rows()]
                    each = [*ask(**how, by="g", only=only, sort=order).rows()]
                    whole = [{"g": "total"} | row for row in ask(**how, only=only).rows()]
                    self.assertEqual(len(found), len(each) + len(whole))
                    for got, wanted in zip(found, [*each, *whole], strict=True):
                        self.assertEqual(
                            {name: got[name] for name in wanted if name in got}, wanted
                        )
                        seen += len(wanted)
        self.assertGreater(seen, 5_000)

    def test_they_are_proved_traced_and_described(self):
        one = book(random.Random(2))
        table = one.compare("quarter", by="g", totals=True)
        self.assertGreater(one.prove(table), 40)
        self.assertTrue(table.trace(len(table) - 1, "s_change").agrees)
        self.assertEqual(table.headline, one.compare("quarter", by="g").headline)
        pair = ep.BookSet({"one": one, "two": one}, "d=one.s - two.s")
        self.assertEqual(set(pair.trail("2 months", by="g", measures="d", totals=True)["d_trailing"].tolist()) - {None}, {0})  # fmt: skip

    def test_what_cannot_be(self):
        one = book(random.Random(1))
        for ask, words in (
            (lambda: one.compare("month", totals=True), "name a column in by"),
            (lambda: one.compare("month", by="g", totals=True, groups="both"), "its own total"),
            (lambda: one.trail("3 entries", every="entry", by="g", totals=True), "a transaction"),
        ):
            with self.assertRaisesRegex(ep.QuestionError, words):
                ask()
