"""The sections of a page: what each asks the book and shows."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from html import escape
from typing import Any

import numpy as np

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.grain import level_of
from eptaro.core.calendars.levels import Amount, as_wide, check_level
from eptaro.core.calendars.span import Span
from eptaro.core.proof.trace import prove
from eptaro.core.query.query import AsOf
from eptaro.core.results.column import NO_NUMBERS, Column
from eptaro.core.results.format import format_column, shown_table, with_plus
from eptaro.core.results.result import Result
from eptaro.core.verbs.goals import GOAL_ENDINGS
from eptaro.core.verbs.queries import (
    MATCHES,
    Accumulate,
    Card,
    Compare,
    Goals,
    Match,
    Recap,
    Restated,
    Rhythm,
    Trail,
)
from eptaro.core.verbs.store import Store
from eptaro.errors import EptaroError, QuestionError, count_noun, plural, unknown
from eptaro.outputs.html import table_html
from eptaro.plots.draw import draw
from eptaro.plots.theme import PictureOptions
from eptaro.presentation.headline import headline as sentence
from eptaro.presentation.words import as_title, calendar_in_words
from eptaro.record import Record, record

SECTIONS = (
    *("headline", "plan", "groups", "to date", "comparison", "years", "calendars", "trend"),
    *("rhythm", "restated", "quality", "definitions", "proof"),
)


@record
class ReportRules(Record):
    """The sections of a report in order, its title, and the periods that it goes by.

    `per` is the level of the comparison table, `within` that of the running total, `trailing`
    the rolling window, `match` how the headline's prior spans are cut. `goals` are those of the
    plan's section, `beside` is the calendar whose periods are set beside those of the book,
    `before` an earlier keeping of it, and `since` the last day that it was reported of; without
    them these sections are left out.

    >>> ReportRules(per="quarter").sections[0]
    'headline'
    """

    title: str = ""
    sections: Sequence[str] = field(default=SECTIONS)
    per: str = "month"
    within: str = "year"
    trailing: str = "12 months"
    match: Match = "date"
    goals: Goals | None = None
    beside: Calendar | None = None
    before: Store | None = None
    since: AsOf = None

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
        """Add a table under a label that distinguishes it."""
        self.tables.append({"label": label, "html": table_html(table, caption, words=True)})

    def add_picture(self, table: Result, alt: str, **options: Any) -> None:
        """Add a picture of a table; `alt` states its figures."""
        page = draw(table, PictureOptions(**({"size": (1120, 680)} | options)))
        svg = str(page.svg(f"{self.anchor}-{len(self.figures)}-"))
        self.figures.append({"alt": alt, "svg": svg})


@record
class ReportContext(Record):
    """What all sections go by: `book` answers for all groups together, `grouped` by groups."""

    book: Store
    grouped: Store
    rules: ReportRules
    quality: Result | None
    as_of: Any


def format_value(column: Column, row: int) -> str:
    """Return one value as people read it; a blank is named as such."""
    return (
        format_column(column.take(slice(row, row + 1) if row >= 0 else slice(row, None)))[0]
        or "blank"
    )


def columns_of(name: str) -> list[str]:
    """Return the columns of a comparison that belong to a measure."""
    return [name, f"{name}_prior", f"{name}_change", f"{name}_change_ratio"]


def only_filled(table: Result, names: Sequence[str]) -> Result:
    """Return some columns of a table, those without any value left out."""
    filled = [name for name in names if name in table and not table.column(name).blank.all()]
    return table.select(filled)


def plan(query: ReportContext) -> Section | None:
    """Return each period against its goals, for every measure that has some."""
    goals, book = query.rules.goals, query.grouped
    if not goals:
        return None
    about = book.about
    per = as_wide(query.rules.per, level_of(about.folded.grain))
    every = [key for own in goals.values() if isinstance(own, Mapping) for key in own] or [*goals]
    by = about.by if any(isinstance(key, tuple) for key in every) else []
    table = book.ask(Recap(per, by=by, goals=goals, as_of=query.as_of))
    section = Section("Against the plan", "plan")
    for measure in about.measures:
        name = measure.name
        if f"{name}_goal" not in table:
            continue
        planned = table.take(np.flatnonzero(~table.column(f"{name}_goal").blank))
        if not len(planned):
            none = f"{as_title(name)}: no {per} has a goal, as some of its parts have none."
            section.sentences.append(none)
            continue
        last = planned.take(slice(max(len(planned) - _LAST_ROWS.get(per, 12), 0), None))
        period, value, due, reached = (
            format_value(last.column(one), -1)
            for one in ("period", name, f"{name}_goal_to_date", f"{name}_goal_reached")
        )
        if not by:
            section.sentences.append(
                f"{as_title(name)} in {period}: {value} against a plan of {due} to date "
                f"({reached})."
            )
        heads = [*by, "period", "first", "last", name, *(f"{name}{end}" for end in GOAL_ENDINGS)]
        label = f"{as_title(name)}: each {per} against its goal"
        section.add_table(only_filled(last, heads), label)
    return section


def calendars(query: ReportContext) -> Section | None:
    """Return the periods of two calendars side by side, with the days that two of them share."""
    other, book = query.rules.beside, query.book
    if other is None:
        return None
    about = book.about
    per = as_wide(query.rules.per, level_of(about.folded.grain))
    last = book.view(as_of=query.as_of).coverage.last
    only = Span(about.calendar.period_of(last, "year").first, last)
    table = book.ask(Recap(per, beside=other, only=only, as_of=query.as_of))
    section = Section("The same days by two calendars", "calendars")
    section.sentences.append(
        f"Each row has the days that a {per} of {about.calendar.name!r} shares with a {per} of "
        f"{other.name!r}, which explains why the totals of the two differ."
    )
    names = [name for name in table.names if name != "complete"]
    section.add_table(table.select(names), f"{as_title(plural(per))} of both calendars")
    return section


def restated(query: ReportContext) -> Section | None:
    """Return what has changed in periods that an earlier report had."""
    from eptaro.core.verbs.comparison.restated import restated as compare_keepings

    if query.rules.before is None:
        return None
    per = as_wide(query.rules.per, level_of(query.book.about.folded.grain))
    table = compare_keepings(query.book, query.rules.before, Restated(per, as_of=query.rules.since))
    section = Section("Changed since the last report", "restated")
    section.sentences.append(sentence(table))
    if len(table):
        section.add_table(table, f"{as_title(plural(per))} that have changed")
    return section


_MOST_GROUPS = 40


def groups(query: ReportContext) -> Section | None:
    """Return what changed most and why: contributions of groups, and effects of the calendar."""
    book, rules = query.book, query.rules
    section = Section("What changed, and why", "groups")
    within = as_wide(rules.within, level_of(book.about.folded.grain))
    _effects(section, query, within)
    if query.grouped.about.by:
        _contributions(section, query, within)
        _like_for_like(section, query, within)
    return section if section.sentences or section.tables else None


def _effects(section: Section, query: ReportContext, within: str) -> None:
    """Describe the effect of the number of workdays on the first change."""
    book, name = query.book, query.book.about.measures[0].name
    if book.about.measures[0].additive_plane is None or book.about.folded.grain != "day":
        return
    table = book.ask(
        Compare(
            within, to_date=True, match=query.rules.match, effects="workdays", as_of=query.as_of
        )
    )
    (row,) = table.rows()
    if row[f"{name}_change"] is None:
        return
    kinds = [n.removeprefix(f"{name}_effect_of_") for n in table.names if "_effect_of_" in n]
    kinds = [kind for kind in kinds if f"{name}_effect_of_{kind}" in table]
    parts = [
        f"{_signed_words(table, f'{name}_effect_of_{kind}')} from {row[kind]} {kind} against "
        f"{row[f'{kind}_prior']}"
        for kind in kinds
        if row[kind] != row[f"{kind}_prior"]
    ]
    whole = f"{as_title(name)} changed by {_signed_words(table, f'{name}_change')}"
    if not parts:
        section.sentences.append(
            f"{whole}; the calendar explains none of it, as both sides have the same day types."
        )
        return
    rest = f"{_signed_words(table, f'{name}_rest')} from what happened on like days"
    section.sentences.append(f"{whole}: {', '.join([*parts, rest])}.")


def _signed_words(table: Result, name: str) -> str:
    return with_plus(format_value(table.column(name), 0))


def _contributions(section: Section, query: ReportContext, within: str) -> None:
    """Add each group's change, the largest gain first, for every measure."""
    book, rules = query.grouped, query.rules
    name = book.about.measures[0].name
    table = book.ask(
        Compare(
            within,
            to_date=True,
            by=book.about.by,
            match=rules.match,
            details=True,
            sort=f"-{name}_change",
            as_of=query.as_of,
        )
    )
    defined = np.flatnonzero(~table.column(f"{name}_change").blank)
    if len(defined):
        best, worst = (table.take(at) for at in (defined[:1], defined[-1:]))

        def tell(one: Result) -> str:
            of = ", ".join(texts[0] for texts in shown_table(one.select(book.about.by)))
            return f"{of} ({_signed_words(one, f'{name}_change')})"

        extremes = f"Highest change: {tell(best)}; lowest: {tell(worst)}."
        section.sentences.append(extremes)
        section.add_picture(table, f"Changes by group. {extremes}", kind="changes")
    row = next(table.take(slice(0, 1)).rows())
    caption = f"{row['first']} to {row['last']} against {row['prior_first']} to {row['prior_last']}"
    if len(table) > _MOST_GROUPS:
        caption = f"the first {_MOST_GROUPS} of {len(table)} groups · {caption}"
    groups = " and ".join(group.replace("_", " ") for group in book.about.by)
    for measure in book.about.measures:
        names = [*book.about.by, "standing", *columns_of(measure.name)]
        names.append(f"{measure.name}_contribution")
        shown_rows = only_filled(table, names).take(slice(0, _MOST_GROUPS))
        section.add_table(shown_rows, f"{as_title(measure.name)} by {groups}", caption)


