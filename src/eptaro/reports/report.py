"""Which kind of report a file's ending asks for."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from eptaro.core.questions.scope import AsOf
from eptaro.core.tables.table import Table
from eptaro.daybook import Daybook
from eptaro.errors import InputError, QuestionError, unknown

ENDINGS = (".html", ".xlsx")
_MOST_YEARS = 200


def write_report(
    book: Daybook, path: str | Path, options: dict[str, Any], quality: Table | None, as_of: AsOf
) -> Path:
    """Write a page (.html) or a workbook (.xlsx) and return its path.

    Raises `InputError` for another ending, `QuestionError` for an option of the other kind.
    """
    target = Path(path)
    given = {name: value for name, value in options.items() if value is not None}
    years = book.coverage.days // 365
    if years > _MOST_YEARS and "years" not in given:
        raise QuestionError(
            f"{book.source}: its dates reach over {years:,} years, {book.coverage}; a report shows "
            f"{_MOST_YEARS} at most. Look for wrong dates with inspect and read them as blanks, "
            f"or give a workbook years="
        )
    match target.suffix.lower():
        case ".html":
            from eptaro.reports.page import write_page
            from eptaro.reports.settings import ReportRules

            return write_page(book, target, _rules(ReportRules, given), quality, as_of)
        case ".xlsx":
            from eptaro.reports.workbook import SheetRules, write_workbook

            return write_workbook(book, target, _rules(SheetRules, given), as_of)
    raise InputError(f"{target}: {unknown('report ending', target.suffix, ENDINGS)}")


def _rules(kind: type[Any], given: dict[str, Any]) -> Any:
    """Return the rules, taking from what is given what they know."""
    names = kind.__dataclass_fields__
    wrong = sorted(set(given) - set(names))
    if wrong:
        raise InputError(unknown("option of this kind of report", wrong[0], names))
    return kind(**given)
