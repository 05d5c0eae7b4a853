"""Pictures of every kind are drawn, and no text in them lies over another."""

import datetime as dt
import random
import tempfile
import unittest
from itertools import combinations
from pathlib import Path
from unittest import mock

import numpy as np
from matplotlib.backends.backend_agg import FigureCanvasAgg

import eptaro as ep
from eptaro.pictures import page, words
from eptaro.pictures.draw import kinds_of

LONG = "The Remarkably Long Name of a Harbour, Branch"
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

    def draw(self, table: ep.Table, kind=None):
        """Draw a table, and return its figure after checking that no two texts overlap."""
        kept = []

        def save(figure, path):
            kept.append(figure)
            figure.savefig(path)
            return Path(path)

        with mock.patch.object(page, "save", save):
            table.plot(self.folder / "p.png", kind=kind)
        figure = kept[0]
        boxes = self.boxes(figure)
        for (one, box), (two, other) in combinations(boxes, 2):
            apart = not box.overlaps(other)
            self.assertTrue(apart, f"{one!r} lies over {two!r} in {kind or table.meta['verb']}")
        inside = figure.bbox.padded(2)
        for text, box in boxes:
            self.assertTrue(inside.x0 <= box.x0 and box.x1 <= inside.x1, f"{text!r} is cut off")
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
            timed.rhythm("weekday", "hour"), one.rhythm("month", "kind of day"), one.rhythm("day of month"),
            one.spread("x", "weekday"), one.spread("x", "month", by="g"), one.spread("x"),
            one.histogram("x", "quarter"), one.histogram("x"), one.recap("day"), one.accumulate("month"),
        ]  # fmt: skip
        drawn = set()
        for table in tables:
            for kind in kinds_of(table):
                self.draw(table, kind)
                drawn.add(kind)
        self.assertEqual(
            drawn, {"bars", "lines", "changes", "steps", "heat", "sheet", "boxes", "histogram"}
        )

    def test_one_of_everything(self):
        one = ep.Daybook(
            {"on": ["2025-08-20"], "g": ["x"], "x": [5]}, date="on", by="g", measures="net=sum(x)"
        )
        for table in (one.recap("month"), one.accumulate("month"), one.trail("5 days"), one.recap("day", by="g"),
                      one.compare("month"), one.spread("x"), one.histogram("x"), one.rhythm("weekday", "month")):  # fmt: skip
            for kind in kinds_of(table):
                self.draw(table, kind)

    def test_three_hundred_periods_and_sixty_groups_with_long_names(self):
        names = [f"{LONG} {n:02d}" for n in range(57)] + [
            "מעבורת חיפה",
            "Café Œuvre Ñandú",
            "<script>",
        ]
        big = book(names, days=25 * 365, calendar=CAFE)
        for table in (
            big.recap("month"),
            big.trail("12 months", every="month"),
            big.accumulate("year"),
        ):
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
        title = self.draw(compared).texts[0].get_text()
        self.assertIn(f"{'up' if change >= 0 else 'down'} €{abs(change):,}", title)

    def test_files_of_each_ending_and_pictures_in_notebooks(self):
        table = book().recap("quarter")
        heads = {"png": b"\x89PNG", "svg": b"<?xml", "pdf": b"%PDF"}
        for ending, head in heads.items():
            path = table.plot(self.folder / f"q.{ending}")
            self.assertTrue(path.read_bytes().startswith(head))
        self.assertTrue(table.picture()._repr_png_().startswith(b"\x89PNG"))
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["q.pdf", "q.png", "q.svg"])

    def test_what_cannot_be_drawn(self):
        one = book()
        for table, options, message in (
            (one.recap("quarter"), {"kind": "bar"}, "did you mean 'bars'"),
            (one.recap("quarter"), {"measure": "nett"}, "did you mean 'net'"),
            (one.recap("quarter", by="g", wide=True), {}, "no picture"),
            (one.card(), {}, "no picture"),
            (one.recap("day", by="g"), {"kind": "sheet"}, "unknown kind of picture"),
            (one.compare("month", back=["1 month", "1 year"]), {}, "no picture"),
        ):
            with self.assertRaisesRegex(ep.QuestionError, message):
                table.plot(self.folder / "x.png", **options)
        with self.assertRaisesRegex(ep.InputError, "picture ending"):
            one.recap("quarter").plot(self.folder / "x.gif")
        self.assertEqual(list(self.folder.iterdir()), [])


class Words(unittest.TestCase):
    """Labels are thinned to what fits, on the first of wider periods."""

    def test_labels_fit_and_fall_on_openings(self):
        for count in (1, 3, 12, 41, 300, 3650):
            labels = [f"{2000 + n // 12}-{n % 12 + 1:02d}" for n in range(count)]
            for room in (80, 300, 1100):
                places = words.thinned(labels, room)
                self.assertTrue(places)
                if len(places) > 1:
                    self.assertLessEqual(len(places) * 7 * 6.4, room)
                    steps = set(np.diff(places).tolist())
                    self.assertEqual(len(steps), 1)
                    if steps.pop() % 12 == 0:
                        self.assertTrue(all(labels[i].endswith("-01") for i in places))

    def test_marks_stand_where_periods_begin(self):
        for calendar in (CAFE, ep.MonthCalendar("f", year_starts="09-10", prefix="FY")):
            for days in (5, 40, 400, 9000):
                marks, labels = words.date_marks(calendar, 19000, 19000 + days)
                self.assertLessEqual(len(marks), 17)
                for mark, label in zip(marks, labels, strict=True):
                    self.assertEqual(calendar.period(label).span.lo, mark)


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
                        f"{abs(row['s_change']):,} {side} {row['prior_period']} by then", said
                    )

    def told(self, table):
        with tempfile.TemporaryDirectory() as folder, mock.patch.object(page.Page, "save") as save:
            save.side_effect = lambda path: path
            with mock.patch("matplotlib.axes.Axes.annotate") as annotate:
                table.plot(Path(folder) / "p.png", kind="lines")
        return " ".join(str(call.args[0]) for call in annotate.mock_calls if call.args)
