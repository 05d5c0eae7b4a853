"""`FileRules`, `DateRules` and their like: how files, dates, numbers and columns are read."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import field, replace
from fnmatch import translate
from pathlib import Path
from typing import Any, Literal, TypeAlias, get_args

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.month import MonthCalendar
from eptaro.errors import DateError, InputError, MeasureError, unknown
from eptaro.option import option
from eptaro.record import Record, record


def usual_delimiter(decimal: str) -> str:
    """Return what sets fields apart unless it is given: semicolons beside decimal commas."""
    return ";" if decimal == "," else ","


@record(guarded=True)
class FileRules(Record):
    """How files are written: the mark between CSV fields, their encoding, the decimal mark, the
    line of their column names; the sheet of a workbook; the query for a database; and of a file
    whose ending says nothing, its kind.

    Parameters
    ----------
    delimiter : str
        The mark between CSV fields.
    encoding : str
        Of CSV files.
    decimal : {".", ","}
        The decimal mark in CSV files.
    header_row : int or "none"
        The line of a CSV file that names the columns, from 1; those above it are passed over. In
        a file without such a line, columns are called `c1`, `c2` and so on.
    like : str, optional
        The ending that files are read by, whatever theirs is, such as `csv`.
    sheet : str, optional
        The sheet of a workbook, by default the first.
    query : str, optional
        With a database address for a file: the rows to read.

    Raises
    ------
    InputError
        For a rule that cannot be.

    Examples
    --------
    >>> FileRules(delimiter=";", decimal=",").header_row
    1
    """

    delimiter: str = option(
        "", help="The character between the fields of a CSV file.", metavar="MARK", heading="files"
    )
    encoding: str = option(
        "utf-8",
        help="The encoding of a CSV file, such as latin-1.",
        metavar="NAME",
        heading="files",
    )
    decimal: Literal[".", ","] = option(".", help="The decimal mark in CSV files.", heading="files")
    header_row: int | Literal["none"] = option(
        1,
        help="The line of a CSV file that names the columns, where there are lines above it; none: "
        "no line does, and columns are called c1, c2, ...",
        metavar="N|none",
        heading="files",
    )
    like: str | None = option(
        None,
        help="Read files as if they had this ending, such as csv for a .txt.",
        metavar="ENDING",
        heading="files",
    )
    sheet: str | None = option(
        None, help="The sheet of a workbook.", metavar="NAME", heading="files"
    )
    query: str | None = option(
        None,
        help="With a database address for FILE: the rows to read.",
        metavar="SQL",
        heading="files",
    )

    @property
    def lines_above(self) -> int:
        """How many lines are above the first row, or above the line that names the columns."""
        return 0 if self.header_row == "none" else self.header_row - 1

    def __post_init__(self) -> None:
        if not self.delimiter:
            object.__setattr__(self, "delimiter", usual_delimiter(self.decimal))
        if len(self.delimiter) != 1 or not self.delimiter.isascii() or self.delimiter in '"\r\n':
            raise InputError(f"delimiter={self.delimiter!r} is not one character such as , or ;")
        lines = isinstance(self.header_row, int) and self.header_row >= 1
        if self.header_row != "none" and not lines:
            raise InputError(
                f"header_row={self.header_row!r} is neither a line of a file, from 1, nor none"
            )
        if self.decimal not in (".", ","):
            raise InputError(f"decimal={self.decimal!r} is neither . nor ,")
        if self.decimal == self.delimiter:
            raise InputError("delimiter and decimal are the same mark; give two different ones")
        try:
            b"a".decode(self.encoding)
        except UnicodeError:  # it is one, of which a single letter is no text
            pass
        except (LookupError, ValueError):
            raise InputError(
                f"encoding={self.encoding!r} is not a text encoding; try utf-8 or latin-1"
            ) from None


Mark: TypeAlias = Literal[",", ".", " ", "'"]


@record(guarded=True)
class NumberRules(Record):
    """How numbers are written in columns of text.

    Without any rule: digits with a sign and a decimal mark, such as -1234.50.

    Parameters
    ----------
    decimal : {".", ","}, optional
        The decimal mark; unset, a point, or that of the files.
    thousands : {",", ".", " ", "'"}, optional
        The mark between groups of three digits; a space is also a narrow or a fixed one.
    strip : str or sequence of str
        What may precede or follow a number and is not part of it: `$`, `EUR`, `kg`.
    brackets : bool
        Numbers in brackets are negative: (12) is -12.
    trailing_minus : bool
        The sign may follow: 12- is -12.
    percent : bool
        Numbers before a percent sign are hundredths: 5% is 0.05.
    blanks : str or sequence of str
        Words that mean that there is no number, such as `NA`.

    Raises
    ------
    MeasureError
        For a rule that cannot be.

    Examples
    --------
    >>> NumberRules(decimal=",", thousands=".").thousands
    '.'
    """

    decimal: Literal[".", ","] | None = None
    thousands: Mark | None = option(None, help="The thousands separator.", heading="files")
    strip: Sequence[str] = option(
        (),
        help="A sign or unit beside numbers, such as $ or kg. May be given again.",
        metavar="WORD",
        heading="files",
    )
    brackets: bool = option(False, help="Numbers in brackets are negative.", heading="files")
    trailing_minus: bool = option(
        False, help="A minus sign may follow the number: 12-.", heading="files"
    )
    percent: bool = option(
        False, help="Divide numbers before a % sign by 100.", name="percents", heading="files"
    )
    blanks: Sequence[str] = option(
        (),
        help="Text that means no number, such as NA. May be given again.",
        metavar="WORD",
        name="blank-number",
        heading="files",
    )

    def __post_init__(self) -> None:
        if self.decimal not in (None, ".", ","):
            raise MeasureError(f"decimal={self.decimal!r} is neither . nor ,")
        if self.thousands is not None and self.thousands not in get_args(Mark):
            raise MeasureError(unknown("value for thousands", self.thousands, get_args(Mark)))
        if self.thousands is not None and self.thousands == (self.decimal or "."):
            raise MeasureError("decimal and thousands are the same mark; give two different ones")
        for name in ("strip", "blanks"):
            columns = getattr(self, name)
            words = (columns,) if isinstance(columns, str) else tuple(columns)
            if name == "strip" and any(not w.strip() or _DIGITS & {*w} for w in words):
                raise MeasureError(f"strip={list(words)} must be words or signs without digits")
            object.__setattr__(self, name, words)


_DIGITS = {*"0123456789"}
Numbers: TypeAlias = 'NumberRules | Literal["strict", "infer"] | None'


def number_rules(rules: object) -> NumberRules | Literal["infer"] | None:
    """Return the rules given, `infer`, or None where only plain numbers are taken."""
    if rules is None or rules == "strict":
        return None
    if rules == "infer":
        return "infer"
    if not isinstance(rules, NumberRules):
        raise MeasureError(
            f"numbers={rules!r} is neither strict, infer nor NumberRules(thousands=',')"
        )
    return rules


_SAID = re.compile(r"(.+?)(?:\s+as\s+([^,]+?)\s*,\s*([^,]+?))?\s*")


@record(guarded=True)
class Across(Record):
    """Columns of a wide table that become rows: each value with the name of its column.

    Parameters
    ----------
    columns : str or sequence of str
        `2019..2024`, from one column through another, in their order; their names, also as one
        text: `beef, pork, lamb`; a pattern such as `fare *`; or one such as `people_{year}`, of
        which the part in braces is kept as the name.
    name : str
        The column that holds their names: dates, periods or groups.
    value : str
        The column that holds their values.

    Examples
    --------
    >>> Across("2019..2021", "year", "fares").among(["route", "2019", "2020", "2021"], "a.csv")
    ['2019', '2020', '2021']
    """

    columns: str | Sequence[str]
    name: str = "period"
    value: str = "value"

    def among(self, names: Sequence[str], source: str) -> list[str]:
        """Return the columns among all names.

        Parameters
        ----------
        names : sequence of str
            The columns of the table, in their order.
        source : str
            What the table is called in messages.

        Raises
        ------
        InputError
            Where there are none.

        Examples
        --------
        >>> Across("people_{year}", "year", "people").among(
        ...     ["town", "people_2019", "people_2020"], "towns.csv")
        ['people_2019', 'people_2020']
        """
        known_names = [*names]
        listed = self.columns
        if isinstance(listed, str) and "," in listed and listed not in known_names:
            listed = [name.strip() for name in listed.split(",") if name.strip()]
        if not isinstance(listed, str):
            for place, name in enumerate(listed):
                if name not in known_names:
                    raise InputError(f"{source}: {unknown('column', name, known_names)}")
                if name in listed[:place]:
                    raise InputError(f"{source}: across names {name!r} twice; name it once")
            return list(listed)
        first, dots, last = listed.partition("..")
        if dots:
            for name in (first, last):
                if name not in known_names:
                    raise InputError(f"{source}: across: {unknown('column', name, known_names)}")
            begin, end = known_names.index(first), known_names.index(last)
            if begin > end:
                raise InputError(f"{source}: across: {last!r} comes before {first!r}")
            return known_names[begin : end + 1]
        capture = self._capture
        fits = capture.fullmatch if capture else re.compile(translate(listed)).match
        fitting = [name for name in known_names if fits(name)]
        if not fitting:
            raise InputError(
                f"{source}: across: no column fits {self.columns!r}; {known_names} are there"
            )
        return fitting

    @property
    def _capture(self) -> re.Pattern[str] | None:
        """The pattern that captures a part of the columns' names, where there are braces."""
        match = _BRACES.fullmatch(self.columns) if isinstance(self.columns, str) else None
        if match is None:
            return None
        return re.compile(f"{re.escape(match[1])}(.+){re.escape(match[3])}")

    def labels(self, wide: Sequence[str]) -> list[str]:
        """Return what columns across are called in the rows: their names, or the part of each that
        the braces of a pattern capture.

        Parameters
        ----------
        wide : sequence of str
            The columns across.

        Examples
        --------
        >>> Across("people_{year}", "year", "people").labels(["people_2019", "people_2020"])
        ['2019', '2020']
        """
        capture = self._capture
        if capture is None:
            return list(wide)
        return [match[1] for name in wide if (match := capture.fullmatch(name))]

    def long_names(self, names: Sequence[str], source: str) -> list[str]:
        """Return the columns of the rows that a table with these columns becomes.

        Parameters
        ----------
        names : sequence of str
            The columns of the table, in their order.
        source : str
            What the table is called in messages.

        Raises
        ------
        InputError
            Where another column is called as those that come of it are.

        Examples
        --------
        >>> Across("people_{year}", "year", "people").long_names(
        ...     ["town", "people_2019"], "towns.csv")
        ['town', 'year', 'people']
        """
        wide = self.among(names, source)
        rest = [name for name in names if name not in wide]
        for name in (self.name, self.value):
            if name in rest:
                raise InputError(
                    f"{source}: there is a column {name!r}; name the new columns otherwise: "
                    f"across='{wide[0]}..{wide[-1]} as NAME, VALUE'"
                )
        return [*rest, self.name, self.value]


