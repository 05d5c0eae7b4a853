"""Reading ahead keeps order and errors, and stops when nobody listens; progress is told."""

import random
import threading
import time
import unittest
from itertools import pairwise
from unittest import mock

import numpy as np
import pyarrow as pa

import eptaro as ep
from eptaro.inputs.sources import SkippedRows, in_large_pieces, prefetch
from eptaro.progress import report_progress, watch


class Ahead(unittest.TestCase):
    """Items come as from the iterator itself."""

    def test_items_come_in_order_and_an_error_in_its_place(self):
        self.assertEqual(list(prefetch(iter(range(50)))), list(range(50)))

        def failing():
            yield 1
            raise ep.InputError("broken")

        seen = []
        with self.assertRaisesRegex(ep.InputError, "broken"):
            for item in prefetch(failing()):
                seen.append(item)
        self.assertEqual(seen, [1])

    def test_small_tables_are_joined_and_all_rows_keep_their_order(self):
        rng, place, pieces = random.Random(3), 0, []
        for _ in range(60):
            rows = rng.choice([0, 1, 3, 20, 60])
            if rng.random() < 0.1:
                pieces.append(SkippedRows(rows, 0, 9))
            else:
                kind = rng.choice([pa.int64()] * 9 + [pa.int32()])
                pieces.append(pa.table({"n": pa.array(np.arange(place, place + rows), kind)}))
                place += rows
        with mock.patch("eptaro.inputs.sources._ROWS", 50):
            joined = [*in_large_pieces(iter(pieces))]
        skipped = [piece for piece in pieces if isinstance(piece, SkippedRows)]
        self.assertEqual([piece for piece in joined if isinstance(piece, SkippedRows)], skipped)
        numbers = [piece["n"].to_numpy() for piece in joined if isinstance(piece, pa.Table)]
        self.assertTrue((np.concatenate(numbers) == np.arange(place)).all())
        self.assertLess(len(joined), len(pieces) * 3 // 4)
        for one, other in pairwise(joined):
            if not isinstance(one, SkippedRows) and not isinstance(other, SkippedRows):
                large = one.num_rows >= 50
                self.assertTrue(large or one.schema != other.schema)

    def test_one_small_item_starts_no_thread(self):
        names = set()

        def items(count):
            for number in range(count):
                names.add(threading.current_thread().name)
                yield number

        self.assertEqual(list(prefetch(items(1), lambda _: True)), [0])
        self.assertEqual(names, {threading.main_thread().name})
        self.assertEqual(list(prefetch(items(5), lambda _: True)), [*range(5)])
        self.assertEqual(len(names), 2)

    def test_the_reader_stops_when_it_is_left(self):
        before = threading.active_count()
        for item in prefetch(iter(range(10**9))):
            if item == 3:
                break
        deadline = time.monotonic() + 10
        while threading.active_count() > before and time.monotonic() < deadline:
            time.sleep(0.01)
        self.assertLessEqual(threading.active_count(), before)


class Progress(unittest.TestCase):
    """Whoever watches is told of rows and share."""

    def test_a_watcher_hears_of_rows_until_it_leaves(self):
        heard = []
        with watch(lambda rows, share: heard.append((rows, share))):
            report_progress(5, 0.5)
            ep.Daybook({"on": ["2025-01-01"] * 3}, date="on", measures="n=count()")
        report_progress(9, None)
        self.assertEqual(heard, [(5, 0.5), (3, None)])
