"""Columns brought to 64 bits, as tables hold them."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal

import numpy as np

from eptaro.core.tables import exact
from eptaro.core.tables.column import Column
from eptaro.errors import MeasureError


def settled(column: Column) -> Column:
    """Return the column with all its values as they are stored.

    Decimals that do not fit into 64 bits lose decimals that are zero in all of them.
    Raises `MeasureError` where a value still does not fit.
    """
    if column.data.dtype != object:
        return column
    units = column.data if column.valid is None else np.where(column.valid, column.data, 0)
    scale = column.scale
    while scale and not exact.fit(units) and not (units % 10).any():
        units, scale = units // 10, scale - 1
    data = exact.narrowed_to(units, floats=column.kind == "float")
    if data.dtype == object:
        large = max(units.tolist(), key=abs)
        shown = f"{Decimal(f'{large}E-{scale}'):.6g}"
        kept = "a float" if column.kind == "float" else f"64 bits at {scale} decimals"
        raise MeasureError(
            f"column {column.name!r}: a value of {shown} does not fit into {kept}; ask for fewer "
            f"rows at once, or store the column with fewer decimals"
        )
    return replace(column, data=data, scale=scale)