def _like_for_like(section: Section, query: ReportContext, within: str) -> None:
    """Split the change among groups on both sides, new and closed ones, where there are such."""
    book, names = query.grouped, query.grouped.about.by
    if book.about.own is not None:
        return
    match = query.rules.match
    table = book.ask(
        Compare(within, to_date=True, by=names, groups="both", match=match, as_of=query.as_of)
    )
    if len(table) < 3:  # all groups are on both sides, or the sides cannot be compared
        return
    section.sentences.append(sentence(table))
    name = book.about.measures[0].name
    shown_rows = only_filled(table, ["standing", "groups", *columns_of(name), "named"])
    section.add_table(shown_rows, f"{as_title(name)}: like for like, new and closed groups")


_WIDE, _HIGH, _EDGE = 200, 40, 4


def spark(values: Sequence[float], words: str) -> str:
    """Return values as a small line in SVG, its end marked; `words` are its description.

    >>> spark([1.0, 3.0], "from 1 to 3").count("<circle")
    1
    """
    defined = [(at, value) for at, value in enumerate(values) if value == value]
    if len(defined) < 2:
        return ""
    low, high = (end(value for _, value in defined) for end in (min, max))
    low = min(low, 0.0) if low < 0.6 * high else low
    wide = (_WIDE - 2 * _EDGE) / (len(values) - 1)
    tall = (_HIGH - 2 * _EDGE) / ((high - low) or 1.0)
    points = [(_EDGE + at * wide, _HIGH - _EDGE - (value - low) * tall) for at, value in defined]
    line = " ".join(f"{x:.1f},{y:.1f}" for x, y in points)
    x, y = points[-1]
    return (
        f'<svg class="spark" role="img" aria-label="{escape(words)}" '
        f'viewBox="0 0 {_WIDE} {_HIGH}" width="{_WIDE}" height="{_HIGH}">'
        f'<polyline fill="none" stroke="currentColor" stroke-width="1.6" points="{line}"/>'
        f'<circle cx="{x:.1f}" cy="{y:.1f}" r="3" fill="currentColor"/></svg>'
    )


