"""Times the shapes that rows come in beside two general frame libraries, and one read pass.

Each shape is asked of Eptaro and, in the best plain code that we know, of pandas and of polars
with its streaming engine; the three answers are compared before anything is timed.

Run as `python bench/shapes.py [rows ...]`; `quick` for one million rows alone.
"""

from __future__ import annotations

import ctypes
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import cache, partial
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet
from apart import SIZES, apart, heading, line, short

import eptaro as ep

FIRST, DAYS = np.datetime64("2015-01-01"), 3_652
Rows = dict[str, Any]
FOLDER = Path(tempfile.gettempdir()) / "shapes"


@cache
def rows(count: int) -> Rows:
    """Return all columns that the shapes pick from, unsorted, over ten years."""
    rng = np.random.default_rng(16)
    day = FIRST + rng.integers(0, DAYS, count)
    numbers = rng.integers(0, 50, count)
    cents = rng.integers(-5_000, 2_000_000, count)
    routes = pa.array([f"route {n:02d}" for n in range(50)])
    classes = pa.array([f"class {n}" for n in range(8)])
    seconds = rng.integers(0, 86_400, count).astype("m8[s]")
    marked = pa.array([f"{cent / 100:,.2f}" for cent in range(-5_000, 2_000_000)])
    decimals = pa.Table.from_arrays([pa.array(cents)], ["c"])["c"].cast(pa.decimal128(19, 0))
    return {
        "on": day,
        "day_key": _digits(day),
        "at": (day.astype("M8[us]") + seconds),
        "number": numbers,
        "route": routes.take(pa.array(numbers)),
        "fare_class": classes.take(pa.array(rng.integers(0, 8, count))),
        "customer": rng.integers(0, 1_000_000, count),
        "fare": cents / 100,
        "marked": marked.take(pa.array(cents + 5_000)),
        "cents": cents,
        "amount": pa.array(
            [], pa.decimal128(12, 2)
        ) if not count else _hundredths(decimals),
        "sorted_on": np.sort(day),
        "coded": pa.DictionaryArray.from_arrays(pa.array(numbers.astype(np.int32)), routes),
    }  # fmt: skip


def _digits(day: Any) -> Any:
    """Return days as numbers such as 20250820."""
    month = day.astype("M8[M]")
    years, months = divmod(month.astype(np.int64), 12)
    return (years + 1970) * 10_000 + (months + 1) * 100 + (day - month).astype(np.int64) + 1


def _hundredths(whole: pa.ChunkedArray) -> pa.Array:
    """Return whole cents as decimals with two places, without reckoning."""
    array = whole.combine_chunks()
    array = array.chunk(0) if isinstance(array, pa.ChunkedArray) else array
    return pa.Array.from_buffers(pa.decimal128(19, 2), len(array), array.buffers())


@dataclass(frozen=True)
class Shape:
    """One shape of rows and the question asked of it, in three ways.

    The frame ways take a frame and return one with the values in its last columns; `ours` takes
    what holds the columns and returns a table, whose columns `values` are compared.
    """

    columns: tuple[str, ...]
    ours: Callable[[Any], ep.Table]
    values: tuple[str, ...]
    by_pandas: Callable[[pd.DataFrame], pd.DataFrame]
    by_polars: Callable[[pl.LazyFrame], pl.LazyFrame]
    file: str = ""
    reading: dict[str, Any] = field(
        default_factory=lambda: {"engine": "pyarrow", "parse_dates": ["on"]}
    )  # of pandas
    guessing: bool = True  # whether polars looks for dates itself, which takes longer for times


def month(name: str = "on") -> pl.Expr:
    """Return the month of a column of dates, as polars tells it quickest."""
    return (pl.col(name).dt.year() * 12 + pl.col(name).dt.month()).alias("month")


def months(frame: pd.DataFrame, name: str = "on") -> Any:
    """Return the month of a column of dates, as pandas tells it quickest."""
    return frame[name].to_numpy().astype("M8[M]").astype(np.int64)


def recap(
    by: list[str], *measures: str, date: str = "on", per: str = "month", **options: Any
) -> Any:
    """Return the question for a recap."""

    def ask(data: Any) -> ep.Table:
        made = ep.Daybook if not isinstance(data, Path) else ep.Daybook.read
        return made(data, date=date, by=by, measures=list(measures), **options).recap(per, by=by)

    return ask


