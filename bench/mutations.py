"""Small faults planted in `core`, one at a time: how many of them do the tests notice?

Run as `python bench/mutations.py [count] [seed]`. First the tests that run in one process (not
those of the command line, of pages and of the cluster) run once under coverage, to know which of
them reach which line. Then as many faults as asked for are drawn at random: an operator, a
constant or a condition is turned, and the tests that reach the line run on a copy, the quickest
first, until one fails. Every fault that none notices is printed.
"""

from __future__ import annotations

import ast
import copy
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import accumulate
from pathlib import Path

ROOT = Path(__file__).parents[1]
CORE = ROOT / "src" / "eptaro" / "core"
TESTS = ("core", "inputs", "outputs", "plots", "engines/test_rows.py")
ASKED = 90.0  # seconds of tests that one fault is given
LONGEST = 300.0  # seconds after which a fault counts as one that does not end
FLIPPED: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq, ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.FloorDiv,
    ast.And: ast.Or, ast.Or: ast.And, ast.FloorDiv: ast.Mult, ast.BitAnd: ast.BitOr,
    ast.BitOr: ast.BitAnd, ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
}  # fmt: skip
_IMPORTED = "imported"
TUNING = ("MOST_DENSE", "CHUNK", "_BLOCK", "_WORKERS", "_SURE", "_ROOM", "_HALF")


def cover(folder: Path) -> None:
    """Run the tests under coverage; save which reach which lines, and their times."""
    import coverage

    seconds: dict[str, float] = {}
    found = coverage.Coverage(data_file=None, source=[str(CORE)])

    class Result(unittest.TextTestResult):
        def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
            found.switch_context(test.id())
            seconds[test.id()] = -time.monotonic()
            super().startTest(test)

        def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
            super().stopTest(test)
            seconds[test.id()] += time.monotonic()
            found.switch_context(f"class {type(test).__module__}.{type(test).__qualname__}")

    found.start()
    found.switch_context(_IMPORTED)
    suite = unittest.TestSuite()
    for part in TESTS:
        path = ROOT / "tests" / part
        start, pattern = (path.parent, path.name) if path.suffix else (path, "test*.py")
        suite.addTests(unittest.TestLoader().discover(str(start), pattern, str(ROOT)))
    own: dict[str, list[str]] = {_IMPORTED: []}
    for test in _flat(suite):
        own.setdefault(f"class {type(test).__module__}.{type(test).__qualname__}", []).append(
            test.id()
        )
        own[_IMPORTED].append(test.id())
    by_class: dict[type, unittest.TestSuite] = {}
    for test in _flat(suite):
        by_class.setdefault(type(test), unittest.TestSuite()).addTest(test)
    for kind, tests in by_class.items():
        found.switch_context(f"class {kind.__module__}.{kind.__qualname__}")
        unittest.TextTestRunner(resultclass=Result, verbosity=0).run(tests)
    found.stop()
    data = found.get_data()
    lines = {
        os.path.relpath(name, CORE): {
            line: sorted({one for test in tests for one in own.get(test, [test])} - {""})
            for line, tests in data.contexts_by_lineno(name).items()
        }
        for name in data.measured_files()
    }
    (folder / "covered.json").write_text(json.dumps({"lines": lines, "seconds": seconds}))


def _flat(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for part in suite:
        if isinstance(part, unittest.TestSuite):
            yield from _flat(part)
        else:
            yield part


class Fault:
    """One place of a file that is turned."""

    def __init__(self, path: str, line: int, number: int, text: str) -> None:
        self.path, self.line, self.number, self.text = path, line, number, text


def faults(path: Path) -> Iterator[Fault]:
    """Yield all faults that can be planted in a file."""
    tree = ast.parse(path.read_text())
    for number, (node, changed) in enumerate(negated(tree)):
        text = f"{ast.unparse(node)[:60]} -> {ast.unparse(changed)[:60]}"
        yield Fault(os.path.relpath(path, CORE), node.lineno, number, text)


def negated(tree: ast.Module) -> Iterator[tuple[ast.expr, ast.expr]]:
    """Yield expressions with what stands in their place once they are turned."""
    skipped = {id(inner) for node in ast.walk(tree) for inner in _left_out(node)}
    for node in ast.walk(tree):
        if id(node) in skipped or not isinstance(node, ast.expr):
            continue
        made: ast.expr | None = None
        if isinstance(node, ast.Compare) and type(node.ops[0]) in FLIPPED:
            made = copy.deepcopy(node)
            made.ops[0] = FLIPPED[type(node.ops[0])]()  # type: ignore[assignment]
        elif isinstance(node, ast.BinOp | ast.BoolOp) and type(node.op) in FLIPPED:
            made = copy.deepcopy(node)
            made.op = FLIPPED[type(node.op)]()  # type: ignore[assignment]
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not | ast.Invert | ast.USub):
            made = node.operand
        elif isinstance(node, ast.Constant) and type(node.value) is int:
            made = ast.copy_location(ast.Constant(node.value + 1), node)
        elif isinstance(node, ast.Constant) and type(node.value) is bool:
            made = ast.copy_location(ast.Constant(not node.value), node)
        elif isinstance(node, ast.IfExp):
            made = copy.deepcopy(node)
            made.body, made.orelse = made.orelse, made.body
        if made is not None:
            yield node, made


