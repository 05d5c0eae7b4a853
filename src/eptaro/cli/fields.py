"""Options of the command line, made from the fields of dataclasses that are declared with how they
are shown.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import MISSING, Field, fields
from functools import cache
from inspect import get_annotations
from pathlib import Path
from typing import Any, Literal, NamedTuple, get_args, get_origin

import click

from eptaro.cli.help import DATES, ENGINE, FILES, GROUPS, KNOWN, QUESTION, option
from eptaro.core.verbs.queries import Goals
from eptaro.errors import QuestionError
from eptaro.option import OptionHelp, flag

_HEADINGS = {
    "question": QUESTION,
    "groups": GROUPS,
    "known": KNOWN,
    "dates": DATES,
    "files": FILES,
    "engine": ENGINE,
}


class FieldOption(NamedTuple):
    """A field of a dataclass as an option: its type, and what a command line and click call it."""

    field: Field[Any]
    hint: Any
    flag: str  # --date-format
    word: str  # date_format

    @property
    def how(self) -> OptionHelp:
        """How it is shown."""
        found: OptionHelp = self.field.metadata["shown"]
        return found


@cache
def options_of(kind: Any) -> dict[str, FieldOption]:
    """Return the fields of a dataclass that are options of the command line, by name."""
    hints: dict[str, Any] = {}
    for one in reversed(kind.__mro__):
        hints |= get_annotations(one, eval_str=True)
    found = {}
    for of in fields(kind):
        if "shown" in of.metadata:
            word = flag(of)[2:].replace("-", "_")
            found[of.name] = FieldOption(of, hints[of.name], flag(of), word)
    return found


def add_options(
    kind: Any, *, names: Sequence[str] = (), optional: Sequence[str] = (), unset: bool = False
) -> Callable[[Any], Any]:
    """Return a decorator that adds the fields of a dataclass, or those of some names, to a command.

    Those that are `optional` need not be given; with `unset` none has a default, so that what was
    said can be determined from what was not.
    """

    def add(command: Any) -> Any:
        known = options_of(kind)
        for name in reversed(names or known):
            command = _click_option(known[name], optional=name in optional, unset=unset)(command)
        return command

    return add


def take_options(kind: Any, given: dict[str, Any], names: Sequence[str] = ()) -> dict[str, Any]:
    """Take what the options of a dataclass were given out of what a command was."""
    known = options_of(kind)
    own = {name: given.pop(known[name].word) for name in names or known}
    return {n: _read(known[n], value) if value else value for n, value in own.items()}


def given_options(given: Mapping[str, Any]) -> dict[str, Any]:
    """Return the options that were given, of those without defaults."""
    return {name: value for name, value in given.items() if value not in (None, (), False)}


def _click_option(one: FieldOption, *, optional: bool, unset: bool) -> Callable[[Any], Any]:
    how, kinds = one.how, set(get_args(one.hint)) or {one.hint}
    needed = one.field.default is MISSING
    default = None if unset or needed else one.field.default
    more: dict[str, Any] = {"help": how.help, "rare": how.rare}
    if how.metavar is not None:
        more["metavar"] = how.metavar
    if unset and how.shown:
        more["help"] = f"{how.help}  [default: {one.field.default}]"
    if kinds == {bool}:
        more["is_flag"] = True
    elif needed and not optional:
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
    elif unset and (choices := _choices(one.hint)):
        more["type"] = click.Choice([*map(_written, choices)])
    return option(_HEADINGS[how.heading], one.flag, one.word, **more)


def _written(choice: str) -> str:
    """Return how a choice is written on a command line: `prior-year`."""
    return choice if choice.isspace() else choice.replace(" ", "-")


def _choices(hint: Any) -> tuple[str, ...]:
    """Return the words that a field accepts alone, if it accepts no others."""
    one = [part for part in (get_args(hint) or ()) if part is not type(None)]
    if get_origin(hint) is Literal:
        return get_args(hint)
    return get_args(one[0]) if len(one) == 1 and get_origin(one[0]) is Literal else ()


def _read(one: FieldOption, value: Any) -> Any:
    """Return what an option was given as its field takes it."""
    kinds = get_args(one.hint)
    if Goals in kinds:
        from eptaro.inputs.goals_and_coverage import read_goals

        return read_goals(value)
    if Sequence[float] in kinds:
        try:
            return [float(part) for part in value.split(",")]
        except ValueError:
            raise QuestionError(f"{one.flag} {value!r} are not numbers; write 1,2,3") from None
    if Sequence[str] in kinds and len(value) == 1:
        return value[0]
    choices = _choices(one.hint)
    if choices and value not in choices:  # written with a hyphen
        return next(choice for choice in choices if _written(choice) == value)
    return value
