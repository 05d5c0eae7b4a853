"""Times how long it takes to start: `import eptaro` and `eptaro --help` beside `import numpy`.

The best of twenty, each a process of its own with its bytecode cached, as an installed package
has it.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time

TRIES = 20
CASES = {
    "python -c 'import numpy'": ["-c", "import numpy"],
    "python -c 'import eptaro'": ["-c", "import eptaro"],
    "eptaro --help": ["-m", "eptaro", "--help"],
}


def best(arguments: list[str]) -> float:
    """Return the least seconds of a command."""
    known = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    found = float("inf")
    for _ in range(TRIES):
        start = time.perf_counter()
        subprocess.run(
            [sys.executable, *arguments], env=known, stdout=subprocess.DEVNULL, check=True
        )
        found = min(found, time.perf_counter() - start)
    return found


def main() -> None:
    """Print the table."""
    print("| start | seconds | × numpy |")
    print("|---|---:|---:|")
    unit = 0.0
    for name, arguments in CASES.items():
        seconds = best(arguments)
        unit = unit or seconds
        print(f"| `{name}` | {seconds:.3f} | {seconds / unit:.2f} |", flush=True)


if __name__ == "__main__":
    main()
