"""The house: the public face, import guards, doctests and the README's snippets."""

import ast
import contextlib
import doctest
import importlib
import inspect
import io
import json
import os
import pkgutil
import re
import shlex
import subprocess
import sys
import tempfile
import unittest
import warnings
from functools import cache
from importlib.util import find_spec
from pathlib import Path

from PIL import Image

import eptaro
from eptaro.cli.app import run
from eptaro.demo.files import copy_shipped
from tests.books import without_pictures

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "eptaro"
FOUNDATION = {
    "errors",
    "record",
    "urls",
    "paths",
    "optional",
    "digest",
    "progress",
    "background",
    "timeouts",
    "option",
    "version",
}
MAY_USE = {
    "core": set(),
    "rules": {"core"},
    "presentation": {"core"},
    "outputs": {"core", "presentation"},
    "inputs": {"core", "rules"},
    "demo": {"core", "outputs"},
    "storage": {"core", "inputs", "outputs"},
    "engines": {"core", "rules", "inputs", "outputs"},
    "plots": {"core", "outputs", "presentation"},
    "sharded": {"core", "rules", "inputs", "storage", "engines"},
    "reports": {"core", "outputs", "plots", "presentation"},
    "table": {"core", "outputs", "plots", "presentation"},
    "extend": {"core", "inputs"},
    "functions": {"core", "inputs", "engines", "table"},
    "book": {"core", "reports", "table"},
    "daybook": {"book", "core", "inputs", "storage", "engines", "sharded", "table"},
    "book_set": {"book", "core", "daybook"},
    "cli": {"core", "rules", "presentation", "inputs", "outputs", "demo", "storage", "engines",
            "plots", "table", "book", "book_set", "daybook", "sharded", "reports"},
}  # fmt: skip
ROOMS = (
    "calendars",
    "kernels",
    "results",
    "expressions",
    "dimension",
    "aggregation",
    "measures",
    "query",
    "verbs",
    "proof",
)


@cache
def parts_of(path: Path) -> tuple[ast.AST, ...]:
    """Return all parts of a file of Python, the file itself first."""
    return (*ast.walk(ast.parse(path.read_text(encoding="utf-8"))),)


@cache
def imported(path: Path) -> set[str]:
    """Return the modules that a file imports, wherever in it."""
    found = set()
    for node in parts_of(path):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            found.add(node.module or "")
    return found


def imported_to_run(path: Path) -> set[str]:
    """Return the modules that a file imports when it runs, wherever in it: not those for types."""
    tree = ast.parse(path.read_text())
    for node in ast.walk(tree):
        if isinstance(node, ast.If) and getattr(node.test, "id", "") == "TYPE_CHECKING":
            node.body = [ast.Pass()]
    return {node.module or "" for node in ast.walk(tree) if isinstance(node, ast.ImportFrom)}


def module_of(path: Path) -> str:
    """Return the name under which a file is imported."""
    return ".".join(("eptaro", *path.relative_to(SOURCE).with_suffix("").parts)).removesuffix(
        ".__init__"
    )


