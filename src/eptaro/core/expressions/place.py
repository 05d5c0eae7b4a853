"""Errors of expressions, with a caret under the place that they are about."""

from __future__ import annotations

from eptaro.errors import ExpressionError

_WIDEST = 100  # letters of an expression that an error shows


def wrong(text: str, at: int, what: str) -> ExpressionError:
    """Return the error for what is wrong at a place of an expression.

    >>> print(wrong("fare > > 5", 7, "a value is missing before '>'"))
    a value is missing before '>'
      fare > > 5
             ^
    """
    start = max(at - _WIDEST // 2, 0)
    line = "".join(letter if letter.isprintable() else " " for letter in text)
    line = line[start : start + _WIDEST]
    return ExpressionError(f"{what}\n  {line}\n  {' ' * (at - start)}^")
