"""Columns as they are read: both ways equal plain Python."""

import datetime as dt
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from eptaro.core.kernels import dispatch, reading
from tests.core.kernels.both import both

TEXTS = st.lists(
    st.none() | st.binary(max_size=20) | st.sampled_from([b"", b"ab", b"route 07", b"route 08"])
)


def arrange_columns(texts: list, kind: type) -> tuple:
    """Return texts as bytes, offsets and flags, with other bytes before and after them."""
    data, offsets = bytearray(b"xyz"), [3]
    for text in texts:
        data += text or b""
        offsets.append(len(data))
    filled = np.array([text is not None for text in texts], np.uint8)
    return np.frombuffer(bytes(data) + b"end", np.uint8), np.array(offsets, kind), filled


def encode(data: np.ndarray, offsets: np.ndarray, filled: np.ndarray, known: list) -> tuple:
    """Return the codes of all texts, those of some rows known, and where others are first met."""
    spans = np.array([[offsets[row], offsets[row + 1]] for row in known], offsets.dtype)
    codes = np.empty(len(offsets) - 1, np.int32)
    firsts = reading.dictionary_encode(data, offsets, filled, spans.reshape(-1, 2), codes)
    return codes, firsts


def ends_of_rows(text: bytes, delimiter: bytes) -> list[int]:
    """Return where the rows of CSV text end, character by character; [-1] for a stray quote."""
    ends, inside, before = [], False, delimiter
    for at, mark in enumerate(text[n : n + 1] for n in range(len(text))):
        if mark == b'"':
            if not inside and before not in (delimiter, b"\n", b"\r", b'"'):
                return [-1]
            inside = not inside
        elif mark == b"\n" and not inside:
            ends.append(at + 1)
        before = mark
    return ends


class Rows(unittest.TestCase):
    """Where the last whole row of some text ends."""

    @settings(max_examples=150)
    @given(st.lists(st.sampled_from([*b'a,;\n\n"""\r'])), st.sampled_from([b",", b";"]))
    def test_of_any_text(self, codes: list, delimiter: bytes):
        text = bytes(codes)
        wanted = max(ends_of_rows(text, delimiter), default=0)
        for way in both():
            self.assertEqual(reading.end_of_rows(text, delimiter), wanted, (way, text))


class Coding(unittest.TestCase):
    """Codes in the order in which texts are met."""

    def check(self, texts: list, kind: type) -> None:
        met: dict = {}
        wanted = [-1 if text is None else met.setdefault(text, len(met)) for text in texts]
        data, offsets, filled = arrange_columns(texts, kind)
        for way in both():
            codes, firsts = encode(data, offsets, filled, [])
            self.assertEqual(codes.tolist(), wanted, way)
            self.assertEqual(firsts.tolist(), [texts.index(text) for text in met])
            if None not in texts:
                every, _ = encode(data, offsets, filled[:0], [])
                self.assertEqual(every.tolist(), wanted)
            # Known texts, in any order, keep the codes that they were given.
            known = [*met][::-2]
            codes, firsts = encode(data, offsets, filled, [texts.index(text) for text in known])
            every = [*known, *(texts[row] for row in firsts)]
            self.assertEqual([None if c < 0 else every[c] for c in codes], texts, way)
            self.assertEqual(every[len(known) :], [text for text in met if text not in known])

    @given(TEXTS, st.sampled_from([np.int32, np.int64]))
    def test_of_any_texts(self, texts: list, kind: type):
        self.check(texts, kind)

    def test_of_many_texts_that_differ_little(self):
        texts = [f"{'long ' * (n % 5)}{n % 3000:05d}".encode() for n in range(9000)]
        self.check(texts, np.int32)
        self.check([text[: n % 12] for n, text in enumerate(texts)], np.int64)

    def test_what_reaches_out_is_refused(self):
        data, none = np.zeros(5, np.uint8), np.empty(0, np.uint8)
        for offsets in ([0, 6], [-1, 2], [0, 3, 2], [4, 2]):
            for _ in both():
                with self.assertRaises(IndexError):
                    encode(data, np.array(offsets, np.int64), none, [])

    def test_known_texts_that_are_none_are_refused(self):
        data, none = np.frombuffer(b"aba", np.uint8), np.empty(0, np.uint8)
        codes, offsets = np.empty(1, np.int32), np.array([0, 1])
        for known in ([[0, 1], [2, 3]], [[0, 9]], [[-1, 1]], [[2, 1]]):
            if dispatch.loops is not None or known == [[0, 1], [2, 3]]:
                with self.assertRaises(ValueError, msg=str(known)):
                    reading.dictionary_encode(data, offsets, none, np.array(known), codes)


