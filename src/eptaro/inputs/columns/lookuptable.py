"""A lookup's table in memory: the line of each key, or of each key and day."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from eptaro.core.calendars.days import FIRST_DAY, LAST_DAY, Days, Ints, as_date
from eptaro.errors import InputError, MeasureError
from eptaro.inputs.columns.numberevidence import cure
from eptaro.inputs.columns.writtennumbers import read_written
from eptaro.inputs.dates import read_dates
from eptaro.inputs.dates.outcome import is_text
from eptaro.inputs.files.encoded import encoded
from eptaro.inputs.files.opening import opened_source
from eptaro.inputs.sources import check_columns
from eptaro.rules.dates import DateRules
from eptaro.rules.lookups import Lookup
from eptaro.rules.numbers import NumberRules

_DAYS = 1 << 32  # more than there are, so that a key and a day make one number


class LookupTable:
    """The lines of a lookup, its keys in order; each key's lines by their first day.

    `taken` are names of columns that rows have already.

    Raises `InputError` for a key that is there twice, or twice on one day.
    """

    def __init__(self, lookup: Lookup, rules: DateRules, taken: Iterable[str]) -> None:
        source = opened_source(lookup.table, lookup.files)
        self.key, self.name = lookup.key, source.name
        self._rules = replace(
            rules, grain=None, order=None if rules.order == "infer" else rules.order
        )
        try:
            table = pa.concat_tables(source.whole(), promote_options="default").combine_chunks()
        except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
            said = " ".join(str(error).split())
            raise InputError(f"{source.name}: its files hold different columns: {said}") from None
        check_columns([lookup.key_of_table], table.column_names, self.name)
        self.dated = lookup.first in table.column_names
        keys = table[lookup.key_of_table]
        filled = keys.is_valid()
        table, keys = table.filter(filled), keys.filter(filled)
        self._keys, codes = _words(keys)
        first, last = self._days(table, lookup)
        order = np.lexsort((first, codes))
        self._line, self._at = order, codes[order] * _DAYS + (first[order] - FIRST_DAY)
        self._last, self._codes = self._ends(codes[order], first[order], last[order]), codes[order]
        self._check(keys, first[order])
        apart = {lookup.key_of_table, *((lookup.first, lookup.through) if self.dated else ())}
        names = [name for name in table.column_names if name not in apart]
        self._columns = {own: table[n] for own, n in lookup.exposed(names, taken).items()}

    @property
    def columns(self) -> list[str]:
        """The names of the columns that rows can take."""
        return list(self._columns)

    def values(self, name: str) -> pa.ChunkedArray:
        """Return a column of all lines."""
        column = self._columns[name]
        return column if isinstance(column, pa.ChunkedArray) else pa.chunked_array([column])

    def places(self, keys: pa.ChunkedArray, days: Days | None) -> Ints:
        """Return the line of each row by its key and, where lines are dated, day; -1 for none."""
        whole = encoded(keys)
        words = _as_words(whole.dictionary)
        found = pc.fill_null(pc.index_in(words, self._keys), -1)
        codes: Ints = np.append(found.to_numpy(zero_copy_only=False), -1).astype(np.int64)
        indices = whole.indices.fill_null(len(words)) if whole.null_count else whole.indices
        own = codes[indices.to_numpy(zero_copy_only=False)]
        if not len(self._at):
            return np.full(len(own), -1)
        wanted = own * _DAYS + (_DAYS - 1 if days is None else days.astype(np.int64) - FIRST_DAY)
        at = np.maximum(np.searchsorted(self._at, wanted, side="right") - 1, 0)
        fits = (own >= 0) & (self._codes[at] == own)
        if days is not None:
            fits &= (self._at[at] <= wanted) & (days <= self._last[at])
        return np.where(fits, self._line[at], -1)

    def column(self, name: str, places: Ints, *, as_number: bool) -> pa.Array:
        """Return a column's value at each place, blank where there is none."""
        column: Any = self._columns[name]
        if as_number and is_text(column.type):
            column = self._numbers(column, name)
        picked = pa.array(places, mask=places < 0)
        if is_text(column.type):  # few values that stand in many rows
            coded = encoded(pa.chunked_array([column] if isinstance(column, pa.Array) else column))
            return pa.DictionaryArray.from_arrays(coded.indices.take(picked), coded.dictionary)
        taken = column.take(picked)
        return taken.combine_chunks() if isinstance(taken, pa.ChunkedArray) else taken

    def _numbers(self, column: pa.ChunkedArray, name: str) -> pa.Array:
        texts = column.cast(pa.string()).combine_chunks()
        numbers, _, wrong = read_written(texts, NumberRules())
        row = pc.index(wrong, True).as_py()
        if row >= 0:
            text = texts[row].as_py()
            raise MeasureError(f"{self.name}: {text!r} of {name!r} is not a number{cure(text)}")
        return numbers

    def _days(self, table: pa.Table, lookup: Lookup) -> tuple[Ints, Ints]:
        """Return first and last day of each line; the last possible one where none is said."""
        rows = table.num_rows
        first, last = np.full(rows, FIRST_DAY, np.int64), np.full(rows, LAST_DAY + 1, np.int64)
        if not self.dated:
            return first, last
        first = self._read(table[lookup.first], lookup.first, LAST_DAY + 1)
        if (first > LAST_DAY).any():
            row = int(np.flatnonzero(first > LAST_DAY)[0])
            raise InputError(f"{self.name}: row {row + 1:,} has no date in {lookup.first!r}")
        if lookup.through in table.column_names:
            last = self._read(table[lookup.through], lookup.through, LAST_DAY + 1)
        if (last < first).any():
            row = int(np.flatnonzero(last < first)[0])
            raise InputError(f"{self.name}: row {row + 1:,} ends before it begins")
        return first, last

    def _read(self, column: pa.ChunkedArray, name: str, blank: int) -> Ints:
        read = read_dates(column, self._rules, name)
        days: Ints = read.days.astype(np.int64)
        if read.bad is None or read.reasons is None:
            return days
        wrong = np.flatnonzero(read.bad & (read.reasons != "blank"))
        if len(wrong):
            row = int(wrong[0])
            said = f"{column[row].as_py()!r} {read.reasons[row]}"
            raise InputError(f"{self.name}: row {row + 1:,} of {name!r}: {said}")
        return np.where(read.bad, blank, days)

    def _ends(self, codes: Ints, first: Ints, last: Ints) -> Ints:
        """Return last days, where these are open up to the day before the key's next line."""
        following = np.append(first[1:], LAST_DAY + 1)
        same = np.append(codes[1:] == codes[:-1], False)
        until: Ints = np.where(same, following - 1, LAST_DAY)
        return np.where(last > LAST_DAY, until, last)

    def _check(self, keys: pa.ChunkedArray, first: Ints) -> None:
        twice = self._codes[1:] == self._codes[:-1]
        if self.dated:
            twice &= (first[1:] <= self._last[:-1]) | (first[1:] == first[:-1])
        if not twice.any():
            return
        at = int(np.flatnonzero(twice)[0])
        one, two = sorted(int(line) + 1 for line in self._line[at : at + 2])
        key = keys[int(self._line[at])].as_py()
        when = f" on {as_date(int(first[at + 1]))}" if self.dated else ""
        raise InputError(
            f"{self.name}: the key {key!r} is there twice{when}, in rows {one:,} and {two:,}; "
            f"which of them counts is not known"
        )


def _words(keys: pa.ChunkedArray) -> tuple[pa.Array, NDArray[np.int64]]:
    """Return the different keys as texts, and the place of each row's among them."""
    whole = encoded(pa.chunked_array([_as_words(encoded(keys))]))
    return whole.dictionary, whole.indices.to_numpy(zero_copy_only=False).astype(np.int64)


def _as_words(keys: pa.Array) -> pa.Array:
    """Return keys as texts: 7 and 7.0 are the same."""
    if pa.types.is_dictionary(keys.type):
        return _as_words(keys.dictionary).take(keys.indices)
    if pa.types.is_floating(keys.type):
        whole = pc.all(pc.equal(keys, pc.floor(keys))).as_py()
        keys = keys.cast(pa.int64()) if whole in (True, None) else keys
    return keys.cast(pa.string())
