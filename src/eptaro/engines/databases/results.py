"""What a database sent back, and the days and groups of its rows."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from eptaro.core.folds.planes import Plane
from eptaro.engines.databases.queries import DAY, key_names
from eptaro.inputs.columns.codes import read_groups
from eptaro.inputs.dates import read_dates
from eptaro.rules.dates import DateRules


@dataclass(frozen=True, eq=False)
class Result:
    """What came back: columns of the grouped query, those of the listed ones, and the queries."""

    columns: Mapping[str, list[Any]]
    listed: Mapping[Plane, Mapping[str, list[Any]]]
    queries: tuple[str, ...]
    scales: Mapping[str, int]
    floats: frozenset[str]
    centres: Mapping[str, int]


class Keys:
    """The day and group of each row of a result; rows without a readable day are told apart."""

    def __init__(
        self, columns: Mapping[str, list[Any]], by: list[str], rules: DateRules, name: str
    ) -> None:
        self.read = read_dates(array_of(columns[DAY]), rules, "date")
        bad = self.read.bad
        self.good = np.ones(len(columns[DAY]), bool) if bad is None else ~bad
        self.day = self.read.days[self.good].astype(np.int64)
        self.coded = {
            group: read_groups(array_of(columns[key]), group, name).at(self.good)
            for group, key in zip(by, key_names(by)[1:], strict=True)
        }


def array_of(values: list[Any]) -> pa.ChunkedArray:
    """Return a result's column as Arrow has it; sums of mixed kinds are brought together."""
    try:
        return pa.chunked_array([pa.array(values)])
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        return pa.chunked_array([pa.array([None if v is None else str(v) for v in values])])
