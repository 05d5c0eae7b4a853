"""What the commands of verbs share: the answer to print, prove and draw, and their options."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import click

from eptaro.cli.data import DataOptions
from eptaro.cli.help import GROUPS, QUESTION, HeadedCommand, option
from eptaro.cli.options import AnswerOptions, CalendarOptions
from eptaro.cli.reading import ReadingOptions
from eptaro.cli.screen import deliver
from eptaro.cli.settings import Settings
from eptaro.cli.told import step, tell
from eptaro.core.tables.table import Table
from eptaro.daybook import Daybook
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


def goals_of(path: Path | None) -> Any:
    """Return the goals of a file, where one is named."""
    return None if path is None else read_goals(path)


goals_option = option(
    QUESTION,
    "--goals",
    rare=True,
    type=click.Path(path_type=Path),
    metavar="FILE",
    default=None,
    help="A CSV of goals: period, goal, and the group column, if any.",
)
pace_option = option(
    QUESTION,
    "--pace",
    rare=True,
    metavar="HOW",
    default="straight",
    show_default=True,
    help="How a goal is spread over its period: straight, or as the 'prior year' was.",
)
sort_option = option(
    GROUPS,
    "--sort",
    metavar="COLUMN",
    default=None,
    help="Order the rows by a column; -COLUMN puts the largest first.",
)
