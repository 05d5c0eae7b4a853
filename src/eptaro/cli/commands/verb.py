"""What the commands of verbs share: the answer to print, prove and draw, and their options."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import wraps
from typing import Any

import click

from eptaro.cli.data_options import DataOptions
from eptaro.cli.fields import add_options, take_options
from eptaro.cli.help import HeadedCommand
from eptaro.cli.input_options import ReadingOptions
from eptaro.cli.messages import notify
from eptaro.cli.options import AnswerOptions, CalendarOptions, Command
from eptaro.cli.screen import deliver
from eptaro.cli.settings import Settings
from eptaro.core.query.query import Query
from eptaro.daybook import Daybook
from eptaro.progress import log_time
from eptaro.table import Table


@dataclass(frozen=True, eq=False)
class Reply:
    """The answer to a command, and where it goes."""

    book: Daybook
    table: Table
    output: AnswerOptions

    def deliver(self) -> None:
        """Prove the answer and draw it where that is wanted, and print or write it."""
        if self.output.prove:
            with log_time("proved"):
                count = self.book.prove(self.table)
            notify(f"proved: {count:,} numbers recalculated from their transactions")
        if self.output.plot:
            with log_time("drawn"):
                path = self.table.plot(
                    self.output.plot,
                    kind=self.output.kind,
                    measure=self.output.measure_drawn,
                    title=self.output.title,
                    unit=self.output.unit,
                    size=self.output.size,
                    theme=self.output.theme,
                )
            notify(f"drawn to {path}")
        with log_time("shown"):
            deliver(self.table, self.output)


class VerbCommand(HeadedCommand):
    """A command whose function returns a `Reply`, which is then delivered."""

    def invoke(self, ctx: click.Context) -> Any:
        """Answer, and deliver the answer."""
        with log_time("answered, with reading"):
            reply: Reply = super().invoke(ctx)
        reply.deliver()

    def reply(self, words: Sequence[str]) -> Reply:
        """Return the reply to words of a command line, without delivering it."""
        with self.make_context(self.name, list(words)) as context:
            found: Reply = super().invoke(context)
        return found


@dataclass(frozen=True)
class CommandInputs:
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


def query_options(
    kind: type[Query], *, optional: Sequence[str] = (), names: Sequence[str] = ()
) -> Callable[[Command], Command]:
    """Return a decorator that adds the options of a query, or those of some names, to a command.

    The command receives them as one mapping, `given`; those that are `optional` may be missing.
    """

    def add(command: Command) -> Command:
        @wraps(command)
        def run(*, given: Mapping[str, Any] | None = None, **others: Any) -> Any:
            own = take_options(kind, others, names)
            return command(given={**own, **(given or {})}, **others)

        return add_options(kind, names=names, optional=optional)(run)  # type: ignore[no-any-return]

    return add
