"""Times a dimension of 200 years, three calendars and all attributes, and attributes of rows.

Run as `python bench/dimension.py [rows ...]`. A dimension has one row per day, whatever the
transactions; `annotate` gives each transaction the attributes of its day.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

from apart import apart, heading, line, per_further_row, sizes_asked

import eptaro as ep
from engines import bare_read, made_apart
from eptaro.inputs.files.opening import open_files

ADDED = ["calendar_year_label", "calendar_month_label", "fiscal_quarter_label", "day_name",
         "is_workday"]  # fmt: skip


def calendars() -> list[ep.Calendar]:
    """Return years from January, from April, and of whole weeks."""
    fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
    return [ep.MonthCalendar(), fiscal, ep.WeekCalendar("cafe")]


def built() -> ep.Table:
    """Build the dimension."""
    return ep.dimension("1900-01-01", "2099-12-31", calendars=calendars(), columns="all")


def _build() -> Callable[[], object]:
    ep.dimension("2025-01-01", "2025-01-02").to_arrow()  # imports done
    return lambda: len(built())


def _write(ending: str, folder: str) -> Callable[[], object]:
    return partial(built().write, Path(folder) / f"days.{ending}")


def _annotate(folder: str) -> Callable[[], object]:
    return partial(ep.annotate, open_files([folder]), add=ADDED, date="day",
                   calendars=calendars(), out=Path(folder) / "out" / "rows.parquet")  # fmt: skip


CASES: dict[str, Callable[..., Callable[[], object]]] = {
    "built": _build,
    **{f"written as {e}": partial(_write, e) for e in ("csv", "parquet", "arrow")},
    "annotate": _annotate,
    "bare": lambda folder: partial(bare_read, folder),
}


def main() -> None:
    """Print what the dimension takes, then what attributes of rows take."""
    table = built()
    heading(f"{len(table):,} days, {len(table.names)} columns", "seconds", "peak MiB")
    with tempfile.TemporaryDirectory() as folder:
        for case in CASES:
            if case not in ("annotate", "bare"):
                found = apart(__file__, case, *([folder] if "written" in case else []))
                line(case, f"{found['seconds']:.2f}", f"{found['peak']:,.0f}")
    print()
    heading(f"`annotate`, {len(ADDED)} attributes, Parquet to Parquet, rows", "seconds",
            "bare read, s", "ns per further row", "peak MiB")  # fmt: skip
    seconds: dict[int, float] = {}
    for rows in sizes_asked():
        with tempfile.TemporaryDirectory() as folder:
            made_apart(Path(folder), rows)
            (Path(folder) / "out").mkdir()
            found, bare = (apart(__file__, case, folder) for case in ("annotate", "bare"))
            seconds[rows] = found["seconds"]
            line(f"{rows:,}", f"{found['seconds']:.2f}", f"{bare['seconds']:.2f}",
                 per_further_row(seconds), f"{found['peak']:,.0f}")  # fmt: skip


if __name__ == "__main__":
    main()
