"""Works that are done side by side."""

import os
import threading
import time
import unittest
import warnings
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from unittest import mock

from eptaro.core.kernels import parallel
from eptaro.core.kernels.parallel import run_parallel


def nested(depth: int, number: int) -> int:
    """Return a number after as many works of works as there are levels."""
    if not depth:
        return number
    return sum(run_parallel([partial(nested, depth - 1, number + n) for n in range(5)]))


class Works(unittest.TestCase):
    """What comes back, in which order, and what is raised."""

    def each(self):
        """Go on with so many processors after the other, each with threads of its own."""
        for workers in (1, 2, 5):
            with mock.patch.object(parallel, "WORKERS", workers):
                parallel._pool.cache_clear()
                yield workers
        parallel._pool.cache_clear()

    def test_results_come_in_the_order_of_the_works(self):
        for _ in self.each():
            for count in (0, 1, 2, 50):
                self.assertEqual(
                    run_parallel([partial(int, n) for n in range(count)]), [*range(count)]
                )

    def test_works_have_works_of_their_own_while_others_ask(self):
        wanted = nested(4, 0)
        for _ in self.each():
            with ThreadPoolExecutor(6) as others:
                asked = [others.submit(nested, 4, 0) for _ in range(12)]
                self.assertEqual([one.result(timeout=60) for one in asked], [wanted] * 12)

    def test_the_error_of_the_first_is_raised_and_no_more_begin(self):
        for workers in self.each():
            begun = []

            def work(number: int, begun=begun) -> None:
                begun.append(number)
                time.sleep(0.02 if number == 3 else 0.001)  # in which others go on
                if number in (3, 4):
                    raise ValueError(number)

            with self.assertRaises(ValueError) as raised:
                run_parallel([partial(work, n) for n in range(1000)])
            self.assertEqual(raised.exception.args, (3,))
            if workers == 1:
                self.assertEqual(begun, [0, 1, 2, 3])
            self.assertLess(len(begun), 1000)

    def test_another_thread_helps(self):
        with mock.patch.object(parallel, "WORKERS", 2):
            meet = threading.Barrier(2, timeout=60)
            self.assertEqual(len({*run_parallel([meet.wait, meet.wait])}), 2)

    @unittest.skipUnless(hasattr(os, "fork"), "this system does not fork")
    def test_a_child_has_threads_of_its_own(self):
        with mock.patch.object(parallel, "WORKERS", 2):
            nested(2, 0)
            with warnings.catch_warnings(action="ignore"):  # of threads that are left behind
                child = os.fork()
            if not child:
                meet = threading.Barrier(2, timeout=60)
                os._exit(len({*run_parallel([meet.wait, meet.wait])}))
            self.assertEqual(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), 2)
