"""One row's way: how much runs for a question on a tiny file, once all is loaded.

Run as `python bench/way.py`: for `compare` of two rows and `recap` of three it prints how many
Python functions are called in the main thread, how many different ones, in how many files and
rooms, how deep, and which modules of ours a fresh process loads.
"""

from __future__ import annotations

import contextlib
import io
import subprocess
import sys
import tempfile
from collections import Counter
from pathlib import Path
from types import FrameType
from typing import Any

import eptaro
from eptaro.cli.app import run

HERE = str(Path(eptaro.__file__).parent)
ROWS = "sailed_on,route,fare\n2024-05-01,a,10.50\n2025-05-02,b,20.25\n2025-06-02,b,5.00\n"
QUESTIONS = {"compare": (2, "--per quarter --to-date --by route"), "recap": (3, "--per month")}


def asked(words: list[str]) -> None:
    """Run a command without showing what it prints."""
    with contextlib.redirect_stdout(io.StringIO()):
        if run(words):
            raise SystemExit(f"{words} failed")


def followed(words: list[str]) -> tuple[Counter[tuple[str, str]], int, int]:
    """Return how often each function runs, how often the room changes, and the depth."""
    calls = Counter[tuple[str, str]]()
    changes, deepest, depth, last = 0, 0, 0, ""

    def follow(frame: FrameType, event: str, _: Any) -> None:
        nonlocal changes, deepest, depth, last
        path = frame.f_code.co_filename
        if not path.startswith(HERE):
            return
        if event == "return":
            depth -= 1
        elif event == "call":
            depth += 1
            deepest = max(deepest, depth)
            calls[path, frame.f_code.co_qualname] += 1
            room = str(Path(path).parent)
            changes, last = changes + (room != last), room

    sys.setprofile(follow)
    try:
        asked(words)
    finally:
        sys.setprofile(None)
    return calls, changes, deepest


def main() -> None:
    """Print the way of each question."""
    with tempfile.TemporaryDirectory() as folder:
        print(f"{'question':<10}{'calls':>7}{'functions':>11}{'files':>7}{'rooms changed':>15}"
              f"{'deepest':>9}{'modules loaded':>16}")  # fmt: skip
        for verb, (count, options) in QUESTIONS.items():
            path = Path(folder) / f"{verb}.csv"
            path.write_text("".join(ROWS.splitlines(keepends=True)[: count + 1]))
            words = [verb, str(path), "--date", "sailed_on", "--measure", "revenue=sum(fare)"]
            words += options.split()
            asked(words)  # all is loaded then
            calls, changes, deepest = followed(words)
            files = {path for path, _ in calls}
            code = (
                "import sys, io, contextlib; from eptaro.cli.app import run\n"
                "with contextlib.redirect_stdout(io.StringIO()): run(sys.argv[1:])\n"
                "print(sum(name.startswith('eptaro') for name in sys.modules))"
            )
            loaded = subprocess.run(
                [sys.executable, "-c", code, *words], check=True, capture_output=True, text=True
            ).stdout.strip()
            print(f"{verb:<10}{calls.total():>7,}{len(calls):>11,}{len(files):>7,}{changes:>15,}"
                  f"{deepest:>9}{loaded:>16}")  # fmt: skip
            if "-v" in sys.argv:
                for (path, name), times in calls.most_common(45):
                    print(f"  {times:>5} {Path(path).relative_to(HERE)} {name}")


if __name__ == "__main__":
    main()
