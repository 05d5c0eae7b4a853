"""A suggested `eptaro.toml` for a file."""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from functools import cached_property
from itertools import chain, count
from typing import NamedTuple

import numpy as np
import pyarrow as pa

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.grain import Grain, level_of
from eptaro.core.calendars.kinds import from_settings
from eptaro.core.calendars.levels import month_number
from eptaro.core.expressions.parser import Formula, Formulas, quoted_name
from eptaro.engines.figures import (
    FISCAL_YEARS,
    alike,
    describes,
    identifies,
    named_amounts,
    rises,
    words_in,
)
from eptaro.engines.profile import ENOUGH, ColumnProfile, look_at
from eptaro.errors import EptaroError, InputError
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.columns.codes import are_currencies
from eptaro.inputs.dates.reading import read_dates
from eptaro.inputs.files.chunks import translate_errors
from eptaro.inputs.options import FoldSpec
from eptaro.inputs.sources import FrameSource, Source
from eptaro.inputs.transactions import Transactions
from eptaro.rules import DateRules, FileRules, NumberRules, Numbers

_LOOKED_AT = 50_000  # rows
_MONTHS = 12  # of a year; so many rows of it may be its months
_PARTS = {
    "year": r"year|yr",
    "quarter": r"quarter|qtr",
    "month": r"month|mo",
    "day": r"day",
    "week": r"week|wk",
}
# The periods of columns beside which a calculated date is not proposed.
_WITHIN: dict[Grain, tuple[Grain, ...]] = {
    "day": (),
    "week": ("day", "week"),
    "month": ("day", "week", "month"),
    "quarter": ("day", "week", "month", "quarter"),
}
# Columns of answers, which a group cannot be called.
_OF_ANSWERS = {
    *("calendar", "comparable", "complete", "date", "days", "entries", "first", "last"),
    *("level", "period", "row", "within"),
}


