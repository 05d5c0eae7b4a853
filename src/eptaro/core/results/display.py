"""How values are shown to people: thousands marks, fixed decimals, blanks for blanks."""

from __future__ import annotations

import math
import unicodedata
from typing import TYPE_CHECKING, Any

from eptaro.core.results.column import Column
from eptaro.core.results.format import rounded

if TYPE_CHECKING:
    from eptaro.core.results.result import Result

_HIDDEN = ("Cc", "Cf", "Cs", "Zl", "Zp")  # Unicode's control, format, surrogate and separators


NUMERIC = ("integer", "decimal", "float")


def shown(column: Column) -> list[str]:
    """Return each value as people read it; a blank is the empty text.

    >>> shown(Column.of("fare", "decimal", [123456, -5], scale=2))
    ['1,234.56', '-0.05']
    """
    return ["" if value is None else _shown(value, column) for value in _finite(column)]


def shown_table(table: Result) -> list[list[str]]:
    """Return each column of a table as people read it; a group without a value is `(blank)`."""
    groups = () if table.answer is None else table.answer.by
    return [
        [text or BLANK for text in shown(column)] if column.name in groups else shown(column)
        for column in table.columns
    ]


def visible(text: str) -> str:
    """Return a text with its control characters written out, so that no screen obeys them.

    These are the control characters of ISO/IEC 6429, marks that turn the direction of writing
    (Unicode annex 9), line and paragraph separators, and lone halves of surrogate pairs.

    >>> print(visible("a" + chr(27) + "[2J" + chr(0x202e)))
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


def _finite(column: Column) -> list[Any]:
    values = column.to_list()
    return [None if value != value else value for value in values]  # NaN is a blank


def _shown(value: Any, column: Column) -> str:
    if column.format is not None and column.kind in NUMERIC:
        decimals = {"integer": 0, "decimal": column.scale}.get(column.kind, 2)
        return column.format.shown(value, decimals)
    match column.kind:
        case "integer":
            return f"{value:,d}" if column.unit != "number" else str(value)
        case "decimal":
            return f"{value:,.{column.scale}f}"
        case "float" if column.unit == "share":
            return f"{rounded(value, _digits(value), 100)}%"
        case "float" if column.unit == "ratio":
            return f"{'+' if value >= 0 else ''}{rounded(value, _digits(value), 100)}%"
        case "float":
            return rounded(value, 2)
        case "flag":
            return "yes" if value else "no"
        case _:
            return visible(str(value))


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
