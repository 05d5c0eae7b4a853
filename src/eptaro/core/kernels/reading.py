"""Columns as they are read: texts to codes, time stamps to days, numbers to 64 bits, rows kept."""

from __future__ import annotations

from enum import IntEnum
from functools import cached_property, partial
from typing import Any, NamedTuple, TypeAlias

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Flags, Ints
from eptaro.core.kernels import dispatch
from eptaro.core.kernels.parallel import parallel_for, run_parallel, slices
from eptaro.record import Record, record

_AT_ONCE = 1 << 16  # values: they are in the processor's cache when the largest is looked for


class Extent(NamedTuple):
    """The least and the largest of values, and how many are NaN, which are neither."""

    least: float
    most: float
    blanks: int


def float_extent(values: NDArray[np.float64]) -> Extent:
    """Return the extent of floats; inf and -inf where there is no value.

    `values` is `(n,) float64`.

    >>> float_extent(np.array([2.0, np.nan, -1.5]))
    Extent(least=-1.5, most=2.0, blanks=1)
    """
    if dispatch.loops is None:
        least = float(np.fmin.reduce(values, initial=np.inf))
        most = float(np.fmax.reduce(values, initial=-np.inf))
        return Extent(least, most, int(np.count_nonzero(np.isnan(values))))
    extent, values = dispatch.loops.extent, np.ascontiguousarray(values)
    parts = run_parallel([partial(extent, values[of]) for of in slices(len(values))])
    lows, highs, blanks = zip(*parts, strict=True)
    return Extent(min(lows), max(highs), sum(blanks))


def min_max(values: NDArray[Any]) -> tuple[int, int]:
    """Return the least and the largest of whole numbers, of which there are some.

    `values` is `(n,)` of any integers.

    >>> min_max(np.array([3, -1, 2], np.int32))
    (-1, 3)
    """

    def extent_of_slice(of: slice) -> tuple[int, int]:
        parts = [
            values[at : min(at + _AT_ONCE, of.stop)] for at in range(of.start, of.stop, _AT_ONCE)
        ]
        both = [(int(part.min()), int(part.max())) for part in parts]
        return min(both)[0], max(most for _, most in both)

    least, most = zip(
        *run_parallel([partial(extent_of_slice, of) for of in slices(len(values))]), strict=True
    )
    return min(least), max(most)


DAY_NS = 86_400_000_000_000  # nanoseconds of a day
_INT32 = np.iinfo(np.int32)
_ALL = np.empty(0, np.uint8)


def dictionary_encode(
    data: NDArray[np.uint8],
    offsets: NDArray[Any],
    filled: NDArray[np.uint8],
    known: NDArray[Any],
    codes: NDArray[np.int32],
) -> Ints:
    """Put a code for each text into `codes`, known texts first and others in the order in which
    they are met, and return the row that each of these occurs in first.

    `data` is the bytes of all texts, `offsets` is `(n + 1,)`, `filled` `(n,)` or empty, `codes`
    `(n,)`, and the result `(n_new,)`. `known`, `(n_known, 2)`, has where each known text begins and
    ends.

    Text i is the bytes `offsets[i]` to `offsets[i + 1]` (int32 or int64) of `data`; `filled`, one
    byte a row, may be empty where all are, and the code of what is not is -1. Raises `IndexError`
    for offsets that lead out of the data, and `ValueError` for equal known texts.

    >>> data, offsets = np.frombuffer(b"abcab", np.uint8), np.array([0, 2, 3, 5])
    >>> codes, known = np.empty(3, np.int32), np.array([[2, 3]])
    >>> dictionary_encode(data, offsets, np.empty(0, np.uint8), known, codes).tolist()
    [0]
    >>> codes.tolist()
    [1, 0, 1]
    """
    if dispatch.loops is not None:
        flat = np.ascontiguousarray(known, offsets.dtype).ravel()
        return dispatch.loops.code(data, offsets, filled, flat, codes)  # type: ignore[no-any-return]
    if len(offsets) > 1 and not (np.diff(offsets) >= 0).all():
        raise IndexError("texts end before they begin")
    if len(offsets) > 1 and not 0 <= offsets[0] <= offsets[-1] <= len(data):
        raise IndexError(f"texts go beyond {len(data)} bytes")
    whole, ends = data.tobytes(), offsets.tolist()
    met = {whole[begin:end]: number for number, (begin, end) in enumerate(known.tolist())}
    if len(met) < len(known):
        raise ValueError(f"{len(known)} known texts, {len(met)} of which differ")
    codes[:] = -1
    for row in range(len(codes)):
        if not len(filled) or filled[row]:
            codes[row] = met.setdefault(whole[ends[row] : ends[row + 1]], len(met))
    new = np.flatnonzero(codes >= len(known))
    return new[np.unique(codes[new], return_index=True)[1]]


