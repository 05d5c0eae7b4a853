"""Holiday sets from rules, CSV, iCalendar files and the `holidays` package."""

from __future__ import annotations

import calendar as civil
import csv
import datetime as dt
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import islice, takewhile
from pathlib import Path
from typing import Any

from eptaro.core.calendars.days import as_date, ordinal
from eptaro.core.calendars.levels import check_weekday, parse_month_day
from eptaro.core.calendars.workdays import Holiday, Holidays
from eptaro.errors import CalendarError, EptaroError, InputError, unknown
from eptaro.inputs.goals_and_coverage import check_small
from eptaro.optional import import_optional

_ORDINALS = {"first": 1, "second": 2, "third": 3, "fourth": 4, "fifth": 5, "last": -1}
_MONTHS = tuple(name.lower() for name in civil.month_name[1:])
_NTH = re.compile(r"(\w+) (\w+) of (\w+)")
_EASTER = re.compile(r"(orthodox )?easter(?: ?([+-]) ?(\d{1,3}))?")
_KEYS = ("name", "on", "kind", "pay_premium", "moved", "from", "to")
_MOVES = ("nearest", "next")

_LONGEST = 366  # days of one event
_MOST_DAYS = 100_000

Weekend = Sequence[str]
DEFAULT_WEEKEND: Weekend = ("saturday", "sunday")


class _Rule:
    """One parsed rule."""

    def __init__(self, rule: Mapping[str, Any], number: int) -> None:
        where = f"holiday rule {number}"
        for key in rule:
            if key not in _KEYS:
                raise CalendarError(f"{where}: {unknown('key', key, _KEYS)}")
        if not rule.get("name") or not rule.get("on"):
            raise CalendarError(f"{where} needs a name and a day (on)")
        self.name, self.kind = str(rule["name"]), str(rule.get("kind", "public"))
        self.pay_premium = bool(rule.get("pay_premium", False))
        self.moved = rule.get("moved")
        if self.moved not in (None, *_MOVES):
            raise CalendarError(f"{where}: {unknown('value for moved', self.moved, _MOVES)}")
        self._from, self._to = int(rule.get("from", 1)), int(rule.get("to", 9999))
        try:
            self._day = _day_rule(str(rule["on"]).strip().lower())
        except CalendarError as error:
            raise CalendarError(f"{where} ({self.name}): {error}") from None

    def days(self, years: Iterable[int]) -> list[dt.date]:
        """Return the days in those years, before any is moved off a weekend."""
        days_by_year = (self._day(year) for year in years if self._from <= year <= self._to)
        return [day for day in days_by_year if day is not None]


def _day_rule(text: str) -> Callable[[int], dt.date | None]:
    """Return what gives a rule's day in a year, or None where the year has none."""
    if match := _EASTER.fullmatch(text):
        days = dt.timedelta(int(f"{match[2]}{match[3]}") if match[2] else 0)
        orthodox = bool(match[1])
        return lambda year: _easter(year, orthodox=orthodox) + days
    if match := _NTH.fullmatch(text):
        if match[1] not in _ORDINALS:
            raise CalendarError(unknown("place", match[1], _ORDINALS))
        if match[3] not in _MONTHS:
            raise CalendarError(unknown("month", match[3], _MONTHS))
        nth, month = _ORDINALS[match[1]], _MONTHS.index(match[3]) + 1
        weekday = check_weekday(match[2], "on")
        return lambda year: _nth_weekday(year, month, weekday, nth)
    if re.match(r"\d", text):
        month, day = parse_month_day(text, "on")
        return lambda year: _fixed_date(year, month, day)
    raise CalendarError(
        f"on={text!r} cannot be read; write 05-14, 'first monday of may' or 'easter - 2'"
    )


def _fixed_date(year: int, month: int, day: int) -> dt.date | None:
    return dt.date(year, month, day) if day <= civil.monthrange(year, month)[1] else None


def _nth_weekday(year: int, month: int, weekday: int, nth: int) -> dt.date | None:
    first, length = civil.monthrange(year, month)
    days = [d for d in range(1, length + 1) if (first + d - 1) % 7 == weekday]
    return dt.date(year, month, days[nth if nth < 0 else nth - 1]) if nth <= len(days) else None


