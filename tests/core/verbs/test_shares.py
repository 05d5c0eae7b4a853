"""Shares, ranks and the order of rows: ties, blanks, parents, the group of all others."""

import unittest

import eptaro as ep

ROWS = {
    "on": [
        "2025-01-05",
        "2025-01-05",
        "2025-01-06",
        "2025-02-01",
        "2025-02-02",
        "2025-02-03",
        "2026-01-01",
    ],
    "g": ["a", "b", "c", "a", "b", "c", "a"],
    "x": [4, 4, 2, 1, None, 7, 10],
}
BOOK = ep.Daybook(ROWS, date="on", by="g", measures=["s=sum(x)", "hi=max(x)"])


def rows(table):
    """Return the rows of a table."""
    return list(table.rows())


class Ranks(unittest.TestCase):
    """1 for the largest; equal values share a rank, what is blank has none."""

    def test_ties_share_a_rank_and_the_next_is_left_out(self):
        january = [
            row
            for row in rows(BOOK.recap("month", by="g", ranks=True))
            if row["period"] == "2025-01"
        ]
        self.assertEqual([row["s_rank"] for row in january], [1, 1, 3])

    def test_blanks_have_no_rank_and_one_group_is_ranked_among_its_periods(self):
        table = BOOK.recap("month", by="g", ranks=True)
        self.assertEqual(
            [row["hi_rank"] for row in rows(table) if row["period"] == "2025-02"], [2, None, 1]
        )
        alone = [
            (row["s"], row["s_rank"]) for row in rows(BOOK.recap("month", ranks=True)) if row["s"]
        ]
        self.assertEqual(alone, [(10, 1), (8, 3), (10, 1)])

    def test_subtotals_are_ranked_among_their_own_level(self):
        table = BOOK.recap("month", ranks=True, subtotals="year")
        years = [row["s_rank"] for row in rows(table) if row["level"] == "year"]
        self.assertEqual(years, [1, 2])

    def test_all_others_take_no_rank_and_come_last_whichever_way_rows_are_sorted(self):
        for sort in ("s", "-s"):
            table = BOOK.recap("year", by="g", top=1, ranks=True, sort=sort)
            words = [row["g"] for row in rows(table)]
            self.assertEqual(words[-2:], ["(others)", "(others)"])
            self.assertTrue(
                all(row["s_rank"] is None for row in rows(table) if row["g"] == "(others)")
            )


class Sorted(unittest.TestCase):
    """By a column, either way; blanks come last both ways, and equal rows keep their order."""

    def test_blanks_come_last(self):
        for sort, want in (("hi", [1, 2, 4, 4, 7, 10]), ("-hi", [10, 7, 4, 4, 2, 1])):
            found = [row["hi"] for row in rows(BOOK.recap("month", by="g", sort=sort))]
            self.assertEqual([value for value in found if value is not None], want)
            self.assertEqual(found[: len(want)], want)

    def test_equal_rows_keep_their_order_and_text_goes_by_letters(self):
        table = BOOK.recap("month", by="g", only="2025-01", sort="-s")
        self.assertEqual([row["g"] for row in rows(table)], ["a", "b", "c"])
        self.assertEqual([row["g"] for row in rows(table.sorted("-g"))], ["c", "b", "a"])

    def test_an_unknown_column_is_told(self):
        with self.assertRaisesRegex(ep.QuestionError, "unknown column 'z'"):
            BOOK.recap("month", sort="-z")


class Shares(unittest.TestCase):
    """Of all rows, of the period, of the wider period, and of those shown so far."""

    def test_of_all_and_of_their_period(self):
        table = BOOK.recap("month", by="g", only="2025", shares=True)
        for row in rows(table):
            month = {"2025-01": 10, "2025-02": 8}.get(row["period"], 0)
            self.assertAlmostEqual(row["s_share"], row["s"] / 18)
            if month:
                self.assertAlmostEqual(row["s_share_of_period"], row["s"] / month)
        self.assertNotIn("hi_share", table)

    def test_of_the_wider_period_in_each_group(self):
        table = BOOK.recap("month", by="g", shares=True, subtotals="year")
        years = {
            (row["g"], row["period"]): row["s"] for row in rows(table) if row["level"] == "year"
        }
        self.assertEqual(years["a", "2025"], 5)
        for row in rows(table):
            if row["level"] == "month":
                whole = years[row["g"], row["period"][:4]]
                want = row["s"] / whole if whole else None
                self.assertEqual(row["s_share_of_parent"], want, row)
            else:
                self.assertIsNone(row["s_share_of_parent"])

    def test_running_shares_go_in_the_order_shown_and_end_at_one(self):
        for sort in (None, "-s"):
            table = BOOK.recap("month", by="g", shares=True, sort=sort)
            running, so_far = [row["s_running_share"] for row in rows(table)], 0
            for share, row in zip(running, rows(table), strict=True):
                so_far += row["s"] or 0
                self.assertAlmostEqual(share, so_far / 28)
            self.assertAlmostEqual(running[-1], 1)

    def test_totals_are_not_counted_again(self):
        table = BOOK.recap("month", shares=True, totals=True, subtotals="year")
        total = next(row for row in rows(table) if row["period"] == "total")
        self.assertAlmostEqual(total["s_share"], 1)
        self.assertAlmostEqual(total["s_running_share"], 1)
