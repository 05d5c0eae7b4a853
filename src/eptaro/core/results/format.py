"""How a column is shown: its heading, its priority, and its values as people read them."""

from __future__ import annotations

import math
import re
import sys
import unicodedata
from collections.abc import Iterable, Mapping
from dataclasses import field, replace
from decimal import ROUND_HALF_UP, Decimal, InvalidOperation, localcontext
from enum import IntEnum
from typing import TYPE_CHECKING, Any, Literal, TypeAlias, get_args

import numpy as np

from eptaro.errors import MeasureError, unknown
from eptaro.option import option
from eptaro.record import Record, record

if TYPE_CHECKING:
    from eptaro.core.results.column import Column
    from eptaro.core.results.result import Result


_HIDDEN = ("Cc", "Cf", "Cs", "Zl", "Zp")  # Unicode's control, format, surrogate and separators


Better: TypeAlias = Literal["higher", "lower"]
NUMERIC = ("integer", "decimal", "float")
_DECIMALS, _MOST_DECIMALS = 2, 6  # of a float
_DIGITS_SHOWN = 4  # that count, of a column's median


def format_column(column: Column, decimals: int | None = None) -> list[str]:
    """Return each value as people read it; a blank is the empty text.

    `decimals` are those of its floats, where it is a part of a longer column.

    >>> from eptaro.core.results.column import Column
    >>> format_column(Column.of("fare", "decimal", [123456, -5], scale=2))
    ['1,234.56', '-0.05']
    """
    if column.face is not None and column.face.texts is not None:
        texts = column.face.texts
        return ["" if v is None else texts.get(v, v) for v in column.to_list()]
    places = float_decimals(column) if decimals is None else decimals
    return ["" if v is None else _format_one(v, column, places) for v in _finite_values(column)]


def format_like(column: Column, values: Iterable[float]) -> list[str]:
    """Return other numbers as a column writes its own; NaN is the empty text.

    >>> from eptaro.core.results.column import Column
    >>> format_like(Column.of("fare", "decimal", [123456, -5], scale=2), [1234.5, float("nan")])
    ['1,234.50', '']
    """
    places = float_decimals(column)

    def shown(value: float) -> str:
        if not math.isfinite(value):
            return "" if value != value else str(value)
        return _format_one(round(value) if column.kind == "integer" else value, column, places)

    return [shown(value) for value in values]


def with_plus(text: str) -> str:
    """Return a change as people read it with a plus before it where it is above 0.

    >>> [with_plus(text) for text in ("€1,234.50", "-3", "0.00", "")]
    ['+€1,234.50', '-3', '0.00', '']
    """
    is_above = re.search("[1-9]", text) and not text.startswith(("-", "+"))
    return f"+{text}" if is_above else text


def float_decimals(column: Column) -> int:
    """Return how many decimals a column of floats is shown with: two, or as many as give its
    median four digits that count, less those that are zero in every value.

    >>> from eptaro.core.results.column import Column
    >>> rates, fares = [0.0813, 0.0847], [24.875]
    >>> [float_decimals(Column.of("x", "float", values)) for values in (rates, fares)]
    [4, 2]
    """
    if column.kind != "float" or column.unit in ("share", "ratio"):
        return _DECIMALS
    sizes = np.abs(column.data[np.isfinite(column.data) & (column.data != 0) & ~column.blank])
    if not len(sizes):
        return _DECIMALS
    with np.errstate(over="ignore", invalid="ignore"):  # of numbers near the end of floats
        middle = min(float(np.median(sizes)), sys.float_info.max)
        most = _DIGITS_SHOWN - 1 - math.floor(math.log10(middle))
        for places in range(_DECIMALS, min(most, _MOST_DECIMALS)):
            if (np.abs(sizes - np.round(sizes, places)) <= 1e-12 * sizes).all():
                return places
    return max(min(most, _MOST_DECIMALS), _DECIMALS)


def shown_table(table: Result) -> list[list[str]]:
    """Return each column of a table as people read it; a group without a value is `(blank)`."""
    groups = () if table.answer is None else table.answer.by
    return [
        [text or BLANK for text in format_column(column)]
        if column.name in groups
        else format_column(column)
        for column in table.columns
    ]


