"""The HTML page holds what it says, escaped, in order, and reads well in a real browser."""

import datetime as dt
import itertools
import json
import random
import re
import shutil
import subprocess
import tempfile
import unittest
from html.parser import HTMLParser
from pathlib import Path

from matplotlib.colors import to_rgba
from matplotlib.patches import Rectangle
from matplotlib.text import Text

import eptaro as ep
from eptaro.outputs.html import to_html
from eptaro.plots.theme import LIGHT
from eptaro.reports.sections import SECTIONS

HOSTILE = "<script>alert(1)</script> & \"quoted\" 'name'"
BROWSER = (
    shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
)
FLAGS = ("--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
         "--disable-background-networking", "--disable-component-update", "--disable-sync")  # fmt: skip
PROBE = """<script>
const bad = [];
for (const part of document.querySelectorAll('h1, h2, h3, p, li, dd, caption, figure, nav'))
  if (part.getBoundingClientRect().right > document.documentElement.clientWidth + 1 && !part.closest('.scroll'))
    bad.push(part.tagName + ' ' + part.textContent.slice(0, 40));
const light = c => { const [r, g, b] = c.match(/[\\d.]+/g).map(Number)
  .map(v => v / 255).map(v => v <= 0.03928 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4);
  return 0.2126 * r + 0.7152 * g + 0.0722 * b; };
const ground = part => { for (let p = part; p; p = p.parentElement) {
  const c = getComputedStyle(p).backgroundColor; if (!/, 0\\)$|transparent/.test(c)) return c; } return 'rgb(255,255,255)'; };
let least = 99;
for (const part of document.querySelectorAll('h1, h2, h3, p, td, th, dt, dd, span, a, caption')) {
  if (!part.textContent.trim() || part.classList.contains('skip')) continue;
  const pair = [light(getComputedStyle(part).color), light(ground(part))].sort((a, b) => b - a);
  least = Math.min(least, (pair[0] + 0.05) / (pair[1] + 0.05)); }
const broken = [...document.images].filter(i => !i.complete || !i.naturalWidth).length;
document.title = 'PROBE' + JSON.stringify({bad, least, broken, wide: document.documentElement.scrollWidth > document.documentElement.clientWidth + 1});
</script></body>"""


class Outline(HTMLParser):
    """Headings, links, pictures, table headers and text of a page."""

    def __init__(self, text):
        super().__init__()
        self.tags, self.ids, self.links, self.alts, self.text = [], set(), [], [], []
        self.feed(text)

    def handle_starttag(self, tag, attributes):
        given = dict(attributes)
        self.tags.append((tag, given))
        if "id" in given:
            self.ids.add(given["id"])
        for name in ("href", "src"):
            if name in given:
                self.links.append(given[name])
        if given.get("role") == "img":
            self.alts.append(given["aria-label"])

    def handle_data(self, data):
        self.text.append(data)


def book(hostile=False, without=0, count=2500, days=800) -> ep.Daybook:
    """Return some transactions, one group of which has a hostile name; `without` some of them."""
    rng = random.Random(3)
    start = dt.datetime(2023, 1, 5)
    names = ["north", "south", HOSTILE] if hostile else ["north", "south", "west"]
    rows = [(start + dt.timedelta(rng.randrange(days), 60 * rng.randrange(1440)), rng.choice(names),
             rng.randint(100, 9000)) for _ in range(count)][without:]  # fmt: skip
    at, g, x = zip(*rows, strict=True)
    return ep.Daybook({"at": at, "branch": g, "cents": x}, date="at", by="branch",
                      measures=["takings=sum(cents)", "typical=median(cents)", "n=count()"])  # fmt: skip


def with_few_marks(picture):
    """Return a picture of a page, all of whose marks are alike, with the first of them alone."""
    marks = itertools.count()
    return re.sub(
        r"(?s)<use\b[^>]*?(/>|>.*?</use>)",
        lambda mark: mark[0] if next(marks) < 9 else "",
        picture[0],
    )