@dataclass
class Suggestion:
    """What a file seems to hold, a look for each column, in its order; `rows` were looked at,
    which `sampled` says are only the first.
    """

    looks: list[ColumnProfile] = field(default_factory=list)
    rows: int = 0
    sampled: bool = False
    calculated: dict[str, DateRules] = field(default_factory=dict)  # dates from several columns

    @cached_property
    def across(self) -> WideColumns | None:
        """The columns of months or years that would be rows, where there are such."""
        return WideColumns.among(self.looks)

    @property
    def dates(self) -> dict[str, DateRules]:
        """The columns that can be dates, or the formula of one, each with its rules."""
        if self.across is not None:
            return {self.across.date: self.across.rules}
        date_rules = {look.name: look.dates for look in self.looks if look.dates is not None}
        for date, rules in self.calculated.items():
            parsed = Formula.date(date)
            own = [] if parsed is None else parsed.names
            date_rules = {name: rules for name, rules in date_rules.items() if name not in own}
            within = _WITHIN[rules.grain or self.grain_of(date)]
            if not any(self.grain_of(name) in within for name in date_rules):
                date_rules[date] = rules
        date_rules = {n: r for n, r in date_rules.items() if r.fiscal_periods} or date_rules
        for name, rules in date_rules.items():
            calendar = rules.fiscal_periods
            if not isinstance(calendar, Calendar) or "month" not in calendar.levels:
                continue
            of_twelve = calendar.units("month", "year") == _MONTHS
            if of_twelve and (formula := self._fiscal_months(name)):
                return {formula: DateRules(fiscal_periods=calendar)}
        by_day = {name: rules for name, rules in date_rules.items() if self.grain_of(name) == "day"}
        looks = {look.name: look for look in self.looks}
        plain = {n: r for n, r in by_day.items() if n not in looks or not _is_guessed(looks[n])}
        return plain or by_day or date_rules

    @property
    def without_year(self) -> str:
        """The formula of a date of which the file has month and day, but no year; or empty."""
        by_name = {look.name.lower(): look.name for look in self.looks}
        if not {"month", "day"} <= {*by_name}:
            return ""
        return f"date(YEAR, {quoted_name(by_name['month'])}, {quoted_name(by_name['day'])})"

    def grain_of(self, date: str) -> Grain:
        """Return the periods that a column of dates, or a formula of one, represents."""
        formula = Formula.date(date)
        if formula is not None:
            own = self.calculated.get(date, DateRules()).grain
            return own or formula.grain or "day"
        if self.across is not None and date == self.across.date:
            return self.across.rules.grain or "day"
        return next((look.grain for look in self.looks if look.name == date), "day")

    @property
    def groups(self) -> list[str]:
        """The columns worth grouping by, currencies and texts first, as `by` takes them."""
        grouping = [look for look in self.looks if look.kind == "groups"]
        grouping.sort(key=lambda look: (not are_currencies(look.values), look.numbers is not None))
        names = (look.name for look in grouping)
        return [f"own_{name}={name}" if name in _OF_ANSWERS else name for name in names]

    @property
    def numbers(self) -> list[str]:
        """The columns worth adding up or averaging."""
        if self.across is not None:
            return ["value"]
        return [look.name for look in self.looks if look.kind in ("sum", "mean")]

    @property
    def figures(self) -> bool:
        """Whether numbers are written so that they need rules."""
        return any(look.written for look in self.looks)

    def measures(self) -> dict[str, tuple[str, str]]:
        """Return the measures that make sense, by their names: formula, and why."""
        if self.across is not None:
            why = "one of the two; the other means nothing"
            return {"total": ("sum(value)", why), "average": ("mean(value)", "")}
        proposed = {"entries": ("count()", "")}
        for look in self.looks:
            if look.kind in ("sum", "mean"):
                how = "total" if look.kind == "sum" else "mean"
                words = " ".join(_BETWEEN_WORDS.sub(" ", look.name).split())
                base = f"{how}_{look.name}" if _plain(look.name) else f"{how} {words}".rstrip()
                if re.match(rf"{how}[ _]+[^\W\d]", words, re.IGNORECASE):
                    base = look.name if _plain(look.name) else words
                numbered = (f"{base} {number}" for number in count(2))
                name = next(name for name in chain([base], numbered) if name not in proposed)
                proposed[name] = (f"{look.kind}({quoted_name(look.name)})", look.reason)
        return proposed

    def _fiscal_months(self, year: str) -> str:
        """Return the formula of a date from a column of years and that of the number of a period in
        them, which are taken for months; empty where there are none.
        """
        if self._period is None or level_of(self.grain_of(year)) != "year":
            return ""
        number = quoted_name(self._period.name)
        month = f"least({number}, {_MONTHS})" if self.adjustments else number
        return f"date({quoted_name(year)}, {month}, 1)"

    @cached_property
    def _period(self) -> ColumnProfile | None:
        """The one column that holds the number of a period in a year, if there is one."""
        keys = [look for look in self.looks if look.kind == "key" and look.numbers is not None]
        numbers = [look for look in keys if words_in(look.name) & {"period", "month"}]
        return numbers[0] if len(numbers) == 1 else None

    @property
    def adjustments(self) -> str:
        """The column of the period that rows are posted to, where some adjust a year after its last
        month; or empty.
        """
        if self._period is None or self._period.numbers is None:
            return ""
        return self._period.name if pc.max(self._period.numbers).as_py() > _MONTHS else ""

    def _adjusts(self, date: str) -> bool:
        """Return whether a date is calculated from the year and the period of a ledger, of which
        some periods adjust a year.
        """
        calculated = self.dates.get(date, DateRules()).fiscal_periods or date not in self.dates
        return bool(calculated and self.adjustments and Formula.date(date) is not None)

    def command(self, file: str, date: str, files: FileRules | None = None) -> str:
        """Return a command that answers from a file, as a shell takes it."""
        rules, usual = self.dates[date], DateRules()
        grain = self.grain_of(date)
        unknown = words_in(date) & FISCAL_YEARS and not rules.fiscal_periods
        if unknown and (formula := self._fiscal_months(date)):
            date, rules, grain = formula, DateRules(fiscal_periods=True), "month"
        adjusted = ["--adjustments", self.adjustments] if self._adjusts(date) else []
        words = ["eptaro", "recap", file]
        words += [] if self.across is None else ["--columns-across", self.across.written]
        words += ["--date", date]
        plain = asdict(FileRules())
        for key, setting in asdict(files or FileRules()).items():
            if setting != plain[key]:
                value = "tab" if setting == "\t" else str(setting)
                words += [f"--{key.replace('_', '-')}", value]
        for key, option in _OPTIONS.items():
            value = getattr(rules, key)
            if value != getattr(usual, key):
                words += [option, str(value).replace(" ", "-")]
        words += [*adjusted, *fiscal_options(rules.fiscal_periods)]
        words += ["--numbers", "infer"] if self.figures else []
        for name, (formula, _) in [*self.measures().items()][:_MOST_MEASURES]:
            words += ["--measure", f"{name if _plain(name) else name.replace(' ', '_')}={formula}"]
        words += ["--by", self.groups[0]] if self.groups else []
        words += ["--per", "month" if grain == "day" else level_of(grain)]
        return shlex.join(words)

    def text(
        self,
        files: list[str],
        date: str,
        year_starts: str | None = None,
        file_rules: Mapping[str, object] | None = None,
        where: str | None = None,
        numbers: Numbers = None,
    ) -> str:
        """Return the config; rules are set where the evidence decided them, and how files are
        written where that is not the usual way.
        """
        name = "fiscal" if year_starts else "calendar"
        part = self.part("data", files, date, self.groups[:1], name, file_rules, where, numbers)
        return "\n".join([*head(year_starts), *part]) + "\n"

    def part(
        self,
        key: str,
        files: list[str],
        date: str,
        by: Sequence[str],
        calendar: str,
        file_rules: Mapping[str, object] | None = None,
        where: str | None = None,
        numbers: Numbers = None,
    ) -> list[str]:
        """Return the lines of the part of a config that describes the data set, under its key."""
        lines = [
            f"[{key}]",
            f"files = {toml_value(files)}",
            *([] if self.across is None else [f"across = {toml_value(self.across.written)}"]),
            f"date = {toml_value(date)}",
            f"by = {toml_value([*by])}",
            f"calendar = {toml_value(calendar)}",
        ]
        if self._adjusts(date):
            lines.append(f"adjustments = {toml_value(self.adjustments)}")
        if where is not None:
            lines.append(f"where = {toml_value(where)}")
        settings = {} if not isinstance(numbers, NumberRules) else asdict(numbers)
        if not settings and (self.figures or numbers == "infer"):
            lines.append('numbers = "infer"')
        if others := [name for name in self.groups if name not in by]:
            lines.append(f"# also worth grouping by: {', '.join(others)}")
        usual, rules = asdict(DateRules()), asdict(self.dates[date])
        rules["fiscal_periods"] = bool(rules["fiscal_periods"])
        own = [
            f"{name} = {toml_value(value)}{_WHY.get(name, '')}"
            for name, value in rules.items()
            if value != usual[name] and name != "shift"
        ]
        if own:
            lines += ["", f"[{key}.dates]", *own]
        plain_numbers = asdict(NumberRules())
        own_settings = {
            name: value for name, value in settings.items() if value != plain_numbers[name]
        }
        if own_settings:
            lines += ["", f"[{key}.numbers]"]
            lines += [f"{name} = {toml_value(v)}" for name, v in own_settings.items()]
        plain = asdict(FileRules())
        unusual = {
            name: value for name, value in (file_rules or {}).items() if value != plain[name]
        }
        if unusual:
            lines += ["", f"[{key}.written]"]
            lines += [f"{name} = {toml_value(v)}" for name, v in unusual.items()]
        lines += ["", f"[{key}.measures]"]
        for measure, (formula, why) in self.measures().items():
            name = measure if _plain(measure) else toml_value(measure)
            lines.append(f"{name} = {toml_value(formula)}" + (f"   # {why}" if why else ""))
        skipped = [look for look in self.looks if look.kind in ("key", "flag")]
        return lines + [f"# left out: {look.name}, {look.why}" for look in skipped]