def daily(frame: pl.LazyFrame) -> pl.LazyFrame:
    """Return daily totals with all days, in order."""
    days = pl.LazyFrame(
        {"on": pl.date_range(pl.date(2015, 1, 1), pl.date(2024, 12, 30), eager=True)}
    )
    every = frame.select(pl.col("number").unique()).join(days, how="cross")
    totals = frame.group_by("number", "on").agg(pl.col("fare").sum())
    return every.join(totals, on=["number", "on"], how="left").with_columns(
        pl.col("fare").fill_null(0.0)
    ).sort("number", "on")  # fmt: skip


def daily_pandas(frame: pd.DataFrame) -> pd.DataFrame:
    """Return daily totals with all days, a column per group."""
    totals = frame.groupby(["on", "number"], sort=True)["fare"].sum().unstack(fill_value=0.0)
    return totals.reindex(pd.DatetimeIndex(FIRST + np.arange(DAYS)), fill_value=0.0)


def long(frame: pd.DataFrame) -> pd.DataFrame:
    """Return a column per group as rows."""
    return pd.DataFrame({"v": frame.to_numpy().T.ravel()})


def since_new_year(frame: pd.DataFrame) -> pd.DataFrame:
    """Return daily totals since the year's first day."""
    totals = daily_pandas(frame)
    return totals.groupby(totals.index.year).cumsum()


def each_row(frame: pd.DataFrame) -> pd.DataFrame:
    """Return for each row its group's total since the year's first day."""
    upto = since_new_year(frame)
    place = (frame["on"].to_numpy().astype("M8[D]") - FIRST).astype(np.int64)
    return pd.DataFrame({"v": upto.to_numpy()[place, frame["number"].to_numpy()]})


def upto(frame: pl.LazyFrame) -> pl.LazyFrame:
    """Return daily totals since the year's first day."""
    return daily(frame).with_columns(
        pl.col("fare").cum_sum().over("number", pl.col("on").dt.year()).alias("v")
    )


def total(frame: pd.DataFrame, by: list[str], column: str, how: Any) -> pd.DataFrame:
    """Return a statistic by groups and month."""
    keys = [*(frame[name] for name in by), months(frame)]
    return frame.groupby(keys, sort=False, observed=True)[column].agg(how).reset_index()


