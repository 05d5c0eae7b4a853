"""Times the fold and the verbs on columns in memory, beside one plain pass over the same bytes.

Run as `python bench/verbs.py [rows ...]`.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
import pyarrow as pa
from apart import apart, heading, line, per_further_row, short, sizes_asked

import eptaro as ep

GROUPS = 50
FIRST, DAYS = 16_436, 3_652  # ten years from 2015-01-01
BYTES = 4 + 4 + 8  # of a row: day, group and amount


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


def book(frame: dict[str, object], *measures: str, where: str | None = None) -> ep.Daybook:
    """Fold the columns."""
    fiscal = ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY")
    specs = measures or ("revenue=sum(cents)", "n=count()")
    return ep.Daybook(frame, date="day", by="branch", measures=specs, calendar=fiscal, where=where)


def traced(frame: dict[str, object]) -> None:
    """Trace a thousand numbers of a month by branch, each made again from its rows."""
    table = book(frame).recap("month", by="branch")
    for row in np.random.default_rng(1).integers(0, len(table), 1000).tolist():
        assert table.trace(row, "revenue").agrees


ACTIONS: dict[str, Callable[[dict[str, object]], object]] = {
    "read pass": read_pass,
    "fold": book,
    "fold a product": lambda frame: book(frame, "revenue=sum(cents * cents)", "n=count()"),
    "fold where all rows meet it": lambda frame: book(frame, where="cents >= -5000"),
    "fold where half of them do": lambda frame: book(frame, where="cents < 97500"),
    "fold + recap": lambda frame: book(frame).recap("month", by="branch"),
    "fold + accumulate": lambda frame: book(frame).accumulate("year", by="branch"),
    "fold + compare": lambda frame: book(frame).compare("month", by="branch"),
    "fold + compare 24 months, effects": lambda frame: book(frame).compare(
        "month", by="branch", only="2022-04-01..2024-03-31", effects="workdays"
    ),
    "fold + recap + 1,000 traces": traced,
    "fold + rhythm by weekday": lambda frame: book(frame).rhythm("weekday", by="branch"),
    "fold + spread by weekday": lambda frame: book(frame).spread("cents", "weekday"),
    "fold + page": lambda frame: book(frame).report(Path(tempfile.gettempdir()) / "bench.html"),
    "fold + histogram by weekday": lambda frame: book(frame).histogram("cents", "weekday"),
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


def _ready(action: Callable[[dict[str, object]], object], rows: int) -> Callable[[], object]:
    frame = columns(rows)
    read_pass(frame)
    return partial(action, frame)


CASES = {name: partial(_ready, action) for name, action in ACTIONS.items()}


def main() -> None:
    """Print one row per case, with three columns per size."""
    sizes = sizes_asked()
    each = [name for rows in sizes
            for name in (f"{short(rows)} rows: s", "× pass", "+ memory × columns")]  # fmt: skip
    heading("50 groups, ten years", *each, "ns per further row")
    passes: dict[int, float] = {}
    for case in CASES:
        seconds, cells = {}, []
        for rows in sizes:
            found = apart(__file__, case, rows)
            seconds[rows] = found["seconds"]
            passes.setdefault(rows, found["seconds"])
            beyond = (found["peak"] - found["before"]) * 2**20 / (rows * BYTES)
            times = found["seconds"] / passes[rows]
            cells += [f"{found['seconds']:.3f}", f"{times:.1f}", f"{beyond:.2f}"]
        line(case, *cells, per_further_row(seconds))


if __name__ == "__main__":
    main()
