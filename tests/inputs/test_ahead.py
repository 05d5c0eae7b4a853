"""Reading ahead keeps order and errors, and stops when nobody listens; progress is told."""

import threading
import time
import unittest

import eptaro as ep
from eptaro.inputs.sources import prefetch
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
