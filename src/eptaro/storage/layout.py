"""The shape of a book's file: one row per occupied cell, one column per part of a plane.

Group columns are called `group:NAME`, the day `day`, and the parts of a plane
`WHAT:COLUMN:PART`, for example `sum:fare:whole`. The file's metadata, under `eptaro-book`,
is JSON: the version, measures, calendar, coverage, inputs, and each plane's kind and scale.
"""

from __future__ import annotations

VERSION = 2


METADATA = b"eptaro-book"


PICKED = ("value", "time", "row")


def part_name(what: str, column: str, part: str) -> str:
    """Return the name of a file column.

    >>> part_name("sum", "fare", "whole")
    'sum:fare:whole'
    """
    return f"{what}:{column}:{part}"
