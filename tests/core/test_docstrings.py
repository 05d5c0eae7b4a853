"""Every example in a docstring of `core` runs, a test for each module."""

import doctest
import importlib
import pkgutil
import unittest

import eptaro.core


class Examples(unittest.TestCase):
    """Modules whose docstrings hold examples."""

    def test_there_are_many(self):
        self.assertGreater(sum(name.startswith("test_of_") for name in dir(self)), 25)


def _held(module):
    def test(self):
        self.assertEqual(doctest.testmod(module).failed, 0)

    return test


for _found in pkgutil.walk_packages(eptaro.core.__path__, "eptaro.core."):
    _module = importlib.import_module(_found.name)
    if any(test.examples for test in doctest.DocTestFinder().find(_module)):
        setattr(Examples, f"test_of_{_found.name.replace('.', '_')}", _held(_module))
