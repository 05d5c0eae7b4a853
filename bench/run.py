"""Times the fold and the verbs on columns in memory, beside one plain pass over the same bytes.

Run as `make bench` or `python bench/run.py [rows]`. Every case runs in a process of its own,
so that its peak memory is its own; each figure is the best of three.
"""

from __future__ import annotations

import json
import resource
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa

import eptaro as ep

ROWS = 11_000_000
GROUPS = 50
FIRST, DAYS = 16_436, 3_652  # ten years from 2015-01-01


def columns(rows: int) -> dict[str, object]:
    """Return ten years of transactions in 50 groups: days, group codes and exact cents."""
    rng = np.random.default_rng(11)
    days = np.sort(rng.integers(FIRST, FIRST + DAYS, rows, dtype=np.int32))
    codes = pa.array(rng.integers(0, GROUPS, rows, dtype=np.int32))
    words = pa.array([f"branch {n:02d}" for n in range(GROUPS)])
    return {
        "day": pa.array(days).cast(pa.date32()),
        "branch": pa.DictionaryArray.from_arrays(codes, words),
        "cents": rng.integers(-5_000, 200_000, rows),
    }


def read_pass(frame: dict[str, object]) -> None:
    """Read every byte of the columns once."""
    np.asarray(frame["day"].cast(pa.int32())).sum()  # type: ignore[attr-defined]
    np.asarray(frame["branch"].indices).sum()  # type: ignore[attr-defined]
    np.asarray(frame["cents"]).sum()


def book(frame: dict[str, object], *measures: str) -> ep.Daybook:
    """Fold the columns."""
    fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
    specs = measures or ("revenue=sum(cents)", "n=count()")
    return ep.Daybook(frame, date="day", by="branch", measures=specs, calendar=fiscal)


def traced(frame: dict[str, object]) -> None:
    """Trace a thousand numbers of a month by branch, each made again from its rows."""
    table = book(frame).recap("month", by="branch")
    for row in np.random.default_rng(1).integers(0, len(table), 1000).tolist():
        assert table.trace(row, "revenue").agrees


ACTIONS: dict[str, Callable[[dict[str, object]], object]] = {
    "read pass": read_pass,
    "fold": book,
    "fold + recap": lambda frame: book(frame).recap("month", by="branch"),
    "fold + accumulate": lambda frame: book(frame).accumulate("year", by="branch"),
    "fold + compare": lambda frame: book(frame).compare("month", by="branch"),
    "fold + compare 24 months, effects": lambda frame: book(frame).compare(
        "month", by="branch", only="2022-04-01..2024-03-31", effects="workdays"
    ),
    "fold + recap + 1,000 traces": traced,
    "fold + rhythm by weekday": lambda frame: book(frame).rhythm("weekday", by="branch"),
    "fold + spread by weekday": lambda frame: book(frame).spread("cents", "weekday"),
    "fold + page": lambda frame: (
        book(frame).report("/dev/shm/bench.html")
        if Path("/dev/shm").exists()
        else book(frame).report("bench.html")
    ),
    "fold + trail 6 months daily": lambda frame: book(frame).trail("6 months", by="branch"),
    "fold + row-level year to date": lambda frame: book(frame).accumulate(
        "year", by="branch", every="entry"
    ),
    "fold + trail 180-day median of daily totals": lambda frame: book(
        frame, "m=median(sum(cents) per day)"
    ).trail("180 days", by="branch"),
    "fold + trail 180-day median of transactions": lambda frame: book(
        frame, "m=median(cents)"
    ).trail("180 days", by="branch"),
}


# Row-level answers and medians of transactions keep every row: not at 110 million.
MOST_OF_HEAVY = 20_000_000
HEAVY = (
    "fold + recap + 1,000 traces",
    "fold + spread by weekday",
    "fold + page",
    "fold + row-level year to date",
    "fold + trail 180-day median of transactions",
)


def measure(case: str, rows: int) -> dict[str, float]:
    """Return the seconds and the peak of memory beyond the columns, in units of the columns."""
    frame = columns(rows)
    size = rows * (4 + 4 + 8)
    read_pass(frame)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    best = float("inf")
    for _ in range(3):
        start = time.perf_counter()
        ACTIONS[case](frame)
        best = min(best, time.perf_counter() - start)
    after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return {"seconds": best, "memory": (after - before) * 1024 / size}


def main() -> None:
    """Run every case in its own process and print the table."""
    if len(sys.argv) == 3:
        print(json.dumps(measure(sys.argv[1], int(sys.argv[2]))))
        return
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else ROWS
    print(
        f"| {rows:,} rows, {GROUPS} groups, ten years | seconds | × read pass "
        "| extra memory × columns |"
    )
    print("|---|---:|---:|---:|")
    unit = 0.0
    for case in ACTIONS:
        if rows > MOST_OF_HEAVY and case in HEAVY:
            continue
        command = [sys.executable, __file__, case, str(rows)]
        done = subprocess.run(command, capture_output=True, text=True, check=True)
        found = json.loads(done.stdout)
        unit = unit or found["seconds"]
        print(
            f"| {case} | {found['seconds']:.3f} | {found['seconds'] / unit:.1f} "
            f"| {found['memory']:.2f} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
