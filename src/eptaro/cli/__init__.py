"""The command line."""

from __future__ import annotations

import os
import sys

_STOPPED = 130


def main() -> None:
    """Run the command line; Ctrl-C while it is loaded ends it as it does later."""
    try:
        from eptaro.cli.run import run

        status = run(sys.argv[1:])
    except KeyboardInterrupt:
        sys.stderr.write("eptaro: stopped\n")
        status = _STOPPED
    if status == _STOPPED:  # threads and workers that are still busy are not waited for
        sys.stderr.flush()
        os._exit(status)
    sys.exit(status)
