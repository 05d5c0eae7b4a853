"""Options are declared once: the ways in, the command line and the config have them all."""

import json
import tempfile
import unittest
from dataclasses import fields
from pathlib import Path

from click.testing import CliRunner

import eptaro as ep
from eptaro.cli.app import app
from eptaro.cli.options import options_of
from eptaro.inputs.options import FileOptions, ReadOptions
from eptaro.inputs.schema import SCHEMA
from eptaro.rules import FileRules, NumberRules

ROWS = {"on": ["2025-01-31", "2025-02-01"], "fare": [7, 5]}


class Declared(unittest.TestCase):
    """Each place has every option."""

    def test_the_command_line_has_every_option_with_its_help(self):
        shown = CliRunner().invoke(app, ["recap", "--help-all"]).output
        told = " ".join(shown.split())
        for kind in (ReadOptions, ep.DateRules, FileRules, NumberRules):
            for option in options_of(kind).values():
                self.assertIn(f" {option.flag}", shown)
                self.assertIn(" ".join(option.how.help.split())[:30], told)

    def test_a_config_has_every_rule_and_what_it_means(self):
        parts = json.loads(SCHEMA.read_text(encoding="utf-8"))["$defs"]
        for part, kind in (
            ("Dates", ep.DateRules),
            ("Written", FileRules),
            ("Figures", NumberRules),
        ):
            keys = parts[part]["properties"]
            self.assertEqual({*keys}, {one.name for one in fields(kind) if one.init})
            for name, option in options_of(kind).items():
                self.assertTrue(option.how.help.startswith(keys[name]["description"]), name)
        wanted = {*options_of(ReadOptions)} - {"measures"}
        self.assertLessEqual(wanted, {*parts["Data"]["properties"]})
        self.assertLessEqual({"year_starts", "prefix"}, {*parts["Month"]["properties"]})

    def test_the_ways_in_take_every_option_by_name(self):
        for way, kind in ((ep.Daybook, ReadOptions), (ep.Daybook.read, FileOptions)):
            import inspect

            taken = inspect.signature(way).parameters
            self.assertLessEqual({one.name for one in fields(kind)}, {*taken})
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "rows.csv"
            path.write_text("on,fare\n2025-01-31,7\n")
            self.assertEqual(ep.Daybook.read(paths=path, measures="n=count()").rows, 1)
        for wrong in ((), (ROWS, "fare")):
            with self.assertRaisesRegex(TypeError, r"takes self, table and options by name"):
                ep.Daybook(*wrong, measures="n=count()")


class Logged(unittest.TestCase):
    """What was read and decided is written to the log of `eptaro`."""

    def test_a_book_says_what_it_read(self):
        with self.assertLogs("eptaro", "DEBUG") as log:
            ep.Daybook(ROWS, date="on", measures="revenue=sum(fare)")
        said = [record.getMessage() for record in log.records]
        self.assertEqual(
            said[0], "read: 2 transactions of the table given, 1 group, dated by the day"
        )
        self.assertIn("measures: revenue = sum(fare)", said)
