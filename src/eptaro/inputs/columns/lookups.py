"""Lookups: tables joined to the rows of a source by a key."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from eptaro.core.calendars.days import FIRST_DAY, LAST_DAY, Days, Ints, as_date
from eptaro.errors import InputError, MeasureError
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.columns.numbers import cure, read_written
from eptaro.inputs.columns.values import exact_or_floats
from eptaro.inputs.columns.wrapped import SourceWrapper
from eptaro.inputs.datecolumn import infer_date_rules
from eptaro.inputs.dates.reading import is_text, read_dates
from eptaro.inputs.files.chunks import encode_dictionary
from eptaro.inputs.files.opening import opened_source
from eptaro.inputs.sources import ColumnRequest, Source, check_columns
from eptaro.rules import DateRules, Lookup, NumberRules, lookups_of

_DAYS = 1 << 32  # more than there are, so that a key and a day make one number


class LookupTable:
    """The lines of a lookup, its keys in order; each key's lines by their first day.

    `taken` are names of columns that rows have already.

    Raises `InputError` for a key that is there twice, or twice on one day.
    """

    def __init__(self, lookup: Lookup, rules: DateRules, names_taken: Iterable[str]) -> None:
        source = opened_source(lookup.table, lookup.files)
        self.key, self.name = lookup.key, source.name
        written = None if rules.order == "infer" else rules.order
        self._rules = replace(rules, grain=None, fiscal_periods=False, order=written)
        try:
            table = pa.concat_tables(source.whole(), promote_options="default").combine_chunks()
        except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
            message = " ".join(str(error).split())
            raise InputError(
                f"{source.name}: its files hold different columns: {message}"
            ) from None
        check_columns([lookup.key_of_table], table.column_names, self.name)
        self.dated = lookup.first in table.column_names
        keys = table[lookup.key_of_table]
        filled = keys.is_valid()
        table, keys = table.filter(filled), keys.filter(filled)
        self._keys, codes = _distinct_keys(keys)
        first, last = self._days(table, lookup)
        order = np.lexsort((first, codes))
        self._line, self._at = order, codes[order] * _DAYS + (first[order] - FIRST_DAY)
        self._last, self._codes = self._ends(codes[order], first[order], last[order]), codes[order]
        self._check(keys, first[order])
        apart = {lookup.key_of_table, *((lookup.first, lookup.through) if self.dated else ())}
        names = [name for name in table.column_names if name not in apart]
        self._columns = {
            own: table[n] for own, n in lookup.exposed_names(names, names_taken).items()
        }

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
        whole = encode_dictionary(keys)
        words = _as_words(whole.dictionary)
        positions = pc.fill_null(pc.index_in(words, self._keys), -1)
        codes: Ints = np.append(positions.to_numpy(zero_copy_only=False), -1).astype(np.int64)
        indices = whole.indices.fill_null(len(words)) if whole.null_count else whole.indices
        own = codes[indices.to_numpy(zero_copy_only=False)]
        if not len(self._at):
            return np.full(len(own), -1)
        targets = own * _DAYS + (_DAYS - 1 if days is None else days.astype(np.int64) - FIRST_DAY)
        at = np.maximum(np.searchsorted(self._at, targets, side="right") - 1, 0)
        fits = (own >= 0) & (self._codes[at] == own)
        if days is not None:
            fits &= (self._at[at] <= targets) & (days <= self._last[at])
        return np.where(fits, self._line[at], -1)

    def column(self, name: str, places: Ints, *, as_number: bool) -> pa.Array:
        """Return a column's value at each place, blank where there is none."""
        column: Any = self._columns[name]
        if as_number and is_text(column.type):
            column = self._numbers(column, name)
        positions = pa.array(places, mask=places < 0)
        if is_text(column.type):  # few values that are in many rows
            coded = encode_dictionary(
                pa.chunked_array([column] if isinstance(column, pa.Array) else column)
            )
            return pa.DictionaryArray.from_arrays(coded.indices.take(positions), coded.dictionary)
        joined_values = column.take(positions)
        return (
            joined_values.combine_chunks()
            if isinstance(joined_values, pa.ChunkedArray)
            else joined_values
        )

    def _numbers(self, column: pa.ChunkedArray, name: str) -> pa.Array:
        texts = column.cast(pa.string()).combine_chunks()
        numbers, _, wrong = read_written(texts, NumberRules())
        row = pc.index(wrong, True).as_py()
        if row >= 0:
            text = texts[row].as_py()
            raise MeasureError(f"{self.name}: {text!r} of {name!r} is not a number{cure(text)}")
        return exact_or_floats(numbers) if pa.types.is_decimal(numbers.type) else numbers

    def _days(self, table: pa.Table, lookup: Lookup) -> tuple[Ints, Ints]:
        """Return first and last day of each line; the last possible one where none is given."""
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
        parsed = read_dates(column, self._rules, name)
        days: Ints = parsed.days.astype(np.int64)
        if parsed.bad is None or parsed.reasons is None:
            return days
        wrong = np.flatnonzero(parsed.bad & (parsed.reasons != "blank"))
        if len(wrong):
            row = int(wrong[0])
            message = f"{column[row].as_py()!r} {parsed.reasons[row]}"
            raise InputError(f"{self.name}: row {row + 1:,} of {name!r}: {message}")
        return np.where(parsed.bad, blank, days)

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


