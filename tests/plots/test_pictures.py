"""Pictures of every kind are drawn, and no text in them lies over another."""

import datetime as dt
import random
import tempfile
import unittest
from itertools import combinations
from pathlib import Path
from unittest import mock
from xml.etree import ElementTree

from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.colors import to_hex

import eptaro as ep
from eptaro.core.results.format import format_column
from eptaro.plots import timeaxis, words
from eptaro.plots.draw import kinds_of
from eptaro.plots.theme import DARK, LIGHT, PRINT

LONG = "The Remarkably Long Name of a Harbour, Branch"
DISTRIBUTIONS = ("spread", "histogram")  # of a column, not of measures
CAFE = ep.WeekCalendar("cafe")  # FY2024 has 53 weeks


def book(groups=("a", "b", "c"), days=900, calendar=None, seed=5, timed=False) -> ep.Daybook:
    """Return random transactions with negative values and quiet days."""
    rng = random.Random(seed)
    start = dt.datetime(2023, 2, 3)
    rows = [(start + dt.timedelta(rng.randrange(days), 60 * rng.randrange(24 * 60) * timed),
             rng.choice(groups), rng.choice([None, rng.randint(-4000, 9000)])) for _ in range(days * 2)]  # fmt: skip
    at, g, x = zip(*rows, strict=True)
    on = at if timed else [a.date() for a in at]
    return ep.Daybook({"on": on, "g": g, "x": x}, date="on", by="g", calendar=calendar,
                      measures=["net=sum(x)", "n=count()", "typical=median(x)"],
                      formats={"net": ep.Format(sign="€", places=0)})  # fmt: skip


