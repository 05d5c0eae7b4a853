"""The shape of `eptaro.toml`, as pydantic checks it; imported only where one is read."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import Field as DataclassField
from dataclasses import fields
from inspect import get_annotations, signature
from pathlib import Path
from typing import Annotated, Any, Literal, get_args

from pydantic import BaseModel, ConfigDict, Field, create_model

from eptaro.core.calendars.levels import Weekday
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.calendars.week import WeekCalendar
from eptaro.core.results.format import Format
from eptaro.inputs.options import ReadOptions
from eptaro.option import OptionHelp
from eptaro.rules import DateRules, FileRules, NumberRules

SCHEMA = Path(__file__).with_name("eptaro.schema.json")


class Part(BaseModel):
    """What all parts share: unknown keys are errors."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True, defer_build=True)


def _make_part(name: str, doc: str, **fields: Any) -> type[Part]:
    """Return the part of a config with some fields."""
    return create_model(name, __base__=Part, __doc__=doc, **fields)


def _of_rules(name: str, doc: str, rules: type[Any]) -> type[Part]:
    """Return the part of a config whose keys are the fields of a dataclass; none is required."""
    own = {field.name: field for field in fields(rules) if field.init}
    hints = {key: hint for key, hint in get_annotations(rules, eval_str=True).items() if key in own}
    return _make_part(
        name, doc, **{key: (_hint(hints[key]) | None, _optional_key(own[key])) for key in own}
    )


def _hint(hint: Any) -> Any:
    """Return a type as TOML has it."""
    return list[str] if hint == Sequence[str] else bool if bool in get_args(hint) else hint


def _optional_key(of: DataclassField[Any]) -> Any:
    """Return a key that need not be there, with what its field says of it."""
    how: OptionHelp | None = of.metadata.get("shown")
    if how is None:
        return Field(None)
    words = how.help.replace(" May be given again.", "")
    return Field(None, description=words, ge=how.least, le=how.most)


def _of_calendar(name: str, doc: str, kind: Any, calendar: type[Any]) -> type[Part]:
    """Return the part of a config that describes a calendar: the arguments of its class."""
    own = signature(calendar, eval_str=True).parameters
    settings = {key: (own[key].annotation, own[key].default) for key in own if key != "name"}
    return _make_part(name, doc, kind=kind, **settings)


Month = _of_calendar("Month", "Years of twelve months.", (Literal["month"], "month"), MonthCalendar)
Week = _of_calendar("Week", "Years of 52 or 53 weeks.", (Literal["week"], ...), WeekCalendar)


class Listed(Part):
    """Periods listed in a CSV file: year, optional half, quarter, month, first, last."""

    kind: Literal["listed"]
    file: str
    prefix: str = ""
    shown: dict[str, str] | None = None


class Rule(Part):
    """One holiday of every year."""

    name: str
    on: str
    kind: str = "public"
    pay_premium: bool = False
    moved: Literal["nearest", "next"] | None = None
    from_year: int | None = Field(None, alias="from")
    to_year: int | None = Field(None, alias="to")


class HolidaySources(Part):
    """A holiday set, from rules, files (.csv, .ics) and a country together."""

    rules: list[Rule] = Field(default_factory=list)
    files: list[str] = Field(default_factory=list)
    country: str | None = None
    subdivision: str | None = None


class Worked(Part):
    """Which days are worked."""

    weekend: list[Weekday] = Field(["saturday", "sunday"])
    holidays: str | None = None
    closed: list[str] | None = None


Dates = _of_rules("Dates", "How the date column is read; the fields of DateRules.", DateRules)
Figures = _of_rules(
    "Figures", "How numbers in text are written; the fields of NumberRules.", NumberRules
)
Written = _of_rules("Written", "How the files are written; the fields of FileRules.", FileRules)
Shown = _of_rules("Shown", "How a measure is shown; the fields of Format.", Format)


class Own(Part):
    """The calendar of each value of a group column, listed here or in a CSV file that has
    this column and one called calendar.
    """

    column: str
    of: dict[str, str] = Field(default_factory=dict)
    file: str | None = None
    other: str | None = None


class Report(Part):
    """What a report shows: its sections in order, and the periods that it goes by."""

    title: str | None = None
    sections: list[str] | None = None
    per: str | None = None
    within: str | None = None
    trailing: str | None = None
    match: str | None = None
    goals: str | None = Field(None, description="A CSV file of goals")
    beside: str | None = Field(None, description="A calendar to set beside that of the data")
    before: list[str] | None = Field(None, description="Files of an earlier keeping")
    known: str | None = Field(None, description="The column of when rows became known")
    since: str | None = Field(None, description="With known: later rows are what has changed")


_OF_DATA: dict[str, Any] = {
    "files": (list[str], ...),
    "measures": (dict[str, str], ...),
    "by": (list[str], Field(default_factory=list)),
    "lookups": (dict[str, str], Field(default_factory=dict)),
    "across": (str | None, None),
    "calendar": (str, "calendar"),
    "spread": (
        bool | str,
        Field(
            False,
            description="Spread the sums of months over their days: evenly (true), or in the shape "
            "that the prior year had of a measure (sales.revenue).",
        ),
    ),
    "own_calendars": (Own | None, None),
    "coverage": (str | dict[str, str] | None, None),
    "dates": (Dates | None, None),
    "formats": (dict[str, Shown], Field(default_factory=dict)),  # type: ignore[valid-type]
    "written": (Written | None, None),
    "numbers": (Figures | Literal["strict", "infer"], "strict"),
}
_hints = get_annotations(ReadOptions, eval_str=True)
Data = _make_part(
    "Data",
    "The data set that commands work on when no file is named.",
    **{
        field.name: (_hints[field.name], _optional_key(field))
        for field in fields(ReadOptions)
        if "shown" in field.metadata and field.name not in _OF_DATA
    },
    **_OF_DATA,
)


class Together(Part):
    """What several data sets are as one: measures between them, and columns called differently."""

    measures: dict[str, str] = Field(default_factory=dict)
    names: dict[str, dict[str, str]] = Field(default_factory=dict)
    calendar: str | None = None
    formats: dict[str, Shown] = Field(default_factory=dict)  # type: ignore[valid-type]


_OF_ALL: dict[str, Any] = {
    "locale": (str, "en"),
    "calendars": (
        dict[str, Annotated[Month | Week | Listed, Field(discriminator="kind")]],  # type: ignore[valid-type]
        Field(default_factory=dict),
    ),
    "holidays": (dict[str, HolidaySources], Field(default_factory=dict)),
    "workdays": (Worked | None, None),
    "report": (Report | None, None),
}
Whole = _make_part("Whole", "An eptaro.toml.", data=(Data | None, None), **_OF_ALL)
Several: dict[str, Any] = {
    "data": (dict[str, Data], ...),  # type: ignore[valid-type]
    "set": (Together | None, None),
}
WholeSet = _make_part(
    "WholeSet", "An eptaro.toml of several data sets by name.", **Several, **_OF_ALL
)


def schema_text() -> str:
    """Return the JSON Schema of the file, as shipped for editors."""
    either = {"data": (Data | dict[str, Data] | None, None), "set": Several["set"]}  # type: ignore[valid-type]
    whole = _make_part("Whole", "An eptaro.toml.", **either, **_OF_ALL)
    return json.dumps(whole.model_json_schema(by_alias=True), indent=2) + "\n"


if __name__ == "__main__":
    SCHEMA.write_text(schema_text(), encoding="utf-8")
