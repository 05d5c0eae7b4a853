"""`DateRules`: how a column of dates is to be read; the default takes only what is plain."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Literal, TypeAlias, get_args
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from eptaro.errors import DateError, unknown
from eptaro.option import option

Order: TypeAlias = Literal["ymd", "dmy", "mdy", "infer"]
Serials: TypeAlias = Literal["1900", "1904"]
Unix: TypeAlias = Literal["s", "ms", "us", "ns"]
BadDates: TypeAlias = Literal["raise", "reject"]
Grains: TypeAlias = Literal["day", "week", "month", "quarter", "year"]

_ACCEPTED = {
    "order": Order,
    "serials": Serials,
    "unix": Unix,
    "grain": Grains,
    "bad_dates": BadDates,
}


@dataclass(frozen=True)
class DateRules:
    """How a column of dates is to be read.

    Without any rule: date and timestamp types, ISO text, and yyyymmdd as number or text.

    Parameters
    ----------
    order : str, optional
        How text orders its day, month and year: `ymd`, `dmy` or `mdy`; `infer` decides on the
        evidence of the whole column or refuses.
    formats : str or sequence of str
        C-style directives such as `%d.%m.%Y`, tried in turn.
    locale : str
        The language of month names.
    pivot : int, optional
        Two-digit years up to it are 2000s.
    serials : {"1900", "1904"}, optional
        Numbers count days from then.
    unix : {"s", "ms", "us", "ns"}, optional
        Numbers count time since 1970-01-01 UTC.
    zone : str, optional
        Times with an offset are turned into this zone's.
    day_starts : str
        Times before it belong to the day before; a column of midnights stays as it is.
    blanks : str or sequence of str
        Values that count as blank.
    bad_dates : {"raise", "reject"}
        Stop, or go on without those rows and say so.
    grain : {"day", "week", "month", "quarter", "year"}, optional
        The periods that dates represent: a day must then be the first or the last of one (a
        Monday, of ISO weeks), and numbers such as 200601 and 1987 are months and years.
        Unset, it is determined by how dates are written: `2006-01`, `Jan 2006`, `1960-Q1`,
        `2024-W05`.

    Raises
    ------
    DateError
        For a rule that cannot be.

    Examples
    --------
    >>> DateRules(order="dmy").order
    'dmy'
    """

    order: Order | None = option(
        None,
        help="How the parts of date text are ordered; infer goes by the evidence.",
        heading="dates",
    )
    formats: Sequence[str] = option(
        (),
        help="How dates are written, such as %d.%m.%Y. May be given again.",
        metavar="FORMAT",
        name="date-format",
        heading="dates",
    )
    locale: str = option(
        "en",
        help="The language of month names in dates, such as fr.",
        metavar="LOCALE",
        name="month-names",
        heading="dates",
    )
    pivot: int | None = option(
        None,
        help="Two-digit years up to this one are in the 2000s, later ones in the 1900s.",
        least=0,
        most=99,
        heading="dates",
    )
    serials: Serials | None = option(
        None, help="Dates are numbers of days, as spreadsheets store them.", heading="dates"
    )
    unix: Unix | None = option(
        None, help="Dates are numbers of time since 1970-01-01 UTC.", heading="dates"
    )
    zone: str | None = option(
        None,
        help="The time zone whose days are meant, where times have an offset: Europe/Lisbon.",
        metavar="NAME",
        heading="dates",
    )
    day_starts: str = option(
        "00:00",
        help="Times before it belong to the day before.",
        metavar="HH:MM",
        shown=True,
        heading="dates",
    )
    blanks: Sequence[str] = option(
        (),
        help="A value that means no date, such as 1900-01-01. May be given again.",
        metavar="VALUE",
        name="blank-date",
        heading="dates",
    )
    bad_dates: BadDates = option(
        "raise",
        help="Stop at dates that cannot be read, or go on without their rows.",
        heading="dates",
    )
    grain: Grains | None = option(
        None,
        help="The period that each date represents, where its form does not show it: 200601, 1987.",
        heading="dates",
    )
    shift: int = field(default=0, init=False, repr=False)  # day_starts in microseconds

    def __post_init__(self) -> None:
        for name, accepted in _ACCEPTED.items():
            value = getattr(self, name)
            if value is not None and value not in get_args(accepted):
                raise DateError(unknown(f"value for {name}", value, get_args(accepted)))
        if self.pivot is not None and not 0 <= self.pivot <= 99:
            raise DateError(f"pivot={self.pivot} must be a two-digit year, 0 to 99")
        if self.zone is not None:
            try:
                ZoneInfo(self.zone)
            except (ZoneInfoNotFoundError, ValueError, OSError):
                raise DateError(
                    f"zone={self.zone!r} is not a time zone; use a name such as Europe/Lisbon"
                ) from None
        found = re.fullmatch(r"([01]\d|2[0-3]):([0-5]\d)", self.day_starts)
        if not found:
            raise DateError(f"day_starts={self.day_starts!r} is not a time of day; write 04:00")
        micros = (int(found[1]) * 60 + int(found[2])) * 60_000_000
        object.__setattr__(self, "shift", micros)
        for name in ("formats", "blanks"):
            given = getattr(self, name)
            object.__setattr__(self, name, (given,) if isinstance(given, str) else tuple(given))
        chosen = [n for n in ("order", "formats", "serials", "unix") if getattr(self, n)]
        if len(chosen) > 1:
            raise DateError(f"{' and '.join(chosen)} contradict each other; give one")


def date_rules(given: DateRules | None, zone: str | None = None) -> DateRules:
    """Return the rules given, or those that take only what is plain, in a zone if one is given."""
    if given is not None and not isinstance(given, DateRules):
        raise DateError(f"dates={given!r} is not a DateRules; write DateRules(order='dmy')")
    rules = given or DateRules()
    return rules if zone is None else replace(rules, zone=zone)
