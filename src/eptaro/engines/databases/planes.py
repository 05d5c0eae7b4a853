"""The planes of a fold from the columns that a database sends back."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.folds.cells import Tally
from eptaro.core.folds.encoding import Encoder
from eptaro.core.folds.picks import Entries, Pick
from eptaro.core.folds.planes import Plane
from eptaro.core.folds.squares import Squares
from eptaro.core.folds.sums import Sum
from eptaro.core.tables import exact
from eptaro.core.tables.column import Column, Kind
from eptaro.engines.databases.queries import DAY, LIMB, ROWS, key_names
from eptaro.errors import MeasureError
from eptaro.inputs.columns.codes import read_codes, read_groups
from eptaro.inputs.dates import read_dates
from eptaro.rules.dates import DateRules


@dataclass(frozen=True, eq=False)
class Result:
    """What came back: columns of the grouped query, those of the listed ones, and the queries."""

    columns: Mapping[str, list[Any]]
    listed: Mapping[Plane, Mapping[str, list[Any]]]
    queries: tuple[str, ...]
    scales: Mapping[str, int]
    floats: frozenset[str]
    centres: Mapping[str, int]


class Keys:
    """The day and group of each row of a result; rows without a readable day are told apart."""

    def __init__(
        self, columns: Mapping[str, list[Any]], by: list[str], rules: DateRules, name: str
    ) -> None:
        self.read = read_dates(array_of(columns[DAY]), rules, "date")
        bad = self.read.bad
        self.good = np.ones(len(columns[DAY]), bool) if bad is None else ~bad
        self.day = self.read.days[self.good].astype(np.int64)
        self.coded = {
            group: read_groups(array_of(columns[key]), group, name).at(self.good)
            for group, key in zip(by, key_names(by)[1:], strict=True)
        }


def array_of(values: list[Any]) -> pa.ChunkedArray:
    """Return a result's column as Arrow has it; sums of mixed kinds are brought together."""
    try:
        return pa.chunked_array([pa.array(values)])
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        return pa.chunked_array([pa.array([None if v is None else str(v) for v in values])])


def tally_of(plane: Plane, result: Result, good: NDArray[np.bool_]) -> Tally:
    """Return a plane of the grouped query with one cell per good row of the result."""
    name, column = f"{plane.what}:{plane.column}", plane.column
    match plane.what:
        case "rows":
            return Sum(np.array(result.columns[ROWS], np.int64)[good])
        case "filled":
            return Sum(np.array(_kept(result, name, good), np.int64))
        case "sum":
            return Sum.of(*_numbers(_kept(result, name, good), column, result))
        case "square":
            return _squares(plane, result, name, good)
        case "min" | "max":
            values = _kept(result, name, good)
            at = np.flatnonzero(np.array([value is not None for value in values], bool))
            zeros = np.zeros(len(at), np.int64)
            filled = [value for value in values if value is not None]
            if filled and isinstance(filled[0], dt.date):
                days = np.array(filled, "datetime64[D]").astype(np.int64)
                return Pick(plane.what, at, days, zeros, at, "date")
            if filled and isinstance(filled[0], str):
                words = np.array([*filled, None], object)[:-1]
                every, places = np.unique(words, return_inverse=True)
                return Pick(plane.what, at, places, zeros, at, "text", choices=every)
            data, kind, scale = _numbers(values, column, result)
            return Pick(plane.what, at, data[at], zeros, at, kind, scale)
        case _:
            raise MeasureError(f"{plane.what}({column}) is not of the grouped query")


def _kept(result: Result, name: str, good: NDArray[np.bool_]) -> list[Any]:
    """Return the values of a column in the good rows."""
    values = zip(_values(result, name), good.tolist(), strict=True)
    return [value for value, kept in values if kept]


def _values(result: Result, name: str) -> list[Any]:
    """Return a column of the grouped query; sums may come in two halves of 32 bits."""
    if name in result.columns:
        return result.columns[name]
    halves = zip(result.columns[f"{name}:high"], result.columns[f"{name}:low"], strict=True)
    return [None if high is None else (int(high) << 32) + int(low) for high, low in halves]