def _easter(year: int, *, orthodox: bool) -> dt.date:
    """Return Easter Sunday (method 3, western, or 2, orthodox, of dateutil)."""
    easter = import_optional("dateutil.easter", "calendars", "a holiday that goes by Easter")
    if not 1583 <= year <= 4099:
        raise CalendarError(f"Easter is known for the years 1583 to 4099, not {year}")
    day: dt.date = easter.easter(year, 2 if orthodox else 3)
    return day


def _observed_day(day: dt.date, how: str, off: set[int], days_taken: set[dt.date]) -> dt.date:
    """Return the workday on which a weekend holiday is kept."""
    if how == "nearest":
        for distance in range(1, 7):
            for step in (
                (-distance, distance) if day.weekday() - 1 not in off else (distance, -distance)
            ):
                near = day + dt.timedelta(step)
                if near.weekday() not in off:
                    return near
    while day.weekday() in off or day in days_taken:
        day += dt.timedelta(1)
    return day


def _holiday(row: Mapping[str, Any], where: str) -> Holiday:
    """Return the holiday of a row of a file."""
    try:
        day = as_date(ordinal(row["date"] or ""))
        if not row["name"]:
            raise ValueError("has no name")
        paid = _truth(row.get("pay_premium"))
        return Holiday(day, row["name"], row.get("kind") or "public", paid)
    except ValueError as error:
        raise InputError(f"{where}: {error}") from None


def _open_file(file: Path) -> Any:
    try:
        check_small(file)
        return file.open(encoding="utf-8-sig", newline="")
    except OSError as error:
        raise InputError(f"{file}: cannot be read: {error.strerror}") from None


def _truth(text: str | None) -> bool:
    words = {
        "": False,
        "no": False,
        "false": False,
        "0": False,
        "yes": True,
        "true": True,
        "1": True,
    }
    word = (text or "").strip().lower()
    if word not in words:
        raise ValueError(f"pay_premium={text!r} is neither yes nor no")
    return words[word]


def _days_of(event: Any, where: str, first_year: int, last_year: int, rrule: Any) -> list[Holiday]:
    """Return the days of an event in some years, and those near them."""
    for part, error in getattr(event, "errors", ()):  # older icalendar leaves such lines out
        if part in ("DTSTART", "DTEND", "RRULE"):
            raise InputError(f"{where}: its {part} cannot be read: {error}")
    if "DTSTART" not in event:
        raise InputError(f"{where} has no DTSTART")
    start = event.decoded("DTSTART")
    name = str(event.get("SUMMARY", "holiday"))
    first = start.date() if isinstance(start, dt.datetime) else start
    end = event.decoded("DTEND") if "DTEND" in event else first + dt.timedelta(1)
    last = end.date() if isinstance(end, dt.datetime) else end
    length = max((last - first).days, 1)
    if length > _LONGEST:
        raise InputError(
            f"{where} ({name}) lasts {length:,} days; a holiday has at most {_LONGEST}"
        )
    starts = [first]
    if "RRULE" in event:
        text = re.sub(r"(UNTIL=\d{8}T\d{6})Z", r"\1", event["RRULE"].to_ical().decode())
        often = re.search(r"FREQ=(SECONDLY|MINUTELY|HOURLY)|INTERVAL=0*(?:;|$)", text.upper())
        if often:
            raise InputError(
                f"{where} ({name}) recurs by {text}; a holiday recurs by days at least"
            )
        rule = rrule.rrulestr(text, dtstart=dt.datetime.combine(first, dt.time()))
        span = (dt.datetime(max(first_year, 1), 1, 1), dt.datetime(min(last_year, 9999), 12, 31))
        days = islice(rule.xafter(span[0], inc=True), _MOST_DAYS)
        starts = [day.date() for day in takewhile(lambda day: day <= span[1], days)]
    kind = _category(event)
    return [Holiday(d + dt.timedelta(n), name, kind) for d in starts for n in range(length)]


def _category(event: Any) -> str:
    categories = event.get("CATEGORIES")
    if categories is None:
        return "public"
    first = categories[0] if isinstance(categories, list) else categories
    return str(first.cats[0]) if first.cats else "public"


