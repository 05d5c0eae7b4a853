"""Random questions with conditions and formulas come to the same in every engine."""

import datetime as dt
import random
import tempfile
import unittest
from decimal import Decimal
from pathlib import Path
from unittest import mock

import pyarrow as pa
import sqlalchemy as sql
from pyarrow import parquet

import eptaro as ep
from tests.clusters import Client, client_of_threads
from tests.core.expressions.maker import Maker
from tests.engines.servers import postgresql
from tests.sharded.test_folder import outcome

ROWS, QUESTIONS = 400, 3
TYPES = {
    "day": (pa.date32(), sql.Date), "whole": (pa.int64(), sql.Integer), "cents": (pa.decimal128(12, 2), sql.Numeric(12, 2)), "share": (pa.float64(), sql.Double),
    "route": (pa.string(), sql.String(20)), "class of fare": (pa.string(), sql.String(20)), "on": (pa.date32(), sql.Date), "where": (pa.date32(), sql.Date),
    "late": (pa.bool_(), sql.Boolean), "none": (pa.int64(), sql.Integer),
}  # fmt: skip


def table(rng: random.Random) -> pa.Table:
    """Return random transactions with blanks in every column but the date."""

    def some(make, blank=0.2):
        return [None if rng.random() < blank else make() for _ in range(ROWS)]

    def day():
        return dt.date(2024, 1, 1) + dt.timedelta(rng.randrange(500))

    columns = {
        "day": some(day, 0), "whole": some(lambda: rng.randint(-40, 40)), "cents": some(lambda: Decimal(rng.randint(-9999, 9999)).scaleb(-2)),
        "share": some(lambda: rng.choice([rng.uniform(-9, 9), 0.5, 2.0])), "route": some(lambda: rng.choice(["North", "south ", "", "Ost 10"])),
        "class of fare": some(lambda: rng.choice(["Ost 10", "car", "North"])), "on": some(day), "where": some(day, 0), "late": some(lambda: rng.random() > 0.5),
        "none": [None] * ROWS,
    }  # fmt: skip
    return pa.table({name: pa.array(values, TYPES[name][0]) for name, values in columns.items()})


ASKED = [
    ("recap", ("year",), {"by": "all", "top": 2}), ("recap", ("month",), {"by": ["h", "g"], "top": 1, "top_within": "h", "totals": True}),
    ("recap", ("quarter",), {"by": "all", "shares": True, "ranks": True, "subtotals": "year"}), ("recap", ("half",), {"by": "g", "wide": True, "shares": True}),
    ("compare", ("quarter",), {"by": "all", "details": True, "back": "1 quarter"}), ("compare", ("year",), {"by": "h", "to_date": True, "as_of": "2025-02-28", "effects": "workdays"}),
    ("accumulate", ("year",), {"by": "all", "every": "month", "goals": {"2024": 400}}), ("trail", ("3 months",), {"by": "all", "every": "month"}), ("trail", ("10 days",), {"by": "h"}),
    ("card", (), {"by": "all", "as_of": "2024-11-05"}), ("recap", ("month",), {"by": "all", "only": "2024-03..2024-07", "ranks": True, "sort": "-b"}),
]  # fmt: skip


