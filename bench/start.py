"""Times how long it takes to start: `import eptaro` beside `import numpy`, help beside `import
click`, and each command on the demo's data beside importing the packages that it cannot do without.

The best of twenty, each a process of its own with its bytecode cached, as an installed package
has it. `python bench/start.py quick` takes the best of five, of help and the first commands.
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
SCRIPT = Path(sys.executable).with_name("eptaro")
CASES = {
    "python -c 'import numpy'": ["-c", "import numpy"],
    "python -c 'import eptaro'": ["-c", "import eptaro"],
    "python -c 'from eptaro import Daybook'": ["-c", "from eptaro import Daybook"],
}
HELP = {
    "import click": ["-c", "import click"],
    "eptaro --help": ["-m", "eptaro", "--help"],
    "eptaro --version": ["-m", "eptaro", "--version"],
}

FILE = ["bookings.csv", "--date", "sailed_on", "--measure", "revenue=sum(fare)"]
SMALL = "on,fare\n2025-01-01,5\n2025-02-01,6\n2025-03-03,7\n"
ROWS = ["small.csv", "--date", "on", "--measure", "revenue=sum(fare)", "--per", "month"]
COMMANDS = {
    "import numpy, pyarrow, pyarrow.csv, click": [
        "-c",
        "import numpy, pyarrow, pyarrow.csv, click",
    ],
    "eptaro recap, 3 rows": ["-m", "eptaro", "recap", *ROWS],
    "eptaro compare, 3 rows": ["-m", "eptaro", "compare", *ROWS],
    "eptaro recap": ["-m", "eptaro", "recap", *FILE, "--per", "quarter"],
    "eptaro compare": ["-m", "eptaro", "compare", *FILE, "--per", "quarter", "--to-date"],
    "eptaro accumulate": ["-m", "eptaro", "accumulate", *FILE, "--within", "year", "--rows", "4"],
    "eptaro trail": ["-m", "eptaro", "trail", *FILE, "--back", "6 months", "--every", "month"],
    "eptaro rhythm": ["-m", "eptaro", "rhythm", *FILE, "--per", "weekday"],
    "eptaro inspect": ["-m", "eptaro", "inspect", "bookings.csv", "--date", "sailed_on"],
    "eptaro calendar check": ["-m", "eptaro", "calendar", "check", "--years", "2020..2030"],
    "eptaro recap --config": ["-m", "eptaro", "recap", "--config", "eptaro.toml", "--per", "year"],
}


def best(arguments: list[str], folder: str | None, tries: int) -> float:
    """Return the least seconds of a command."""
    known = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    command = [sys.executable, *arguments]
    if arguments[:2] == ["-m", "eptaro"] and SCRIPT.exists():  # as it is typed
        command = [str(SCRIPT), *arguments[2:]]
    found = float("inf")
    for _ in range(tries):
        start = time.perf_counter()
        subprocess.run(command, env=known, cwd=folder, stdout=subprocess.DEVNULL, check=True)
        found = min(found, time.perf_counter() - start)
    return found


def table(
    head: str, cases: dict[str, list[str]], folder: str | None = None, tries: int = TRIES
) -> None:
    """Print the seconds of some starts beside those of the first."""
    print(f"| start | seconds | × {head} |")
    print("|---|---:|---:|")
    unit = 0.0
    for name, arguments in cases.items():
        seconds = best(arguments, folder, tries)
        unit = unit or seconds
        print(f"| `{name}` | {seconds:.3f} | {seconds / unit:.2f} |", flush=True)
    print()


def main(*, quick: bool) -> None:
    """Print the tables."""
    tries = 5 if quick else TRIES
    if not quick:
        table("numpy", CASES)
    table("click", HELP, tries=tries)
    with tempfile.TemporaryDirectory() as folder:
        copy_shipped(Path(folder), replace=True)
        (Path(folder) / "small.csv").write_text(SMALL)
        few = dict([*COMMANDS.items()][: 3 if quick else None])
        table("imports", few, folder, tries)


if __name__ == "__main__":
    main(quick="quick" in sys.argv)
