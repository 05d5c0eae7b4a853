"""A book in a folder answers as the book in memory does; its files are what the page says."""

import datetime as dt
import json
import random
import re
import tempfile
import unittest
import zipfile
from collections import Counter
from decimal import Decimal
from pathlib import Path
from unittest import mock

import pyarrow as pa
from pyarrow import parquet

import eptaro as ep
from eptaro.paths import StoragePath
from eptaro.sharded.adding import put_folded
from eptaro.storage.metadata import options_of

SPECS = [
    "fares=sum(fare)", "trips=count()", "share=sum(share)", "each=fares / trips", "top=max(fare)", "opening=first(fare)", "closing=last(fare)",
    "people=distinct(who)", "fresh=new(who)", "middle=median(fare)", "spread=std(share)", "most=max(who)", "busiest=max(sum(fare) per day)",
]  # fmt: skip
ROUTES = ["Norrow", "Ærø", "", None, "b"]


def rows(seed: int, count: int = 600) -> pa.Table:
    """Return random transactions: decimals, floats, blanks in every column but the date."""
    rng = random.Random(seed)
    start = dt.date(2023, 11, 3)
    columns = {
        "day": [start + dt.timedelta(rng.randrange(500)) for _ in range(count)],
        "route": [rng.choice(ROUTES) for _ in range(count)],
        "ship": [rng.choice([*range(12), None]) for _ in range(count)],
        "fare": [rng.choice([None, Decimal(rng.randint(-999, 9999)).scaleb(-2)]) for _ in range(count)],
        "share": [rng.choice([None, rng.uniform(-2, 2)]) for _ in range(count)],
        "who": [rng.choice([None, f"p{rng.randrange(40)}"]) for _ in range(count)],
    }  # fmt: skip
    kinds = {"day": pa.date32(), "route": pa.string(), "ship": pa.int64(), "fare": pa.decimal128(9, 2), "share": pa.float64(), "who": pa.string()}  # fmt: skip
    return pa.table({name: pa.array(values, kinds[name]) for name, values in columns.items()})


def asked(**more) -> dict:
    """Return the options of a book of these rows."""
    return {"date": "day", "by": ["route", "ship"], "measures": SPECS} | more


