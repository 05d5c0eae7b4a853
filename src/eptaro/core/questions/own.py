"""`OwnCalendars`: each value of a group column keeps its own calendar.

A book of several companies answers a question once for each calendar, over the groups
that keep it, and sets the answers together; every row is labelled in its own calendar.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import wraps
from typing import Any, Concatenate, ParamSpec, cast

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import Flags
from eptaro.core.calendars.kinds import from_settings
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.folds.groups import Groups
from eptaro.core.questions.view import Facts, NothingLeftError
from eptaro.core.tables.column import Column
from eptaro.core.tables.columns import join
from eptaro.core.tables.display import BLANK
from eptaro.core.tables.table import Table
from eptaro.errors import CalendarError, InputError, QuestionError, unknown

Options = ParamSpec("Options")


_BESIDE = ("wide", "top", "shares", "ranks")  # set groups beside each other: need one calendar


_ONE = "book.using(calendar), or --calendar NAME"


class OwnCalendars:
    """The calendar of each value of a group column; `other` is that of values not named, None
    names the blank.

    Raises `CalendarError` where two different calendars bear one name.

    >>> import eptaro as ep
    >>> own = OwnCalendars("company", {
    ...     "Ferries": ep.MonthCalendar("fiscal", year_starts="04-01", prefix="FY"),
    ...     "Freight": ep.MonthCalendar("freight", year_starts="09-10", year_named="start")})
    >>> book = ep.Daybook({"on": ["2025-05-01"] * 2, "company": ["Ferries", "Freight"]},
    ...                   date="on", by="company", measures="n=count()", calendar=own)
    >>> book.recap("year", by="company").column("period").to_list()
    ['FY2026', '2024']
    """

    def __init__(
        self, column: str, calendars: Mapping[str, Calendar], other: Calendar | None = None
    ) -> None:
        self.column, self.other = column, other
        self.calendars = {
            "" if value in (None, BLANK) else value: one for value, one in calendars.items()
        }
        named: dict[str, Calendar] = {}
        for calendar in [*self.calendars.values(), *([other] if other else [])]:
            if named.setdefault(calendar.name, calendar) != calendar:
                raise CalendarError(f"two different calendars are called {calendar.name!r}")

    @property
    def common(self) -> Calendar:
        """The calendar that stands where one for all is wanted: `other`, or civil years."""
        return self.other or MonthCalendar()

    def of_groups(self, groups: Groups, source: str) -> dict[Calendar, Flags]:
        """Return which groups keep each calendar; raises `InputError` where one has none."""
        if self.column not in groups.names:
            raise InputError(
                f"{source}: calendars go by {self.column!r}, so by= must name it; it names "
                f"{', '.join(groups.names) or 'nothing'}"
            )
        coded = groups.coded[self.column]
        words = ["" if word is None else str(word) for word in coded.choices.to_list()] + [""]
        kept: dict[Calendar, list[int]] = {}
        for code in np.unique(coded.codes).tolist():
            calendar = self.calendars.get(words[code], self.other)
            if calendar is None:
                raise InputError(
                    f"{source}: {self.column} {words[code]!r} has no calendar; name one for it, or "
                    f"other= for all that are not named"
                )
            kept.setdefault(calendar, []).append(code)
        return {calendar: np.isin(coded.codes, codes) for calendar, codes in kept.items()}

    def describe(self) -> str:
        """Return who keeps which calendar, in words."""
        said = [f"{value}: {calendar.describe()}" for value, calendar in self.calendars.items()]
        if self.other:
            said.append(f"all others: {self.other.describe()}")
        return f"by {self.column}: " + "; ".join(said)

    def settings(self) -> dict[str, Any]:
        """Return what `from_settings` makes it again from."""
        calendars = {value: calendar.settings() for value, calendar in self.calendars.items()}
        other = self.other.settings() if self.other else None
        return {"column": self.column, "calendars": calendars, "other": other}

    @classmethod
    def from_settings(cls, settings: Mapping[str, Any]) -> OwnCalendars:
        """Return the calendars that `settings` describes."""
        calendars = {value: from_settings(one) for value, one in settings["calendars"].items()}
        other = settings["other"]
        return cls(settings["column"], calendars, from_settings(other) if other else None)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, OwnCalendars) and self.settings() == other.settings()

    def __hash__(self) -> int:
        return hash((self.column, *self.calendars))


def in_own_calendars(
    verb: Callable[Concatenate[Facts, Options], Table],
) -> Callable[Concatenate[Facts, Options], Table]:
    """Return a verb that answers in each group's own calendar, where a book has several."""

    @wraps(verb)
    def answer(self: Facts, /, *args: Options.args, **options: Options.kwargs) -> Table:
        if self.own is None:
            return verb(self, *args, **options)
        names = _checked(self.own, options)
        tables: dict[str, Table] = {}
        left = None
        for part in self.in_parts():
            try:
                tables[part.calendar.name] = verb(part, *args, **options)
            except NothingLeftError as error:
                left = error
        if not tables and left is not None:
            raise left
        return _together(self, tables, names)

    return cast(Callable[Concatenate[Facts, Options], Table], answer)


