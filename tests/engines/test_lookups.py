"""Lookups: rows take the columns of a table by their keys, in every engine as in a plain loop."""

import csv
import datetime as dt
import json
import random
import sqlite3
import tempfile
import unittest
from collections import defaultdict
from decimal import Decimal
from fractions import Fraction
from pathlib import Path

import pyarrow as pa
import sqlalchemy as sa
from pyarrow import parquet

import eptaro as ep
from tests.clusters import client_of_threads, needs_clusters
from tests.commands import run_in
from tests.engines.servers import postgresql

DAY = dt.timedelta(1)
MEASURES = ("s=sum(fare)", "n=count()", "rent=sum(fare * rate)", "kinds=distinct(kind)")


def written(path, rows):
    """Write rows to a CSV file."""
    with path.open("w", newline="") as file:
        csv.writer(file).writerows([["" if v is None else v for v in row] for row in rows])


class Joined(unittest.TestCase):
    """Plain and dated lookups against a loop, with keys that have no match."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        rng = random.Random(21)
        days = [dt.date(2024, 1, 1) + DAY * rng.randrange(500) for _ in range(400)]
        self.rows = [
            (day, rng.choice(["Auk", "Brent", "Coot", "Dove", None]), rng.randint(1, 90))
            for day in days
        ]
        self.ships = [("Auk", "car", "1.50"), ("Brent", "foot", "2.25"), ("Coot", "car", "3.00")]
        self.rates = [
            ("Auk", "car", "1.50", "2023-06-01", "2024-03-31"),
            ("Auk", "foot", "1.75", "2024-05-01", None),
            ("Brent", "foot", "2.00", "2024-01-10", None),
            ("Brent", "car", "2.50", "2024-09-01", "2025-02-01"),
            ("Coot", "car", "9.00", "2020-01-01", "2020-12-31"),
        ]
        written(self.folder / "rows.csv", [("on", "ship", "fare"), *self.rows])
        written(self.folder / "ships.csv", [("name", "kind", "rate"), *self.ships])
        written(self.folder / "rates.csv", [("name", "kind", "rate", "from", "through"),
                                            *self.rates])  # fmt: skip
        names = ("on", "ship", "fare")
        self.frame = dict(zip(names, map(list, zip(*self.rows, strict=True)), strict=True))
        parquet.write_table(pa.table(self.frame), self.folder / "rows.parquet", row_group_size=90)
        with sqlite3.connect(self.folder / "a.db") as base:
            base.execute('create table rows ("on" date, ship text, fare integer)')
            base.executemany("insert into rows values (?, ?, ?)",
                             [(str(day), *rest) for day, *rest in self.rows])  # fmt: skip
            base.execute("create table ships (name text, kind text, rate decimal(6, 2))")
            base.executemany("insert into ships values (?, ?, ?)", self.ships)
            base.execute('create table rates (name text, kind text, rate decimal(6, 2), '
                         '"from" date, through date)')  # fmt: skip
            base.executemany("insert into rates values (?, ?, ?, ?, ?)", self.rates)

        self.urls = [f"sqlite:///{self.folder}/a.db"]
        if url := postgresql():
            self.urls.append(url)
            self.load(url)

    def load(self, url):
        """Put the same tables into another database."""
        columns = {"on": sa.Date, "from": sa.Date, "through": sa.Date, "fare": sa.Integer}
        day = dt.date.fromisoformat
        rates = [(*r[:2], Decimal(r[2]), day(r[3]), r[4] and day(r[4])) for r in self.rates]
        ships = [(*ship[:2], Decimal(ship[2])) for ship in self.ships]
        engine, made = sa.create_engine(url), sa.MetaData()
        heads = ("name", "kind", "rate", "from", "through")
        for name, names, lines in (("rows", ("on", "ship", "fare"), self.rows),
                                   ("ships", heads[:3], ships), ("rates", heads, rates)):  # fmt: skip
            kinds = columns | {"rate": sa.Numeric(6, 2)}
            own = [sa.Column(column, kinds.get(column, sa.Text)) for column in names]
            table = sa.Table(f"{name}", made, *own)
            with engine.begin() as base:
                table.drop(base, checkfirst=True)
                table.create(base)
                base.execute(
                    table.insert(), [dict(zip(names, line, strict=True)) for line in lines]
                )
        engine.dispose()

    def plain(self, ship, day):
        """Return kind and rate of a ship."""
        for name, kind, rate in self.ships:
            if name == ship:
                return kind, Decimal(rate)
        return None, None

    def dated(self, ship, day):
        """Return kind and rate of a ship on a day; an open line holds until the next begins."""
        for name, kind, rate, first, through in self.rates:
            if name != ship or not first <= str(day):
                continue
            later = [f for n, _, _, f, _ in self.rates if n == ship and first < f]
            until = through or (str(dt.date.fromisoformat(min(later)) - DAY) if later else None)
            if until is None or str(day) <= until:
                return kind, Decimal(rate)
        return None, None

    def wanted(self, found_in, keep=lambda kind: True):
        """Return the measures of each quarter and kind, worked out row by row."""
        totals = defaultdict(lambda: [0, 0, Decimal(0)])
        for day, ship, fare in self.rows:
            kind, rate = found_in(ship, day)
            if keep(kind):
                own = totals[f"{day.year}-Q{(day.month + 2) // 3}", kind]
                own[0] += fare
                own[1] += 1
                if rate is None:  # of ships that are not there: as many as the rows, or none
                    own[2] = None
                else:
                    own[2] += fare * rate
        return {key: tuple(value) for key, value in totals.items()}

    def books(self, table, key, **more):
        """Yield the book of each engine; `table` is a file and a table of the database."""
        given = {"date": "on", "by": "kind", "measures": MEASURES} | more
        file = {str(self.folder / f"{table}.csv"): key}
        yield ep.Daybook(self.frame, lookups=file, **given)
        names = [*zip(*(self.ships if table == "ships" else self.rates), strict=True)]
        heads = ("name", "kind", "rate", "from", "through")[: len(names)]
        frame = pa.table(dict(zip(heads, map(list, names), strict=True)))
        own, _, other = key.partition("=")
        yield ep.Daybook(self.frame, lookups=ep.Lookup(frame, own, other), **given)
        for name in ("rows.csv", "rows.parquet"):
            yield ep.Daybook.read(self.folder / name, lookups=file, **given)
        for url in self.urls if table == "ships" else ():
            yield ep.Daybook.from_sql(url, "rows", lookups={table: key}, **given)

    def check(self, book, wanted, missed):
        found = {}
        for row in book.recap("quarter", by="kind", totals=False).rows():
            if row["n"]:
                found[row["period"], row["kind"]] = (row["s"], row["n"], row["rent"])
        self.assertEqual(found, wanted)
        notes = [note for note in book.notes if "no match" in note]
        self.assertEqual(len(notes), 1)
        self.assertTrue(notes[0].startswith(f"{missed} rows have no match in "), notes)

    def test_rows_take_their_date_from_the_other_table(self):
        launched = {"Auk": dt.date(2024, 2, 29), "Brent": dt.date(2024, 5, 3), "Coot": None}
        lines = [*launched.items()]
        written(self.folder / "launches.csv", [("name", "launched"), *lines])
        with sqlite3.connect(self.folder / "a.db") as base:
            base.execute("create table launches (name text, launched date)")
            base.executemany("insert into launches values (?, ?)",
                             [(ship, day and str(day)) for ship, day in lines])  # fmt: skip
        counted = [(launched.get(ship), ship, fare) for _, ship, fare in self.rows]
        frame = pa.table({"name": [*launched], "launched": [*launched.values()]})
        in_file, in_frame = (
            {self.folder / "launches.csv": "ship=name"},
            ep.Lookup(frame, "ship", "name"),
        )
        for away in (0, 40):
            expected = defaultdict(int)
            for day, ship, fare in counted:
                if day is not None:
                    expected[f"{day + DAY * away:%Y-%m}", ship] += fare
            given = {
                "date": f"launched + {away}" if away else "launched",
                "by": "ship",
                "measures": ["s=sum(fare)"],
                "dates": ep.DateRules(bad_dates="reject"),
            }
            csv, url = self.folder / "rows.csv", self.urls[0]
            for name, book in (
                ("memory", ep.Daybook(self.frame, lookups=in_file, **given)),
                ("frames", ep.Daybook(self.frame, lookups=in_frame, **given)),
                ("csv", ep.Daybook.read(csv, lookups=in_frame, **given)),
                ("parquet", ep.Daybook.read(csv.with_suffix(".parquet"), lookups=in_file, **given)),
                ("folder", ep.Daybook.read(csv, lookups=in_file, into=self.folder / f"b{away}",
                                           **given)),
                ("sql", ep.Daybook.from_sql(url, "rows", lookups={"launches": "ship=name"},
                                            **given)),
            ):  # fmt: skip
                with self.subTest(store=name, away=away):
                    rows = book.recap("month", by="ship", totals=False).rows()
                    found = {(row["period"], row["ship"]): row["s"] for row in rows if row["s"]}
                    self.assertEqual(found, expected)
        dated = ep.Lookup(
            self.folder / "rates.csv", "ship", "name", first="from", through="through"
        )
        with self.assertRaisesRegex(ep.InputError, "the date cannot come from a lookup"):
            ep.Daybook.read(csv, date="launched", lookups=[in_frame, dated], measures="s=sum(rate)")

    def test_rates_with_many_decimals_are_floats(self):
        for brent, coot in (("281", "1234567.123456789012"), ("3", "2")):
            with self.subTest(brent=brent):
                self.many({"Auk": "0.14285714285714285", "Brent": brent, "Coot": coot}, float)
        self.many({"Auk": "0.142857143", "Brent": "281", "Coot": "2"}, Decimal)

    def many(self, rates, kind):
        written(self.folder / "long.csv", [("name", "rate"), *rates.items()])
        look = ep.Lookup(self.folder / "long.csv", "ship", "name")
        for rows in (self.frame, self.folder / "rows.csv"):
            make = ep.Daybook if isinstance(rows, dict) else ep.Daybook.read
            book = make(rows, date="on", measures="cost=sum(fare * rate)", lookups=[look])
            (total,) = book.recap("5 years from 2024-01-01")["cost"].tolist()
            wanted = sum(
                fare * Fraction(rates[ship]) for _, ship, fare in self.rows if ship in rates
            )
            self.assertIsInstance(total, kind)
            self.assertAlmostEqual(float(total), float(wanted), 3)
            self.assertTrue(kind is float or total == wanted)

    def test_each_engine_equals_a_loop(self):
        for table, found_in in (("ships", self.plain), ("rates", self.dated)):
            missed = sum(found_in(ship, day)[0] is None for day, ship, _ in self.rows)
            for book in self.books(table, "ship=name"):
                with self.subTest(table=table, source=book.source):
                    self.check(book, self.wanted(found_in), missed)
            where = "kind = 'car' and rate > 1"
            for book in self.books(table, "ship=name", where=where):
                with self.subTest(table=table, source=book.source, where=where):
                    self.check(book, self.wanted(found_in, lambda kind: kind == "car"), missed)

    @needs_clusters
    def test_a_cluster(self):
        lookups = {str(self.folder / "rates.csv"): "ship=name"}
        asked = {"lookups": lookups, "date": "on", "by": "kind", "measures": MEASURES}
        with client_of_threads() as client:
            path = self.folder / "rows.parquet"
            book = ep.Daybook.read(path, engine="dask", client=client, **asked)
        missed = sum(self.dated(ship, day)[0] is None for day, ship, _ in self.rows)
        self.check(book, self.wanted(self.dated), missed)

    def test_numbers_are_proved_from_the_rows(self):
        book = ep.Daybook.read(self.folder / "rows.csv", date="on", by="kind", measures=MEASURES,
                               lookups={str(self.folder / "ships.csv"): "ship=name"})  # fmt: skip
        for row in range(4):
            self.assertTrue(book.recap("quarter", by="kind").trace(row, "rent").agrees)

    def test_a_name_that_is_taken_is_told_apart(self):
        for table, names in ((self.frame | {"rate": [1] * 400}, ("rate", "ships.rate")),
                             (self.frame, ("fare", "rate"))):  # fmt: skip
            book = ep.Daybook(table, date="on", measures=[f"a=sum({names[0]})",
                              f'b=sum("{names[1]}")'],
                              lookups={str(self.folder / "ships.csv"): "ship=name"})  # fmt: skip
            own = sum((self.plain(ship, day)[1] or 0) for day, ship, _ in self.rows)
            rows = [*book.recap("year", totals=False).rows()]
            self.assertEqual(sum(row["b"] for row in rows), own)
            self.assertEqual(sum(row["a"] for row in rows), sum(table[names[0]]))
        with sqlite3.connect(self.folder / "a.db") as base:
            base.execute("create table names (ship text, fare decimal(6, 2))")
            base.execute("insert into names values ('Auk', 2.5)")
        book = ep.Daybook.from_sql(f"sqlite:///{self.folder}/a.db", "rows", date="on",
                                   measures=['b=sum("names.fare")', "a=sum(fare)"],
                                   lookups={"names": "ship"})  # fmt: skip
        auks = sum(ship == "Auk" for _, ship, _ in self.rows)
        rows = [*book.recap("year", totals=False).rows()]
        self.assertEqual(sum(row["b"] or 0 for row in rows), auks * Decimal("2.5"))
        self.assertEqual(sum(row["a"] for row in rows), sum(fare for *_, fare in self.rows))

    def test_lines_of_a_query_and_of_files_written_otherwise(self):
        (self.folder / "semi.csv").write_text(
            "name;kind;rate\n" + "".join(f"{';'.join(ship)}\n" for ship in self.ships)
        )
        wanted = self.wanted(self.plain)
        missed = sum(self.plain(ship, day)[0] is None for day, ship, _ in self.rows)
        for table, files in (
            (self.folder / "semi.csv", ep.FileRules(delimiter=";")),
            (f"sqlite:///{self.folder}/a.db", ep.FileRules(query="select * from ships")),
        ):
            book = ep.Daybook(self.frame, date="on", by="kind", measures=MEASURES,
                              lookups=ep.Lookup(table, "ship", "name", files=files))  # fmt: skip
            self.check(book, wanted, missed)

    def test_keys_of_other_types(self):
        lookup = {"number": ["7", "8"], "side": ["port", "starboard"]}
        for keys in ([7, 8, None, 9], [7.0, 8.0, None, 9.0], ["7", "8", None, "9"]):
            frame = {"on": ["2024-01-01"] * 4, "number": keys}
            book = ep.Daybook(frame, date="on", by="side", measures="n=count()",
                              lookups=[ep.Lookup(lookup, "number")])  # fmt: skip
            counts = {row["side"]: row["n"] for row in book.recap("year", by="side").rows()}
            self.assertEqual(counts, {"port": 1, "starboard": 1, None: 2})

    def test_what_cannot_be_is_refused(self):
        frame = {"on": ["2024-01-01"], "ship": ["Auk"], "fare": [1]}
        for lookups, said in (
            ({"ship": ["Auk", "Auk"], "k": [1, 2]}, "'Auk' is there twice, in rows 1 and 2"),
            ({"ship": ["Auk"] * 2, "from": ["2024-01-01", "2024-02-01"], "k": [1, 2],
              "through": ["2024-03-01", None]}, "twice on 2024-02-01, in rows 1 and 2"),
            ({"ship": ["Auk"], "from": [None], "k": [1]}, "row 1 has no date in 'from'"),
            ({"ship": ["Auk"], "from": ["2024-02-01"], "through": ["2024-01-01"], "k": [1]},
             "ends before it begins"),
            ({"ship": ["Auk"], "from": ["1/2/24"], "k": [1]}, "row 1 of 'from': '1/2/24'"),
            ({"name": ["Auk"], "k": [1]}, "unknown column 'ship'"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ep.InputError, said):
                ep.Daybook(frame, date="on", measures="s=sum(fare * k)",
                           lookups=ep.Lookup(lookups, "ship"))  # fmt: skip
        words = {"ship": ["Auk"], "k": ["$5"]}
        with self.assertRaisesRegex(ep.MeasureError, r"'\$5' of 'k' is not a number \(use"):
            ep.Daybook(frame, date="on", measures="s=sum(k)", lookups=ep.Lookup(words, "ship"))
        book = ep.Daybook(frame, date="on", measures="s=sum(k)", numbers="infer",
                          lookups=ep.Lookup(words, "ship"))  # fmt: skip
        self.assertEqual([row["s"] for row in book.recap("year").rows()], [5])
        for wrong in ("ships.csv", 5, ["ships.csv"]):
            with self.assertRaisesRegex(ep.InputError, "does not name tables and their keys"):
                ep.Daybook(frame, date="on", measures="n=count()", lookups=wrong)
        with sqlite3.connect(self.folder / "a.db") as base:
            base.execute("insert into ships values ('Auk', 'foot', 1)")
        for table, said in (("ships", "'Auk' is there twice;"), ("rates", "hold from a day on")):
            with self.assertRaisesRegex(ep.InputError, said):
                ep.Daybook.from_sql(f"sqlite:///{self.folder}/a.db", "rows", date="on",
                                    measures="s=sum(rate)", lookups={table: "ship=name"})  # fmt: skip
        with self.assertRaisesRegex(ep.InputError, "are tables of the database"):
            ep.Daybook.from_sql(f"sqlite:///{self.folder}/a.db", "rows", date="on",
                                measures="n=count()", lookups=ep.Lookup(words, "ship"))  # fmt: skip

    def test_the_command_line_and_a_config(self):
        (self.folder / "eptaro.toml").write_text(
            '[data]\nfiles = ["rows.csv"]\ndate = "on"\nby = ["kind"]\n'
            'measures = { s = "sum(fare)" }\nlookups = { "ships.csv" = "ship=name" }\n'
        )
        run = ["recap", "--per", "year", "--by", "kind", "--format", "json"]
        line = ["rows.csv", "--date", "on", "--measure", "s=sum(fare)"]
        found = []
        for given in ([*line, "--lookup", "ships.csv:ship=name"], ["--config", "eptaro.toml"]):
            done = run_in(self.folder, *run, *given)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("have no match in", done.stderr)
            found.append(json.loads(done.stdout))
        self.assertEqual(*found)
        self.assertEqual({row["kind"] for row in found[0]}, {"car", "foot", None})
        done = run_in(self.folder, *run, *line, "--lookup", "ships.csv")
        self.assertIn("names no key", done.stderr)
