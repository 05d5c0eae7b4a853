"""A workbook about a book: a sheet per year (or another level, or group), and its contents."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from eptaro.core.calendars.grain import level_of
from eptaro.core.calendars.levels import LEVELS, as_wide, check_level
from eptaro.core.calendars.span import Span
from eptaro.core.measures.measure import Measure
from eptaro.core.query.query import AsOf
from eptaro.core.results.column import Column, date_column
from eptaro.core.results.format import BLANK
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Accumulate, Compare, Recap
from eptaro.core.verbs.store import Store
from eptaro.errors import QuestionError
from eptaro.outputs.files import replace_whole
from eptaro.outputs.sheets import Workbook, number_format, right, write_cells
from eptaro.presentation.headline import footer
from eptaro.record import Record, record

_TOP = 4  # rows above a sheet's table
_MOST_SHEETS = 250


@record
class SheetRules(Record):
    """What the sheets are: one per period of a level, or per value of a group column.

    `parts` is the level of each sheet's rows, `years` how many years back from the as-of
    date are shown; without it, all. Data that is dated by the year goes on one sheet.
    """

    sheets: str = "year"
    parts: str = "month"
    years: int | None = None


@record
class _Sheet:
    title: str
    span: Span
    table: Result
    groups: Result | None


def write_workbook(
    book: Store, whole: Store, path: Path, rules: SheetRules, as_of: AsOf = None
) -> Path:
    """Write the workbook: contents first, then the sheets, each with totals and a chart; `whole`
    answers for all groups together.

    Raises `QuestionError` for a level or column that cannot distinguish sheets.
    """
    check_level(rules.parts, book.about.calendar.levels)
    rules = replace(rules, parts=as_wide(rules.parts, level_of(whole.about.folded.grain)))
    sheets = list(_sheets(book, whole, rules, as_of))
    if len(sheets) > _MOST_SHEETS:
        raise QuestionError(
            f"{len(sheets)} sheets are too many; give years= or a wider level for sheets="
        )

    def fill(beside: Path) -> None:
        file = Workbook(beside)
        contents = file.sheet("Contents")
        pages = [(sheet, file.sheet(sheet.title)) for sheet in sheets]
        _write_contents(file, contents, book, pages)
        for sheet, page in pages:
            _write_sheet(file, page, book, sheet)
        file.close()

    return replace_whole(path, fill)


def _sheets(book: Store, whole: Store, rules: SheetRules, as_of: AsOf) -> Iterator[_Sheet]:
    """Yield what each sheet shows."""
    levels = book.about.calendar.levels
    coverage = whole.view(as_of=as_of).coverage
    if rules.years is not None:
        if rules.years < 1:
            raise QuestionError(f"years={rules.years} must be at least 1")
        back = book.about.calendar.period_of(coverage.last, "year").shift(1 - rules.years)
        first = coverage.first if back is None else max(back.first, coverage.first)
        coverage = Span(first, coverage.last)
    if rules.sheets in book.about.by:
        values = book.ask(Recap("year", by=rules.sheets, as_of=as_of)).column(rules.sheets)
        for word in dict.fromkeys(values.to_list()):
            only: Any = [{rules.sheets: word}, coverage]
            table = _rows(book, rules.parts, only, as_of)
            yield _Sheet(BLANK if word is None else str(word), coverage, table, None)
        return
    if rules.sheets not in levels:
        raise QuestionError(
            f"sheets={rules.sheets!r} is neither a level ({', '.join(levels)}) nor a group column "
            f"({', '.join(book.about.by) or 'none'})"
        )
    if (
        rules.sheets == level_of(book.about.folded.grain) == "year"
    ):  # nothing lies within its periods
        yield _Sheet("Years", coverage, _rows(whole, "year", coverage, as_of), None)
        return
    if LEVELS.index(rules.sheets) >= LEVELS.index(rules.parts):
        raise QuestionError(f"parts={rules.parts!r} do not lie within sheets={rules.sheets!r}")
    for period in book.about.calendar.periods(coverage, rules.sheets):
        table = _rows(whole, rules.parts, period, as_of)
        groups = None
        if book.about.by:
            groups = _group_rows(book, period, as_of)
        yield _Sheet(period.label, period.span, table, groups)


def _rows(book: Store, parts: str, only: Any, as_of: AsOf) -> Result:
    """Return the parts of a sheet: value, prior year's, change, and the running total."""
    recap = book.ask(Recap(parts, only=only, as_of=as_of))
    pairs = book.ask(Compare(parts, only=only, as_of=as_of))
    columns = [recap.column(name) for name in ("period", "first", "last", "days", "complete")]
    within = "year" if parts != "year" else "all"
    running = book.ask(Accumulate(within, every=parts, only=only, as_of=as_of))
    ends = running.column("date" if parts == "day" else "last")
    lasts = np.searchsorted(ends.data, recap.column("last").data)
    at = np.minimum(lasts, len(running) - 1)
    for measure in book.about.measures:
        name = measure.name
        columns.append(recap.column(name))
        columns += [pairs.column(f"{name}{end}") for end in ("_prior", "_change", "_change_ratio")]
        columns.append(running.column(f"{name}_to_date").take(at))
    return Result(columns, recap.meta, recap.answer)


