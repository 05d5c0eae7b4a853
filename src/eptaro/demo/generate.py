"""The generator of the demo's transactions: any number of rows from a fixed seed.

Days are drawn first and are in order; rows are then filled in chunks, each with a seed of
its own, so memory stays small whatever the number of rows.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.random import Generator
from numpy.typing import NDArray

from eptaro.core.calendars.days import civil, ordinal
from eptaro.core.tables.column import Column
from eptaro.demo import company
from eptaro.outputs.arrow import to_array

SEED = 20250820
CHUNK = 1 << 19
MINUTE = 60

Fill = Callable[[Generator, NDArray[np.int64]], dict[str, Any]]


@dataclass(frozen=True)
class Dataset:
    """One of the demo's files: its name, share of the rows, days and filler."""

    name: str
    share: float
    weekend: float
    season: float
    fill: Fill

    def chunks(self, rows: int, seed: int = SEED) -> Iterator[pa.Table]:
        """Yield the rows in order of day, in tables of at most `CHUNK` rows."""
        lead = np.random.default_rng([seed, len(self.name)])
        days = company.trading_days()
        weights = company.day_weights(days, weekend=self.weekend, season=self.season)
        counts = lead.multinomial(rows, weights / weights.sum())
        drawn = np.repeat(days, counts)
        for number, start in enumerate(range(0, rows, CHUNK)):
            rng = np.random.default_rng([seed, len(self.name), number])
            yield pa.table(self.fill(rng, drawn[start : start + CHUNK]))


def _pick(rng: Generator, words: Any, shares: Any, size: int) -> NDArray[np.int64]:
    return rng.choice(len(words), size, p=np.asarray(shares) / np.sum(shares))


def _words(words: Any, codes: NDArray[Any]) -> pa.Array:
    return pa.DictionaryArray.from_arrays(pa.array(codes.astype(np.int8)), pa.array(list(words)))


def _money(units: NDArray[np.int64]) -> pa.Array:
    """Return whole cents as exact decimals."""
    return to_array(Column.of("", "decimal", units, scale=2))


def _bookings(rng: Generator, days: NDArray[np.int64]) -> dict[str, Any]:
    n = len(days)
    route = _pick(rng, company.ROUTES, [r.share for r in company.ROUTES], n)
    first = np.array([ordinal(r.first) for r in company.ROUTES])[route]
    last = np.array([ordinal(r.last) for r in company.ROUTES])[route]
    route = np.where((days < first) | (days > last), 0, route)  # not yet or no longer sailing
    kind = _pick(rng, company.CLASSES, [c[1] for c in company.CLASSES], n)
    people = rng.choice([1, 2, 3, 4, 5, 6], n, p=[0.34, 0.36, 0.11, 0.12, 0.04, 0.03])
    each = np.array([r.fare for r in company.ROUTES])[route]
    each = each * np.array([c[2] for c in company.CLASSES])[kind]
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
        "route": _words([r.name for r in company.ROUTES], route),
        "fare_class": _words([c[0] for c in company.CLASSES], kind),
        "passengers": pa.array(people),
        "fare": _money(fare),
        "customer": pa.array(np.char.mod("C%04d", customer).tolist()),
    }


def _by_day(values: NDArray[np.int64], days: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    return np.split(values, np.flatnonzero(np.diff(days)) + 1)


def _with_offset(
    minutes: NDArray[np.int64], seconds: NDArray[np.int64], blank: NDArray[np.bool_]
) -> pa.Array:
    """Return local timestamps with their UTC offset as text: +01:00 from April to October."""
    stamps = (minutes * MINUTE + seconds).astype("datetime64[s]")
    _, month, _ = civil(minutes // 1440)
    offset = np.where((month >= 4) & (month <= 10), "+01:00", "+00:00")
    text = np.char.add(np.datetime_as_string(stamps, unit="s"), offset)
    return pa.array(text.tolist(), mask=blank)


def _sales(rng: Generator, days: NDArray[np.int64]) -> dict[str, Any]:
    n = len(days)
    vessel = _pick(rng, company.VESSELS, [0.45, 0.33, 0.22], n)
    item = _pick(rng, company.ITEMS, [i[1] for i in company.ITEMS], n)
    units = rng.choice([1, 2, 3, 4, 6], n, p=[0.5, 0.26, 0.12, 0.08, 0.04])
    amount = np.rint(np.array([i[2] for i in company.ITEMS])[item] * 100 * units).astype(np.int64)
    year, month, day = civil(days)
    date = year * 10_000 + month * 100 + day
    flaw = rng.random(n)
    date = np.where(flaw < 0.0003, year * 10_000 + 230, date)  # 30 February
    date = np.where((flaw >= 0.0003) & (flaw < 0.0005), year * 10_000 + day * 100 + month, date)
    return {
        "date": pa.array(date, mask=flaw > 0.9996),
        "vessel": _words(company.VESSELS, vessel),
        "item_group": _words([i[0] for i in company.ITEMS], item),
        "units": pa.array(units),
        "amount": _money(amount),
    }


def _consignments(rng: Generator, days: NDArray[np.int64]) -> dict[str, Any]:
    n = len(days)
    shipper = _pick(rng, company.SHIPPERS, [0.3, 0.25, 0.2, 0.15, 0.1], n)
    tonnes = np.rint(rng.gamma(2.2, 2.4, n) * 1000 + 50).astype(np.int64)
    charge = np.rint(tonnes * rng.uniform(3.1, 4.6, n) + 1850).astype(np.int64)
    year, month, day = (part.astype(str) for part in civil(days))
    day, month = np.char.zfill(day, 2), np.char.zfill(month, 2)
    swapped = rng.random(n) < 0.001
    day, month = np.where(swapped, month, day), np.where(swapped, day, month)
    impossible = rng.random(n) < 0.0007
    day, month = np.where(impossible, "31", day), np.where(impossible, "02", month)
    text = np.char.add(np.char.add(np.char.add(day, "."), np.char.add(month, ".")), year)
    return {
        "shipped": pa.array(text.tolist(), mask=rng.random(n) < 0.001),
        "shipper": _words(company.SHIPPERS, shipper),
        "tonnes": pa.array(tonnes / 1000),
        "charge": _money(charge),
    }


DATASETS = (
    Dataset("bookings", 0.70, 1.45, 2.6, _bookings),
    Dataset("sales", 0.22, 1.50, 2.2, _sales),
    Dataset("consignments", 0.08, 0.25, 0.35, _consignments),
)
