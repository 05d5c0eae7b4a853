"""The forms in which days and times are written in digits, as an automaton.

What it accepts, the forms in `texts` read alike.
"""

from __future__ import annotations

import re
from functools import cache

from eptaro.core.kernels.reading import Automaton, StampPart
from eptaro.inputs.columns.automaton import BEGIN, Builder, States
from eptaro.rules import DateRules

_SEPARATORS = "-./"
_ORDERS = {"ymd": 1, "dmy": 2, "mdy": 3}  # what the end of a text says
_FRACTION = tuple(StampPart)[StampPart.DIGIT_1 : StampPart.UTC]
_DATE = tuple(StampPart)[StampPart.FIRST : StampPart.HOUR]
_HOURS = (StampPart.HOUR, 1, 2)
# Which number a directive of `DateRules.formats` is, and how many digits it has.
_CLOCK = {
    "%H": _HOURS,
    "%I": _HOURS,
    "%M": (StampPart.MINUTE, 2, 2),
    "%S": (StampPart.SECONDS, 2, 2),
}
_OF_DATE = {"%Y": (4, 4), "%m": (1, 2), "%d": (1, 2)}


def automaton_for(rules: DateRules) -> Automaton | None:
    """Return the automaton that reads days and times under some rules; None where they may mean
    anything else than their digits say.

    >>> automaton_for(DateRules(grain="week")) is automaton_for(DateRules(formats="%d %b %Y"))
    True
    """
    others = (rules.serials, rules.unix, rules.weeks, rules.week_in)
    if any(others) or rules.grain not in (None, "day") or rules.order == "infer":
        return None
    if len(rules.formats) > 1:  # what one does not accept, another may
        return None
    return _of_format(rules.formats[0]) if rules.formats else _of_order(rules.order)


@cache
def _of_order(order: str | None) -> Automaton:
    builder = Builder()
    year = builder.digits(BEGIN, StampPart.FIRST, 4, 4)
    ends = {"ymd": _later_numbers(builder, year, 1, 2)}
    if order in ("dmy", "mdy"):
        ends[order] = _later_numbers(builder, builder.digits(BEGIN, StampPart.FIRST, 1, 2), 4, 4)
    else:
        month = builder.digits(year, StampPart.SECOND, 2, 2)
        ends["ymd"] += builder.digits(month, StampPart.THIRD, 2, 2)
    for name, states in ends.items():
        builder.accept(states + _time(builder, states), _ORDERS[name])
    return builder.build()


def _later_numbers(builder: Builder, first: States, least: int, most: int) -> States:
    """Return where the third number of a date ends, which has `least` to `most` digits."""
    ends: States = ()
    for separator in _SEPARATORS:
        second = builder.digits(builder.step(first, separator), StampPart.SECOND, 1, 2)
        ends += builder.digits(builder.step(second, separator), StampPart.THIRD, least, most)
    return ends


def _time(builder: Builder, date: States) -> States:
    """Return where the time after a date may end."""
    hour = builder.digits(builder.repeat(date, "T "), *_CLOCK["%H"])
    minute = builder.digits(builder.step(hour, ":"), *_CLOCK["%M"])
    second = builder.digits(builder.step(minute, ":"), *_CLOCK["%S"])
    clock = minute + second + _fraction(builder, builder.step(second, ".,"))
    space = builder.step(clock, " ")
    half = _half(builder, clock + space)
    ends = clock + half
    return ends + _offset(builder, ends + space + builder.step(half + space, " "))


def _fraction(builder: Builder, states: States) -> States:
    """Return where one to nine digits of a second may end; the last three are not kept."""
    ends: States = ()
    for part in (*_FRACTION, *[StampPart.NONE] * 3):
        states = builder.digits(states, part)
        ends += states
    return ends


def _half(builder: Builder, states: States) -> States:
    """Return where `AM`, `p.m.` and the like may end."""
    ends: States = ()
    for letters, first, second in (
        ("Aa", StampPart.AM, StampPart.NONE),
        ("Pp", StampPart.NONE, StampPart.PM),
    ):
        letter = builder.step(states, letters, first)
        both = builder.step(letter + builder.step(letter, "."), "Mm", second)
        ends += both + builder.step(both, ".")
    return ends


def _offset(builder: Builder, states: States) -> States:
    """Return where `Z`, `UTC`, `+01`, `+01:00` and the like may end."""
    ends = builder.step(states, "Zz", StampPart.UTC)
    ends += builder.words(states, ("UTC", "GMT"), StampPart.UTC)
    hours = builder.digits(builder.step(states, "+-", StampPart.SIGN), StampPart.OFFSET_HOURS, 2, 2)
    minutes = hours + builder.step(hours, ":")
    return ends + hours + builder.digits(minutes, StampPart.OFFSET_MINUTES, 2, 2)


@cache
def _of_format(form: str) -> Automaton | None:
    builder, states, parts = Builder(), BEGIN, [*_DATE]
    order = "".join(re.findall("%([Ymd])", form)).lower()
    met = re.findall("%.", form.replace("%I", "%H"))
    if order not in _ORDERS or len({*met}) < len(met):
        return None
    for piece in re.findall("%.|.", form, re.DOTALL):
        if piece in _OF_DATE:
            states = builder.digits(states, parts.pop(0), *_OF_DATE[piece])
        elif piece in _CLOCK:
            states = builder.digits(states, *_CLOCK[piece])
        elif piece == "%f":
            states = _fraction(builder, states)
        elif piece == "%p":
            states = _half(builder, states)
        elif piece == "%z":
            states = _offset(builder, states)
        elif len(piece) == 1 and piece.isascii():
            states = builder.step(states, piece)
        else:  # a word, or a year of two digits
            return None
    builder.accept(states, _ORDERS[order])
    try:
        return builder.build()
    except ValueError:  # a number of one digit or two, and another directly behind it
        return None