def _group_rows(book: Store, period: Any, as_of: AsOf) -> Result:
    """Return the result of each group over a period, against the year before."""
    level = period.level
    recap = book.ask(Recap(level, only=period, by=book.about.by, as_of=as_of))
    pairs = book.ask(Compare(level, only=period, by=book.about.by, as_of=as_of))
    columns = [recap.column(name) for name in book.about.by]
    for measure in book.about.measures:
        name = measure.name
        columns.append(recap.column(name))
        columns += [pairs.column(f"{name}{end}") for end in ("_prior", "_change", "_change_ratio")]
    return Result(columns, recap.meta, recap.answer)


def _write_contents(
    file: Workbook, page: Any, book: Store, pages: list[tuple[_Sheet, Any]]
) -> None:
    """Write the list of sheets with links, their days and their result."""
    bold = file.format(bold=True, font_size=14)
    soft = file.format(font_color="#6b727b")
    names = ", ".join(measure.name for measure in book.about.measures)
    page.write_string(0, 0, f"{names} of {book.about.source}", bold)
    page.write_string(1, 0, footer(pages[0][0].table) if pages else "", soft)
    lasts = [sheet.span.hi for sheet, _ in pages]
    titles = [sheet.title for sheet, _ in pages]
    columns = [
        Column.text("sheet", titles),
        date_column("first", np.array([sheet.span.lo for sheet, _ in pages])),
        date_column("last", np.array(lasts)),
    ]
    columns += [
        _totals_of_sheets(measure, [sheet for sheet, _ in pages]) for measure in book.about.measures
    ]
    table = Result(columns)
    after = write_cells(file, page, table, _TOP - 1, words=True)
    link = file.format(font_color="#1f5a7a", underline=1)
    for row, (sheet, own) in enumerate(pages, _TOP):
        target = own.get_name().replace("'", "''")
        page.write_url(row, 0, f"internal:'{target}'!A1", link, string=sheet.title)
    _write_totals(file, page, book, table, _TOP, after)
    page.set_column(0, 0, max([len(title) for title in titles] + [18]) + 2)
    page.freeze_panes(_TOP, 1)
    page.fit_to_pages(1, 0)


def _totals_of_sheets(measure: Measure, sheets: list[_Sheet]) -> Column:
    """Return the result of a measure on each sheet, where its parts add up; else blank."""
    like = sheets[0].table.column(measure.name)
    if measure.additive_plane is None:
        return Column.of(measure.name, "float", np.zeros(len(sheets)), np.zeros(len(sheets), bool))
    sums = []
    for sheet in sheets:
        column = sheet.table.column(measure.name)
        sums.append(np.where(column.blank, 0, column.data).sum())
    return Column.of(measure.name, like.kind, sums, scale=like.scale, format=like.format)


