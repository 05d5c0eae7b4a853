"""Groups: the combinations of group values that occur, in the natural order of their values."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from functools import cached_property, partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints
from eptaro.core.kernels.parallel import parallel_for
from eptaro.core.kernels.reading import min_max
from eptaro.core.kernels.sorting import stable_order
from eptaro.core.results.column import Column, LazyColumn, TiledArray
from eptaro.core.results.format import BLANK
from eptaro.errors import QuestionError, spell_option, unknown
from eptaro.record import record

Codes = NDArray[np.int32]


class Categorical:
    """A group column as codes into its distinct values; -1 is blank.

    Of whole numbers that follow each other without a gap, `consecutive` are the rows as they are:
    their codes, which are calculated when they are asked for, say how far each lies from the least.
    """

    def __init__(
        self,
        codes: Codes | None,
        choices: Column,
        consecutive: NDArray[Any] | None = None,
        *,
        blanks: bool | None = None,
    ) -> None:
        """`codes` is `(n_rows,)`, or None where `consecutive`, of the same shape, is given; whether
        any are `blanks` is looked for where it is not known.
        """
        self._codes, self.choices, self.consecutive = codes, choices, consecutive
        self._blanks = blanks

    def __len__(self) -> int:
        rows = self._codes if self.consecutive is None else self.consecutive
        assert rows is not None
        return len(rows)

    @property
    def codes(self) -> Codes:
        """The code of each row."""
        if self._codes is None:
            rows, least = self.consecutive, self.least
            assert rows is not None
            codes = self._codes = np.empty(len(rows), np.int32)
            parallel_for(
                lambda of: np.subtract(rows[of], least, out=codes[of], casting="unsafe"), len(rows)
            )
        return self._codes

    @property
    def least(self) -> int:
        """The first of the distinct values, which are whole numbers."""
        return int(self.choices.data[0])

    @cached_property
    def has_blanks(self) -> bool:
        """Whether any row is blank."""
        if self._blanks is not None or self.consecutive is not None:
            return bool(self._blanks)
        return len(self.codes) > 0 and min_max(self.codes)[0] < 0

    @cached_property
    def ranks(self) -> Ints:
        """The place of each choice in natural order, and, at the end, that of the blank."""
        order = natural_order(self.choices)
        ranks = np.empty(len(order) + 1, np.int64)
        ranks[order] = np.arange(len(order))
        ranks[-1] = len(order)
        return ranks

    def at(self, places: Any) -> Categorical:
        """Return the codes at some places."""
        return Categorical(self.codes[places], self.choices)


def natural_order(choices: Column) -> Ints:
    """Return the order of distinct values: numbers by size, dates by time, text by letters.

    Text that is all whole numbers without leading zeros is ordered by size, so that
    branch 10 follows branch 9, and so are bands (`under 0`, `0 to 50`, `50 and over`).
    """
    data = choices.data
    if choices.kind != "text" and data.dtype.kind in "iub" and len(data):
        if (data[1:] > data[:-1]).all():
            return np.arange(len(data))
        least, most = int(data.min()), int(data.max())
        if most - least < 1 << 63:
            return stable_order(data.astype(np.int64) - least)
    if choices.kind != "text":
        return np.argsort(data, kind="stable")
    from eptaro.core.kernels.texts import order_of_texts

    words = words_of(choices)
    if all(word.isascii() and word.isdigit() and (word[0] != "0" or word == "0") for word in words):
        return order_of_texts(words, by_size=True)
    if len(words) and _BAND.fullmatch(words[0]):
        bands = [_BAND.fullmatch(word) for word in words]
        if all(bands):
            ends = [(float(band[2]), not band[1]) for band in bands if band]
            return np.array(sorted(range(len(words)), key=ends.__getitem__), np.int64)
    return order_of_texts(words)


def words_of(choices: Column) -> NDArray[Any]:
    """Return the values of a column of texts, none of which is blank."""
    assert choices.choices is not None
    texts: NDArray[Any] = choices.choices[choices.data].astype(object, copy=False)
    return texts


_NUMBER = r"-?\d+(?:\.\d+)?"
_BAND = re.compile(rf"(under )?({_NUMBER})(?: to {_NUMBER}| and over)?")


@record
class Groups:
    """One row per combination of group values that occurs; no columns means one group: all."""

    coded: Mapping[str, Categorical]
    count: int

    @property
    def names(self) -> list[str]:
        """The names of the group columns."""
        return list(self.coded)

    def at(self, places: Ints) -> Groups:
        """Return the groups at some places. `places` is `(n_places,)`."""
        if not self.coded:
            return self
        return Groups({n: c.at(places) for n, c in self.coded.items()}, len(places))

    def drop_unused(self) -> Groups:
        """Return the groups with no other values in their columns than occur."""
        from eptaro.core.kernels.factorize import factorize  # which one group does without

        used = {}
        for name, coded in self.coded.items():
            met, codes = factorize(coded.codes.astype(np.int64) + 1, len(coded.choices) + 1)
            blank = int(len(met) > 0 and met[0] == 0)
            choices = coded.choices.take(met[blank:] - 1)
            used[name] = Categorical(codes.astype(np.int32) - blank, choices)
        return Groups(used, self.count)

    def order(self) -> Ints:
        """Return the natural order: by the first column, then the next."""
        if not self.coded:
            return np.arange(self.count)
        return np.lexsort([c.ranks[c.codes] for c in reversed([*self.coded.values()])])

    def columns(self, places: NDArray[Any]) -> list[Column]:
        """Return the group columns of a result whose rows belong to the given groups.

        `places` is `(n_rows,) int`.
        """
        return [column.compute() for column in self.later(places)]

    def later(self, places: NDArray[Any] | TiledArray) -> list[LazyColumn]:
        """Return the group columns of a result, to be calculated when they are asked for.

        `places` is `(n_rows,) int`.
        """
        return [
            LazyColumn(name, len(places), partial(self._column, name, places))
            for name in self.names
        ]

    def _column(self, name: str, places: NDArray[Any] | TiledArray) -> Column:
        """`places` is `(n_rows,) int`."""
        codes, each = self.coded[name].codes, self.coded[name].choices
        if len(each):
            each = each.take(np.maximum(codes, 0)).blanked(codes >= 0)
        else:  # the whole column is blank
            each = Column.text(name, np.array([""]), codes)
        return each.take(places).named(name, f"Group: {name}")

    def onto(self, by: Sequence[str]) -> tuple[Groups, Ints]:
        """Return the groups by fewer columns, and for each present group its new place."""
        for name in by:
            if name not in self.coded:
                raise unknown_group(name, self.names)
        if len(set(by)) != len(by):
            raise QuestionError(f"by={list(by)} names a column twice")
        if not by:
            return Groups({}, 1), np.zeros(self.count, np.int64)
        if tuple(by) not in self._onto:
            self._onto[tuple(by)] = self._fewer(by)
        return self._onto[tuple(by)]

    @cached_property
    def _onto(self) -> dict[tuple[str, ...], tuple[Groups, Ints]]:
        return {}

    def _fewer(self, by: Sequence[str]) -> tuple[Groups, Ints]:
        from eptaro.core.kernels.factorize import factorize

        places = np.zeros(self.count, np.int64)
        bound = 1
        for name in by:
            ranks = self.coded[name].ranks
            keys = places * len(ranks) + ranks[self.coded[name].codes]
            unique, codes = factorize(keys, bound * len(ranks))
            bound, places = len(unique), codes.astype(np.int64)
        group_of_each = np.empty(bound, np.int64)
        group_of_each[places] = np.arange(self.count)
        return Groups({name: self.coded[name].at(group_of_each) for name in by}, bound), places

    def matching(self, wanted: Mapping[str, Any]) -> NDArray[np.bool_]:
        """Return which groups bear one of the wanted values of each named column."""
        keep = np.ones(self.count, bool)
        for name, value in wanted.items():
            if name not in self.coded:
                raise unknown_group(name, self.names)
            coded = self.coded[name]
            many = isinstance(value, Sequence | set) and not isinstance(value, str)
            codes = [code_of(name, coded.choices, item) for item in (value if many else [value])]
            keep &= np.isin(coded.codes, codes)
        return keep


def unknown_group(name: str, names: Sequence[str]) -> QuestionError:
    """Return the error for a name that is none of the group columns.

    >>> str(unknown_group("route", []))
    "unknown group column 'route': the book has none; give by='route' where its rows are read"
    """
    if names:
        return QuestionError(unknown("group column", name, names))
    cure = spell_option(f"by={name!r}", f"--by {name}")
    return QuestionError(
        f"unknown group column {name!r}: the book has none; give {cure} where its rows are read"
    )


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
