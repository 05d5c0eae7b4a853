"""The forms of date text: each is a pattern whose named parts are year, month, day and time.

Patterns run over the distinct texts of a column at once, so their cost does not grow with
repeated dates.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from eptaro.core.calendars.grain import Grain
from eptaro.errors import DateError
from eptaro.rules.dates import DateRules

_TIME = (
    r"(?:[T ]+(?P<H>\d{1,2}):(?P<M>\d{2})(?::(?P<S>\d{2})(?:[.,](?P<f>\d{1,9}))?)?"
    r" ?(?P<p>[AaPp]\.?[Mm]\.?)? ?(?P<z>[Zz]|UTC|GMT|[+-]\d{2}:?\d{2})?)?"
)
_WEEKDAY = r"(?P<w>[\p{L}\p{M}]+)\.?"
_WORD = r"(?P<b>[\p{L}\p{M}]+)\.?"
_DIRECTIVES = {
    "%Y": r"(?P<y>\d{4})",
    "%y": r"(?P<y>\d{2})",
    "%m": r"(?P<m>\d{1,2})",
    "%d": r"(?P<d>\d{1,2})",
    "%b": _WORD,
    "%B": _WORD,
    "%a": _WEEKDAY,
    "%A": _WEEKDAY,
    "%H": r"(?P<H>\d{1,2})",
    "%I": r"(?P<H>\d{1,2})",
    "%M": r"(?P<M>\d{2})",
    "%S": r"(?P<S>\d{2})",
    "%f": r"(?P<f>\d{1,9})",
    "%p": r"(?P<p>[AaPp]\.?[Mm]\.?)",
    "%z": r"(?P<z>[Zz]|UTC|GMT|[+-]\d{2}:?\d{2})",
    "%%": "%",
}

ISO = rf"^(?P<y>\d{{4}})-(?P<m>\d{{2}})-(?P<d>\d{{2}}){_TIME}$"
COMPACT = rf"^(?P<y>\d{{4}})(?P<m>\d{{2}})(?P<d>\d{{2}}){_TIME}$"
THREE_NUMBERS = rf"^(?P<a>\d{{1,2}})[./\- ](?P<b>\d{{1,2}})[./\- ](?P<y>\d{{4}}|\d{{2}}){_TIME}$"


@dataclass(frozen=True)
class Form:
    """A pattern and how people write what it matches, empty where that need not be told."""

    pattern: str
    shown: str


def _ordered(order: str, *, worded: bool) -> str:
    """Return the pattern of an order, with the month as a number or as a word, which a weekday may
    stand before.

    Between numbers stands the same separator twice, `g` and `h`.
    """
    gap = r"[./\-, ]+"
    day = r"(?P<d>\d{1,2})(?:st|nd|rd|th)?"
    month = _WORD if worded else r"(?P<m>\d{1,2})"
    parts = {"y": r"(?P<y>\d{4}|\d{2})", "m": month, "d": day}
    first, second, third = (parts[letter] for letter in order)
    if worded:
        return rf"^(?:{_WEEKDAY},? +)?{first}{gap}{second}{gap}{third}{_TIME}$"
    return rf"^{first}(?P<g>{gap}){second}(?P<h>{gap}){third}{_TIME}$"


_DAYS = (
    Form(ISO, "2025-08-20"),
    Form(COMPACT, "20250820"),
    # A month that is a word cannot be taken for a day, whatever the order.
    *(Form(_ordered(order, worded=True), "20 Aug 2025") for order in ("dmy", "mdy", "ymd")),
)


_PERIOD_GAP = r"[./\- ]?"
_YEAR = r"(?P<y>\d{4})"
PERIODS = (
    Form(r"^(?P<y>\d{4})-(?P<m>\d{2})$", ""),
    *(
        Form(pattern, "")
        for pattern in (
            r"^(?P<b>[\p{L}\p{M}]{3,})\.?[./\-, ]+(?P<y>\d{4}|\d{2})$",
            r"^(?P<y>\d{4})[./\-, ]+(?P<b>[\p{L}\p{M}]{3,})\.?$",
        )
    ),
    Form(rf"^{_YEAR}{_PERIOD_GAP}[Qq](?P<q>\d)$", ""),
    Form(rf"^[Qq](?P<q>\d){_PERIOD_GAP}{_YEAR}$", ""),
    Form(rf"^{_YEAR}[./\- ]?[Ww](?P<k>\d{{2}})$", ""),
)
PLAIN = (*_DAYS, *PERIODS)
# What could be something else unless the grain is said.
_DECIMAL_YEAR = Form(r"^(?P<y>\d{4})\.(?P<F>\d{1,9})$", "2025.58")
_SAID: dict[Grain, tuple[Form, ...]] = {
    "day": (),
    "week": (Form(r"^(?P<y>\d{4})(?P<k>\d{2})$", "202534"),),
    "month": (
        Form(r"^(?P<y>\d{4})[/ ]?(?P<m>\d{2})$", "202508"),
        Form(r"^(?P<m>\d{1,2})[./\- ](?P<y>\d{4})$", "08/2025"),
        _DECIMAL_YEAR,
    ),
    "quarter": (_DECIMAL_YEAR,),
    "year": (Form(r"^(?P<y>\d{4})(?:\.0+)?$", "2025"),),
}


class Cure(NamedTuple):
    """A pattern of texts that a rule would read, and what to say of it."""

    pattern: str
    said: str


_TWO, _GAP = r"\d{1,2}", r" ?[./\- ] ?"
CURES = (
    Cure(
        rf"^{_TWO}{_GAP}{_TWO}{_GAP}\d{{4}}\b",
        "say with order=dmy or mdy whether day or month comes first",
    ),
    Cure(
        rf"^{_TWO}{_GAP}{_TWO}{_GAP}{_TWO}\b",
        "say with order= which part comes first, and with pivot= which years are 2000s",
    ),
    Cure(rf"^\d{{4}}{_GAP}{_TWO}{_GAP}{_TWO}\b", "say order=ymd"),
    Cure(r"^\d{4}$", "a year? say grain=year"),
    Cure(r"^(1[89]|2[01])\d{2}[/ ]?(0[1-9]|1[0-2])$", "a month? say grain=month"),
    Cure(r"^(0?[1-9]|1[0-2])[./\- ]\d{4}$", "a month? say grain=month"),
    Cure(r"^\d{4}\.\d+$", "a year and its part? say grain=month, quarter or year"),
    Cure(r"^\d{5}(\.\d+)?$", "a serial number of days? say serials=1900 or 1904"),
    Cure(r"^\d{9,10}$", "seconds since 1970? say unix=s"),
    Cure(r"^\d{12,13}$", "milliseconds since 1970? say unix=ms"),
    Cure(
        r"^\d{1,2}[./\-, ]+[\p{L}\p{M}]+[./\-, ]+\d{4}\b",
        "a month in another language? say which with locale=",
    ),
)


def forms(rules: DateRules) -> Sequence[Form]:
    """Return the forms that the rules accept, in the order to try them."""
    if rules.formats:
        return [Form(_compiled(text), text) for text in rules.formats]
    if rules.order in (None, "infer"):
        return PLAIN if rules.grain is None else [*_SAID[rules.grain], *PLAIN]
    order = str(rules.order)
    example = {"ymd": "2025/08/20", "dmy": "20.08.2025", "mdy": "08/20/2025"}[order]
    made = [Form(_ordered(order, worded=worded), example) for worded in (False, True)]
    said = _SAID[rules.grain or "day"]
    return [*said, *made, *(PLAIN if order == "ymd" else (PLAIN[0], *PLAIN[2:]))]


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
    has_month = bool({"m", "b"} & {*names})
    if "y" not in names or ("d" in names and not has_month):
        raise DateError(
            f"format {text!r} needs a year, a month and a day, as in %d.%m.%Y, or a month as in "
            f"%m/%Y, or a year as in %Y"
        )
    return f"^{pattern}$"
