"""`eptaro.toml`: calendars, holidays, workdays, locale, and the data set with its measures.

The file is data: nothing in it is ever evaluated as code. Its shape is in `schema`,
from which the JSON Schema for editors is made (`python -m eptaro.inputs.schema`).
"""

from __future__ import annotations

import json
import os
import re
import tomllib
from collections.abc import Mapping
from dataclasses import fields, replace
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import quote

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.calendars.week import WeekCalendar
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.query.own_calendars import OwnCalendars, named_calendars
from eptaro.errors import CalendarError, InputError, unknown
from eptaro.inputs.goals_and_coverage import check_small, read_listed, read_rows
from eptaro.inputs.holidays import DEFAULT_WEEKEND, HolidaySet, read_holidays
from eptaro.inputs.options import ReadOptions
from eptaro.optional import import_optional
from eptaro.rules import DateRules, FileRules, Lookup, NumberRules, Numbers, in_calendar, lookups_of

_OTHERWISE = ("measures", "by", "lookups")  # written otherwise than `ReadOptions` takes them


class Config:
    """What an `eptaro.toml` says; calendars are made at once, holidays for the years asked."""

    def __init__(self, model: Any, path: Path) -> None:
        self._model, self._folder = model, path.parent
        self.together: Any = None
        self.data_sets: Mapping[str, Any] = {}  # of a config of several, by name
        self.path = path
        self.locale: str = model.locale
        self.calendars: dict[str, Calendar] = {"calendar": MonthCalendar()}
        for name, entry in model.calendars.items():
            try:
                self.calendars[name] = self._calendar(name, entry)
            except CalendarError as error:
                raise CalendarError(f"{path}: calendars.{name}: {error}") from None
        self.data = model.data
        if isinstance(self.data, Mapping):
            self.data, self.data_sets, self.together = None, model.data, model.set
            for name in self.together.names if self.together else ():
                if name not in self.data_sets:
                    message = unknown("data set", name, self.data_sets)
                    raise InputError(f"{path}: set.names: {message}")
        self.report_said: dict[str, Any] = (
            model.report.model_dump(exclude_none=True) if model.report else {}
        )
        if "goals" in self.report_said:
            self.report_said["goals"] = str(self._folder / self.report_said["goals"])
        if "before" in self.report_said:
            before = self.report_said["before"]
            self.report_said["before"] = [str(self._folder / name) for name in before]
        worked = model.workdays
        self.has_workdays = worked is not None
        self._weekend = worked.weekend if worked else list(DEFAULT_WEEKEND)
        self._closed = worked.closed if worked else None
        self._closing = worked.holidays if worked else None
        if self._closing and self._closing not in model.holidays:
            message = unknown("holiday set", self._closing, model.holidays)
            raise InputError(f"{path}: workdays.holidays: {message}")

    def of_data_set(self, name: str) -> Config:
        """Return the config of one of several data sets; raises `InputError` for another name."""
        if name not in self.data_sets:
            if not self.data_sets:
                raise InputError(
                    f"{self.path}: has one data set without a name; leave {name!r} out"
                )
            raise InputError(f"{self.path}: {unknown('data set', name, self.data_sets)}")
        return Config(self._model.model_copy(update={"data": self.data_sets[name]}), self.path)

    def calendar(self, name: str) -> Calendar:
        """Return a calendar by name; raises `CalendarError` for one that is not defined."""
        if name not in self.calendars:
            raise CalendarError(f"{self.path}: {unknown('calendar', name, self.calendars)}")
        return self.calendars[name]

    def own_calendars(self) -> OwnCalendars | None:
        """Return the calendars that values of a group column keep, if the data set has such."""
        entry = self.data.own_calendars if self.data else None
        if entry is None:
            return None
        names = dict(entry.of)
        if entry.file:
            names |= _read_names(self._folder / entry.file, entry.column)
        try:
            return named_calendars(entry.column, names, self.calendars, entry.other)
        except CalendarError as error:
            raise CalendarError(f"{self.path}: data.own_calendars: {error}") from None

    def files(self) -> list[str]:
        """Return the data set's files, which are named from the folder of the config, or its
        addresses; `${NAME}` in these represents an environment variable.
        """
        paths = self.data.files if self.data else []
        return [self._fill_environment(n) if "://" in n else str(self._folder / n) for n in paths]

    def lookups(self) -> list[Lookup]:
        """Return the data set's lookups, whose files are named from the folder of the config."""
        lookups_given = self.data.lookups if self.data else {}
        tables = lookups_of(lookups_given)
        return [
            one if "." not in str(one.table) else replace(one, table=self._folder / one.table)
            for one in tables
        ]

    def row_options(self) -> dict[str, Any]:
        """Return what the data set says of its rows that `ReadOptions` takes as it is written."""
        if self.data is None:
            return {}
        measures = [f"{name}={formula}" for name, formula in self.data.measures.items()]
        names = (field.name for field in fields(ReadOptions) if "shown" in field.metadata)
        all_options = {name: getattr(self.data, name) for name in names if name not in _OTHERWISE}
        options_set = {name: value for name, value in all_options.items() if value is not None}
        return {"measures": measures, **options_set}

    def date_rules(self) -> DateRules | None:
        """Return how the date column of the data set is read; fiscal periods are those of its own
        calendar.
        """
        if self.data is None:
            return None
        rules = _rules(DateRules, self.data.dates)
        return rules and in_calendar(rules, self.calendar(self.data.calendar))

    def file_rules(self) -> FileRules | None:
        """Return how the files of the data set are written."""
        return _rules(FileRules, self.data.written) if self.data else None

    def number_rules(self) -> Numbers:
        """Return how numbers in text of the data set are written."""
        if self.data is None or isinstance(self.data.numbers, str):
            return self.data.numbers if self.data else None
        return _rules(NumberRules, self.data.numbers)

    def _fill_environment(self, address: str) -> str:
        """Return an address with the values of environment variables, such as its password."""

        def value(match: re.Match[str]) -> str:
            if match[1] not in os.environ:
                raise InputError(
                    f"{self.path}: data.files: the environment variable {match[1]} is not set"
                )
            return quote(os.environ[match[1]], safe="")

        return re.sub(r"\$\{(\w+)\}", value, address)

    def workdays(
        self, first_year: int, last_year: int, holidays: HolidaySet | None = None
    ) -> Workdays:
        """Return the workdays, with the holidays of the years given and one on either side, or
        with those given instead.
        """
        if holidays is not None:
            return Workdays(self._weekend, holidays=holidays)
        closings = None
        if self._closing:
            closings = self.holidays(self._closing, first_year - 1, last_year + 1)
        return Workdays(self._weekend, holidays=closings, closed=self._closed)

    def holidays(self, name: str, first_year: int, last_year: int) -> HolidaySet:
        """Return a holiday set for some years, from all its sources."""
        entry = self._model.holidays[name]
        first, last = max(first_year, 1), min(last_year, 9999)
        days: list[Any] = []
        rules = [rule.model_dump(by_alias=True, exclude_none=True) for rule in entry.rules]
        days += HolidaySet.from_rules(rules, first, last, weekend=self._weekend)
        for file in entry.files:
            days += read_holidays(self._folder / file, first, last)
        if entry.country:
            days += HolidaySet.from_country(
                entry.country, first, last, subdivision=entry.subdivision
            )
        return HolidaySet(days)

    def _calendar(self, name: str, entry: Any) -> Calendar:
        settings = entry.model_dump(exclude={"kind", "file"}, exclude_none=True)
        if entry.kind == "month":
            return MonthCalendar(name, **settings)
        if entry.kind == "week":
            return WeekCalendar(name, **settings)
        return read_listed(name, self._folder / entry.file, **settings)


