"""Goals: the pace at each day of a period, its end included, and the gap to it."""

import unittest

import eptaro as ep

DAYS = [*(f"2024-01-{n:02d}" for n in range(1, 32)), *(f"2025-01-{n:02d}" for n in range(1, 32))]
BOOK = ep.Daybook(
    {"on": DAYS, "x": [1] * 10 + [2] * 21 + [3] * 31}, date="on", measures=["s=sum(x)", "n=count()"]
)


class Straight(unittest.TestCase):
    """goal * days elapsed / days of the period."""

    def test_it_grows_evenly_and_is_the_whole_goal_at_the_periods_end(self):
        table = BOOK.accumulate("month", goals={"2025-01": 62}, only="2025-01")
        for row in table.rows():
            elapsed = row["date"].day
            self.assertAlmostEqual(row["s_goal_to_date"], 62 * elapsed / 31)
            self.assertAlmostEqual(row["s_goal_gap"], 3 * elapsed - 62 * elapsed / 31)
            self.assertAlmostEqual(row["s_goal_reached"], 1.5)
        self.assertAlmostEqual(row["s_goal_to_date"], row["s_goal"])
        self.assertNotIn("n_goal", table)

    def test_periods_without_a_goal_are_blank(self):
        row = next(BOOK.accumulate("month", goals={"2025-01": 62}).rows())
        self.assertEqual(
            [row[f"s_goal{end}"] for end in ("", "_to_date", "_gap", "_reached")], [None] * 4
        )


class PriorYear(unittest.TestCase):
    """The share that the prior year's period had reached at the counterpart of the day."""

    def test_it_has_the_prior_years_shape_and_its_end(self):
        table = BOOK.accumulate("month", goals={"2025-01": 104}, pace="prior year", only="2025-01")
        whole = 10 + 2 * 21
        for row in table.rows():
            day = row["date"].day
            reached = min(day, 10) + 2 * max(day - 10, 0)
            self.assertAlmostEqual(row["s_goal_to_date"], 104 * reached / whole)
        self.assertAlmostEqual(row["s_goal_to_date"], 104)

    def test_where_the_prior_year_is_not_known_it_is_blank(self):
        table = BOOK.accumulate("month", goals={"2024-01": 5}, pace="prior year", only="2024-01")
        self.assertEqual({row["s_goal_to_date"] for row in table.rows()}, {None})

    def test_where_the_prior_year_is_known_in_part_it_is_blank(self):
        late = ep.Daybook(
            {"on": DAYS[4:], "x": [1] * len(DAYS[4:])}, date="on", measures=["s=sum(x)"]
        )
        table = late.accumulate("month", goals={"2025-01": 5}, pace="prior year", only="2025-01")
        self.assertEqual({row["s_goal_to_date"] for row in table.rows()}, {None})

    def test_a_comparison_sets_whole_periods_against_their_goals(self):
        table = BOOK.compare("month", goals={"2025-01": 62})
        (row,) = [row for row in table.rows() if row["period"] == "2025-01"]
        self.assertEqual((row["s_goal"], row["s_goal_to_date"], row["s_goal_gap"]), (62, 62, 31))


class Refused(unittest.TestCase):
    """Goals that cannot be."""

    def test_they_are_told(self):
        for goals, more, message in (
            (5, {}, "must go from period labels"), ({"2025-13": 1}, {}, "2025-13"),
            ({"2025-01": 1}, {"pace": "fast"}, "unknown value for pace 'fast'"),
            ({"2025-01": 1}, {"within": "all"}, "need whole periods"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ValueError, message):
                BOOK.accumulate(**({"within": "month", "goals": goals} | more))
