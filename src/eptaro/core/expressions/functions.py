"""The functions of the language: how many values each takes, and of which kinds."""

from __future__ import annotations

from enum import Enum
from typing import NamedTuple


class Kind(Enum):
    """What a value is; a column without any value is blank, and goes with every other."""

    NUMBER = "a number"
    TEXT = "text"
    DATE = "a date"
    FLAG = "a condition"
    BLANK = "blank"


class Function(NamedTuple):
    """What a function takes and gives.

    `takes` lists the kinds of its values, None where several go; values after the last are of
    its kind, up to `most`. `gives` is None where it gives what it takes.
    """

    takes: tuple[Kind | None, ...]
    gives: Kind | None
    least: int
    most: int
    shown: str


_MANY = 100
_N, _T, _D, _F = Kind.NUMBER, Kind.TEXT, Kind.DATE, Kind.FLAG
FUNCTIONS: dict[str, Function] = {
    "abs": Function((_N,), _N, 1, 1, "abs(x)"),
    "round": Function((_N, _N), _N, 1, 2, "round(x) or round(x, 2)"),
    "floor": Function((_N,), _N, 1, 1, "floor(x)"),
    "ceil": Function((_N,), _N, 1, 1, "ceil(x)"),
    "least": Function((None,), None, 2, _MANY, "least(a, b)"),
    "greatest": Function((None,), None, 2, _MANY, "greatest(a, b)"),
    "lower": Function((_T,), _T, 1, 1, "lower(text)"),
    "upper": Function((_T,), _T, 1, 1, "upper(text)"),
    "trim": Function((_T,), _T, 1, 1, "trim(text)"),
    "length": Function((_T,), _N, 1, 1, "length(text)"),
    "contains": Function((_T, _T), _F, 2, 2, "contains(text, 'part')"),
    "starts": Function((_T, _T), _F, 2, 2, "starts(text, 'part')"),
    "ends": Function((_T, _T), _F, 2, 2, "ends(text, 'part')"),
    "coalesce": Function((None,), None, 2, _MANY, "coalesce(a, b)"),
    "if": Function((_F, None), None, 2, 3, "if(condition, a, b)"),
    "date": Function((_N, _N, _N), _D, 3, 3, "date(year, month, day)"),
    "days": Function((_D, _D), _N, 2, 2, "days(later, earlier)"),
    "year": Function((_D,), _N, 1, 1, "year(date)"),
    "month": Function((_D,), _N, 1, 1, "month(date)"),
    "day": Function((_D,), _N, 1, 1, "day(date)"),
    "weekday": Function((_D,), _T, 1, 1, "weekday(date)"),
    "hour": Function((_D,), _N, 1, 1, "hour(time)"),
    "band": Function((_N, _N), _T, 2, _MANY, "band(x, 0, 50, 100)"),
}