EPOCH = dt.datetime(1970, 1, 1)
PER_DAY = {1: 86_400, 10**3: 86_400_000, 10**6: 86_400_000_000, 10**9: 86_400_000_000_000}


class Split(unittest.TestCase):
    """Days and the nanoseconds since they began."""

    @given(st.lists(st.datetimes(dt.datetime(1700, 1, 1), dt.datetime(2250, 1, 1)), max_size=9),
           st.sampled_from([*PER_DAY]))  # fmt: skip
    def test_equals_datetime(self, moments: list[dt.datetime], each: int):
        moments = [m.replace(microsecond=m.microsecond // 1000 * 1000) for m in moments]
        if each == 1:
            moments = [moment.replace(microsecond=0) for moment in moments]
        counted = [(m - EPOCH) // dt.timedelta(microseconds=1) * each // 10**6 for m in moments]
        for _ in both():
            stamps = np.array(counted, np.int64)
            days = reading.days_of_stamps(stamps, PER_DAY[each])
            times = reading.StampTimes(stamps, PER_DAY[each])
            self.assertEqual(days.tolist(), [(m.date() - EPOCH.date()).days for m in moments])
            midnight = [dt.datetime.combine(m.date(), dt.time()) for m in moments]
            wanted = [
                (m - o) // dt.timedelta(microseconds=1) * 1000
                for m, o in zip(moments, midnight, strict=True)
            ]
            self.assertEqual(np.asarray(times).tolist(), wanted)
            self.assertEqual(times[::-1].tolist(), wanted[::-1])

    def test_days_beyond_32_bits_become_the_outermost(self):
        for _ in both():
            days = reading.days_of_stamps(np.array([2**62, -(2**62), -1]), 86_400)
            self.assertEqual(days.tolist(), [2**31 - 1, -(2**31), -1])


class Numbers(unittest.TestCase):
    """Extents, 64 bits of 128, and units of floats."""

    def test_the_extent_of_floats(self):
        rng = np.random.default_rng(2)
        for size in (0, 1, 7, 8, 9, 100):
            for some in (0.0, 0.5, 1.0):
                values = rng.normal(size=size)
                values[rng.random(size) < some] = np.nan
                filled = [value for value in values.tolist() if value == value]
                wanted = (
                    min(filled, default=np.inf),
                    max(filled, default=-np.inf),
                    size - len(filled),
                )
                for way in both():
                    self.assertEqual(tuple(reading.float_extent(values)), wanted, way)

    def test_what_fits_into_64_bits(self):
        given = [0, -1, 2**63 - 1, -(2**63), 7]
        words = np.array([[(n + 2**63) % 2**64 - 2**63, n >> 64] for n in given], np.int64)
        for _ in both():
            low, row = reading.narrow_words(words)
            self.assertEqual((low.tolist(), row), (given, -1))
            for wrong in (2**63, -(2**63) - 1, 2**64):
                words_ = words.copy()
                words_[2] = [(wrong + 2**63) % 2**64 - 2**63, wrong >> 64]
                self.assertEqual(reading.narrow_words(words_)[1], 2)
                low, row = reading.narrow_words(words_, np.array([1, 1, 0, 1, 1], np.uint8))
                self.assertEqual((low.tolist(), row), ([0, -1, 0, -(2**63), 7], -1))

    def test_units_of_floats(self):
        for _ in both():
            found = reading.exact_units(np.array([0.1, -2.0, 3.07]), 100.0, 2.0**53)
            self.assertEqual(found.tolist(), [10, -200, 307])
            for wrong in (0.105, np.nan, np.inf, 1e17):
                self.assertIsNone(reading.exact_units(np.array([0.1, wrong, 1.0]), 100.0, 2.0**53))