def _write_sheet(file: Workbook, page: Any, book: Store, sheet: _Sheet) -> None:
    table = sheet.table
    page.write_string(0, 0, sheet.title, file.format(bold=True, font_size=14))
    whole = all(table.column("complete").to_list())
    remark = "" if whole else " (not all of its parts are whole)"
    page.write_string(1, 0, f"{sheet.span.first} to {sheet.span.last}{remark}")
    page.write_url(
        1,
        6,
        "internal:'Contents'!A1",
        file.format(font_color="#1f5a7a", underline=1),
        string="Contents",
    )
    page.write_string(2, 0, footer(table), file.format(font_color="#6b727b"))
    after = write_cells(file, page, table, _TOP, words=True)
    _write_totals(file, page, book, table, _TOP + 1, after)
    page.freeze_panes(_TOP + 1, 1)
    _add_chart(file, page, book, table, _TOP + 1, after)
    if sheet.groups is not None:
        start = after + 21
        page.write_string(start, 0, f"By {' and '.join(book.about.by)}", file.format(bold=True))
        words = [str(word) for word in sheet.groups.columns[0].to_list()]
        page.set_column(0, 0, min(max(map(len, words)) + 3, 40))
        below = write_cells(file, page, sheet.groups, start + 1, widths=False, words=True)
        _write_totals(file, page, book, sheet.groups, start + 2, below)
    page.set_landscape()
    page.fit_to_pages(1, 0)


def _write_totals(
    file: Workbook, page: Any, book: Store, table: Result, first: int, after: int
) -> None:
    """Write live sums under the columns whose parts add up, with our totals as their values."""
    from xlsxwriter.utility import xl_range

    bold = file.format(bold=True, top=1)
    for place in range(len(table.names)):
        page.write_blank(after, place, None, bold)
    page.write_string(after, 0, "total", bold)
    for measure in book.about.measures:
        if measure.additive_plane is None:
            continue
        for name in (measure.name, f"{measure.name}_prior", f"{measure.name}_change"):
            if name not in table:
                continue
            column, place = table.column(name), table.names.index(name)
            if column.blank.all() or not len(column):
                continue
            filled = np.where(column.blank, 0, column.data)
            total = Column.of("", column.kind, [filled.sum()], scale=column.scale).numbers()[0]
            area = xl_range(first, place, after - 1, place)
            shape = right(file, bold=True, top=1, num_format=number_format(column))
            page.write_formula(after, place, f"=SUM({area})", shape, float(total))


def _add_chart(
    file: Workbook, page: Any, book: Store, table: Result, first: int, after: int
) -> None:
    """Add a native chart: the first measure as bars, the prior year's as a line."""
    name, sheet = book.about.measures[0].name, page.get_name()
    chart = file.file.add_chart({"type": "column"})
    line = file.file.add_chart({"type": "line"})
    labels = [sheet, first, 0, after - 1, 0]
    for own, target, look in (
        (name, chart, {"fill": {"color": "#1f5a7a"}, "gap": 60}),
        (f"{name}_prior", line, {"line": {"color": "#b3541e", "width": 1.75}}),
    ):
        place = table.names.index(own)
        target.add_series(
            {
                "name": [sheet, first - 1, place],
                "categories": labels,
                "values": [sheet, first, place, after - 1, place],
                **look,
            }
        )
    chart.combine(line)
    chart.set_title({"name": f"{name} and the year before", "name_font": {"size": 11}})
    chart.set_legend({"position": "bottom"})
    chart.set_y_axis(
        {"num_format": "#,##0", "major_gridlines": {"visible": True, "line": {"color": "#e3dfd6"}}}
    )
    chart.set_size({"width": 900, "height": 340})
    page.insert_chart(after + 2, 1, chart)
