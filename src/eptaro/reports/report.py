"""Writing a report: a page or a workbook, by the file's ending."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import fields, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from eptaro.background import BackgroundTask
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.query.query import AsOf
from eptaro.core.results.result import Result
from eptaro.core.verbs.layouts.adjustments import AdjustedStore
from eptaro.core.verbs.queries import Goals, Match
from eptaro.core.verbs.store import MemoryStore, Store
from eptaro.errors import InputError, QuestionError, unknown
from eptaro.outputs.files import replace_whole
from eptaro.outputs.html import STYLE
from eptaro.presentation.words import calendar_in_words, name_in_words
from eptaro.progress import report_progress
from eptaro.record import Record, record
from eptaro.reports.sections import ReportContext, ReportRules, Section, make_section
from eptaro.version import __version__

if TYPE_CHECKING:
    from eptaro.reports.workbook import SheetRules


_APART = "proof"


def write_page(
    book: Store,
    whole: Store,
    path: Path,
    rules: ReportRules,
    quality: Result | None = None,
    as_of: AsOf = None,
) -> Path:
    """Write the report of a book, of which `whole` answers for all groups together; `quality` is
    what `inspect` found in its file.
    """
    rules.check(book.about.calendar)
    query = ReportContext(whole, book, rules, quality, as_of)
    view = whole.view(as_of=as_of)
    sections: list[Section] = []
    # The proof reads all again while pictures are drawn.
    proof = BackgroundTask(make_section, _APART, query) if _APART in rules.sections else None
    for number, name in enumerate(rules.sections):
        report_progress(0, number / len(rules.sections))
        section = proof.result() if proof and name == _APART else make_section(name, query)
        if section is not None:
            sections.append(section)
    several = [name_in_words(measure.name) for measure in book.about.measures]
    more = [f"{len(several) - _MOST_NAMED} more"] if len(several) > _MOST_NAMED + 1 else []
    names = ", ".join([*several[: _MOST_NAMED if more else None], *more])
    page = _template().render(
        title=rules.title or f"{names[:1].upper()}{names[1:]} to {view.coverage.last}",
        style=STYLE,
        sections=sections,
        as_of=view.coverage.last,
        coverage=view.coverage,
        calendar=calendar_in_words(book.about.calendar),
        source=book.about.source,
        version=__version__,
    )
    return replace_whole(path, lambda beside: _write(beside, page))


def _write(path: Path, text: str) -> None:
    # A lone surrogate of the data is shown as a mark rather than breaking the page.
    path.write_text(text, encoding="utf-8", errors="replace")


def _template() -> Any:
    try:
        from jinja2 import Environment, PackageLoader, StrictUndefined
    except ImportError:
        raise InputError(
            "reports need the package jinja2; install it with: pip install 'eptaro[reports]'"
        ) from None
    loader = PackageLoader("eptaro.reports", "")
    environment = Environment(loader=loader, autoescape=True, undefined=StrictUndefined)
    environment.filters["days"] = with_whole_days
    return environment.get_template("page.html.j2")


_DAYS = re.compile(r"\d{4}-\d{2}-\d{2}(\.\.\d{4}-\d{2}-\d{2})?")


def with_whole_days(text: object) -> Any:
    """Return text, escaped, whose dates are not broken at the ends of lines."""
    from markupsafe import Markup, escape

    return Markup(_DAYS.sub(r'<span class="day">\g<0></span>', str(escape(str(text)))))


Rules = TypeVar("Rules", "ReportRules", "SheetRules")
ENDINGS = (".html", ".xlsx")
_MOST_NAMED = 3  # measures in a title
_MOST_YEARS = 200


@record
class ReportOptions(Record):
    """What a report was asked for: the options of a page, and those of a workbook; None where
    they were not given. See `ReportRules` and `SheetRules` for what they mean.
    """

    title: str | None = None
    sections: Sequence[str] | None = None
    per: str | None = None
    within: str | None = None
    trailing: str | None = None
    match: Match | None = None
    goals: Goals | None = None
    beside: Calendar | None = None
    before: Store | None = None
    since: AsOf = None
    sheets: str | None = None
    parts: str | None = None
    years: int | None = None

    def over(self, others: ReportOptions) -> ReportOptions:
        """Return these options, and others where these say nothing."""
        own = {field.name: getattr(self, field.name) for field in fields(self)}
        settings = {name: value for name, value in own.items() if value is not None}
        return replace(others, **settings)

    def rules(self, kind: type[Rules]) -> Rules:
        """Return the rules of a kind of report; raises `InputError` for an option of the other."""
        settings = {field.name: getattr(self, field.name) for field in fields(self)}
        settings_given = {name: value for name, value in settings.items() if value is not None}
        names = [field.name for field in fields(kind)]
        for name in sorted(set(settings_given) - set(names)):
            raise InputError(unknown("option of this kind of report", name, names))
        return kind(**settings_given)


def write_report(
    book: Store, path: str | Path, options: ReportOptions, quality: Result | None, as_of: AsOf
) -> Path:
    """Write a page (.html) or a workbook (.xlsx) and return its path.

    It shows the measures that are numbers. Raises `InputError` for another ending, or for an option
    of the other kind, `QuestionError` where no measure is a number.
    """
    target = Path(path)
    if book.about.own is not None:
        book = book.on_calendar(book.about.own.common, None)
    whole, book = _of_numbers(book)
    about = book.about
    years = about.coverage.days // 365
    if years > _MOST_YEARS and options.years is None:
        raise QuestionError(
            f"{about.source}: its dates reach over {years:,} years, {about.coverage}; a report "
            f"shows {_MOST_YEARS} at most. Look for wrong dates with inspect and read them as "
            f"blanks, or give a workbook years="
        )
    match target.suffix.lower():
        case ".html":
            from eptaro.reports.sections import ReportRules

            return write_page(book, whole, target, options.rules(ReportRules), quality, as_of)
        case ".xlsx":
            from eptaro.reports.workbook import SheetRules, write_workbook

            if isinstance(book, AdjustedStore):  # whose sheets are sums of months
                book = whole = replace(book, months_only=True)
            return write_workbook(book, whole, target, options.rules(SheetRules), as_of)
    raise InputError(f"{target}: {unknown('report ending', target.suffix, ENDINGS)}")


def _of_numbers(book: Store) -> tuple[Store, Store]:
    """Return the book without measures that are texts or dates: what answers for all groups
    together, which of a book in a folder is in memory, and the book itself.
    """
    view = book.view()
    numeric = [measure for measure in book.about.measures if not view.picks_texts(measure)]
    if not numeric:
        raise QuestionError("a report needs a measure that is a number, such as trips=count()")
    own = book.measuring(numeric)
    at_hand = view.tables or isinstance(book, AdjustedStore)
    return own if at_hand else MemoryStore(view.facts).measuring(numeric), own
