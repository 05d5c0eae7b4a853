"""`option`: a field of a dataclass of options, with its help text.

The options of the command line and the keys of a config are made from these fields.
"""

from __future__ import annotations

from dataclasses import MISSING, Field, field
from typing import Any, Literal, NamedTuple, TypeAlias

from eptaro.errors import shell_word, spell_option

Heading: TypeAlias = Literal["question", "groups", "known", "dates", "files", "engine"]


SYNONYMS = {  # what people try, and the option that does it
    "group": "by",
    "groups": "by",
    "group_by": "by",
    "filter": "where",
    "condition": "where",
    "plot_kind": "kind",
    "chart": "plot",
    "picture": "plot",
    "output": "out",
    "to": "out",
    "calculate": "measure",
    "value": "measure",
    "total": "measure",
    "date_column": "date",
    "period": "per",
    "level": "per",
    "window": "back",
    "prior": "back",
    "today": "as_of",
    "until": "as_of",
    "fiscal_year": "year_starts",
    "fiscal_start": "year_starts",
    "first_month": "year_starts",
    "week_start": "week_starts",
    "separator": "delimiter",
    "dayfirst": "order",
    "day_first": "order",
    "limit": "rows",
    "order_by": "sort",
    "join": "lookup",
    "select": "columns",
    "range": "only",
    "from": "only",
}


class OptionHelp(NamedTuple):
    """How an option is shown where it is written in words, as on a command line.

    `heading` is what it belongs to. A `rare` one is shown on request. `least` and `most` bound a
    number; `shown` says whether the default is. `name` is what a command line calls it, where that
    differs, and `many` whether it may be given several times.
    """

    help: str
    metavar: str | None = None
    heading: Heading = "question"
    rare: bool = False
    least: int | None = None
    most: int | None = None
    shown: bool = False
    name: str | None = None
    many: bool = False


def option(default: Any = MISSING, **how: Any) -> Any:
    """Return a field of a dataclass, with how it is shown; see `OptionHelp`."""
    return field(default=default, metadata={"shown": OptionHelp(**how)})


def flag(of: Field[Any]) -> str:
    """Return the name of a field's option on the command line: `--date-format`."""
    how: OptionHelp | None = of.metadata.get("shown")
    return f"--{(how.name if how else None) or of.name.replace('_', '-')}"


def setting(kind: Any, name: str, value: object = None) -> str:
    """Return how the caller gives a value to an option that is a field of a dataclass.

    >>> from eptaro.rules import DateRules
    >>> setting(DateRules, "order", "dmy"), setting(DateRules, "locale")
    ("order='dmy'", 'locale=')
    """
    of = kind.__dataclass_fields__[name]
    how: OptionHelp | None = of.metadata.get("shown")
    if value is None:
        return spell_option(f"{name}=", f"{flag(of)} {(how and how.metavar) or ''}".rstrip())
    given = flag(of) if value is True else f"{flag(of)} {shell_word(str(value))}"
    return spell_option(f"{name}={value!r}", given)