QUESTIONS = [
    ("recap", ("month",), {}), ("recap", ("quarter",), {"by": "route"}), ("recap", ("year",), {"by": ["ship", "route"], "totals": True}),
    ("recap", ("month",), {"by": "all", "only": ["2024", {"route": ["Ærø", None]}]}), ("recap", ("month",), {"only": "ship=7"}),
    ("recap", ("year",), {"only": ["route=b", "ship=3"]}), ("recap", ("year",), {"by": "all", "only": {"route": ["b", None, "(blank)"], "ship": [1, "2", 3]}}), ("recap", ("month",), {"only": {"route": "", "ship": None}}),
    ("recap", ("month",), {"by": "all", "only": {"route": "Norrow", "ship": 5}, "as_of": "2023-11-03"}), ("recap", ("year",), {"by": "all", "top": 3}), ("recap", ("year",), {"by": "all", "shares": True, "sort": "-trips"}),
    ("recap", ("quarter",), {"by": "all", "as_of": "2023-11-03"}), ("recap", ("weekday",), {"by": "all"}), ("recap", ("half",), {"by": "route", "wide": True}),
    ("compare", ("quarter",), {"by": "all", "to_date": True, "as_of": "2025-02-10"}), ("compare", ("year",), {"by": "all", "details": True}),
    ("compare", ("month",), {"by": "ship", "back": ["1 month", "1 year"]}), ("compare", ("month",), {"by": "all", "sort": ["period", "-trips_change"]}), ("recap", ("month",), {"by": "all", "sort": ["period", "-trips", "ship"], "shares": True}),
    ("accumulate", ("year",), {"by": "all", "every": "month"}), ("accumulate", ("quarter",), {}), ("trail", ("2 months",), {"by": "all", "every": "month"}),
    ("trail", ("9 days",), {"by": "route"}), ("card", (), {"by": "route", "back": "1 year", "trailing": "3 months"}), ("rhythm", ("weekday",), {"by": "ship"}),
]  # fmt: skip
BESIDE = [  # groups are set beside each other that lie in several shards
    ("recap", ("year",), {"by": "all", "top": 4, "sort": "-trips"}), ("recap", ("quarter",), {"by": ["ship", "route"], "top": 2, "top_within": "route"}), ("recap", ("month",), {"by": "all", "top": 50, "shares": True, "ranks": True}),
    ("recap", ("quarter",), {"by": "all", "top": 1, "top_within": ["ship"], "only": ["2024", {"route": ["Ærø", "b", None]}], "as_of": "2024-08-09"}), ("recap", ("year",), {"by": "all", "top": 3, "as_of": "2023-11-03", "totals": True}),
    ("recap", ("month",), {"by": "all", "shares": True, "ranks": True, "subtotals": ["quarter", "year"], "totals": True}), ("recap", ("quarter",), {"by": "all", "ranks": True, "sort": "-share_rank"}),
    ("recap", ("year",), {"by": "all", "shares": True, "ranks": True, "only": {"route": "b", "ship": [3, 4, 5]}}), ("recap", ("half",), {"by": "all", "shares": True, "totals": True}), ("recap", ("month",), {"by": "all", "index": "2024-03"}), ("recap", ("quarter",), {"by": "all", "shares": True, "sort": "people"}),
    ("compare", ("quarter",), {"by": "all", "details": True, "back": ["1 year", "1 quarter"], "to_date": True, "as_of": "2025-02-10"}), ("compare", ("year",), {"by": "all", "details": True, "only": {"route": ["b", "Norrow"]}, "sort": "-fares_contribution"}),
    ("accumulate", ("quarter",), {"by": "all", "every": "month", "sort": "-fares_to_date"}), ("trail", ("28 days",), {"by": "route", "every": "week", "sort": ["-fares_trailing", "trips_trailing"]}), ("accumulate", ("year",), {"by": "all", "sort": "none"}),
    ("card", (), {"by": "all"}), ("recap", ("month",), {"by": "all", "only": ["route=b", "ship=3"], "ranks": True}), ("recap", ("quarter",), {"by": "all", "top": 2, "top_within": "period"}), ("recap", ("year",), {"by": "all", "top": 1, "top_within": ["route", "period"], "ranks": True, "sort": "-trips"}), ("compare", ("quarter",), {"by": "all", "top": 3, "details": True, "sort": "-fares_change"}),
    ("compare", ("month",), {"by": "route", "groups": "both", "to_date": True, "details": True}), ("compare", ("quarter",), {"by": "all", "groups": "both", "back": "1 quarter", "effects": "days", "only": {"route": ["b", "Norrow"]}}),
]  # fmt: skip
OF_ONE = [  # of books with one group column
    ("compare", ("quarter",), {"by": "all", "wide": True}), ("compare", ("quarter",), {"by": "all", "groups": "both"}), ("trail", ("2 months",), {"by": "all", "every": "quarter", "wide": True, "only": {"who": ["p1", "p2"]}}), ("accumulate", ("year",), {"by": "all", "every": "quarter", "wide": True}),
    ("recap", ("weekday",), {"by": "all", "top": 2}), ("rhythm", ("weekday",), {"by": "all"}), ("rhythm", ("weekday", "month"), {"by": "all", "wide": True}),
    ("recap", ("quarter",), {"by": "all", "wide": True, "shares": True}), ("recap", ("year",), {"by": "who", "wide": True, "top": 3}), ("recap", ("month",), {"by": "all", "wide": True, "only": {"who": ["p1", "p22", None]}}),
    ("accumulate", ("quarter",), {"by": "all", "every": "month", "goals": {"2024-Q2": 500, ("p3", "2024-Q3"): 70, ("", "2024-Q4"): 80}}), ("compare", ("quarter",), {"by": "all", "goals": {("(blank)", "2024-Q2"): 7}, "pace": "prior year"}),
    ("accumulate", ("year",), {"by": "all", "every": "quarter", "goals": {("p777", "2024"): 70}}), ("accumulate", ("quarter",), {"by": "all", "every": "month", "goals": {("p3", f"2024-{n:02}"): n for n in range(1, 13)}}), ("compare", ("year",), {"by": "all", "goals": {f"2024-Q{n}": n for n in range(1, 5)}}), ("compare", ("year",), {"by": "all", "goals": {("p3", "2O24"): 7}}), ("recap", ("year",), {"by": "all", "top": 0}), ("recap", ("year",), {"by": "all", "top": 2, "top_within": "who"}),
    ("recap", ("year",), {"by": "all", "wide": True, "ranks": True}), ("recap", ("year",), {"by": "all", "top_within": "who"}), ("recap", ("month",), {"by": "all", "index": "2019-01"}),
]  # fmt: skip
WRONG = [
    ("recap", ("month",), {"by": "rout"}), ("recap", ("month",), {"by": "all", "only": "route=Nowhere"}), ("recap", ("mnth",), {"by": "all"}),
    ("recap", ("month",), {"only": {"shp": 1}}), ("compare", ("month",), {"by": "all", "back": "2 days"}), ("recap", ("month",), {"by": "all", "sort": "nothing"}),
    ("recap", ("month",), {"only": ["route=b", "ship=99"]}),
    ("recap", ("month",), {"by": "all", "only": "2019"}), ("trail", ("3 entries",), {"by": "all"}),
]  # fmt: skip


