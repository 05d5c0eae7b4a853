"""The date dimension: a catalogue of declared attributes, gathered from calendars."""

from eptaro.core.dimension.build import COLUMN_SETS, catalogue, dimension

__all__ = ["COLUMN_SETS", "catalogue", "dimension"]
