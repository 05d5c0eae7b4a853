"""Columns made of other columns: joined, subtracted, brought to one kind."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from eptaro.core.calendars.days import Days, Flags
from eptaro.core.tables import exact
from eptaro.core.tables.column import Column, Kind
from eptaro.core.tables.face import Face
from eptaro.errors import EptaroError, MeasureError


def difference(now: Column, prior: Column) -> Column:
    """Return now less prior: exact for whole numbers and decimals, else as floats."""
    blank = now.blank | prior.blank
    if "float" in (now.kind, prior.kind):
        with np.errstate(over="ignore", invalid="ignore"):
            found = np.where(blank, 0.0, now.numbers() - prior.numbers())
        if (np.isinf(found) & np.isfinite(now.numbers()) & np.isfinite(prior.numbers())).any():
            raise MeasureError(f"column {now.name!r}: a change does not fit into a float")
        return Column.of(now.name, "float", found, ~blank, format=now.format)
    one, two = of_one_kind([now, prior])
    data = exact.minus(one.data, two.data)
    return Column.of(now.name, one.kind, data, ~blank, scale=one.scale, format=now.format)


def dates(
    name: str,
    days: Days,
    valid: Flags | None = None,
    description: str = "",
    face: Face | None = None,
) -> Column:
    """Return a date column from day ordinals; blank ones may hold anything."""
    return Column.of(name, "date", days, valid, description=description, face=face)


def of_one_kind(parts: Sequence[Column]) -> list[Column]:
    """Return columns brought to the widest kind among them: integer, decimal, float."""
    kinds = {part.kind for part in parts}
    if not kinds <= {"integer", "decimal", "float"}:
        if len(kinds) > 1:
            raise EptaroError(f"column {parts[0].name!r} changes its kind between parts")
        return list(parts)
    if "float" in kinds:
        return [p if p.kind == "float" else Column.of(p.name, "float", p.numbers()) for p in parts]
    scale = max(part.scale for part in parts)
    kind: Kind = "decimal" if scale else "integer"
    return [
        p
        if (p.kind, p.scale) == (kind, scale)
        else replace(p, kind=kind, scale=scale, data=exact.times(p.data, 10 ** (scale - p.scale)))
        for p in parts
    ]


def join(parts: Sequence[Column]) -> Column:
    """Return columns of one name and kind one below the other, scales brought together."""
    if len(parts) == 1:
        return parts[0]
    parts = of_one_kind(parts)
    head = parts[0]
    valid = None
    if any(part.valid is not None for part in parts):
        valid = np.concatenate([~part.blank for part in parts])
    if head.kind == "text":
        choices = np.concatenate([np.asarray(part.choices) for part in parts])
        sizes = np.cumsum([0, *(len(np.asarray(part.choices)) for part in parts)])
        data = np.concatenate(
            [np.where(p.data < 0, -1, p.data + at) for p, at in zip(parts, sizes, strict=False)]
        )
        return replace(head, data=data.astype(np.int32), valid=valid, choices=choices)
    return replace(head, data=np.concatenate([part.data for part in parts]), valid=valid)
