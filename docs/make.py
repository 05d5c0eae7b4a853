"""Writes the pages that are made from the code: reference.md and columns.json.

Run as `python docs/make.py`; a test holds that they are current.
"""

from __future__ import annotations

import inspect
import json
import re
from pathlib import Path

import eptaro as ep
from eptaro.core.measures.catalogue import CATALOGUE

FOLDER = Path(__file__).parent
ERRORS = (
    "EptaroError",
    "CalendarError",
    "DateError",
    "InputError",
    "MeasureError",
    "QuestionError",
)
HEAD = "<!-- made by docs/make.py from the docstrings; change those -->\n"


def reference() -> str:
    """Return the reference: every public name with its signature and docstring."""
    parts = [HEAD, "# Reference", ""]
    for name in ep.__all__:
        found = getattr(ep, name)
        if name.startswith("__"):
            continue
        parts += _entry(f"## {name}", name, found)
        if inspect.isclass(found) and name not in ERRORS:
            for member, value in sorted(_members(found).items()):
                plain = value.__func__ if isinstance(value, classmethod | staticmethod) else value
                plain = plain.fget if isinstance(plain, property) else plain
                if not member.startswith("_") and callable(plain) and inspect.getdoc(plain):
                    parts += _entry(f"### {name}.{member}", member, plain)
    return "\n".join(parts)


def _members(found: type) -> dict[str, object]:
    """Return the members of a class, also those of its bases of this package."""
    own: dict[str, object] = {}
    for kind in reversed(found.__mro__):
        if kind.__module__.startswith("eptaro"):
            own |= vars(kind)
    return own


def _entry(heading: str, name: str, found: object) -> list[str]:
    made = [heading, ""]
    if callable(found) and not (inspect.isclass(found) and issubclass(found, Exception)):
        try:
            signature = re.sub(r"eptaro(\.\w+)+\.", "", str(inspect.signature(found))).replace(
                "'", ""
            )
            signature = re.sub(r"<function .*? at 0x[0-9a-f]+>|<factory>", "...", signature)
        except ValueError:
            signature = "()"
        made += ["```text", f"{name}{signature}", "```", ""]
    return [*made, _doc(inspect.getdoc(found) or ""), ""]


def _doc(text: str) -> str:
    """Return a docstring as Markdown: sections as lists, examples set apart as code."""
    lines, code, section = [], False, ""
    source = text.splitlines()
    for line, after in zip(source, [*source[1:], ""], strict=True):
        if after and set(after) == {"-"} and len(after) == len(line):
            section = line
            lines.append(f"**{line}**")
        elif line and set(line) == {"-"} and section:
            lines.append("")
        elif section in ("Parameters", "Returns", "Raises") and line and not line.startswith(" "):
            name, _, kind = line.partition(" : ")
            lines.append(f"- `{name}`" + (f" ({kind})" if kind else "") + ":")
        elif section in ("Parameters", "Returns", "Raises") and line:
            lines.append(f"  {line.strip()}")
        else:
            if line.startswith(">>>") and not code:
                lines.append("```pycon")
                code = True
            elif code and not line.strip():
                lines.append("```")
                code = False
            lines.append(line)
    return "\n".join([*lines, *(["```"] if code else [])])


def columns() -> str:
    """Return the columns of every answer: name, kind, unit and meaning."""
    book = ep.Daybook(
        {"at": ["2024-01-30 10:00", "2025-01-31 11:00"], "shop": ["a", "b"], "x": [1, 2]},
        date="at", by="shop", measures="takings=sum(x)",
    )  # fmt: skip
    answers = {
        "recap": book.recap("month", by="shop", shares=True, ranks=True, subtotals="year"),
        "recap, every entry": book.recap("month", by="shop", every="entry"),
        "accumulate": book.accumulate("year", by="shop", goals={"2025": 5}),
        "card": book.card(by="shop"),
        "trail": book.trail("6 months", every="month", by="shop"),
        "compare": book.compare("month", by="shop", details=True, effects="workdays"),
        "compare, day by day": book.compare("month", to_date=True, every="day", by="shop"),
        "compare, mean of several": book.compare("month", mean_of=2),
        "rhythm": book.rhythm("weekday", "hour", by="shop"),
        "spread": book.spread("x", "weekday"),
        "histogram": book.histogram("x", "weekday"),
        "inspect": ep.inspect({"on": ["2025-01-01"]}, date="on"),
        "dimension": ep.dimension("2025-01-01", "2025-01-31", columns="all", as_of="2025-01-05"),
    }
    told = {name: list(table.describe().rows()) for name, table in answers.items()}
    return json.dumps(told, indent=1, ensure_ascii=False) + "\n"


def measures() -> str:
    """Return the page of the calculations that measures are made of."""
    head = ["name", "what it is", "unit", "parts add up", "the fold keeps"]
    lines = [HEAD, "# Measures", "", "| " + " | ".join(head) + " |", "|---" * len(head) + "|"]
    for name, one in CATALOGUE.items():
        said = " ".join((inspect.getdoc(one) or "").split())
        argument = (
            "column, share" if one.takes_share else "column" if one.needs_column else "[column]"
        )
        adds = "yes" if one.adds_up else "no: totals are worked out over all their transactions"
        lines.append(
            f"| `{name}({argument})` | {said} | {one.unit} | {adds} | {', '.join(one.kept)} |"
        )
    return "\n".join([*lines, ""])


PAGES = {"reference.md": reference, "columns.json": columns, "measures.md": measures}

if __name__ == "__main__":
    for file, maker in PAGES.items():
        (FOLDER / file).write_text(maker(), encoding="utf-8")
