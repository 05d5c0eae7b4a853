"""Times `eptaro report`, the whole command, on Parquet parts of 11 million rows.

Run as `python bench/page.py [parts ...]`.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import scale


def main(sizes: list[int]) -> None:
    """Print one row per number of parts."""
    print("| `eptaro report` on Parquet, rows | seconds |")
    print("|---|---:|")
    for size in sizes:
        with tempfile.TemporaryDirectory() as folder:
            scale.make(folder, size)
            command = [sys.executable, "-m", "eptaro", "report", folder, "--date", "day", "--by",
                       "branch", "--measure", "revenue=sum(cents)", "--out",
                       str(Path(folder) / "page.html")]  # fmt: skip
            start = time.perf_counter()
            subprocess.run(command, check=True, capture_output=True)
            seconds = time.perf_counter() - start
            print(f"| {size * scale.ROWS:,} | {seconds:.1f} |", flush=True)


if __name__ == "__main__":
    main([int(word) for word in sys.argv[1:]] or [1])