_CARD_LEVELS = ("week", "month", "quarter", "year")


_LAST_ROWS = {"year": 6, "half": 8, "quarter": 9, "month": 13, "week": 13, "day": 14}


def headline(query: ReportContext) -> Section:
    """Return the card: each level to date, and the window, against the same days a year before."""
    section = Section("At a glance", "headline")
    book, about = query.book, query.book.about
    within = as_wide(query.rules.within, level_of(about.folded.grain))
    lead = book.ask(Compare(within, to_date=True, match=query.rules.match, as_of=query.as_of))
    section.lead = sentence(lead)
    levels = [level for level in _CARD_LEVELS if level in about.calendar.levels]
    table = book.ask(
        Card(
            levels=levels,
            trailing=query.rules.trailing,
            back="1 year",
            match=query.rules.match,
            as_of=query.as_of,
        )
    )
    for at, row in enumerate(table.rows()):
        lines = []
        for measure in about.measures:
            name = measure.name
            column = table.column(f"{name}_to_date")
            change = row.get(f"{name}_change")
            ratio = "" if change is None else format_value(table.column(f"{name}_change_ratio"), at)
            lines.append(
                {
                    "name": name.replace("_", " "),
                    "value": format_value(column, at),
                    "change": _movement_words(change, ratio, column),
                    "worse": change is not None and column.is_worse(change),
                    "prior": format_value(table.column(f"{name}_prior"), at),
                }
            )
        before = "no period before"
        if row["prior_first"] is not None:
            before = f"{row['prior_first']} to {row['prior_last']}"
        is_level = row["level"] in levels
        section.cards.append(
            {
                "title": f"{row['period']} to date" if is_level else f"Trailing {row['level']}",
                "span": f"{row['first']} to {row['last']}",
                "before": before,
                "lines": lines,  # type: ignore[dict-item]
                "spark": _trend_of(query, row["level"]) if is_level else "",
            }
        )
    return section


