"""`inspect`: a report on the dates and columns of a file."""

from __future__ import annotations

import datetime as dt
import shlex
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.aggregation.batch import ROWS_PER_CHUNK
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Ints, as_date, ordinal, weekday
from eptaro.core.calendars.grain import Grain, grain_of, last_days, level_of, plural_of
from eptaro.core.calendars.levels import WEEKDAYS
from eptaro.core.expressions.parser import Formula
from eptaro.core.results.result import Result
from eptaro.engines.findings import Findings, look_for_duplicates, look_for_gaps, look_per_group
from eptaro.engines.profile import decided_rules
from eptaro.engines.suggestion import Suggestion, calculated_dates, fiscal_options, profile_columns
from eptaro.errors import count_noun
from eptaro.inputs.columns.codes import doubts_of_groups
from eptaro.inputs.columns.wrapped import clean_numbers, unpivot
from eptaro.inputs.dates.clock import holds_clock, read_clock
from eptaro.inputs.dates.reading import read_dates, settled_start, show_value
from eptaro.inputs.files.chunks import translate_errors
from eptaro.inputs.files.opening import opened_source
from eptaro.inputs.filtered import FilteredSource
from eptaro.inputs.sources import Source, check_columns
from eptaro.option import setting
from eptaro.rules import DateRules, FileRules, Numbers, date_rules

_SIDES = ("ending", "starting")
_FEW = 3  # values that are shown
_NONE = (
    "none can be read as written; if one holds dates, name it with --date, and the rules, such as "
    "--order dmy or --date-format"
)
_SENTINELS = ("1900-01-01", "1899-12-30", "1970-01-01", "9999-12-31", "2999-12-31")


def inspect(
    source: Any,
    *,
    date: str | None = None,
    by: Sequence[str] | str = (),
    keys: Sequence[str] | str = (),
    where: str | None = None,
    dates: DateRules | None = None,
    zone: str | None = None,
    numbers: Numbers = None,
    files: FileRules | None = None,
) -> Result:
    """Return what is in the dates of a frame or of a file, one finding per row.


    Rows; readable and unreadable dates with reasons; blank, sentinel-like and implausible
    ones; first and last date; gaps in days and months, over all and per group of the `by`
    columns; whole rows that repeat, and repeated `keys`; dates per weekday; what was
    inferred and on what evidence; and the options to give the next command. Without `date`
    every column is listed first, with what it seems to hold and why, and of a file last a
    command that works.


    Parameters
    ----------
    source : frame, mapping, str or Path
        A frame, a mapping of arrays, or a file.
    date : str, optional
        The column of dates, if it is not the only one that can be.
    by : str or sequence of str
        Columns per whose values gaps are looked for, too.
    keys : str or sequence of str
        Columns that should not repeat together.
    where : str, optional
        A condition: only rows that meet it.
    dates : DateRules, optional
        How the dates are read.
    zone : str, optional
        The time zone whose days are meant, where times have an offset.
    numbers : {"strict", "infer"} or NumberRules
        How numbers in columns of text are written, for a condition on them.
    files : FileRules, optional
        How a file is written.

    Returns
    -------
    Table
        One finding per row: `subject`, `group`, `value`, `count`, `detail`.

    Raises
    ------
    InputError
        For a missing column or file.
    ExpressionError
        For a condition that cannot be.

    Examples
    --------
    >>> table = inspect({"on": ["2025-08-20", "2025-08-22"]}, date="on")
    >>> {row["subject"]: row["value"] for row in table.rows()}["first date"]
    '2025-08-20'
    """
    opened = clean_numbers(opened_source(source, files), numbers)
    with translate_errors(opened.name):
        rules = date_rules(dates, zone)
        if where is not None:
            opened = FilteredSource(opened, where, date, _to_narrow(opened, date, rules))
        return _inspect_source(opened, date, by, keys, rules, files)


def _to_narrow(opened: Source, date: str | None, rules: DateRules) -> DateRules:
    """Return rules that read the dates that a condition may ask for; bad ones meet none."""
    if date is not None and date in opened.names():
        rules, _ = decided_rules(opened.column(date), rules, date, Findings())
    return replace(rules, bad_dates="reject")


def _describe_choice(looks: Suggestion, date: str) -> str:
    """Return why dates are taken from a column, or calculated from several."""
    formula = Formula.date(date)
    own = {date} if formula is None else {*formula.names}
    dated = [look for look in looks.looks if look.dates is not None and look.name not in own]
    days = [look.name for look in dated if look.grain == "day"]
    why = "the only column of days" if dated else "the only column that can be dates"
    if formula is not None:
        why = "calculated from these columns"
    elif days:
        why = "the plainest dates"
    return f"{why}; {', '.join(days)} could be dates too: use --date COLUMN" if days else why