_BRACES = re.compile(r"(.*)\{(\w+)\}(.*)")


def across_of(across: object) -> Across | None:
    """Return what columns become rows, also of a text: `2019..2024 as year, fares`.

    >>> across_of("2019..2024 as year, fares").value
    'fares'
    """
    if across is None or isinstance(across, Across):
        return across
    match = _SAID.fullmatch(across) if isinstance(across, str) else None
    if match is None:
        raise InputError(
            f"across={across!r} names no columns; write '2019..2024' or '2019..2024 as year, fares'"
        )
    if match[2] is None:
        captured = _BRACES.fullmatch(match[1])
        return Across(match[1], captured[2]) if captured else Across(match[1])
    return Across(match[1], match[2], match[3])


@record(guarded=True)
class Lookup:
    """A table beside the rows: each row takes the columns of the line with its key.

    Its other columns can then be used in groups, conditions and measures, and as the date; one that
    is called like a column of the rows is called `ships.name`, after the table. Where it has a
    column `first`, its lines hold from that day on, through the day in `through` or, where that is
    blank or missing, until the next line of the same key begins; a row takes the one that holds on
    its date.

    Numbers in text are exact up to nine decimals, and floats beyond, as rates are that were
    divided out.

    Parameters
    ----------
    table : str, Path, frame or mapping
        A file of any kind that is read, a frame, or, for `from_sql`, a table of the database.
    key : str
        The column of the rows.
    other : str, optional
        The key column of the table, by default of the same name.
    first : str
        What the column of first days is called.
    through : str
        What the column of last days is called.
    files : FileRules, optional
        How a file is written; with a database address, the query for its lines.

    Examples
    --------
    >>> Lookup("ships.csv", "ship", "name").other
    'name'
    """

    table: Any
    key: str
    other: str | None = None
    first: str = "from"
    through: str = "through"
    files: FileRules | None = None

    @property
    def key_of_table(self) -> str:
        """The key column of the table."""
        return self.other or self.key

    def exposed_names(self, names: Sequence[str], taken: Iterable[str]) -> dict[str, str]:
        """Return what rows call the table's columns: their names, or `ships.name` for taken ones.

        Parameters
        ----------
        names : sequence of str
            The columns.
        taken : iterable of str
            The names that rows have already.

        Examples
        --------
        >>> Lookup("data/ships.csv", "ship").exposed_names(["built", "name"], ["name"])
        {'built': 'built', 'ships.name': 'name'}
        """
        names_taken = {*taken}
        stem = Path(self.table).stem if isinstance(self.table, str | Path) else "lookup"
        return {f"{stem}.{name}" if name in names_taken else name: name for name in names}


