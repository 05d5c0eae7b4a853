"""`Daybook`: transactions folded to one cell per group and day, ready for the verbs."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from eptaro.core import hooks
from eptaro.core.accumulate import accumulate
from eptaro.core.calendar import Calendar
from eptaro.core.cells import Cells
from eptaro.core.compare import compare
from eptaro.core.days import as_date
from eptaro.core.errors import InputError
from eptaro.core.facts import By, Facts
from eptaro.core.measures import Measure, Plane, parse_measures
from eptaro.core.monthcalendar import MonthCalendar
from eptaro.core.recap import recap
from eptaro.core.span import Span


class Daybook(Facts):
    """Transactions folded to one cell per group and day, with calendar, coverage and measures.

    `table` is any frame that speaks the Arrow C stream protocol, or a mapping of column
    names to arrays; `date` names its date column, `by` its group columns, `measures`
    are written `name=how(column)`. `coverage` is the span that the data speaks for, by
    default its first to last date.

    Raises `InputError` for a missing column or an empty table, `DateError` for a date
    that cannot be read, `MeasureError` for a measure that cannot be calculated.

    >>> import eptaro as ep
    >>> book = ep.Daybook({"on": ["2025-01-31"], "fare": [7]}, date="on",
    ...                   measures=["revenue=sum(fare)", "trips=count()"])
    >>> print(book.coverage, book.rows)
    2025-01-31..2025-01-31 1
    """

    def __init__(
        self,
        table: Any,
        *,
        date: str,
        measures: str | Iterable[str | Measure],
        by: By = None,
        calendar: Calendar | None = None,
        coverage: Span | str | None = None,
    ) -> None:
        names = [by] if isinstance(by, str) else list(by or ())
        parsed = parse_measures(measures)
        planes = {plane for measure in parsed for plane in measure.planes}
        groups, cells, rows, source = hooks.call("fold", table, date, names, planes)
        calendar, span = calendar or MonthCalendar(), _coverage(coverage, cells, source)
        if calendar.limits and span not in calendar.limits:
            raise InputError(
                f"{source}: the coverage {span} reaches out of the list of calendar "
                f"{calendar.name!r}, {calendar.limits}"
            )
        super().__init__(groups, cells, parsed, calendar, span, rows, source)

    @classmethod
    def read(
        cls,
        path: str | Path | Sequence[str | Path],
        *,
        date: str,
        measures: str | Iterable[str | Measure],
        by: By = None,
        calendar: Calendar | None = None,
        coverage: Span | str | None = None,
    ) -> Daybook:
        """Read and fold a CSV or Parquet file (the ending decides), or several as one.

        The other arguments and the errors are those of `Daybook`.
        """
        paths = [path] if isinstance(path, str | Path) else list(path)
        source = hooks.call("open_files", [Path(one) for one in paths])
        return cls(
            source, date=date, measures=measures, by=by, calendar=calendar, coverage=coverage
        )

    recap = recap
    accumulate = accumulate
    compare = compare

    def __repr__(self) -> str:
        by = f" by {', '.join(self.groups.names)}" if self.groups.names else ""
        return (
            f"<Daybook of {self.rows:,} rows{by}, {self.coverage}, "
            f"{self.groups.count:,} groups, calendar {self.calendar.name!r}>"
        )


def _coverage(given: Span | str | None, cells: Cells, source: str) -> Span:
    """Return the coverage given, which must hold all the data, or that of the data."""
    last = cells.first_day + cells.days - 1
    if given is None:
        return Span.of(cells.first_day, last)
    span = Span.parse(given) if isinstance(given, str) else given
    if not (span.lo <= cells.first_day and last <= span.hi):
        outside = cells.total(Plane("rows"), cells.first_day, span.lo - 1) + cells.total(
            Plane("rows"), span.hi + 1, last
        )
        raise InputError(
            f"{source}: {outside:,} rows lie outside coverage={span}; the data runs from "
            f"{as_date(cells.first_day)} to {as_date(last)}. Widen the coverage, or narrow a "
            f"question with only="
        )
    return span
