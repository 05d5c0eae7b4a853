"""What must hold between the verbs, whatever the data: the algebra, driven by hypothesis."""

import datetime as dt
import itertools
import unittest
from collections import defaultdict
from decimal import Decimal

from hypothesis import given, settings
from hypothesis import strategies as st

import eptaro as ep
from tests.books import book_of_folded
from tests.oracle import DAY

START = dt.date(2022, 11, 20)
rows = st.lists(
    st.tuples(st.integers(0, 900), st.sampled_from("ab"), st.integers(-9_999, 99_999)),
    min_size=1, max_size=40,
)  # fmt: skip
calendars = st.one_of(
    st.builds(
        lambda month, day, named: ep.MonthCalendar("own", year_starts=f"{month:02d}-{day:02d}", year_named=named),
        st.integers(1, 12), st.sampled_from([1, 6, 10, 15, 28]), st.sampled_from(["start", "end"]),
    ),
    st.builds(
        lambda pattern, ends: ep.WeekCalendar("own", pattern=pattern, ends=ends),
        st.sampled_from(["4-4-5", "4-5-4", "5-4-4", "13x4"]), st.sampled_from(["nearest", "last"]),
    ),
)  # fmt: skip
levels = st.sampled_from(["month", "quarter", "half", "year"])


def book_of(made, calendar) -> ep.Daybook:
    """Return the book of generated rows, its coverage a few days wider on both sides."""
    on, group, cents = zip(*made, strict=True)
    frame = {
        "on": [START + DAY * n for n in on],
        "g": list(group),
        "x": [Decimal(c).scaleb(-2) for c in cents],
    }
    return ep.Daybook(frame, date="on", by="g", measures=["s=sum(x)", "n=count()"], calendar=calendar,
                      coverage=ep.Span(START - 3 * DAY, START + 905 * DAY))  # fmt: skip


