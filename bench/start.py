"""Times how long it takes to start: `import eptaro` beside `import numpy`, and each command on the
demo's data beside importing the packages that it cannot do without.

The best of twenty, each a process of its own with its bytecode cached, as an installed package
has it.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from eptaro.demo.files import copy_shipped

TRIES = 20
CASES = {
    "python -c 'import numpy'": ["-c", "import numpy"],
    "python -c 'import eptaro'": ["-c", "import eptaro"],
    "python -c 'from eptaro import Daybook'": ["-c", "from eptaro import Daybook"],
    "eptaro --help": ["-m", "eptaro", "--help"],
}


FILE = ["bookings.csv", "--date", "sailed_on", "--measure", "revenue=sum(fare)"]
COMMANDS = {
    "import numpy, pyarrow, click, rich": [
        "-c",
        "import numpy, pyarrow, click, rich.console, rich.table",
    ],
    "eptaro recap": ["-m", "eptaro", "recap", *FILE, "--per", "quarter"],
    "eptaro compare": ["-m", "eptaro", "compare", *FILE, "--per", "quarter", "--to-date"],
    "eptaro accumulate": ["-m", "eptaro", "accumulate", *FILE, "--within", "year", "--rows", "4"],
    "eptaro trail": ["-m", "eptaro", "trail", *FILE, "--back", "6 months", "--every", "month"],
    "eptaro rhythm": ["-m", "eptaro", "rhythm", *FILE, "--per", "weekday"],
    "eptaro inspect": ["-m", "eptaro", "inspect", "bookings.csv", "--date", "sailed_on"],
    "eptaro calendar check": ["-m", "eptaro", "calendar", "check", "--years", "2020..2030"],
    "eptaro recap --config": ["-m", "eptaro", "recap", "--config", "eptaro.toml", "--per", "year"],
}


def best(arguments: list[str], folder: str | None = None) -> float:
    """Return the least seconds of a command."""
    known = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    found = float("inf")
    for _ in range(TRIES):
        start = time.perf_counter()
        subprocess.run(
            [sys.executable, *arguments],
            env=known,
            cwd=folder,
            stdout=subprocess.DEVNULL,
            check=True,
        )
        found = min(found, time.perf_counter() - start)
    return found


def table(head: str, cases: dict[str, list[str]], folder: str | None = None) -> None:
    """Print the seconds of some starts beside those of the first."""
    print(f"| start | seconds | × {head} |")
    print("|---|---:|---:|")
    unit = 0.0
    for name, arguments in cases.items():
        seconds = best(arguments, folder)
        unit = unit or seconds
        print(f"| `{name}` | {seconds:.3f} | {seconds / unit:.2f} |", flush=True)
    print()


def main() -> None:
    """Print the tables."""
    table("numpy", CASES)
    with tempfile.TemporaryDirectory() as folder:
        copy_shipped(Path(folder), replace=True)
        table("imports", COMMANDS, folder)


if __name__ == "__main__":
    main()
