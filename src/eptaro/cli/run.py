"""One command run: errors are turned into one line and an exit status.

Exit status 0: done; 1: the data or the question is at fault; 2: wrong usage; 130: stopped
by the user.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from eptaro.cli.app import ReaderGoneError, app
from eptaro.errors import EptaroError, on_command_line
from eptaro.urls import redact

STOPPED = 130


def run(arguments: list[str]) -> int:
    """Run one command and return its exit status; never a traceback."""
    if sys.stdout is None:  # it was closed; an answer that goes to a file needs none
        sys.stdout = Path(os.devnull).open("w", encoding="utf-8")  # noqa: SIM115
    try:
        with on_command_line():
            app.main(arguments, prog_name="eptaro", standalone_mode=False)
        sys.stdout.flush()
    except EptaroError as error:
        return _fail(str(error), 1)
    except click.UsageError as error:
        from eptaro.core.results.display import visible  # which loads NumPy: help needs none

        said = visible(redact(error.format_message()))
        click.UsageError(said, ctx=error.ctx).show(sys.stderr)
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
    from eptaro.core.results.display import visible

    *words, expression, caret = ["", "", *redact(message).split("\n")]
    if caret.strip() != "^":  # else the last two lines show the place in an expression
        words, expression, caret = [redact(message)], "", ""
    said = visible(" ".join(" ".join(words).split()))
    click.echo("\n".join(filter(None, (f"eptaro: {said}", visible(expression), caret))), err=True)
    return status
