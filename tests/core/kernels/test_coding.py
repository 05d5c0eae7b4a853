"""Texts to codes: both ways equal a dictionary of Python."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from eptaro.core.kernels.twins import coding
from tests.core.kernels.both import both

TEXTS = st.lists(
    st.none() | st.binary(max_size=20) | st.sampled_from([b"", b"ab", b"route 07", b"route 08"])
)


def laid_out(texts: list, kind: type) -> tuple:
    """Return texts as bytes, offsets and flags, with other bytes before and after them."""
    data, offsets = bytearray(b"xyz"), [3]
    for text in texts:
        data += text or b""
        offsets.append(len(data))
    filled = np.array([text is not None for text in texts], np.uint8)
    return np.frombuffer(bytes(data) + b"end", np.uint8), np.array(offsets, kind), filled


class Coding(unittest.TestCase):
    """Codes in the order in which texts are met."""

    def check(self, texts: list, kind: type) -> None:
        met: dict = {}
        wanted = [-1 if text is None else met.setdefault(text, len(met)) for text in texts]
        data, offsets, filled = laid_out(texts, kind)
        for module in both(coding, "coding"):
            codes, firsts = module.code(data, offsets, filled)
            self.assertEqual(codes.tolist(), wanted, module)
            self.assertEqual(firsts.tolist(), [texts.index(text) for text in met])
            if None not in texts:
                every, _ = module.code(data, offsets, filled[:0])
                self.assertEqual(every.tolist(), wanted)

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
            for module in both(coding, "coding"):
                with self.assertRaises(IndexError):
                    module.code(data, np.array(offsets, np.int64), none)
