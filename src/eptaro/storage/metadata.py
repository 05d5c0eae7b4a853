"""The metadata of a book beside its cells: its rows, measures, calendar and coverage, as JSON."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from typing import Any

from eptaro.core.aggregation.folded import Folded, UnmetRows
from eptaro.core.calendars.days import as_date
from eptaro.core.calendars.grain import GRAINS, CalendarGrain, Grain
from eptaro.core.calendars.kinds import from_settings
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.measures.measure import parse_measures
from eptaro.core.query.book_options import BookOptions, Calendars
from eptaro.core.query.coverage import Coverage, asked_by_group
from eptaro.core.query.own_calendars import OwnCalendars, check_own
from eptaro.core.query.view import BookData


def about_book(book: BookData) -> dict[str, Any]:
    """Return the metadata of a book beside its cells."""
    options = options_of(book)
    return about_rows(book.folded) | options_about(options, book.folded)


def options_of(book: BookData) -> BookOptions:
    """Return the measures, calendar(s) and coverage of a book, as they were asked for."""
    coverage = book.declared if book.spans is None else book.spans.asked
    calendar = book.calendar if book.own is None else book.own
    return BookOptions(
        book.measures, [], calendar, coverage, workdays=book.workdays, span=book.coverage
    )


def options_about(options: BookOptions, folded: Folded) -> dict[str, Any]:
    """Return the metadata of a book's measures, groups and calendar(s), and the days it covers."""
    common, own = check_own(options.calendar)
    work = options.workdays
    assert isinstance(work, Workdays) and options.span is not None
    by_group = _own_coverage(options.coverage)
    declared = None if options.coverage is None or by_group is not None else str(options.coverage)
    return {
        "measures": [f"{measure.name}={measure.formula}" for measure in options.measures],
        "by": folded.groups.names,
        "calendar": common.settings(),
        "own_calendars": own.settings() if own else None,
        "coverage": str(options.span),
        "declared": declared,
        "own_coverage": by_group,
        "workdays": work.settings(),
        "days": str(folded.days),
        "day_off": _day_off(folded, work),
    }


def _day_off(folded: Folded, workdays: Workdays) -> str | None:
    """Return a day off that has rows, None where there is none: coverage then grows over them."""
    days = folded.days_with_rows
    off = days[~workdays.is_workday(days)]
    return str(as_date(int(off[0]))) if len(off) else None


def about_rows(folded: Folded) -> dict[str, Any]:
    """Return the metadata of the rows of a book."""
    return {
        "rows": folded.rows,
        "sources": list(folded.sources),
        "rejected": folded.rejected_rows,
        "left_out": {name: str(total) for name, total in folded.left_out.items()},
        "notes": list(folded.notes),
        "grain": _about_grain(folded.grain),
        "where": None if folded.left is None else [folded.left.where, folded.left.rows],
        "fingerprints": sorted(folded.fingerprints),
    }


def rows_from_metadata(about: dict[str, Any]) -> dict[str, Any]:
    """Return the metadata of the rows of a book, as `Folded` has it."""
    return {
        "rows": int(about["rows"]),
        "sources": texts(about["sources"] if "sources" in about else [about["source"]]),
        "unlisted": int(about.get("rejected", 0)),
        "left_out": {column: _number(total) for column, total in about["left_out"].items()},
        "notes": texts(about["notes"]),
        "fingerprints": frozenset(texts(about["fingerprints"])),
        "left": UnmetRows(*about["where"]) if about.get("where") else None,
        "grain": grain_from_metadata(about.get("grain", "day")),
        "seen": Span.parse(about["days"]) if about.get("days") else None,
    }


def texts(words: Any) -> tuple[str, ...]:
    """Return a list of texts; raises `TypeError` for one of anything else."""
    if not isinstance(words, list) or not all(isinstance(word, str) for word in words):
        raise TypeError(f"{words!r} are not texts")
    return tuple(words)


def _about_grain(grain: Grain) -> Any:
    if isinstance(grain, CalendarGrain):
        return {"level": grain.level, "calendar": grain.calendar.settings()}
    return grain


def grain_from_metadata(about: Any) -> Grain:
    """Return the grain of a book's rows."""
    if isinstance(about, dict):
        return CalendarGrain(from_settings(about["calendar"]), about["level"])
    return GRAINS[GRAINS.index(about)]


def options_from_metadata(about: dict[str, Any]) -> BookOptions:
    """Return the measures, calendar(s) and coverage of a book."""
    own = about.get("own_calendars")
    calendar: Calendars = (
        OwnCalendars.from_settings(own) if own else from_settings(about["calendar"])
    )
    coverage: Coverage = about["declared"] if "declared" in about else about["coverage"]
    if by_group := about.get("own_coverage"):
        coverage_given = (
            by_group if isinstance(by_group, str) else {tuple(k): s for k, s in by_group}
        )
        coverage = coverage_given
    workdays = Workdays.from_settings(about["workdays"]) if about.get("workdays") else Workdays()
    measures, span = parse_measures(about["measures"]), Span.parse(about["coverage"])
    return BookOptions(measures, [], calendar, coverage, workdays=workdays, span=span)


def _own_coverage(coverage: Coverage) -> Any:
    """Return how the coverage goes by groups, as JSON takes it; None where it is common."""
    by_group = asked_by_group(coverage)
    if by_group is None or isinstance(by_group, str):
        return by_group
    return [
        [[*map(str, key)] if isinstance(key, tuple) else [str(key)], str(span)]
        for key, span in by_group.items()
    ]


def _number(text: str) -> Any:
    try:
        return Decimal(text)
    except InvalidOperation:
        return float(text)
