"""`Query`: what a verb is asked, and its scope: groups, the part of the data, the as-of date."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import field, replace
from inspect import cleandoc
from numbers import Integral
from typing import TYPE_CHECKING, Any, ClassVar, Self, TypeAlias

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import FIRST_DAY, LAST_DAY, DateLike, as_date, as_of_day, ordinal
from eptaro.core.calendars.grain import Grain, last_whole
from eptaro.core.calendars.levels import Amount
from eptaro.core.calendars.period import Period
from eptaro.core.calendars.span import Span
from eptaro.core.expressions.parser import Formula
from eptaro.core.measures.measure import Measure, Measures
from eptaro.errors import CalendarError, DateError, NothingLeftError, QuestionError, show_option
from eptaro.option import option
from eptaro.record import Record, record

if TYPE_CHECKING:
    from eptaro.core.query.view import BookData
    from eptaro.core.results.result import Result


By: TypeAlias = "str | Sequence[str] | None"
AsOf: TypeAlias = "DateLike | None"
Only: TypeAlias = "str | Span | Period | Mapping[str, Any] | Sequence[Any] | None"

_RELATIVE = re.compile(r"(this|last)\s+(?:(\d+)\s+)?(complete\s+)?([a-z]+)")


def _is_integer(value: object) -> bool:
    return isinstance(value, Integral) and not isinstance(value, bool)


def _is_texts(value: object) -> bool:
    return isinstance(value, str) or (
        isinstance(value, Sequence) and all(isinstance(part, str) for part in value)
    )


# By the type that a field of a query states: what a value must be, and whether one is that.
_TYPES: Mapping[str, tuple[str, Callable[[object], bool]]] = {
    "bool": ("True or False", lambda value: isinstance(value, bool | np.bool_)),
    "int": ("a whole number", _is_integer),
    "int | None": ("a whole number", lambda value: value is None or _is_integer(value)),
    "str": ("text", lambda value: isinstance(value, str)),
    "str | None": ("text", lambda value: value is None or isinstance(value, str)),
    "Sequence[str]": ("text, or a list of texts", _is_texts),
    "str | Sequence[str]": ("text, or a list of texts", _is_texts),
    "Measures | None": (
        "a measure, or a list or mapping of these",
        lambda value: value is None or isinstance(value, str | Measure | Iterable),
    ),
}


def check_types(kind: type[Query], options: Mapping[str, object]) -> None:
    """Raise `QuestionError` for the first option of a query that has a value of another type.

    >>> from eptaro.core.verbs.queries import Recap
    >>> check_types(Recap, {"per": "month", "top": 3})
    """
    for name, value in options.items():
        known = _TYPES.get(str(kind.__dataclass_fields__[name].type))
        if known is not None and not known[1](value):
            raise QuestionError(f"{name}={value!r} must be {known[0]}")


EVERY = "all"  # the word for all group columns of a book
ADJUSTMENT = "adjustment_period"  # the group column of the adjustment periods of a year
NO_ADJUSTMENT = "0"  # its value for postings to months


def group_names(by: By) -> list[str]:
    """Return the group columns that `by` names; raises `QuestionError` for anything else."""
    if by is None or isinstance(by, str):
        return [] if by is None else [name_of(by)]
    if not isinstance(by, Sequence) or not all(isinstance(name, str) for name in by):
        raise QuestionError(
            f"{show_option('by', by)} names no columns; give one name, or a list of names"
        )
    return [name_of(name) for name in by]


_FORMED = re.compile(r"\s*([^\W\d]\w*)\s*=(?!=)\s*(\S.*)", re.DOTALL)


def name_of(group: str) -> str:
    """Return the name of a group column, which may be before its formula and an `=`."""
    match = _FORMED.fullmatch(group)
    return match[1] if match else group


def formulas_of(by: By) -> dict[str, Formula]:
    """Return the group columns that are calculated, as they are written: `name=formula`."""
    groups = [] if by is None else [by] if isinstance(by, str) else [*by]
    matches = [match for group in groups if (match := _FORMED.fullmatch(group))]
    return {match[1]: Formula.column(match[2]) for match in matches}


def looked_at(as_of: AsOf, coverage: Span, grain: Grain) -> tuple[int, Span]:
    """Return the day ordinal of an as-of date, and the coverage up to it.

    `latest`, or None, is the coverage's last day. A date after it does not stretch the coverage:
    nobody knows what happened on these days. Of data dated by wider periods only those that have
    ended by the date count. Raises `QuestionError` where it lies before the coverage.
    """
    if as_of is None or (isinstance(as_of, str) and as_of == "latest"):
        day = coverage.hi
    else:
        day = as_of_day(as_of)
    if day < coverage.lo:
        raise QuestionError(
            f"as_of={as_date(day)} is before the coverage {coverage}; there is no data up to it"
        )
    day = last_whole(day, grain)
    if day < coverage.lo:
        raise QuestionError(
            f"as_of={as_of}: the first {grain} of the data ends later; there is no data up to it"
        )
    return day, Span.of(coverage.lo, min(day, coverage.hi))


def nothing_left(coverage: Span) -> NothingLeftError:
    """Return the error for a question that no group in the coverage is left for."""
    return NothingLeftError(f"no transactions are left to look at in {coverage}")


@record
class Filter(Record):
    """What `only` narrows a question to: windows of days, of which most questions take one, and
    wanted values of group columns.
    """

    windows: tuple[Span, ...] = ()
    wanted: Mapping[str, Any] = field(default_factory=dict)

    @property
    def window(self) -> Span | None:
        """The one window, if there is any; raises `QuestionError` where there are several."""
        if len(self.windows) > 1:
            raise QuestionError(
                f"only names {len(self.windows)} spans, {' and '.join(map(str, self.windows))}; "
                f"recap sets several side by side, any other question takes one"
            )
        return self.windows[0] if self.windows else None

    @classmethod
    def of(cls, only: Only, calendar: Calendar, names: Sequence[str], today: int) -> Filter:
        """Return what `only` says: a span of days or periods (`2024-Q1..2025-Q2`), a period or its
        label, `this year`, `last 3 months` (whole ones before the as-of date's), `last 3 complete
        months` (those that have ended by it), group values, or several of these.

        `names` are the group columns. Raises `QuestionError` for anything else.
        """
        match only:
            case None:
                return cls()
            case Span():
                return cls((only,))
            case Period():
                return cls((only.span,))
            case Mapping():
                return cls((), dict(only))
            case str():
                return cls._of_text(only, calendar, names, today)
            case Sequence():
                return cls._union(cls.of(part, calendar, names, today) for part in only)
            case _:
                raise QuestionError(
                    f"{show_option('only', only)} is not a span, a period label or a group value "
                    "(or several)"
                )

    @classmethod
    def of_database(cls, only: Mapping[str, Any] | Span | Sequence[Any] | None) -> Filter:
        """Return what `only` says where a database narrows: spans and group values alone."""
        parts: list[Any] = [only] if isinstance(only, Mapping | Span | str) else [*(only or ())]
        for part in parts:
            if not isinstance(part, Mapping | Span):
                raise QuestionError(
                    f"{show_option('only', part)}: a database is narrowed by a Span of days and "
                    "by group values "
                    f"as a mapping, such as {{'route': 'Norrow-Fenholm'}}"
                )
        return cls._union(
            cls((), dict(part)) if isinstance(part, Mapping) else cls((part,)) for part in parts
        )

    @classmethod
    def _union(cls, parts: Iterable[Filter]) -> Filter:
        """Return several scopes as one; values of one column are alternatives."""
        windows: list[Span] = []
        values_by_name: dict[str, Any] = {}
        for part in parts:
            windows += part.windows
            for name, value in part.wanted.items():
                many = isinstance(value, Sequence | set) and not isinstance(value, str)
                values_by_name[name] = [
                    *values_by_name.get(name, []),
                    *(value if many else [value]),
                ]
        return cls(tuple(windows), values_by_name)

    @classmethod
    def _of_text(cls, text: str, calendar: Calendar, names: Sequence[str], today: int) -> Filter:
        name, equals, value = text.partition("=")
        if equals and name.strip() in names:
            return cls((), {name.strip(): value.strip()})
        if ".." in text:
            first, _, last = (part.strip() for part in text.partition(".."))
            lo = _ends_of_text(first, calendar)[0] if first else FIRST_DAY
            hi = _ends_of_text(last, calendar)[1] if last else LAST_DAY
            if hi < lo:
                raise QuestionError(
                    f"{show_option('only', text)} is reversed: its end comes before its start"
                )
            return cls((Span.of(lo, hi),))
        if relative := _relative_span(text, calendar, today):
            return cls((relative,))
        try:
            return cls((calendar.period(text).span,))
        except CalendarError as error:
            raise QuestionError(
                f"{show_option('only', text)} is not a span (2025-05-06..2025-06-17) or a group "
                "value "
                f"(column=value; columns: {', '.join(names) or 'none'}), and {error}"
            ) from None


def values_apart(only: Only, names: Sequence[str]) -> tuple[list[Any], dict[str, list[Any]]]:
    """Return what a question is narrowed to beside group values, and these, column by column.

    >>> values_apart(["2024", "route=a", {"route": "b"}], ["route"])
    (['2024'], {'route': ['a', 'b']})
    """
    parts = [only] if isinstance(only, str | Mapping | Span | Period) else [*(only or ())]
    others, values_by_name = list[Any](), dict[str, list[Any]]()
    for part in parts:
        values: Mapping[str, Any] | None
        if isinstance(part, str):
            name, equals, value = part.partition("=")
            values = {name.strip(): value.strip()} if equals and name.strip() in names else None
        else:
            values = part if isinstance(part, Mapping) else None
        if values is None:
            others.append(part)
        for name, value in (values or {}).items():
            many = isinstance(value, Sequence | set) and not isinstance(value, str)
            values_by_name[name] = [*values_by_name.get(name, []), *(value if many else [value])]
    return others, values_by_name


def _ends_of_text(text: str, calendar: Calendar) -> tuple[int, int]:
    """Return the first and last day of a date or of a period's label, as an end of a span."""
    try:
        day = ordinal(text)
    except DateError:
        try:
            span = calendar.period(text).span
        except CalendarError as error:
            raise QuestionError(f"{text!r} is not a date (2025-08-20), and {error}") from None
        return span.lo, span.hi
    return day, day


def _relative_span(text: str, calendar: Calendar, today: int) -> Span | None:
    """Return the span of `this year`, `last month`, `last 3 months` or `last 3 complete months`, or
    None.

    `this` is the period that holds the as-of date, `last n` the n whole ones before it, and
    `last n complete` the n latest that have ended by the as-of date: of data through 31 December,
    the last complete month is December.
    """
    match = _RELATIVE.fullmatch(text.strip().lower())
    if not match:
        return None
    which, count, complete, unit = match.groups()
    amount = Amount.of_levels(f"{count or 1} {unit}", "only")
    if amount.unit not in calendar.levels:
        raise QuestionError(
            f"{show_option('only', text)}: calendar {calendar.name!r} has no {amount.unit}s"
        )
    if which == "this":
        if count not in (None, "1") or complete:
            raise QuestionError(
                f"{show_option('only', text)}: 'this' is one period; write last {amount}"
            )
        return calendar.period_of(as_date(today), amount.unit).span
    # A period that ends on the as-of date is complete: the next day lies in the one after it.
    after = min(today + 1, LAST_DAY) if complete else today
    now = calendar.period_of(as_date(after), amount.unit)
    first, last = now.shift(-amount.n), now.shift(-1)
    if first is None or last is None:
        raise QuestionError(f"{show_option('only', text)} goes beyond the calendar")
    return Span(first.first, last.last)


_PARAMETERS = re.compile(r"(?<=^Parameters\n-{10}\n).*?(?=\n\n|\Z)", re.MULTILINE | re.DOTALL)


def document_inherited(kind: type[Any]) -> None:
    """Add to the parameters that a class's documentation lists those that its bases list.

    >>> class Fare:
    ...     '''Parameters
    ...     ----------
    ...     route : str
    ...         Where to.
    ...     nights : int
    ...         None.'''
    >>> class Return(Fare):
    ...     '''Parameters
    ...     ----------
    ...     nights : int
    ...         How many.'''
    >>> document_inherited(Return)
    >>> print(Return.__doc__)
    Parameters
    ----------
    nights : int
        How many.
    route : str
        Where to.
    """
    own = _PARAMETERS.search(text := cleandoc(kind.__doc__ or ""))
    if own is None:
        return
    lists = [own, *(_PARAMETERS.search(cleandoc(base.__doc__ or "")) for base in kind.__mro__[1:])]
    entries: dict[str, str] = {}  # by what they are of
    for entry in (part for match in lists if match for part in re.split(r"\n(?=\S)", match[0])):
        entries.setdefault(entry.partition(" : ")[0], entry)
    kind.__doc__ = text[: own.start()] + "\n".join(entries.values()) + text[own.end() :]


@record(kw_only=True)
class Query(Record):
    """What a verb is asked: the options that all have, and those of each in a class of its own.

    `pictures` names those of `plots/draw.py` that suit every answer, the most fitting first. What
    a class says of its parameters is said of them in the classes made from it as well.

    Parameters
    ----------
    by : str or sequence of str, optional
        Group columns.
    only : span, label, mapping, or several, optional
        Days, periods or group values to narrow to.
    as_of : date, optional
        The last day looked at: a date, `latest` or `today`.
    """

    verb: ClassVar[str]
    pictures: ClassVar[tuple[str, ...]] = ()
    by: By = None
    only: Only = None
    as_of: AsOf = None

    def __init_subclass__(cls) -> None:
        super().__init_subclass__()
        document_inherited(cls)

    def answer(self, facts: BookData) -> Result:
        """Return what facts in one calendar answer to the query of a verb from elsewhere."""
        raise TypeError(f"{type(self).__name__} does not say how it is answered; give it answer()")

    @property
    def of_all_groups(self) -> bool:
        """Whether groups are set beside each other that may lie in several shards."""
        return False

    @property
    def needs_one_calendar(self) -> tuple[str, ...]:
        """The options in use that set groups beside each other, and so need one calendar."""
        return ()

    @property
    def order(self) -> tuple[str, ...]:
        """The columns that the rows are put in order by."""
        return ()

    def without_sort(self) -> Self:
        """Return the query of the same rows in the order of groups and time."""
        return self

    def without_group_goals(self) -> Self:
        """Return the query without goals of single groups, which may be elsewhere."""
        return self


@record(kw_only=True)
class MeasuredQuery(Query):
    """What a verb is asked that answers with measures: those of the book, or some that its cells
    allow.

    Parameters
    ----------
    measures : str, Measure, several of these, or a mapping, optional
        Which measures of the book, by name, or others that what it keeps allows; all, if unset.
    """

    measures: Measures | None = None


def as_names(names: str | Sequence[str]) -> tuple[str, ...]:
    """Return names given as one, or as several."""
    return (names,) if isinstance(names, str) else tuple(names)


@record(kw_only=True)
class SortedQuery(MeasuredQuery):
    """What a verb is asked whose rows can be put in another order than that of groups and time.

    Parameters
    ----------
    sort : str or sequence of str, optional
        The columns to order rows by, each deciding between equals of the one before it; `-name`:
        largest first.
    """

    sort: str | Sequence[str] | None = option(
        None,
        metavar="COLUMN",
        heading="groups",
        help="Order the rows by a column, -COLUMN with the largest first; a second "
        "one breaks ties.",
    )

    @property
    def order(self) -> tuple[str, ...]:
        """The columns that the rows are put in order by."""
        return as_names(self.sort or ())

    def without_sort(self) -> Self:
        """Return the query of the same rows in the order of groups and time."""
        return replace(self, sort=None)


@record(kw_only=True)
class TotalledQuery(SortedQuery):
    """What a verb is asked whose groups can be followed by all of them together.

    Parameters
    ----------
    totals : bool
        Adds rows of all groups together at the end.
    """

    layouts: ClassVar[tuple[str, ...]] = ("wide", "totals")  # that set groups beside each other
    totals: bool = option(
        False, rare=True, heading="groups", help="Add rows of all groups together at the end."
    )

    @property
    def needs_one_calendar(self) -> tuple[str, ...]:
        """The options in use that set groups beside each other, and so need one calendar."""
        return tuple(name for name in self.layouts if getattr(self, name))

    @property
    def of_all_groups(self) -> bool:
        """Whether groups are set beside each other that may lie in several shards."""
        return bool(self.needs_one_calendar)
