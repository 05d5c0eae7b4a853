"""The demo's files: the ones shipped inside the package, and larger ones made to order."""

from __future__ import annotations

import datetime as dt
import gzip
from collections.abc import Callable, Iterator
from functools import partial
from importlib import resources
from itertools import chain
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
from numpy.random import Generator
from numpy.typing import NDArray

from eptaro.core.calendars.days import Days, civil_date, ordinal, weekday
from eptaro.core.results.column import Column
from eptaro.errors import InputError, unknown
from eptaro.outputs.arrow import to_array
from eptaro.outputs.files import replace_whole
from eptaro.outputs.text import write_csv_rows
from eptaro.record import Record, record

OPENS = dt.date(2022, 4, 1)
LATEST = dt.date(2025, 8, 20)
CLOSED = ("12-25", "01-01")
STORMS = ("2023-01-14", "2023-01-15", "2024-02-03", "2024-11-23", "2025-01-09", "2025-01-10")


class Route(NamedTuple):
    """A crossing: its name, share of the trade, fare for one, and the days it ran."""

    name: str
    share: float
    fare: float
    first: str = "2022-04-01"
    last: str = "2025-08-20"


ROUTES = (
    Route("Norrow-Fenholm", 0.34, 14.50),
    Route("Norrow-Skarrey", 0.27, 22.00),
    Route("Fenholm-Ulvane", 0.17, 9.80),
    Route("Quillay Circle", 0.14, 31.25, first="2023-06-12"),
    Route("Ulvane-Brannet", 0.08, 12.40, last="2024-10-27"),
)
CLASSES = (
    ("saver", 0.24, 0.70),
    ("standard", 0.46, 1.0),
    ("lounge", 0.12, 1.65),
    ("car", 0.18, 2.9),
)
VESSELS = ("Grey Wether", "Little Merrow", "Sandlark")
ITEMS = (
    ("hot drinks", 0.38, 3.20),
    ("cold drinks", 0.22, 2.75),
    ("bakery", 0.24, 4.10),
    ("meals", 0.16, 11.90),
)
SHIPPERS = ("Osk & Tarn", "Lumme Timber", "Peddar Dairy", "Varra Salt", "Hale Wind Parts")


def day_weights(days: Days, *, weekend: float, season: float) -> NDArray[np.float64]:
    """Return how busy each day is: a summer peak, weekends, slow growth, closed days at 0."""
    _, month, day = civil_date(days)
    of_year = (month - 1) * 30.4 + day
    summer = 1.0 + season * np.exp(-(((of_year - 212) / 48.0) ** 2))
    growth = 1.0 + 0.06 * (days - days[0]) / 365.0
    weights = summer * growth * np.where(weekday(days) >= 5, weekend, 1.0)
    closed = np.isin(days, [ordinal(storm) for storm in STORMS])
    for text in CLOSED:
        closed |= (month == int(text[:2])) & (day == int(text[3:]))
    return np.where(closed, 0.0, weights)


def trading_days() -> NDArray[np.int64]:
    """Return the day ordinals from the first day of trade to the latest."""
    return np.arange(ordinal(OPENS), ordinal(LATEST) + 1)


SEED = 20250820
CHUNK = 1 << 19
MINUTE = 60

Fill = Callable[[Generator, NDArray[np.int64]], dict[str, Any]]


@record
class Dataset(Record):
    """One of the demo's files: its name, share of the rows, days and filler."""

    name: str
    share: float
    weekend: float
    season: float
    fill: Fill

    def chunks(self, rows: int, seed: int = SEED) -> Iterator[pa.Table]:
        """Yield the rows in order of day, in tables of at most `CHUNK` rows."""
        lead = np.random.default_rng([seed, len(self.name)])
        days = trading_days()
        weights = day_weights(days, weekend=self.weekend, season=self.season)
        counts = lead.multinomial(rows, weights / weights.sum())
        days_of_rows = np.repeat(days, counts)
        for number, start in enumerate(range(0, rows, CHUNK)):
            rng = np.random.default_rng([seed, len(self.name), number])
            yield pa.table(self.fill(rng, days_of_rows[start : start + CHUNK]))


def _pick(rng: Generator, words: Any, shares: Any, size: int) -> NDArray[np.int64]:
    return rng.choice(len(words), size, p=np.asarray(shares) / np.sum(shares))


