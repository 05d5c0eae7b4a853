"""Rows in an order of one's own: the same rows, sentences, proofs and pictures."""

import datetime as dt
import random
import re
import tempfile
import unittest
from pathlib import Path

import eptaro as ep

RNG = random.Random(1)
ROWS = {
    "on": [dt.date(2024, 1, 1) + dt.timedelta(RNG.randrange(500)) for _ in range(900)],
    "g": [RNG.choice("abc") for _ in range(900)],
    "v": [RNG.randint(-3, 20) for _ in range(900)],
}
QUESTIONS = (
    ("accumulate", "month", {}, "-s_to_date"), ("accumulate", "year", {"every": "month", "by": "g"}, "s_to_date"),
    ("trail", "28 days", {}, "-s_trailing"), ("trail", "3 months", {"every": "month", "by": "g"}, ["g", "-s_trailing"]),
    ("trail", "5 entries", {"every": "entry"}, "-s_trailing"), ("accumulate", "month", {"every": "entry", "by": "g"}, "-s_to_date"),
    ("compare", "month", {"to_date": True, "every": "day"}, "-s_change"), ("compare", "quarter", {"by": "g"}, "-s"),
)  # fmt: skip
OF_ONE = re.compile(r'(id|href|xlink:href|clip-path)="[^"]*"|<dc:date>.*?</dc:date>|url\([^)]*\)')


class Sorted(unittest.TestCase):
    """`sort` of every verb that has it."""

    def test_rows_sentences_and_proofs_are_those_of_the_answer(self):
        book = ep.Daybook(ROWS, date="on", by="g", measures=["s=sum(v)", "n=count()"])
        for verb, of, asked, order in QUESTIONS:
            with self.subTest(verb=verb, **asked):
                plain = getattr(book, verb)(of, **asked)
                table = getattr(book, verb)(of, **asked, sort=order)
                self.assertEqual([*table.rows()], [*plain.sorted(order).rows()])
                self.assertNotEqual([*table.rows()], [*plain.rows()])
                self.assertEqual(table.headline, plain.headline)
                if asked.get("every") != "entry":
                    self.assertGreater(book.prove(table), 20)
                with self.assertRaisesRegex(ep.QuestionError, "nothing"):
                    getattr(book, verb)(of, **asked, sort="nothing")
                with self.assertRaisesRegex(ep.QuestionError, "must be the name of a column"):
                    getattr(book, verb)(of, **asked, sort=3)

    def test_in_the_own_calendars_of_groups(self):
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01")
        book = ep.Daybook(ROWS, date="on", by="g", measures="s=sum(v)",
                          calendar=ep.OwnCalendars("g", {"a": fiscal}, ep.MonthCalendar()))  # fmt: skip
        for verb, of, order in (
            ("accumulate", "year", "-s_to_date"),
            ("trail", "2 months", "s_trailing"),
        ):
            table = getattr(book, verb)(of, by="g", sort=order)
            plain = getattr(book, verb)(of, by="g")
            self.assertEqual([*table.rows()], [*plain.sorted(order).rows()])

    def test_lines_run_along_time_all_the_same(self):
        book = ep.Daybook(ROWS, date="on", by="g", measures="s=sum(v)")
        with tempfile.TemporaryDirectory() as folder:
            for verb, of, asked, order in QUESTIONS[:4]:
                texts = []
                for more in ({}, {"sort": order}):
                    getattr(book, verb)(of, **asked, **more).plot(Path(folder) / "p.svg")
                    texts.append(OF_ONE.sub("", (Path(folder) / "p.svg").read_text("utf-8")))
                self.assertEqual(*texts)
