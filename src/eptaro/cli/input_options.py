"""Options on how files, dates and numbers are read, made from the rules that they belong to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import wraps
from pathlib import Path
from typing import Any, Literal

import click

from eptaro.cli.fields import add_options, given_options, options_of, take_options
from eptaro.cli.help import DATES, FILES, option
from eptaro.cli.options import Command
from eptaro.rules.dates import DateRules
from eptaro.rules.files import FileRules, usual_delimiter
from eptaro.rules.numbers import NumberRules, Numbers

_KINDS: tuple[Any, ...] = (DateRules, FileRules, NumberRules)


@dataclass(frozen=True)
class ReadingOptions:
    """What was given of how dates, files and numbers are written, of each kind of rules."""

    rules: Mapping[type[Any], Mapping[str, Any]]
    numbers: Literal["strict", "infer"] | None
    rejected: Path | None

    @property
    def flags(self) -> list[str]:
        """The options that were given, but for that of rows rejected."""
        words = [options_of(kind)[name].flag for kind in _KINDS for name in self.rules[kind]]
        return words if self.numbers is None else [*words, "--numbers"]

    def number_rules(self, others: Numbers = None) -> Numbers:
        """Return the number rules of the options, over others such as those of a config.

        Raises `click.UsageError` for `--numbers infer` beside single rules.
        """
        own = dict(self.rules[NumberRules])
        if not own:
            return self.numbers or others
        if self.numbers is not None:
            raise click.UsageError(f"--numbers {self.numbers} goes without rules of your own")
        if "decimal" in self.rules[FileRules]:
            own["decimal"] = self.rules[FileRules]["decimal"]
        return replace(others if isinstance(others, NumberRules) else NumberRules(), **own)

    def date_rules(self, others: DateRules | None = None) -> DateRules:
        """Return the date rules of the options, over others such as those of a config."""
        return replace(others or DateRules(), **self.rules[DateRules])

    def file_rules(self, others: FileRules | None = None) -> FileRules:
        """Return the file rules of the options, over others such as those of a config."""
        own, others = dict(self.rules[FileRules]), others or FileRules()
        if own.get("delimiter") in ("tab", "\\t"):
            own["delimiter"] = "\t"
        if others.delimiter == usual_delimiter(others.decimal):
            own.setdefault("delimiter", "")  # as it is usual beside the decimal mark
        return replace(others, **own)


_SINGLE = (
    option(
        DATES,
        "--rejected",
        type=click.Path(path_type=Path),
        metavar="FILE",
        default=None,
        help="Where the rejected rows are listed.  [default: FILE.rejected.csv]",
    ),
    option(
        FILES,
        "--numbers",
        type=click.Choice(["strict", "infer"]),
        default=None,
        help="Numbers in text: plain ones alone, or as all of a column says they are written.  "
        "[default: strict]",
    ),
)


def reading_options(command: Command) -> Command:
    """Add the options on how files are read to a command, which takes them as `reading`."""

    @wraps(command)
    def run(**given: Any) -> Any:
        rules = {kind: given_options(take_options(kind, given)) for kind in _KINDS}
        single = {name: given.pop(name) for name in ("numbers", "rejected")}
        return command(**given, reading=ReadingOptions(rules, **single))

    decorated: Any = run
    for add in reversed(
        (
            add_options(DateRules, unset=True),
            _SINGLE[0],
            add_options(FileRules, unset=True),
            _SINGLE[1],
            add_options(NumberRules, unset=True),
        )
    ):
        decorated = add(decorated)
    return decorated  # type: ignore[no-any-return]
