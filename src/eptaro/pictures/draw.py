"""Which picture suits which table."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from eptaro.core.tables.table import Table
from eptaro.errors import QuestionError, unknown
from eptaro.pictures.bars import draw_against, draw_bars, draw_histogram
from eptaro.pictures.boxes import draw_boxes
from eptaro.pictures.changes import draw_changes, draw_steps
from eptaro.pictures.groups import group_names
from eptaro.pictures.lines import draw_day_by_day, draw_to_date, draw_trailing
from eptaro.pictures.shaded import draw_heat, draw_sheet
from eptaro.pictures.style import check_ending

Drawer = Callable[[Table, str | Path, str], Path]


def kinds_of(table: Table) -> dict[str, Drawer]:
    """Return the pictures that a table can be drawn as, the most fitting first."""
    if "row" in table or "heads" in table.meta or not len(table):
        return {}
    kinds: dict[str, Drawer]
    match table.meta.get("verb"):
        case "recap":
            kinds = {"bars": draw_bars}
            if table.meta.get("per") == "day" and not group_names(table):
                kinds["sheet"] = draw_sheet
            return kinds
        case "rhythm":
            return {"heat": draw_heat} if table.meta.get("across") else {"bars": draw_bars}
        case "accumulate":
            kinds = {"lines": draw_to_date}
            return (
                kinds | {"sheet": draw_sheet}
                if "date" in table and not group_names(table)
                else kinds
            )
        case "trail":
            return {"lines": draw_trailing}
        case "compare" if any(name.startswith("prior_first_") for name in table.names):
            return {}  # several prior periods side by side
        case "compare":
            changes: dict[str, Drawer] = {"changes": draw_changes, "steps": draw_steps}
            if "day" in table:
                return {"lines": draw_day_by_day}
            if not group_names(table):
                return {"bars": draw_against}
            one = table.meta.get("to_date") and len(set(table.column("period").to_list())) == 1
            return changes | {"bars": draw_against} if one else {"bars": draw_against} | changes
        case "spread":
            return {"boxes": draw_boxes}
        case "histogram":
            return {"histogram": draw_histogram}
    return {}


def draw(table: Table, path: str | Path, kind: str | None, measure: str | None) -> Path:
    """Draw a table, by default as the picture that suits its verb best.

    Raises `QuestionError` for one that cannot be drawn, or not as the kind asked for.
    """
    check_ending(path)
    kinds = kinds_of(table)
    if not kinds:
        raise QuestionError("this table has no picture; periods, days and groups have")
    if kind is not None and kind not in kinds:
        raise QuestionError(unknown("kind of picture for this table", kind, kinds))
    measures = list(table.meta.get("measures", {}))
    if measure is not None and measure not in measures:
        raise QuestionError(unknown("measure", measure, measures))
    drawer = kinds[kind] if kind else next(iter(kinds.values()))
    return drawer(table, path, measure or measures[0])
