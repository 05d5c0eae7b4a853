"""`Section`: one part of a report, and what all of them go by."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.levels import Amount, check_level
from eptaro.core.tables.column import Column
from eptaro.core.tables.display import shown
from eptaro.core.tables.result import Result
from eptaro.core.verbs.queries import MATCHES, Match
from eptaro.core.verbs.store import Store
from eptaro.errors import QuestionError, unknown
from eptaro.outputs.html import table_html
from eptaro.pictures.draw import drawn
from eptaro.pictures.theme import PictureOptions

SECTIONS = (
    *("headline", "groups", "to date", "comparison", "trend", "rhythm", "quality"),
    *("definitions", "proof"),
)


@dataclass(frozen=True)
class ReportRules:
    """The sections of a report in order, its title, and the periods that it goes by.

    `per` is the level of the comparison table, `within` that of the running total, `trailing`
    the rolling window, `match` how the headline's prior spans are cut.

    >>> ReportRules(per="quarter").sections[0]
    'headline'
    """

    title: str = ""
    sections: Sequence[str] = field(default=SECTIONS)
    per: str = "month"
    within: str = "year"
    trailing: str = "12 months"
    match: Match = "date"

    def __post_init__(self) -> None:
        for name in self.sections:
            if name not in SECTIONS:
                raise QuestionError(unknown("section of a report", name, SECTIONS))
        if not self.sections:
            raise QuestionError(f"a report without sections is empty; name {', '.join(SECTIONS)}")
        Amount.parse(self.trailing, "trailing")
        if self.match not in MATCHES:
            raise QuestionError(unknown("value for match", self.match, MATCHES))

    def check(self, calendar: Calendar) -> None:
        """Raise `CalendarError` for a level that a calendar does not offer."""
        for level in (self.per, self.within):
            check_level(level, calendar.levels)


@dataclass
class Section:
    """One section: heading, sentences, cards, pictures with their words, tables."""

    heading: str
    anchor: str
    lead: str = ""
    sentences: list[str] = field(default_factory=list)
    cards: list[dict[str, str]] = field(default_factory=list)
    figures: list[dict[str, str]] = field(default_factory=list)
    tables: list[dict[str, str]] = field(default_factory=list)

    def add_table(self, table: Result, label: str, caption: str | None = None) -> None:
        """Add a table under a label that tells it apart."""
        self.tables.append({"label": label, "html": table_html(table, caption, words=True)})

    def add_picture(self, table: Result, alt: str, **options: Any) -> None:
        """Add a picture of a table; `alt` states its figures."""
        page = drawn(table, PictureOptions(**({"size": (1120, 680)} | options)))
        svg = str(page.svg(f"{self.anchor}-{len(self.figures)}-"))
        self.figures.append({"alt": alt, "svg": svg})


@dataclass(frozen=True)
class Asked:
    """What all sections go by: `book` answers for all groups together, `grouped` by groups."""

    book: Store
    grouped: Store
    rules: ReportRules
    quality: Result | None
    as_of: Any


def said(column: Column, row: int) -> str:
    """Return one value as people read it; a blank is told as such."""
    return shown(column.take(slice(row, row + 1) if row >= 0 else slice(row, None)))[0] or "blank"


def columns_of(name: str) -> list[str]:
    """Return the columns of a comparison that belong to a measure."""
    return [name, f"{name}_prior", f"{name}_change", f"{name}_change_ratio"]


def only_filled(table: Result, names: Sequence[str]) -> Result:
    """Return some columns of a table, those without any value left out."""
    kept = [name for name in names if name in table and not table.column(name).blank.all()]
    return table.select(kept)