def _movement_words(change: Any, ratio: str, column: Column) -> str:
    """Return which way a value went, in a word and a sign; where less is better, also whether it
    is better.
    """
    if change is None:
        return "not comparable"
    which = f"{'up' if change > 0 else 'down' if change < 0 else 'same'} {ratio.lstrip('+-')}"
    if not column.lower_is_better or change == 0:
        return which
    return f"{which}, {'worse' if column.is_worse(change) else 'better'}"


def _trend_of(query: ReportContext, level: str) -> str:
    """Return the first measure's last whole periods of a level as a small line."""
    book, about = query.book, query.book.about
    table = book.ask(Recap(level, as_of=query.as_of))
    whole = np.flatnonzero(table.column("complete").to_list())[-_LAST_ROWS.get(level, 12) :]
    part = table.take(whole)
    column = part.column(about.measures[0].name)
    if not len(part) or column.kind in NO_NUMBERS:
        return ""
    periods = format_column(part.column("period"))
    words = f"{about.measures[0].name}, whole {level}s {periods[0]} to {periods[-1]}: "
    return spark(
        column.numbers().tolist(), f"{words}{format_value(column, 0)} to {format_value(column, -1)}"
    )


def to_date(query: ReportContext) -> Section:
    """Return the running total of this period over those before."""
    book, within = query.book, query.rules.within
    about = book.about
    name = about.measures[0].name
    section = Section(f"The {within} to date", "to-date")
    table = book.ask(Accumulate(within, as_of=query.as_of))
    rows = table.column("within").to_list()
    labels = format_column(table.column("within"))
    value = format_value(table.column(f"{name}_to_date"), -1)
    last = table.column("date" if "date" in table else "last").to_list()[-1]
    alt = f"Running total of {name}: {labels[-1]} is {value} on {last}."
    ends = [i for i in range(len(rows) - 1) if rows[i] != rows[i + 1]]
    for end in ends[-4:]:
        alt += f" {labels[end]} ended at {format_value(table.column(f'{name}_to_date'), end)}."
    section.sentences.append(sentence(table) or alt)
    section.add_picture(table, alt)
    return section


