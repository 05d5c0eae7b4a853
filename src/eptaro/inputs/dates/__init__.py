"""Reading a column of dates strictly: by its type, by rule, or not at all."""

from eptaro.inputs.dates.reading import Read, read_dates, resolve

__all__ = ["Read", "read_dates", "resolve"]