Rules = TypeVar("Rules", DateRules, FileRules, NumberRules)


def _rules(kind: type[Rules], part: Any) -> Rules:
    return kind(**(part.model_dump(exclude_none=True) if part else {}))


def _read_names(path: Path, column: str) -> dict[str, str]:
    """Return the calendar named for each value in a CSV file."""
    names: dict[str, str] = {}
    for number, row in enumerate(read_rows(path), 1):
        for required in (column, "calendar"):
            if row.get(required) is None:
                raise InputError(f"{path}: row {number} has no {required}; it holds {row}")
        if names.setdefault(row[column], row["calendar"]) != row["calendar"]:
            raise InputError(f"{path}: row {number}: {row[column]!r} has two calendars")
    return names


def read_config(path: str | Path) -> Config:
    """Read an `eptaro.toml`.

    Parameters
    ----------
    path : str or Path
        The `eptaro.toml`.

    Returns
    -------
    Config
        Its `calendars`, `workdays`, `holidays`, `locale` and `data`.

    Raises
    ------
    InputError
        Naming the key that is wrong.

    Examples
    --------
    >>> import tempfile
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = Path(folder) / "eptaro.toml"
    ...     _ = path.write_text('[calendars.fiscal]\\nkind = "month"\\nyear_starts = "04-01"\\n')
    ...     read_config(path).calendars["fiscal"].year_starts
    '04-01'
    """
    file = Path(path)
    try:
        check_small(file)
        content = tomllib.loads(file.read_text(encoding="utf-8"))
    except OSError as error:
        raise InputError(f"{file}: cannot be read: {error.strerror}") from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise InputError(f"{file}: is not a TOML file: {error}") from None
    except RecursionError:
        raise InputError(f"{file}: is not a TOML file for this: it is nested too deep") from None
    pydantic = import_optional("pydantic", "config", f"reading {file}")
    schema = import_optional("eptaro.inputs.schema", "config", f"reading {file}")
    whole = schema.WholeSet if _has_several(content.get("data")) else schema.Whole
    try:
        model = whole.model_validate(content)
    except pydantic.ValidationError as error:
        raise InputError(f"{file}: {_complaint(error, whole)}") from None
    return Config(model, file)


