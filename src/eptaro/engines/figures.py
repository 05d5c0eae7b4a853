"""What the numbers of a column seem to be: amounts that add up, levels and rates that are averaged,
flags, or identifiers and parts of dates that are neither.

The name decides where it says so; else the values do: a level changes little from row to row, an
identifier of a panel occurs once on each date.
"""

from __future__ import annotations

import re
from typing import Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

Figures = Literal["sum", "mean", "key", "flag"]
LEVEL = "a level or a rate: averaged, not summed"
_SAMPLE = 20_000  # rows whose values are looked at
_FEWEST = 30  # rows by which a level is known
_SMOOTH = 0.95  # the correlation of neighbours in a level
KEYS = {
    *("id", "ids", "key", "no", "nr", "number", "num", "code", "zip", "postcode", "phone"),
    *("tailnum", "fips", "sic", "version", "rownames", "serial", "firm", "site", "station"),
}
_ENDS_IN_ID = re.compile(r"[a-z_]+id")
_WORDS_IN_ID = {
    *("paid", "unpaid", "prepaid", "repaid", "bid", "solid", "valid", "rapid", "grid", "covid"),
    *("acid", "fluid", "aid", "mid", "raid", "void", "laid", "said", "kid", "lid", "humid"),
}
_PARTS = {"year", "month", "day", "hour", "minute", "second", "week", "weekday", "quarter", "yr"}
_PLACES = {"lat", "latitude", "lon", "lng", "long", "longitude"}
_MEANS = {
    *("time", "price", "rate", "ratio", "percent", "pct", "share", "temp", "temperature", "score"),
    *("age", "tmax", "tmin", "tavg", "population", "pop", "headcount", "heads", "rating", "index"),
    *("speed", "mean", "avg", "average", "median", "max", "min", "level", "humidity", "humid"),
    *("pressure", "delay", "balance", "unit", "per", "margin", "wind", "density", "open", "high"),
    *("low", "close", "adj", "glucose", "cpi", "deflator", "inf", "inflation", "unem", "life"),
    *("unemployment", "expectancy", "fertility", "mpg", "displ", "dewp", "visib", "height"),
    *("weight", "width", "depth", "education", "educ", "wage", "hourly", "growth", "log", "ln"),
    *("lag", "gpa", "yield", "interest", "exchange", "elevation", "altitude", "prestige", "iq"),
}
_AMOUNTS = {
    *("amount", "amounts", "total", "sum", "revenue", "sales", "sold", "cost", "costs", "fare"),
    *("fares", "paid", "payment", "payments", "spend", "quantity", "qty", "count", "counts"),
    *("units", "generation", "emissions", "production", "consumption", "rain", "rainfall"),
    *("precipitation", "precip", "prcp", "snow", "births", "deaths", "marriages", "divorces"),
    *("orders", "visits", "visitors", "passengers", "goals", "points", "votes", "tax", "fee"),
    *("fees", "profit", "turnover", "income", "expenses", "expense", "orders", "trips", "kg"),
}


def words_in(name: str) -> set[str]:
    """Return the words of a column's name, also where capitals alone mark them.

    >>> sorted(words_in("lifeExp")), sorted(words_in("net_sales 2024"))
    (['exp', 'life'], ['2024', 'net', 'sales'])
    """
    apart = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name)
    return {*re.split(r"[^a-z0-9]+", apart.lower())} - {""}


def kind_of_figures(column: pa.ChunkedArray, name: str, words: set[str]) -> tuple[Figures, str]:
    """Return what a column of numbers seems to hold, and why."""
    values = _values_of(column)
    if words & _PARTS:
        return "key", "part of a date: not summed"
    if words & KEYS or _is_id(name, values):
        return "key", "identifier (by its name): not summed"
    if words & _PLACES:
        return "key", "coordinate: not summed"
    if _counts_rows(values):
        return "key", "counts the rows: not summed"
    if len(values) > 2 and {*np.unique(values).tolist()} == {0.0, 1.0}:
        return "flag", "yes or no, as 1 and 0: not summed"
    if words & _AMOUNTS and not words & {"rate", "ratio", "per", "mean", "avg", "average", "share"}:
        return "sum", "amounts"
    if words & _MEANS or (re.fullmatch(r"(log|ln)[a-z].*", name) and _has_decimals(values)):
        return "mean", LEVEL
    if _is_level(values):
        return "mean", "changes little from row to row: a level, averaged, not summed"
    return "sum", "amounts"


def _values_of(column: pa.ChunkedArray) -> NDArray[np.float64]:
    """Return the first numbers of a column as floats, without blanks; none of other columns."""
    kind = column.type
    if not (pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind)):
        return np.zeros(0)
    first = pc.cast(column.slice(0, _SAMPLE).drop_null(), pa.float64())
    values = np.asarray(first.to_numpy(), np.float64)
    return values[np.isfinite(values)]


def _has_decimals(values: NDArray[np.float64]) -> bool:
    return bool((values != np.floor(values)).any())


def _is_id(name: str, values: NDArray[np.float64]) -> bool:
    """Return whether a name such as `countyid` or `fcode`, of whole numbers, is an identifier."""
    word = name.lower()
    named = (_ENDS_IN_ID.fullmatch(word) and word not in _WORDS_IN_ID) or word.endswith("code")
    return bool(named) and len(values) > 0 and not _has_decimals(values)


def _counts_rows(values: NDArray[np.float64]) -> bool:
    """Return whether numbers go up by one from row to row."""
    return len(values) > 2 and bool((np.diff(values) == 1).all())


def _is_level(values: NDArray[np.float64]) -> bool:
    """Return whether numbers are those of a level: each is near the one before."""
    if len(values) < _FEWEST:
        return False
    one, two = values[:-1], values[1:]
    if not (one.std() > 0 and two.std() > 0):
        return False
    return bool(np.corrcoef(one, two)[0, 1] > _SMOOTH)


def identifies(column: pa.ChunkedArray, dates: pa.ChunkedArray) -> bool:
    """Return whether whole numbers name the things of a panel: each has a row on most dates, and
    one at most on any.
    """
    if not pa.types.is_integer(column.type) or column.null_count or dates.null_count:
        return False
    rows = len(column)
    things, days = pc.count_distinct(column).as_py(), pc.count_distinct(dates).as_py()
    if things < 2 or days < 2 or days == rows or things * days < rows or rows < 2 * things:
        return False
    pairs = pa.table({"thing": column, "date": dates}).group_by(["thing", "date"])
    if pairs.aggregate([]).num_rows < rows:
        return False
    return bool(rows >= things * days * _FILLED)


_FILLED = 0.6  # of all pairs of a thing and a date in a panel