def _squares(plane: Plane, result: Result, name: str, good: NDArray[np.bool_]) -> Squares:
    columns = result.columns
    if f"{name}:00" in columns:
        scale = result.scales.get(plane.column, 0)
        products = {
            pair: np.array([*(int(v or 0) for v in columns[f"{name}:{pair}"]), None], object)
            for pair in ("00", "01", "02", "11", "12", "22")
        }
        squares = sum(
            (products[pair][:-1] << LIMB * (4 - int(pair[0]) - int(pair[1])))
            * (1 if pair[0] == pair[1] else 2)
            for pair in products
        )
        made = np.asarray(squares, object)[good]
        return Squares.of_exact(made, "decimal" if scale else "integer", scale)
    values = [v for v, kept in zip(columns[name], good.tolist(), strict=True) if kept]
    if plane.column in result.floats:
        data = np.array([0.0 if v is None else float(v) for v in values])
        if not np.isfinite(data).all():
            raise MeasureError(f"the squares of {plane.column!r} do not fit into floats")
        return Squares.of_floats(data, result.centres.get(plane.column, 0))
    _, kind, scale = _numbers(_values(result, f"sum:{plane.column}"), plane.column, result)
    units = [0 if v is None else _units(Decimal(v), 2 * scale) for v in values]
    return Squares.of_exact(np.array([*units, None], object)[:-1], kind, scale)


def _numbers(values: list[Any], column: str, result: Result) -> tuple[NDArray[Any], Kind, int]:
    """Return values in whole units, their kind and decimals; 0 where there is none."""
    if column in result.scales:
        scale = result.scales[column]
        return _whole(values), "decimal" if scale else "integer", scale
    if column in result.floats or any(isinstance(value, float) for value in values):
        return np.array([0.0 if v is None else float(v) for v in values]), "float", 0
    if any(isinstance(value, str) for value in values):
        raise MeasureError(f"column {column!r} holds text; a sum needs numbers")
    decimals = [Decimal(0) if value is None else Decimal(value) for value in values]
    places = [-int(value.as_tuple().exponent) for value in decimals if value.is_finite()]
    scale = max([0, *places])
    units = [_units(value, scale) for value in decimals]
    return _whole(units), "decimal" if scale else "integer", scale


def _units(value: Decimal, scale: int) -> int:
    """Return a decimal as whole units of 10**-scale, however many digits it has."""
    over, under = value.as_integer_ratio()
    return int(over * 10**scale // under)


def _whole(values: list[Any]) -> NDArray[Any]:
    """Return whole numbers, 0 where there is none."""
    units = [0 if value is None else int(value) for value in values]
    return exact.narrow(np.array([*units, None], object)[:-1])


def entries_of(
    plane: Plane, listed: Mapping[str, list[Any]], keys: Keys, cell: Ints
) -> tuple[Entries, Column | None]:
    """Return all values of a column, each as often as it was counted."""
    kept = keys.good.tolist()
    values = [v for v, good in zip(listed["eptaro_value"], kept, strict=True) if good]
    counts = np.array(listed[ROWS], np.int64)[keys.good]
    if plane.what == "codes":
        there = np.array([value == value for value in values], bool)  # NaN is none
        cell, values = cell[there], [value for value in values if value == value]
        encoder = Encoder(plane.column, words=True)
        codes = encoder.encode(read_codes(array_of(values), plane.column)).astype(np.int64)
        return Entries.of(cell, codes, "integer", 0), encoder.coded().choices
    if any(isinstance(value, float) for value in values):
        data: NDArray[Any] = np.array(values, np.float64)
        there = ~np.isnan(data)
        cell, data, counts = cell[there], data[there], counts[there]
        return Entries.of(np.repeat(cell, counts), np.repeat(data, counts), "float", 0), None
    decimals = [Decimal(value) for value in values]
    scale = max([0, *(-int(value.as_tuple().exponent) for value in decimals)])
    units = _whole([_units(value, scale) for value in decimals])
    kind: Kind = "decimal" if scale else "integer"
    return Entries.of(np.repeat(cell, counts), np.repeat(units, counts), kind, scale), None
