"""One self-contained HTML page about a book: no network and no script needed to read it."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from eptaro.beside import Beside
from eptaro.core.questions.scope import AsOf
from eptaro.core.questions.store import Store
from eptaro.core.tables.table import Table
from eptaro.errors import InputError
from eptaro.outputs.files import replace_whole
from eptaro.outputs.html import STYLE
from eptaro.progress import tell
from eptaro.reports.section import Asked, ReportRules, Section
from eptaro.reports.sections import calendar_told, made
from eptaro.version import __version__

_APART = "proof"


def write_page(
    book: Store,
    whole: Store,
    path: Path,
    rules: ReportRules,
    quality: Table | None = None,
    as_of: AsOf = None,
) -> Path:
    """Write the report of a book, of which `whole` answers for all groups together; `quality` is
    what `inspect` found in its file.
    """
    rules.check(book.about.calendar)
    asked = Asked(whole, book, rules, quality, as_of)
    view = whole.view(as_of=as_of)
    sections: list[Section] = []
    # The proof reads all again while pictures are drawn.
    proof = Beside(made, _APART, asked) if _APART in rules.sections else None
    for number, name in enumerate(rules.sections):
        tell(0, number / len(rules.sections))
        section = proof.result() if proof and name == _APART else made(name, asked)
        if section is not None:
            sections.append(section)
    names = ", ".join(measure.name for measure in book.about.measures)
    page = _template().render(
        title=rules.title or f"{names[:1].upper()}{names[1:]} to {view.coverage.last}",
        style=STYLE,
        sections=sections,
        as_of=view.coverage.last,
        coverage=view.coverage,
        calendar=calendar_told(book.about.calendar),
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
    made = Environment(loader=loader, autoescape=True, undefined=StrictUndefined)
    made.filters["days"] = with_whole_days
    return made.get_template("page.html.j2")


_DAYS = re.compile(r"\d{4}-\d{2}-\d{2}(\.\.\d{4}-\d{2}-\d{2})?")


def with_whole_days(text: object) -> Any:
    """Return text, escaped, whose dates are not broken at the ends of lines."""
    from markupsafe import Markup, escape

    return Markup(_DAYS.sub(r'<span class="day">\g<0></span>', str(escape(str(text)))))
