"""Commands run in this process: as quick as the library, where no test is of the process itself."""

from __future__ import annotations

import contextlib
import io
from pathlib import Path
from typing import NamedTuple

from eptaro.cli.app import run


class Done(NamedTuple):
    """How a command ended, what it printed, and what it said on standard error."""

    returncode: int
    stdout: str
    stderr: str


def run_in(folder: Path | str, *arguments: str) -> Done:
    """Run a command in a folder."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.chdir(folder), contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        status = run([*arguments])
    return Done(status, out.getvalue(), err.getvalue())
