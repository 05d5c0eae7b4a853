"""The forms in which days and times are written in digits, as an automaton that reads columns of
them many times as fast as patterns of text do.

What it accepts, the forms in `texts` read alike; what it does not accept is left to these.
"""

from __future__ import annotations

import re
from functools import cache

import numpy as np

from eptaro.core.kernels.reading import Automaton, TextPart
from eptaro.rules import DateRules

_DIGITS = "0123456789"
_SEPARATORS = "-./"
_ORDERS = {"ymd": 1, "dmy": 2, "mdy": 3}
_FRACTION = tuple(TextPart)[TextPart.DIGIT_1 : TextPart.UTC]
_DATE = tuple(TextPart)[: TextPart.HOUR]
_HOURS = (TextPart.HOUR, 1, 2)
# Which number a directive of `DateRules.formats` is, and how many digits it has.
_CLOCK = {"%H": _HOURS, "%I": _HOURS, "%M": (TextPart.MINUTE, 2, 2), "%S": (TextPart.SECONDS, 2, 2)}
_OF_DATE = {"%Y": (4, 4), "%m": (1, 2), "%d": (1, 2)}

States = tuple[int, ...]  # those that one letter may have led to
_BEGIN: States = (1,)


class _Builder:
    """States, and the letters that lead from one to the next; none leads to two."""

    def __init__(self) -> None:
        self._ways: list[dict[int, int]] = []
        self._parts: list[TextPart] = []
        self._orders: list[int] = []
        for _ in (0, *_BEGIN):
            self._add(TextPart.NONE)

    def _add(self, part: TextPart) -> int:
        self._ways.append({})
        self._parts.append(part)
        self._orders.append(0)
        return len(self._ways) - 1

    def step(self, states: States, letters: str, part: TextPart = TextPart.NONE) -> States:
        """Return where one of some letters leads to.

        Raises `ValueError` where one leads elsewhere already.
        """
        to = self._add(part)
        self._lead(states, letters, to)
        return (to,)

    def _lead(self, states: States, letters: str, to: int) -> None:
        for state in states:
            for letter in letters.encode():
                if self._ways[state].setdefault(letter, to) != to:
                    raise ValueError(f"{chr(letter)!r} leads from state {state} to two")

    def repeat(self, states: States, letters: str) -> States:
        """Return where one or more of some letters lead to."""
        (to,) = self.step(states, letters)
        self._lead((to,), letters, to)
        return (to,)

    def digits(self, states: States, part: TextPart, least: int, most: int) -> States:
        """Return where a number of `least` to `most` digits may end."""
        ends: States = ()
        for count in range(1, most + 1):
            states = self.step(states, _DIGITS, part)
            ends += states if count >= least else ()
        return ends

    def fraction(self, states: States) -> States:
        """Return where one to nine digits of a second may end; the last three are not kept."""
        ends: States = ()
        for part in (*_FRACTION, *[TextPart.NONE] * 3):
            states = self.step(states, _DIGITS, part)
            ends += states
        return ends

    def half(self, states: States) -> States:
        """Return where `AM`, `p.m.` and the like may end."""
        ends: States = ()
        for letters, first, second in (
            ("Aa", TextPart.AM, TextPart.NONE),
            ("Pp", TextPart.NONE, TextPart.PM),
        ):
            letter = self.step(states, letters, first)
            both = self.step(letter + self.step(letter, "."), "Mm", second)
            ends += both + self.step(both, ".")
        return ends

    def offset(self, states: States, words: tuple[str, ...] = ()) -> States:
        """Return where `Z`, `+01:00` and the like may end, and words for no offset."""
        ends = self.step(states, "Zz", TextPart.UTC)
        for word in words:
            before = states
            for letter in word[:-1]:
                before = self.step(before, letter)
            ends += self.step(before, word[-1], TextPart.UTC)
        hours = self.digits(self.step(states, "+-", TextPart.SIGN), TextPart.OFFSET, 2, 2)
        return ends + self.digits(hours + self.step(hours, ":"), TextPart.OFFSET, 2, 2)

    def accept(self, states: States, order: str) -> None:
        """Let texts end there, with the date in an order."""
        for state in states:
            self._orders[state] = _ORDERS[order]

    def build(self) -> Automaton:
        """Return the automaton."""
        table = np.zeros((len(self._ways), 256), np.uint8)
        for state, ways in enumerate(self._ways):
            table[state, [*ways]] = [*ways.values()]
        return Automaton(table, np.array(self._parts, np.uint8), np.array(self._orders, np.uint8))


