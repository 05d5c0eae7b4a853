"""The group of commands; each command's module is imported only when it runs."""

from __future__ import annotations

import os
import sys
from importlib import import_module
from typing import Any

import click

from eptaro.cli.process import fold_message, prepare_streams
from eptaro.errors import EptaroError, on_command_line, unknown
from eptaro.version import __version__, kernel

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
    "compare": ("verbs", "Prior-period comparison: like for like, also to date."),
    "restated": ("verbs", "Restatement: what has changed in periods already reported."),
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
        made: click.Command = command if isinstance(command, click.Command) else command()
        return made

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


def _tell_version(context: click.Context, _: click.Parameter, flag: bool) -> None:
    if flag:
        click.echo(f"eptaro, version {__version__}, kernel {kernel()}")
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


STOPPED = 130


def run(arguments: list[str]) -> int:
    """Run one command and return its exit status; never a traceback."""
    prepare_streams()
    try:
        with on_command_line():
            app.main(arguments, prog_name="eptaro", standalone_mode=False)
        sys.stdout.flush()
    except EptaroError as error:
        return _fail(str(error), 1)
    except click.UsageError as error:
        from eptaro.core.results.format import escape_controls  # which loads NumPy: help needs none
        from eptaro.urls import redact

        message = escape_controls(redact(error.format_message()))
        click.UsageError(fold_message(f"Error: {message}")[7:], ctx=error.ctx).show(sys.stderr)
        return 2
    except click.ClickException as error:
        return _fail(error.format_message(), 2)
    except click.exceptions.Exit as stop:
        return stop.exit_code
    except (click.Abort, KeyboardInterrupt):
        click.echo("eptaro: stopped", err=True)  # NumPy, which `_fail` needs, may be half loaded
        return STOPPED
    except (BrokenPipeError, ReaderGoneError):
        # The reader went away (as in `| head`): nothing more to say, and nothing to flush.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:  # most are caught where they occur; this is of the answer's place
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        what = error.filename or "the answer"
        return _fail(f"{what}: cannot be read or written: {error.strerror or error}", 1)
    except MemoryError:
        return _fail("not enough memory for this question; group by fewer columns", 1)
    except Exception as error:
        if "EPTARO_TRACEBACK" in os.environ:
            raise
        return _fail(
            f"internal error ({type(error).__name__}: {error}); please report it. "
            f"EPTARO_TRACEBACK=1 shows where it happened",
            1,
        )
    return 0


def _fail(message: str, status: int) -> int:
    from eptaro.core.results.format import escape_controls
    from eptaro.urls import redact

    *words, expression, caret = ["", "", *redact(message).split("\n")]
    if caret.strip() != "^":  # else the last two lines show the place in an expression
        words, expression, caret = [redact(message)], "", ""
    complaint = fold_message(f"eptaro: {escape_controls(' '.join(' '.join(words).split()))}")
    click.echo("\n".join(filter(None, (complaint, escape_controls(expression), caret))), err=True)
    return status
