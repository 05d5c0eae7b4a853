"""What a report shows, and in which order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from eptaro.core.calendars.amount import Amount
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.levels import check_level
from eptaro.core.verbs.queries import MATCHES, Match
from eptaro.errors import QuestionError, unknown

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
