"""Runs all tests, or those of one folder, in a process more than there are processors.

Run as `python -W error tests/parallel.py [FOLDER]`. Each process takes one class of tests after
the other, so that a server or a cluster that a class starts is its own. The classes that took
longest when they were last recorded begin; `--record` writes what they take now.
"""

from __future__ import annotations

import io
import json
import os
import sys
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from multiprocessing import get_context
from pathlib import Path

ROOT = Path(__file__).parents[1]
DURATIONS = ROOT / "tests" / "durations.json"  # seconds of each class that takes a while
_LONG = 2.0  # seconds; shorter classes fill the end


def tests_of(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    """Yield all tests of a suite."""
    for part in suite:
        if isinstance(part, unittest.TestSuite):
            yield from tests_of(part)
        else:
            yield part


def run(name: str) -> tuple[str, int, int, list[str], str, float]:
    """Run the tests of a name; return it, how many ran and failed, what was skipped, the output,
    and the seconds.
    """
    os.chdir(ROOT)
    begin = time.monotonic()
    shown = io.StringIO()
    suite = unittest.defaultTestLoader.loadTestsFromName(name)
    found = unittest.TextTestRunner(shown, verbosity=1).run(suite)
    skipped = [f"{test.id()}: {reason}" for test, reason in found.skipped]
    failed = len(found.failures) + len(found.errors) + len(found.unexpectedSuccesses)
    return name, found.testsRun, failed, skipped, shown.getvalue(), time.monotonic() - begin


def main(folder: str, *, record: bool = False) -> int:
    """Run the tests below a folder and report the outcome; return how many failed."""
    sys.path.insert(0, str(ROOT))
    begin, total, bad, left = time.monotonic(), 0, 0, 0
    suite = unittest.defaultTestLoader.discover(str(ROOT / folder), top_level_dir=str(ROOT))
    found: dict[str, None] = {}
    for test in tests_of(suite):
        kind = type(test)
        if kind.__module__.startswith("unittest."):  # of a module that cannot be imported
            print(test.id(), getattr(test, "_exception", ""), sep="\n", flush=True)
            bad += 1
        else:
            found[f"{kind.__module__}.{kind.__qualname__}"] = None
    names = [*found]
    expected = json.loads(DURATIONS.read_text("utf-8")) if DURATIONS.exists() else {}
    names.sort(key=lambda name: -expected.get(name, 0.0))
    taken: dict[str, float] = {}
    workers = (os.cpu_count() or 1) + 1  # of which some wait for a server, a cluster, a browser
    with ProcessPoolExecutor(workers, mp_context=get_context("spawn")) as pool:
        for done in as_completed([pool.submit(run, name) for name in names]):
            name, ran, failed, skipped, shown, taken[name] = done.result()
            total, bad, left = total + ran, bad + failed, left + len(skipped)
            for reason in skipped:
                print(f"skipped {reason}")
            if failed or not ran:
                print(f"{name}\n{shown}", flush=True)
                bad += not ran
    if record:
        long = {name: round(took, 1) for name, took in taken.items() if took >= _LONG}
        ordered = dict(sorted(long.items(), key=lambda one: -one[1]))
        DURATIONS.write_text(json.dumps(ordered, indent=1) + "\n", "utf-8")
    seconds = time.monotonic() - begin
    print(f"Ran {total} tests in {seconds:.0f}s: {bad or 'none'} failed, {left or 'none'} skipped")
    return bad


if __name__ == "__main__":
    folders = [argument for argument in sys.argv[1:] if argument != "--record"]
    sys.exit(bool(main(folders[0] if folders else "tests", record="--record" in sys.argv)))
