"""`annotate`: adds attributes of the day, and parts of the time, to each transaction row.

Rows keep their columns as they are and their order; files are streamed from one to the
other, so they may be larger than memory.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from itertools import chain
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags, Ints, civil_date, month_starts
from eptaro.core.calendars.grain import Grain, first_days, last_days
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.dimension.build import catalogue, dimension, unknown_attribute
from eptaro.core.results.column import Column
from eptaro.core.results.result import Result
from eptaro.errors import DateError, InputError, QuestionError, unknown
from eptaro.inputs.columns.wrapped import clean_numbers
from eptaro.inputs.datecolumn import find_date, infer_date_rules
from eptaro.inputs.dates.clock import read_timed_dates
from eptaro.inputs.dates.reading import ParsedDates, show_value
from eptaro.inputs.files.chunks import translate_errors
from eptaro.inputs.files.opening import opened_source
from eptaro.inputs.filtered import filter_source
from eptaro.inputs.locales import locale_names
from eptaro.inputs.sources import Source, check_columns
from eptaro.outputs.arrow import pandas_frame, to_array
from eptaro.outputs.files import replace_whole
from eptaro.outputs.text import escape_formulas, guarded_rows, needs_quotes, write_csv_rows
from eptaro.progress import report_progress
from eptaro.rules import DateRules, FileRules, Numbers, date_rules

_SECOND = 1_000_000
_SPANS = {"hour": 3600 * _SECOND, "minute": 60 * _SECOND, "second": _SECOND}
_STAMP = pa.timestamp("us")


class TimePart(NamedTuple):
    """One part of the time that can be added: what it is, and how it comes from a reading."""

    description: str
    compute: Callable[[ParsedDates, Ints], pa.Array]


def _number(take: Callable[[Ints], Ints]) -> Callable[[ParsedDates, Ints], pa.Array]:
    return lambda read, times: pa.array(take(times).astype(np.int32))


def _edge(width: int, *, end: bool) -> Callable[[ParsedDates, Ints], pa.Array]:
    def compute(parsed: ParsedDates, times: Ints) -> pa.Array:
        start = parsed.days.astype(np.int64) * 86_400 * _SECOND + times // width * width
        return pa.array(start + (width - 1 if end else 0)).cast(_STAMP)

    return compute


def _years(width: int, first_year: int, *, end: bool) -> Callable[[ParsedDates, Ints], pa.Array]:
    """Return the first or last day of the civil decade or century."""

    def compute(parsed: ParsedDates, times: Ints) -> pa.Array:
        year = (civil_date(parsed.days)[0] - first_year) // width * width + first_year
        months = (year + (width if end else 0) - 1970) * 12
        days = month_starts(months) - (1 if end else 0)
        return to_array(Column.of("", "date", days))

    return compute


def _offset_text(parsed: ParsedDates, times: Ints) -> pa.Array:
    minutes = _offsets(parsed)
    texts = {
        m: f"{'-' if m < 0 else '+'}{abs(m) // 60:02d}:{abs(m) % 60:02d}"
        for m in np.unique(minutes).tolist()
    }
    return pa.array([texts[m] for m in minutes.tolist()])


def _offsets(parsed: ParsedDates) -> Ints:
    if parsed.offsets is None:
        raise QuestionError(
            "the dates carry no UTC offset; leave utc_offset_minutes and utc_offset_text out"
        )
    return parsed.offsets


TIME_PARTS: dict[str, TimePart] = {
    "hour": TimePart("Hour of the day, 0 to 23", _number(lambda t: t // _SPANS["hour"] % 24)),
    "minute": TimePart("Minute of the hour", _number(lambda t: t // _SPANS["minute"] % 60)),
    "second": TimePart("Second of the minute", _number(lambda t: t // _SECOND % 60)),
    "fraction": TimePart("Microseconds of the second", _number(lambda t: t % _SECOND)),
    "utc_offset_minutes": TimePart(
        "Minutes that local time is ahead of UTC",
        lambda read, _: pa.array(_offsets(read).astype(np.int32)),
    ),
    "utc_offset_text": TimePart("The same as text, +01:00", _offset_text),
    **{
        f"{level}_{'last' if end else 'first'}_moment": TimePart(
            f"{'Last' if end else 'First'} moment of the {level}", _edge(width, end=end)
        )
        for level, width in _SPANS.items()
        for end in (False, True)
    },
    **{
        f"{level}_{'last' if end else 'first'}": TimePart(
            f"{'Last' if end else 'First'} day of the {level}", _years(width, first, end=end)
        )
        for level, width, first in (("decade", 10, 0), ("century", 100, 1))
        for end in (False, True)
    },
}


WorkdaysOf = Callable[[Span], Workdays]
ENDINGS = (".csv", ".parquet", ".arrow")


def annotate(
    source: Any,
    *,
    add: str | Sequence[str],
    date: str | None = None,
    calendars: Calendar | Sequence[Calendar] | None = None,
    workdays: Workdays | WorkdaysOf | None = None,
    locale: str = "en",
    as_of: str | None = None,
    where: str | None = None,
    dates: DateRules | None = None,
    zone: str | None = None,
    numbers: Numbers = None,
    out: str | Path | None = None,
    files: FileRules | None = None,
) -> Any:
    """Add attributes to each row of a frame or of a file.

    Rows whose date cannot be read are an error, or are kept with blanks where the rules reject bad
    dates. Attributes are those of `eptaro.dimension` (`fiscal_quarter_label`, `day_name`,
    ...) and parts of the time (`hour`, `minute`, `second`, `fraction`, `utc_offset_minutes`,
    `utc_offset_text`, `hour_first_moment`, `century_last`, ...).

    Parameters
    ----------
    source : frame, mapping, str or Path
        A frame, a mapping of arrays, or a file.
    add : str or sequence of str
        Attributes of the dimension, or parts of the time.
    date : str, optional
        The column of dates.
    calendars : Calendar or sequence of these, optional
        The calendars that attributes are of.
    workdays : Workdays or function of a Span, optional
        Which days are worked.
    locale : str
        The language of names.
    as_of : str, optional
        For attributes relative to a date.
    where : str, optional
        A condition: only rows that meet it.
    dates : DateRules, optional
        How the dates are read.
    zone : str, optional
        The time zone whose days are meant, where times have an offset.
    numbers : {"strict", "infer"} or NumberRules
        How numbers in columns of text are written, for a condition on them.
    out : str or Path, optional
        A .csv, .parquet or .arrow to write to.
    files : FileRules, optional
        How a file is written.

    Returns
    -------
    pandas.DataFrame, pyarrow.Table or Path
        The rows with their attributes: of a pandas frame as one, else as an Arrow table; or the
        file written.

    Raises
    ------
    QuestionError
        For an attribute that there is not, or that is there already.
    ExpressionError
        For a condition that cannot be.

    Examples
    --------
    >>> rows = annotate({"on": ["2025-08-20"]}, date="on", add=["day_name", "calendar_quarter"])
    >>> rows.to_pylist()
    [{'on': '2025-08-20', 'day_name': 'Wednesday', 'calendar_quarter': 3}]
    """
    opened = clean_numbers(opened_source(source, files), numbers)
    with translate_errors(opened.name):
        rules = date_rules(dates, zone)
        opened = filter_source(opened, where, date, rules)
        all_calendars = [calendars] if isinstance(calendars, Calendar) else list(calendars or ())
        all_calendars = all_calendars or [MonthCalendar()]
        plan = _Plan(
            opened,
            [add] if isinstance(add, str) else list(add),
            date,
            all_calendars,
            workdays,
            locale,
            as_of,
            rules,
        )
        if out is None:
            tables = list(plan.tables())
            rows = pa.concat_tables(tables) if tables else pa.table({})
            return pandas_frame(rows, plain=True) if _is_pandas(source) else rows
        target = Path(out)
        if target.suffix.lower() not in ENDINGS:
            raise InputError(f"{target}: {unknown('file ending', target.suffix, ENDINGS)}")
        return replace_whole(
            target, lambda beside: _write(plan.tables(), beside, target.suffix.lower())
        )


def _is_pandas(source: Any) -> bool:
    """Return whether a frame is one of pandas, which need not be imported for that."""
    return type(source).__module__.partition(".")[0] == "pandas"


class _Plan:
    """What is added, and how each batch gets it."""

    def __init__(
        self,
        source: Source,
        add: list[str],
        date: str | None,
        calendars: list[Calendar],
        workdays: Workdays | WorkdaysOf | None,
        locale: str,
        as_of: str | None,
        rules: DateRules,
    ) -> None:
        self._source, self._add = source, list(dict.fromkeys(add))
        self._date = date or find_date(source, rules)
        timed = [] if rules.time is None else [rules.time]
        check_columns([self._date, *timed], source.names(), source.name)
        entries = catalogue(calendars, relative=as_of is not None)
        names = {prefix + entry.name for entry, _, prefix in entries}
        for name in self._add:
            if name not in names and name not in TIME_PARTS:
                raise unknown_attribute("attribute", name, entries, TIME_PARTS)
            if name in source.names():
                raise QuestionError(f"{source.name} has a column {name!r} already; rename it first")
        self._of_day = [name for name in self._add if name in names]
        self._options: dict[str, Any] = {
            "calendars": calendars,
            "locale": locale_names(locale),
            "as_of": as_of,
        }
        self._workdays = workdays
        self._rules, _ = infer_date_rules(source, self._date, rules)

    def tables(self) -> Iterator[pa.Table]:
        """Yield the rows with what is added, batch by batch."""
        rows = 0
        for table in self._source.whole():
            yield self._annotate_table(table, rows)
            rows += table.num_rows
            report_progress(rows, self._source.share)

    def _annotate_table(self, table: pa.Table, rows_before: int) -> pa.Table:
        parsed = read_timed_dates(table, self._date, self._rules)
        bad = parsed.bad
        if bad is not None and bad.any() and self._rules.bad_dates == "raise":
            row = int(np.flatnonzero(bad)[0])
            value = show_value(table[self._date][row])
            reason = "blank" if parsed.reasons is None else parsed.reasons[row]
            number = self._source.row_number(rows_before + row)
            where = f"{self._source.name}: row {number:,} of {self._date!r}"
            raise DateError(f"{where}: {value} {reason}")
        good = None if bad is None or not bad.any() else ~bad
        added = self._day_columns(parsed, good)
        times = np.zeros(len(parsed.days), np.int64)
        if parsed.times is not None:
            times = np.asarray(parsed.times) // 1000
        timed = good
        if (times < 0).any():
            timed = times >= 0 if good is None else (times >= 0) & good
        for name in self._add:
            array = added.get(name)
            if array is None:
                array = _blank_bad(TIME_PARTS[name].compute(parsed, times), timed)
            table = table.append_column(name, array)
        return table

    def _day_columns(self, parsed: ParsedDates, good: Flags | None) -> dict[str, pa.Array]:
        if not self._of_day or not len(parsed.days):
            return {name: pa.nulls(len(parsed.days)) for name in self._of_day}
        good_days = parsed.days if good is None else parsed.days[good]
        lo, hi = (int(good_days.min()), int(good_days.max())) if len(good_days) else (0, 0)
        grain = parsed.grain or "day"
        span = Span.of(lo, int(last_days(np.array([hi]), grain)[0]))
        worked = self._workdays(span) if callable(self._workdays) else self._workdays
        sheet = dimension(
            span.first, span.last, columns=self._of_day, workdays=worked, **self._options
        )
        places = np.clip(parsed.days - lo, 0, hi - lo)
        if grain != "day":
            first = first_days(good_days, grain)
            self._check_grain(sheet, first - lo, last_days(good_days, grain) - lo, grain)
        return {
            column.name: _blank_bad(to_array(column.take(places)), good) for column in sheet.columns
        }

    def _check_grain(self, sheet: Result, first: Ints, last: Ints, grain: Grain) -> None:
        """Raise `QuestionError` for what the days of a period of the data differ in."""
        for column in sheet.columns:
            if repr(column.take(first).to_list()) != repr(column.take(last).to_list()):
                raise QuestionError(
                    f"{self._date!r} is dated by the {grain}, and its days differ in "
                    f"{column.name}: leave that out"
                )


def _blank_bad(array: pa.Array, good: Flags | None) -> pa.Array:
    if good is None:
        return array
    import pyarrow.compute as pc

    return pc.if_else(pa.array(good), array, pa.scalar(None, array.type))


def _write(tables: Iterator[pa.Table], path: Path, ending: str) -> None:
    first = next(tables, None)
    if first is None:
        raise InputError("there are no rows to annotate")
    every = chain([first], tables)
    with ExitStack() as stack:
        if ending == ".csv":
            sink = stack.enter_context(path.open("wb"))
            for number, table in enumerate(every):
                safe = guarded_rows(table)
                safe = safe.rename_columns([escape_formulas(name) for name in safe.column_names])
                write_csv_rows(safe, sink, header=not number, quoted=needs_quotes(safe))
            return
        if ending == ".parquet":
            from pyarrow import parquet

            writer: Any = stack.enter_context(parquet.ParquetWriter(path, first.schema))
        else:
            writer = stack.enter_context(pa.ipc.new_file(str(path), first.schema))
        for table in every:
            writer.write_table(table.cast(first.schema))
