"""`ReadOptions`: the options of reading, declared once; `FoldSpec`: what they mean for engines."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import fields, replace
from functools import cached_property, wraps
from inspect import signature
from pathlib import Path
from typing import Any, Concatenate, Literal, ParamSpec, Protocol, TypeAlias, TypeVar, overload

from eptaro.core.aggregation.cells import Plane
from eptaro.core.calendars.span import Span
from eptaro.core.expressions.kinds import ValueKind
from eptaro.core.expressions.parser import NO_FORMULAS, Formulas
from eptaro.core.measures.measure import Measures
from eptaro.core.query.book_options import BookOptions, Calendars, Worked, check_options
from eptaro.core.query.coverage import Coverage
from eptaro.core.query.own_calendars import check_own
from eptaro.core.query.query import By
from eptaro.core.results.format import Format
from eptaro.errors import DateError, QuestionError, spell_option
from eptaro.option import option, setting
from eptaro.record import Record, record
from eptaro.rules import Across, DateRules, FileRules, Lookups, Numbers, date_rules, in_calendar
from eptaro.timeouts import TIMEOUT

Engine: TypeAlias = Literal["stream", "dask"]
DatabaseFilter: TypeAlias = "Mapping[str, Any] | Span | Sequence[Mapping[str, Any] | Span] | None"


@record
class FoldSpec(Record):
    """What is folded of rows: the column of dates, group columns, what is kept of which columns,
    and the formulas; and by which rules dates are read, once they are `settled` by a look at more
    than one source. `limit` is the most bytes that cells may take.
    """

    date: str | None
    by: list[str]
    planes: list[Plane]
    rules: DateRules
    formulas: Formulas = NO_FORMULAS
    limit: int | None = None
    settled: bool = False

    @property
    def date_column(self) -> str:
        """The column of dates, once it is known."""
        assert self.date is not None
        return self.date


@record(kw_only=True)
class ReadOptions:
    """What is calculated of which rows, and how these are read; `Daybook` describes each."""

    date: str | None = option(None, help="The column of dates.", metavar="COLUMN")
    measures: Measures = option(
        (),
        help="What to calculate: name=how(column), such as revenue=sum(fare), or the name of one "
        "in the config or book. May be given again.",
        name="measure",
        metavar="SPEC",
        many=True,
    )
    by: By = option(
        None,
        help="A group column, or a calculated one: size=band(fare, 0, 50, 100). In a book or a "
        "config, all means all of them. May be given again.",
        metavar="COLUMN",
        heading="groups",
        many=True,
    )
    calendar: Calendars = None
    coverage: Coverage = option(
        None,
        help="The days the data covers, if more than its first to last date; months "
        "(weeks, quarters, halves, years): whole ones; groups: each group's "
        "from its first transaction on; FILE.csv: each group's, in columns "
        "first and last.",
        metavar="A..B",
        heading="known",
    )
    dates: DateRules | None = None
    zone: str | None = None
    formats: Mapping[str, Format] | None = None
    workdays: Worked = None
    values: By = None
    where: str | None = option(
        None,
        help="Keep only rows that meet a condition: \"fare_class = 'car' and fare > 20\".",
        metavar="CONDITION",
        heading="groups",
    )
    numbers: Numbers = None
    lookups: Lookups = option(
        None,
        help="A table to join to the rows by a key: ships.csv:ship, or "
        "ships.csv:ship=name. May be given again.",
        name="lookup",
        metavar="FILE:KEY",
        heading="groups",
        rare=True,
        many=True,
    )
    adjustments: str | None = option(
        None,
        help="The column of the period that rows are posted to; periods 13 and "
        "higher belong to their year and to none of its months.",
        metavar="COLUMN",
        heading="groups",
        rare=True,
    )
    across: Across | str | None = option(
        None,
        help="Columns to read as rows: '2019..2024 as year, fares', 'beef, pork as "
        "meat, tons' or 'people_{year} as year, people'.",
        name="columns-across",
        metavar="COLUMNS",
        heading="files",
    )
    memory_limit: int | None = option(
        None,
        help="The most memory that cells may use, in bytes.  [default: four fifths "
        "of what is free]",
        metavar="BYTES",
        heading="engine",
        least=1,
    )

    @cached_property
    def book(self) -> BookOptions:
        """The same as a book has it: measures, groups and conditions parsed."""
        return BookOptions.of(
            self.measures,
            self.by,
            self.calendar,
            self.coverage,
            self.formats,
            self.workdays,
            self.values,
            self.where,
            self.date,
            self.adjustments,
        )

    @cached_property
    def rules(self) -> DateRules:
        """How dates are read; where they are calculated, their formula may say which periods they
        begin, and the calendar which fiscal periods they are.

        Raises `DateError` for fiscal periods without a calendar, or with one for each group.
        """
        rules = date_rules(self.dates, self.zone)
        if rules.fiscal_periods is True and self.calendar is not None:
            common, own = check_own(self.calendar)
            if own is not None:
                raise DateError(
                    f"{setting(DateRules, 'fiscal_periods', True)} goes with one calendar, and "
                    f"groups have their own: read the files of each by its calendar"
                )
            rules = in_calendar(rules, common)
        formula = None if self.date is None else self.book.formulas.columns.get(self.date)
        if rules.grain is None and formula is not None and formula.wanted is ValueKind.DATE:
            return replace(rules, grain=formula.grain)
        return rules

    @property
    def spec(self) -> FoldSpec:
        """What is folded."""
        book = self.book
        return FoldSpec(
            self.date, book.by, [*book.planes], self.rules, book.formulas, self.memory_limit
        )

    def non_defaults(self) -> dict[str, Any]:
        """Return the options that differ from their defaults, by name."""
        with_defaults = {
            field.name: (getattr(self, field.name), field.default) for field in fields(self)
        }
        return {name: value for name, (value, usual) in with_defaults.items() if value is not usual}

    def check_date(self, why: str) -> str:
        """Return the column of dates, which must be given for a reason.

        Raises `QuestionError` where it is not.
        """
        if self.date is None:
            option = spell_option("date=", "--date COLUMN")
            raise QuestionError(f"name the column of dates with {option}; {why}")
        return self.date


@record(kw_only=True)
class FileOptions(ReadOptions):
    """The same of files, how these are written, what reads them, and where their book lies;
    `Daybook.read` describes each.
    """

    files: FileRules | None = None
    engine: Engine = "stream"
    client: Any = None
    into: str | Path | None = None
    shards: int | None = None
    timeout: float = TIMEOUT


_NOT_IN_SQL = {  # what a database does not do, and what does
    "memory_limit": "only cells come back; leave it out",
    "values": "no transactions come back; use Daybook.read with a query for spread and histogram",
    "numbers": "its numbers must be numbers; cast them in a view or a query",
    "across": "a query sets columns across as rows: UNION ALL of one SELECT for each",
}


@record(kw_only=True)
class SqlOptions(ReadOptions):
    """The same of a table in a database; `Daybook.from_sql` describes each."""

    only: DatabaseFilter = None
    timeout: float = TIMEOUT

    def __post_init__(self) -> None:
        self.check_date("a database does not look for it")
        for name, cure in _NOT_IN_SQL.items():
            if getattr(self, name) not in (None, "strict", ()):
                raise QuestionError(f"{name} does not go with a database: {cure}")


@record(kw_only=True)
class AddOptions:
    """How more rows are added to a book: None where they are read as those before;
    `Daybook.add` describes each.
    """

    replace_days: Span | str | None = None
    force: bool = False
    date: str | None = None
    dates: DateRules | None = None
    zone: str | None = None
    files: FileRules | None = None
    numbers: Numbers = None
    lookups: Lookups = None
    adjustments: str | None = None
    across: Across | str | None = None
    coverage: Coverage = None
    workdays: Worked = None

    @property
    def days(self) -> Span | None:
        """The days that are replaced."""
        days_given = self.replace_days
        return Span.parse(days_given) if isinstance(days_given, str) else days_given

    def over(self, before: FileOptions) -> FileOptions:
        """Return how files are read: as those before, but for what these options say."""
        settings = {
            name: getattr(self, name)
            for name in ("date", "files", "numbers", "lookups", "adjustments", "across")
            if getattr(self, name) is not None
        }
        if self.dates is not None or self.zone is not None:
            settings["dates"] = date_rules(self.dates, self.zone)
        return replace(before, **settings, coverage=self.coverage, workdays=self.workdays)


Own = TypeVar("Own")
First = TypeVar("First")
Second = TypeVar("Second")
Made = TypeVar("Made")
Taken = TypeVar("Taken")
TakenIn = TypeVar("TakenIn", covariant=True)
Options = ParamSpec("Options")


class _Takes(Protocol[Options, TakenIn]):
    @overload
    def __call__(
        self, way: Callable[[Own, First, TakenIn], Made]
    ) -> Callable[Concatenate[Own, First, Options], Made]: ...
    @overload
    def __call__(
        self, way: Callable[[Own, First, Second, TakenIn], Made]
    ) -> Callable[Concatenate[Own, First, Second, Options], Made]: ...


def takes(options: Callable[Options, Taken]) -> _Takes[Options, Taken]:
    """Return a decorator of methods whose last argument is a dataclass of options: they then take
    each of its fields by name.

    Raises `QuestionError`, when such a method is called, for an option that it does not take.
    """
    own = [*signature(options).parameters.values()]
    names = [field.name for field in own]

    def decorate(way: Callable[..., Any]) -> Callable[..., Any]:
        leading = [*signature(way).parameters.values()][:-1]
        places = [field.name for field in leading]

        @wraps(way)
        def method(*args: Any, **given: Any) -> Any:
            missing = [name for name in places[len(args) :] if name not in given]
            if missing or len(args) > len(places):
                raise TypeError(
                    f"{way.__qualname__}() takes {', '.join(places)} and options by name"
                )
            named_values = [given.pop(name) for name in places[len(args) :]]
            check_options(names, given)
            return way(*args, *named_values, options(**given))  # type: ignore[call-arg]

        method.__signature__ = signature(way).replace(  # type: ignore[attr-defined]
            parameters=[*leading, *own]
        )
        return method

    return decorate