def _distinct_keys(keys: pa.ChunkedArray) -> tuple[pa.Array, NDArray[np.int64]]:
    """Return the different keys as texts, and the place of each row's among them."""
    whole = encode_dictionary(pa.chunked_array([_as_words(encode_dictionary(keys))]))
    return whole.dictionary, whole.indices.to_numpy(zero_copy_only=False).astype(np.int64)


def _as_words(keys: pa.Array) -> pa.Array:
    """Return keys as texts: 7 and 7.0 are the same."""
    if pa.types.is_dictionary(keys.type):
        return _as_words(keys.dictionary).take(keys.indices)
    if pa.types.is_floating(keys.type):
        whole = pc.all(pc.equal(keys, pc.floor(keys))).as_py()
        keys = keys.cast(pa.int64()) if whole in (True, None) else keys
    return keys.cast(pa.string())


_SHOWN = 3


class JoinedSource(SourceWrapper):
    """Another source, each row of which takes the columns of the lookup lines with its keys.

    Rows without a match have blanks there; `notes` say how many there were.
    """

    def __init__(self, source: Source, tables: Sequence[LookupTable], rules: DateRules) -> None:
        super().__init__(source)
        self._rules = rules
        self._tables = tables
        self.beside = frozenset(name for table in tables for name in table.columns)
        check_columns([table.key for table in self._tables], source.names(), source.name)
        self._missed: list[tuple[int, dict[str, None]]] = []
        self._settled = False

    @property
    def notes(self) -> tuple[str, ...]:
        """How many rows have no match in each lookup, and some of their keys."""
        words = []
        for table, (count, keys) in zip(self._tables, self._missed, strict=False):
            if count:
                examples = ", ".join([*map(repr, keys), *(["…"] if len(keys) == _SHOWN else [])])
                many = "1 row has" if count == 1 else f"{count:,} rows have"
                note = f"{many} no match in {table.name} by {table.key!r}"
                words.append(note + (f": {examples}" if keys else ""))
        return (*self.source.notes, *words)

    def names(self) -> list[str]:
        """Return the names of all columns, those of the lookups behind."""
        return [*self.source.names(), *(n for table in self._tables for n in table.columns)]

    def column(self, name: str) -> pa.ChunkedArray:
        """Return one column of all rows, or of a lookup all that rows can take."""
        for table in self._tables:
            if name in table.columns:
                return table.values(name)
        return self.source.column(name)

    def batches(self, request: ColumnRequest) -> Iterator[pa.Table]:
        """Yield the wanted columns, those of the lookups joined."""
        check_columns(request.names, self.names(), self.name)
        self._missed = [(0, {}) for _ in self._tables]
        used = [table for table in self._tables if {*table.columns} & {*request.names}]
        lookup_names = {name for table in used for name in table.columns}
        keys = [table.key for table in used]
        keys = [name for name in keys if name not in request.numbers]
        groups, numbers, others = (
            [name for name in names if name not in lookup_names]
            for names in (request.groups, request.numbers, [*request.others, *keys])
        )
        date, plain_days = request.date, request.plain_days
        if date in lookup_names:
            if dated := next((table for table in used if table.dated), None):
                raise InputError(
                    f"{dated.name} has lines that hold on some days only, so the date cannot come "
                    f"from a lookup, as {date!r} does; leave out that lookup or name another date"
                )
            date, plain_days = used[0].key, False
        self._settle(date, used)
        wanted = ColumnRequest(date, groups, numbers, others, plain_days)
        for rows in self.source.batches(wanted):
            columns = {name: rows[name] for name in rows.column_names}
            days = self._days(rows, request.date) if any(t.dated for t in used) else None
            for number, table in enumerate(self._tables):
                if table not in used:
                    continue
                places = table.places(rows[table.key], days if table.dated else None)
                self._miss(number, rows[table.key], places < 0)
                for name in table.columns:
                    if name in request.names:
                        as_number = name in request.numbers
                        columns[name] = table.column(name, places, as_number=as_number)
            yield pa.table({name: columns[name] for name in request.names})

    def _settle(self, date: str, used: Sequence[LookupTable]) -> None:
        if not self._settled and any(table.dated for table in used):
            self._rules, self._settled = infer_date_rules(self.source, date, self._rules)[0], True

    def _days(self, rows: pa.Table, date: str) -> Days:
        parsed = read_dates(rows[date], self._rules, date)
        return (
            parsed.days if parsed.bad is None else np.where(parsed.bad, FIRST_DAY - 1, parsed.days)
        )

    def _miss(self, number: int, keys: pa.ChunkedArray, missed: Any) -> None:
        if not missed.any():
            return
        count, examples = self._missed[number]
        if len(examples) < _SHOWN:
            for key in keys.filter(pa.array(missed)).drop_null().unique()[:_SHOWN].to_pylist():
                if len(examples) < _SHOWN:
                    examples[str(key)] = None
        self._missed[number] = (count + int(np.count_nonzero(missed)), examples)


def load_lookups(lookups: object, rules: DateRules, names: Sequence[str]) -> list[LookupTable]:
    """Return the tables of lookups beside rows whose columns have names, read into memory."""
    tables: list[LookupTable] = []
    for lookup in lookups_of(lookups):
        names_taken = [*names, *(name for table in tables for name in table.columns)]
        tables.append(LookupTable(lookup, rules, names_taken))
    return tables