class Imports(unittest.TestCase):
    """Imports point one way, and heavy packages load late."""

    def test_core_imports_numpy_and_the_standard_library_only(self):
        for path in (SOURCE / "core").rglob("*.py"):
            tops = {name.split(".")[0] for name in imported(path)}
            strange = tops - set(sys.stdlib_module_names) - {"numpy", "eptaro"}
            self.assertFalse(strange, path)

    def test_layers_import_one_way(self):
        for layer, may in MAY_USE.items():
            files = [*(SOURCE / layer).rglob("*.py"), *SOURCE.glob(f"{layer}.py")]
            self.assertTrue(files, layer)
            for path in files:
                used = {n.split(".")[1] for n in imported(path) if n.startswith("eptaro.")}
                self.assertLessEqual(used, may | {layer} | FOUNDATION, path)

    def test_rooms_of_core_import_downward(self):
        for place, room in enumerate(ROOMS):
            for path in (SOURCE / "core" / room).rglob("*.py"):
                used = {n.split(".")[2] for n in imported(path) if n.startswith("eptaro.core.")}
                self.assertLessEqual(used, set(ROOMS[: place + 1]), path)
        folders = {path.name for path in (SOURCE / "core").iterdir() if path.is_dir()}
        self.assertEqual(folders - {"__pycache__"}, set(ROOMS))

    def test_proof_shares_no_arithmetic_with_what_it_proves(self):
        for path in (SOURCE / "core" / "proof").glob("*.py"):
            for name in imported(path):
                self.assertNotRegex(
                    name,
                    r"core\.kernels|core\.measures\.(?!measure|term)|core\.aggregation\.(sums|squares|fold$)",
                    path,
                )

    def test_nothing_imports_in_a_circle(self):
        arrows = {module_of(path): imported_to_run(path) for path in SOURCE.rglob("*.py")}
        done: set[str] = set()

        def follow(name, way):
            self.assertNotIn(name, way)
            if name in arrows and name not in done:
                for other in arrows[name]:
                    follow(other, [*way, name])
                done.add(name)

        for name in arrows:
            follow(name, [])

    def test_import_and_help_load_nothing_heavy(self):
        heavy = "{'pydantic', 'pyarrow', 'pandas', 'rich', 'matplotlib', 'sqlalchemy', 'dask'}"
        for code in ("import eptaro", "from eptaro.cli.app import run; run(['--help'])"):
            check = f"{code}; import sys; sys.exit(bool({heavy} & set(sys.modules)))"
            done = subprocess.run([sys.executable, "-c", check], capture_output=True, check=False)
            self.assertEqual(done.returncode, 0, code)

    def test_commands_load_only_the_packages_that_they_need(self):
        plain, config = {"click", "numpy", "pyarrow"}, {"pydantic", "pydantic_core"}
        file = ["bookings.csv", "--date", "sailed_on", "--measure", "revenue=sum(fare)"]
        cases = {
            ("--help",): {"click"},
            ("recap", "--help"): {"click", "numpy"},
            ("recap", *file, "--per", "month"): plain,
            ("compare", *file, "--per", "year", "--to-date", "--by", "route"): plain,
            ("trail", *file, "--back", "7 days", "--rows", "4"): plain,
            ("rhythm", *file, "--per", "weekday"): plain,
            ("inspect", "bookings.csv", "--date", "sailed_on"): plain,
            ("calendar", "check", "--years", "2020..2030"): plain | {"rich"},
            (
                "dimension",
                "--from",
                "2025-01-01",
                "--through",
                "2025-12-31",
                "--out",
                "d.parquet",
            ): plain,
            ("recap", "--config", "eptaro.toml", "--per", "year"): plain | config,
        }
        heavy = {"pandas", "polars", "matplotlib", "jinja2", "xlsxwriter", "sqlalchemy", "dask", "distributed", "babel",
                 "icalendar", "pydantic", "pydantic_core", "python_calamine", "rich", *plain}  # fmt: skip
        code = ("import sys, io, contextlib; from eptaro.cli.app import run\n"
                "with contextlib.redirect_stdout(io.StringIO()): status = run(sys.argv[1:])\n"
                f"print(status, *sorted({heavy} & {{m.partition('.')[0] for m in sys.modules}}))")  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            copy_shipped(Path(folder), replace=True)
            for words, may in cases.items():
                done = subprocess.run(
                    [sys.executable, "-c", code, *words],
                    cwd=folder,
                    capture_output=True,
                    text=True,
                    check=False,
                )
                status, *loaded = done.stdout.split()
                self.assertEqual((status, set(loaded) - may), ("0", set()), (words, done.stderr))

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


def lines_told(text: str) -> int:
    """Return how many lines of a file are docstrings."""
    kinds = (ast.Module, ast.ClassDef, ast.FunctionDef)
    heads = [
        node.body[0] for node in ast.walk(ast.parse(text)) if isinstance(node, kinds) and node.body
    ]
    return sum(
        one.end_lineno - one.lineno + 1
        for one in heads
        if isinstance(one, ast.Expr) and isinstance(one.value, ast.Constant)
    )


