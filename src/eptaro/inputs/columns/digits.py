"""The numbers that rules take, as an automaton.

What it accepts, the patterns in `numbers` read alike.
"""

from __future__ import annotations

from functools import cache

from eptaro.core.kernels.reading import Automaton, NumberPart
from eptaro.inputs.columns.automaton import BEGIN, DIGITS, Builder, States
from eptaro.rules import NumberRules

SPACES = " \u00a0\u202f"  # plain, fixed, narrow
_ALIKE = {" ": SPACES, "'": "'’"}
_MINUS = "-−"


def marks_alike(mark: str) -> str:
    """Return the marks between groups of digits that are taken for one.

    >>> marks_alike("'"), marks_alike(",")
    ("'’", ',')
    """
    return _ALIKE.get(mark, mark)


@cache
def number_automaton(rules: NumberRules) -> Automaton | None:
    """Return the automaton for numbers under some rules; None where a sign may mean two things.

    >>> number_automaton(NumberRules(thousands=",")) is None
    False
    >>> number_automaton(NumberRules(strip="-")) is None
    True
    """
    builder = Builder()
    signs = builder.words(BEGIN, _MINUS, NumberPart.MINUS) + builder.step(BEGIN, "+")
    word = _spaced(builder, _word(builder, BEGIN, rules))
    after = builder.words(word, _MINUS, NumberPart.MINUS) + builder.step(word, "+")
    behind = _spaced(builder, _word(builder, _spaced(builder, signs), rules))
    signed = _rest(builder, signs + behind + after, rules)
    bare = _rest(builder, BEGIN + word, rules)
    builder.accept(signed + bare)
    if rules.trailing_minus:
        builder.accept(builder.words(_spaced(builder, bare), _MINUS, NumberPart.MINUS))
    if rules.brackets:
        within = _spaced(builder, builder.step(BEGIN, "(", NumberPart.MINUS))
        within += _spaced(builder, _word(builder, within, rules))
        within += builder.step(word, "(", NumberPart.MINUS)
        builder.accept(builder.step(_spaced(builder, _rest(builder, within, rules)), ")"))
    try:
        return builder.build()
    except ValueError:
        return None


def _spaced(builder: Builder, states: States) -> States:
    """Return where a space leads to, or none."""
    return states + builder.words(states, SPACES)


def _word(builder: Builder, states: States, rules: NumberRules) -> States:
    """Return where a word that is no part of a number leads to."""
    return builder.words(states, [word.strip() for word in rules.strip])


def _rest(builder: Builder, states: States, rules: NumberRules) -> States:
    """Return where a number without its sign ends, and a word or a percent sign behind it."""
    mark, point = rules.thousands, rules.decimal or "."
    whole = builder.repeat(states, DIGITS, NumberPart.WHOLE)
    if mark is not None:  # groups of three digits, the first of which may be shorter
        first = builder.digits(states, NumberPart.WHOLE, 1, 3)
        (marked,) = builder.words(first, marks_alike(mark))
        group = builder.digits((marked,), NumberPart.WHOLE, 3, 3)
        for letter in marks_alike(mark):
            builder.lead(group, letter, marked)
        whole += group
    behind = builder.step(whole, point)
    fraction = builder.repeat(behind + builder.step(states, point), DIGITS, NumberPart.FRACTION)
    number = whole + behind + fraction
    gap = _spaced(builder, number)
    ends = number + _word(builder, gap, rules)
    return ends + builder.step(gap, "%", NumberPart.PERCENT) if rules.percent else ends
