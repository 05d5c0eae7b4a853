"""Hashing and sorting texts as bytes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eptaro.core.calendars.days import Ints

Hashes = NDArray[np.uint64]
Texts = NDArray[Any]  # of str
OFFSET, PRIME = np.uint64(0xCBF29CE484222325), np.uint64(0x00000100000001B3)
_LANE = 8  # bytes that are compared at once
_LONG = 64  # bytes; texts beyond are compared one by one
_FEW = 1 << 10


def _as_bytes(words: Texts) -> tuple[NDArray[np.uint8], Ints]:
    """Return the UTF-8 bytes of texts one after the other, and how many each has."""
    joined_bytes = "".join(words.tolist()).encode()
    lengths = np.fromiter(map(len, words), np.int64, len(words))
    if len(joined_bytes) != int(lengths.sum()):  # some letters are several bytes
        lengths = np.array([len(word.encode()) for word in words], np.int64)
    return np.frombuffer(joined_bytes, np.uint8), lengths


def hashes_of_texts(words: Texts) -> Hashes:
    """Return the FNV-1a hash of each text in 64 bits, over its UTF-8 bytes.

    `words` is `(n,) object`, the result `(n,) uint64`.

    >>> [hex(code) for code in hashes_of_texts(np.array(["", "a", "foobar"], object)).tolist()]
    ['0xcbf29ce484222325', '0xaf63dc4c8601ec8c', '0x85944171f73967e8']
    """
    letters, lengths = _as_bytes(words)
    starts = np.cumsum(lengths) - lengths
    order = np.argsort(-lengths, kind="stable")  # those that are longest first
    starts, shorter = starts[order], -lengths[order]
    hashes = np.full(len(words), OFFSET)
    for at in range(int(lengths.max(initial=0))):
        count = int(np.searchsorted(shorter, -at))
        some = hashes[:count]
        some ^= letters[starts[:count] + at]
        some *= PRIME
    hashed = np.empty(len(words), np.uint64)
    hashed[order] = hashes
    return hashed


def hashes_of_numbers(numbers: Ints) -> Hashes:
    """Return the FNV-1a hash of each whole number, over the eight bytes of its 64 bits.

    `numbers` is `(n,) int64`, the result `(n,) uint64`.

    >>> hex(hashes_of_numbers(np.array([1]))[0])
    '0x89cd31291d2aefa4'
    """
    hashed = np.full(len(numbers), OFFSET)
    bits = numbers.astype("<i8").view(np.uint64)
    for byte in range(8):
        hashed ^= (bits >> np.uint64(8 * byte)) & np.uint64(0xFF)
        hashed *= PRIME
    return hashed


def order_of_texts(words: Texts, *, by_size: bool = False) -> Ints:
    """Return the order of texts by their letters; `by_size`, the shorter come first.

    `words` is `(n,) object`, the result `(n,) int64`.

    >>> order_of_texts(np.array(["b", "ab", "a", "é"], object)).tolist()
    [2, 1, 0, 3]
    """
    if len(words) < _FEW:
        return _order_one_by_one(words, by_size)
    letters, lengths = _as_bytes(words)
    longest = int(lengths.max())
    if longest > _LONG:
        return _order_one_by_one(words, by_size)
    starts = np.cumsum(lengths) - lengths
    lanes = [
        _pack_bytes(letters, starts + at, np.clip(lengths - at, 0, _LANE))
        for at in range(0, max(longest, 1), _LANE)
    ]
    keys = [*reversed(lanes), lengths] if by_size else [lengths, *reversed(lanes)]
    return np.lexsort(keys)


def _order_one_by_one(words: Texts, by_size: bool) -> Ints:
    every = words.tolist()
    if by_size:
        return np.array(sorted(range(len(every)), key=lambda i: (len(every[i]), every[i])), int)
    return np.array(sorted(range(len(every)), key=every.__getitem__), np.int64)


def _pack_bytes(letters: NDArray[np.uint8], starts: Ints, lengths: Ints) -> Hashes:
    """Return some bytes of each text as a number that orders as they do.

    `letters` is `(n_bytes,)`; the others and the result are `(n_texts,)`.
    """
    lane = np.zeros(len(starts), np.uint64)
    last = len(letters) - 1
    for byte in range(_LANE):
        lane <<= np.uint64(8)
        there = letters[np.minimum(starts + byte, last)] if last >= 0 else np.uint8(0)
        lane |= np.where(lengths > byte, there, np.uint8(0))
    return lane