Lookups: TypeAlias = "Lookup | Mapping[str, str] | Sequence[Lookup] | None"


def lookups_of(lookups: object) -> list[Lookup]:
    """Return the lookups given: some, or a mapping of files to keys (`ship` or `ship=name`).

    >>> [lookup.key_of_table for lookup in lookups_of({"ships.csv": "ship=name"})]
    ['name']
    """
    if lookups is None:
        return []
    if isinstance(lookups, Lookup):
        return [lookups]
    if isinstance(lookups, Mapping):
        return [_parse_key(table, key) for table, key in lookups.items()]
    if isinstance(lookups, Sequence) and all(isinstance(lookup, Lookup) for lookup in lookups):
        return list(lookups)
    raise InputError(
        f"lookups={lookups!r} does not name tables and their keys; write {{'ships.csv': 'ship'}} "
        f"or Lookup('ships.csv', 'ship')"
    )


def parse_lookup(text: str) -> Lookup:
    """Return a lookup written as `ships.csv:ship` or `ships.csv:ship=name`.

    >>> parse_lookup("ships.csv:ship=name").key
    'ship'
    """
    table, _, key = text.rpartition(":")
    if not table or not key:
        raise InputError(f"lookup {text!r} names no key; write ships.csv:ship or ships.csv:a=b")
    return _parse_key(table, key)


