"""The settings that result from the shared options and an `eptaro.toml`."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from eptaro.book import Book
from eptaro.cli.data_options import DataOptions, ReadingOptions, fold_inputs, open_books
from eptaro.cli.messages import notify, report_rejected, shown_progress
from eptaro.cli.options import CalendarOptions, RuleOptions
from eptaro.cli.process import leave_pandas_out
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import as_date, as_of_day
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.expressions.tree import Name
from eptaro.core.query.own_calendars import OwnCalendars
from eptaro.core.query.query import EVERY, name_of
from eptaro.core.results.format import Format, check_formats
from eptaro.daybook import Daybook
from eptaro.errors import InputError, MeasureError, QuestionError, unknown
from eptaro.inputs.options import AddOptions, FileOptions
from eptaro.paths import scheme_of
from eptaro.progress import log_time
from eptaro.record import Record, record
from eptaro.rules import DateRules, FileRules, in_calendar

if TYPE_CHECKING:
    from eptaro.inputs.config import Config

_MONTH = ("year_starts", "first_week_days")
_WEEK = ("pattern", "year_ends", "ends", "long_month")
_BOTH = ("year_named", "prefix", "week_starts")
_USES = "; a measure is given with --measure, a group column with --by, a level with --per"


@record
class Settings(Record):
    """The calendars, workdays and config that a command works with."""

    rules: RuleOptions

    @cached_property
    def config(self) -> Config | None:
        """The config, where one is named: of a single data set, where one of several is."""
        asked = self._data_names
        if self.rules.config is None:
            if asked:
                raise click.UsageError("--data names a data set of a --config; give one")
            return None
        from eptaro.inputs.config import read_config

        config = read_config(self.rules.config)
        return config.of_data_set(asked[0]) if len(asked) == 1 else config

    @property
    def _data_names(self) -> tuple[str, ...]:
        """The data sets that are asked for by name."""
        return self.rules.data_sets if isinstance(self.rules, CalendarOptions) else ()

    @cached_property
    def _rule(self) -> dict[str, Any]:
        """The options that describe a calendar of their own."""
        rule = {name: getattr(self.rules, name) for name in (*_MONTH, *_WEEK, *_BOTH)}
        return {name: value for name, value in rule.items() if value is not None}

    @property
    def describes_calendar(self) -> bool:
        """Whether options describe a calendar of their own."""
        return bool(self._rule)

    @property
    def named(self) -> str | None:
        """The calendar that is asked for by name."""
        return self.rules.calendar if isinstance(self.rules, CalendarOptions) else None

    def calendar(self, name: str | None) -> Calendar:
        """Return the calendar that is named, described by options, or the data set's."""
        if name is not None and self._rule:
            option = next(iter(self._rule)).replace("_", "-")
            raise click.UsageError(f"--calendar and --{option} both choose a calendar; give one")
        if self._rule:
            return _from_rule(self._rule)
        if self.config is not None:
            fallback = self.config.data.calendar if self.config.data else "calendar"
            return self.config.calendar(name or fallback)
        if name not in (None, "calendar"):
            raise click.UsageError(f"--calendar {name} needs a --config that defines it")
        return MonthCalendar()

    def named_calendar(self, name: str) -> Calendar:
        """Return a calendar by its name in the config; without a config there are civil years."""
        if self.config is not None:
            return self.config.calendar(name)
        if name != "calendar":
            raise click.UsageError(f"the calendar {name!r} needs a --config that defines it")
        return MonthCalendar()

    def workdays(self, span: Span) -> Workdays:
        """Return the workdays around a span: of the config, or Monday to Friday, with the holidays
        that an option names.
        """
        first, last = span.first.year, span.last.year
        holidays = None
        if self.rules.holidays is not None:
            from eptaro.inputs.holidays import find_holidays

            holidays = find_holidays(self.rules.holidays, max(first - 1, 1), min(last + 1, 9999))
        if self.config is None:
            workdays = Workdays(holidays=holidays)
        else:
            workdays = self.config.workdays(first, last, holidays)
        days = workdays.holidays.days
        if len(days) and not ((days >= span.lo) & (days <= span.hi)).any() and first < last:
            notify(
                f"no holiday of {self.rules.holidays or self.rules.config} is in the years {first} "
                f"to {last}: they are from {as_date(int(days[0]))} to {as_date(int(days[-1]))}"
            )
        return workdays

    @property
    def has_workdays(self) -> bool:
        """Whether the config or an option says which days are worked."""
        stated = self.config is not None and self.config.has_workdays
        return stated or self.rules.holidays is not None

    def book(
        self, data: DataOptions, reading: ReadingOptions, values: tuple[str, ...] = ()
    ) -> Book:
        """Read and fold the files that the options or the config name; `values` are columns
        whose values are looked at although no measure works on them. Several data sets of a config
        are asked as one.
        """
        if self.config is not None and self.config.data_sets and not data.files:
            return self._read_set(self.config, data, reading)
        return self._one(data, reading, values)

    def earlier(
        self,
        data: DataOptions,
        reading: ReadingOptions,
        before: Sequence[str],
        known_by: str | None,
        since: str | None,
    ) -> Daybook:
        """Return the book as it was: of files `before`, or of rows known by a day."""
        if bool(before) == bool(known_by):
            raise click.UsageError("give --before FILE, or --known COLUMN with --since DATE")
        if (known_by is None) != (since is None):
            raise click.UsageError("--known COLUMN and --since DATE go together")
        if known_by is None or since is None:
            return self.daybook(replace(data, files=tuple(before)), reading)
        condition = f"{Name(known_by)} <= '{as_date(as_of_day(since))}'"
        if where := data.rows.get("where"):
            condition = f"({where}) and {condition}"
        return self.daybook(replace(data, rows={**data.rows, "where": condition}), reading)

    def daybook(self, data: DataOptions, reading: ReadingOptions) -> Daybook:
        """Read and fold the files of one data set, that of the config or the one that is named."""
        if not data.files:
            self.check_one_data_set()
        return self._one(data, reading, ())

    def check_one_data_set(self) -> None:
        """Raise `click.UsageError` where the config has several data sets and none is named."""
        if self.config is not None and self.config.data_sets:
            raise click.UsageError(
                f"{self.config.path} has several data sets: name one with --data, of "
                f"{', '.join(self.config.data_sets)}"
            )

    def _read_set(self, config: Config, data: DataOptions, reading: ReadingOptions) -> Book:
        """Return the data sets of a config, or those that are named, as one."""
        from eptaro.book_set import BookSet
        from eptaro.inputs.files.csv import files_read_once

        flags = [*data.flags, *reading.flags]
        if flags:
            raise click.UsageError(
                f"{flags[0]} is of one data set: write it into its part of {config.path}, or name "
                f"the data set with --data"
            )
        names = self._data_names or tuple(config.data_sets)
        files = Counter(
            file for name in dict.fromkeys(names) for file in config.of_data_set(name).files()
        )
        with files_read_once({file for file, times in files.items() if times > 1}):
            books = {name: self._data_set(name, data, reading) for name in dict.fromkeys(names)}
        for name in books:
            books[name] = self._spread(name, config.data_sets[name].spread, books)
        together = config.together
        calendar = self._calendar_of_set(config, names[0])
        for name in books:
            if "calendar" not in config.data_sets[name].model_fields_set:
                books[name] = books[name].with_calendar(calendar)
        book = BookSet(
            books,
            calendar=calendar,
            names={}
            if together is None
            else {n: c for n, c in together.names.items() if n in books},
        )
        store = book._store
        for name, formula in () if together is None else together.measures.items():
            try:
                store = store.measuring([*store.measures, f"{name}={formula}"])
            except MeasureError:
                if len(books) == len(config.data_sets):
                    raise
        if data.rows.get("measures"):
            store = store.measuring(data.rows["measures"])
        formats_of_set = together.formats if together is not None else {}
        formats = {
            n: Format(**one.model_dump(exclude_none=True)) for n, one in formats_of_set.items()
        }
        formats_given = check_formats(data.formats, [measure.name for measure in store.measures])
        book = BookSet._of(store.formatted({**formats, **formats_given}))
        asked = [*data.by, *_columns_narrowed_by(data.only)]
        for column, notes in book.notes_by_subject.items():
            for note in notes if column == "calendar" or column in asked else ():
                notify(f"{column}: {note}")
        return book

    def _spread(self, name: str, how: bool | str, books: Mapping[str, Daybook]) -> Daybook:
        """Return a book with its sums spread over days where its data set says so."""
        if not isinstance(how, str):
            return books[name].spread_over_days() if how else books[name]
        table, dot, measure = how.partition(".")
        if not dot or table not in books:
            raise QuestionError(
                f"data.{name}.spread={how!r} must be true, or name a measure of another data set, "
                f"of {', '.join(other for other in books if other != name)}: sales.revenue"
            )
        return books[name].spread_over_days(books[table], measure)

    def _data_set(self, name: str, data: DataOptions, reading: ReadingOptions) -> Daybook:
        """Return one data set of several, by its group columns and those of the question."""
        assert isinstance(self.rules, CalendarOptions)
        own = Settings(replace(self.rules, data_sets=(name,)))
        assert own.config is not None
        asked = [*data.by, *_columns_narrowed_by(data.only)]
        more = [column for column in asked if name_of(column) == column and column != EVERY]
        lacking = (
            _missing_columns(own.config.files(), more, own.file_rules(reading)) if more else []
        )
        rows = {"by": [column for column in more if column not in lacking]}
        one = replace(data, rows=rows, only=(), show=())
        return own._one(one, reading, (), name=name)

    def _calendar_of_set(self, config: Config, first: str) -> Calendar:
        """Return the calendar that a set is asked in, by default that of its first data set."""
        if self.named is not None or self.describes_calendar:
            return self.calendar(self.named)
        calendar_name = config.together.calendar if config.together else None
        return config.calendar(calendar_name or config.data_sets[first].calendar)

    def _one(
        self, data: DataOptions, reading: ReadingOptions, values: tuple[str, ...], *, name: str = ""
    ) -> Daybook:
        """Return one data set; notes begin with its `name` where it has one."""
        words = self.config.data if self.config else None
        files = list(data.files)
        if not files and words is not None and self.config:
            files = self.config.files()
        if not files:
            raise click.UsageError("Missing argument 'FILE...' (or a --config with [data]).")
        leave_pandas_out()
        opened = open_books(files, data)
        if opened is not None:
            _check_of_book(opened, data, reading)
            book = self._of_book(opened, data.rows.get("measures"))
            formats = check_formats(data.formats, [measure.name for measure in book.measures])
            return Daybook._of(book._store.formatted(formats)) if formats else book
        files, options = self.rows_to_fold(data, reading, values)
        with shown_progress(), log_time("read and folded"):
            book = fold_inputs(files, options, data)
        for note in book.notes:
            notify(f"{name}: {note}" if name else note)
        folded_rows = book._store.about.folded
        report_rejected(
            book.rejected, dict(folded_rows.left_out), reading.rejected, folded_rows.sources[0]
        )
        return book

    def rows_to_fold(
        self, data: DataOptions, reading: ReadingOptions, values: tuple[str, ...] = ()
    ) -> tuple[list[str], FileOptions]:
        """Return which files the options and the config name, and how they are folded."""
        words = self.config.data if self.config else None
        files_are_named = bool(data.files) or words is None
        files = list(data.files) if files_are_named or not self.config else self.config.files()
        own_options = self.config.row_options() if self.config else {}
        settings = {**own_options, **data.rows}
        if own_options.get("measures") and data.rows.get("measures"):
            settings["measures"] = _measures(data.rows["measures"], own_options["measures"])
        settings["lookups"] = [
            *data.rows.get("lookups", ()),
            *(self.config.lookups() if self.config else ()),
        ]
        if values and not settings.get("measures"):
            settings["measures"] = ["entries=count()"]
        for file in files:
            pattern = scheme_of(file) or file == "-" or any(mark in file for mark in "*?[")
            word = re.fullmatch(r"\w+|\w+=.*|.*\(.*\)", file)
            if (word or not settings.get("measures")) and not pattern and not Path(file).exists():
                raise InputError(f"{file}: there is no such file or folder{_USES if word else ''}")
        if not settings.get("measures"):
            raise click.UsageError("Missing option '--measure'.")
        file_rules = self.file_rules(reading)
        calendar, columns = self._calendars()
        of_config = [*(words.by if words else []), *columns]
        joins = settings["lookups"] or settings.get("across")
        if files_are_named and of_config and data.engine != "sql" and not joins:
            lacking = _missing_columns(files, of_config, file_rules)
            for name in lacking:
                notify(
                    f"{files[0]} has no column {name!r}: by = {name!r} of {self.rules.config} "
                    f"does not hold"
                )
            of_config = [name for name in of_config if name not in lacking]
            if {*columns} & {*lacking}:
                calendar = self.calendar(self.named)
        by = [*data.by, *of_config]
        if words and EVERY not in words.by:
            by = [name for name in by if name != EVERY]
        by += [name for name in _columns_narrowed_by(data.only) if name not in map(name_of, by)]
        settings |= {
            "by": list(dict.fromkeys(by)),
            "calendar": calendar,
            "coverage": _coverage(settings.get("coverage")),
            "dates": self.date_rules(reading),
            "files": file_rules,
            "formats": _formats(words, settings["measures"]) | data.formats,
            "workdays": self.workdays if self.config or self.has_workdays else None,
            "values": values,
            "numbers": reading.number_rules(self.config.number_rules() if self.config else None),
        }
        return files, FileOptions(**settings)

    def files_to_add(
        self, data: DataOptions, reading: ReadingOptions
    ) -> tuple[list[str], AddOptions]:
        """Return which files are added to a book, and how they are read, where that is given."""
        files = list(data.files) or self.rows_to_fold(data, reading)[0]
        rows = {name: data.rows[name] for name in data.rows if name not in _OF_BOOK}
        dates, file_rules = self.date_rules(reading), self.file_rules(reading)
        words = self.config.row_options() if self.config else {}
        return files, AddOptions(
            **rows | {"coverage": _coverage(rows.get("coverage") or words.get("coverage"))},
            dates=None if dates == DateRules() else dates,
            files=None if file_rules == FileRules() else file_rules,
            numbers=reading.number_rules(),
            workdays=self.workdays if self.has_workdays else None,
        )

    def _of_book(self, book: Daybook, measures: Sequence[str] | None) -> Daybook:
        """Return a book that was folded before, with the measures and on the calendar that the
        options ask for, and with the workdays of the config, where it declares some.
        """
        if measures:
            book = Daybook._of(book._store.measuring(measures))
        about = book._store.about
        calendar: Calendar | OwnCalendars = about.own or about.calendar
        if self.named is not None or self.describes_calendar:
            calendar = self.calendar(self.named)
        workdays = None
        if self.has_workdays:
            workdays = self.workdays(book.coverage)
            if workdays != book.workdays:
                named_by = self.rules.holidays or self.rules.config
                notify(
                    f"workdays: those of {named_by} ({workdays.describe()}), not those "
                    f"that the book was made with ({book.workdays.describe()})"
                )
        if calendar is (about.own or about.calendar) and workdays in (None, book.workdays):
            return book
        return book.with_calendar(calendar, workdays=workdays)

    def _calendars(self) -> tuple[Calendar | OwnCalendars, list[str]]:
        """Return the calendar asked for, or those that groups of the data set keep, and by
        which column they keep them.
        """
        own = self.config.own_calendars() if self.config else None
        if own is None or self.named is not None or self.describes_calendar:
            return self.calendar(self.named), []
        return own, [own.column]

    def date_rules(self, reading: ReadingOptions) -> DateRules:
        """Return the date rules of the options, over those of the config."""
        rules = reading.date_rules(self.config.date_rules() if self.config else None)
        return in_calendar(rules, self.calendar(self.named))

    def file_rules(self, reading: ReadingOptions) -> FileRules:
        """Return the file rules of the options, over those of the config."""
        return reading.file_rules(self.config.file_rules() if self.config else None)


