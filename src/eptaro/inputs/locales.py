"""Names of days, months and quarters in any locale of CLDR, by Babel."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

from eptaro.core.calendars.levels import Names
from eptaro.errors import CalendarError, unknown
from eptaro.optional import import_optional


class LocaleNames(Names):
    """Names from CLDR, in their stand-alone form."""

    def __init__(self, locale: str) -> None:
        babel = import_optional("babel", "locales", f"locale {locale!r}")
        try:
            self._locale = babel.Locale.parse(locale.replace("-", "_"))
        except (babel.UnknownLocaleError, ValueError, TypeError):
            locales = babel.localedata.locale_identifiers()
            raise CalendarError(unknown("locale", locale, sorted(locales))) from None
        self.locale = locale
        self._dates = import_optional("babel.dates", "locales", f"locale {locale!r}")
        days, months = self._locale.days["stand-alone"], self._locale.months["stand-alone"]
        self.weekdays = [days["wide"][i] for i in range(7)]
        self.weekdays_short = [days["abbreviated"][i] for i in range(7)]
        self.months = [months["wide"][i] for i in range(1, 13)]
        self.months_short = [months["abbreviated"][i] for i in range(1, 13)]

    @property
    def months_in_dates(self) -> Sequence[Sequence[str]]:
        """The forms of months beside a day ("agosto", "août", "августа")."""
        forms = self._locale.months["format"]
        return [[forms[width][i] for i in range(1, 13)] for width in ("wide", "abbreviated")]

    def _format_day(self, skeleton: str, day: dt.date) -> str:
        return str(self._dates.format_skeleton(skeleton, day, locale=self._locale))

    def month_of(self, year: int, month: int, *, short: bool = False) -> str:
        """Return a civil month with its year, as the locale writes them together."""
        return self._format_day("yMMM" if short else "yMMMM", dt.date(year, month, 1))

    def quarter_of(self, year: str, quarter: int, *, short: bool = False) -> str:
        """Return a quarter with its year; the calendar's prefix goes with the year."""
        number = year[-4:]
        day = dt.date(int(number), 3 * quarter, 1)
        return self._format_day("yQQQ" if short else "yQQQQ", day).replace(number, year)


def locale_names(locale: str) -> Names:
    """Return the names of a locale; raises `CalendarError` for one that is unknown."""
    return Names() if locale == "en" else LocaleNames(locale)
