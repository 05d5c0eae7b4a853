"""The command line."""

from __future__ import annotations

import gc
import os
import signal
import sys
from types import FrameType
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from sys import UnraisableHookArgs

_STOPPED = 130
_REPEAT = 1.0  # seconds between interrupts until one gets through
# What a command loads stays until it ends: looking for garbage among it took a sixth of the time.
_GARBAGE = (200_000, 20, 50)


def main() -> None:
    """Run the command line; Ctrl-C while it is loaded ends it as it does later."""
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler and os.name == "posix":
        signal.signal(signal.SIGINT, _interrupt)
        sys.unraisablehook = _print_ignored
    gc.set_threshold(*_GARBAGE)
    try:
        from eptaro.cli.app import run

        status = run(sys.argv[1:])
    except KeyboardInterrupt:
        sys.stderr.write("eptaro: stopped\n")
        status = _STOPPED
    if status == _STOPPED:  # threads and workers that are still busy are not waited for
        sys.stderr.flush()
        os._exit(status)
    gc.freeze()
    sys.exit(status)


def _interrupt(_signal: int, _frame: FrameType | None) -> None:
    """Interrupt the run, and again each second until it ends.

    Python drops an exception that is raised in a callback, as at the end of an import, and
    libraries that are being loaded drop one too.
    """
    signal.signal(signal.SIGALRM, signal.default_int_handler)
    signal.setitimer(signal.ITIMER_REAL, _REPEAT, _REPEAT)
    raise KeyboardInterrupt


def _print_ignored(ignored: UnraisableHookArgs) -> None:
    if not isinstance(ignored.exc_value, KeyboardInterrupt):
        sys.__unraisablehook__(ignored)