_QUOTE = ord('"')
_BEFORE_QUOTES = b'\n\r"'  # or a delimiter, where a quote opens a field


def end_of_rows(text: bytes, delimiter: bytes) -> int:
    """Return where the last whole row of some CSV text ends: 0 where there is none, and -1 where a
    quote is in the middle of a field, as it takes parsing then.

    The text begins a row. A quote opens a field where it follows the delimiter, one byte, or a line
    end (RFC 4180); within it, two in a row mean one, and so close the field and open it again.

    >>> text = b'on,route\\n2025-01-06,"Ferry\\nroute 1"\\n2025-'
    >>> text[: end_of_rows(text, b",")]
    b'on,route\\n2025-01-06,"Ferry\\nroute 1"\\n'
    >>> end_of_rows(b'width\\n5" pipe\\n', b",")
    -1
    """
    if _QUOTE not in text:
        return text.rfind(b"\n") + 1
    codes = np.frombuffer(text, np.uint8)
    if dispatch.loops is not None:
        return int(dispatch.loops.end_of_rows(codes, delimiter[0]))
    quotes = np.flatnonzero(codes == _QUOTE)
    opening = quotes[::2]
    before = codes[opening[opening > 0] - 1]
    if not np.isin(before, [*delimiter, *_BEFORE_QUOTES]).all():
        return -1
    ends = np.flatnonzero(codes == ord("\n"))
    outside = np.searchsorted(quotes, ends) % 2 == 0
    return int(ends[outside].max(initial=-1)) + 1


@record
class Automaton(Record):
    """A finite automaton that reads texts byte by byte.

    `table` is `(n_states, 256) uint8`, the state that follows each state on each byte: 0 accepts
    nothing, and 1 begins. `parts`, `(n_states,) uint8`, is what the byte that leads to a state is
    kept for, a `StampPart` or a `NumberPart`. `ends`, `(n_states,) uint8`, is not 0 where a text
    may end; of time stamps it is the order of the date: 1 for ymd, 2 for dmy, 3 for mdy.
    """

    table: NDArray[np.uint8]
    parts: NDArray[np.uint8]
    ends: NDArray[np.uint8]


class StampPart(IntEnum):
    """What a letter of a time stamp's text is kept for.

    The date is three numbers in the order written, a fraction six digits by themselves; `AM`, `PM`,
    `UTC` and `SIGN` are letters, and an offset is hours and minutes. `NONE` is not kept.
    """

    NONE, FIRST, SECOND, THIRD, HOUR, MINUTE, SECONDS, AM, PM = range(9)
    DIGIT_1, DIGIT_2, DIGIT_3, DIGIT_4, DIGIT_5, DIGIT_6 = range(9, 15)
    UTC, SIGN, OFFSET_HOURS, OFFSET_MINUTES = range(15, 19)


class NumberPart(IntEnum):
    """What a letter of a number's text is kept for: `NONE` is not."""

    NONE, WHOLE, FRACTION, MINUS, PERCENT = range(5)


class TextStamps(NamedTuple):
    """What texts say as time stamps: microseconds since 1970 as written, minutes of offset from UTC
    (`NO_MINUTES` where there is none), and which texts are known; each is `(n,)`.

    Of a text that is not known, the others say nothing.
    """

    micros: Ints
    minutes: NDArray[np.int16]
    known: Flags


NO_MINUTES = np.int16(np.iinfo(np.int16).min)