def head(year_starts: str | None) -> list[str]:
    """Return the first lines of a config: its calendar, where years do not start in January."""
    lines = ["# Written after a look at the file; change what it could not know.", ""]
    if not year_starts:
        return lines
    return [
        *lines,
        "[calendars.fiscal]",
        'kind = "month"',
        f"year_starts = {toml_value(year_starts)}",
        'year_named = "end"          # or "start"',
        'prefix = "FY"',
        "",
    ]


class WideColumns(NamedTuple):
    """Columns of months or years, side by side: how they become rows, and the date of a value."""

    written: str
    date: str
    rules: DateRules

    @classmethod
    def among(cls, looks: Sequence[ColumnProfile]) -> WideColumns | None:
        """Return the columns whose names are the months of a year column, or years, whose months
        may be in a column; None where there are none, or a column holds days.
        """
        if any(look.dates is not None and look.grain == "day" for look in looks):
            return None
        named = {look.name.lower(): look for look in looks}
        year, month = named.get("year"), named.get("month")
        names = [look.name if look.kind in ("sum", "mean", "key") else "" for look in looks]
        months = _longest_run([month_number(name) for name in names])
        if year is not None and len(months) >= _FEWEST_ACROSS:
            across = f"{names[months[0]]}..{names[months[-1]]} as month, value"
            return cls(across, f"date({quoted_name(year.name)}, month, 1)", DateRules())
        years = _longest_run([_year_number(name) for name in names])
        if len(years) < 2:
            return None
        across = f"{names[years[0]]}..{names[years[-1]]} as year, value"
        if month is not None and month.kind == "key":
            return cls(across, f"date(year, {quoted_name(month.name)}, 1)", DateRules())
        if len(years) < _FEWEST_ACROSS:
            return None
        return cls(across, "year", DateRules(grain="year"))


