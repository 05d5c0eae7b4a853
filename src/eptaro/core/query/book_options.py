"""The options of every book: measures, groups, calendar, coverage, ..."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import field, replace
from typing import TypeAlias

from eptaro.core.aggregation.cells import ROWS, Plane
from eptaro.core.aggregation.folded import Folded
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import FIRST_DAY, LAST_DAY
from eptaro.core.calendars.grain import first_weekday
from eptaro.core.calendars.levels import WEEKDAYS
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.expressions.parser import NO_FORMULAS, Formula, Formulas
from eptaro.core.measures.measure import Measure, Measures, parse_measures, terms_on_totals
from eptaro.core.query.coverage import (
    WHOLE_PERIODS,
    Coverage,
    asked_by_group,
    group_spans,
    merged_coverage,
    resolve_coverage,
    widen_coverage,
)
from eptaro.core.query.own_calendars import OwnCalendars, check_own
from eptaro.core.query.query import ADJUSTMENT, By, formulas_of, group_names
from eptaro.core.query.view import BookData
from eptaro.core.results.format import Format, check_formats
from eptaro.errors import CalendarError, InputError, QuestionError, unknown
from eptaro.option import SYNONYMS
from eptaro.record import Record, record

_AROUND = 31  # days before and after the data whose holidays count as well
_MONTHS = 12  # of a year whose calendar does not say
_CALLED = re.compile(r"\w+\(")
Calendars: TypeAlias = "Calendar | OwnCalendars | None"
Worked: TypeAlias = "Workdays | Callable[[Span], Workdays] | None"


_OF_RULES = {  # options that people try where their rules belong
    name: (option, rules)
    for option, rules, names in (
        ("dates", "DateRules", ("grain", "order", "day_starts", "serials", "unix", "bad_dates")),
        ("numbers", "NumberRules", ("thousands", "decimal", "percent", "brackets", "strip")),
        ("files", "FileRules", ("delimiter", "encoding", "header_row", "sheet", "query")),
    )
    for name in names
}


def check_options(accepted: Collection[str], options: Mapping[str, object]) -> None:
    """Raise `QuestionError` for options that a way into a book does not take, with what may have
    been meant: another spelling, the rules that the option belongs to, or a measure.
    """
    for name, value in options.items():
        if name in accepted:
            continue
        if name in _OF_RULES:
            option, rules = _OF_RULES[name]
            raise QuestionError(
                f"there is no option {name!r} here; it belongs to {rules}: "
                f"{option}={rules}({name}={value!r})"
            )
        if isinstance(value, str) and _CALLED.match(value):
            raise QuestionError(
                f"there is no option {name!r}; give measures as a list or a mapping: "
                f"measures={{{name!r}: {value!r}}}"
            )
        raise QuestionError(unknown("option", name, accepted, SYNONYMS))


@record
class BookOptions(Record):
    """The options of a book, checked as far as can be without its rows."""

    measures: tuple[Measure, ...]
    by: list[str] = field(default_factory=list)
    calendar: Calendars = None
    coverage: Coverage = None
    formats: Mapping[str, Format] = field(default_factory=dict)
    workdays: Worked = None
    values: tuple[str, ...] = ()
    formulas: Formulas = NO_FORMULAS
    span: Span | None = None  # the coverage, once it is settled

    @classmethod
    def of(
        cls,
        measures: Measures,
        by: By = None,
        calendar: Calendars = None,
        coverage: Coverage = None,
        formats: Mapping[str, Format] | None = None,
        workdays: Worked = None,
        values: By = None,
        where: str | None = None,
        date: str | None = None,
        adjustments: str | None = None,
    ) -> BookOptions:
        """Return the options as they were given, measures, groups and conditions parsed."""
        if adjustments is not None:
            by = [*group_names(by), _adjustment_column(adjustments, calendar)]
        names, parsed = group_names(by), parse_measures(measures)
        values = [name for name in group_names(values) if name not in terms_on_totals(parsed)]
        formats_checked = check_formats(formats or {}, [measure.name for measure in parsed])
        formulas = {
            name: formula for measure in parsed for name, formula in measure.formulas.items()
        }
        formulas |= formulas_of(by) | formulas_of(values)
        if date is not None and (formula := Formula.date(date)) is not None:
            formulas[date] = formula
        condition = None if where is None else Formula.condition(where)
        return cls(
            parsed,
            names,
            calendar,
            coverage,
            formats_checked,
            workdays,
            tuple(values),
            Formulas(formulas, condition),
        )

    @property
    def planes(self) -> set[Plane]:
        """What the fold must keep."""
        own = {plane for measure in self.measures for plane in measure.planes}
        return own | {Plane("sum", column) for column in self.values}

    @property
    def kept_planes(self) -> list[Plane]:
        """What the fold keeps, in order."""
        return sorted({ROWS, *self.planes})

    def settle(self, folded: Folded) -> BookOptions:
        """Return the options with the workdays and the coverage of folded transactions; `declared`
        keeps how the coverage was given.

        Raises `InputError` where rows lie outside the coverage.
        """
        if self.span is not None:
            return self
        common, own = check_own(self.calendar)
        start = first_weekday(folded.grain)
        if start and own is None and common == MonthCalendar():
            # Weeks from Monday on could not hold one of the data's.
            common = MonthCalendar(week_starts=WEEKDAYS[start])
            return replace(self, calendar=common).settle(folded)
        calendars = [common] if own is None else own.every
        work = self.workdays
        if callable(work):  # around the data: days off may follow it
            days = folded.days
            lo, hi = max(days.lo - _AROUND, FIRST_DAY), min(days.hi + _AROUND, LAST_DAY)
            work = work(Span.of(lo, hi))
        by_group = asked_by_group(self.coverage)
        common_coverage = self.coverage if by_group is None else None
        span = resolve_coverage(common_coverage, folded, calendars, work or Workdays())
        if by_group is not None:
            span = widen_coverage(by_group, span)
        return replace(self, workdays=work or Workdays(), span=span)

    def facts(self, folded: Folded) -> BookData:
        """Return folded transactions under these options.

        Raises `InputError` where rows lie outside the coverage, or the coverage outside a
        listed calendar.
        """
        query, by_group = self.settle(folded), asked_by_group(self.coverage)
        span, work = query.span, query.workdays
        assert span is not None and isinstance(work, Workdays)
        spans = None if by_group is None else group_spans(by_group, folded, span)
        common, own = check_own(query.calendar)
        for calendar in [common] if own is None else own.of_groups(folded.groups, folded.source):
            if calendar.limits and span not in calendar.limits:
                raise InputError(
                    f"{folded.source}: the coverage {span} goes beyond the list of calendar "
                    f"{calendar.name!r}, {calendar.limits}"
                )
        formatted = replace(folded, formats=self.formats) if self.formats else folded
        return BookData(
            *(formatted, self.measures, common, span, work, own),
            spans=spans,
            declared=self.coverage if by_group is None else None,
        )


def _adjustment_column(adjustments: str, calendar: Calendars) -> str:
    """Return the group column of the adjustment period of each row, 0 for those of months: numbers
    beyond the months of a year are adjustment periods.
    """
    Formula.column(adjustments)  # whose error shows what was written
    common, own = check_own(calendar)
    every = [common] if own is None else own.every
    months = max(
        calendar.units("month", "year") or _MONTHS
        for calendar in every
        if "month" in calendar.levels
    )
    return f"{ADJUSTMENT}=if(coalesce({adjustments}, 0) > {months}, {adjustments}, 0)"


def chosen_measures(
    specs: Measures, own: Sequence[Measure], planes: Collection[tuple[str, str]]
) -> tuple[Measure, ...]:
    """Return measures of a book by their names, or others that what it keeps allows.

    Raises `QuestionError` for one that takes more than the book keeps.
    """
    names = [measure.name for measure in own]
    for spec in [specs] if isinstance(specs, str | Measure | Mapping) else specs:
        if isinstance(spec, str) and "(" not in spec and "=" not in spec and spec not in names:
            raise QuestionError(unknown("measure", spec, names))
    measures = parse_measures(specs, own)
    for measure in measures:
        lacking = sorted({*measure.planes} - {*planes})
        if lacking:
            what, column = lacking[0]
            needed = f"{what} of {column!r}" if column else what
            if owners := [str(t) for t in measure.terms if t.members is not None]:
                needed = f"the rows of {owners[0]}"
            has = ", ".join(f"{measure.name} = {measure.formula}" for measure in own)
            raise QuestionError(
                f"{measure.name}={measure.formula} takes {needed}, which this book does not keep: "
                f"it has {has}. Make it with this measure as well"
            )
    return measures


def merge_facts(one: BookData, two: BookData, *, force: bool = False) -> BookData:
    """Return the facts that one fold over the rows of both would have made.

    Raises `InputError` where the two differ, or rows of the second are in the first already, unless
    these are to count twice (`force`).
    """
    calendar, other = one.own or one.calendar, two.own or two.calendar
    if (one.measures, calendar) != (two.measures, other):
        raise InputError(
            f"the books differ: {[*one.measures]} in {calendar.describe()}, against "
            f"{[*two.measures]} in {other.describe()}"
        )
    try:
        workdays = one.workdays.union(two.workdays)
    except CalendarError as error:
        raise InputError(f"the books differ: {error}") from None
    coverage = one.declared
    if one.spans is not None or two.spans is not None:
        coverage = merged_coverage(one.spans, two.spans)
    elif coverage not in (None, *WHOLE_PERIODS) or coverage != two.declared:
        ends = one.coverage, two.coverage
        coverage = Span.of(min(span.lo for span in ends), max(span.hi for span in ends))
    options = BookOptions(one.measures, [], calendar, coverage, workdays=workdays)
    from eptaro.core.aggregation.merge import merge

    return options.facts(merge(one.folded, two.folded, force=force))
