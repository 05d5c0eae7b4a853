"""The card: every level to date and windows, beside the same days before, with goals."""

import datetime as dt
import random
import statistics
import tempfile
import unittest
from dataclasses import replace

import eptaro as ep
from tests.core.verbs.test_trail import window
from tests.oracle import DAY, add_civil_months

START = dt.date(2022, 3, 5)
FISCAL = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
CALENDARS = (
    ep.MonthCalendar(),
    FISCAL,
    ep.WeekCalendar("cafe"),
    ep.MonthCalendar("freight", year_starts="09-10"),
)


def transactions(rng: random.Random, count: int = 700) -> dict[str, list]:
    """Return random transactions of two and a half years."""
    return {
        "on": [START + DAY * rng.randrange(900) for _ in range(count)],
        "g": [rng.choice("abc") for _ in range(count)],
        "x": [rng.choice([None, rng.randint(-5, 40)]) for _ in range(count)],
    }


class Card(unittest.TestCase):
    """Level by level the same as a comparison to date; windows against plain Python."""

    def test_levels_are_those_of_comparisons_to_date(self):
        rng, seen = random.Random(3), 0
        for _ in range(12):
            calendar = rng.choice(CALENDARS)
            book = ep.Daybook(transactions(rng), date="on", by="g", measures=["s=sum(x)", "m=median(x)"],
                              calendar=calendar, coverage=rng.choice([None, "groups"]))  # fmt: skip
            asked = {"as_of": START + DAY * rng.randrange(400, 900), "by": rng.choice([None, "g"]),
                     "only": rng.choice([None, {"g": ["a", "c"]}])}  # fmt: skip
            back, match = (
                rng.choice(["1 year", "2 years"]),
                rng.choice(["date", "elapsed", "weekday", "workday"]),
            )
            card = book.card(
                back=back, match=match, levels=["week", "month", "quarter", "year"], **asked
            )
            for level in ("week", "month", "quarter", "year"):
                own = [row for row in card.rows() if row["level"] == level]
                other = [*book.compare(level, back=back, match=match, to_date=True, **asked).rows()]
                self.assertEqual(len(own), len(other))
                for one, two in zip(own, other, strict=True):
                    for name, value in two.items():
                        mine = one.get(
                            {"s": "s_to_date", "m": "m_to_date"}.get(name, name), "missing"
                        )
                        self.assertEqual(mine, value, (level, name, back, match))
                        seen += 1
            self.assertGreater(book.prove(card, sample=10), 8)
        self.assertGreater(seen, 1200)

    def test_windows_end_with_the_day(self):
        rng, seen = random.Random(4), 0
        for _ in range(15):
            table = transactions(rng)
            book = ep.Daybook(table, date="on", measures=["s=sum(x)", "m=median(x)"])
            day = START + DAY * rng.randrange(500, 890)
            n, unit = rng.choice(
                [(12, "month"), (3, "month"), (1, "year"), (28, "day"), (6, "week")]
            )
            words = f"{n} {unit}s" if n > 1 else f"{n} {unit}"
            (row,) = book.card(levels=[], trailing=words, back="1 year", as_of=day).rows()
            first = window(day, n, unit)
            self.assertEqual((row["level"], row["first"], row["last"]), (words, first, day))
            prior_last = add_civil_months(day, -12)
            if unit in ("day", "week"):
                prior_first = window(prior_last, n, unit)
            else:
                whole = (first - DAY).month != first.month and (day + DAY).month != day.month
                prior_first = add_civil_months(first, -12)
                prior_last = add_civil_months(day + DAY, -12) - DAY if whole else prior_last
            self.assertEqual(
                (row["prior_first"], row["prior_last"]), (prior_first, prior_last), (words, day)
            )
            for name, lo, hi in (("to_date", first, day), ("prior", prior_first, prior_last)):
                inside = [
                    x for on, x in zip(table["on"], table["x"], strict=True) if lo <= on <= hi
                ]
                held = [x for x in inside if x is not None]
                self.assertEqual(row[f"s_{name}"], sum(held))
                self.assertEqual(row[f"m_{name}"], statistics.median(held))
            self.assertEqual(row["comparable"], prior_first >= START)
            seen += row["comparable"]
        self.assertGreater(seen, 5)

    def test_levels_across_are_the_rows_of_the_card(self):
        rng, seen = random.Random(7), 0
        for number in range(8):
            book = ep.Daybook(transactions(rng), date="on", by="g", measures=["s=sum(x)", "m=median(x)"],
                              coverage=rng.choice([None, "groups"]))  # fmt: skip
            with tempfile.TemporaryDirectory() as folder:
                if number % 2:
                    book.write(f"{folder}/kept/")
                    book = ep.Daybook.open(f"{folder}/kept")
                    book._store = replace(book._store, at_once=0)
                ask = {"by": rng.choice([None, "g"]), "back": rng.choice([None, "1 year"]),
                       "trailing": rng.choice([(), "3 months"]), "as_of": START + DAY * rng.randrange(400, 900),
                       "calendars": rng.choice([None, [*CALENDARS[:2]]])}  # fmt: skip
                wide, long = book.card(**ask, wide=True), [*book.card(**ask).rows()]
                found = {row.get("g"): row for row in wide.rows()}
                if not number % 2:
                    self.assertGreater(book.prove(wide), 5)
                    self.assertEqual(wide.headline, book.card(**ask).headline)
            for row in long:
                title = (
                    row["level"]
                    if ask["calendars"] is None
                    else f"{row['calendar']} {row['level']}"
                )
                own = found[row.get("g")]
                for name, value in row.items():
                    if f"{title} {name}" in own:
                        self.assertEqual(own[f"{title} {name}"], value, (title, name))
                        seen += 1
            for group, row in found.items():
                whole = [one["complete"] for one in long if one.get("g") == group]
                self.assertEqual(row["complete"], all(whole))
        self.assertGreater(seen, 400)

    def test_goals_of_months_add_up_in_wider_levels(self):
        book = ep.Daybook({"on": ["2025-01-10", "2025-05-15"], "g": ["a", "b"], "x": [10, 20]}, date="on", by="g",
                          measures="s=sum(x)", coverage="2025-01-01..2025-05-15")  # fmt: skip
        months = {f"2025-{n:02d}": 31 for n in range(1, 13)}
        rows = {row["level"]: row for row in book.card(goals=months, trailing="3 months").rows()}
        self.assertEqual((rows["month"]["s_goal"], rows["month"]["s_goal_to_date"]), (31, 15))
        self.assertEqual((rows["quarter"]["s_goal"], rows["quarter"]["s_goal_to_date"]), (93, 46))
        self.assertEqual(
            (rows["year"]["s_goal"], rows["year"]["s_goal_gap"]), (372, 30 - 4 * 31 - 15)
        )
        self.assertEqual((rows["week"]["s_goal"], rows["3 months"]["s_goal"]), (None, None))
        of_groups = {("a", "2025"): 365, ("b", "2025"): 730}
        found = {
            (row["g"], row["level"]): row["s_goal"]
            for row in book.card(goals=of_groups, by="g").rows()
        }
        self.assertEqual(
            (found["a", "year"], found["b", "year"], found["a", "month"]), (365, 730, None)
        )

    def test_what_cannot_be_is_refused_and_the_headline_says_the_change(self):
        book = ep.Daybook({"on": ["2024-05-10", "2025-05-10"], "x": [10, 15]}, date="on", measures="s=sum(x)",
                          coverage="2024-01-01..2025-05-31")  # fmt: skip
        self.assertIn("year 15 (+50.0%)", book.card(back="1 year").headline)
        for more, said in (
            ({"back": "1 day"}, "fits none of the levels"), ({"back": "soon"}, "is not an amount"),
            ({"trailing": "5 entries"}, "not a span of time"), ({"goals": {"2025": 4}, "levels": ["month"]}, "no level of this card"),
        ):  # fmt: skip
            with self.subTest(more=more), self.assertRaisesRegex(ep.QuestionError, said):
                book.card(**more)


if __name__ == "__main__":
    unittest.main()
