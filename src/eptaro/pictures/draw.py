"""Which picture suits which table."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from eptaro.core.tables.table import Table
from eptaro.core.verbs.accumulate import Accumulate
from eptaro.core.verbs.compare.options import Compare
from eptaro.core.verbs.recap import Recap
from eptaro.core.verbs.rhythm import Rhythm
from eptaro.core.verbs.spread import Histogram, Spread
from eptaro.core.verbs.trail import Trail
from eptaro.errors import QuestionError, unknown
from eptaro.pictures.asked import group_names
from eptaro.pictures.bars import draw_against, draw_bars, draw_histogram
from eptaro.pictures.boxes import draw_boxes
from eptaro.pictures.changes import draw_changes, draw_steps
from eptaro.pictures.lines import draw_day_by_day, draw_to_date, draw_trailing
from eptaro.pictures.shaded import draw_heat, draw_sheet
from eptaro.pictures.style import check_ending

Drawer = Callable[[Table, str | Path, str], Path]


Kinds = dict[str, Drawer]
_OF_ANY: Kinds = {"bars": draw_bars, "heat": draw_heat}  # what asks nothing of the verb


def kinds_of(table: Table) -> Kinds:
    """Return the pictures that a table can be drawn as, the most fitting first."""
    if table.answer is None or "row" in table or not len(table):
        return {}
    groups = group_names(table)
    match table.answer.question:
        case Recap(wide=True):
            return {}
        case Recap(per=per):
            sheet: Kinds = {"sheet": draw_sheet} if per == "day" and not groups else {}
            return {"bars": draw_bars} | sheet
        case Rhythm(across=across):
            return {"heat": draw_heat} if across else {"bars": draw_bars}
        case Accumulate():
            days: Kinds = {"sheet": draw_sheet} if "date" in table and not groups else {}
            return {"lines": draw_to_date} | days
        case Trail():
            return {"lines": draw_trailing}
        case Compare() as asked:
            return _of_comparison(table, asked)
        case Spread():
            return {"boxes": draw_boxes}
        case Histogram():
            return {"histogram": draw_histogram}
        case other:
            return {kind: _OF_ANY[kind] for kind in other.pictures}


def _of_comparison(table: Table, asked: Compare) -> Kinds:
    """Return the pictures of a comparison; of several prior periods side by side there is none."""
    if len(asked.back) > 1:
        return {}
    if asked.every is not None:
        return {"lines": draw_day_by_day}
    bars: Kinds = {"bars": draw_against}
    if not group_names(table):
        return bars
    changes: Kinds = {"changes": draw_changes, "steps": draw_steps}
    one = asked.to_date and len(set(table.column("period").to_list())) == 1
    return changes | bars if one else bars | changes


def draw(table: Table, path: str | Path, kind: str | None, measure: str | None) -> Path:
    """Draw a table, by default as the picture that suits its verb best.

    Raises `QuestionError` for one that cannot be drawn, or not as the kind asked for.
    """
    check_ending(path)
    kinds = kinds_of(table)
    if not kinds or table.answer is None:
        raise QuestionError("this table has no picture; periods, days and groups have")
    if kind is not None and kind not in kinds:
        raise QuestionError(unknown("kind of picture for this table", kind, kinds))
    measures = table.answer.measures
    if measure is not None and measure not in measures:
        raise QuestionError(unknown("measure", measure, measures))
    drawer = kinds[kind] if kind else next(iter(kinds.values()))
    return drawer(table, path, measure or measures[0])