class Drawn(unittest.TestCase):
    """Every kind, at 1, some and many periods and groups."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def draw(self, table: ep.Table, kind=None, **look):
        """Return the figure of a table, after checking its texts: none lies over another, none is
        cut off, all differ enough from the paper."""
        figure = table.plot(kind=kind, **look)
        boxes = self.boxes(figure)
        for (one, box), (two, other) in combinations(boxes, 2):
            apart = not box.overlaps(other)
            self.assertTrue(
                apart, f"{one!r} lies over {two!r} in {kind or table.meta['verb']} {look}"
            )
        inside = figure.bbox.padded(2)
        for text, box in boxes:
            self.assertTrue(
                inside.x0 <= box.x0 and box.x1 <= inside.x1, f"{text!r} is cut off {look}"
            )
        return figure

    def boxes(self, figure):
        renderer = FigureCanvasAgg(figure).get_renderer()
        found, beyond = [], set()
        for axis in (axis for axes in figure.axes for axis in (axes.xaxis, axes.yaxis)):
            low, high = sorted(axis.get_view_interval())
            margin = (high - low) * 1e-9
            ticks = [
                t
                for t in axis.get_major_ticks()
                if not low - margin <= t.get_loc() <= high + margin
            ]
            beyond |= {id(label) for tick in ticks for label in (tick.label1, tick.label2)}
        for text in figure.findobj(lambda part: hasattr(part, "get_text") and part.get_visible()):
            if text.get_text().strip() and id(text) not in beyond:
                box = text.get_window_extent(renderer)
                if text.get_rotation():
                    continue  # slanted names: their boxes overlap where they do not
                found.append((text.get_text(), box.padded(-1.5)))
        return found

    def test_each_verb_of_some_periods_and_groups(self):
        one, timed = book(), book(timed=True)
        tables = [
            one.recap("quarter"), one.recap("month", by="g", totals=True, subtotals="year"),
            one.recap("weekday"), one.accumulate("year"), one.accumulate("quarter", by="g"),
            one.trail("28 days"), one.trail("3 months", every="month", by="g"),
            one.compare("quarter"), one.compare("quarter", to_date=True, by="g"),
            one.compare("year", to_date=True, every="day"), one.compare("month", by="g"),
            timed.rhythm("weekday", "hour"), one.rhythm("month", "day type"), one.rhythm("day of month"),
            one.spread("x", "weekday"), one.spread("x", "month", by="g"), one.spread("x"),
            one.histogram("x", "quarter"), one.histogram("x"),
        ]  # fmt: skip
        drawn = set()
        for table in tables:
            for kind in kinds_of(table):
                # The measures of a picture are panels alike: one of each kind has all of them.
                self.draw(
                    table,
                    kind,
                    measure="net"
                    if kind in drawn and table.meta["verb"] not in DISTRIBUTIONS
                    else None,
                )
                drawn.add(kind)
        self.assertEqual(
            drawn,
            {
                "bars",
                "lines",
                "areas",
                "dots",
                "changes",
                "steps",
                "heat",
                "sheet",
                "boxes",
                "histogram",
            },
        )

    def test_one_of_everything(self):
        one = ep.Daybook(
            {"on": ["2025-08-20"], "g": ["x"], "x": [5]}, date="on", by="g", measures="net=sum(x)"
        )
        for table in (one.recap("month"), one.accumulate("month"), one.trail("5 days"), one.recap("day", by="g"),
                      one.compare("month"), one.spread("x"), one.histogram("x"), one.rhythm("weekday", "month")):  # fmt: skip
            for kind in kinds_of(table):
                self.draw(table, kind)

    def test_many_groups_years_and_sizes(self):
        for count in (24,):
            made = book([f"Harbour {n:02d}" for n in range(count)], days=500)
            for table in (
                made.recap("quarter", by="g"), made.accumulate("year", by="g"), made.compare("quarter", by="g"),
                made.trail("3 months", every="month", by="g"), made.compare("quarter", to_date=True, by="g"),
            ):  # fmt: skip
                for kind in kinds_of(table):
                    self.draw(table, kind, measure="net")
        for size in ((640, 480), (1600, 1000)):
            for table in (
                book().recap("month"),
                book().accumulate("year"),
                book().compare("quarter", to_date=True, by="g"),
            ):
                self.draw(table, size=size, measure="net")
        long = book(days=12 * 365)
        for table in (long.recap("year"), long.recap("month"), long.compare("year")):
            self.draw(table, measure="net")
        tiny = ep.Daybook(
            {"on": ["2025-01-05", "2025-02-07"], "x": [-1e-9, 3e-12]},
            date="on",
            measures="s=sum(x)",
        )
        self.draw(tiny.recap("month"))

    def test_texts_differ_from_the_paper_by_four_and_a_half(self):
        for name, theme in (("light", LIGHT), ("dark", DARK), ("print", PRINT)):
            for colour in (theme.ink, theme.soft, theme.accent, theme.warm, *theme.lines):
                self.assertGreaterEqual(contrast(colour, theme.paper), 4.5, (name, colour))
        figure = self.draw(book().recap("quarter"), theme="dark", title="Mine", unit="euros")
        self.assertEqual(figure.texts[0].get_text(), "Mine")
        self.assertTrue(any("in euros" in text.get_text() for text in figure.texts))

    def test_in_svg_every_mark_tells_its_days_and_value(self):
        table = book().recap("quarter", by="g")
        root = ElementTree.parse(table.plot(self.folder / "q.svg", measure="net")).getroot()
        titles = [part.text for part in root.iter("{http://www.w3.org/2000/svg}title")]
        for row in table.rows():
            self.assertIn(
                f"{row['period']}, {row['first']} to {row['last']}: {'-' if row['net'] < 0 else ''}€{abs(row['net']):,}",
                titles,
            )
        windows = book().trail("28 days")
        root = ElementTree.fromstring(windows.picture(measure="net").svg.encode())
        titles = [part.text for part in root.iter("{http://www.w3.org/2000/svg}title")]
        points = [(float(part.get("x")), part.find("{*}title").text) for part in root.iter("{http://www.w3.org/2000/svg}use")
                  if part.find("{*}title") is not None]  # fmt: skip
        told = [
            f"{row['first']} to {row['last']}"
            for row in windows.rows()
            if row["net_trailing"] is not None
        ]
        self.assertEqual([text.partition(":")[0] for _, text in sorted(points)], told)

    def test_numbers_have_the_decimals_of_their_column(self):
        rows = {"on": ["2025-01-01", "2025-02-01", "2025-02-02", "2025-03-01"], "x": [1, 5432.1, 0, 0.123456],
                "m": [10**6, 2, 3, 4]}  # fmt: skip
        one = ep.Daybook(rows, date="on", measures=["typical=mean(x)", "sum(m)"])
        table = one.recap("month")
        for name in ("typical", "sum_m"):
            drawn = table.picture(measure=name).svg
            for row, text in zip(table.rows(), format_column(table.column(name)), strict=True):
                self.assertIn(f"{row['period']}, {row['first']} to {row['last']}: {text}<", drawn)

    def test_three_hundred_periods_and_sixty_groups_with_long_names(self):
        names = [f"{LONG} {n:02d}" for n in range(57)] + [
            "מעבורת חיפה",
            "Café Œuvre Ñandú",
            "<script>",
        ]
        big = book(names, days=25 * 365, calendar=CAFE)
        for table in (big.recap("month"), big.accumulate("year")):
            self.draw(table)
        figure = self.draw(big.recap("year", by="g"))
        texts = [text for text, _ in self.boxes(figure)]
        self.assertTrue(any("24 largest of 60 groups" in text for text in texts))
        for kind in ("changes", "steps"):
            self.draw(big.compare("year", to_date=True, by="g"), kind)
        fiscal = self.draw(big.recap("day", only="2023-01-29..2024-02-03"), "sheet")
        labels = [text for text, _ in self.boxes(fiscal)]
        self.assertIn("FY2024-M12", labels)

    def test_unfinished_periods_are_hatched_and_titles_state_the_finding(self):
        table = book().recap("quarter")
        figure = self.draw(table)
        hatched = [bar for bar in figure.axes[0].patches if bar.get_hatch()]
        unfinished = [row for row in table.rows() if not row["complete"]]
        self.assertEqual(len(hatched), len(unfinished))
        compared = book().compare("year", to_date=True, by="g")
        change = sum(row["net_change"] for row in compared.rows())
        figure = self.draw(compared)
        title = " ".join(text.get_text() for text in figure.texts[:2])
        self.assertIn(f"{'up' if change >= 0 else 'down'} €{abs(change):,}", title)

    def test_files_of_each_ending_and_pictures_in_notebooks(self):
        table = book().recap("quarter")
        heads = {"png": b"\x89PNG", "svg": b"<?xml", "pdf": b"%PDF"}
        for ending, head in heads.items():
            path = table.plot(self.folder / f"q.{ending}")
            self.assertTrue(path.read_bytes().startswith(head))
        self.assertIn("<svg", table.picture()._repr_svg_())
        self.assertTrue(table.picture().png.startswith(b"\x89PNG"))
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["q.pdf", "q.png", "q.svg"])

    def test_the_same_picture_has_the_same_bytes(self):
        with tempfile.TemporaryDirectory() as folder:
            for ending in ("svg", "pdf", "png"):
                paths = [Path(folder) / f"{number}.{ending}" for number in range(2)]
                for path in paths:
                    book(groups=["a", "b"]).recap("month", by="g").plot(path, measure="net")
                self.assertEqual(*(path.read_bytes() for path in paths), ending)

    def test_a_card_in_bars(self):
        calendars = [
            ep.MonthCalendar(),
            ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY"),
        ]
        for by in ([], "g"):
            figure = self.draw(book().card(by=by, calendars=calendars, as_of="2024-05-17"))
            self.assertGreaterEqual(len(figure.axes[0].patches), 8)

    def test_titles_keep_whole_sentences_and_panels_have_names_that_differ(self):
        names = [f"Warehouse number {n} of the far north-east" for n in range(8)]
        figure = self.draw(book(groups=names).recap("month", by="g"))
        titles = [axes.get_title("left") for axes in figure.axes]
        self.assertEqual(len({*titles}), len(titles))
        self.assertTrue(all(any(f"{n} " in title for title in titles) for n in range(8)))
        long = " ".join(["A finding of many words that goes on and on"] * 6) + "."
        for said in (long, f"{long} And another one."):
            figure = self.draw(book().recap("quarter"), title=said)
            drawn = " ".join(text.get_text() for text in figure.texts)
            self.assertIn(long, drawn)
            self.assertNotIn("…", drawn)

    def test_a_year_that_is_over_is_not_called_to_date(self):
        one = book()
        for as_of, told in (("2024-12-31", False), ("2024-12-30", True)):
            for table in (
                one.accumulate("year", as_of=as_of),
                one.compare("quarter", to_date=True, as_of=as_of),
            ):
                self.assertEqual("to date" in table.headline, told, table.headline)
        self.draw(one.accumulate("year", as_of="2024-12-31"))

    def test_figures_stand_out_from_their_shade(self):
        figure = self.draw(book(timed=True).rhythm("weekday", "hour"), "heat")
        axes = figure.axes[0]
        image, inks = axes.images[0], {}
        for text in axes.texts:
            place, row = (round(part) for part in text.get_position())
            shade = image.cmap(image.norm(image.get_array()[row, place]))
            self.assertGreaterEqual(contrast(text.get_color(), to_hex(shade)), 4.4, text.get_text())
            self.assertEqual(inks.setdefault(text.get_text(), text.get_color()), text.get_color())

    def test_shades_end_at_the_largest_value_though_it_is_negative(self):
        rows = {"on": ["2025-01-01", "2025-01-02"], "v": [-5, -3]}
        below = ep.Daybook(rows, date="on", measures="m=mean(v)")
        figure = self.draw(below.recap("day"), "sheet")
        (image,) = (image for axes in figure.axes for image in axes.images)
        self.assertEqual(image.get_clim(), (-5, -3))

    def test_a_sheet_of_days_without_a_value(self):
        rows = {"on": ["2025-01-01", "2025-01-03"], "v": [None, None]}
        blank = ep.Daybook(rows, date="on", measures="m=mean(v)")
        self.draw(blank.recap("day"), "sheet")

    def test_what_cannot_be_drawn(self):
        one = book()
        rows = {"on": ["2025-01-01"], "g": ["a"], "v": [5]}
        single = ep.Daybook(rows, date="on", by="g", measures="s=sum(v)")
        for table, options, message in (
            (one.recap("quarter"), {"kind": "bar"}, "did you mean 'bars'"),
            (one.recap("quarter"), {"measure": "nett"}, "did you mean 'net'"),
            (one.recap("quarter", by="g", wide=True), {}, "no picture: leave wide=True out"),
            (single.compare("year", by="g", groups="both"), {"kind": "changes"}, "no group has"),
            (one.recap("day", by="g"), {"kind": "sheet"}, "unknown kind of picture"),
            (one.compare("month", back=["1 month", "1 year"]), {}, "no picture: give one prior"),
        ):
            with self.assertRaisesRegex(ep.QuestionError, message):
                table.plot(self.folder / "x.png", **options)
        with self.assertRaisesRegex(ep.InputError, "picture ending"):
            one.recap("quarter").plot(self.folder / "x.gif")
        self.assertEqual(list(self.folder.iterdir()), [])


def contrast(one: str, two: str) -> float:
    """Return the contrast of two colours, as WCAG 2.1 defines it."""
    light = []
    for colour in (one, two):
        parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
        parts = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        light.append(0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2])
    return (max(light) + 0.05) / (min(light) + 0.05)


class AxisMarks(unittest.TestCase):
    """Marks stand where periods begin, and their words are thinned to what fits."""

    def test_marks_of_days_and_periods(self):
        for calendar in (CAFE, ep.MonthCalendar("f", year_starts="09-10", prefix="FY")):
            for days in (5, 40, 400, 9000):
                marks = timeaxis.day_marks(calendar, 19000, 19000 + days, 1100)
                opens = {int(day) for level in ("day", "week", "month", "year")
                         for day in calendar.periods(calendar.period_of("2022-01-08", "year").span if days < 16
                                                     else ep.Span.of(19000, 19000 + days), level).first}  # fmt: skip
                self.assertTrue(days < 16 or {int(place) for place in marks.places} <= opens)
                self.assertLessEqual(len(marks.places), 24)
                self.assertTrue(all(19000 <= place <= 19000 + days for place in marks.places))
                again = marks.fit(300, 19000, 19000 + days)
                self.assertLessEqual(len(again.places), 7)
        months = ep.MonthCalendar().periods(ep.Span("2020-01-01", "2024-12-31"), "month")
        marks = timeaxis.thinned_periods(
            ep.MonthCalendar(), "month", months.first, months.labels.tolist(), 500
        )
        self.assertEqual([word.split("\n")[0] for word in marks.words[:2]], ["Jan", "Jul"])
        self.assertEqual(marks.words[2], "Jan\n2021")

    def test_labels_are_moved_apart_and_numbers_share_their_decimals(self):
        self.assertEqual(words.spread_apart([3.0, 1.0, 1.2], 1.0), [3.0, 1.0, 2.0])
        self.assertEqual(words.of_one_size([1.5, 20.0]), ["1.5", "20.0"])
        self.assertEqual(words.of_one_size([3.0, -20.0]), ["3", "-20"])


class OneRule(unittest.TestCase):
    """A picture of a running total and a comparison say the same gap, by date."""

    def test_in_leap_years_and_on_week_calendars(self):
        days = [dt.date(2023, 1, 1) + dt.timedelta(n) for n in range(800)]
        for calendar in (ep.MonthCalendar(), ep.WeekCalendar("w", year_ends="12-31")):
            made = ep.Daybook({"on": days, "x": [n * 7 % 100 for n in range(800)]}, date="on",
                              measures="s=sum(x)", calendar=calendar)  # fmt: skip
            for as_of in ("2024-02-29", "2024-03-15", "2024-12-20"):
                for within in ("year", "quarter"):
                    said = self.told(made.accumulate(within, as_of=as_of))
                    (row,) = made.compare(
                        within, back=f"1 {within}", to_date=True, as_of=as_of
                    ).rows()
                    side = "above" if row["s_change"] >= 0 else "below"
                    self.assertIn(
                        f"{abs(row['s_change']):,} {side} {row['prior_period']} at this point", said
                    )

    def told(self, table):
        with mock.patch("matplotlib.axes.Axes.annotate") as annotate:
            table.plot(kind="lines")
        return " ".join(str(call.args[0]) for call in annotate.mock_calls if call.args)