_OF_BOOK = ("measures", "by", "where", "memory_limit")  # options that a book has its own of


def _coverage(coverage: Any) -> Any:
    """Return a coverage, which may be a file."""
    if not isinstance(coverage, str) or not coverage.lower().endswith(".csv"):
        return coverage
    from eptaro.inputs.goals_and_coverage import read_coverage

    return read_coverage(coverage)


def _check_of_book(book: Daybook, data: DataOptions, reading: ReadingOptions) -> None:
    """Raise `QuestionError` for an option on rows, which were folded already."""
    flags = [*data.flags, *reading.flags]
    if flags:
        raise QuestionError(
            f"{book.source} is a book, whose rows are folded already: leave {flags[0]} out, or "
            f"give the file of its rows"
        )


def _missing_columns(files: list[str], names: list[str], file_rules: FileRules) -> list[str]:
    """Return which columns of a config's data set a file does not have that is named instead."""
    from eptaro.inputs.files.opening import open_files

    columns = set(open_files(files, file_rules).names())
    return [name for name in names if name_of(name) == name and name not in {*columns, EVERY}]


def _columns_narrowed_by(only: tuple[str, ...]) -> list[str]:
    """Return the columns by whose values a question is narrowed, as in route=Norrow-Fenholm."""
    return [condition.partition("=")[0].strip() for condition in only if "=" in condition]


