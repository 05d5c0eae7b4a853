"""What the shared options and an `eptaro.toml` come to together."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from eptaro.cli.commands.folding import folded_by, opened
from eptaro.cli.reading import date_rules, file_rules, shown_progress, tell, tell_aside
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.week import WeekCalendar
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.questions.own_calendars import OwnCalendars
from eptaro.core.tables.format import Format
from eptaro.daybook import Daybook
from eptaro.errors import QuestionError
from eptaro.rules.dates import DateRules

if TYPE_CHECKING:
    from eptaro.inputs.config import Config

_ENGINE = ("engine", "client", "patience", "table_name", "show_query")
_MONTH = ("year_starts", "first_week_days")
_WEEK = ("pattern", "year_ends", "ends", "long_month")
_BOTH = ("year_named", "prefix", "week_starts")


class Settings:
    """The calendars, workdays and config that a command works with.

    Takes its own options out of `given`, so that the rest is the command's.
    """

    def __init__(self, given: dict[str, Any]) -> None:
        path: Path | None = given.pop("config")
        self.config: Config | None = None
        if path is not None:
            from eptaro.inputs.config import read_config

            self.config = read_config(path)
        rule = {name: given.pop(name) for name in (*_MONTH, *_WEEK, *_BOTH)}
        self._rule = {name: value for name, value in rule.items() if value is not None}

    @property
    def ruled(self) -> bool:
        """Whether options describe a calendar of their own."""
        return bool(self._rule)

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

    def book(self, given: dict[str, Any]) -> Daybook:
        """Read and fold the files that the options or the config name."""
        data = self.config.data if self.config else None
        files = list(given.pop("files"))
        own = not files and data is not None
        date = given.pop("date") or (data.date if data else None)
        measures = list(given.pop("measures"))
        if data and not measures:
            measures = [f"{name}={formula}" for name, formula in data.measures.items()]
        if own and self.config:
            files = self.config.files()
        if not files:
            raise click.UsageError("Missing argument 'FILE...' (or a --config with [data]).")
        kept = opened(files)
        if kept is not None:
            return self._of_book(kept, given, measures)
        if not measures:
            raise click.UsageError("Missing option '--measure'.")
        by = list(dict.fromkeys([*given["by"], *(data.by if own and data else [])]))
        calendar, columns = self._calendars(given.pop("calendar"), own)
        by = list(dict.fromkeys([*by, *columns]))
        coverage = given.pop("coverage") or (data.coverage if own and data else None)
        aside = given.pop("aside")
        engine = {name: given.pop(name) for name in _ENGINE}
        dates, written = self.reading(given)
        asked = {
            "date": date,
            "measures": measures,
            "by": by,
            "coverage": coverage,
            "dates": dates,
            "calendar": calendar,
            "formats": _formats(data, measures),
            "workdays": self.workdays,
        }
        with shown_progress():
            book = folded_by(engine, files, written, asked)
        for note in book.notes:
            tell(note)
        tell_aside(book.aside, dict(book.folded.left_out), aside, book.source)
        return book

    def _of_book(self, book: Daybook, given: dict[str, Any], measures: list[str]) -> Daybook:
        """Return a book that was folded before, on the calendar that the options ask for."""
        if measures:
            names = ", ".join(measure.name for measure in book.measures)
            raise QuestionError(
                f"{book.source} is a book, whose measures are {names}; leave --measure out"
            )
        for name in (*_ENGINE, "aside", "coverage"):
            given.pop(name)
        self.reading(given)
        name = given.pop("calendar")
        if name is not None or self.ruled:
            book = book.using(self.calendar(name))
        return book

    def _calendars(self, name: str | None, own: bool) -> tuple[Calendar | OwnCalendars, list[str]]:
        """Return the calendar asked for, or those that groups of the data set keep, and by
        which column they keep them.
        """
        kept = self.config.own_calendars() if own and self.config else None
        if kept is None or name is not None or self.ruled:
            return self.calendar(name), []
        return kept, [kept.column]

    def reading(self, given: dict[str, Any]) -> tuple[DateRules, Any]:
        """Return the date and file rules of the options, over those of the config."""
        data = self.config.data if self.config else None
        dates = data.dates.model_dump(exclude_none=True) if data and data.dates else {}
        written = data.written.model_dump(exclude_none=True) if data and data.written else {}
        return date_rules(given, dates), file_rules(given, written)


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
