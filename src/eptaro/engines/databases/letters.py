"""Texts in small or in capital letters, in a database whose own way depends on its settings."""

from __future__ import annotations

import sys
from functools import cache
from typing import Any


def turned(sql: Any, text: Any, to: str) -> Any:
    """Return a text with all its letters turned `to` lower or upper, as Unicode has it.

    Letters that become several, or go by their neighbours, are told as an error of the database.
    """
    given, made, others = _letters(to)
    said = sql.func.concat(f"{to}() of a text with such letters is not asked of a database: ", text)
    refused = sql.cast(sql.cast(said, sql.Integer), sql.String)  # no number: an error that says it
    return sql.case(
        (sql.func.octet_length(text) == sql.func.length(text), _plainly(sql, text, to)),
        (text.regexp_match(f"[{others}]"), refused),
        else_=sql.func.translate(text, given, made),
    )


def _plainly(sql: Any, text: Any, to: str) -> Any:
    """Return a text of the letters of English alone, turned."""
    return getattr(sql.func, to)(sql.collate(text, "C"))


@cache
def _letters(to: str) -> tuple[str, str, str]:
    """Return the letters that become others, what these are, and those that are not so simple."""
    every = (chr(n) for n in range(sys.maxunicode + 1) if not 0xD800 <= n < 0xE000)
    pairs = [(c, getattr(c, to)()) for c in every]
    simple = [(c, found) for c, found in pairs if found != c and len(found) == 1]
    others = [c for c, found in pairs if len(found) > 1]
    if to == "lower":  # a sigma at the end of a word has a form of its own
        simple = [(c, found) for c, found in simple if c != "\u03a3"]
        others.append("\u03a3")
    return "".join(c for c, _ in simple), "".join(found for _, found in simple), "".join(others)