def _measures(asked: Sequence[str], own: Sequence[str]) -> list[str]:
    """Return the measures asked for, those of a config where they are named.

    Raises `QuestionError` for a name that the config does not have.
    """
    by_name = {spec.partition("=")[0].strip(): spec for spec in own}
    for spec in asked:
        if "(" not in spec and "=" not in spec and spec not in by_name:
            raise QuestionError(unknown("measure", spec, [*by_name]))
    return [by_name.get(spec, spec) for spec in asked]


def _formats(data: Any, measures: list[str]) -> dict[str, Format]:
    """Return the config's formats of the measures asked for."""
    names = [measure.partition("=")[0].strip() for measure in measures]
    formats = data.formats if data else {}
    return {
        name: Format(**formats[name].model_dump(exclude_none=True))
        for name in names
        if name in formats
    }


def _from_rule(rule: dict[str, Any]) -> Calendar:
    """Return the calendar that options describe, called fiscal unless it is civil years."""
    wrong = set(rule) & set(_MONTH if "pattern" in rule else _WEEK)
    if wrong:
        option = sorted(wrong)[0].replace("_", "-")
        goes = "does not go with" if "pattern" in rule else "goes with"
        raise QuestionError(f"--{option} {goes} --pattern, which makes years of whole weeks")
    if "pattern" in rule:
        from eptaro.core.calendars.week import WeekCalendar

        return WeekCalendar("fiscal", **rule)
    civil = rule.get("year_starts", "01-01") == "01-01" and not rule.get("prefix")
    return MonthCalendar("calendar" if civil else "fiscal", **rule)