class Algebra(unittest.TestCase):
    """The verbs agree with one another to the cent."""

    @settings(max_examples=40)
    @given(rows, calendars, levels)
    def test_days_add_up_to_periods_and_groups_to_all(self, made, calendar, level):
        book = book_of(made, calendar)
        days = {row["first"]: row["s"] for row in book.recap("day").rows()}
        by_group = defaultdict(Decimal)
        for row in book.recap(level, by="g").rows():
            by_group[row["period"]] += row["s"]
        for row in book.recap(level).rows():
            inside = sum(value for day, value in days.items() if row["first"] <= day <= row["last"])
            self.assertEqual((row["s"], row["s"]), (inside, by_group[row["period"]]))

    @settings(max_examples=40)
    @given(rows, calendars, levels)
    def test_to_date_on_a_periods_last_day_is_its_recap(self, made, calendar, level):
        book = book_of(made, calendar)
        recap = {row["last"]: row["s"] for row in book.recap(level).rows() if row["complete"]}
        runs = {row["date"]: row["s_to_date"] for row in book.accumulate(level).rows()}
        for last, value in recap.items():
            self.assertEqual(runs[last], value)

    @settings(max_examples=40)
    @given(rows, calendars, st.sampled_from(["month", "quarter", "year"]))
    def test_a_window_of_a_periods_length_on_its_last_day_is_its_recap(self, made, calendar, level):
        book = book_of(made, calendar)
        recap = {row["last"]: row for row in book.recap(level).rows() if row["complete"]}
        for row in book.trail(f"1 {level}", every=level).rows():
            if row["last"] in recap:
                own = recap[row["last"]]
                self.assertEqual((row["first"], row["s_trailing"]), (own["first"], own["s"]))

    @settings(max_examples=40)
    @given(rows, calendars, levels, st.integers(1, 3))
    def test_a_change_is_the_difference_of_two_recaps(self, made, calendar, level, n):
        book = book_of(made, calendar)
        recap = {row["period"]: row for row in book.recap(level, by=None).rows()}
        back = f"{n} {level}s" if level != "half" else f"{n} halves"
        for row in book.compare(level, back=back).rows():
            if row["comparable"]:
                now, prior = recap[row["period"]], recap[row["prior_period"]]
                self.assertEqual(row["s_change"], now["s"] - prior["s"])
                self.assertTrue(now["complete"] and prior["complete"])
            else:
                self.assertIsNone(row["s_change"])

    @settings(max_examples=60)
    @given(
        calendars, levels, st.dates(dt.date(1900, 1, 1), dt.date(2200, 1, 1)), st.integers(-40, 40)
    )
    def test_whole_periods_step_there_and_back(self, calendar, level, day, n):
        period = calendar.period_of(day, level)
        self.assertEqual(period.shift(n).shift(-n), period)
        self.assertEqual(calendar.period(period.label), period)
        self.assertIn(day, period)
        later = period.shift(1)
        self.assertEqual(later.first, period.last + DAY)
        self.assertLess(period.label, later.label)

    @settings(max_examples=30)
    @given(rows, calendars, st.integers(1, 39))
    def test_books_merge_in_any_grouping(self, made, calendar, cut):
        whole = book_of(made, calendar)
        if cut >= len(made):
            return
        one, two = book_of(made[:cut], calendar), book_of(made[cut:], calendar)
        for merged in (one.merge(two, force=True), two.merge(one, force=True)):
            self.assertEqual(
                list(merged.recap("month", by="g").rows()),
                list(whole.recap("month", by="g").rows()),
            )

    @settings(max_examples=30)
    @given(rows, calendars, st.integers(0, 900))
    def test_an_as_of_date_sees_what_was_there_by_then(self, made, calendar, n):
        then = START + DAY * n
        known = [row for row in made if row[0] <= n]
        book = book_of(made, calendar)
        if not known:
            rows = book.recap("month", as_of=then).rows()  # quiet so far, in days that are known
            self.assertTrue(all(row["s"] == 0 for row in rows))
            return
        early = book_of_folded(book_of(known, calendar)._store.facts.folded, book.measures, calendar,
                              ep.Span(START - 3 * DAY, then))  # fmt: skip
        for verb, arguments in (("recap", ("month",)), ("accumulate", ("year",)), ("trail", ("2 months",)),
                                ("compare", ("quarter",))):  # fmt: skip
            now, before = (
                getattr(book, verb)(*arguments, as_of=then),
                getattr(early, verb)(*arguments),
            )
            self.assertEqual(list(now.rows()), list(before.rows()), verb)

    @settings(max_examples=60)
    @given(calendars, st.dates(dt.date(1900, 1, 1), dt.date(2200, 1, 1)), st.integers(1, 900))
    def test_every_calendar_nests_and_its_labels_sort_in_time(self, calendar, day, days):
        span = ep.Span(day, day + DAY * days)
        for level in calendar.levels:
            periods = calendar.periods(span, level)
            labels = periods.labels.tolist()
            self.assertEqual(labels, sorted(labels))
            self.assertTrue((periods.first[1:] == periods.last[:-1] + 1).all())
        chain = ["year", "half", "quarter", "month"]
        for wide, narrow in itertools.pairwise(chain):
            edges = set(calendar.periods(span, narrow).first.tolist())
            for first in calendar.periods(span, wide).first.tolist():
                if span.lo <= first:
                    self.assertIn(first, edges, (wide, narrow))

    @settings(max_examples=60)
    @given(
        calendars, levels, st.dates(dt.date(1950, 1, 1), dt.date(2150, 1, 1)), st.integers(-20, 20)
    )
    def test_spans_of_whole_periods_move_there_and_back(self, calendar, level, day, n):
        span = calendar.period_of(day, level).span
        if calendar.units("month", level) is None or calendar.units(level, "year") is None:
            return
        self.assertEqual(span.shift(n, level, calendar).shift(-n, level, calendar), span)

    @settings(max_examples=25)
    @given(rows, calendars, levels)
    def test_rhythm_and_effects_add_up_to_what_they_split(self, made, calendar, level):
        book = book_of(made, calendar)
        whole = sum(Decimal(c).scaleb(-2) for _, _, c in made)
        for per in ("weekday", "day type", "day of month"):
            self.assertEqual(sum(book.rhythm(per, by="g").column("s").to_list()), whole)
        for row in book.compare(level, by="g", effects="weekdays").rows():
            if row["s_change"] is not None:
                parts = [value for name, value in row.items() if name.startswith("s_effect_of_")]
                self.assertEqual(sum(parts) + row["s_rest"], row["s_change"])