def _dictionary_of(words: Any, codes: NDArray[Any]) -> pa.Array:
    return pa.DictionaryArray.from_arrays(pa.array(codes.astype(np.int8)), pa.array(list(words)))


def _money(units: NDArray[np.int64]) -> pa.Array:
    """Return whole cents as exact decimals."""
    return to_array(Column.of("", "decimal", units, scale=2))


def _bookings(rng: Generator, days: NDArray[np.int64]) -> dict[str, Any]:
    n = len(days)
    route = _pick(rng, ROUTES, [r.share for r in ROUTES], n)
    first = np.array([ordinal(r.first) for r in ROUTES])[route]
    last = np.array([ordinal(r.last) for r in ROUTES])[route]
    route = np.where((days < first) | (days > last), 0, route)  # not yet or no longer sailing
    kind = _pick(rng, CLASSES, [c[1] for c in CLASSES], n)
    people = rng.choice([1, 2, 3, 4, 5, 6], n, p=[0.34, 0.36, 0.11, 0.12, 0.04, 0.03])
    each = np.array([r.fare for r in ROUTES])[route]
    each = each * np.array([c[2] for c in CLASSES])[kind]
    fare = np.rint(each * 100 * people * rng.choice([0.9, 1.0, 1.0, 1.1], n)).astype(np.int64)
    sailed = days * 1440 + 360 + 30 * rng.integers(0, 29, n)
    sailed = np.concatenate([np.sort(part) for part in _by_day(sailed, days)]) if n else sailed
    booked = sailed - 20 - rng.exponential(12 * 1440, n).astype(np.int64)
    late = rng.random(n) < 0.0002  # flawed: booked after it sailed
    booked = np.where(late, sailed + 3 * 1440, booked)
    blank = rng.random(n) < 0.0002
    customer = (rng.pareto(1.1, n) * 900).astype(np.int64) % 9000 + 1
    return {
        "sailed_on": pa.array((sailed * MINUTE).astype("datetime64[s]")),
        "booked_at": _with_offset(booked, rng.integers(0, 60, n), blank),
        "route": _dictionary_of([r.name for r in ROUTES], route),
        "fare_class": _dictionary_of([c[0] for c in CLASSES], kind),
        "passengers": pa.array(people),
        "fare": _money(fare),
        "customer": pa.array(np.strings.mod("C%04d", customer).tolist()),
    }


