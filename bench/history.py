"""A JSON file in `bench/runs/` per run of the benches, so that runs can be set side by side.

Run as `python bench/history.py ONE TWO` to see what differs by a fifth or more.
"""

from __future__ import annotations

import datetime as dt
import json
import os
import platform
import subprocess
import sys
from pathlib import Path

import numpy as np
import pyarrow as pa

RUNS = Path(__file__).parent / "runs"
NOTABLE = 1.2


def keep(printed: dict[str, str]) -> Path:
    """Write down what the benches printed, by section, with the code and machine they ran on."""
    commit = subprocess.run(
        ["git", "describe", "--always", "--dirty"], capture_output=True, text=True, check=False
    )
    now = dt.datetime.now(dt.UTC)
    run = {
        "at": now.isoformat(timespec="seconds"),
        "commit": commit.stdout.strip(),
        "machine": {"cores": os.cpu_count(), "kind": platform.machine()},
        "versions": {
            "python": platform.python_version(),
            "numpy": np.__version__,
            "pyarrow": pa.__version__,
        },
        "sections": {title: cells(text) for title, text in printed.items()},
    }
    RUNS.mkdir(exist_ok=True)
    path = RUNS / f"{now:%Y-%m-%d-%H%M}.json"
    path.write_text(json.dumps(run, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    return path


def cells(text: str) -> dict[str, dict[str, str]]:
    """Return the rows of Markdown tables by their first cells, each by the heads of its columns."""
    found: dict[str, dict[str, str]] = {}
    heads: list[str] = []
    for line in text.splitlines():
        if not line.startswith("|"):
            heads = []
            continue
        row = [cell.strip() for cell in line.strip("|").split("|")]
        if not heads:
            heads = row
        elif not row[0].startswith("---"):
            name = row[0] if row[0] not in found else f"{row[0]}, {row[1]}"
            found[name] = dict(zip(heads[1:], row[1:], strict=True))
    return found


def changes(one: Path, two: Path) -> list[str]:
    """Return the cells that changed notably from one run to the other."""
    before, after = (
        json.loads(path.read_text(encoding="utf-8"))["sections"] for path in (one, two)
    )
    told = []
    for title, rows in after.items():
        for name, row in rows.items():
            for head, text in row.items():
                old = _number(before.get(title, {}).get(name, {}).get(head, ""))
                new = _number(text)
                if old and new and max(new / old, old / new) >= NOTABLE:
                    told.append(f"{title}: {name}: {head}: {old:g} -> {new:g}")
    return told


def _number(text: str) -> float | None:
    try:
        return float(text.replace(",", ""))
    except ValueError:
        return None


if __name__ == "__main__":
    print("\n".join(changes(*map(Path, sys.argv[1:3]))) or "nothing notable")
