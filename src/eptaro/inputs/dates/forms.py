"""The forms of date text: each is a pattern whose named parts are year, month, day and time.

Patterns run over the distinct texts of a column at once, so their cost does not grow with
repeated dates.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from eptaro.errors import DateError
from eptaro.rules.dates import DateRules

_TIME = (
    r"(?:[T ]+(?P<H>\d{1,2}):(?P<M>\d{2})(?::(?P<S>\d{2})(?:[.,](?P<f>\d{1,9}))?)?"
    r" ?(?P<p>[AaPp]\.?[Mm]\.?)? ?(?P<z>[Zz]|[+-]\d{2}:?\d{2})?)?"
)
_WORD = r"(?P<b>[\p{L}\p{M}]+)\.?"
_DIRECTIVES = {
    "%Y": r"(?P<y>\d{4})",
    "%y": r"(?P<y>\d{2})",
    "%m": r"(?P<m>\d{1,2})",
    "%d": r"(?P<d>\d{1,2})",
    "%b": _WORD,
    "%B": _WORD,
    "%H": r"(?P<H>\d{1,2})",
    "%I": r"(?P<H>\d{1,2})",
    "%M": r"(?P<M>\d{2})",
    "%S": r"(?P<S>\d{2})",
    "%f": r"(?P<f>\d{1,9})",
    "%p": r"(?P<p>[AaPp]\.?[Mm]\.?)",
    "%z": r"(?P<z>[Zz]|[+-]\d{2}:?\d{2})",
    "%%": "%",
}

ISO = rf"^(?P<y>\d{{4}})-(?P<m>\d{{2}})-(?P<d>\d{{2}}){_TIME}$"
COMPACT = rf"^(?P<y>\d{{4}})(?P<m>\d{{2}})(?P<d>\d{{2}}){_TIME}$"
THREE_NUMBERS = rf"^(?P<a>\d{{1,2}})[./\- ](?P<b>\d{{1,2}})[./\- ](?P<y>\d{{4}}|\d{{2}}){_TIME}$"


@dataclass(frozen=True)
class Form:
    """A pattern and how people write what it matches."""

    pattern: str
    shown: str


PLAIN = (Form(ISO, "2025-08-20"), Form(COMPACT, "20250820"))


def forms(rules: DateRules) -> Sequence[Form]:
    """Return the forms that the rules accept, in the order to try them."""
    if rules.formats:
        return [Form(_compiled(text), text) for text in rules.formats]
    if rules.order in (None, "infer"):
        return PLAIN
    return _ordered(str(rules.order))


def _ordered(order: str) -> list[Form]:
    """Return the forms of an order, with the month as a number or as a word.

    Between numbers stands the same separator twice, `g` and `h`.
    """
    year = r"(?P<y>\d{4}|\d{2})"
    day = r"(?P<d>\d{1,2})(?:st|nd|rd|th)?"
    gap, example = r"[./\-, ]+", {"ymd": "2025/08/20", "dmy": "20.08.2025", "mdy": "08/20/2025"}
    made = []
    for month in (r"(?P<m>\d{1,2})", _WORD):
        parts = {"y": year, "m": month, "d": day}
        first, second, third = (parts[letter] for letter in order)
        body = f"{first}{gap}{second}{gap}{third}"
        if month != _WORD:
            body = f"{first}(?P<g>{gap}){second}(?P<h>{gap}){third}"
        made.append(Form(rf"^{body}{_TIME}$", example[order]))
    return [*made, *(PLAIN if order == "ymd" else PLAIN[:1])]


def _compiled(text: str) -> str:
    pattern = ""
    for part in re.split(r"(%.)", text):
        if part.startswith("%") and len(part) == 2:
            if part not in _DIRECTIVES:
                accepted = " ".join(_DIRECTIVES)
                raise DateError(f"format {text!r}: {part} is not known; use {accepted}")
            pattern += _DIRECTIVES[part]
        else:
            pattern += re.escape(part)
    names = re.findall(r"\?P<(\w)>", pattern)
    if len(set(names)) != len(names):
        raise DateError(f"format {text!r} names one part of the date twice")
    if not {"y", "d"} <= set(names) or not {"m", "b"} & set(names):
        raise DateError(f"format {text!r} needs a year, a month and a day, as in %d.%m.%Y")
    return f"^{pattern}$"