class Layout(unittest.TestCase):
    """A reader finds the file by the question, and the file is short."""

    def test_files_are_short_and_folders_small(self):
        for path in (*SOURCE.rglob("*.py"), *SOURCE.rglob("*.pyx")):
            text = path.read_text(encoding="utf-8")
            lines = len(text.splitlines()) - (lines_told(text) if path.suffix == ".py" else 0)
            self.assertLessEqual(lines, 600, path)
            self.assertNotIn("fmt: " + "skip", text, path)
        for folder in {path.parent for path in SOURCE.rglob("*.py")} - {SOURCE}:
            files = [path for path in folder.glob("*.py*") if path.name != "__init__.py"]
            subfolders = [path for path in folder.iterdir() if (path / "__init__.py").exists()]
            self.assertIn(len(files) + len(subfolders), range(1, 15), folder)

    def test_no_two_classes_bear_one_name(self):
        names = [node.name for path in SOURCE.rglob("*.py") for node in parts_of(path)
                 if isinstance(node, ast.ClassDef)]  # fmt: skip
        self.assertEqual(sorted(names), sorted(set(names)))

    def test_no_two_functions_of_the_core_have_one_name(self):
        names = [node.name for path in (SOURCE / "core").rglob("*.py") for node in parts_of(path)[0].body
                 if isinstance(node, ast.FunctionDef) and not node.name.startswith("__")]  # fmt: skip
        self.assertEqual(sorted(names), sorted(set(names)))


class Docstrings(unittest.TestCase):
    """Every example in a docstring runs, and every public docstring is whole."""

    def test_docstrings(self):
        ran = 0
        for module in pkgutil.walk_packages(eptaro.__path__, "eptaro."):
            if module.name.startswith("eptaro.core"):  # held by tests/core/test_docstrings.py
                continue
            result = doctest.testmod(importlib.import_module(module.name))
            self.assertEqual(result.failed, 0, module.name)
            ran += result.attempted
        self.assertGreater(ran, 20)

    def test_public_docstrings_list_their_parameters(self):
        for name, found in public_callables():
            text = inspect.getdoc(found) or ""
            given = [
                one for one in inspect.signature(found).parameters if one not in ("self", "cls")
            ]
            told = re.search(r"Parameters\n-{10}\n(.*?)(?:\n\n[A-Z]\w+\n-+|\Z)", text, re.DOTALL)
            if given and "other parameters" not in text:
                self.assertIsNotNone(told, name)
                heads = re.findall(r"^(\w[\w, ]*) : ", told[1], re.M)
                listed = [one for head in heads for one in head.split(", ")]
                self.assertEqual(
                    sorted(listed), sorted(one for one in given if one[0] != "_"), name
                )
            self.assertNotIn(">>>", text.partition("Examples\n--------")[0], name)
            self.assertIn(">>>", text, f"{name} has no example")

    def test_functions_of_the_core_state_the_shapes_of_their_arrays(self):
        def takes_arrays(node: ast.FunctionDef) -> bool:
            own = [*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs]
            types = " ".join(ast.unparse(one.annotation) for one in own if one.annotation)
            return bool(
                re.search(r"\b(NDArray|Array|Ints|Days|Flags|Floats|Codes|Values)\b", types)
            )

        def states(node: ast.FunctionDef) -> bool:
            text = ast.get_docstring(node) or ""
            return bool(re.search(r"\(\w+( \+ 1)?,( ?\w+)*\)|shape", text))

        stated, silent = set[str](), list[tuple[str, str]]()
        for path in (SOURCE / "core").rglob("*.py"):
            tree = parts_of(path)[0]
            for node in [one for top in [tree, *tree.body] if isinstance(top, ast.Module | ast.ClassDef)
                         for one in top.body if isinstance(one, ast.FunctionDef)]:  # fmt: skip
                overload = any(ast.unparse(one) == "overload" for one in node.decorator_list)
                if takes_arrays(node) and states(node):
                    stated.add(node.name)
                elif takes_arrays(node) and not overload:
                    silent.append((node.name, path.name))
        # A method is described by the class that it is declared in; those that override it are not.
        self.assertEqual([one for one in silent if one[0] not in stated], [])
        self.assertGreater(len(stated), 200)