def read_stamps(
    data: NDArray[np.uint8], offsets: NDArray[Any], automaton: Automaton
) -> TextStamps | None:
    """Return texts as time stamps, so far as an automaton accepts them and there is such a time;
    None where there are no compiled loops, without which patterns of text are as quick.

    Text i is the bytes `offsets[i]` to `offsets[i + 1]` of `data`, without the white space around;
    `offsets` is `(n + 1,)`. Raises `IndexError` for offsets that lead out of the data.
    """
    if dispatch.loops is None:
        return None
    loop, rows = dispatch.loops.read_stamps, len(offsets) - 1
    micros, minutes = np.zeros(rows, np.int64), np.full(rows, NO_MINUTES)
    states = automaton.table, automaton.parts, automaton.ends
    known = np.empty(rows, np.uint8)

    def some(of: slice) -> None:
        own = offsets[of.start : of.stop + 1]
        loop(data, own, *states, micros[of], minutes[of], known[of])

    parallel_for(some, rows)
    return TextStamps(micros, minutes, known.view(bool))


class TextDecimals(NamedTuple):
    """What texts say as numbers: their digits as one whole number, how many of these are behind
    the decimal mark, whether a percent sign follows, and which texts are known; each is `(n,)`.

    Of a text that is not known, the others say nothing.
    """

    digits: Ints
    places: NDArray[np.uint8]
    percents: Flags
    known: Flags


def read_decimals(
    data: NDArray[np.uint8], offsets: NDArray[Any], automaton: Automaton
) -> TextDecimals | None:
    """Return texts as numbers of at most 18 digits, so far as an automaton accepts them; None where
    there are no compiled loops, without which patterns of text are as quick.

    Text i is the bytes `offsets[i]` to `offsets[i + 1]` of `data`, without the white space around;
    `offsets` is `(n + 1,)`. Raises `IndexError` for offsets that lead out of the data.
    """
    if dispatch.loops is None:
        return None
    loop, rows = dispatch.loops.read_decimals, len(offsets) - 1
    states = automaton.table, automaton.parts, automaton.ends
    digits, places = np.zeros(rows, np.int64), np.zeros(rows, np.uint8)
    flags = np.zeros((2, rows), np.uint8)

    def some(of: slice) -> None:
        own = offsets[of.start : of.stop + 1]
        loop(data, own, *states, digits[of], places[of], flags[0][of], flags[1][of])

    parallel_for(some, rows)
    return TextDecimals(digits, places, *flags.view(bool))


