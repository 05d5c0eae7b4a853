"""Groups: the combinations of group values that occur, in the natural order of their values."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.column import Column, Kind
from eptaro.core.days import Ints
from eptaro.core.errors import InputError, QuestionError, unknown

BLANK = "(blank)"  # how people read and write the group without a value


@dataclass(frozen=True, eq=False)
class Coded:
    """A group column as codes into its distinct values; -1 is blank."""

    codes: NDArray[np.int32]
    choices: Column

    @cached_property
    def ranks(self) -> Ints:
        """The place of each choice in natural order, and, at the end, that of the blank."""
        order = natural_order(self.choices)
        ranks = np.empty(len(order) + 1, np.int64)
        ranks[order] = np.arange(len(order))
        ranks[-1] = len(order)
        return ranks

    def at(self, places: Any) -> Coded:
        """Return the codes at some places."""
        return Coded(self.codes[places], self.choices)


def natural_order(choices: Column) -> Ints:
    """Return the order of distinct values: numbers by size, dates by time, text by letters.

    Text that is all whole numbers without leading zeros is ordered by size, so that
    branch 10 follows branch 9.
    """
    if choices.kind != "text":
        return np.argsort(choices.data, kind="stable")
    words = [str(word) for word in choices.to_list()]
    if all(word.isascii() and word.isdigit() and str(int(word)) == word for word in words):
        return np.array(sorted(range(len(words)), key=lambda i: int(words[i])), np.int64)
    return np.array(sorted(range(len(words)), key=words.__getitem__), np.int64)


class Encoder:
    """Gives each distinct value of a column, the blank too, one number, the same in every batch."""

    def __init__(self, name: str) -> None:
        self.name = name
        self._numbers: dict[Any, int] = {}
        self._kind: Kind | None = None
        self._unit = ""

    def encode(self, coded: Coded) -> NDArray[np.int32]:
        """Return the number of each row's value."""
        values = coded.choices.to_list()
        if values and coded.choices.kind != (self._kind or coded.choices.kind):
            raise InputError(
                f"column {self.name!r} holds {self._kind} values in one part and "
                f"{coded.choices.kind} values in another"
            )
        if values:
            self._kind, self._unit = coded.choices.kind, coded.choices.unit
        numbers = self._numbers
        known = [numbers.setdefault(value, len(numbers)) for value in values]
        if len(coded.codes) and coded.codes.min() < 0:
            known.append(numbers.setdefault(None, len(numbers)))
        elif known == list(range(len(known))):
            return coded.codes
        return np.array(known, np.int32)[coded.codes]

    def coded(self) -> Coded:
        """Return all values met, and for each number the place of its value, -1 for the blank."""
        values = [value for value in self._numbers if value is not None]
        places = {value: place for place, value in enumerate(values)} | {None: -1}
        codes = np.array([places[value] for value in self._numbers], np.int32)
        return Coded(codes, self._choices(values))

    def _choices(self, values: list[Any]) -> Column:
        if self._kind in (None, "text"):
            return Column.text(self.name, np.array([*values, None], object)[:-1])
        if self._kind == "date":
            days = np.array(values, "datetime64[D]").astype(np.int64)
            return Column.of(self.name, "date", days)
        return Column.of(self.name, self._kind, np.array(values), unit=self._unit)

    def __len__(self) -> int:
        return len(self._numbers)