def _parse_key(table: Any, key: object) -> Lookup:
    own, _, other = str(key).partition("=")
    return Lookup(table, own.strip(), other.strip() or None)


Order: TypeAlias = Literal["ymd", "dmy", "mdy", "infer"]
Serials: TypeAlias = Literal["1900", "1904"]
Unix: TypeAlias = Literal["s", "ms", "us", "ns"]
TimeUnit: TypeAlias = Literal["hours", "minutes", "seconds", "hhmm"]
Weeks: TypeAlias = Literal[
    "ending monday",
    "ending tuesday",
    "ending wednesday",
    "ending thursday",
    "ending friday",
    "ending saturday",
    "ending sunday",
    "starting monday",
    "starting tuesday",
    "starting wednesday",
    "starting thursday",
    "starting friday",
    "starting saturday",
    "starting sunday",
]
WeekIn: TypeAlias = Literal["last day", "most days"]
BadDates: TypeAlias = Literal["raise", "reject"]
Grains: TypeAlias = Literal["day", "week", "month", "quarter", "year"]

_ACCEPTED = {
    "order": Order,
    "serials": Serials,
    "unix": Unix,
    "grain": Grains,
    "time_in": TimeUnit,
    "weeks": Weeks,
    "week_in": WeekIn,
    "bad_dates": BadDates,
}