class Page(unittest.TestCase):
    """What the page says."""

    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.book = book(hostile=True)
        cls.goals = {("north", f"2024-{month:02}"): 10**6 + month for month in range(1, 13)}
        cls.path = cls.book.report(
            cls.folder / "r.html", title=f"Report {HOSTILE}", goals=cls.goals,
            beside=ep.WeekCalendar("shop"), before=book(hostile=True, without=5),
        )  # fmt: skip
        cls.page = cls.path.read_text(encoding="utf-8")
        cls.outline = Outline(cls.page)

    def test_it_stands_alone_and_text_of_the_data_stays_text(self):
        tags = [tag for tag, _ in self.outline.tags]
        for tag in ("script", "link", "iframe", "object"):
            self.assertNotIn(tag, tags)
        for link in self.outline.links:
            self.assertTrue(link.startswith("#"), link[:60])
            if link.startswith("#"):
                self.assertIn(link[1:], self.outline.ids)
        self.assertIn(HOSTILE, "".join(self.outline.text))
        self.assertFalse(
            any(name.startswith("on") for _, given in self.outline.tags for name in given)
        )

    def test_headings_in_order_headers_on_tables_words_for_pictures(self):
        levels = [int(tag[1]) for tag, _ in self.outline.tags if re.fullmatch("h[1-6]", tag)]
        self.assertEqual(levels.count(1), 1)
        self.assertTrue(all(b - a <= 1 for a, b in itertools.pairwise(levels)))
        heads = [given for tag, given in self.outline.tags if tag == "th"]
        self.assertTrue(heads and all(given.get("scope") in ("col", "row") for given in heads))
        for alt in self.outline.alts:
            self.assertRegex(alt, r"\d")

    def test_figures_are_those_of_the_verbs(self):
        said = " ".join("".join(self.outline.text).split())
        (row,) = self.book.compare("quarter", to_date=True).rows()
        for value in (f"{row['takings']:,}", f"{row['takings_prior']:,}", str(row["prior_last"])):
            self.assertIn(value, said)
        self.assertIn("were recalculated one transaction at a time", said)
        for measure in self.book.measures:
            self.assertIn(measure.formula, said)
        total = sum(row["takings"] for row in self.book.recap("month").rows())
        self.assertIn(f"add up to {total:,}", said)

    def test_sections_that_close_a_month(self):
        said = " ".join("".join(self.outline.text).split())
        goals = {f"2024-{month:02}": 10**6 * month for month in range(1, 7)}
        plain = self.book.report(self.folder / "p.html", sections=["plan"], goals=goals)
        table = self.book.recap("month", goals=goals, only="2024-06")
        (row,) = table.rows()
        words = f"Takings in 2024-06: {row['takings']:,} against a plan of 6,000,000.00 to date"
        self.assertIn(words, " ".join("".join(Outline(plain.read_text()).text).split()))
        self.assertIn("1,000,012.00", said)  # the goal of one group
        beside = self.book.recap("month", beside=ep.WeekCalendar("shop")).tail(1)
        self.assertIn(str(beside.column("shop_period").to_list()[0]), said)
        first = next(self.book.recap("month", beside=ep.WeekCalendar("shop")).rows())
        calendars = self.page.partition('<h2 id="calendars">')[2].partition("<h2 ")[0]
        self.assertNotIn(str(first["shop_period"]), calendars)  # those of the last year alone
        changed = self.book.restated(book(hostile=True, without=5))
        self.assertIn(changed.headline, said)
        self.assertIn("which explains why the totals of the two differ", said)
        bare = self.book.report(self.folder / "b.html").read_text()
        for absent in ("Against the plan", "by two calendars", "Changed since"):
            self.assertNotIn(absent, bare)

    def test_calendars_are_named_once(self):
        page = book().report(self.folder / "c.html").read_text()
        self.assertIn("Calendar: years from 1 January", page)
        self.assertFalse("Calendar calendar" in page)

    def test_sections_are_chosen_and_ordered(self):
        path = self.book.report(
            self.folder / "s.html", sections=["proof", "headline"], per="quarter"
        )
        heads = [given["id"] for tag, given in Outline(path.read_text()).tags if tag == "h2"]
        self.assertEqual(heads, ["proof", "headline"])
        self.assertEqual(len(SECTIONS), self.page.count("<h2 "))
        for options, message in (({"sections": ["charts"]}, "unknown section"), ({"sections": []}, "is empty"),
                                 ({"match": "dates"}, "did you mean 'date'"), ({"trailing": "5 moons"}, "unknown unit"),
                                 ({"per": "fortnight"}, "unknown level"), ({"sheets": "year"}, "unknown option")):  # fmt: skip
            with self.assertRaisesRegex(ep.EptaroError, message):
                self.book.report(self.folder / "t.html", **options)
        with self.assertRaisesRegex(ep.InputError, "report ending"):
            self.book.report(self.folder / "t.docx")
        self.assertFalse((self.folder / "t.html").exists())

    def test_means_are_rounded_and_named_in_words(self):
        typical = self.book._store.measuring(["typical_fare=mean(cents)"])
        means = ep.Daybook._of(typical)
        chosen = ["groups", "rhythm"]
        text = means.report(self.folder / "m.html", sections=chosen).read_text()
        said = " ".join("".join(Outline(text).text).split())
        self.assertIn("Typical fare by branch", said)
        self.assertIn(f"Highest change: {HOSTILE} (+298.70); lowest: north (-148.57).", said)
        self.assertRegex(said, r"Typical fare: Monday [\d,.]+, Tuesday")
        self.assertNotIn("typical_fare", said)

    def test_blank_groups_goals_in_part_and_measures_without_a_rhythm(self):
        days = [dt.date(year, month, 3) for year in (2023, 2024) for month in range(1, 13)]
        rows = {"on": days, "g": [None, "a"] * 12, "v": [*range(24)]}
        staged = "busiest=max(sum(v) per month)"
        for measures, rhythm in (([staged], "they have no rhythm"), (["s=sum(v)"], "S per day: Monday"),
                                 ([staged, "typical=mean(v)"], "Typical: Monday")):  # fmt: skip
            book = ep.Daybook(rows, date="on", by="g", measures=measures, coverage="years")
            path = book.report(
                self.folder / "b.html", per="year", goals={"2024-02": 5, "2024-03": 6}
            )
            said = " ".join("".join(Outline(path.read_text()).text).split())
            for words in (rhythm, "no year has a goal", "lowest: (blank) (+"):
                self.assertIn(words, said)
            self.assertNotIn("could not be made", said)

    def test_a_single_day_makes_a_page_too(self):
        one = ep.Daybook({"on": ["2025-08-20"], "x": [5]}, date="on", measures="s=sum(x)")
        text = one.report(self.folder / "one.html").read_text()
        self.assertIn("not comparable", text)
        self.assertNotIn("could not be made", text)

    def test_tables_as_pages_of_their_own(self):
        table = self.book.recap("quarter", by="branch", totals=True)
        outline = Outline(to_html(table))
        self.assertIn(HOSTILE, "".join(outline.text))
        self.assertEqual(sum(tag == "tr" for tag, _ in outline.tags), len(table) + 1)
        self.assertEqual(
            sum(given.get("class") == "total" for tag, given in outline.tags if tag == "tr"), 3
        )

    def dumped(self, page: str, width: int) -> str:
        """Return a page's document as a browser has it in the end."""
        if BROWSER is None:
            self.skipTest("no Chromium is installed on this machine")
        probed = self.folder / "probe.html"
        probed.write_text(page, encoding="utf-8")
        with tempfile.TemporaryDirectory() as profile:
            done = subprocess.run(
                [BROWSER, *FLAGS, f"--user-data-dir={profile}", f"--window-size={width},900",
                 "--virtual-time-budget=60000", "--dump-dom", probed.as_uri()],
                capture_output=True, text=True, timeout=120, check=False,
            )  # fmt: skip
        if "<title>PROBE" not in done.stdout:
            self.skipTest(f"Chromium did not start: {done.stderr[-200:]}")
        found = re.search(r"<title>PROBE(.*?)</title>", done.stdout, re.S)
        assert found
        return found[1].replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&")

    def test_in_a_real_browser_nothing_overflows_or_is_too_pale(self):
        for width in (1280, 390):
            seen = json.loads(self.dumped(self.page.replace("</body>", PROBE), width))
            self.assertEqual((seen["bad"], seen["broken"], seen["wide"]), ([], 0, False), width)
            self.assertGreaterEqual(seen["least"], 4.5)

    def test_it_passes_the_rules_of_accessibility(self):
        import axe_core_python

        axe = (Path(axe_core_python.__file__).parent / "axe.min.js").read_text(encoding="utf-8")
        run = "axe.run(document).then(r => { document.title = 'PROBE' + JSON.stringify(r.violations.map(" \
              "v => [v.id, v.nodes.length, v.nodes[0].html.slice(0, 90)])); })"  # fmt: skip
        page = re.sub(r"(?s)<svg.*?</svg>", with_few_marks, self.page)
        self.assertLess(len(page), len(self.page) / 2)
        page = page.replace("</body>", f"<script>{axe}</script><script>{run}</script></body>")
        self.assertEqual(json.loads(self.dumped(page, 1280)), [])

    def test_a_section_without_anything_to_say_says_so_in_a_line(self):
        days = [dt.date(2025, 1, 1) + dt.timedelta(n) for n in range(200)]
        short = ep.Daybook({"on": days, "x": range(200)}, date="on", measures="s=sum(x)")
        outline = Outline(short.report(self.folder / "short.html").read_text())
        said = " ".join("".join(outline.text).split())
        self.assertIn("Nothing to compare yet: the data covers only 2025-01-01", said)
        self.assertNotIn("groups", [given.get("id") for tag, given in outline.tags if tag == "h2"])