_FEWEST_ACROSS = 3  # columns that are months or years one after the other


def _year_number(name: str) -> int | None:
    return int(name) if re.fullmatch(r"(1[5-9]|20|21)\d\d", name.strip()) else None


def _longest_run(numbers: Sequence[int | None]) -> range:
    """Return the places where numbers go up by one from place to place for longest."""
    best, start = range(0), 0
    for at, number in enumerate(numbers):
        before = numbers[at - 1] if at else None
        if number is None or before is None or number != before + 1:
            start = at
        if number is not None and at + 1 - start > len(best):
            best = range(start, at + 1)
    return best


def _is_guessed(look: ColumnProfile) -> bool:
    """Return whether dates are read by a rule that their evidence does not decide alone."""
    rules = look.dates or DateRules()
    return bool(rules.zone or rules.unix or rules.serials or rules.pivot is not None)


def fiscal_options(periods: bool | Calendar) -> list[str]:
    """Return the options of fiscal periods and their calendar, to be filled in where that is not
    known.
    """
    if not isinstance(periods, Calendar):
        return ["--fiscal-periods", "--year-starts", "MM-01"] if periods else []
    if periods.limits is not None:  # which a config lists
        return ["--fiscal-periods"]
    settings = periods.settings()
    first = "pattern" if "pattern" in settings else "year_starts"
    usual = from_settings({"kind": settings["kind"], "name": settings["name"]}).settings()
    own = {name: value for name, value in settings.items() if value != usual[name]}
    named = {first: settings[first]} | {n: v for n, v in own.items() if n != "shown"}
    words = [(f"--{name.replace('_', '-')}", str(value)) for name, value in named.items()]
    return ["--fiscal-periods", *chain.from_iterable(words)]


_MOST_MEASURES = 3  # in a command that is to be read
_OPTIONS = {
    "order": "--order",
    "pivot": "--pivot",
    "serials": "--serials",
    "unix": "--unix",
    "grain": "--grain",
    "zone": "--zone",
    "bad_dates": "--bad-dates",
}
_WHY = {
    "bad_dates": "   # some cannot be read",
    "zone": "   # whose days count",
    "pivot": "   # two-digit years up to it are 2000s",
}


_BETWEEN_WORDS = re.compile(r"[^\w.%-]+")  # what the name of a measure is to do without


def _plain(name: str) -> bool:
    return name.isascii() and name.replace("_", "").replace("-", "").isalnum()


def toml_value(value: object) -> str:
    """Return a value as TOML writes it, which for text, numbers and lists is as JSON does."""
    return json.dumps(value, ensure_ascii=False)


def suggest(source: Source, rules: DateRules | None = None) -> Suggestion:
    """Look at the first rows of a source and guess what each column can be.

    Raises `InputError` where no column holds dates.
    """
    suggestion = profile_columns(source, rules)
    if not suggestion.dates:
        raise InputError(
            f"{source.name}: no column holds dates that can be read; name the rules, such as "
            f"--order dmy or --date-format"
        )
    return suggestion


def profile_columns(source: Source, rules: DateRules | None = None) -> Suggestion:
    """Return what each column seems to hold, by the first rows.

    A column holds dates where nearly all of its values can be read as such, day and month
    distinguished by evidence; numbers where all of its values are; groups where texts repeat.
    Raises `InputError` where there are no rows.
    """
    with translate_errors(source.name):
        parts, rows = [], 0
        for part in source.whole():
            parts.append(part)
            rows += part.num_rows
            if rows > _LOOKED_AT:
                break
    if not rows:
        raise InputError(f"{source.name}: has no rows to look at")
    table = pa.concat_tables(parts, promote_options="permissive").slice(0, _LOOKED_AT)
    rules_given = rules or DateRules()
    looks = [look_at(table[name], name, rules_given, source.decimal) for name in table.column_names]
    suggestion = Suggestion(looks, table.num_rows, rows > table.num_rows, _calculated(table))
    dates = [name for name in suggestion.dates if name in table.column_names]
    if len(dates) == 1:
        suggestion.looks = _beside_dates(table, looks, dates[0], suggestion.dates[dates[0]])
    return suggestion


