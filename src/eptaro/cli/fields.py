"""Options of the command line, made from the fields of dataclasses that are declared with how they
are shown.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import MISSING, Field, fields
from inspect import get_annotations
from pathlib import Path
from typing import Any, Literal, get_args, get_origin

import click

from eptaro.cli.help import DATES, ENGINE, FILES, GROUPS, KNOWN, QUESTION, option
from eptaro.core.verbs.queries import Goals
from eptaro.errors import QuestionError
from eptaro.inputs.smallfiles import read_goals
from eptaro.option import OptionHelp

_HEADINGS = {
    "question": QUESTION,
    "groups": GROUPS,
    "known": KNOWN,
    "dates": DATES,
    "files": FILES,
    "engine": ENGINE,
}


def shown_fields(kind: Any) -> dict[str, Field[Any]]:
    """Return the fields of a dataclass that are options of the command line, by name."""
    return {one.name: one for one in fields(kind) if "shown" in one.metadata}


def hints_of(kind: Any) -> dict[str, Any]:
    """Return what the fields of a dataclass hold, those that it inherits too."""
    found: dict[str, Any] = {}
    for one in reversed(kind.__mro__):
        found |= get_annotations(one, eval_str=True)
    return found


def flag_of(kind: type[Any], name: str) -> str:
    """Return what the command line calls a field: `--date-format`."""
    how: OptionHelp = shown_fields(kind)[name].metadata["shown"]
    return f"--{how.name or name.replace('_', '-')}"


def add_options(
    kind: type[Any], *, names: Sequence[str] = (), optional: Sequence[str] = (), unset: bool = False
) -> Callable[[Any], Any]:
    """Return a decorator that adds the fields of a dataclass, or those of some names, to a command.

    Those that are `optional` need not be given; with `unset` none has a default, so that what was
    said can be told from what was not.
    """

    def add(command: Any) -> Any:
        for name in reversed(names or shown_fields(kind)):
            command = _click_option(kind, name, optional=name in optional, unset=unset)(command)
        return command

    return add


def taken(kind: type[Any], given: dict[str, Any], names: Sequence[str] = ()) -> dict[str, Any]:
    """Take what the options of a dataclass were given out of what a command was."""
    hints = hints_of(kind)
    return {
        name: _read(hints[name], given.pop(_word(kind, name)), flag_of(kind, name))
        for name in names or shown_fields(kind)
    }


def said(given: Mapping[str, Any]) -> dict[str, Any]:
    """Return the options that were said, of those without defaults."""
    return {name: value for name, value in given.items() if value not in (None, (), False)}


def _word(kind: type[Any], name: str) -> str:
    return flag_of(kind, name)[2:].replace("-", "_")


def _click_option(
    kind: type[Any], name: str, *, optional: bool, unset: bool
) -> Callable[[Any], Any]:
    of, hint = shown_fields(kind)[name], hints_of(kind)[name]
    how: OptionHelp = of.metadata["shown"]
    kinds = set(get_args(hint)) or {hint}
    default = None if unset or of.default is MISSING else of.default
    more: dict[str, Any] = {"help": how.help, "rare": how.rare}
    if how.metavar is not None:
        more["metavar"] = how.metavar
    if unset and how.shown:
        more["help"] = f"{how.help}  [default: {of.default}]"
    if kinds == {bool}:
        more["is_flag"] = True
    elif of.default is MISSING and not optional:
        more["required"] = True
    elif how.many or Sequence[str] in kinds:
        several = () if default is None else (default,) if isinstance(default, str) else default
        more |= {"multiple": True, "default": several}
    else:
        more["default"] = default
        more |= {"show_default": True} if how.shown and not unset else {}
    if int in kinds:
        bounded = how.least is not None or how.most is not None
        more["type"] = click.IntRange(how.least, how.most) if bounded else int
    elif Goals in kinds:
        more["type"] = click.Path(path_type=Path)
    elif unset and (choices := _choices(hint)):
        more["type"] = click.Choice([*map(_written, choices)])
    return option(_HEADINGS[how.heading], flag_of(kind, name), _word(kind, name), **more)


def _written(choice: str) -> str:
    """Return how a choice is written on a command line: `set-aside`."""
    return choice if choice.isspace() else choice.replace(" ", "-")


def _choices(hint: Any) -> tuple[str, ...]:
    """Return the words that a field accepts alone, if it accepts no others."""
    one = [part for part in (get_args(hint) or ()) if part is not type(None)]
    if get_origin(hint) is Literal:
        return get_args(hint)
    return get_args(one[0]) if len(one) == 1 and get_origin(one[0]) is Literal else ()


def _read(hint: Any, value: Any, flag: str) -> Any:
    """Return what an option was given as its field takes it."""
    kinds = get_args(hint)
    if value is None:
        return None
    if Goals in kinds:
        return read_goals(value)
    if Sequence[float] in kinds:
        try:
            return [float(part) for part in value.split(",")]
        except ValueError:
            raise QuestionError(f"{flag} {value!r} are not numbers; write 1,2,3") from None
    if Sequence[str] in kinds and len(value) == 1:
        return value[0]
    choices = _choices(hint)
    if choices and value not in choices:  # set-aside
        return next(one for one in choices if _written(one) == value)
    return value
