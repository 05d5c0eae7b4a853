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

Figures = Literal["sum", "mean", "key", "flag", "groups"]
LEVEL = "a level or a rate: averaged, not summed"
_SAMPLE = 20_000  # rows whose values are looked at
_FEWEST = 30  # rows by which a level is known
_SMOOTH = 0.9  # the correlation of neighbours in a level
_MOST_CODES = 12  # distinct whole numbers, each of which many rows have
_ROWS_OF_CODE = 20
_FILLED = 0.6  # of all pairs of a thing and a date in a panel
_FEWEST_STEPS = 8  # rows by which a column that only rises is known
_SPREAD = 0.4  # of the mean: the most that rates differ by
KEYS = {
    *("id", "ids", "key", "no", "nr", "number", "num", "code", "zip", "postcode", "phone"),
    *("tailnum", "fips", "sic", "version", "rownames", "serial", "firm", "site", "station"),
    *("flight", "train"),
}
_ENDS_IN_ID = re.compile(r"[a-z_]+id")
_WORDS_IN_ID = {
    *("paid", "unpaid", "prepaid", "repaid", "bid", "solid", "valid", "rapid", "grid", "covid"),
    *("acid", "fluid", "aid", "mid", "raid", "void", "laid", "said", "kid", "lid", "humid"),
}
_PARTS = {
    *("year", "quarter", "month", "week", "weekday", "day", "hour", "minute", "second"),
    *("yr", "qtr"),
}
FISCAL_YEARS = {"fiscal", "fy", "financial"}
_SO_FAR = {"ytd", "mtd", "qtd", "cumulative", "cumulated", "cum"}
_SO_FAR_TOGETHER = ({"running", "total"}, {"running", "sum"}, {"to", "date"})
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
    *("school", "schooling", "exper", "experience"),
}
_AMOUNTS = {
    *("amount", "amounts", "total", "sum", "revenue", "sales", "sold", "cost", "costs", "fare"),
    *("fares", "paid", "payment", "payments", "spend", "quantity", "qty", "count", "counts"),
    *("units", "value", "values", "generation", "emissions", "production", "consumption", "rain"),
    *("rainfall", "precipitation", "precip", "prcp", "snow", "births", "deaths", "marriages"),
    *("divorces", "orders", "visits", "visitors", "passengers", "goals", "points", "votes", "tax"),
    *("fee", "fees", "profit", "turnover", "income", "expenses", "expense", "trips", "kg"),
}


def words_in(name: str) -> set[str]:
    """Return the words of a column's name, also where capitals alone mark them; a number of things
    is their count.

    >>> [sorted(words_in(name)) for name in ("lifeExp", "net_sales 2024", "NoOfCars")]
    [['exp', 'life'], ['2024', 'net', 'sales'], ['cars', 'count']]
    """
    apart = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name).lower()
    counted = re.sub(r"(?<![a-z0-9])(number|num|no|nr)[^a-z0-9]+of(?![a-z0-9])", "count", apart)
    return {*re.split(r"[^a-z0-9]+", counted)} - {""}


def kind_of_figures(column: pa.ChunkedArray, name: str, words: set[str]) -> tuple[Figures, str]:
    """Return what a column of numbers seems to hold, and why."""
    values = _values_of(column)
    if words & _PARTS or {"fiscal", "period"} <= words or {"posting", "period"} <= words:
        return "key", "part of a date: not summed"
    if words & KEYS or _is_id(name, values):
        return "key", "identifier (by its name): not summed"
    if words & _SO_FAR or any(both <= words for both in _SO_FAR_TOGETHER):
        return "key", "a total so far: not summed, last() has where a period ends"
    if words & _PLACES:
        return "key", "coordinate: not summed"
    if "time" in words and _are_clock_times(values):
        return "key", "times of day, as 1745 for 17:45: not summed"
    if _counts_rows(values) or not name.strip():
        return "key", "counts the rows: not summed"
    if len(values) > 2 and {*np.unique(values).tolist()} == {0.0, 1.0}:
        return "flag", "yes or no, as 1 and 0: not summed"
    if named_amounts(name):
        return "sum", "numbers to add up"
    if words & _MEANS or (re.fullmatch(r"(log|ln)[a-z].*", name) and _has_decimals(values)):
        return "mean", LEVEL
    if _is_level(values):
        return "mean", "changes little from row to row: a level, averaged, not summed"
    if len(values) and _has_decimals(values) and np.abs(values).max() <= 1:
        return "mean", "between -1 and 1: a rate or a share, averaged, not summed"
    if codes := _codes(values):
        return "groups", f"{codes} distinct whole numbers"
    return "sum", "numbers to add up"