class Pages(unittest.TestCase):
    """Every command and snippet of a page runs."""

    def test_commands_of_every_page_print_what_it_shows_and_its_python_runs(self):
        for page in (ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))):
            with self.subTest(page.name):
                self.run_page(page.read_text(encoding="utf-8"))

    def run_page(self, text):
        with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder), without_pictures():
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
                self.run_code(code)

    def run_code(self, code):
        """Run some Python: by itself where it adds to the library, else here, which is quicker."""
        if "eptaro.extend" in code:
            command = [sys.executable, "-W", "error", "-c", code]
            done = subprocess.run(command, capture_output=True, text=True, check=False)
            self.assertEqual((done.returncode, done.stderr), (0, ""), code)
        else:
            self.assertEqual(shown_by(code)[1], "", code)


def shown_by(*cells):
    """Return what some Python prints and says, run as one program; a warning is an error."""
    out, err, names = io.StringIO(), io.StringIO(), {"__name__": "__main__"}
    with (
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
        warnings.catch_warnings(),
    ):
        warnings.simplefilter("error")
        for cell in cells:
            exec(compile(cell, "example", "exec"), names)
    return out.getvalue(), err.getvalue()


class Examples(unittest.TestCase):
    """Every example runs as a script."""

    def test_examples_run(self):
        for script in sorted((ROOT / "examples").glob("*.py")):
            with (
                tempfile.TemporaryDirectory() as folder,
                contextlib.chdir(folder),
                without_pictures(),
            ):
                out, err = shown_by(script.read_text(encoding="utf-8"))
            self.assertEqual((bool(out.strip()), err), (True, ""), script.name)

    def test_notebooks_run_and_hold_what_they_show(self):
        if find_spec("nbclient") is None or find_spec("ipykernel") is None:
            self.skipTest("nbclient and ipykernel are not installed")
        code = "import sys, nbformat; from nbclient import NotebookClient as Run; book = nbformat.read(sys.argv[1], 4); " \
               "Run(book, timeout=300).execute(); nbformat.write(book, sys.argv[2])"  # fmt: skip
        one, *others = sorted((ROOT / "examples").glob("*.ipynb"))
        with tempfile.TemporaryDirectory() as folder:
            again = Path(folder) / "again.ipynb"
            command = [sys.executable, "-c", code, str(one), str(again)]
            done = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
            self.assertEqual(done.returncode, 0, (one.name, done.stderr[-2000:]))
            shown = [printed(json.loads(it.read_text(encoding="utf-8"))) for it in (one, again)]
            self.assertTrue(shown[0])
            self.assertEqual(*shown, one.name)
        for path in others:
            notebook = json.loads(path.read_text(encoding="utf-8"))
            cells = [
                "".join(cell["source"]) for cell in notebook["cells"] if cell["cell_type"] == "code"
            ]
            with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
                text, _ = shown_by(*cells)
            self.assertTrue(text)
            self.assertEqual(text, "".join(printed(notebook)), path.name)


def printed(notebook):
    """Return the text that the cells of a notebook print."""
    return ["".join(out["text"]) for cell in notebook["cells"] for out in cell.get("outputs", ())
            if out["output_type"] == "stream" and out["name"] == "stdout"]  # fmt: skip


class Kernel(unittest.TestCase):
    """Which loops run is told, and can be chosen."""

    def told(self, kernel: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "eptaro", "--version"], capture_output=True, text=True,
            check=False, env={**os.environ, "EPTARO_KERNEL": kernel},
        )  # fmt: skip

    def test_the_one_asked_for_runs(self):
        self.assertRegex(
            self.told("").stdout, r"^eptaro, version [\d.]+, kernel (compiled|numpy)\n$"
        )
        self.assertIn("kernel numpy", self.told("numpy").stdout)
        wrong = "eptaro: EPTARO_KERNEL='fast' must be numpy or compiled\n"
        self.assertEqual(self.told("fast").stderr, wrong)
        compiled = self.told("compiled")
        said = compiled.stdout + compiled.stderr
        self.assertTrue("kernel compiled" in said or "that kernel was not built" in said, said)

    def test_build_info_tells_the_versions(self):
        found = eptaro.build_info()
        self.assertEqual(found["version"], eptaro.__version__)
        self.assertEqual([*found], ["version", "kernel", "python", "numpy"])

    def test_every_compiled_loop_is_used(self):
        folder = SOURCE / "core" / "kernels"
        operations = "".join(path.read_text(encoding="utf-8") for path in folder.glob("*.py"))
        for path in sorted((folder / "compiled").glob("*.pxi")):
            loops = re.findall(r"^def (\w+)\(", path.read_text(encoding="utf-8"), re.M)
            self.assertTrue(loops, path)
            for name in loops:
                self.assertIn(f"loops.{name}", operations, path)


