"""The shape of `eptaro.toml`, as pydantic checks it; imported only where one is read."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from eptaro.core.calendars.levels import Weekday, YearEnds, YearNamed
from eptaro.rules.dates import DateRules
from eptaro.rules.files import FileRules
from eptaro.rules.numbers import NumberRules, Numbers

SCHEMA = Path(__file__).with_name("eptaro.schema.json")


class Part(BaseModel):
    """What all parts share: unknown keys are errors."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class Month(Part):
    """Years of twelve months."""

    kind: Literal["month"] = "month"
    year_starts: str = "01-01"
    year_named: YearNamed = "end"
    week_starts: Weekday = "monday"
    first_week_days: int = Field(4, ge=1, le=7)
    prefix: str = ""


class Week(Part):
    """Years of 52 or 53 weeks."""

    kind: Literal["week"]
    pattern: str = "4-4-5"
    week_starts: Weekday = "sunday"
    year_ends: str = "01-31"
    ends: YearEnds = "nearest"
    year_named: YearNamed = "end"
    long_month: int | None = None
    prefix: str = "FY"


class Listed(Part):
    """Periods listed in a CSV file: year, optional half, quarter, month, first, last."""

    kind: Literal["listed"]
    file: str
    prefix: str = ""


class Rule(Part):
    """One holiday of every year."""

    name: str
    on: str
    kind: str = "public"
    pay_premium: bool = False
    moved: Literal["nearest", "next"] | None = None
    from_year: int | None = Field(None, alias="from")
    to_year: int | None = Field(None, alias="to")


class Holidays(Part):
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


class Dates(Part):
    """How the date column is read; the fields of DateRules."""

    order: Literal["ymd", "dmy", "mdy", "infer"] | None = None
    formats: list[str] | None = None
    locale: str | None = None
    pivot: int | None = Field(None, ge=0, le=99)
    serials: Literal["1900", "1904"] | None = None
    unix: Literal["s", "ms", "us", "ns"] | None = None
    zone: str | None = None
    day_starts: str | None = None
    grain: Literal["day", "week", "month", "quarter", "year"] | None = None
    blanks: list[str] | None = None
    bad_dates: Literal["raise", "set aside"] | None = None


class Figures(Part):
    """How numbers in text are written; the fields of NumberRules."""

    decimal: Literal[".", ","] | None = None
    thousands: Literal[",", ".", " ", "'"] | None = None
    strip: list[str] | None = None
    brackets: bool | None = None
    trailing_minus: bool | None = None
    percent: bool | None = None
    blanks: list[str] | None = None


class Written(Part):
    """How the files are written; the fields of FileRules."""

    delimiter: str | None = None
    encoding: str | None = None
    decimal: Literal[".", ","] | None = None
    header_row: int | None = Field(None, ge=1)
    like: str | None = None
    sheet: str | None = None
    query: str | None = None


class Shown(Part):
    """How a measure is shown; the fields of Format."""

    sign: str = ""
    places: int | None = Field(None, ge=0, le=12)
    percent: bool = False


class Own(Part):
    """The calendar of each value of a group column, listed here or in a CSV file that has
    this column and one called calendar.
    """

    column: str
    of: dict[str, str] = Field(default_factory=dict)
    file: str | None = None
    other: str | None = None


class Data(Part):
    """The data set that commands work on when no file is named."""

    files: list[str]
    date: str | None = None
    measures: dict[str, str]
    by: list[str] = Field(default_factory=list)
    where: str | None = None
    lookups: dict[str, str] = Field(default_factory=dict)
    across: str | None = None
    calendar: str = "calendar"
    own_calendars: Own | None = None
    coverage: str | dict[str, str] | None = None
    dates: Dates | None = None
    formats: dict[str, Shown] = Field(default_factory=dict)
    written: Written | None = None
    numbers: Figures | Literal["strict", "infer"] = "strict"

    def number_rules(self) -> Numbers:
        """Return how numbers in text are written."""
        if isinstance(self.numbers, Figures):
            return NumberRules(**self.numbers.model_dump(exclude_none=True))
        return self.numbers

    def date_rules(self) -> DateRules:
        """Return how the date column is read."""
        return DateRules(**(self.dates.model_dump(exclude_none=True) if self.dates else {}))

    def file_rules(self) -> FileRules:
        """Return how the files are written."""
        return FileRules(**(self.written.model_dump(exclude_none=True) if self.written else {}))


class Report(Part):
    """What a report shows: its sections in order, and the periods that it goes by."""

    title: str | None = None
    sections: list[str] | None = None
    per: str | None = None
    within: str | None = None
    trailing: str | None = None
    match: str | None = None


class Whole(Part):
    """An eptaro.toml."""

    locale: str = "en"
    calendars: dict[str, Annotated[Month | Week | Listed, Field(discriminator="kind")]] = Field(
        default_factory=dict
    )
    holidays: dict[str, Holidays] = Field(default_factory=dict)
    workdays: Worked | None = None
    data: Data | None = None
    report: Report | None = None


def schema_text() -> str:
    """Return the JSON Schema of the file, as shipped for editors."""
    return json.dumps(Whole.model_json_schema(by_alias=True), indent=2) + "\n"


if __name__ == "__main__":
    SCHEMA.write_text(schema_text(), encoding="utf-8")