def named_amounts(name: str) -> bool:
    """Return whether a name says that numbers are amounts.

    >>> named_amounts("net_sales"), named_amounts("sales_per_head"), named_amounts("price")
    (True, False, False)
    """
    words = words_in(name)
    rates = {"rate", "ratio", "per", "mean", "avg", "average", "share"}
    return bool(words & _AMOUNTS) and not words & rates


def _values_of(column: pa.ChunkedArray) -> NDArray[np.float64]:
    """Return the first numbers of a column as floats, without blanks."""
    first = column.slice(0, _SAMPLE).drop_null()
    values = np.asarray(first.cast(pa.float64()).to_numpy(), np.float64)
    return values[np.isfinite(values)]


def _has_decimals(values: NDArray[np.float64]) -> bool:
    return bool((values != np.floor(values)).any())


def _is_id(name: str, values: NDArray[np.float64]) -> bool:
    """Return whether a name such as `countyid` or `fcode`, of whole numbers, is an identifier."""
    word = name.lower()
    looks_like_id = (_ENDS_IN_ID.fullmatch(word) and word not in _WORDS_IN_ID) or word.endswith(
        "code"
    )
    return bool(looks_like_id) and len(values) > 0 and not _has_decimals(values)


def _are_clock_times(values: NDArray[np.float64]) -> bool:
    """Return whether numbers are hours and minutes in four digits."""
    fits = (values >= 0) & (values <= 2400) & (values % 100 < 60)
    return len(values) >= _FEWEST and bool(fits.all() and values.max() >= 1000)


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


def _codes(values: NDArray[np.float64]) -> int:
    """Return how many whole numbers a column has where these are so few that they name kinds."""
    if not len(values) or _has_decimals(values):
        return 0
    count = len(np.unique(values))
    return count if 1 < count <= _MOST_CODES and len(values) >= count * _ROWS_OF_CODE else 0


def identifies(column: pa.ChunkedArray, dates: pa.ChunkedArray) -> bool:
    """Return whether whole numbers name the things of a panel: each has a row on most dates, and
    one at most on any.
    """
    column, dates = column.slice(0, _SAMPLE), dates.slice(0, _SAMPLE)
    values = _values_of(column)
    if len(values) < len(column) or _has_decimals(values):
        return False
    rows = len(column)
    things, days = pc.count_distinct(column).as_py(), pc.count_distinct(dates).as_py()
    if things < 2 or days < 2 or days == rows or things * days < rows or rows < 2 * things:
        return False
    pairs = pa.table({"thing": column, "date": dates}).group_by(["thing", "date"])
    if pairs.aggregate([]).num_rows < rows:
        return False
    return bool(rows >= things * days * _FILLED)


def describes(column: pa.ChunkedArray, things: pa.ChunkedArray) -> bool:
    """Return whether a column has one value for each thing of a panel, whatever the date."""
    column, things = column.slice(0, _SAMPLE), things.slice(0, _SAMPLE)
    pairs = pa.table({"thing": things, "value": column}).group_by(["thing", "value"])
    return bool(pairs.aggregate([]).num_rows == pc.count_distinct(things).as_py())


def rises(column: pa.ChunkedArray, days: NDArray[np.int32]) -> bool:
    """Return whether numbers only go up, or only down, from date to date: a level, or a total so
    far.
    """
    values = _values_of(column)
    if not _FEWEST_STEPS <= len(values) == len(days) <= _SAMPLE or (np.diff(days) <= 0).any():
        return False
    steps = np.diff(values)
    return bool(((steps >= 0).all() or (steps <= 0).all()) and (steps != 0).any())


def alike(column: pa.ChunkedArray) -> bool:
    """Return whether numbers are so near their mean that they are rates or averages: amounts of
    things, such as of states in a year, differ as the sizes of these do.
    """
    values = _values_of(column)
    if len(values) < _FEWEST or (values <= 0).any():
        return False
    return bool(values.std() < _SPREAD * values.mean())
