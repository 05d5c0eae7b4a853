"""Draws docs/rooms.svg: the rooms of the package and which imports which, read from the imports.

An arrow that others lead along already is left out: a room may import whatever it reaches.

Run as `python docs/rooms.py`; a test holds that the drawing is current.
"""

from __future__ import annotations

import ast
from html import escape
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src" / "eptaro"
TARGET = Path(__file__).parent / "rooms.svg"
FLOORS: tuple[dict[str, float], ...] = (  # rooms and how far to the right they stand
    {"cli": 0.3, "demo": 0.85},
    {"book_set": 0.13},
    {"daybook": 0.13, "functions": 0.6, "extend": 0.9},
    {"book": 0.36},
    {"sharded": 0.13, "reports": 0.48, "table": 0.85},
    {"engines": 0.13, "storage": 0.4, "plots": 0.7},
    {"inputs": 0.2, "outputs": 0.6},
    {"rules": 0.13, "presentation": 0.5, "core/proof": 0.85},
    {"core/verbs": 0.5},
    {"core/query": 0.5},
    {"core/measures": 0.7},
    {"core/aggregation": 0.7},
    {"core/dimension": 0.3, "core/expressions": 0.6},
    {"core/results": 0.5},
    {"core/kernels": 0.5},
    {"core/calendars": 0.5},
)
WIDTH, HEIGHT, GAP, TALL, WIDE = 1180, 1000, 26, 46, 210
INK, LINE, PAPER, OUTER, CORE = "#1d2b36", "#8aa0ad", "#ffffff", "#e3edf2", "#f4ead9"


def room_of(module: str) -> str | None:
    """Return the room that a module stands in; None for what every room may use."""
    parts = module.split(".")
    if len(parts) < 2 or parts[0] != "eptaro":
        return None
    names = {name for floor in FLOORS for name in floor}
    for name in ("/".join(parts[1:3]), parts[1]):
        if name in names:
            return name
    return None


def arrows() -> dict[str, set[str]]:
    """Return which other rooms each room imports, wherever in its files: not for types alone."""
    found: dict[str, set[str]] = {name: set() for floor in FLOORS for name in floor}
    for path in sorted(SOURCE.rglob("*.py")):
        module = ".".join(("eptaro", *path.relative_to(SOURCE).with_suffix("").parts))
        own = room_of(module)
        if own is None:
            continue
        tree = ast.parse(path.read_text(encoding="utf-8"))
        for node in ast.walk(tree):
            if isinstance(node, ast.If) and ast.unparse(node.test) == "TYPE_CHECKING":
                node.body = [ast.Pass()]
        for node in ast.walk(tree):
            other = room_of(node.module or "") if isinstance(node, ast.ImportFrom) else None
            if other not in (own, None):
                found[own].add(str(other))
    return found


def needed(found: dict[str, set[str]]) -> list[tuple[str, str]]:
    """Return the arrows that no way over other rooms stands for."""

    def reached(name: str) -> set[str]:
        return found[name].union(*(reached(other) for other in found[name]))

    return [
        (own, other)
        for own, others in found.items()
        for other in sorted(others)
        if not any(other in reached(between) for between in others)
    ]


def places() -> dict[str, tuple[float, float]]:
    """Return the middle of each room: a floor below the other, core below the rest."""
    step = (HEIGHT - 2 * GAP) / len(FLOORS)
    found = {}
    for floor, names in enumerate(FLOORS):
        for name, right in names.items():
            found[name] = (WIDTH * right, GAP + step * (floor + 0.5))
    return found


def drawing() -> str:
    """Return the drawing as SVG."""
    at, lines, boxes = places(), [], []
    for own, other in needed(arrows()):
        (x1, y1), (x2, y2) = at[own], at[other]
        level = y1 == y2
        side = WIDE / 2 if x2 > x1 else -WIDE / 2
        begin = (x1 + side, y1) if level else (x1, y1 + TALL / 2)
        end = (x2 - side, y2) if level else (x2, y2 - TALL / 2)
        title = f"{own} imports {other}"
        lines.append(
            f'<line x1="{begin[0]:.0f}" y1="{begin[1]:.0f}" x2="{end[0]:.0f}" y2="{end[1]:.0f}" '
            f'stroke="{LINE}" stroke-width="1.8" marker-end="url(#head)">'
            f"<title>{escape(title)}</title></line>"
        )
    for name, (x, y) in at.items():
        files = [*(SOURCE / name).rglob("*.py")] or [SOURCE / f"{name}.py"]
        fill = CORE if name.startswith("core/") else OUTER
        boxes.append(
            f'<rect x="{x - WIDE / 2:.0f}" y="{y - TALL / 2:.0f}" width="{WIDE}" height="{TALL}" '
            f'rx="6" fill="{fill}" stroke="{INK}"/>'
            f'<text x="{x:.0f}" y="{y - 3:.0f}" font-size="15" font-weight="bold">{name}</text>'
            f'<text x="{x:.0f}" y="{y + 14:.0f}" font-size="11">{len(files)} '
            f"file{'s' * (len(files) > 1)}</text>"
        )
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {HEIGHT}" '
        f'font-family="sans-serif" fill="{INK}" text-anchor="middle" role="img" '
        f'aria-label="The rooms of the package; every line leads down to what a room imports">\n'
        f'<defs><marker id="head" viewBox="0 0 10 10" refX="9" refY="5" markerWidth="7" '
        f'markerHeight="7" orient="auto"><path d="M0 0 10 5 0 10z" fill="{LINE}"/>'
        "</marker></defs>\n"
        f'<rect width="{WIDTH}" height="{HEIGHT}" fill="{PAPER}"/>\n'
        + "\n".join([*lines, *boxes])
        + "\n</svg>\n"
    )


if __name__ == "__main__":
    TARGET.write_text(drawing(), encoding="utf-8")
