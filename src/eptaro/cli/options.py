"""Groups of options that several commands share, each passed on as one frozen dataclass."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import MISSING, Field, fields
from functools import cache, wraps
from inspect import get_annotations
from pathlib import Path
from typing import Any, Literal, NamedTuple, TypeVar, get_args, get_origin

import click

from eptaro.cli.help import (
    CALENDAR,
    DATES,
    ENGINE,
    FILES,
    GROUPS,
    KNOWN,
    OUTPUT,
    PICTURES,
    QUESTION,
    option,
)
from eptaro.cli.messages import loudness_options
from eptaro.core.calendars.levels import WEEKDAYS, Weekday, YearEnds, YearNamed
from eptaro.core.verbs.queries import Goals
from eptaro.errors import QuestionError
from eptaro.option import OptionHelp, flag
from eptaro.paths import names_folder, scheme_of
from eptaro.presentation import ThemeName
from eptaro.record import Record, record

_HEADINGS = {
    "question": QUESTION,
    "groups": GROUPS,
    "known": KNOWN,
    "dates": DATES,
    "files": FILES,
    "engine": ENGINE,
}


class FieldOption(NamedTuple):
    """A field of a dataclass as an option: its type, and what a command line and click call it."""

    field: Field[Any]
    hint: Any
    flag: str  # --date-format
    word: str  # date_format

    @property
    def how(self) -> OptionHelp:
        """How it is shown."""
        help_of: OptionHelp = self.field.metadata["shown"]
        return help_of


@cache
def options_of(kind: Any) -> dict[str, FieldOption]:
    """Return the fields of a dataclass that are options of the command line, by name."""
    hints: dict[str, Any] = {}
    for parent in reversed(kind.__mro__):
        hints |= get_annotations(parent, eval_str=True)
    options = {}
    for of in fields(kind):
        if "shown" in of.metadata:
            word = flag(of)[2:].replace("-", "_")
            options[of.name] = FieldOption(of, hints[of.name], flag(of), word)
    return options


def add_options(
    kind: Any, *, names: Sequence[str] = (), optional: Sequence[str] = (), unset: bool = False
) -> Callable[[Any], Any]:
    """Return a decorator that adds the fields of a dataclass, or those of some names, to a command.

    Those that are `optional` need not be given; with `unset` none has a default, so that what was
    said can be determined from what was not.
    """

    def add(command: Any) -> Any:
        options = options_of(kind)
        for name in reversed(names or options):
            command = _click_option(options[name], optional=name in optional, unset=unset)(command)
        return command

    return add


def take_options(kind: Any, values: dict[str, Any], names: Sequence[str] = ()) -> dict[str, Any]:
    """Take what the options of a dataclass were given out of what a command was."""
    options = options_of(kind)
    own = {name: values.pop(options[name].word) for name in names or options}
    return {n: _read(options[n], value) if value else value for n, value in own.items()}


def given_options(values: Mapping[str, Any]) -> dict[str, Any]:
    """Return the options that were given, of those without defaults."""
    return {
        name: value
        for name, value in values.items()
        if value is not None and value is not False and value != ()
    }


def _click_option(one: FieldOption, *, optional: bool, unset: bool) -> Callable[[Any], Any]:
    how, kinds = one.how, set(get_args(one.hint)) or {one.hint}
    needed = one.field.default is MISSING
    default = None if unset or needed else one.field.default
    more: dict[str, Any] = {"help": how.help, "rare": how.rare}
    if how.metavar is not None:
        more["metavar"] = how.metavar
    if unset and how.shown:
        more["help"] = f"{how.help}  [default: {one.field.default}]"
    if bool in kinds:
        more["is_flag"] = True
    elif needed and not optional:
        more["required"] = True
    elif how.many or Sequence[str] in kinds:
        several = () if default is None else (default,) if isinstance(default, str) else default
        more |= {"multiple": True, "default": several}
    else:
        more["default"] = default
        more |= {"show_default": True} if how.shown and not unset else {}
    if int in kinds:
        words = [word for kind in kinds if get_origin(kind) is Literal for word in get_args(kind)]
        bounded = how.least is not None or how.most is not None
        number: Any = click.IntRange(how.least, how.most) if bounded else click.INT
        more["type"] = _NumberOr(words) if words else number
    elif Goals in kinds:
        more["type"] = click.Path(path_type=Path)
    elif unset and (choices := _choices(one.hint)):
        more["type"] = _OneOf([*map(_spell_choice, choices)])
    return option(_HEADINGS[how.heading], one.flag, one.word, **more)


class _NumberOr(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    """A whole number, or one of some words."""

    name = "integer"

    def __init__(self, words: Sequence[str]) -> None:
        self._words = words

    def convert(self, value: Any, param: Any, ctx: Any) -> int | str:
        """Return a number or a word."""
        if value in self._words:
            return str(value)
        try:
            return int(value)
        except ValueError:
            self.fail(f"{value!r} is neither a number nor {' nor '.join(self._words)}", param, ctx)


class _OneOf(click.Choice):  # type: ignore[type-arg,unused-ignore]
    """One of some words, whose spaces may be written as such or as hyphens."""

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        """Return the choice as it is listed."""
        return super().convert(_spell_choice(value), param, ctx)


def _spell_choice(choice: str) -> str:
    """Return how a choice is written on a command line: `prior-year`."""
    return choice if choice.isspace() else choice.replace(" ", "-")


def _choices(hint: Any) -> tuple[str, ...]:
    """Return the words that a field accepts alone, if it accepts no others."""
    one = [part for part in (get_args(hint) or ()) if part is not type(None)]
    if get_origin(hint) is Literal:
        return get_args(hint)
    return get_args(one[0]) if len(one) == 1 and get_origin(one[0]) is Literal else ()


def _read(one: FieldOption, value: Any) -> Any:
    """Return what an option was given as its field takes it."""
    kinds = get_args(one.hint)
    if Goals in kinds:
        from eptaro.inputs.goals_and_coverage import read_goals

        return read_goals(value)
    if Sequence[float] in kinds:
        try:
            return [float(part) for part in value.split(",")]
        except ValueError:
            raise QuestionError(f"{one.flag} {value!r} are not numbers; write 1,2,3") from None
    if Sequence[str] in kinds and len(value) == 1:
        return value[0]
    choices = _choices(one.hint)
    # One written with a hyphen is the choice that it spells; what is none is refused by the query.
    return next((choice for choice in choices if _spell_choice(choice) == value), value)


PICTURE_OPTIONS = (
    option(
        PICTURES,
        "--plot",
        type=click.Path(path_type=Path),
        metavar="FILE",
        default=None,
        help="Draw the answer as well: .png, .svg or .pdf.",
    ),
    option(
        PICTURES,
        "--kind",
        metavar="KIND",
        default=None,
        help="With --plot: recaps as bars, lines, areas, dots or a sheet of days; windows as "
        "lines, areas, dots; comparisons as bars, by group also as changes or steps; running "
        "totals of days also as a sheet.",
    ),
    option(
        PICTURES,
        "--measure-drawn",
        metavar="NAME",
        default=None,
        rare=True,
        help="With --plot: draw this measure only.",
    ),
    option(
        PICTURES,
        "--title",
        metavar="TEXT",
        default=None,
        rare=True,
        help="With --plot: a title in place of the headline.",
    ),
    option(
        PICTURES,
        "--unit",
        metavar="TEXT",
        default="",
        rare=True,
        help="With --plot: the unit of the numbers.",
    ),
    option(
        PICTURES,
        "--size",
        type=(int, int),
        metavar="WIDTH HEIGHT",
        default=(1280, 800),
        rare=True,
        help="With --plot: its size in pixels.  [default: 1280 800]",
    ),
    option(
        PICTURES,
        "--theme",
        type=click.Choice(get_args(ThemeName)),
        metavar="THEME",
        default="light",
        show_default=True,
        rare=True,
        help="With --plot: light, dark or print.",
    ),
)


Command = TypeVar("Command", bound=Callable[..., Any])
FORMATS = ("table", "csv", "json", "object", "markdown")


def option_group(
    name: str, kind: type[Any], *options: Callable[[Any], Any]
) -> Callable[[Command], Command]:
    """Return a decorator that adds options, in the order given, to a command.

    The command takes what is given for them as one argument, `name`, of the dataclass `kind`,
    whose fields are called like the options.
    """
    names = [field.name for field in fields(kind)]

    def add(command: Command) -> Command:
        @wraps(command)
        def run(**given: Any) -> Any:
            own = {name: given.pop(name) for name in names}
            return command(**given, **{name: kind(**own)})

        decorated: Any = run
        for decorate in reversed(options):
            decorated = decorate(decorated)
        return decorated  # type: ignore[no-any-return]

    return add


@record
class RuleOptions(Record):
    """A config, and the rule of a calendar in single options; None where they are not given."""

    config: Path | None
    year_starts: str | None
    year_named: YearNamed | None
    prefix: str | None
    week_starts: Weekday | None
    first_week_days: int | None
    pattern: str | None
    year_ends: str | None
    ends: YearEnds | None
    long_month: int | None
    holidays: str | None


@record
class CalendarOptions(RuleOptions):
    """A calendar by its name in the config, or by its rule."""

    calendar: str | None
    data_sets: tuple[str, ...] = ()


class OutPath(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    """The path of a file; that of a folder, and an address, are kept as they are written."""

    name = "path"

    def convert(self, value: Any, param: Any, ctx: Any) -> Path | str:
        """Return a path, or a text where a path would lose what is given."""
        return value if names_folder(value) or scheme_of(value) else Path(value)


@record
class OutputOptions(Record):
    """Where an answer goes, and how it is printed."""

    out: Path | str | None
    form: Literal["table", "csv", "json", "object", "markdown"]
    rows: int | None


@record
class AnswerOptions(OutputOptions):
    """Where the answer of a verb goes, whether it is proved, and the picture of it."""

    first: int | None
    columns: str | None
    all_columns: bool
    plot: Path | None
    kind: str | None
    measure_drawn: str | None
    title: str | None
    unit: str
    size: tuple[int, int]
    theme: ThemeName
    prove: bool

    def __post_init__(self) -> None:
        if self.first is not None and self.first < 1:
            raise click.UsageError(f"--first {self.first} must be at least 1")
        plot_options = {"kind": self.kind, "measure-drawn": self.measure_drawn, "title": self.title}
        for name, value in (plot_options | {"unit": self.unit}).items():
            if value and not self.plot:
                raise click.UsageError(f"--{name} goes with --plot FILE")


_RULES = (
    option(
        CALENDAR,
        "--config",
        type=click.Path(path_type=Path),
        metavar="FILE",
        default=None,
        help="An eptaro.toml: calendars, holidays and the data set.",
    ),
    option(
        CALENDAR,
        "--year-starts",
        metavar="MM-DD",
        default=None,
        help="First day of the year; day 1 to 28.  [default: 01-01]",
    ),
    option(
        CALENDAR,
        "--year-named",
        type=click.Choice(["start", "end"]),
        metavar="END",
        default=None,
        help="Which end gives a year its name: start or end.  [default: end]",
    ),
    option(
        CALENDAR,
        "--prefix",
        default=None,
        metavar="TEXT",
        help="Text before the labels of years, such as FY.",
    ),
    option(
        CALENDAR,
        "--week-starts",
        type=click.Choice(WEEKDAYS),
        metavar="WEEKDAY",
        default=None,
        help="First day of the week.  [default: monday; sunday with --pattern]",
    ),
    option(
        CALENDAR,
        "--first-week-days",
        rare=True,
        type=click.IntRange(1, 7),
        default=None,
        help="How many days of the year its first week must have.  [default: 4, ISO 8601]",
    ),
    option(
        CALENDAR,
        "--pattern",
        metavar="WEEKS",
        default=None,
        help="Years of 52 or 53 weeks: 4-4-5, 4-5-4, 5-4-4 or 13x4.",
    ),
    option(
        CALENDAR,
        "--year-ends",
        rare=True,
        metavar="MM-DD",
        default=None,
        help="With --pattern: the date that years end near.  [default: 01-31]",
    ),
    option(
        CALENDAR,
        "--ends",
        rare=True,
        type=click.Choice(["nearest", "last"]),
        default=None,
        help="With --pattern: end years on the weekday nearest to --year-ends, or on "
        "the last one up to it.",
    ),
    option(
        CALENDAR,
        "--long-month",
        rare=True,
        type=int,
        default=None,
        metavar="N",
        help="With --pattern: the month that gets week 53.  [default: the last]",
    ),
    option(
        CALENDAR,
        "--holidays",
        metavar="WHICH",
        default=None,
        help="Days off: a CSV or .ics file, or a country (PT).",
    ),
)
_CALENDAR = (
    option(
        CALENDAR,
        "--calendar",
        metavar="NAME",
        default=None,
        help="A calendar of the config.  [default: the one its data names]",
    ),
    option(
        CALENDAR,
        "--data",
        "data_sets",
        metavar="NAME",
        multiple=True,
        rare=True,
        help="One data set of a config that has several.  [default: all of them, as one]",
    ),
    *_RULES,
)
_OUTPUT = (
    option(
        OUTPUT,
        "--out",
        type=OutPath(),
        metavar="FILE",
        default=None,
        help="Write to a file; the ending decides: .csv .parquet .json .md .arrow. FOLDER/ is a "
        "new folder of Parquet files.",
    ),
    option(
        OUTPUT,
        "--format",
        "form",
        type=click.Choice(FORMATS),
        metavar="FORM",
        default="table",
        show_default=True,
        help="How to print: a table, rows as csv or json, an object of JSON with the headline "
        "beside the rows, or markdown.",
    ),
    option(
        OUTPUT,
        "--rows",
        type=click.IntRange(2),
        metavar="N",
        default=None,
        help="Print at most N rows of a table (in a terminal: 60).",
    ),
)
_CHOSEN = (
    option(
        OUTPUT,
        "--first",
        type=int,
        metavar="N",
        default=None,
        help="Only the first N rows of the answer, also in files.",
    ),
    option(
        OUTPUT,
        "--columns",
        metavar="NAMES",
        default=None,
        help="Show only these columns, by name or heading: route,revenue.",
    ),
    option(OUTPUT, "--all-columns", is_flag=True, help="Print every column, under its exact name."),
)
_PROVE = option(
    PICTURES,
    "--prove",
    is_flag=True,
    help="Recalculate a sample of the numbers from their transactions.",
)

rule_options = option_group("rules", RuleOptions, *_RULES)
calendar_options = option_group("rules", CalendarOptions, *_CALENDAR)
output_options = option_group("output", OutputOptions, *_OUTPUT, loudness_options)
answer_options = option_group(
    "output", AnswerOptions, *_OUTPUT, *_CHOSEN, *PICTURE_OPTIONS, _PROVE, loudness_options
)
