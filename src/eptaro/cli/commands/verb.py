"""What the commands of verbs share: the answer to print, prove and draw, and their options."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import MISSING, Field, dataclass, fields
from functools import wraps
from inspect import get_annotations
from pathlib import Path
from typing import Any, get_args

import click

from eptaro.cli.data import DataOptions
from eptaro.cli.help import GROUPS, QUESTION, HeadedCommand, option
from eptaro.cli.options import AnswerOptions, CalendarOptions, Command
from eptaro.cli.reading import ReadingOptions
from eptaro.cli.screen import deliver
from eptaro.cli.settings import Settings
from eptaro.cli.told import step, tell
from eptaro.core.questions.query import OptionHelp, Query
from eptaro.core.tables.table import Table
from eptaro.core.verbs.queries import Goals
from eptaro.daybook import Daybook
from eptaro.errors import QuestionError
from eptaro.inputs.smallfiles import read_goals


@dataclass(frozen=True, eq=False)
class Reply:
    """The answer to a command, and where it goes."""

    book: Daybook
    table: Table
    output: AnswerOptions

    def deliver(self) -> None:
        """Prove the answer and draw it where that is wanted, and print or write it."""
        if self.output.prove:
            with step("proved"):
                count = self.book.prove(self.table)
            tell(f"proved: {count:,} numbers recalculated from their transactions")
        if self.output.plot:
            with step("drawn"):
                path = self.table.plot(
                    self.output.plot,
                    kind=self.output.kind,
                    measure=self.output.measure_drawn,
                    title=self.output.title,
                    unit=self.output.unit,
                    size=self.output.size,
                    theme=self.output.theme,
                )
            tell(f"drawn to {path}")
        with step("told"):
            deliver(self.table, self.output)


class VerbCommand(HeadedCommand):
    """A command whose function returns a `Reply`, which is then delivered."""

    def invoke(self, ctx: click.Context) -> Any:
        """Answer, and deliver the answer."""
        with step("answered, with reading"):
            reply: Reply = super().invoke(ctx)
        reply.deliver()

    def reply(self, words: Sequence[str]) -> Reply:
        """Return the reply to words of a command line, without delivering it."""
        with self.make_context(self.name, list(words)) as context:
            found: Reply = super().invoke(context)
        return found


@dataclass(frozen=True)
class Given:
    """The groups of options that every verb takes."""

    data: DataOptions
    reading: ReadingOptions
    rules: CalendarOptions

    def book(self, values: tuple[str, ...] = ()) -> Daybook:
        """Return the book that the options name."""
        return Settings(self.rules).book(self.data, self.reading, values)

    def answer(
        self,
        kind: type[Query],
        given: Mapping[str, Any],
        output: AnswerOptions,
        values: tuple[str, ...] = (),
    ) -> Reply:
        """Return the reply to a query of a kind, made of what its options were given; `values` are
        further columns that it looks at.
        """
        book, data = self.book(values), self.data
        by, only = data.grouped(book), data.narrowed
        query = kind(**given, by=by, only=only, as_of=data.as_of)
        return Reply(book, book.ask(query), output)


_HEADINGS = {"question": QUESTION, "groups": GROUPS}


def query_options(
    kind: type[Query], *, optional: Sequence[str] = (), names: Sequence[str] = ()
) -> Callable[[Command], Command]:
    """Return a decorator that adds the options of a query, or those of some names, to a command.

    They come to the command as one mapping, `given`; those that are `optional` need not be there.
    """
    hints = get_annotations(kind, eval_str=True)
    shown = {one.name: one for one in fields(kind) if "shown" in one.metadata}
    wanted = list(names or shown)

    def add(command: Command) -> Command:
        @wraps(command)
        def run(*, given: Mapping[str, Any] | None = None, **others: Any) -> Any:
            own = {name: _read(hints[name], others.pop(name)) for name in wanted}
            return command(given={**own, **(given or {})}, **others)

        decorated: Any = run
        for name in reversed(wanted):
            decorated = _click_option(shown[name], hints[name], optional)(decorated)
        return decorated  # type: ignore[no-any-return]

    return add


def _click_option(of: Field[Any], hint: Any, optional: Sequence[str]) -> Callable[[Any], Any]:
    """Return the option of the command line for a field of a query."""
    how: OptionHelp = of.metadata["shown"]
    kinds = set(get_args(hint)) or {hint}
    more: dict[str, Any] = {"help": how.help, "rare": how.rare}
    if how.metavar is not None:
        more["metavar"] = how.metavar
    if kinds == {bool}:
        more["is_flag"] = True
    elif of.default is MISSING and of.name not in optional:
        more["required"] = True
    elif Sequence[str] in kinds:
        default = of.default
        more |= {"multiple": True, "default": (default,) if isinstance(default, str) else default}
    else:
        more["default"] = None if of.default is MISSING else of.default
        more |= {"show_default": True} if how.shown else {}
    if int in kinds:
        bounded = how.least is not None or how.most is not None
        more["type"] = click.IntRange(how.least, how.most) if bounded else int
    elif Goals in kinds:
        more["type"] = click.Path(path_type=Path)
    return option(_HEADINGS[how.heading], f"--{of.name.replace('_', '-')}", **more)


def _read(hint: Any, value: Any) -> Any:
    """Return what an option was given as a query takes it."""
    kinds = get_args(hint)
    if value is None:
        return None
    if Goals in kinds:
        return read_goals(value)
    if Sequence[float] in kinds:
        try:
            return [float(part) for part in value.split(",")]
        except ValueError:
            raise QuestionError(f"--weights {value!r} are not numbers; write 1,2,3") from None
    if Sequence[str] in kinds and len(value) == 1:
        return value[0]
    return value
