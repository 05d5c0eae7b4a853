"""Texts are numbered whatever their hashes; pieces put together keep the order of their rows."""

import random
import unittest
from unittest import mock

import numpy as np

import eptaro as ep
from eptaro.core.aggregation.encoding import CategoryEncoder
from eptaro.core.aggregation.groups import Categorical
from eptaro.core.aggregation.merge import combine_pieces, merge
from eptaro.core.kernels.texts import hashes_of_texts, order_of_texts
from eptaro.core.results.column import Column
from tests.books import book_of_folded


class Texts(unittest.TestCase):
    """Against Python, text by text."""

    def words(self, seed: int, count: int) -> np.ndarray:
        rng = random.Random(seed)
        letters = "abé\0 Ωz\U0001f6a2"
        some = {"".join(rng.choices(letters, k=rng.randrange(12))) for _ in range(count)}
        return np.array([*some, None], object)[:-1]

    def test_hashes_are_those_of_each_text_alone(self):
        for word, found in zip(words := self.words(1, 300), hashes_of_texts(words), strict=True):
            own = 0xCBF29CE484222325
            for byte in word.encode():
                own = (own ^ byte) * 0x100000001B3 % 2**64
            self.assertEqual(int(found), own, repr(word))

    def test_orders_are_those_of_python(self):
        for seed in range(4):
            words = self.words(seed, 3000)
            self.assertGreater(len(words), 1024)
            self.assertEqual([*words[order_of_texts(words)]], sorted(words))
            by_size = sorted(words, key=lambda word: (len(word.encode()), word))
            self.assertEqual([*words[order_of_texts(words, by_size=True)]], by_size)
        long = np.array([f"{'x' * 80}{n}" for n in range(2000)], object)
        self.assertEqual([*long[order_of_texts(long)]], sorted(long))

    def test_numbers_are_right_where_hashes_meet(self):
        def weak(words):
            return hashes_of_texts(words) % np.uint64(7)

        for hashes in (hashes_of_texts, weak):
            with mock.patch("eptaro.core.kernels.texts.hashes_of_texts", hashes):
                encoder, met = CategoryEncoder("route"), {}
                for seed in range(6):
                    words = self.words(seed, 3 if hashes is weak and seed < 3 else 40)
                    codes = np.arange(len(words), dtype=np.int32)
                    numbers = encoder.encode(Categorical(codes, Column.text("route", words)))
                    for word, number in zip(words, numbers.tolist(), strict=True):
                        self.assertEqual(met.setdefault(word, number), number, repr(word))
                self.assertEqual(len(set(met.values())), len(met))
                coded = encoder.to_categorical()
                texts = coded.choices.to_list()
                self.assertEqual({texts[coded.codes[n]]: n for n in met.values()}, met)


class SideBySide(unittest.TestCase):
    """Several at once are what they are one after the other."""

    def test_last_rows_of_a_day_are_those_of_the_last_piece(self):
        specs = ["a=first(x)", "z=last(x)", "n=distinct(w)", "m=median(x)", "s=sum(x)"]
        parts = []
        for number in range(5):
            rng = random.Random(number)
            columns = {"on": ["2025-01-01"] * 6, "g": [rng.choice("abc") for _ in range(6)], "x": [number * 10 + k for k in range(6)], "w": [rng.choice("pqrs") for _ in range(6)]}  # fmt: skip
            parts.append(ep.Daybook(columns, date="on", by="g", measures=specs))
        one_by_one = parts[0]._store.facts.folded
        for part in parts[1:]:
            one_by_one = merge(one_by_one, part._store.facts.folded)
        whole = parts[0]
        answers = [
            [*book_of_folded(folded, whole.measures, whole.calendar).recap("day", by="g").rows()]
            for folded in (one_by_one, combine_pieces([part._store.facts.folded for part in parts]))
        ]
        self.assertEqual(*answers)