def _inspect_source(
    opened: Source,
    date: str | None,
    by: Sequence[str] | str,
    keys: Sequence[str] | str,
    rules: DateRules,
    files: FileRules | None,
) -> Result:
    findings = Findings()
    groups, key_names = ([each] if isinstance(each, str) else list(each) for each in (by, keys))
    looks = None
    if date is None:
        looks = profile_columns(opened, rules)
        _tell_columns(looks, findings)
        if len(looks.dates) != 1:
            several = f"{', '.join(looks.dates)} could all be dates; use --date COLUMN"
            none = _NONE
            if formula_words := looks.without_year:
                none = f"month and day are there, a year is not: use --date '{formula_words}'"
            findings.add("date column", detail=several if looks.dates else none)
            return findings.table({"verb": "inspect", "source": opened.name})
        ((date, rules),) = looks.dates.items()
        if looks.across is None:
            findings.add("date column", date, detail=_describe_choice(looks, date))
        else:
            opened = unpivot(opened, looks.across.written)
            findings.add(
                "columns across", looks.across.written, detail="each becomes a row, as below"
            )
    formula = None if date in opened.names() else Formula.date(date)
    if formula is not None:
        check_columns([*groups, *key_names], opened.names(), opened.name)
        rules, words = replace(rules, grain=rules.grain or formula.grain), list[str]()
        column = calculated_dates(opened, date, formula, rules)
    else:
        timed = [] if rules.time is None else [rules.time]
        check_columns([date, *timed, *groups, *key_names], opened.names(), opened.name)
        column = opened.column(date)
        every = opened.source.column(date) if isinstance(opened, FilteredSource) else column
        rules, words = decided_rules(every, rules, date, findings)
        rules = settled_start([column], rules, date)
    if formula is not None and isinstance(rules.fiscal_periods, Calendar):
        grain = grain_of(rules.fiscal_periods, str(rules.grain))
        parsed = replace(read_dates(column, DateRules(), date), grain=grain)
    else:
        parsed = read_dates(column, rules, date)
    good = np.ones(len(parsed.days), bool) if parsed.bad is None else ~parsed.bad
    days = parsed.days if parsed.bad is None else parsed.days[good]
    if isinstance(opened, FilteredSource):
        findings.add("left out by the condition", "", opened.left, "not among the rows below")
    findings.add("rows", "", len(good))
    findings.add("readable dates", "", len(days))
    _unreadable(column, parsed.bad, parsed.reasons, opened, findings)
    if len(days):
        present, counts = count_days(days)
        _look_for_sentinels(present, counts, findings)
        grain = parsed.grain or "day"
        findings.add("first date", as_date(int(present[0])))
        last = int(last_days(present[-1:], grain)[0])
        findings.add("last date", as_date(last), detail=_grain_note(grain))
        look_for_gaps(present, findings, "", grain)
        look_per_group(opened, groups, parsed.days, good, findings, grain)
    if rules.time is not None or (len(days) and parsed.times is None and grain == "day"):
        _look_for_times(opened, date, rules, findings)
    if len(days) and grain == "day":
        per_weekday = np.zeros(7, np.int64)
        np.add.at(per_weekday, weekday(present), counts)
        for name, count in zip(WEEKDAYS, per_weekday.tolist(), strict=True):
            findings.add("weekday", name.title(), count)
        if len(present) >= _FEW and np.count_nonzero(per_weekday) == 1:
            name = WEEKDAYS[int(per_weekday.argmax())]
            ends, starts = (setting(DateRules, "weeks", f"{side} {name}") for side in _SIDES)
            detail = f"every date is one: if each means a week, use {ends} or {starts}"
            findings.add("perhaps weeks", name.title(), detail=detail)
    look_for_duplicates(opened, key_names, findings, len(good))
    bad = [] if good.all() else ["--bad-dates reject"]
    timed = [] if rules.time is None else [f"--time {shlex.quote(rules.time)}"]
    fiscal = fiscal_options(rules.fiscal_periods)
    options = " ".join([f"--date {shlex.quote(date)}", *timed, *fiscal, *words, *bad])
    if looks is None:
        findings.add("suggestion", detail=f"next time use {options}")
    _suggest_command(looks, date, opened, files, findings)
    text = _summarise(len(good), days, parsed.grain or "day")
    return findings.table({"verb": "inspect", "source": opened.name, "headline": text})


