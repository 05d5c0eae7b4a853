"""The group of commands; each command's module is imported only when it runs."""

from __future__ import annotations

from importlib import import_module
from typing import Any

import click

from eptaro.errors import unknown
from eptaro.version import build_info

_COMMANDS = {
    "demo": ("demo", "Copy the demo files to a folder and walk through the commands."),
    "init": ("init", "Write an eptaro.toml for your file after a look at it."),
    "inspect": ("rows", "Show what is in the dates of a file, and what each column holds."),
    "annotate": ("rows", "Add calendar attributes to each row of a file."),
    "dimension": ("dimension", "Date dimension: one row per day with its periods."),
    "calendar": ("calendar", "Show, check and export the periods of a calendar."),
    "recap": ("verbs", "Grouped period summaries: one row per period, empty ones included."),
    "accumulate": ("verbs", "Period-to-date (running) totals, day by day."),
    "trail": ("verbs", "Rolling (trailing) windows of days, months or transactions."),
    "compare": ("verbs", "Prior-period comparison, like for like, also to date."),
    "rhythm": ("verbs", "Distribution over hours, weekdays, months and day types."),
    "report": ("report", "Write a page or a workbook to send on."),
    "fold": ("folding", "Summarise transactions into a reusable book."),
    "books": ("folding", "Show what a book's folder holds, since when and from which files."),
    "merge": ("folding", "Merge books that were built separately."),
    "trace": ("trace", "Audit trail of one number: its days and transactions."),
}


class ReaderGoneError(Exception):
    """Nobody reads the output any more, as after `| head`."""


class _Commands(click.Group):
    """Looks commands up by name, so that `--help` loads none of them."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in _COMMANDS:
            return None
        command = getattr(import_module(f"eptaro.cli.commands.{_COMMANDS[name][0]}"), name)
        return command if isinstance(command, click.Command) else None

    def invoke(self, ctx: click.Context) -> Any:
        """Run the command; a reader that went away is no error, as click would have it."""
        try:
            return super().invoke(ctx)
        except BrokenPipeError:
            raise ReaderGoneError from None

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in _COMMANDS:
            ctx.fail(unknown("command", args[0], _COMMANDS))
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, text) for name, (_, text) in _COMMANDS.items()])


def _tell_version(context: click.Context, _: click.Parameter, wanted: bool) -> None:
    if wanted:
        info = build_info()
        click.echo(f"eptaro, version {info['version']}, kernel {info['kernel']}")
        context.exit()


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.option(
    "--version",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=_tell_version,
    help="Show the version and exit.",
)
def app() -> None:
    """Fiscal periods for dated transactions, correct to the cent.

    Start with `eptaro demo`; then `eptaro COMMAND --help` shows an example of each.
    """