_SHORT = "if({0} > 49, 1900, 2000) + {0}"  # a year of two digits in full
_WAYS: dict[tuple[str, ...], tuple[str, DateRules]] = {
    ("year", "month", "day"): ("date({}, {}, {})", DateRules()),
    ("year", "month"): ("date({}, {}, 1)", DateRules()),
    ("year", "quarter"): ("date({}, 3 * {} - 2, 1)", DateRules(grain="quarter")),
    ("year", "week"): ("week({}, {})", DateRules()),
}


def _calculated(table: pa.Table) -> dict[str, DateRules]:
    """Return the dates that columns of years and their parts give, such as YearSold and MonthSold:
    formulas, with the rules that read nearly all of them.
    """
    named: dict[str, dict[str, str]] = {}
    for name in table.column_names:
        for part, pattern in _PARTS.items():
            for match in re.finditer(pattern, name.lower()):
                rest = name[: match.start()] + name[match.end() :]
                named.setdefault(re.sub(r"[\W_]", "", rest.lower()), {}).setdefault(part, name)
    found: dict[str, DateRules] = {}
    for parts in named.values():
        way = next((way for way in _WAYS if {*way} <= {*parts}), ())
        if not way:
            continue
        year, *others = (quoted_name(parts[part]) for part in way)
        formula, rules = _WAYS[way]
        for each in (year, _SHORT.format(year)):
            date = formula.format(each, *others)
            if (share := _share_of(table, date, rules)) >= ENOUGH:
                found[date] = rules if share == 1 else replace(rules, bad_dates="reject")
                break
    return found


def _share_of(table: pa.Table, date: str, rules: DateRules) -> float:
    """Return the share of rows in which a formula gives a date."""
    formula = Formula.date(date)
    try:
        days = calculated_dates(FrameSource(table), date, formula, rules) if formula else None
    except EptaroError:  # columns of another kind
        return 0.0
    return 0.0 if days is None else 1 - days.null_count / len(days)


def calculated_dates(
    opened: Source, date: str, formula: Formula, rules: DateRules
) -> pa.ChunkedArray:
    """Return the dates that a formula makes of each row, null where it makes none."""
    spec = FoldSpec(
        date, [], [], replace(rules, bad_dates="reject"), Formulas({date: formula}), settled=True
    )
    reading = Transactions(opened, spec)
    days, places = [np.zeros(0, np.int32)], [np.zeros(0, np.int64)]
    for batch in reading:
        days.append(batch.days)
        numbered = batch.first_row + np.arange(len(batch))
        places.append(numbered if batch.places is None else batch.places)
    days_read, missing = np.zeros(reading.rows, np.int32), np.ones(reading.rows, bool)
    days_read[np.concatenate(places)] = np.concatenate(days)
    missing[np.concatenate(places)] = False
    return pa.chunked_array([pa.array(days_read, mask=missing).cast(pa.date32())])


def _beside_dates(
    table: pa.Table, looks: Sequence[ColumnProfile], date: str, rules: DateRules
) -> list[ColumnProfile]:
    """Return the looks at columns, those of numbers decided by the dates beside them, too."""
    numbers = {
        look.name: look.numbers
        for look in looks
        if look.kind in ("sum", "mean") and look.numbers is not None
    }
    things = [name for name, column in numbers.items() if identifies(column, table[date])]
    parsed = read_dates(table[date], rules)
    grains = {look.name: look.grain for look in looks}
    yearly = grains[date] == "year" and len(table) > _MONTHS * len(np.unique(parsed.days))

    def beside(look: ColumnProfile) -> ColumnProfile:
        column = numbers.get(look.name)
        if column is None:
            return look
        if look.name in things:
            return replace(look, kind="key", why="names what each date has a row of: not summed")
        if any(describes(column, numbers[thing]) for thing in things):
            return replace(look, kind="key", why=f"the same for each {things[0]}: not summed")
        plain = look.kind == "sum" and not named_amounts(look.name) and parsed.bad is None
        if plain and rises(column, parsed.days):
            return replace(look, kind="mean", why="only rises or falls: averaged, not summed")
        if plain and yearly and alike(column):
            return replace(look, kind="mean", why="much the same in all rows: averaged, not summed")
        return look

    return [beside(look) for look in looks]
