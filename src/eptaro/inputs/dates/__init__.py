"""Reading a column of dates strictly: by its type, by rule, or not at all."""

from eptaro.inputs.dates.evidence import resolve
from eptaro.inputs.dates.outcome import Read
from eptaro.inputs.dates.reading import read_dates

__all__ = ["Read", "read_dates", "resolve"]