def _left_out(node: ast.AST) -> Iterator[ast.AST]:
    """Yield all nodes below parts that mean nothing when they run, or tune speed alone."""
    parts: list[ast.AST | None] = []
    if isinstance(node, ast.FunctionDef):
        parts = [node.returns, *(argument.annotation for argument in _arguments(node))]
    elif isinstance(node, ast.AnnAssign):
        parts = [node.annotation]
    elif isinstance(node, ast.Raise | ast.Assert):
        parts = [node]
    elif isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name):
        value = node.value
        names_types = isinstance(value, ast.BinOp) and isinstance(value.op, ast.BitOr)
        parts = [node] if node.targets[0].id in TUNING or names_types else []
    elif isinstance(node, ast.Call) and ast.unparse(node.func) in ("dataclass", "zip", "field"):
        parts = list(node.keywords)
    for part in parts:
        if part is not None:
            yield from ast.walk(part)


def _arguments(node: ast.FunctionDef) -> list[ast.arg]:
    given = node.args
    more = [one for one in (given.vararg, given.kwarg) if one]
    return [*given.posonlyargs, *given.args, *given.kwonlyargs, *more]


def planted(fault: Fault, source: Path) -> str:
    """Return the text of the file with the fault in it."""
    tree = ast.parse(source.read_text())
    node, changed = list(negated(tree))[fault.number]

    class Swap(ast.NodeTransformer):
        def visit(self, one: ast.AST) -> ast.AST:
            return changed if one is node else super().visit(one)

    return ast.unparse(ast.fix_missing_locations(Swap().visit(tree)))


def noticed(fault: Fault, tests: list[str]) -> bool:
    """Return whether a test fails with the fault in place."""
    if not tests:
        return False
    with tempfile.TemporaryDirectory() as name:
        copied = Path(name) / "src"
        shutil.copytree(ROOT / "src", copied, ignore=shutil.ignore_patterns("__pycache__"))
        target = copied / "eptaro" / "core" / fault.path
        target.write_text(planted(fault, CORE / fault.path))
        command = [sys.executable, "-W", "ignore", "-m", "unittest", "-f", *tests]
        try:
            done = subprocess.run(
                command, cwd=ROOT, capture_output=True, check=False, timeout=LONGEST,
                env={**os.environ, "PYTHONPATH": str(copied), "PYTHONDONTWRITEBYTECODE": "1"},
            )  # fmt: skip
        except subprocess.TimeoutExpired:
            return True  # it does not end any more
    return done.returncode != 0


def main(count: int, seed: int) -> int:
    """Plant faults at random; return how many went unnoticed."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        command = [sys.executable, __file__, "cover", str(folder)]
        subprocess.run(command, check=True, cwd=ROOT, capture_output=True,
                       env={**os.environ, "PYTHONPATH": str(ROOT / "src")})  # fmt: skip
        known = json.loads((folder / "covered.json").read_text())
    every = [fault for path in sorted(CORE.rglob("*.py")) for fault in faults(path)]
    drawn = random.Random(seed).sample(every, count)
    print(f"{count} of {len(every):,} faults", flush=True)

    def tests_of(fault: Fault) -> list[str]:
        tests = known["lines"].get(fault.path, {}).get(str(fault.line), [])
        if not tests:  # a line that runs when the module is imported
            tests = [t for own in known["lines"].get(fault.path, {}).values() for t in own]
        ordered = sorted(set(tests), key=known["seconds"].__getitem__)
        spent = accumulate(map(known["seconds"].__getitem__, ordered))
        return [test for test, seconds in zip(ordered, spent, strict=True) if seconds <= ASKED]

    missed = 0
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        found = pool.map(lambda fault: (fault, noticed(fault, tests_of(fault))), drawn)
        for number, (fault, seen) in enumerate(found, 1):
            if not seen:
                missed += 1
                print(f"not noticed: {fault.path}:{fault.line}: {fault.text}", flush=True)
            if number % 25 == 0:
                print(f"  {number} planted, {missed} not noticed", flush=True)
    print(f"{count - missed} of {count} noticed: {100 * (count - missed) / count:.1f}%")
    return missed


if __name__ == "__main__":
    if sys.argv[1:2] == ["cover"]:
        cover(Path(sys.argv[2]))
    else:
        given = [int(word) for word in sys.argv[1:]]
        sys.exit(bool(main(given[0] if given else 150, given[1] if len(given) > 1 else 1)))
