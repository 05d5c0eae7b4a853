"""The headlines of what spreads over weekdays, hours and values rather than over time."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from eptaro.core.query.lineage import ViewLineage
from eptaro.core.results.column import NO_NUMBERS, Column
from eptaro.core.results.format import Priority
from eptaro.core.results.result import Result
from eptaro.core.verbs.queries import Histogram, Spread
from eptaro.presentation.words import as_title, format_value, group_named, largest_of


def by_attribute(table: Result, answer: ViewLineage) -> str:
    """Return where the first measure, per day where it adds up, is highest and lowest."""
    measure = answer.view.facts.measures[0]
    name, of = f"{measure.name}_per_day", "per day "
    if name not in table:
        name, of = measure.name, ""
    if name not in table or table.column(name).kind in NO_NUMBERS:
        return ""
    column = table.column(name)
    numbers = column.numbers()
    high, low = largest_of(numbers), largest_of(-numbers)
    if high is None or low is None:
        return ""
    keys = [c for c in table.columns if c.face is not None and c.face.rank is Priority.KEY]
    if not keys:
        return ""

    def where(row: int) -> str:
        words = [group_named(answer, row)] if answer.by else []
        return ", ".join([*words, *(str(key.to_list()[row]) for key in keys)])

    title = f"{as_title(measure.name)} {of}".rstrip()
    if numbers[high] == numbers[low]:
        return f"{title} is the same everywhere: {format_value(column, high)}."
    text = f"{title}: highest for {where(high)} ({format_value(column, high)})"
    return f"{text}, lowest for {where(low)} ({format_value(column, low)})."


def spread_told(table: Result, answer: ViewLineage) -> str:
    """Return between which values the middle half lies."""
    query = answer.question
    assert isinstance(query, Spread)
    if not {"quartile_1", "median", "quartile_3", "outliers", "entries"} <= set(table.names):
        return ""
    return " ".join(_boxes(table, answer, query.column))


def _boxes(table: Result, answer: ViewLineage, name: str) -> Iterator[str]:
    low, middle, high = (table.column(part) for part in ("quartile_1", "median", "quartile_3"))
    if len(table) == 1:
        outside = int(table.column("outliers").data[0])
        yield (
            f"Half of the values of {name} lie between {format_value(low)} and "
            f"{format_value(high)}, the median is {format_value(middle)}."
        )
        yield f"{outside:,} lie far outside." if outside else "None lies far outside."
        return
    most, least = largest_of(middle.numbers()), largest_of(-middle.numbers())
    if most is None or least is None:
        return
    stop = table.names.index("entries")
    keys = table.columns[:stop]

    def where(row: int) -> str:
        return ", ".join(str(key.to_list()[row]) for key in keys)

    yield (
        f"The median of {name} is highest for {where(most)} ({format_value(middle, most)}) "
        f"and lowest for {where(least)} ({format_value(middle, least)})."
    )


def histogram_told(table: Result, answer: ViewLineage) -> str:
    """Return which range holds most values."""
    query = answer.question
    assert isinstance(query, Histogram)
    if not {"from", "to", "entries"} <= set(table.names):
        return ""
    begins, entries = table.column("from"), table.column("entries").data
    _, row, of = np.unique(begins.data, return_index=True, return_inverse=True)
    counts = np.bincount(of, entries)
    at = int(np.argmax(counts))
    first, last = (format_value(table.column(name), int(row[at])) for name in ("from", "to"))
    share = Column.of("", "float", [counts[at] / counts.sum()], unit="share")
    return (
        f"Most values of {query.column} lie from {first} to below {last}: {counts[at]:,.0f} of "
        f"{counts.sum():,.0f} ({format_value(share)})."
    )
