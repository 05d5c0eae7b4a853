"""`ListedCalendar` with its periods in a frame or a CSV file."""

from __future__ import annotations

import csv
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from eptaro.core.calendars import listed
from eptaro.core.calendars.listed import ListedCalendar
from eptaro.errors import CalendarError, InputError
from eptaro.inputs.smallfiles import check_small

__all__ = ["ListedCalendar", "read_listed", "read_rows"]


def _rows_of_frame(frame: Any) -> list[Mapping[str, Any]]:
    from eptaro.inputs.sources import FrameSource

    return list(FrameSource(frame).rows())


listed.rows_of_frame = _rows_of_frame  # core itself knows no frames


def read_rows(path: Path) -> list[dict[str, Any]]:
    """Return the rows of a small CSV file, None where a field is empty."""
    try:
        check_small(path)
        with path.open(encoding="utf-8-sig", newline="") as file:
            return [{k: v or None for k, v in row.items()} for row in csv.DictReader(file)]
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        said = error.strerror if isinstance(error, OSError) else str(error)
        raise InputError(f"{path}: cannot be read: {said}") from None


def read_listed(name: str, path: Path, *, prefix: str = "") -> ListedCalendar:
    """Return the calendar whose periods a CSV file lists."""
    rows = read_rows(path)
    try:
        return ListedCalendar(name, rows, prefix=prefix)
    except CalendarError as error:
        raise CalendarError(f"{path}: {error}") from None
