"""Runs every bench and writes what they print to docs/bench.md. Run as `make bench`.

`python bench/all.py quick` leaves out 110 million rows.
"""

from __future__ import annotations

import os
import platform
import subprocess
import sys
from pathlib import Path

FOLDER = Path(__file__).parent
PAGE = FOLDER.parent / "docs" / "bench.md"
HEAD = """<!-- made by bench/all.py -->
# Timings

Measured on {cores} cores ({machine}, Python {python}). Seconds are the best of several, each
case in a process of its own; beside them stands a yardstick measured in the same run: one plain
NumPy pass over the same bytes, or pyarrow's bare read of the same file. Machines differ; ratios
differ less.
"""
SECTIONS = (
    ("Starting", ["start.py"]),
    ("Columns in memory, 1 million rows", ["run.py", "1000000"]),
    ("Columns in memory, 11 million rows", ["run.py", "11000000"]),
    ("Columns in memory, 110 million rows", ["run.py", "110000000"]),
    ("Readers", ["readers.py"]),
    ("Files, streamed", ["stream.py"]),
    ("Engines, up to 110 million rows", ["scale.py", "10"]),
    ("The page", ["page.py", "1"]),
    ("The dimension", ["dimension.py"]),
)


def main(quick: bool) -> None:
    """Run the benches one after the other, print and keep what they say."""
    head = HEAD.format(
        cores=os.cpu_count(), machine=platform.machine(), python=platform.python_version()
    )
    parts = [head]
    for title, given in SECTIONS:
        if quick and given[-1] == "110000000":
            continue
        command = ["scale.py", "2"] if quick and given[0] == "scale.py" else given
        print(f"## {title}", flush=True)
        done = subprocess.run(
            [sys.executable, str(FOLDER / command[0]), *command[1:]],
            capture_output=True, text=True, check=True,
        )  # fmt: skip
        print(done.stdout, flush=True)
        parts.append(f"## {title}\n\n{done.stdout.strip()}\n")
    PAGE.write_text("\n".join(parts), encoding="utf-8")
    print(f"written to {PAGE}")


if __name__ == "__main__":
    main("quick" in sys.argv[1:])
