"""The grains that data may have: the periods that its dates stand for."""

from __future__ import annotations

from typing import Literal, TypeAlias, get_args

Grain: TypeAlias = Literal["day", "week", "month", "quarter", "year"]
GRAINS: tuple[Grain, ...] = get_args(Grain)