def _checked(own: OwnCalendars, options: Mapping[str, Any]) -> list[str]:
    """Return the group columns asked for; raises `QuestionError` for what needs one calendar."""
    by = options.get("by")
    names = [by] if isinstance(by, str) else list(by or ())
    if own.column not in names:
        raise QuestionError(
            f"each {own.column} keeps its own calendar: group by it, or ask in one calendar "
            f"({_ONE})"
        )
    for option in _BESIDE:
        if options.get(option):
            raise QuestionError(
                f"{option} sets groups beside each other, which needs one calendar: {_ONE}"
            )
    return names


def _together(book: Facts, tables: Mapping[str, Table], names: list[str]) -> Table:
    """Return the answers of all calendars as one table, in the order of the groups."""
    parts = []
    for name, table in tables.items():
        columns = table.columns
        if "calendar" not in table:
            words = Column.text(
                "calendar",
                np.array([name]),
                np.zeros(len(table), np.int64),
                description="The calendar that the row goes by",
            )
            at = max(columns.index(table.column(group)) for group in names) + 1
            columns = [*columns[:at], words, *columns[at:]]
        parts.append(columns)
    joined = [join(list(same)) for same in zip(*parts, strict=True)]
    head = next(iter(tables.values()))

    assert isinstance(book.own, OwnCalendars)
    meta = head.meta | {"calendar": book.own.describe()}
    if "tie_out" in meta:
        meta["tie_out"] = {
            f"{name} in {calendar}": text
            for calendar, part in tables.items()
            for name, text in part.meta["tie_out"].items()
        }
    table = Table(joined, meta, _InOwn(tables))
    if "row" in table:
        return table.sorted("row")
    rank = {key: place for place, key in enumerate(_keys(book.groups.onto(names)[0]))}
    order = [rank[key] for key in zip(*(table.column(n).to_list() for n in names), strict=True)]
    return table.take(np.argsort(np.array(order), kind="stable"))


@dataclass(frozen=True, eq=False)
class _InOwn:
    """Traces a number in the calendar of its row."""

    tables: Mapping[str, Table]

    def __call__(self, shown: Table, row: int, name: str) -> Any:
        if not 0 <= row < len(shown):
            raise QuestionError(f"there is no row {row}; the table has rows 0 to {len(shown) - 1}")
        own = shown.column("calendar").take(np.array([row])).to_list()[0]
        return self.tables[own].trace_as(shown, row, name)


def _keys(groups: Groups) -> list[tuple[Any, ...]]:
    columns = groups.columns(np.arange(groups.count))
    return [*zip(*(column.to_list() for column in columns), strict=True)]


def check_own(calendar: Calendar | OwnCalendars | None) -> tuple[Calendar, OwnCalendars | None]:
    """Return the calendar for all, and those that groups keep for themselves."""
    if isinstance(calendar, OwnCalendars):
        return calendar.common, calendar
    if calendar is not None and not isinstance(calendar, Calendar):
        raise CalendarError(f"calendar={calendar!r} is no calendar")
    return calendar or MonthCalendar(), None


def named_calendars(
    column: str, names: Mapping[str, str], calendars: Mapping[str, Calendar], other: str | None
) -> OwnCalendars:
    """Return the calendars that values name; raises `CalendarError` for one not defined."""
    for name in [*names.values(), *([other] if other else [])]:
        if name not in calendars:
            raise CalendarError(unknown("calendar", name, calendars))
    own = {value: calendars[name] for value, name in names.items()}
    return OwnCalendars(column, own, calendars[other] if other else None)