def _look_for_times(opened: Source, date: str, rules: DateRules, findings: Findings) -> None:
    """Add what the column of times of day holds, or which column could be one."""
    if rules.time is None:
        first = next(opened.whole(), None)
        names = [] if first is None else [n for n in first.column_names if n != date]
        for name in names:
            if first is not None and holds_clock(first[name]):
                cure = setting(DateRules, "time", name)
                findings.add("times of day", name, detail=f"{cure} reads them with the dates")
        return
    column = opened.column(rules.time)
    clock = read_clock(column, rules, rules.time)
    good = ~clock.blank & ~clock.bad
    findings.add("times of day", rules.time, int(np.count_nonzero(good)))
    for row in np.flatnonzero(clock.bad)[:_FEW].tolist():
        number = opened.row_number(row)
        findings.add("unreadable time", show_value(column[row]), detail=f"row {number:,}")


def _summarise(rows: int, days: NDArray[np.int32], grain: Grain) -> str:
    """Return in a sentence how many rows there are, and what days they are of."""
    bad = rows - len(days)
    blank = f"; {count_noun(bad, 'row')} without a date that can be read" if bad else ""
    if not len(days):
        return f"{count_noun(rows, 'row')}, none with a readable date."
    last = as_date(int(last_days(np.array([days.max()]), grain)[0]))
    return f"{count_noun(rows, 'row')} from {as_date(int(days.min()))} to {last}{blank}."


def _tell_columns(looks: Suggestion, findings: Findings) -> None:
    """Report what every column seems to hold, why, and how many blanks it has."""
    words = {"groups": "category: ", "dates": "dates: ", "text": "text: "}
    if looks.sampled:
        findings.add("sample", "", looks.rows, "the first rows, by which columns are described")
    for look in looks.looks:
        blanks = f", {look.blanks:,} blank" if look.blanks else ""
        detail = f"{words.get(look.kind, '')}{look.reason}{blanks}"
        findings.add("column", look.name, looks.rows - look.blanks, detail)
        for doubt, text in doubts_of_groups(look.name, look.values):
            findings.add(doubt, detail=text)


def _suggest_command(
    looks: Suggestion | None, date: str, source: Source, files: FileRules | None, findings: Findings
) -> None:
    """Report a command that works as printed."""
    if looks is None or not Path(source.name).is_file():
        return
    findings.add("next", detail=looks.command(source.name, date, files))


def _grain_note(grain: Grain) -> str:
    last = f"the last day of the last {level_of(grain)}: dates are {plural_of(grain)}"
    return "" if grain == "day" else last


def _unreadable(
    column: pa.ChunkedArray, bad: Any, reasons: Any, source: Source, findings: Findings
) -> None:
    if bad is None:
        findings.add("unreadable dates", "", 0)
        return
    blank = bad & (reasons == "blank")
    findings.add("blank dates", "", int(blank.sum()), _first_row(blank, source))
    findings.add("unreadable dates", "", int((bad & ~blank).sum()))
    for reason in sorted(set(reasons[bad & ~blank].tolist())):
        hit = bad & (reasons == reason)
        row = int(np.flatnonzero(hit)[0])
        detail = f"first in row {source.row_number(row):,}: {show_value(column[row])}"
        findings.add("unreadable because", reason, int(hit.sum()), detail)


def _first_row(hit: NDArray[np.bool_], source: Source) -> str:
    if not hit.any():
        return ""
    return f"first in row {source.row_number(int(np.flatnonzero(hit)[0])):,}"


def count_days(days: NDArray[np.int32]) -> tuple[Ints, Ints]:
    """Return the distinct days in order and the rows of each, counted rather than sorted."""
    least = int(days.min())
    counts = np.zeros(int(days.max()) - least + 1, np.int64)
    for start in range(0, len(days), ROWS_PER_CHUNK):
        np.add.at(counts, days[start : start + ROWS_PER_CHUNK].astype(np.int64) - least, 1)
    there = np.flatnonzero(counts)
    return there + least, counts[there]


def _look_for_sentinels(present: Ints, counts: Ints, findings: Findings) -> None:
    rows = int(counts.sum())
    for text in _SENTINELS:
        count = int(counts[present == ordinal(text)].sum())
        if count > 2 * rows / len(present):
            findings.add(
                "perhaps no date",
                text,
                count,
                f"use --blank-date {text} if it means that there is no date",
            )
    far = (present < ordinal("1900-01-01")) | (present > ordinal(dt.date.today()) + 3653)
    if far.any():
        findings.add(
            "implausible dates",
            f"such as {as_date(int(present[far][0]))}",
            int(counts[far].sum()),
            "before 1900 or over ten years ahead",
        )
