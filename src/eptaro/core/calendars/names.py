"""What days, months and quarters are called; English here, other locales from outside."""

from __future__ import annotations

from collections.abc import Sequence

from eptaro.core.calendars.levels import WEEKDAYS

_ENGLISH_MONTHS = (
    *("January", "February", "March", "April", "May", "June", "July"),
    *("August", "September", "October", "November", "December"),
)


class Names:
    """English names; a subclass gives those of another locale."""

    locale: str = "en"
    weekdays: Sequence[str] = tuple(day.title() for day in WEEKDAYS)
    weekdays_short: Sequence[str] = tuple(day.title()[:3] for day in WEEKDAYS)
    months: Sequence[str] = _ENGLISH_MONTHS
    months_short: Sequence[str] = tuple(month[:3] for month in _ENGLISH_MONTHS)

    @property
    def months_in_dates(self) -> Sequence[Sequence[str]]:
        """Further forms that months take inside dates, as in some languages."""
        return ()

    def month_of(self, year: int, month: int, *, short: bool = False) -> str:
        """Return a civil month with its year.

        >>> Names().month_of(2025, 8)
        'August 2025'
        """
        return f"{(self.months_short if short else self.months)[month - 1]} {year}"

    def quarter_of(self, year: str, quarter: int, *, short: bool = False) -> str:
        """Return a quarter with its year as the calendar writes it.

        >>> Names().quarter_of("FY2026", 2)
        '2nd quarter FY2026'
        """
        if short:
            return f"Q{quarter} {year}"
        return f"{('1st', '2nd', '3rd', '4th')[quarter - 1]} quarter {year}"