def escape_controls(text: str) -> str:
    """Return a text with its control characters written out, so that no screen obeys them.

    These are the control characters of ISO/IEC 6429, marks that turn the direction of writing
    (Unicode annex 9), line and paragraph separators, and lone halves of surrogate pairs.

    >>> print(escape_controls("a" + chr(27) + "[2J" + chr(0x202e)))
    a\\x1b[2J\\u202e
    """
    if text.isprintable():
        return text
    return "".join(_written_out(letter) if _is_hidden(letter) else letter for letter in text)


def _is_hidden(letter: str) -> bool:
    return unicodedata.category(letter) in _HIDDEN


def _written_out(letter: str) -> str:
    code = ord(letter)
    return f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}"


def _finite_values(column: Column) -> list[Any]:
    values = column.to_list()
    return [None if value != value else value for value in values]  # NaN is a blank


def _format_one(value: Any, column: Column, decimals: int) -> str:
    if column.format is not None and column.kind in NUMERIC:
        if column.format.sign:  # money has cents
            decimals = _DECIMALS
        elif column.format.percent:  # of a percentage two digits more are before the mark
            decimals = max(decimals - 2, 1) if column.kind == "float" else decimals
        own = {"integer": 0, "decimal": column.scale}.get(column.kind, decimals)
        return column.format.shown(value, own)
    match column.kind:
        case "integer":
            return f"{value:,d}" if column.unit != "number" else str(value)
        case "decimal":
            return f"{value:,.{column.scale}f}"
        case "float" if column.unit == "share":
            return f"{round_away(value, _digits(value), 100)}%"
        case "float" if column.unit == "ratio":
            return f"{'+' if value >= 0 else ''}{round_away(value, _digits(value), 100)}%"
        case "float":
            return round_away(value, decimals)
        case "flag":
            return "yes" if value else "no"
        case _:
            return escape_controls(str(value))


def _digits(value: float) -> int:
    """Return the decimals of a percentage: one, or as many as show that it is not 0.

    >>> _digits(0.31), _digits(-0.00047), _digits(0.0)
    (1, 2, 1)
    """
    size = abs(100 * value)
    if size >= 0.05 or size < 1e-12:
        return 1
    return max(-math.floor(math.log10(size) + math.log10(2) - 1e-12), 1)


def plain_table(headers: list[str], cells: list[list[str]], right: list[bool]) -> str:
    """Return a table as plain text; `cells` holds one list per column."""
    widths = [
        max([len(head), *map(len, column)]) for head, column in zip(headers, cells, strict=True)
    ]

    def line(items: list[str]) -> str:
        return "  ".join(
            item.rjust(width) if is_right else item.ljust(width)
            for item, width, is_right in zip(items, widths, right, strict=True)
        ).rstrip()

    rule = "  ".join("-" * width for width in widths)
    return "\n".join([line(headers), rule, *(line(list(row)) for row in zip(*cells, strict=True))])


BLANK = "(blank)"  # how people read and write the group without a value


class Priority(IntEnum):
    """How soon a column is shown: keys and answers always, the others where there is room."""

    KEY = 0
    ANSWER = 1
    BESIDE = 2
    DAYS = 3
    DETAIL = 4


@record
class DisplayHint(Record):
    """How a column is shown on a screen; files have its exact name.

    Parameters
    ----------
    words : str
        What is above it.
    rank : Rank
        How soon it is shown.
    of : str
        The measure that it belongs to; named as well where there are several.
    ends : str
        Of a column of first days, the one with the last days, which is shown with it.
    rare : bool
        Whether it is shown only where it holds for some row.
    drawn : bool
        Whether it is a share or a change, which a small bar shows as well.
    texts : mapping of str to str, optional
        What is shown for some values, such as labels of periods.
    """

    words: str
    rank: Priority = Priority.ANSWER
    of: str = ""
    ends: str = ""
    rare: bool = False
    drawn: bool = False
    texts: Mapping[str, str] | None = field(default=None, hash=False)

    def against(self, what: str) -> DisplayHint:
        """Return the face with what its values are set against."""
        return replace(self, words=f"{self.words}, {what}")


PERIOD = DisplayHint("period", Priority.KEY)
FIRST = DisplayHint("days", Priority.DAYS, ends="last")
LAST = DisplayHint("last day", Priority.DAYS)
COMPLETE = DisplayHint("complete", Priority.DETAIL)
DATE = DisplayHint("date", Priority.KEY)


_DIGITS = 400  # of the longest float