class HolidaySet(Holidays):
    """Holidays in time order, from rules, files or a country; several may fall on one day.

    Parameters
    ----------
    holidays : iterable of Holiday
        The holidays, in any order.

    Examples
    --------
    >>> holidays = HolidaySet([Holiday(dt.date(2025, 5, 14), "Landfall Day")])
    >>> len(holidays), holidays.kinds
    (1, ('public',))
    """

    @classmethod
    def from_rules(
        cls,
        rules: Iterable[Mapping[str, Any]],
        first_year: int,
        last_year: int,
        *,
        weekend: Sequence[str] = ("saturday", "sunday"),
    ) -> HolidaySet:
        """Return the holidays that rules give in the years first to last.

        A rule is a mapping: `name`; `on`, a month-day (`05-14`), an n-th weekday (`first monday of
        may`, `last friday of november`) or days from Easter Sunday (`easter - 2`, `orthodox easter
        + 50`); optional `kind`, `pay_premium`, `from` and `to` years, and `moved`: where a day that
        falls on the weekend is kept instead, the `nearest` or the `next` workday. A day moved to
        the next workday passes over other holidays.

        Parameters
        ----------
        rules : iterable of mappings
            Each with `name` and `on`, such as `easter - 2` or `first monday of may`.
        first_year, last_year : int
            The years that it is for.
        weekend : sequence of str
            Weekdays that moved holidays avoid.

        Returns
        -------
        HolidaySet
            The holidays of these years.

        Raises
        ------
        InputError
            For a rule that cannot be read.

        Examples
        --------
        >>> import eptaro as ep
        >>> rules = [{"name": "Good Friday", "on": "easter - 2"}]
        >>> [str(holiday.day) for holiday in ep.HolidaySet.from_rules(rules, 2025, 2025)]
        ['2025-04-18']
        """
        off = {check_weekday(day, "weekend") for day in weekend}
        parsed = [_Rule(rule, number) for number, rule in enumerate(rules, 1)]
        years = range(max(first_year, 1), min(last_year, 9999) + 1)
        dated_rules = [(day, rule) for rule in parsed for day in rule.days(years)]
        dated_rules.sort(key=lambda item: item[0])
        days_taken = {day for day, rule in dated_rules if not (rule.moved and day.weekday() in off)}
        holidays = []
        for day, rule in dated_rules:
            target = day
            if rule.moved and day.weekday() in off:
                target = _observed_day(day, rule.moved, off, days_taken)
                days_taken.add(target)
            holidays.append(Holiday(target, rule.name, rule.kind, rule.pay_premium))
        return cls(holidays)

    @classmethod
    def from_csv(cls, path: str | Path) -> HolidaySet:
        """Return the holidays of a CSV file: date, name, optional kind and pay_premium.

        Parameters
        ----------
        path : str or Path
            A file with date, name, and optional kind and pay_premium.

        Returns
        -------
        HolidaySet
            Its holidays.

        Examples
        --------
        >>> import tempfile
        >>> from pathlib import Path
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     path = Path(folder) / "off.csv"
        ...     _ = path.write_text("date,name\\n2025-05-01,May\\n")
        ...     [day.name for day in HolidaySet.from_csv(path)]
        ['May']
        """
        file = Path(path)
        rows: list[Holiday] = []
        with _open_file(file) as lines:
            try:
                reader = csv.DictReader(lines)
                for column in ("date", "name"):
                    if column not in (reader.fieldnames or ()):
                        columns = reader.fieldnames or ()
                        raise InputError(f"{file}: {unknown('column', column, columns)}")
                for number, row in enumerate(reader, 1):
                    rows.append(_holiday(row, f"{file}: row {number}"))
            except (csv.Error, UnicodeError) as error:
                raise InputError(f"{file}: cannot be read: {error}") from None
        return cls(rows)

    @classmethod
    def from_icalendar(cls, path: str | Path, first_year: int, last_year: int) -> HolidaySet:
        """Return the whole-day events of an iCalendar file (RFC 5545) in the years.

        Recurring events are expanded; a category becomes the kind.

        Parameters
        ----------
        path : str or Path
            The file.
        first_year, last_year : int
            The years that it is for.

        Returns
        -------
        HolidaySet
            Its whole-day events in these years.

        Examples
        --------
        >>> import tempfile
        >>> from pathlib import Path
        >>> lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:x", "BEGIN:VEVENT", "UID:1",
        ...          "SUMMARY:Storm day", "DTSTART;VALUE=DATE:20250307", "RRULE:FREQ=YEARLY",
        ...          "END:VEVENT", "END:VCALENDAR"]
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     path = Path(folder) / "off.ics"
        ...     _ = path.write_text("\\n".join(lines))
        ...     [str(day.day) for day in HolidaySet.from_icalendar(path, 2025, 2026)]
        ['2025-03-07', '2026-03-07']
        """
        file = Path(path)
        icalendar = import_optional("icalendar", "calendars", "an iCalendar file")
        rrule = import_optional("dateutil.rrule", "calendars", "an iCalendar file")
        check_small(file)
        try:
            parsed = icalendar.Calendar.from_ical(file.read_bytes())
        except OSError as error:
            raise InputError(f"{file}: cannot be read: {error.strerror}") from None
        except Exception as error:  # the package raises whatever a damaged line leads to
            raise InputError(f"{file}: is not an iCalendar file: {error}") from None
        rows: list[Holiday] = []
        try:
            for number, event in enumerate(parsed.walk("VEVENT"), 1):
                rows += _days_of(event, f"{file}: event {number}", first_year, last_year, rrule)
                if len(rows) > _MOST_DAYS:
                    raise InputError(f"{file}: has over {_MOST_DAYS:,} holidays; narrow the years")
        except EptaroError:
            raise
        except Exception as error:  # the package raises whatever a damaged line leads to
            raise InputError(f"{file}: cannot be read: {type(error).__name__}: {error}") from None
        return cls(h for h in rows if first_year <= h.day.year <= last_year)

    @classmethod
    def from_country(
        cls, country: str, first_year: int, last_year: int, *, subdivision: str | None = None
    ) -> HolidaySet:
        """Return the public holidays of a country (ISO 3166), or of one of its subdivisions,
        by the `holidays` package.

        Parameters
        ----------
        country : str
            Its ISO 3166 code.
        first_year, last_year : int
            The years that it is for.
        subdivision : str, optional
            The code of one of its parts.

        Returns
        -------
        HolidaySet
            The public holidays of these years.

        Examples
        --------
        >>> HolidaySet.from_country("PT", 2025, 2025).kinds
        ('public',)
        """
        holidays = import_optional("holidays", "calendars", f"holidays of country {country!r}")
        countries = holidays.list_supported_countries(include_aliases=True)
        if country not in countries:
            raise CalendarError(unknown("country", country, sorted(countries)))
        if subdivision is not None and subdivision not in countries[country]:
            raise CalendarError(
                unknown(f"subdivision of {country}", subdivision, countries[country])
            )
        years = range(first_year, last_year + 1)
        days = holidays.country_holidays(country, subdiv=subdivision, years=years)
        kind = "public" if subdivision is None else "regional"
        national = (
            set() if subdivision is None else set(holidays.country_holidays(country, years=years))
        )
        return cls(
            Holiday(day, name, "public" if day in national else kind) for day, name in days.items()
        )


def read_holidays(path: Path, first_year: int, last_year: int) -> HolidaySet:
    """Return the holidays of an iCalendar file in some years, or all those of a CSV file."""
    if path.suffix.lower() == ".ics":
        return HolidaySet.from_icalendar(path, first_year, last_year)
    return HolidaySet.from_csv(path)


_COUNTRY = re.compile(r"([A-Z]{2,3})(?:-([A-Z0-9]{1,3}))?")


def find_holidays(source: str, first_year: int, last_year: int) -> HolidaySet:
    """Return the holidays of a file, or of a country or a part of one, written as `PT` or `CA-ON`.

    Raises `InputError` for a file that is missing, `CalendarError` for an unknown country.
    """
    country = _COUNTRY.fullmatch(source)
    if country is None or Path(source).exists():
        return read_holidays(Path(source), first_year, last_year)
    return HolidaySet.from_country(country[1], first_year, last_year, subdivision=country[2])
