"""Messages of a command on standard error, as many as were asked for."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from contextvars import ContextVar
from pathlib import Path
from time import monotonic
from typing import Any

import click

from eptaro.cli.help import OTHER, option
from eptaro.cli.process import fold_message
from eptaro.core.results.format import escape_controls
from eptaro.core.results.result import Result
from eptaro.errors import count_noun
from eptaro.progress import LOGGER, watch

_quiet: ContextVar[bool] = ContextVar("quiet", default=False)


def _be_quiet(context: click.Context, _: click.Parameter, flag: bool) -> None:
    if flag:
        token = _quiet.set(True)
        _at_end(context, lambda: _quiet.reset(token))


def _at_end(context: click.Context, action: Callable[[], None]) -> None:
    """Do something when the command has ended, also where another of its options is refused."""
    context.find_root().call_on_close(action)


def _show_log(context: click.Context, _: click.Parameter, flag: bool) -> None:
    if not flag:
        return
    import logging

    class Shown(logging.Handler):
        """Shows the log on standard error."""

        def emit(self, record: logging.LogRecord) -> None:
            notify(record.getMessage())

    handler, logger = Shown(), logging.getLogger(LOGGER)
    logger.addHandler(handler)
    logger.setLevel(logging.DEBUG)
    _at_end(context, lambda: logger.removeHandler(handler))


def loudness_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add `-q` and `-v` to a command, which need not know of them."""
    for short, name, callback, text in (
        ("-v", "--verbose", _show_log, "Show what was decided and how long each step took."),
        ("-q", "--quiet", _be_quiet, "Show only the answer and errors."),
    ):
        command = option(
            OTHER, short, name, is_flag=True, expose_value=False, callback=callback, help=text
        )(command)
    return command


def is_quiet() -> bool:
    """Return whether the answer alone is wanted."""
    return _quiet.get()


def notify(message: str) -> None:
    """Say something on standard error; what data or file names bring with them cannot act."""
    if not _quiet.get():
        click.echo(fold_message("\n".join(map(escape_controls, message.split("\n")))), err=True)


def report_rejected(
    rejected: Result, left_out: dict[str, Any], out: Path | None, source: str
) -> None:
    """Write the rows rejected to a file, and say how many and what they add up to."""
    if not len(rejected):
        return
    path = out or Path(f"{Path(source).name}.rejected.csv")
    from eptaro.outputs.files import write

    write(rejected, path)
    sums = "".join(f", sum({name}) {total:,}" for name, total in left_out.items())
    notify(f"{count_noun(len(rejected), 'row')} rejected{sums}: listed in {path}")


_SOON = 0.5  # seconds; what takes less shows no bar


@contextmanager
def shown_progress() -> Iterator[None]:
    """Show a bar (rows, rate, time left) on a terminal where reading takes long."""
    if is_quiet() or not sys.stderr.isatty():
        yield
        return
    begun = monotonic()
    with ExitStack() as stack:
        bars = list[Callable[[int, float | None, float], None]]()

        def follow(rows: int, share: float | None) -> None:
            elapsed = monotonic() - begun
            if not bars and elapsed > _SOON:
                bars.append(stack.enter_context(_bar()))
            for update in bars:
                update(rows, share, rows / elapsed)

        with watch(follow):
            yield


@contextmanager
def _bar() -> Iterator[Callable[[int, float | None, float], None]]:
    """Show a bar, which takes the rows read, their share of all, and how many a second."""
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    columns = (
        TextColumn("{task.fields[rows]:>14,} rows"),
        BarColumn(),
        TextColumn("{task.fields[rate]:>12,.0f} rows/s"),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("", total=1.0, rows=0, rate=0.0)

        def update(rows: int, share: float | None, rate: float) -> None:
            bar.update(task, completed=share or 0.0, rows=rows, rate=rate)

        yield update