def automaton_for(rules: DateRules) -> Automaton | None:
    """Return the automaton that reads days and times under some rules; None where they may mean
    anything else than their digits say.

    >>> automaton_for(DateRules(grain="week")) is automaton_for(DateRules(formats="%d %b %Y"))
    True
    """
    others = (rules.serials, rules.unix, rules.weeks, rules.week_in)
    if any(others) or rules.grain not in (None, "day") or rules.order == "infer":
        return None
    formats = tuple(rules.formats)
    return _of_format(formats[0]) if len(formats) == 1 else _of_order(rules.order, formats)


@cache
def _of_order(order: str | None, formats: tuple[str, ...]) -> Automaton | None:
    if formats:  # what one of several does not accept, another may
        return None
    builder = _Builder()
    first = builder.digits(_BEGIN, TextPart.FIRST, 1, 4)
    ends = {"ymd": _later_numbers(builder, first[3:], 1, 2)}
    if order in ("dmy", "mdy"):
        ends[order] = _later_numbers(builder, first[:2], 4, 4)
    else:
        month = builder.digits(first[3:], TextPart.SECOND, 2, 2)
        ends["ymd"] += builder.digits(month, TextPart.THIRD, 2, 2)
    for name, states in ends.items():
        builder.accept(states + _time(builder, states), name)
    return builder.build()


def _later_numbers(builder: _Builder, first: States, least: int, most: int) -> States:
    """Return where the third number of a date ends, which has `least` to `most` digits."""
    ends: States = ()
    for separator in _SEPARATORS:
        second = builder.digits(builder.step(first, separator), TextPart.SECOND, 1, 2)
        ends += builder.digits(builder.step(second, separator), TextPart.THIRD, least, most)
    return ends


def _time(builder: _Builder, date: States) -> States:
    """Return where the time after a date may end."""
    hour = builder.digits(builder.repeat(date, "T "), *_CLOCK["%H"])
    minute = builder.digits(builder.step(hour, ":"), *_CLOCK["%M"])
    second = builder.digits(builder.step(minute, ":"), *_CLOCK["%S"])
    clock = minute + second + builder.fraction(builder.step(second, ".,"))
    space = builder.step(clock, " ")
    half = builder.half(clock + space)
    ends = clock + half
    return ends + builder.offset(ends + space + builder.step(half + space, " "), ("UTC", "GMT"))


@cache
def _of_format(form: str) -> Automaton | None:
    builder, states, parts = _Builder(), _BEGIN, [*_DATE]
    order = "".join(re.findall("%([Ymd])", form)).lower()
    met = re.findall("%.", form.replace("%I", "%H"))
    if order not in _ORDERS or len({*met}) < len(met):
        return None
    try:
        for piece in re.findall("%.|.", form, re.DOTALL):
            if piece in _OF_DATE:
                states = builder.digits(states, parts.pop(0), *_OF_DATE[piece])
            elif piece in _CLOCK:
                states = builder.digits(states, *_CLOCK[piece])
            elif piece == "%f":
                states = builder.fraction(states)
            elif piece == "%p":
                states = builder.half(states)
            elif piece == "%z":
                states = builder.offset(states, ("UTC", "GMT"))
            elif len(piece) == 1 and piece.isascii():
                states = builder.step(states, piece)
            else:  # a word, or a year of two digits
                return None
    except ValueError:  # a number of one digit or two, and another directly behind it
        return None
    builder.accept(states, order)
    return builder.build()
