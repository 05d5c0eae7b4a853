"""The words and marks that the text of an expression is made of."""

from __future__ import annotations

import re
from typing import Literal, NamedTuple

from eptaro.core.expressions.place import wrong

MOST_LETTERS = 10_000
MOST_DIGITS = 38  # of a number

_TOKEN = re.compile(
    r"""\s*(?:
      (?P<number>(?:\d+(?:\.\d*)?|\.\d+))(?![\w.])
    | (?P<text>'(?:[^']|'')*')
    | (?P<quoted>"(?:[^"]|"")*")
    | (?P<word>[^\W\d]\w*)
    | (?P<mark><=|>=|<>|!=|==|[-+*/%(),=<>])
    )""",
    re.VERBOSE,
)
_SAME = {"==": "=", "<>": "!="}


class Token(NamedTuple):
    """A number, a text, a column in double quotes, a word, a mark, or the end."""

    kind: Literal["number", "text", "quoted", "word", "mark", "end"]
    value: str
    at: int


def tokens_of(text: str) -> list[Token]:
    """Return the tokens of a text, the end last.

    >>> [token.value for token in tokens_of("fare >= 1.5")]
    ['fare', '>=', '1.5', '']
    """
    if len(text) > MOST_LETTERS:
        raise wrong(text, 0, f"an expression has at most {MOST_LETTERS:,} letters")
    found, at = [], 0
    end = len(text.rstrip())
    while at < end:
        match = _TOKEN.match(text, at)
        if match is None:
            at += len(text[at:]) - len(text[at:].lstrip())
            raise wrong(text, at, _not_read(text[at:]))
        kind = match.lastgroup
        value, start = match[str(kind)], match.start(str(kind))
        at = match.end()
        match kind:
            case "text":
                found.append(Token("text", value[1:-1].replace("''", "'"), start))
            case "quoted":
                found.append(Token("quoted", value[1:-1].replace('""', '"'), start))
            case "number":
                if len(value) > MOST_DIGITS + 1:
                    raise wrong(text, start, f"a number has at most {MOST_DIGITS} digits")
                found.append(Token("number", value, start))
            case "word":
                found.append(Token("word", value, start))
            case _:
                found.append(Token("mark", _SAME.get(value, value), start))
    return [*found, Token("end", "", end)]


def _not_read(rest: str) -> str:
    """Return what is wrong where no token begins."""
    if rest[0] == "'":
        return "this text has no closing quote"
    if rest[0] == '"':
        return "this column name has no closing quote"
    if rest[0].isdigit() or (rest[0] == "." and rest[1:2].isdigit()):
        return "this is not a number; a name that begins with a digit stands in double quotes"
    return f"{rest[0]!r} has no meaning here; a column name with it stands in double quotes"