class Engines(unittest.TestCase):
    """In memory, from a file batch by batch, on a cluster, and in databases."""

    @classmethod
    def setUpClass(cls):
        cls.enterClassContext(folder := tempfile.TemporaryDirectory())
        cls.folder = Path(folder.name)
        cls.rows = table(random.Random(5))
        cls.paths = []
        for number in range(2):
            path = str(cls.folder / f"rows{number}.parquet")
            half = cls.rows.slice(number * ROWS // 2, ROWS // 2)
            parquet.write_table(half, path, row_group_size=64)
            cls.paths.append(path)
        cls.urls = [f"sqlite:///{cls.folder / 'rows.db'}"]
        cls.urls += [url] if (url := postgresql()) else []
        for url in cls.urls:
            engine = sql.create_engine(url)
            made = sql.Table("alike", sql.MetaData(), *(sql.Column(n, k) for n, (_, k) in TYPES.items()))  # fmt: skip
            with engine.begin() as connection:
                made.drop(connection, checkfirst=True)
                made.create(connection)
                connection.execute(sql.insert(made), cls.rows.to_pylist())
            engine.dispose()
        cls.client = None
        if Client is None:
            print("dask.distributed is not installed: the cluster is left out")
        else:
            cls.client = cls.enterClassContext(client_of_threads())

    def engines(self, asked):
        """Yield the name of each engine, and what makes its book."""
        yield "stream", lambda: ep.Daybook.read(self.paths, engine="stream", **asked)
        if self.client is not None:
            yield "dask", lambda: ep.Daybook.read(self.paths, engine="dask", client=self.client, **asked)  # fmt: skip
        for shards in (1, 3):
            yield f"folder of {shards}", lambda shards=shards: self.in_folder(shards, **asked)
        for url in self.urls:
            yield url.split(":")[0], lambda url=url: ep.Daybook.from_sql(url, "alike", **asked)

    def in_folder(self, shards: int, **asked) -> ep.Daybook:
        """Return the book of a folder into which the second file came a night later."""
        self.books = getattr(self, "books", 0) + 1
        folder = self.folder / f"book{self.books}"
        first, second = self.paths
        try:
            made = ep.Daybook.read(first, into=folder, shards=shards, **asked)
        except ep.InputError as error:  # of this file alone
            if "no row meets the condition" not in str(error):
                raise
            return ep.Daybook.read(self.paths, into=folder, shards=shards, **asked)
        try:
            made.add(second)
        except ep.InputError as error:
            if "no row meets the condition" not in str(error):
                raise
            return ep.Daybook.read(self.paths, into=f"{folder}b", shards=shards, **asked)
        with mock.patch("eptaro.sharded.store.AT_ONCE", 0):
            return ep.Daybook.open(folder)

    def same(self, one: ep.Table, two: ep.Table, said: str):
        self.assertEqual(len(one), len(two), said)
        for a, b in zip(one.rows(), two.rows(), strict=True):
            for name in a:
                if isinstance(a[name], float | Decimal) or isinstance(b[name], float):
                    if a[name] is None or b[name] is None:
                        self.assertEqual(a[name], b[name], said)
                    else:
                        x, y = float(a[name]), float(b[name])
                        self.assertAlmostEqual(x, y, delta=1e-9 * max(1, abs(x)), msg=said)
                else:
                    self.assertEqual(a[name], b[name], said)

    def test_random_questions(self):
        rng = random.Random(8)
        maker = Maker(rng)
        compared: dict[str, int] = {}
        for _ in range(QUESTIONS):
            asked = {
                "date": "day",
                "measures": [
                    f"a=sum({maker.number(2)})", f"b=count(where {maker.flag(1)})", f"c=max({maker.number(1)} where {maker.flag(1)})",
                    f"d=sum({maker.number(1)} * {maker.number(0)})", "e=a / b - 1", f"f=mean({maker.number(1)})", f"n=new({maker.text(1)})", "hi=max(route)", "lo=min(where)", f"to=max(route where {maker.flag(1)})",
                    f"band=max({maker.text(1)} where {maker.flag(0)})", f"when=min({maker.date(1)})", f"word=min({maker.text(2)})",
                ],
                "by": [f"g={maker.text(1)}", f"h={maker.flag(1)}"], "where": maker.flag(2),
            }  # fmt: skip
            said = str(asked)
            try:
                book = ep.Daybook(self.rows, **asked)
                questions = [
                    ("recap", ("quarter",), {"by": "all"}),
                    ("recap", ("quarter",), {}),
                    *rng.sample(ASKED, 2),
                ]
                wanted = [outcome(book, *question) for question in questions]
            except ep.ExpressionError as error:
                self.assertRegex(str(error), "does not fit|do not go together", said)
                continue
            except ep.InputError as error:
                self.assertRegex(
                    str(error),
                    "no row meets the condition|is the name of a column|not yet worked out",
                )
                continue
            for name, make in self.engines(asked):
                with self.subTest(engine=name, asked=said):
                    try:
                        other = make()
                    except ep.ExpressionError as error:
                        self.assertRegex(str(error), "databases differ in how they calculate")
                        continue
                    self.assertEqual((book.rows, book.coverage), (other.rows, other.coverage))
                    for question, table_ in zip(questions, wanted, strict=True):
                        found = outcome(other, *question)
                        if isinstance(table_, str):
                            self.assertEqual(table_, found, f"{name}: {question} of {said}")
                        else:
                            self.same(table_, found, f"{name}: {question} of {said}")
                    compared[name] = compared.get(name, 0) + 1
        for name, _ in self.engines({}):
            self.assertGreater(compared.get(name, 0), QUESTIONS // 3, name)