def days_of_stamps(stamps: Ints, per_day: int) -> NDArray[np.int32]:
    """Return the days of time stamps, counted in units of which `per_day` make a day; it divides a
    day's nanoseconds.

    `stamps` is `(n,) int64`, the result `(n,) int32`. Days that 32 bits do not hold become the
    least or the largest that these do.

    >>> days_of_stamps(np.array([-1, 86_400]), 86_400).tolist()
    [-1, 1]
    """
    if dispatch.loops is None:
        return np.clip(stamps // per_day, _INT32.min, _INT32.max).astype(np.int32)
    loop, stamps = dispatch.loops.days_of_stamps, np.ascontiguousarray(stamps, np.int64)
    days = np.empty(len(stamps), np.int32)
    parallel_for(lambda of: loop(stamps[of], per_day, days[of]), len(stamps))
    return days


@record
class StampTimes:
    """The times of day of time stamps, calculated where they are asked for, as few questions do.

    `stamps`, `(n_rows,) int64`, are counted in units of which `per_day` make a day; times are the
    nanoseconds since it began.

    >>> times = StampTimes(np.array([-1, 86_400]), 86_400)
    >>> times[:1].tolist(), np.asarray(times).tolist()
    ([86399000000000], [86399000000000, 0])
    """

    stamps: Ints
    per_day: int

    def __len__(self) -> int:
        return len(self.stamps)

    def __getitem__(self, rows: Any) -> Ints:
        """Return the times of some rows, `(n,) int64`."""
        stamps = np.ascontiguousarray(self.stamps[rows], np.int64)
        if dispatch.loops is None:
            return stamps % self.per_day * (DAY_NS // self.per_day)
        loop, times = dispatch.loops.times_of_stamps, np.empty(len(stamps), np.int64)
        parallel_for(lambda of: loop(stamps[of], self.per_day, times[of]), len(stamps))
        return times

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> NDArray[Any]:
        """Return the time of every row."""
        return self[:] if dtype is None else self[:].astype(dtype)


Times: TypeAlias = Ints | StampTimes


def narrow_words(words: Ints, filled: NDArray[np.uint8] | None = None) -> tuple[Ints, int]:
    """Return whole numbers of 128 bits, two words each with the lower one first, in 64 bits, zeros
    where they are not `filled` (one byte a row), and the first row that does not fit, or -1.

    `words` is `(n, 2) int64`, `filled` and the numbers are `(n,)`.

    >>> low, error_at = narrow_words(np.array([[-5, -1], [7, 1]]))
    >>> int(low[0]), error_at
    (-5, 1)
    """
    filled = _ALL if filled is None else filled
    if dispatch.loops is None:
        fits, low = words[:, 1] == words[:, 0] >> 63, words[:, 0].copy()
        if len(filled):
            fits |= filled == 0
            low[filled == 0] = 0
        return low, -1 if fits.all() else int(np.argmin(fits))
    loop, low = dispatch.loops.narrow, np.empty(len(words), np.int64)

    def some(of: slice) -> int:
        row: int = loop(words[of], filled[of], low[of])
        return row if row < 0 else of.start + row

    bad_rows = run_parallel([partial(some, of) for of in slices(len(words))])
    return low, next((row for row in bad_rows if row >= 0), -1)


def exact_units(values: NDArray[np.float64], unit: float, limit: float) -> Ints | None:
    """Return how many parts of 1 / unit each float represents; None unless all floats are just such
    numbers, less than a limit in size.

    `values` is `(n,) float64`, the result `(n,) int64`.

    >>> exact_units(np.array([0.25, -3.1]), 100.0, 2.0**53).tolist()
    [25, -310]
    """
    if dispatch.loops is not None:
        integers = np.empty(len(values), np.int64)
        return integers if dispatch.loops.units(values, unit, limit, integers) else None
    counts = np.rint(values * unit)
    fits = (np.abs(counts) < limit) & (counts / unit == values)
    return counts.astype(np.int64) if fits.all() else None


class RowMask:
    """A mask of rows, and how many it keeps.

    >>> keeping = RowMask(np.array([True, False, True]))
    >>> keeping.count, keeping.of(np.array([5, 6, 7])).tolist(), keeping.places.tolist()
    (2, [5, 7], [0, 2])
    """

    def __init__(self, mask: Flags) -> None:
        """Keep the rows where `mask`, `(n_rows,)`, is true."""
        self.mask = np.ascontiguousarray(mask)
        self._marks = self.mask.view(np.uint8)
        self._slices = slices(len(mask))
        counts = run_parallel([partial(np.count_nonzero, mask[of]) for of in self._slices])
        self._ends = np.cumsum([0, *counts]).tolist()

    @property
    def count(self) -> int:
        """How many rows are kept."""
        return int(self._ends[-1])

    def of(self, values: NDArray[Any]) -> NDArray[Any]:
        """Return the rows of an array of one dimension that are kept. `values` is `(n_rows,)`."""
        plain = values.dtype != object and values.dtype.itemsize in (1, 2, 4, 8)
        if dispatch.loops is None or not plain:
            return values[self.mask]
        keep, values_kept = dispatch.loops.keep, np.empty(self.count, values.dtype)
        word = f"u{values.dtype.itemsize}"
        one, two = np.ascontiguousarray(values).view(word), values_kept.view(word)
        run_parallel([partial(keep, one[of], self._marks[of], two[to]) for of, to in self._parts()])
        return values_kept

    @cached_property
    def places(self) -> Ints:
        """The places of the rows that are kept."""
        if dispatch.loops is None:
            return np.flatnonzero(self.mask)
        places, rows = dispatch.loops.kept_places, np.empty(self.count, np.int64)
        works = [partial(places, self._marks[of], of.start, rows[to]) for of, to in self._parts()]
        run_parallel(works)
        return rows

    def _parts(self) -> list[tuple[slice, slice]]:
        ends = zip(self._ends, self._ends[1:], strict=False)
        return [(of, slice(*to)) for of, to in zip(self._slices, ends, strict=True)]
