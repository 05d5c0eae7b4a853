"""What a table answers, as pictures need it: its question, its view, its calendar."""

from __future__ import annotations

from typing import TypeVar

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.month import MonthCalendar
from eptaro.core.questions.answer import Answered
from eptaro.core.questions.view import View
from eptaro.core.tables.answer import Question
from eptaro.core.tables.table import Table
from eptaro.errors import QuestionError

Asked = TypeVar("Asked", bound=Question)


def asked_of(table: Table, kind: type[Asked]) -> Asked:
    """Return the question of a verb that a table answers; raises `QuestionError` if another's."""
    found = None if table.answer is None else table.answer.question
    if not isinstance(found, kind):
        raise QuestionError(f"this picture takes an answer of {kind.verb}")
    return found


def view_of(table: Table) -> View | None:
    """Return the one view that a table answers from; None where there are several, or none."""
    return table.answer.view if isinstance(table.answer, Answered) else None


def calendar_of(table: Table) -> Calendar:
    """Return the calendar that a table goes by; of several, civil years."""
    view = view_of(table)
    return MonthCalendar() if view is None or "calendar" in table else view.calendar


def group_names(table: Table) -> list[str]:
    """Return the columns that tell groups apart."""
    by = () if table.answer is None else table.answer.by
    names = [name for name in by if name in table]
    return [*names, "calendar"] if names and "calendar" in table else names