class Better(unittest.TestCase):
    """Less is better of costs: words and colours follow."""

    def test_where_less_is_better_sentences_pages_and_pictures_say_so(self):
        rows = {"on": ["2024-01-05", "2024-02-05", "2024-03-05", "2024-04-05"], "g": ["a"] * 4,
                "x": [10, 8, 8, 12]}  # fmt: skip
        for better, words, bad in (
            ("lower", ["worse", None, "better"], ["4", "+50.0%"]),
            ("higher", [None, None, None], ["-2", "-20.0%"]),
        ):
            one = ep.Daybook(rows, date="on", by="g", measures="late=sum(x)", coverage="2024-01-01..2024-04-30",
                             formats={"late": ep.Format(better=better)})  # fmt: skip
            table = one.compare("month", by="g", back="1 month")
            for as_of, word in zip(("2024-04-30", "2024-03-31", "2024-02-29"), words, strict=True):
                head = one.compare("month", back="1 month", as_of=as_of).headline
                self.assertEqual(
                    re.findall(r", (better|worse)\)", head), [word] if word else [], head
                )
            page = to_html(table)
            found = re.findall(r'class="number down">([^<]+)<', page)
            self.assertEqual(found, bad)
            picture = table.plot(kind="changes")
            seen = [text.get_text() for text in picture.findobj(Text)]
            self.assertEqual(
                ("worse" in seen, "down" in seen), (better == "lower", better == "higher")
            )
            bars = {
                patch.get_facecolor()
                for patch in picture.findobj(Rectangle)
                if patch.get_width() == 4
            }
            self.assertIn(to_rgba(LIGHT.warm if better == "lower" else LIGHT.accent), bars)
            two = ep.Daybook({"on": ["2023-04-05", "2024-04-05"], "x": [10, 12]}, date="on", measures="late=sum(x)",
                             coverage="2023-04-01..2024-04-30", formats={"late": ep.Format(better=better)})  # fmt: skip
            with tempfile.TemporaryDirectory() as folder:
                page = two.report(Path(folder) / "r.html", sections=["headline"]).read_text("utf-8")
            cards = re.findall(r'class="change( down)?">([^<]+)<', page)
            self.assertEqual(
                cards[1], (" down", "up 20.0%, worse") if better == "lower" else ("", "up 20.0%")
            )