def _by_day(values: NDArray[np.int64], days: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    return np.split(values, np.flatnonzero(np.diff(days)) + 1)


def _with_offset(
    minutes: NDArray[np.int64], seconds: NDArray[np.int64], blank: NDArray[np.bool_]
) -> pa.Array:
    """Return local timestamps with their UTC offset as text: +01:00 from April to October."""
    stamps = (minutes * MINUTE + seconds).astype("datetime64[s]")
    _, month, _ = civil_date(minutes // 1440)
    offset = np.where((month >= 4) & (month <= 10), "+01:00", "+00:00")
    text = np.strings.add(np.datetime_as_string(stamps, unit="s"), offset)
    return pa.array(text.tolist(), mask=blank)


def _sales(rng: Generator, days: NDArray[np.int64]) -> dict[str, Any]:
    n = len(days)
    vessel = _pick(rng, VESSELS, [0.45, 0.33, 0.22], n)
    item = _pick(rng, ITEMS, [i[1] for i in ITEMS], n)
    units = rng.choice([1, 2, 3, 4, 6], n, p=[0.5, 0.26, 0.12, 0.08, 0.04])
    amount = np.rint(np.array([i[2] for i in ITEMS])[item] * 100 * units).astype(np.int64)
    year, month, day = civil_date(days)
    date = year * 10_000 + month * 100 + day
    flaw = rng.random(n)
    date = np.where(flaw < 0.0003, year * 10_000 + 230, date)  # 30 February
    date = np.where((flaw >= 0.0003) & (flaw < 0.0005), year * 10_000 + day * 100 + month, date)
    return {
        "date": pa.array(date, mask=flaw > 0.9996),
        "vessel": _dictionary_of(VESSELS, vessel),
        "item_group": _dictionary_of([i[0] for i in ITEMS], item),
        "units": pa.array(units),
        "amount": _money(amount),
    }


def _consignments(rng: Generator, days: NDArray[np.int64]) -> dict[str, Any]:
    n = len(days)
    shipper = _pick(rng, SHIPPERS, [0.3, 0.25, 0.2, 0.15, 0.1], n)
    tonnes = np.rint(rng.gamma(2.2, 2.4, n) * 1000 + 50).astype(np.int64)
    charge = np.rint(tonnes * rng.uniform(3.1, 4.6, n) + 1850).astype(np.int64)
    year, month, day = (part.astype(str) for part in civil_date(days))
    day, month = np.strings.zfill(day, 2), np.strings.zfill(month, 2)
    swapped = rng.random(n) < 0.001
    day, month = np.where(swapped, month, day), np.where(swapped, day, month)
    impossible = rng.random(n) < 0.0007
    day, month = np.where(impossible, "31", day), np.where(impossible, "02", month)
    text = [f"{d}.{m}.{y}" for d, m, y in zip(day, month, year, strict=True)]
    return {
        "shipped": pa.array(text, mask=rng.random(n) < 0.001),
        "shipper": _dictionary_of(SHIPPERS, shipper),
        "tonnes": pa.array(tonnes / 1000),
        "charge": _money(charge),
    }


DATASETS = (
    Dataset("bookings", 0.70, 1.45, 2.6, _bookings),
    Dataset("sales", 0.22, 1.50, 2.2, _sales),
    Dataset("consignments", 0.08, 0.25, 0.35, _consignments),
)


KINDS = ("csv", "parquet")
SHIPPED = (*(dataset.name for dataset in DATASETS), "takings", "stores", "ships", "voyages")
PLAIN = ("eptaro.toml", "companies.toml", "voyages.toml", "goals.csv")


def copy_shipped(folder: Path, *, replace: bool = False) -> list[Path]:
    """Copy the shipped files to a folder, which is made where it is missing.

    Files that are there unchanged are left. Raises `InputError` where one differs and
    `replace` is false.
    """
    _make(folder)
    paths = []
    contents = {f"{name}.csv": shipped(name) for name in SHIPPED}
    data = resources.files("eptaro.demo").joinpath("data")
    contents |= {name: data.joinpath(name).read_bytes() for name in PLAIN}
    for name, content in contents.items():
        target = folder / name
        if not target.exists() or target.read_bytes() != content:
            _refuse(target, replace)
            replace_whole(target, partial(_write, content))
        paths.append(target)
    return paths


def shipped(name: str) -> bytes:
    """Return the content of one shipped file."""
    packed = resources.files("eptaro.demo").joinpath("data", f"{name}.csv.gz").read_bytes()
    return gzip.decompress(packed)


def generate(
    folder: Path, rows: int, *, kind: str = "csv", replace: bool = False, seed: int = SEED
) -> list[Path]:
    """Write about `rows` rows in all as three files of a kind, and return their paths."""
    if kind not in KINDS:
        raise InputError(unknown("kind of file", kind, KINDS))
    if rows < 100:
        raise InputError(f"rows={rows} is too few for a demo; ask for 100 or more")
    _make(folder)
    paths = []
    for dataset in DATASETS:
        target = folder / f"{dataset.name}.{kind}"
        _refuse(target, replace)
        count = round(rows * dataset.share)
        paths.append(replace_whole(target, partial(_fill, dataset, count, kind, seed)))
    return paths


def _write(content: bytes, path: Path) -> None:
    path.write_bytes(content)


def _fill(dataset: Dataset, rows: int, kind: str, seed: int, path: Path) -> None:
    chunks = dataset.chunks(rows, seed)
    first = next(chunks)
    if kind == "parquet":
        from pyarrow import parquet

        with parquet.ParquetWriter(path, first.schema) as writer:
            for chunk in chain([first], chunks):
                writer.write_table(chunk)
        return
    with path.open("wb") as sink:
        for number, chunk in enumerate(chain([first], chunks)):
            write_csv_rows(chunk, sink, header=not number)


def _make(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"{folder}: the folder cannot be made: {error.strerror}") from None


def _refuse(target: Path, replace: bool) -> None:
    if target.exists() and not replace:
        raise InputError(f"{target}: already exists; give --replace or another --folder")