@record(guarded=True)
class DateRules(Record):
    """How a column of dates is to be read.

    Without any rule: date and timestamp types, ISO text, and yyyymmdd as number or text.

    Parameters
    ----------
    order : str, optional
        How text orders its day, month and year: `ymd`, `dmy` or `mdy`, also where a date is
        written as digits only, in text or as a number (20082025); `infer` decides on the
        evidence of the whole column or refuses.
    formats : str or sequence of str
        C-style directives such as `%d.%m.%Y`, tried in turn.
    locale : str
        The language of month names.
    pivot : int, optional
        Two-digit years up to it are 2000s.
    serials : {"1900", "1904"}, optional
        Numbers count days from then.
    unix : {"s", "ms", "us", "ns"}, optional
        Numbers count time since 1970-01-01 UTC.
    zone : str, optional
        Times with an offset are turned into this zone's.
    time : str, optional
        The column of the times of day, where dates are in another: `11:38:36`, `5:00 p.m.`, or a
        number of hours.
    time_in : {"hours", "minutes", "seconds", "hhmm"}, optional
        What numbers in that column count since midnight; 1730 as `hhmm` is half past five.
    day_starts : str
        Times before it belong to the day before; a column of midnights stays as it is.
    blanks : str or sequence of str
        Values that count as blank.
    bad_dates : {"raise", "reject"}
        Stop, or go on without those rows and say so.
    weeks : str, optional
        Each date is a week, known by the day that it ends or starts on: `ending friday`,
        `starting sunday`.
    week_in : {"last day", "most days"}, optional
        Of data dated by weeks: the month, quarter or year that a week counts in where it lies in
        two. Without it such totals are refused.
    grain : {"day", "week", "month", "quarter", "year"}, optional
        The periods that dates represent: a day must then be the first or the last of one (a
        Monday, of ISO weeks), and numbers such as 200601 and 1987 are months and years.
        Unset, it is determined by how dates are written: `2006-01`, `Jan 2006`, `1960-Q1`,
        `2024-W05`.
    fiscal_periods : bool or Calendar
        Dates are periods of the book's calendar, or of the one given, and no civil ones:
        `FY2025-M03`, `2025-Q1`, `2024/25` and, where `grain` says what numbers are, 202503.
        `date(year, month, 1)` and `week(year, number)` are then months and weeks of that calendar.

    Raises
    ------
    DateError
        For a rule that cannot be.

    Examples
    --------
    >>> DateRules(order="dmy").order
    'dmy'
    """

    order: Order | None = option(
        None,
        help="How the parts of date text are ordered; infer goes by the evidence.",
        heading="dates",
    )
    formats: Sequence[str] = option(
        (),
        help="How dates are written, such as %d.%m.%Y. May be given again.",
        metavar="FORMAT",
        name="date-format",
        heading="dates",
    )
    locale: str = option(
        "en",
        help="The language of month names in dates, such as fr.",
        metavar="LOCALE",
        name="month-names",
        heading="dates",
    )
    pivot: int | None = option(
        None,
        help="Two-digit years up to this one are in the 2000s, later ones in the 1900s.",
        least=0,
        most=99,
        heading="dates",
    )
    serials: Serials | None = option(
        None, help="Dates are numbers of days, as spreadsheets store them.", heading="dates"
    )
    unix: Unix | None = option(
        None,
        help="Dates are numbers of seconds (or ms, us, ns) since 1970-01-01 UTC.",
        heading="dates",
    )
    zone: str | None = option(
        None,
        help="The time zone of the days, for times with an offset: Europe/Lisbon.",
        metavar="NAME",
        heading="dates",
    )
    time: str | None = option(
        None,
        help="The column of the times of day, where dates are in another.",
        metavar="COLUMN",
        heading="dates",
    )
    time_in: TimeUnit | None = option(
        None,
        help="The unit of numbers in that column; 1730 as hhmm is half past five.",
        heading="dates",
    )
    day_starts: str = option(
        "00:00",
        help="When a day starts; earlier times belong to the day before.",
        metavar="HH:MM",
        shown=True,
        heading="dates",
    )
    blanks: Sequence[str] = option(
        (),
        help="A value that means no date, such as 1900-01-01. May be given again.",
        metavar="VALUE",
        name="blank-date",
        heading="dates",
    )
    bad_dates: BadDates = option(
        "raise",
        help="Stop at dates that cannot be read, or go on without their rows.",
        heading="dates",
    )
    weeks: Weeks | None = option(
        None,
        metavar="WHICH",
        help="Each date means the week that ends, or starts, on it: 'ending friday'.",
        heading="dates",
    )
    week_in: WeekIn | None = option(
        None,
        metavar="RULE",
        help="Where a week that straddles two months or years counts: in that of its "
        "'last day' or of 'most days'.",
        heading="dates",
    )
    grain: Grains | None = option(
        None,
        help="The period that each date represents, where its form does not show it: 200601, 1987.",
        heading="dates",
    )
    fiscal_periods: bool | Calendar = option(
        False,
        help="Dates are periods of the fiscal calendar: FY2025-M03, 2025-Q1, 202503.",
        heading="dates",
    )
    shift: int = field(default=0, init=False, repr=False)  # day_starts in microseconds

    def __post_init__(self) -> None:
        for name, accepted in _ACCEPTED.items():
            value = getattr(self, name)
            if value is not None and value not in get_args(accepted):
                raise DateError(unknown(f"value for {name}", value, get_args(accepted)))
        if self.pivot is not None and not 0 <= self.pivot <= 99:
            raise DateError(f"pivot={self.pivot} must be a two-digit year, 0 to 99")
        if self.zone is not None:
            from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

            try:
                ZoneInfo(self.zone)
            except (ZoneInfoNotFoundError, ValueError, OSError):
                raise DateError(
                    f"zone={self.zone!r} is not a time zone; use a name such as Europe/Lisbon"
                ) from None
        match = re.fullmatch(r"([01]\d|2[0-3]):([0-5]\d)", str(self.day_starts))
        if not match:
            raise DateError(f"day_starts={self.day_starts!r} is not a time of day; write 04:00")
        micros = (int(match[1]) * 60 + int(match[2])) * 60_000_000
        object.__setattr__(self, "shift", micros)
        for name in ("formats", "blanks"):
            setting = getattr(self, name)
            object.__setattr__(
                self, name, (setting,) if isinstance(setting, str) else tuple(setting)
            )
        ways = [n for n in ("order", "formats", "serials", "unix") if getattr(self, n)]
        if self.weeks is not None and self.grain not in (None, "week"):
            raise DateError(f"weeks={self.weeks!r} and grain={self.grain!r} contradict each other")
        ways += [n for n in ("fiscal_periods", "weeks") if getattr(self, n)]
        if self.fiscal_periods and self.grain == "day":
            raise DateError("fiscal_periods and grain='day' contradict each other; give one")
        if len(ways) > 1 and (self.fiscal_periods or ways[-1] != "weeks"):
            raise DateError(f"{' and '.join(ways)} contradict each other; give one")


def date_rules(own_rules: DateRules | None, zone: str | None = None) -> DateRules:
    """Return the rules given, or those that take only what is plain, in a zone if one is given."""
    if own_rules is not None and not isinstance(own_rules, DateRules):
        raise DateError(f"dates={own_rules!r} is not a DateRules; write DateRules(order='dmy')")
    rules = own_rules or DateRules()
    return rules if zone is None else replace(rules, zone=zone)


def in_calendar(rules: DateRules, calendar: Calendar) -> DateRules:
    """Return rules whose fiscal periods, where no calendar of theirs is given, are those of one;
    the civil calendar is none that anyone would mean.

    >>> from eptaro.core.calendars.week import WeekCalendar
    >>> rules = DateRules(fiscal_periods=True)
    >>> in_calendar(rules, MonthCalendar()).fiscal_periods
    True
    >>> in_calendar(rules, WeekCalendar("shops")).fiscal_periods.name
    'shops'
    """
    if rules.fiscal_periods is not True or calendar == MonthCalendar():
        return rules
    return replace(rules, fiscal_periods=calendar)
