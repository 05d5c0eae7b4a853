"""What templates show for periods, against plain datetime; keys stay, and what is shown is read."""

import datetime as dt
import random
import tempfile
import unittest
from pathlib import Path

import eptaro as ep
from eptaro.core.results.format import format_column
from tests import oracle

DICE = random.Random(5)
MONTHS = (
    *("January", "February", "March", "April", "May", "June", "July"),
    *("August", "September", "October", "November", "December"),
)
SHOWN = {
    "year": "{start}/{end_short}",
    "half": "H{number} {prefix}{year_short}",
    "quarter": "Q{number} of {start}-{end}",
    "month": "{month_name} {year}",
    "week": "week {number:02} {year}, from {first:%d.%m.%Y} to {last:%d.%m.}",
}
FISCAL = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY", shown=SHOWN)
DAYS = [dt.date(2023, 4, 1) + dt.timedelta(n) for n in range(870)]
ROWS = {"on": DAYS, "g": [str(day.day % 3) for day in DAYS], "x": [day.month for day in DAYS]}
BOOK = ep.Daybook(ROWS, date="on", by="g", measures="s=sum(x)", calendar=FISCAL)


class Templates(unittest.TestCase):
    """The text of each period."""

    def test_every_level_of_many_calendars_equals_plain_dates(self):
        for start, named in ((s, n) for s in ("01-01", "04-01", "09-20") for n in ("start", "end")):
            rule = {"year_starts": start, "year_named": named}
            calendar = ep.MonthCalendar("own", prefix="FY", shown=SHOWN, **rule)
            for day in (dt.date(2023, 1, 1) + dt.timedelta(n * 23) for n in range(58)):
                whole = oracle.period(day, "year", rule)
                years = whole[0].year, whole[1].year
                for level in ("year", "half", "quarter", "month"):
                    first, last, year, number = oracle.period(day, level, rule)
                    middle = first + (last - first) // 2
                    want = {
                        "year": f"{years[0]}/{years[1] % 100:02}",
                        "half": f"H{number} FY{year % 100:02}",
                        "quarter": f"Q{number} of {years[0]}-{years[1]}",
                        "month": f"{MONTHS[middle.month - 1]} {middle.year}",
                    }[level]
                    period = calendar.period_of(day, level)
                    self.assertEqual(period.shown, want)
                    self.assertEqual(calendar.shown_label(period.label), want)
                week = calendar.period_of(day, "week")
                span = f"from {week.first:%d.%m.%Y} to {week.last:%d.%m.}"
                want = f"week {week.number:02} {week.year}, {span}"
                self.assertEqual(week.shown, want)

    def test_what_is_shown_is_read_and_several_are_named(self):
        for day in DICE.sample(DAYS, 40):
            for level in SHOWN:
                period = FISCAL.period_of(day, level)
                for text in (period.shown, f" {period.shown.upper()} ", period.label):
                    self.assertEqual(FISCAL.period(text), period, text)
        self.assertEqual(FISCAL.shown_label("FY2005"), "2004/05")
        self.assertEqual(FISCAL.period("May 1950").label, "FY1951-M02")
        self.assertEqual(FISCAL.period("Q1 of 1950-1951").label, "FY1951-Q1")
        weeks = ep.WeekCalendar("weeks", shown={"month": "P{number:02}"})
        with self.assertRaisesRegex(ep.CalendarError, "'p02' is shown for 100 periods.*FY2069-M02"):
            weeks.period("p02")
        self.assertEqual(weeks.period("FY2025-M02").shown, "P02")
        rows = [{"year": 2025, "quarter": 1, "first": "2025-01-01", "last": "2025-04-02"}]
        listed = ep.ListedCalendar("site", rows, shown={"quarter": "{start} no. {number}"})
        self.assertEqual(listed.period("2025 no. 1").label, "2025-Q1")

    def test_wrong_templates_are_refused_with_what_is_accepted(self):
        for template, said in (
            ({"month": "{month_nam} {year}"}, "unknown field 'month_nam': did you mean 'month_name'"),
            ({"mont": "{year}"}, "unknown level 'mont': did you mean 'month'"),
            ({"month": "{label.__class__}"}, "unknown field 'label.__class__'"),
            ({"month": "{year"}, "cannot be filled in"), ({"month": "{number:z}"}, "filled in"),
            ({"month": "May"}, "has no field"), ({"month": 5}, "5 is not a line of text"),
            ({"day": "{first}"}, "days are shown as dates"), (5, "shown=5 must go from levels"),
            ({"year": "{prefix}{start}"}, "shows FY2022 for FY2023, which is written like"),
            ({"quarter": "{prefix}{start}-Q{number}"}, "written like the label of another period"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ep.CalendarError, said):
                ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY", shown=template)


class Answers(unittest.TestCase):
    """Keys in columns, texts for people, whatever the verb and the store."""

    def ask(self, book):
        """Yield answers of every verb."""
        quarters = {f"Q{n} of 2024-2025": 9 for n in range(1, 5)}
        yield book.recap("quarter", by=[], subtotals="year", totals=True, goals=quarters)
        yield book.recap("month", by="g", only="June 2024")
        yield book.recap("quarter", by=[], index="Q1 of 2024-2025")
        yield book.accumulate("year", by="g", every="quarter", goals={"2024/25": 70})
        yield book.compare("year", by=[])
        yield book.compare("month", by="g", mean_of=2)
        yield book.card(by="g", back="1 year")
        yield book.recap("year", by=[], beside=ep.MonthCalendar())

    def test_keys_stay_and_every_store_shows_the_same(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder)
            lines = zip(*ROWS.values(), strict=True)
            (place / "rows.csv").write_text(
                "on,g,x\n" + "".join(f"{on},{g},{x}\n" for on, g, x in lines)
            )
            read = {"date": "on", "by": "g", "measures": "s=sum(x)", "calendar": FISCAL}
            ep.Daybook.read(place / "rows.csv", **read).write(place / "book.parquet")
            ep.Daybook.read(place / "rows.csv", into=place / "kept", shards=3, **read)
            plain = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
            bare = ep.Daybook(ROWS, date="on", by="g", measures="s=sum(x)", calendar=plain)
            stores = [ep.Daybook.open(place / name) for name in ("book.parquet", "kept")]
            for answers in zip(*map(self.ask, (BOOK, *stores)), strict=True):
                texts = {str(table) for table in answers}
                self.assertEqual(len(texts), 1)
                for name in {"period", "within", "prior_period"} & {*answers[0].names}:
                    column = answers[0].column(name)
                    labels = ["" if label is None else str(label) for label in column.to_list()]
                    want = [", ".join(map(FISCAL.shown_label, one.split(", "))) for one in labels]
                    self.assertEqual(format_column(column), want)
                    self.assertNotEqual(want, labels)
            same = bare.recap("quarter", by="g").to_pandas()
            self.assertTrue(BOOK.recap("quarter", by="g").to_pandas().equals(same))

    def test_sentences_name_what_is_shown(self):
        self.assertIn("in 2024/25: ", BOOK.compare("year", by=[]).headline)
        self.assertIn("on 2023/24.", BOOK.compare("year", by=[]).headline)
        self.assertIn("in 2025/26 to date: ", BOOK.accumulate("year", by=[]).headline)
        self.assertIn("first in December 2023.", BOOK.recap("month", by=[]).headline)
        both = BOOK.recap("quarter", by=[], only=["2023/24", "2024/25"])
        self.assertRegex(both.headline, r"2023/24 [\d,]+, 2024/25 ")

    def test_calendars_side_by_side_show_their_own(self):
        other = ep.MonthCalendar("other", shown={"month": "{month_short} {year_short}"})
        card = BOOK.card(
            levels=["month"], by=[], calendars=[FISCAL, other, ep.MonthCalendar("bare")]
        )
        self.assertRegex(str(card), r"(?s)August 2025 .*2025-08 .*2025-08 ")
        card = BOOK.card(levels=["month"], by=[], calendars=[FISCAL, other])
        self.assertRegex(str(card), r"(?s)August 2025 .*Aug 25 ")
        third = ep.MonthCalendar("third", shown={"month": "{first:%m}/{year}"})
        card = BOOK.card(levels=["month"], by=[], calendars=[other, third])
        self.assertRegex(str(card), r"(?s)other .* 2025-08 .*third .* 2025-08 ")  # two texts
        bare = ep.OwnCalendars("g", {"0": other, "1": FISCAL}, ep.MonthCalendar("bare"))
        for only in ("2025-02-01..2025-02-28", "2025-05-01..2025-05-31"):
            book = ep.Daybook(ROWS, date="on", by="g", measures="s=sum(x)", calendar=bare)
            text = str(book.recap("month", by="g", only=only))
            self.assertRegex(text, r"fiscal +(February|May) 2025 ")
        own = ep.OwnCalendars("g", {"0": FISCAL, "1": other, "2": ep.MonthCalendar("bare")})
        book = ep.Daybook(ROWS, date="on", by="g", measures="s=sum(x)", calendar=own)
        text = str(book.recap("month", by="g", only="2025-02-01..2025-02-28"))
        # Both `other` and `bare` call it 2025-02, and show it in two ways: it stays as it is.
        self.assertRegex(text, r"(?s)fiscal +February 2025 .*other +2025-02 .*bare +2025-02 ")

    def test_a_dimension_has_a_column_of_it(self):
        table = ep.dimension("2025-03-31", "2025-04-01", calendars=FISCAL, columns="key")
        row = next(table.rows())
        self.assertEqual(row["fiscal_month_label"], "FY2025-M12")
        self.assertEqual(row["fiscal_month_shown"], "March 2025")
        self.assertEqual(row["fiscal_year_shown"], "2024/25")
        self.assertNotIn("fiscal_day_shown", table)


if __name__ == "__main__":
    unittest.main()