class Generated(unittest.TestCase):
    """What is made from the code is current, and links lead somewhere."""

    def test_links_lead_somewhere(self):
        for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
            for link in re.findall(r"\]\(([^)#]+)\)", page.read_text(encoding="utf-8")):
                self.assertTrue((page.parent / link).exists(), (page.name, link))

    def test_the_reference_has_every_public_name(self):
        page = (ROOT / "docs" / "reference.md").read_text(encoding="utf-8")
        named = re.findall(r"^\.\. auto\w+:: eptaro\.(\w+)$", page, re.M)
        self.assertEqual(sorted(named), sorted(set(eptaro.__all__) - {"__version__"}))

    def test_the_site_lists_every_page(self):
        index = (ROOT / "docs" / "index.md").read_text(encoding="utf-8")
        for page in (ROOT / "docs").glob("*.md"):
            self.assertTrue(
                page.stem == "index" or re.search(rf"^{page.stem}$", index, re.M), page.name
            )

    def test_the_architecture_page_names_the_layers_and_arrows_that_there_are(self):
        page = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
        told = dict(re.findall(r"^\| `(\w+)(?:/|\.py)` \|.*\| ([^|]*) \|$", page, re.M))
        self.assertEqual(set(told), set(MAY_USE))
        for layer, may in told.items():
            self.assertEqual(set(re.findall(r"`(\w+)`", may)), MAY_USE[layer], layer)
        self.assertEqual(tuple(re.findall(r"^\| `(\w+)` \| [^|]*\? \|$", page, re.M)), ROOMS)

    def test_the_drawing_of_the_rooms_is_current(self):
        done = subprocess.run(
            [sys.executable, "-c", "import rooms; print(rooms.TARGET.read_text() == rooms.drawing())"],
            cwd=ROOT / "docs", capture_output=True, text=True, check=False,
        )  # fmt: skip
        self.assertEqual(done.stdout.strip(), "True", done.stderr or "run make docs")


class Screenshots(unittest.TestCase):
    """The pictures of commands keep what these printed: it is what they print now."""

    def test_each_shows_what_its_commands_print(self):
        sys.path.insert(0, str(ROOT / "docs"))
        self.addCleanup(sys.path.remove, str(ROOT / "docs"))
        shots = importlib.import_module("shots")
        names = {*shots.TERMINALS, *shots.PICTURES, *shots.PAGES}
        self.assertEqual(names, {path.stem for path in shots.FOLDER.glob("*.png")})
        with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
            for name in sorted(names, key=lambda one: (one != "demo", one)):  # others use its files
                with self.subTest(name), Image.open(shots.FOLDER / f"{name}.png") as image:
                    self.assertEqual(
                        image.info["printed"], shots.printed(name), "run python docs/shots.py"
                    )


ERRORS = {
    "EptaroError",
    "CalendarError",
    "DateError",
    "InputError",
    "MeasureError",
    "QuestionError",
    "ExpressionError",
}


def public_callables():
    """Yield the public functions and classes, and the methods of these, each where it is written.

    A method that overrides one has its docstring there.
    """
    for name in set(eptaro.__all__) - ERRORS - {"__version__", "Column"}:
        found = getattr(eptaro, name)
        yield name, found
        if not inspect.isclass(found):
            continue
        written: dict[str, object] = {}
        for kind in found.__mro__:
            if kind.__module__.startswith("eptaro"):
                written |= {
                    member: value for member, value in vars(kind).items() if member[0] != "_"
                }
        for member, value in written.items():
            plain = getattr(value, "__func__", value)
            if callable(plain) and not isinstance(plain, property):
                yield f"{name}.{member}", plain