def comparison(query: ReportContext) -> Section:
    """Return the last periods against their counterparts a year before."""
    book, about = query.book, query.book.about
    per = as_wide(query.rules.per, level_of(about.folded.grain))
    section = Section(f"Each {per} against the year before", "comparison")
    table = book.ask(Compare(per, as_of=query.as_of))
    last = table.take(slice(max(len(table) - _LAST_ROWS.get(per, 12), 0), None))
    change = last.column(f"{about.measures[0].name}_change").to_list()
    defined = [value for value in change if value is not None]
    if not defined:
        section.sentences.append(
            f"Nothing to compare yet: the data covers only {about.coverage.first} to "
            f"{about.coverage.last}, and each {per} is compared with the one a year before."
        )
        return section
    up = sum(value > 0 for value in defined)
    section.sentences.append(
        f"Of the last {len(last)} {per}s, {len(defined)} can be compared; "
        f"{about.measures[0].name} was higher in {up} of them. A {per} that is not whole is "
        "listed, never compared."
    )
    for measure in about.measures:
        names = ["period", "first", "last", "prior_first", "prior_last", *columns_of(measure.name)]
        label = f"{as_title(measure.name)}: each {per} and the year before"
        section.add_table(only_filled(last, names), label)
    return section


_YEARS = 5  # side by side


def years(query: ReportContext) -> Section | None:
    """Return the periods of the last years side by side, with the change to the last one."""
    book, about = query.book, query.book.about
    per = as_wide(query.rules.per, level_of(about.folded.grain))
    coverage = book.view(as_of=query.as_of).coverage
    last = (
        about.calendar.period_of(coverage.last, "year") if "year" in about.calendar.levels else None
    )
    first = None if last is None else last.shift(1 - _YEARS)
    if last is None or per == "year" or about.calendar.period_of(coverage.first, "year") == last:
        return None
    only = None if first is None else Span(max(first.first, coverage.first), coverage.last)
    section = Section(f"Each {per} of the last years", "years")
    for measure in about.measures:
        alone = book.measuring([measure])
        table = alone.ask(Recap(per, across="year", only=only, as_of=query.as_of))
        label = f"{measure.name}: {plural(per)} down, years across"
        section.add_table(table.select([n for n in table.names if n != "complete"]), label)
    section.sentences.append(
        f"The change is that from the year before to {last.label}, for each {per} that both years "
        f"cover whole."
    )
    return section


def trend(query: ReportContext) -> Section:
    """Return the rolling windows at each month's end."""
    book, back = query.book, query.rules.trailing
    about = book.about
    name = f"{about.measures[0].name}_trailing"
    section = Section(f"The trend: trailing {back}", "trend")
    usual = "month" if "month" in about.calendar.levels else "week"
    every = as_wide(usual, level_of(about.folded.grain))
    table = book.ask(Trail(back, every=every, as_of=query.as_of))
    whole = [i for i, fine in enumerate(table.column("complete").to_list()) if fine]
    first = about.measures[0].name
    alt = f"Trailing {back} of {first}: the data covers no whole window."
    if whole:
        column, ends = table.column(name), table.column("date").to_list()
        alt = (
            f"Trailing {back} of {about.measures[0].name}: {format_value(column, whole[0])} at "
            f"{ends[whole[0]]}, {format_value(column, whole[-1])} at {ends[whole[-1]]}."
        )
    section.sentences.append(sentence(table) or alt)
    section.add_picture(table, alt)
    return section


