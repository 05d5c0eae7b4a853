"""Docstrings, comments, messages and pages avoid the words that need a second reading."""

import ast
import io
import re
import tokenize
import unittest
from pathlib import Path

ROOT = Path(__file__).parents[1]
INSTEAD = {
    r"tell|tells|told": "report, describe, name, print",
    r"stand|stands": "is, are, appears",
    r"comes? to|came to|came of": "is, equals, results in",
    r"reckon\w*|worked out|works? out": "calculate",
    r"quiet": "without transactions, empty",
    r"aside": "rejected",
    r"days known|known days": "covered days, the coverage",
    r"faults? of ours": "internal error",
    r"made again": "calculated again",
    r"the ways? in|on the way": "name the thing",
    r"by then": "by that date, at this point",
}
"""Patterns of words, and what to write instead."""
ANY = re.compile("|".join(INSTEAD), re.I)
EXCEPTIONS = {("quiet", "src/eptaro/cli/messages.py"): "the option --quiet"}
"""Words of a pattern in a file, and why they are right there."""


def prose(path):
    """Yield the texts of a file that people read, each with its line."""
    text = path.read_text(encoding="utf-8")
    if path.suffix == ".md":
        yield 1, re.sub(r"```.*?```", lambda m: "\n" * m[0].count("\n"), text, flags=re.DOTALL)
        return
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            yield node.lineno, re.sub(r"^ *>>> .*$", "", node.value, flags=re.MULTILINE)
    if "#" not in text:
        return
    for token in tokenize.generate_tokens(io.StringIO(text).readline):
        if token.type == tokenize.COMMENT:
            yield token.start[0], token.string


class Words(unittest.TestCase):
    """The list of words, over everything that people read."""

    def test_words_that_need_a_second_reading_do_not_come_back(self):
        pages = [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]
        found = []
        for path in (*(ROOT / "src").rglob("*.py"), *pages):
            name = path.relative_to(ROOT).as_posix()
            for line, text in prose(path):
                read = re.sub(r"`[^`\n]*`", "", text)  # names in code
                if not ANY.search(read):
                    continue
                for pattern, instead in INSTEAD.items():
                    for hit in re.finditer(rf"(?<![\w.-])(?:{pattern})(?![\w(=-])", read, re.I):
                        at = line + read[: hit.start()].count("\n")
                        if (hit[0], name) not in EXCEPTIONS:
                            found.append(f"{name}:{at}: {hit[0]!r}; write: {instead}")
        self.assertEqual(found, [], "\n".join([f"{len(found)} words:", *found]))
