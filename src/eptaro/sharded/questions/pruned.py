"""The shards that can hold groups with wanted values, told by these alone."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from itertools import product
from math import prod
from typing import Any

import numpy as np

from eptaro.core.calendars.days import ordinal
from eptaro.core.folds.shards import combined, shard_of_hashes
from eptaro.core.kernels.texts import hashes_of_numbers, hashes_of_texts
from eptaro.core.tables.display import BLANK
from eptaro.errors import DateError

_MOST = 10_000  # combinations of values; of more, all shards are looked at
_WHOLE = re.compile(r"-?\d{1,18}")


def shards_with(
    names: Sequence[str], wanted: Mapping[str, Sequence[Any]], shards: int
) -> list[int] | None:
    """Return the shards in which groups with some values can be; None where that may be all.

    >>> shards_with(["route"], {"route": ["a"]}, 16), shards_with(["route"], {}, 16)
    ([0], None)
    """
    if not names or any(name not in wanted for name in names):
        return None
    columns = [{one for value in wanted[name] for one in _hashes(value)} for name in names]
    if prod(map(len, columns)) > _MOST:
        return None
    keys = np.array([*product(*columns)], np.uint64).reshape(-1, len(names))
    return sorted({int(shard) for shard in shard_of_hashes(combined(keys.T), shards)})


def _hashes(value: Any) -> Iterable[int]:
    """Yield the hashes of a value, which may be given as its text, for each kind it may be of."""
    text = str(value)
    if value is None or text in ("", BLANK):
        yield 0
    yield int(hashes_of_texts(np.array([text], object))[0])
    numbers = []
    if _WHOLE.fullmatch(text):
        numbers.append(int(text))
    if text in ("True", "False"):
        numbers.append(int(text == "True"))
    with suppress(DateError):
        numbers.append(ordinal(text))
    yield from (int(one) for one in hashes_of_numbers(np.array(numbers, np.int64)))
