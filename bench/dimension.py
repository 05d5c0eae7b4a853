"""Times a date dimension of 200 years, three calendars and all attributes, and its writing."""

from __future__ import annotations

import resource
import tempfile
import time
from pathlib import Path

import eptaro as ep


def main() -> None:
    """Print seconds and peak memory per step."""
    calendars = [
        ep.MonthCalendar(),
        ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY"),
        ep.WeekCalendar("cafe"),
    ]
    ep.dimension("2025-01-01", "2025-01-02").to_arrow()  # imports done
    start = time.perf_counter()
    table = ep.dimension("1900-01-01", "2099-12-31", calendars=calendars, columns="all")
    print(f"{len(table):,} days, {len(table.names)} columns: {time.perf_counter() - start:.2f} s")
    with tempfile.TemporaryDirectory() as folder:
        for ending in ("csv", "parquet", "arrow"):
            start = time.perf_counter()
            table.write(Path(folder) / f"days.{ending}")
            print(f"written as {ending}: {time.perf_counter() - start:.2f} s")
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"peak memory: {peak:.0f} MiB")


if __name__ == "__main__":
    main()
