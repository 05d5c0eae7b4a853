"""Times verbs on a folded book beside general frame libraries on the same daily totals.

The book and the frames hold 50 groups on 3,653 days: 182,650 totals. Run as
`python bench/folded.py`.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from typing import Any

import numpy as np
import pandas as pd
import polars as pl

import eptaro as ep

FIRST, DAYS, GROUPS = np.datetime64("2015-01-01"), 3_653, 50
TIMES = 30


def ways() -> dict[str, dict[str, Callable[[], Any]]]:
    """Return for each question what answers it in each way, everything made ready."""
    rng = np.random.default_rng(16)
    days = np.tile(FIRST + np.arange(DAYS), GROUPS)
    number, fare = np.repeat(np.arange(GROUPS), DAYS), rng.integers(0, 10**6, len(days)) / 100
    data = {"on": days, "number": number, "fare": fare}
    book = ep.Daybook(data, date="on", by=["number"], measures=["s=sum(fare)"])
    frame = pd.DataFrame(data | {"month": days.astype("M8[M]").astype(np.int64)})
    wide = frame.pivot_table(index="on", columns="number", values="fare")
    table = pl.DataFrame(data).with_columns(
        month=pl.col("on").dt.year() * 12 + pl.col("on").dt.month()
    )
    lazy = table.lazy()
    months = lazy.group_by("number", "month").agg(s=pl.col("fare").sum()).sort("number", "month")
    return {
        "recap by month": {
            "eptaro": lambda: book.recap("month", by=["number"])["s"],
            "pandas": lambda: by_month(frame),
            "polars": months.collect,
        },
        "trailing 90 days": {
            "eptaro": lambda: book.trail("90 days", by=["number"])["s_trailing"],
            "pandas": lambda: wide.rolling(90, min_periods=1).sum(),
            "polars": lambda: lazy.with_columns(
                v=pl.col("fare").rolling_sum(90, min_samples=1).over("number")
            ).collect(),
        },
        "months against the year before": {
            "eptaro": lambda: book.compare("month", by=["number"])["s_change"],
            "pandas": lambda: (
                frame.groupby(["number", "month"])["fare"].sum().groupby(level=0).diff(12)
            ),
            "polars": lambda: months.with_columns(
                v=pl.col("s") - pl.col("s").shift(12).over("number")
            ).collect(),
        },
    }


def by_month(frame: pd.DataFrame) -> pd.Series[Any]:
    """Return the totals of groups and months."""
    return frame.groupby(["number", "month"])["fare"].sum()


def least(action: Callable[[], Any]) -> float:
    """Return the least seconds of several runs, after one."""
    action()
    found = []
    for _ in range(TIMES):
        start = time.perf_counter()
        action()
        found.append(time.perf_counter() - start)
    return min(found)


def main() -> None:
    """Print a table of seconds and ratios."""
    print("| question | eptaro ms | pandas × | polars × |\n|---|---:|---:|---:|")
    for question, of in ways().items():
        took = {way: least(action) for way, action in of.items()}
        ratios = [took[way] / took["eptaro"] for way in ("pandas", "polars")]
        print(f"| {question} | {1000 * took['eptaro']:.1f} | " + " | ".join(
            f"{ratio:.1f}" for ratio in ratios) + " |")  # fmt: skip


if __name__ == "__main__":
    sys.exit(main())