SHAPES: dict[str, Shape] = {
    "unsorted floats by number": Shape(
        ("on", "number", "fare"), recap(["number"], "s=sum(fare)"), ("s",),
        lambda f: total(f, ["number"], "fare", "sum"),
        lambda f: f.group_by("number", month()).agg(pl.col("fare").sum()),
    ),
    "floats by a text column": Shape(
        ("on", "route", "fare"), recap(["route"], "s=sum(fare)"), ("s",),
        lambda f: total(f, ["route"], "fare", "sum"),
        lambda f: f.group_by("route", month()).agg(pl.col("fare").sum()),
    ),
    "dates as 20250820": Shape(
        ("day_key", "number", "fare"), recap(["number"], "s=sum(fare)", date="day_key"), ("s",),
        lambda f: f.groupby([f["number"], f["day_key"] // 100], sort=False)["fare"].sum()
        .reset_index(),
        lambda f: f.group_by("number", pl.col("day_key") // 100).agg(pl.col("fare").sum()),
    ),
    "time stamps: sum, mean, max": Shape(
        ("at", "number", "fare"),
        recap(["number"], "s=sum(fare)", "m=mean(fare)", "x=max(fare)", date="at"),
        ("s", "m", "x"),
        lambda f: f.groupby([f["number"], months(f, "at")], sort=False)["fare"].agg(
            ["sum", "mean", "max"]
        ).reset_index(),
        lambda f: f.group_by("number", month("at")).agg(
            pl.col("fare").sum().alias("s"), pl.col("fare").mean().alias("m"),
            pl.col("fare").max().alias("x"),
        ),
    ),
    "decimals by two text columns": Shape(
        ("on", "route", "fare_class", "amount"), recap(["route", "fare_class"], "s=sum(amount)"),
        ("s",),
        lambda f: total(f, ["route", "fare_class"], "amount", "sum"),
        lambda f: f.group_by("route", "fare_class", month()).agg(pl.col("amount").sum()),
    ),
    "a million groups by year": Shape(
        ("on", "customer", "fare"), recap(["customer"], "s=sum(fare)", per="year"), ("s",),
        lambda f: f.groupby(
            [f["customer"], f["on"].to_numpy().astype("M8[Y]").astype(np.int64)], sort=False
        )["fare"].sum().reset_index(),
        lambda f: f.group_by("customer", pl.col("on").dt.year()).agg(pl.col("fare").sum()),
    ),
    "median": Shape(
        ("on", "number", "fare"), recap(["number"], "s=median(fare)"), ("s",),
        lambda f: total(f, ["number"], "fare", "median"),
        lambda f: f.group_by("number", month()).agg(pl.col("fare").median()),
    ),
    "different customers": Shape(
        ("on", "number", "customer"), recap(["number"], "s=distinct(customer)"), ("s",),
        lambda f: total(f, ["number"], "customer", "nunique"),
        lambda f: f.group_by("number", month()).agg(pl.col("customer").n_unique()),
    ),
    "trailing 90 days, daily": Shape(
        ("on", "number", "fare"),
        lambda d: ep.Daybook(d, date="on", by=["number"], measures=["s=sum(fare)"]).trail(
            "90 days", by=["number"]
        ),
        ("s_trailing",),
        lambda f: long(daily_pandas(f).rolling(90, min_periods=1).sum()),
        lambda f: daily(f).with_columns(
            pl.col("fare").rolling_sum(90, min_samples=1).over("number").alias("v")
        ),
    ),
    "year to date, daily": Shape(
        ("on", "number", "fare"),
        lambda d: ep.Daybook(d, date="on", by=["number"], measures=["s=sum(fare)"]).accumulate(
            "year", by=["number"]
        ),
        ("s_to_date",),
        lambda f: long(since_new_year(f)),
        upto,
    ),
    "year to date of each row": Shape(
        ("on", "number", "fare"),
        lambda d: ep.Daybook(d, date="on", by=["number"], measures=["s=sum(fare)"]).accumulate(
            "year", by=["number"], every="entry"
        ),
        ("s_to_date",),
        each_row,
        lambda f: f.join(upto(f).select("number", "on", "v"), on=["number", "on"], how="left"),
    ),
    "sorted days, coded groups, whole numbers": Shape(
        ("sorted_on", "coded", "cents"), recap(["coded"], "s=sum(cents)", date="sorted_on"),
        ("s",),
        lambda f: f.groupby(
            [f["coded"], months(f, "sorted_on")], sort=False, observed=True
        )["cents"].sum().reset_index(),
        lambda f: f.group_by("coded", month("sorted_on")).agg(pl.col("cents").sum()),
    ),
    "Parquet": Shape(
        ("on", "route", "fare"), recap(["route"], "s=sum(fare)"), ("s",),
        lambda f: total(f, ["route"], "fare", "sum"),
        lambda f: f.group_by("route", month()).agg(pl.col("fare").sum()), "parquet",
    ),
    "CSV": Shape(
        ("on", "route", "fare"), recap(["route"], "s=sum(fare)"), ("s",),
        lambda f: total(f, ["route"], "fare", "sum"),
        lambda f: f.group_by("route", month()).agg(pl.col("fare").sum()), "csv",
    ),
    "CSV with time stamps": Shape(
        ("at", "route", "fare"), recap(["route"], "s=sum(fare)", date="at"), ("s",),
        lambda f: f.groupby(["route", months(f, "at")], sort=False)["fare"].sum().reset_index(),
        lambda f: f.with_columns(
            pl.col("at").str.to_datetime("%Y-%m-%d %H:%M:%S%.f")
        ).group_by("route", month("at")).agg(pl.col("fare").sum()), "csv",
        {"engine": "pyarrow", "parse_dates": ["at"]}, guessing=False,
    ),
    "CSV with 1,234.50": Shape(
        ("on", "route", "marked"),
        recap(["route"], "s=sum(marked)", numbers=ep.NumberRules(thousands=",")), ("s",),
        lambda f: total(f, ["route"], "marked", "sum"),
        lambda f: f.with_columns(
            pl.col("marked").str.replace_all(",", "", literal=True).cast(pl.Float64)
        ).group_by("route", month()).agg(pl.col("marked").sum()), "csv",
        {"thousands": ",", "parse_dates": ["on"]},
    ),
}  # fmt: skip


def table_of(shape: Shape, count: int) -> pa.Table:
    """Return the columns of a shape as an Arrow table."""
    picked = {name: rows(count)[name] for name in shape.columns}
    return pa.table({
        name: pa.array(column) if isinstance(column, np.ndarray) else column
        for name, column in picked.items()
    })  # fmt: skip


def written(shape: Shape, count: int) -> Path:
    """Return a file with the columns of a shape."""
    FOLDER.mkdir(exist_ok=True)
    path = FOLDER / f"{count}-{'-'.join(shape.columns)}.{shape.file}"
    if not path.exists():
        table = table_of(shape, count)
        if shape.file == "csv":
            pyarrow.csv.write_csv(table, path)
        else:
            pyarrow.parquet.write_table(table, path, row_group_size=1 << 20)
    return path


def from_parquet(path: Path) -> pd.DataFrame:
    """Return a Parquet file as a frame; its own reader would make an object of each date."""
    return pyarrow.parquet.read_table(path).to_pandas(date_as_object=False)


def ways(name: str, count: int) -> dict[str, Callable[[], Any]]:
    """Return what answers a shape's question in each way, everything made ready."""
    shape = SHAPES[name]
    if shape.file:
        path = written(shape, count)
        scan = pl.scan_parquet if shape.file == "parquet" else partial(
            pl.scan_csv, try_parse_dates=shape.guessing
        )  # fmt: skip
        read = from_parquet if shape.file == "parquet" else partial(pd.read_csv, **shape.reading)
        bare = pa.parquet.read_table if shape.file == "parquet" else pa.csv.read_csv
        return {
            "eptaro": lambda: worked_out(shape, path),
            "pandas": lambda: shape.by_pandas(read(path)),
            "polars": lambda: shape.by_polars(scan(path)).collect(engine="streaming"),
            "pass": lambda: bare(path),
        }
    table = table_of(shape, count)
    frame = table.to_pandas(date_as_object=False)
    lazy = pl.from_arrow(table).lazy()  # type: ignore[union-attr]
    return {
        "eptaro": lambda: worked_out(shape, table),
        "pandas": lambda: shape.by_pandas(frame),
        "polars": lambda: shape.by_polars(lazy).collect(engine="streaming"),
        "pass": lambda: read_pass(table),
    }


def worked_out(shape: Shape, data: Any) -> ep.Table:
    """Return Eptaro's answer with the columns worked out that the frames hold: groups, times and
    values.
    """
    table = shape.ours(data)
    for name in table.names:
        if name in (*shape.columns, "period", "date", *shape.values):
            table.column(name)
    return table


def read_pass(table: pa.Table) -> None:
    """Read every byte of the columns once."""
    for column in table.columns:
        for chunk in column.chunks:
            parts = [chunk.indices] if isinstance(chunk, pa.DictionaryArray) else [chunk]
            for part in parts:
                for buffer in part.buffers():
                    if buffer is not None and buffer.size:
                        np.frombuffer(buffer, np.uint8)[: buffer.size // 8 * 8].view(np.int64).max()


def sizes_of(found: Any, shape: Shape) -> list[float]:
    """Return what tells an answer from another: of each column of values the number of those that
    are not zero, their sum and the sum of their squares.
    """
    told = []
    for number in range(-len(shape.values), 0):
        if isinstance(found, ep.Table):
            values = found.column(shape.values[number]).numbers()
        elif isinstance(found, pl.DataFrame):
            values = found[:, number].cast(pl.Float64).to_numpy()
        else:
            values = found.iloc[:, number].to_numpy().astype(np.float64)
        values = values[~np.isnan(values) & (np.abs(values) > 1e-6)]
        told += [float(len(values)), float(values.sum()), float((values**2).sum())]
    return told


def check(name: str) -> None:
    """Raise `AssertionError` where the three answers differ on fewer rows."""
    made = ways(name, 100_000)
    answers = {way: sizes_of(made[way](), SHAPES[name]) for way in ("eptaro", "pandas", "polars")}
    for way, told in answers.items():
        np.testing.assert_allclose(told, answers["eptaro"], rtol=1e-9, err_msg=f"{name}: {way}")


CASES = {
    f"{name}, {way}": lambda count, name=name, way=way: ways(name, count)[way]
    for name in SHAPES
    for way in ("eptaro", "pandas", "polars", "pass")
} | {"C loop": lambda count: looped(count) or (lambda: float("inf"))}


def looped(count: int) -> Callable[[], None] | None:
    """Return a plain C loop over the columns of the first shape, in a thread for each processor;
    None where there is no compiler.
    """
    source, built = Path(__file__).with_name("loop.c"), FOLDER / "loop.so"
    FOLDER.mkdir(exist_ok=True)
    compiler = shutil.which("cc") or shutil.which("gcc") or shutil.which("clang")
    if compiler is None:
        return None
    command = [compiler, "-O3", "-shared", "-fPIC", "-o", str(built), str(source)]
    subprocess.run(command, check=True)
    loop = ctypes.CDLL(str(built)).fold
    columns = rows(count)
    first = int(FIRST.astype(np.int64))
    days = columns["on"].astype(np.int64).astype(np.int32)
    arrays, threads = (days, columns["number"], columns["fare"]), os.cpu_count() or 1
    cuts = [slice(count * n // threads, count * (n + 1) // threads) for n in range(threads)]

    def fold(of: slice) -> np.ndarray:
        cells = np.zeros((50 * DAYS, 3), np.int64)
        begins = [ctypes.c_void_p(array[of].ctypes.data) for array in arrays]
        ends = (ctypes.c_ssize_t(of.stop - of.start), ctypes.c_int32(first), ctypes.c_int64(DAYS))
        loop(*begins, *ends, ctypes.c_void_p(cells.ctypes.data))
        return cells

    def run() -> None:
        with ThreadPoolExecutor(threads) as pool:
            parts = [*pool.map(fold, cuts)]
        counted, whole = (sum(part[:, word] for part in parts) for word in (0, 1))
        rest = sum(part.view(np.float64)[:, 2] for part in parts)
        assert counted.sum() == count and np.isfinite(whole + rest).all()

    return run


def main(words: list[str]) -> None:
    """Print a row per shape and size."""
    sizes = [int(word.replace("_", "")) for word in words if word != "quick"] or [*SIZES[:2]]
    sizes = SIZES[:1] if "quick" in words else sizes
    heading("shape", "rows", "eptaro s", "pandas ×", "polars ×", "read pass s", "× pass",
            "+ memory MiB", "polars + MiB")  # fmt: skip
    ratios: dict[int, list[float]] = {}
    first_shape: dict[int, tuple[float, float]] = {}
    for name, shape in SHAPES.items():
        check(name)
        for count in sizes:
            if count > SIZES[1] and shape.file == "csv":
                continue
            found = {way: apart(__file__, f"{name}, {way}", count)
                     for way in ("eptaro", "polars", "pandas", "pass")}  # fmt: skip
            own, one = found["eptaro"]["seconds"], found["pass"]["seconds"]
            others = [found[way]["seconds"] / own for way in ("pandas", "polars")]
            first_shape.setdefault(count, (own, min(others)))
            if not shape.file:
                ratios.setdefault(count, []).append(min(others))
            extra = [f"{found[w]['peak'] - found[w]['before']:,.0f}" for w in ("eptaro", "polars")]
            line(name, short(count), f"{own:.3f}", *(f"{other:.1f}" for other in others),
                 f"{one:.3f}", f"{own / one:.1f}", *extra)  # fmt: skip
    for count, (own, frame) in first_shape.items():
        least = apart(__file__, "C loop", count)["seconds"]
        if least < float("inf"):
            print(
                f"\n{short(count)} rows of the first shape in a plain C loop with exact sums: "
                f"{least:.3f} s; Eptaro, with its answer, takes {own / least:.1f} times as long, "
                f"the faster frame library {own * frame / least:.1f} times."
            )
    for count, each in ratios.items():
        mean = float(np.exp(np.mean(np.log(each))))
        print(f"\n{short(count)} rows in memory: {mean:.1f} times as fast as the faster frame "
              f"library in the geometric mean, {min(each):.1f} at least.")  # fmt: skip


if __name__ == "__main__":
    main(sys.argv[1:])