def _has_several(data: Any) -> bool:
    """Return whether data sets have names: `[data.sales]` with its files, rather than `[data]`."""
    if not isinstance(data, dict) or "files" in data:
        return False
    return any(
        isinstance(value, dict) and isinstance(value.get("files"), list) for value in data.values()
    )


def _complaint(error: Any, whole: Any) -> str:
    """Turn the first of the validator's findings into one line with key and accepted values."""
    first = error.errors()[0]
    place = [part for part in first["loc"] if part not in ("month", "week", "listed")]
    key = ".".join(str(part) for part in place)
    if first["type"] == "extra_forbidden":
        near = _sibling_keys(whole, first["loc"])
        return f"{unknown('key', key, near)}"
    if first["type"] == "union_tag_not_found":
        return f"{key}: kind is missing: month, week or listed"
    if first["type"] == "union_tag_invalid":
        return f"{key}: {unknown('kind', first['ctx']['tag'], ['month', 'week', 'listed'])}"
    value = first.get("input")
    shown_value = f", not {value!r}" if isinstance(value, str | int | float | bool) else ""
    more = f" (and {error.error_count() - 1} more)" if error.error_count() > 1 else ""
    if first["type"] == "list_type" and isinstance(value, str):
        return f"{key}: must be a list; write {place[-1]} = [{json.dumps(value)}]{more}"
    if first["type"] == "dict_type":
        return f"{key}: must be a table; write [{key}], and below it lines of NAME = VALUE{more}"
    message = first["msg"]
    return f"{key}: {message[0].lower()}{message[1:]}{shown_value}{more}"


def _sibling_keys(model: Any, place: tuple[Any, ...]) -> list[str]:
    """Return the keys that are accepted beside an unknown one."""
    schema = model.model_json_schema()
    node = schema

    def opened(part: Any) -> Any:
        return schema["$defs"][part["$ref"].rsplit("/", 1)[1]] if "$ref" in part else part

    for step in place[:-1]:
        choices = [opened(choice) for choice in node.get("anyOf", [])] or [node]
        node = next((choice for choice in choices if choice.get("type") != "null"), node)
        if "discriminator" in node:
            node = opened({"$ref": node["discriminator"]["mapping"][step]})
        elif isinstance(step, int):
            node = opened(node.get("items", {}))
        else:
            fallback = node.get("additionalProperties")
            node = node.get("properties", {}).get(step, fallback if fallback else {})
            node = opened(node)
            if "anyOf" in node:
                node = next(
                    opened(choice) for choice in node["anyOf"] if choice.get("type") != "null"
                )
    return list(node.get("properties", {}))
