"""The house: the public face, import guards, doctests and the README's snippets."""

import ast
import contextlib
import doctest
import importlib
import io
import pkgutil
import re
import shlex
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import eptaro
from eptaro.cli import run
from eptaro.demo.files import copy_shipped

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "eptaro"
OUTER = ("inputs", "outputs", "engines", "pictures", "reports", "cli", "demo")
MAY_USE = {
    "core": set(),
    "inputs": {"core"},
    "outputs": {"core"},
    "demo": {"core", "outputs"},
    "engines": {"core", "inputs", "outputs"},
    "pictures": {"core", "inputs", "outputs", "engines"},
    "reports": {"core", "inputs", "outputs", "engines", "pictures"},
    "cli": {"core", "inputs", "outputs", "engines", "pictures", "reports", "demo"},
}


def imported(path: Path) -> set[str]:
    """Return the modules that a file imports, wherever in it."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            found.add(node.module or "")
    return found


class Imports(unittest.TestCase):
    """Imports point one way, and heavy packages load late."""

    def test_core_imports_numpy_and_the_standard_library_only(self):
        for path in (SOURCE / "core").rglob("*.py"):
            tops = {name.split(".")[0] for name in imported(path)}
            strange = tops - set(sys.stdlib_module_names) - {"numpy", "eptaro"}
            self.assertFalse(strange, path)

    def test_layers_import_one_way(self):
        for layer, may in MAY_USE.items():
            for path in (SOURCE / layer).rglob("*.py"):
                used = {n.split(".")[1] for n in imported(path) if n.startswith("eptaro.")}
                self.assertLessEqual(used & {"core", *OUTER}, may | {layer}, path)

    def test_import_and_help_load_nothing_heavy(self):
        heavy = "{'pydantic', 'pyarrow', 'pandas', 'rich', 'matplotlib', 'sqlalchemy', 'dask'}"
        for code in ("import eptaro", "from eptaro.cli import run; run(['--help'])"):
            check = f"{code}; import sys; sys.exit(bool({heavy} & set(sys.modules)))"
            done = subprocess.run([sys.executable, "-c", check], capture_output=True, check=False)
            self.assertEqual(done.returncode, 0, code)

    def test_the_public_names_are_the_list(self):
        public = {name for name, value in vars(eptaro).items()
                  if not name.startswith("_") and not isinstance(value, type(eptaro))}  # fmt: skip
        self.assertEqual(
            public - {"Any", "TYPE_CHECKING"} | {"__version__", *eptaro._LATER}, set(eptaro.__all__)
        )
        for name in eptaro.__all__:
            self.assertIsNotNone(getattr(eptaro, name))
        with self.assertRaises(AttributeError):
            _ = eptaro.nothing
        self.assertEqual(sorted(eptaro.__all__), eptaro.__all__)


class Snippets(unittest.TestCase):
    """Every example in a docstring or in the README runs."""

    def test_docstrings(self):
        ran = 0
        for module in pkgutil.walk_packages(eptaro.__path__, "eptaro."):
            result = doctest.testmod(importlib.import_module(module.name))
            self.assertEqual(result.failed, 0, module.name)
            ran += result.attempted
        self.assertGreater(ran, 30)

    def test_commands_of_every_page_print_what_it_shows_and_its_python_runs(self):
        for page in (ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))):
            with self.subTest(page.name):
                self.run_page(page.read_text(encoding="utf-8"))

    def run_page(self, text):
        with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
            copy_shipped(Path("eptaro-demo"))
            for block in re.findall(r"```console\n(.*?)```", text, re.DOTALL):
                for command, output in re.findall(
                    r"^\$ (eptaro (?:.*\\\n)*.*)\n((?:(?!\$).*\n)*)", block, re.M
                ):
                    shown = io.StringIO()
                    with contextlib.redirect_stdout(shown):
                        status = run(shlex.split(command.replace("\\\n", ""))[1:])
                    self.assertEqual(status, 0, command)
                    for line in filter(None, output.splitlines()):
                        self.assertIn(line.rstrip(), shown.getvalue())
            for code in re.findall(r"```python\n(.*?)```", text, re.DOTALL):
                command = [sys.executable, "-W", "error", "-c", code]
                done = subprocess.run(command, capture_output=True, text=True, check=False)
                self.assertEqual((done.returncode, done.stderr), (0, ""), code)

    def test_links_lead_somewhere(self):
        for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
            for link in re.findall(r"\]\(([^)#]+)\)", page.read_text(encoding="utf-8")):
                self.assertTrue((page.parent / link).exists(), (page.name, link))

    def test_pages_made_from_the_code_are_current(self):
        done = subprocess.run(
            [sys.executable, "-c", "import make; print(all((make.FOLDER / name).read_text() == maker() "
             "for name, maker in make.PAGES.items()))"],
            cwd=ROOT / "docs", capture_output=True, text=True, check=False,
        )  # fmt: skip
        self.assertEqual(done.stdout.strip(), "True", done.stderr or "run python docs/make.py")

    def test_examples_run(self):
        for script in sorted((ROOT / "examples").glob("*.py")):
            with tempfile.TemporaryDirectory() as folder:
                done = subprocess.run([sys.executable, "-W", "error", script], cwd=folder, capture_output=True,
                                      text=True, check=False)  # fmt: skip
                self.assertEqual((done.returncode, done.stderr), (0, ""), script.name)
                self.assertTrue(done.stdout.strip(), script.name)

    def test_the_architecture_page_names_the_layers_and_arrows_that_there_are(self):
        page = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
        told = dict(re.findall(r"^\| `(\w+)/` \|.*\| ([^|]*) \|$", page, re.M))
        self.assertEqual(set(told), set(MAY_USE))
        for layer, may in told.items():
            self.assertEqual(set(re.findall(r"`(\w+)`", may)), MAY_USE[layer], layer)
