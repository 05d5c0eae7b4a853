"""A calendar for each group: equal where all parts are, and made again from its settings."""

import unittest

import eptaro as ep

FISCAL = ep.MonthCalendar("fiscal", year_starts="04-01")


class OwnCalendars(unittest.TestCase):
    """Whatever it holds, it is a value."""

    def test_equal_ones_are_one_key(self):
        one = ep.OwnCalendars("g", {"a": FISCAL}, ep.MonthCalendar())
        self.assertEqual(one, ep.OwnCalendars.from_settings(one.settings()))
        self.assertEqual(hash(one), hash(ep.OwnCalendars.from_settings(one.settings())))
        for other in (ep.OwnCalendars("h", {"a": FISCAL}, ep.MonthCalendar()), ep.OwnCalendars("g", {"a": FISCAL}),
                      ep.OwnCalendars("g", {"a": ep.MonthCalendar()}, ep.MonthCalendar()), FISCAL, "g"):  # fmt: skip
            self.assertNotEqual(one, other)

    def test_each_group_goes_by_its_own(self):
        book = ep.Daybook({"on": ["2025-03-31", "2025-04-01"] * 2, "g": [*"aabb"], "x": [1, 2, 4, 8]}, date="on", by="g",
                          measures="s=sum(x)", calendar=ep.OwnCalendars("g", {"a": FISCAL}, ep.MonthCalendar()))  # fmt: skip
        rows = [(row["g"], row["period"], row["s"]) for row in book.recap("year", by="g").rows()]
        self.assertEqual(rows, [("a", "2025", 1), ("a", "2026", 2), ("b", "2025", 12)])
        shown = book.recap("year", by="g")
        self.assertEqual(shown.column("calendar").to_list(), ["fiscal", "fiscal", "calendar"])
        self.assertEqual(list(book.recap("year", by="all").rows()), list(shown.rows()))
        for sort, sums in (("-s", [12, 2, 1]), ("s", [1, 2, 12])):
            self.assertEqual(book.recap("year", by="g", sort=sort)["s"].tolist(), sums)