def outcome(book: ep.Daybook, verb: str, args: tuple, options: dict) -> ep.Table | str:
    """Return what a book answers, or what it says of a question that cannot be."""
    try:
        table = getattr(book, verb)(*args, **options)
        len(table)
    except ep.EptaroError as error:
        return str(error)
    return table


class Alike(unittest.TestCase):
    """Compares answers, floats up to what the order of adding may change."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def same(self, one: ep.Table, two: ep.Table, said: object):
        self.assertEqual((one.names, len(one)), (two.names, len(two)), said)
        for name in one.names:
            these, those = one.column(name).to_list(), two.column(name).to_list()
            if these == those:
                continue
            for a, b in zip(these, those, strict=True):
                if isinstance(a, float) and isinstance(b, float):
                    self.assertAlmostEqual(a, b, delta=1e-9 * max(1, abs(a)), msg=(said, name))
                else:
                    self.assertEqual(a, b, (said, name))

    def all_the_same(self, one: ep.Daybook, two: ep.Daybook, questions=QUESTIONS):
        self.assertEqual((one.rows, one.coverage), (two.rows, two.coverage))
        for verb, args, options in questions:
            answers = [outcome(book, verb, args, options) for book in (one, two)]
            if any(isinstance(answer, str) for answer in answers):
                self.assertEqual(*answers, (verb, args, options))
            else:
                self.same(*answers, (verb, args, options))

    def apart(self):
        """Have every shard asked by itself, however small the book is."""
        self.enterContext(mock.patch("eptaro.sharded.store.AT_ONCE", 0))
        self.enterContext(mock.patch("eptaro.sharded.shard_query._FEW", 2))


class Answers(Alike):
    """Shard by shard, and in memory."""

    def test_every_verb_whatever_the_shards(self):
        self.apart()
        whole = ep.Daybook(rows(1), **asked())
        for shards in (1, 3):
            place = StoragePath.of(self.folder / str(shards))
            put_folded(
                place, whole._store.facts.folded, options_of(whole._store.facts), shards=shards
            )
            book = ep.Daybook.open(self.folder / str(shards))
            self.assertEqual(book._store.folder, place)
            questions = [*QUESTIONS, *BESIDE]
            self.all_the_same(whole, book, questions if shards > 1 else questions[::9])
            for verb, args, options in WRONG:
                told = []
                for one in (whole, book):
                    with self.assertRaises(ep.EptaroError, msg=(verb, args, options)) as caught:
                        len(getattr(one, verb)(*args, **options))
                    told.append(str(caught.exception))
                if (
                    verb != "trail"
                ):  # of single transactions a book that was opened tells other things
                    self.assertEqual(*told)

    def test_calendars_and_coverage_by_group(self):
        self.apart()
        fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
        cafe = ep.WeekCalendar("cafe")
        own = ep.OwnCalendars("route", {"Norrow": fiscal, "b": cafe}, ep.MonthCalendar())
        for number, more in enumerate((
            {"calendar": fiscal}, {"calendar": own}, {"coverage": "groups"}, {"coverage": {("b", 3): "2023-01-01..2026-01-01"}},
        )):  # fmt: skip
            with self.subTest(more=more):
                whole = ep.Daybook(rows(2), **asked(**more))
                path = self.folder / str(len(list(self.folder.iterdir())))
                put_folded(
                    StoragePath.of(path),
                    whole._store.facts.folded,
                    options_of(whole._store.facts),
                    shards=4,
                )
                book = ep.Daybook.open(path)
                questions = [*QUESTIONS, *BESIDE]
                questions = questions[::3] if number == 1 else questions[number::7]
                self.all_the_same(whole, book, questions)
                self.same(whole.with_calendar(cafe).recap("quarter", by="all"), book.with_calendar(cafe).recap("quarter", by="all"), "using")  # fmt: skip

    def test_texts_that_groups_on_several_calendars_share(self):
        self.apart()
        own = ep.OwnCalendars("route", {"a": ep.WeekCalendar("cafe")}, ep.MonthCalendar())
        rows = {
            "day": ["2024-01-05", "2024-02-05", "2024-03-05", "2024-04-05", "2024-05-05"],
            "route": ["a", "b", "d", "c", "a"],
            "deck": ["p", "q", "p", "q", "q"],
        }
        options = {"date": "day", "by": ["route", "deck"], "measures": "n=count()"}
        whole = ep.Daybook(rows, **options, calendar=own)
        for shards in (2, 3, 5):
            place = StoragePath.of(self.folder / str(shards))
            put_folded(
                place, whole._store.facts.folded, options_of(whole._store.facts), shards=shards
            )
            book = ep.Daybook.open(self.folder / str(shards))
            questions = [
                (verb, args, {"by": "all"} | more)
                for verb, args in (
                    ("recap", ("year",)),
                    ("accumulate", ("year",)),
                    ("compare", ("year",)),
                )
                for more in ({}, {"totals": True}, {"sort": "deck"})
            ]
            self.all_the_same(whole, book, questions)

    def test_no_groups_and_a_condition(self):
        self.apart()
        options = {"date": "day", "measures": SPECS, "where": "ship > 3 and share < 1"}
        path = self.folder / "rows.parquet"
        parquet.write_table(rows(3), path)
        whole = ep.Daybook.read(path, **options)
        book = ep.Daybook.read(path, into=self.folder / "book", **options)
        self.assertEqual(book.recap("year").meta["where"], whole.recap("year").meta["where"])
        self.all_the_same(whole, book, [q for q in QUESTIONS if "by" not in q[2] and "only" not in q[2]])  # fmt: skip

    def test_tables_are_written_shard_by_shard(self):
        self.apart()
        whole = ep.Daybook(rows(4), **asked())
        book = ep.Daybook.open(whole.write(f"{self.folder}/book/"))
        table = book.compare("quarter", by="all")
        self.assertEqual(table.headline, whole.compare("quarter").headline)

        def words(drawn):
            return [text.get_text().replace("\n", " ") for text in drawn.findobj(lambda one: hasattr(one, "get_text"))]  # fmt: skip

        said = " ".join(words(table.plot(kind="changes")))
        self.assertIn(table.headline.split(",")[0], said)
        groups = [text for text in words(book.recap("quarter", by="all", top=1).plot()) if text.endswith(": fares")]  # fmt: skip
        self.assertEqual(groups, [groups[0], "(others), (others): fares"])
        out = table.write(f"{self.folder}/out/")
        parts = sorted(Path(out).iterdir())
        written = [row for part in parts for row in parquet.read_table(part).to_pylist()]
        key = lambda row: (str(row["route"]), str(row["ship"]), row["period"])  # noqa: E731
        self.assertEqual(
            sorted(map(str, sorted(written, key=key))),
            sorted(map(str, table.to_arrow().to_pylist())),
        )
        with self.assertRaisesRegex(ep.InputError, "is there already; name a new folder"):
            table.write(f"{self.folder}/out/")
        one = whole.recap("year").write(f"{self.folder}/small/")
        self.assertEqual([p.name for p in Path(one).iterdir()], ["part-0000.parquet"])

    def test_groups_of_one_column(self):
        self.apart()
        table = rows(4).set_column(5, "who", pa.array([None if who is None else who.replace("p39", "(blank)") for who in rows(4)["who"].to_pylist()]))  # fmt: skip
        whole = ep.Daybook(table, **asked(by="who", measures=SPECS[:6]))
        alone = ep.Daybook(table, **asked(by="who", measures=SPECS[:1]))
        for shards, one in ((5, whole), (3, alone)):
            path = self.folder / str(shards)
            put_folded(
                StoragePath.of(path),
                one._store.facts.folded,
                options_of(one._store.facts),
                shards=shards,
            )
            self.all_the_same(one, ep.Daybook.open(path), OF_ONE)

    def test_what_takes_all_cells_is_told_where_there_is_no_room(self):
        self.apart()
        whole = ep.Daybook(rows(4), **asked())
        book = ep.Daybook.open(whole.write(f"{self.folder}/book/"))
        with mock.patch("eptaro.sharded.store.free_memory", lambda: 1000):
            for verb, args, options in [*QUESTIONS, *BESIDE][1::3]:
                self.assertNotIn("into memory", str(outcome(book, verb, args, options)))
            with self.assertRaisesRegex(ep.QuestionError, "takes all .* cells .* into memory"):
                book.write(self.folder / "one.parquet")

    def test_a_report_of_a_folder(self):
        self.apart()
        measures = ["fares=sum(fare)", "trips=count()", "most=max(who)"]
        whole = ep.Daybook(rows(5), **asked(by="route", measures=measures))
        kept = ep.Daybook.open(whole.write(self.folder / "one.parquet"))
        book = ep.Daybook.open(whole.write(f"{self.folder}/book/"))
        with mock.patch("eptaro.sharded.store.free_memory", lambda: 1000):
            for name in ("page.html", "months.xlsx"):
                made = [one.report(self.folder / f"{at}{name}") for at, one in enumerate((kept, book))]  # fmt: skip
                if name.endswith("html"):
                    pages = [re.sub(r"(?s)<svg.*?</svg>", "", path.read_text()) for path in made]
                    self.assertTrue("Norrow" in pages[1], "no group")
                    self.assertTrue(pages[0] == pages[1], "the pages differ")
            sheets = book.report(self.folder / "routes.xlsx", sheets="route")
        with zipfile.ZipFile(sheets) as file:
            found = re.findall(r'<sheet name="([^"]*)"', file.read("xl/workbook.xml").decode())
        self.assertEqual(found, ["Contents", "sheet", "Norrow", "b", "Ærø", "(blank)"])


class Layout(Alike):
    """What lies in the folder can be read without us."""

    def test_the_hash_and_the_files_are_as_they_are_told(self):
        table = rows(6, 900)
        path = self.folder / "rows.parquet"
        parquet.write_table(table, path)
        book = self.folder / "book"
        ep.Daybook.read(
            path, into=book, shards=7, **asked(measures=["fares=sum(fare)", "n=count()"])
        )
        manifest = json.loads((book / "manifest.json").read_text())
        self.assertEqual(
            (manifest["book"], manifest["layout"], manifest["shards"]), ("eptaro", 2, 7)
        )
        wanted = Counter()
        for row in table.to_pylist():
            wanted[row["route"], row["ship"], row["day"]] += 1
        found = Counter()
        for shard in range(7):
            own = [file for file in manifest["files"] if file["shard"] == shard]
            groups = [g for file in own if file["role"] == "groups" for g in parquet.read_table(book / file["path"]).to_pylist()]  # fmt: skip
            for group in groups:
                self.assertEqual(shard_of(group["route"], group["ship"], 7), shard, group)
            for file in own:
                if file["role"] != "cells":
                    continue
                cells = parquet.read_table(book / file["path"]).to_pylist()
                self.assertEqual(len(cells), file["rows"])
                self.assertEqual(file["size"], (book / file["path"]).stat().st_size)
                for cell in cells:
                    self.assertTrue(file["first"] <= str(cell["day"]) <= file["last"])
                    group = groups[cell["group"]]
                    found[group["route"], group["ship"], cell["day"]] += cell["rows::whole"]
        self.assertEqual(found, wanted)

    def test_a_shard_whose_counted_values_are_all_blank_is_read_again(self):
        table = pa.table(
            {"on": ["2025-01-01"] * 9, "g": [*"abcdefghi"], "x": pa.array([None] * 8 + ["v"])}
        )
        parquet.write_table(table, self.folder / "blank.parquet")
        asked = {"date": "on", "by": "g", "measures": ["n=distinct(x)", "s=count()"]}
        for shards in (1, 4):
            into = self.folder / f"blank{shards}"
            ep.Daybook.read(self.folder / "blank.parquet", into=into, shards=shards, **asked)
            found = ep.Daybook.open(into).recap("year", by="g")
            self.assertEqual((found["n"].tolist(), found["s"].tolist()), ([0] * 8 + [1], [1] * 9))

    def test_what_is_damaged_or_missing_is_told(self):
        whole = ep.Daybook(rows(7), **asked())
        book = self.folder / "book"
        whole.write(f"{book}/")
        with self.assertRaisesRegex(ep.InputError, "there is a book already"):
            whole.write(f"{book}/")
        text = (book / "manifest.json").read_text()
        for bad, said in (
            (text[: len(text) // 2], "is a damaged manifest"), (text.replace('"layout": 2', '"layout": 9'), "is of layout 9; this reads 2"),
            (text.replace('"sum"', '"square"'), "does not hold what was written"), ("[]", "is a damaged manifest"),
        ):  # fmt: skip
            (book / "manifest.json").write_text(bad)
            with self.assertRaisesRegex(ep.InputError, said):
                ep.Daybook.open(book).recap("year")
        (book / "manifest.json").write_text(text)
        files = [file["path"] for file in json.loads(text)["files"]]
        rng = random.Random(7)
        for name in files:
            kept = (book / name).read_bytes()
            (book / name).unlink()
            with self.assertRaisesRegex(ep.InputError, "there is no such file"):
                ep.Daybook.open(book).recap("year", by="all")
            for _ in range(3):
                cut = bytearray(kept)
                for _ in range(8):
                    cut[rng.randrange(len(cut))] ^= 1 << rng.randrange(8)
                (book / name).write_bytes(cut)
                with self.assertRaisesRegex(ep.InputError, "does not hold what was written"):
                    ep.Daybook.open(book).recap("year", by="all")
            (book / name).write_bytes(kept)
        self.same(whole.recap("year", by="all"), ep.Daybook.open(book).recap("year", by="all"), "")
        with self.assertRaisesRegex(ep.InputError, "cannot be read|no such file"):
            ep.Daybook.open(self.folder / "nothing")


def shard_of(route: str | None, ship: int | None, shards: int) -> int:
    """Return the shard of a group as the documentation has it, byte by byte."""
    prime, most = 0x100000001B3, 2**64

    def fnv(data: bytes) -> int:
        found = 0xCBF29CE484222325
        for byte in data:
            found = (found ^ byte) * prime % most
        return found

    found = 0xCBF29CE484222325
    for value in (route, ship):
        own = 0 if value is None else fnv(value.encode() if isinstance(value, str) else value.to_bytes(8, "little", signed=True))  # fmt: skip
        found = (found ^ own) * prime % most
    return (found ^ found >> 32) % shards