class Combiner:
    """Gives each combination of group values one number, the same in every batch."""

    def __init__(self, names: Sequence[str]) -> None:
        self.encoders = [Encoder(name) for name in names]
        self._pairs: list[dict[int, int]] = [{} for _ in names[1:]]

    def number(self, coded: Mapping[str, Coded]) -> NDArray[Any] | None:
        """Return the number of each row's combination; None where there is one for all."""
        if not self.encoders:
            return None
        parts = [encoder.encode(coded[encoder.name]) for encoder in self.encoders]
        numbers: NDArray[Any] = parts[0]
        for part, pairs in zip(parts[1:], self._pairs, strict=True):
            keys = (numbers.astype(np.int64) << 32) | part
            distinct, places = np.unique(keys, return_inverse=True)
            known = [pairs.setdefault(key, len(pairs)) for key in distinct.tolist()]
            numbers = np.array(known, np.int64)[places]
        return numbers

    def __len__(self) -> int:
        if not self.encoders:
            return 1
        return len(self._pairs[-1]) if self._pairs else len(self.encoders[0])

    def groups(self) -> Groups:
        """Return all combinations met, in the order of their numbers."""
        if not self.encoders:
            return Groups({}, 1)
        numbers = np.arange(len(self))
        parts = []
        for pairs in reversed(self._pairs):
            keys = np.array([*pairs], np.int64)[numbers]
            parts.append(keys & 0xFFFFFFFF)
            numbers = keys >> 32
        parts.append(numbers)
        kept = {}
        for encoder, part in zip(self.encoders, reversed(parts), strict=True):
            coded = encoder.coded()
            kept[encoder.name] = Coded(coded.codes[part], coded.choices)
        return Groups(kept, len(self))


@dataclass(frozen=True, eq=False)
class Groups:
    """One row per combination of group values that occurs; no columns means one group: all."""

    coded: Mapping[str, Coded]
    count: int

    @property
    def names(self) -> list[str]:
        """The names of the group columns."""
        return list(self.coded)

    def at(self, places: Ints) -> Groups:
        """Return the groups at some places."""
        if not self.coded:
            return self
        return Groups({n: c.at(places) for n, c in self.coded.items()}, len(places))

    def order(self) -> Ints:
        """Return the natural order: by the first column, then the next."""
        if not self.coded:
            return np.arange(self.count)
        return np.lexsort([c.ranks[c.codes] for c in reversed([*self.coded.values()])])

    def columns(self, places: NDArray[Any]) -> list[Column]:
        """Return the group columns of a result whose rows belong to the given groups."""
        made = []
        for name, coded in self.coded.items():
            codes, each = coded.codes, coded.choices
            if len(each):
                each = each.take(np.maximum(codes, 0)).blanked(codes >= 0)
            else:  # the whole column is blank
                each = Column.text(name, np.array([""]), codes)
            made.append(each.take(places).named(name, f"Group: {name}"))
        return made

    def onto(self, by: Sequence[str]) -> tuple[Groups, Ints]:
        """Return the groups by fewer columns, and for each present group its new place."""
        for name in by:
            if name not in self.coded:
                raise QuestionError(unknown("group column", name, self.names))
        if len(set(by)) != len(by):
            raise QuestionError(f"by={list(by)} names a column twice")
        if not by:
            return Groups({}, 1), np.zeros(self.count, np.int64)
        keys = np.stack([self.coded[name].ranks[self.coded[name].codes] for name in by])
        _, picked, places = np.unique(keys, axis=1, return_index=True, return_inverse=True)
        kept = {name: self.coded[name].at(picked) for name in by}
        return Groups(kept, len(picked)), places.ravel()

    def matching(self, wanted: Mapping[str, Any]) -> NDArray[np.bool_]:
        """Return which groups bear one of the wanted values of each named column."""
        keep = np.ones(self.count, bool)
        for name, value in wanted.items():
            if name not in self.coded:
                raise QuestionError(unknown("group column", name, self.names))
            coded = self.coded[name]
            many = isinstance(value, Sequence | set) and not isinstance(value, str)
            codes = [code_of(name, coded.choices, one) for one in (value if many else [value])]
            keep &= np.isin(coded.codes, codes)
        return keep


def code_of(name: str, choices: Column, value: Any) -> int:
    """Return the code of a group column's value, which may be given as its text.

    The blank is None; `(blank)` and the empty text are it too, where no value is called so.
    Raises `QuestionError` for a value that does not occur.
    """
    if value is None:
        return -1
    words = {str(word): code for code, word in enumerate(choices.to_list())}
    code = words.get(str(value), -1 if str(value) in ("", BLANK) else None)
    if code is None:
        raise QuestionError(unknown(f"value of {name}", value, sorted(words)))
    return code
