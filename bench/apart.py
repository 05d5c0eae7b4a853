"""Runs a case in a process of its own, so that its peak of memory is its own.

A bench is a module whose `CASES` lead from a name to a function that makes everything ready and
returns what is to be timed.
"""

from __future__ import annotations

import gc
import importlib
import json
import resource
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pyarrow as pa

SIZES = (1_000_000, 11_000_000, 110_000_000)
TIMEOUT = 8.0  # seconds after which a case is not run once more
CODE = """import json, sys
sys.path.insert(0, sys.argv[1])
import apart
apart.answer(sys.argv[2], sys.argv[3], json.loads(sys.argv[4]))"""


def apart(bench: str, case: str, *given: Any) -> dict[str, float]:
    """Return the least seconds of up to three runs, and the MiB at peak and before the first."""
    command = [sys.executable, "-c", CODE, str(Path(__file__).parent), Path(bench).stem, case]
    done = subprocess.run([*command, json.dumps(given)], capture_output=True, text=True,
                          check=False)  # fmt: skip
    if done.returncode:
        raise RuntimeError(f"{case} {given}: {done.stderr[-2000:]}")
    found: dict[str, float] = json.loads(done.stdout.splitlines()[-1])
    return found


def answer(bench: str, case: str, given: list[Any]) -> None:
    """Do in the process of its own what `apart` asks for."""
    action = importlib.import_module(bench).CASES[case](*given)
    gc.collect()
    pa.default_memory_pool().release_unused()  # what making the data left behind
    before, best, spent = _peak(), float("inf"), 0.0
    for _ in range(3):
        gc.collect()
        start = time.perf_counter()
        seconds = action()
        own = time.perf_counter() - start
        # A case that times itself, leaving out what it cannot make ready before, says so.
        best = min(best, seconds if isinstance(seconds, float) else own)
        spent += own
        if spent > TIMEOUT:
            break
    print(json.dumps({"seconds": best, "peak": _peak(), "before": before}))


def _peak() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def sizes_asked() -> list[int]:
    """Return the numbers of rows given on the command line, or all three."""
    return [int(word.replace("_", "")) for word in sys.argv[1:]] or list(SIZES)


def short(rows: int) -> str:
    """Return a number of rows in millions.

    >>> short(11_000_000)
    '11 M'
    """
    return f"{rows / 1e6:g} M"


def heading(*names: str) -> None:
    """Print the first two lines of a table, the first column to the left."""
    print(f"| {' | '.join(names)} |\n|---|{'---:|' * (len(names) - 1)}", flush=True)


def line(*values: object) -> None:
    """Print one row of a table."""
    print(f"| {' | '.join(str(value) for value in values)} |", flush=True)


def per_further_row(seconds: dict[int, float]) -> str:
    """Return the nanoseconds of each further row between the two largest sizes."""
    if len(seconds) < 2:
        return ""
    one, two = sorted(seconds)[-2:]
    return f"{1e9 * (seconds[two] - seconds[one]) / (two - one):.1f}"