def rhythm(query: ReportContext) -> Section:
    """Return how the first measure spreads over weekdays, hours and day types."""
    book, about = query.book, query.book.about
    section = Section("The rhythm", "rhythm")
    added_up = tuple(m for m in about.measures if m.additive_plane)
    of_any_days = tuple(m for m in about.measures if not m.needs_days)
    grain = level_of(about.folded.grain)
    attribute = {"day": "weekday", "month": "month", "quarter": "quarter"}.get(grain)
    if attribute is None:
        section.sentences.append(f"The data is dated by the {grain}; it has no rhythm within one.")
        return section
    if not of_any_days:
        section.sentences.append("The measures are of runs of days: they have no rhythm in these.")
        return section
    plain = book.measuring(added_up or of_any_days[:1])
    days = plain.ask(Rhythm(attribute, as_of=query.as_of))
    name, word = plain.about.measures[0].name, days.names[days.names.index("days") - 1]
    shown_name = f"{name}_per_day" if f"{name}_per_day" in days else name
    figures = ", ".join(
        f"{row[word]} {format_value(days.column(shown_name), i)}"
        for i, row in enumerate(days.rows())
    )
    answer = days
    if about.folded.timed:
        answer = plain.ask(Rhythm("weekday", "hour", as_of=query.as_of))
    title = as_title(name) if shown_name == name else f"{as_title(name)} per day"
    section.sentences.append(f"{title}: {figures}.")
    section.add_picture(answer, f"{title} by {attribute}: {figures}.")
    if grain == "day":
        section.add_table(plain.ask(Rhythm("day type", as_of=query.as_of)), "By day type")
    return section


def quality(query: ReportContext) -> Section:
    """Return what is in the dates, and what was rejected."""
    about = query.book.about
    section = Section("The data", "quality")
    section.sentences.append(
        f"{about.rows:,} transactions of {about.source} are counted; the data covers "
        f"{about.coverage}."
    )
    if len(about.rejected):
        section.sentences.append(
            f"{count_noun(len(about.rejected), 'row')} without a readable date: left out."
        )
        section.add_table(about.rejected.take(slice(0, 10)), "The first rows left out", "")
    section.sentences += about.folded.notes
    if query.quality is not None:
        words = query.quality.column("subject").to_list()
        rows = np.flatnonzero([subject != "suggestion" for subject in words])
        table = only_filled(query.quality.take(rows), query.quality.names)
        section.add_table(table, "What is in the dates", "")
    return section


def definitions(query: ReportContext) -> Section:
    """Return what each measure and calendar means."""
    about = query.book.about
    section = Section("What the words mean", "definitions")
    names = [measure.name for measure in about.measures]
    formulas = [measure.formula for measure in about.measures]
    rows = [Column.text("measure", names), Column.text("definition", formulas)]
    section.add_table(Result(rows), "Measures", "")
    section.sentences.append(f"{calendar_in_words(about.calendar)}.")
    section.sentences.append(
        "A change is the current value less the prior one; the ratio divides it by the size of "
        "the prior one. Changes are blank unless the data covers both sides in full. A blank is "
        "not a zero: the data does not say."
    )
    return section


def proof(query: ReportContext) -> Section:
    """Return how the parts tie out, and a sample that was recalculated."""
    book, about = query.book, query.book.about
    per = as_wide(query.rules.per, level_of(about.folded.grain))
    section = Section("How the numbers were checked", "proof")
    table = book.ask(Recap(per, as_of=query.as_of))
    for name, text in table.meta["tie_out"].items():
        section.sentences.append(f"Tied out: {name}, {text}.")
    try:
        count = prove(table, sample=12)
    except QuestionError as error:
        section.sentences.append(f"No sample was recalculated: {error}.")
    else:
        section.sentences.append(
            f"{count} numbers, picked at random, were recalculated one transaction at a time and "
            "came out the same."
        )
    return section


MAKERS: dict[str, Callable[[ReportContext], Section | None]] = {
    "headline": headline,
    "plan": plan,
    "calendars": calendars,
    "restated": restated,
    "to date": to_date,
    "comparison": comparison,
    "years": years,
    "trend": trend,
    "groups": groups,
    "rhythm": rhythm,
    "quality": quality,
    "definitions": definitions,
    "proof": proof,
}


def make_section(name: str, query: ReportContext) -> Section | None:
    """Return a section; one that cannot be made says why instead of stopping the report."""
    try:
        return MAKERS[name](query)
    except EptaroError as error:
        section = Section(name.capitalize(), name.replace(" ", "-"))
        section.sentences.append(f"This section could not be made: {error}")
        return section
