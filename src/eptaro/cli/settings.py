"""What the shared options and an `eptaro.toml` come to together."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from eptaro.cli.data import DataOptions, RowsToFold, folded, opened
from eptaro.cli.lean import leave_pandas_out
from eptaro.cli.options import CalendarOptions, RuleOptions
from eptaro.cli.reading import ReadingOptions
from eptaro.cli.told import Loudness, shown_progress, step, tell, tell_aside
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.week import WeekCalendar
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.questions.own_calendars import OwnCalendars
from eptaro.core.questions.scope import EVERY, name_of
from eptaro.core.tables.format import Format
from eptaro.daybook import Daybook
from eptaro.errors import InputError, QuestionError
from eptaro.inputs.smallfiles import read_coverage
from eptaro.places import scheme_of
from eptaro.rules.dates import DateRules
from eptaro.rules.files import FileRules
from eptaro.rules.lookups import Lookup, parse_lookup
from eptaro.version import build_info

if TYPE_CHECKING:
    from eptaro.inputs.config import Config

_MONTH = ("year_starts", "first_week_days")
_WEEK = ("pattern", "year_ends", "ends", "long_month")
_BOTH = ("year_named", "prefix", "week_starts")


@dataclass(frozen=True)
class Settings:
    """The calendars, workdays and config that a command works with."""

    rules: RuleOptions

    @cached_property
    def config(self) -> Config | None:
        """The config, where one is named."""
        if self.rules.config is None:
            return None
        from eptaro.inputs.config import read_config

        return read_config(self.rules.config)

    @cached_property
    def _rule(self) -> dict[str, Any]:
        """The options that describe a calendar of their own."""
        rule = {name: getattr(self.rules, name) for name in (*_MONTH, *_WEEK, *_BOTH)}
        return {name: value for name, value in rule.items() if value is not None}

    @property
    def ruled(self) -> bool:
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

    def workdays(self, span: Span) -> Workdays:
        """Return the workdays around a span: of the config, or Monday to Friday."""
        if self.config is None:
            return Workdays()
        return self.config.workdays(span.first.year, span.last.year)

    def book(
        self, data: DataOptions, reading: ReadingOptions, values: tuple[str, ...] = ()
    ) -> Daybook:
        """Read and fold the files that the options or the config name; `values` are columns
        whose values are looked at although no measure works on them.
        """
        told = self.config.data if self.config else None
        own = not data.files and told is not None
        files = list(data.files)
        if own and self.config:
            files = self.config.files()
        if not files:
            raise click.UsageError("Missing argument 'FILE...' (or a --config with [data]).")
        measures = self._measures(data)
        leave_pandas_out()
        kept = opened(files, data)
        if kept is not None:
            return self._of_book(kept, measures)
        rows = self.rows_to_fold(data, reading, values)
        with shown_progress(), step("read and folded"):
            book = folded(rows, data)
        _tell_decided(book)
        for note in book.notes:
            tell(note)
        tell_aside(book.aside, dict(book.folded.left_out), reading.aside, book.folded.sources[0])
        return book

    def rows_to_fold(
        self, data: DataOptions, reading: ReadingOptions, values: tuple[str, ...] = ()
    ) -> RowsToFold:
        """Return which rows the options and the config name, and how they are folded."""
        told = self.config.data if self.config else None
        own = not data.files and told is not None
        files = self.config.files() if own and self.config else list(data.files)
        measures = self._measures(data)
        if values and not measures:
            measures = ["entries=count()"]
        if not measures:
            for file in files:  # of a book that is not there nothing else would be missing
                pattern = scheme_of(file) or file == "-" or any(mark in file for mark in "*?[")
                if not pattern and not Path(file).exists():
                    raise InputError(f"{file}: there is no such file or folder")
            raise click.UsageError("Missing option '--measure'.")
        calendar, columns = self._calendars(own=own)
        by = [*data.by, *(told.by if own and told else []), *columns]
        if told and own and EVERY not in told.by:
            by = [name for name in by if name != EVERY]
        by += [name for name in _narrowed_by(data.only) if name not in map(name_of, by)]
        return RowsToFold(
            files,
            data.date or (told.date if told else None),
            measures,
            list(dict.fromkeys(by)),
            calendar,
            self._coverage(data.coverage, own=own),
            self.date_rules(reading),
            self.file_rules(reading),
            _formats(told, measures),
            None if self.config is None else self.workdays,
            values,
            data.where or (told.where if own and told else None),
            reading.number_rules(told.number_rules() if told else None),
            [*map(parse_lookup, data.lookups), *self._lookups(own=own)],
            data.columns_across or (told.across if own and told else None),
        )

    def _measures(self, data: DataOptions) -> list[str]:
        """Return the measures of the options, else of the config."""
        told = self.config.data if self.config else None
        if data.measures or told is None:
            return list(data.measures)
        return [f"{name}={formula}" for name, formula in told.measures.items()]

    def _coverage(self, given: str | None, *, own: bool) -> Any:
        """Return the coverage of the options, which may be a file, or of the config."""
        if given is not None and given.lower().endswith(".csv"):
            return read_coverage(given)
        told = self.config.data if own and self.config else None
        return given or (told.coverage if told else None)

    def _lookups(self, *, own: bool) -> list[Lookup]:
        """Return the lookups of the config, where its data set is asked."""
        return self.config.lookups() if own and self.config else []

    def _of_book(self, book: Daybook, measures: list[str]) -> Daybook:
        """Return a book that was folded before, on the calendar that the options ask for."""
        if measures:
            names = ", ".join(measure.name for measure in book.measures)
            raise QuestionError(
                f"{book.source} is a book, whose measures are {names}; leave --measure out"
            )
        if self.named is not None or self.ruled:
            return book.using(self.calendar(self.named))
        return book

    def _calendars(self, *, own: bool) -> tuple[Calendar | OwnCalendars, list[str]]:
        """Return the calendar asked for, or those that groups of the data set keep, and by
        which column they keep them.
        """
        kept = self.config.own_calendars() if own and self.config else None
        if kept is None or self.named is not None or self.ruled:
            return self.calendar(self.named), []
        return kept, [kept.column]

    def date_rules(self, reading: ReadingOptions) -> DateRules:
        """Return the date rules of the options, over those of the config."""
        told = self.config.data if self.config else None
        return reading.date_rules(told.date_rules() if told else None)

    def file_rules(self, reading: ReadingOptions) -> FileRules:
        """Return the file rules of the options, over those of the config."""
        told = self.config.data if self.config else None
        return reading.file_rules(told.file_rules() if told else None)


def _tell_decided(book: Daybook) -> None:
    """Tell what was decided before the question was asked."""
    count, groups = f"{book.rows:,} transactions", f"{book.groups.count:,} groups"
    for line in (
        f"read: {count} of {book.source}, {groups}, dated by the {book.folded.grain}",
        f"calendar: {book.calendar.describe()}",
        f"days known: {book.coverage}",
        f"measures: {', '.join(f'{m.name} = {m.formula}' for m in book.measures)}",
        f"kernel: {build_info()['kernel']}",
    ):
        tell(line, Loudness.VERBOSE)


def _narrowed_by(only: tuple[str, ...]) -> list[str]:
    """Return the columns by whose values a question is narrowed, as in route=Norrow-Fenholm."""
    return [one.partition("=")[0].strip() for one in only if "=" in one]


def _formats(data: Any, measures: list[str]) -> dict[str, Format]:
    """Return the config's formats of the measures asked for."""
    names = [measure.partition("=")[0].strip() for measure in measures]
    shown = data.formats if data else {}
    return {name: Format(**shown[name].model_dump()) for name in names if name in shown}


def _from_rule(rule: dict[str, Any]) -> Calendar:
    """Return the calendar that options describe, called fiscal unless it is civil years."""
    wrong = set(rule) & set(_MONTH if "pattern" in rule else _WEEK)
    if wrong:
        option = sorted(wrong)[0].replace("_", "-")
        goes = "does not go with" if "pattern" in rule else "goes with"
        raise QuestionError(f"--{option} {goes} --pattern, which makes years of whole weeks")
    if "pattern" in rule:
        return WeekCalendar("fiscal", **rule)
    civil = rule.get("year_starts", "01-01") == "01-01" and not rule.get("prefix")
    return MonthCalendar("calendar" if civil else "fiscal", **rule)
