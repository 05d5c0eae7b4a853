"""Figures written as files; in SVG every mark has a title, which shows where one points at it."""

from __future__ import annotations

import io
import re
import warnings
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from eptaro.outputs.files import replace_whole
from eptaro.pictures.theme import check_ending

_SVG = "http://www.w3.org/2000/svg"
_LINK = "http://www.w3.org/1999/xlink"
_USED = (f"{{{_SVG}}}use", f"{{{_SVG}}}path")

Tips = Mapping[str, Sequence[str]]


def save(figure: Any, path: str | Path, tips: Tips) -> Path:
    """Save a figure whole or not at all; the ending decides the form."""
    target = check_ending(path)
    form = target.suffix.lower()[1:]

    def fill(beside: Path) -> None:
        if form == "svg":
            beside.write_text(as_svg(figure, tips), encoding="utf-8")
        else:
            _written(figure, beside, form)

    return replace_whole(target, fill)


def as_png(figure: Any) -> bytes:
    """Return a figure as PNG."""
    sink = io.BytesIO()
    _written(figure, sink, "png")
    return sink.getvalue()


def _written(figure: Any, sink: Any, form: str) -> None:
    with warnings.catch_warnings():  # a letter that no font has is drawn as a box
        warnings.filterwarnings("ignore", "Glyph .* missing")
        figure.savefig(sink, format=form, facecolor=figure.get_facecolor())


def as_svg(figure: Any, tips: Tips, prefix: str = "") -> str:
    """Return a figure as SVG with the titles of its marks; a `prefix` keeps the names in it apart
    from those of other figures on the same page.
    """
    sink = io.BytesIO()
    _written(figure, sink, "svg")
    for name, space in (("", _SVG), ("xlink", _LINK)):
        ElementTree.register_namespace(name, space)
    root = ElementTree.fromstring(sink.getvalue())
    for element in root.iter():
        texts = tips.get(element.get("id", ""))
        if texts:
            _title(element, texts)
    text = ElementTree.tostring(root, encoding="unicode")
    if prefix:
        return re.sub(r'(\bid="|href="#|url\(#)', rf"\g<1>{prefix}", text)
    return f'<?xml version="1.0" encoding="utf-8" standalone="no"?>\n{text}\n'


def _title(group: ElementTree.Element, texts: Sequence[str]) -> None:
    """Give a mark its title, or each of as many marks in a group its own."""
    marks = [group]
    if len(texts) > 1:
        parents = [group, *(part for part in group.iter() if part.tag == f"{{{_SVG}}}g")]
        marks = next(
            (
                found
                for parent in parents
                if len(found := [child for child in parent if child.tag in _USED]) == len(texts)
            ),
            [],
        )
    for mark, text in zip(marks, texts, strict=False):
        title = ElementTree.Element(f"{{{_SVG}}}title")
        title.text = text
        mark.insert(0, title)