@record(guarded=True)
class Format(Record):
    """A sign before the number (such as a currency's), its decimals, or a percentage; and whether
    less of it is better, as of costs, delays and complaints.

    Values themselves do not change, in files neither.

    Parameters
    ----------
    sign : str
        What is before the number.
    places : int, optional
        Decimals shown, 0 to 12.
    percent : bool
        Whether it is shown as a percentage.
    better : {"higher", "lower"}
        Which changes are good: sentences say so of `lower`, pictures and pages show it in colour.

    Raises
    ------
    MeasureError
        For decimals out of range and words that `better` does not have.

    Examples
    --------
    >>> Format(sign="€", places=0).shown(1234.5)
    '€1,235'
    >>> Format(percent=True, places=1).shown(0.125)
    '12.5%'
    """

    sign: str = ""
    places: int | None = option(None, help="Decimals shown.", least=0, most=12)
    percent: bool = False
    better: Better = "higher"

    def __post_init__(self) -> None:
        if self.better not in get_args(Better):
            raise MeasureError(unknown("value for better", self.better, get_args(Better)))
        if self.places is not None and not 0 <= self.places <= 12:
            raise MeasureError(f"places={self.places} must be 0 to 12")

    def shown(self, value: float, decimals: int = 2) -> str:
        """Return a number as people read it; `decimals` serve where the format has none.

        Parameters
        ----------
        value : float
            The number.
        decimals : int
            Decimals where the format has none.

        Returns
        -------
        str
            The number as people read it.

        Examples
        --------
        >>> Format(sign="€", places=0).shown(1234.5)
        '€1,235'
        """
        decimals = decimals if self.places is None else self.places
        if self.percent:
            return f"{round_away(value, decimals, 100)}%"
        number = round_away(value, decimals)
        minus = "-" * number.startswith("-")
        return f"{minus}{self.sign}{number.removeprefix('-')}"

    @property
    def of_changes(self) -> Format:
        """How a difference is shown: that of percentages in percentage points."""
        if not self.percent:
            return self
        return _PointsFormat(self.sign, self.places, self.percent, self.better)


class _PointsFormat(Format):
    """Percentage points: of a rate that rose from 40% to 42%, two points rather than 5%."""

    def shown(self, value: float, decimals: int = 2) -> str:
        """Return a number as people read it."""
        return f"{super().shown(value, decimals).removesuffix('%')} pp"


def parse_format(text: str) -> tuple[str, Format]:
    """Return a measure and how it is shown, written as `conversion=percent`, `price=4` or
    `revenue=€,0`: what is before the number, `percent`, the number of decimals, and `lower`
    where less is better.

    Raises `MeasureError` for anything else.

    >>> parse_format("conversion=percent,1")
    ('conversion', Format(sign='', places=1, percent=True, better='higher'))
    """
    name, equals, how = (part.strip() for part in text.partition("="))
    settings: dict[str, Any] = {}
    for word in filter(None, (part.strip() for part in how.split(","))):
        if word.isdecimal() and len(word) < 3:
            settings["places"] = int(word)
        elif word == "percent":
            settings["percent"] = True
        elif word == "lower":
            settings["better"] = "lower"
        elif not re.search(r"\d", word) and len(word) <= 4:
            settings["sign"] = word
        else:
            settings.clear()
            break
    if not name or not equals or not settings:
        raise MeasureError(
            f"{text!r} does not say how a measure is shown; write conversion=percent, price=4, "
            f"revenue=€,0 or delay=lower (less of it is better)"
        )
    return name, Format(**settings)


def round_away(value: float | Decimal, places: int, times: int = 1) -> str:
    """Return a number with so many decimals, halves away from zero as people round, and with
    commas between thousands.

    A float is taken for the shortest decimal that gives it back: what people see. What is rounded
    to zero has no sign.

    >>> round_away(0.125, 2), round_away(2.675, 2), round_away(-2.5, 0), round_away(-0.285, 0)
    ('0.13', '2.68', '-3', '0')
    """
    try:
        exact = value if isinstance(value, int | Decimal) else Decimal(repr(float(value)))
        with localcontext(prec=_DIGITS):
            number = Decimal(exact) * times
            rounded = number.quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP)
            return f"{rounded or abs(rounded):,f}"
    except InvalidOperation:  # infinite, or with more digits than there are
        return f"{value * times:,.{places}f}"


def check_formats(formats: Mapping[str, Format], measures: list[str]) -> Mapping[str, Format]:
    """Return the formats; raises `MeasureError` for one of a measure that is not there."""
    for name in formats:
        if name not in measures:
            raise MeasureError(f"formats: {unknown('measure', name, measures)}")
    return formats
