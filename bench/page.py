"""Times `eptaro report`, the whole command, on Parquet parts, and its peak of memory.

Run as `python bench/page.py [rows ...]`.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from apart import heading, line, per_further_row, sizes_asked

from engines import bare_read, made_apart


def report(folder: str) -> tuple[float, float]:
    """Return the seconds of the command and its peak in MiB."""
    command = [sys.executable, "-m", "eptaro", "report", folder, "--date", "day", "--by",
               "branch", "--measure", "revenue=sum(cents)", "--out",
               str(Path(folder) / "page.html")]  # fmt: skip
    start = time.perf_counter()
    with subprocess.Popen(command, stderr=subprocess.DEVNULL) as running:
        _, status, used = os.wait4(running.pid, 0)
        running.returncode = os.waitstatus_to_exitcode(status)
    if running.returncode:
        raise RuntimeError(f"the report ended with status {running.returncode}")
    return time.perf_counter() - start, used.ru_maxrss / 1024


def main() -> None:
    """Print one row per size: the better of two runs."""
    heading("`eptaro report` on Parquet, rows", "seconds", "pyarrow's bare read, s",
            "ns per further row", "peak MiB")  # fmt: skip
    seconds: dict[int, float] = {}
    for rows in sizes_asked():
        with tempfile.TemporaryDirectory() as folder:
            made_apart(Path(folder), rows)
            start = time.perf_counter()
            bare_read(folder)
            bare = time.perf_counter() - start
            seconds[rows], peak = min(report(folder) for _ in range(2))
            line(f"{rows:,}", f"{seconds[rows]:.1f}", f"{bare:.2f}", per_further_row(seconds),
                 f"{peak:,.0f}")  # fmt: skip


if __name__ == "__main__":
    main()
