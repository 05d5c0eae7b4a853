"""The options on the picture of an answer."""

from __future__ import annotations

from pathlib import Path
from typing import get_args

import click

from eptaro.cli.help import PICTURES, option
from eptaro.core.tables.outlets import ThemeName

PICTURE_OPTIONS = (
    option(
        PICTURES,
        "--plot",
        type=click.Path(path_type=Path),
        metavar="FILE",
        default=None,
        help="Draw the answer as well: .png, .svg or .pdf.",
    ),
    option(
        PICTURES,
        "--kind",
        metavar="KIND",
        default=None,
        help="With --plot: recaps as bars, lines, areas, dots or a sheet of days; windows as "
        "lines, areas, dots; comparisons as bars, by group also as changes or steps; running "
        "totals of days also as a sheet.",
    ),
    option(
        PICTURES,
        "--measure-drawn",
        metavar="NAME",
        default=None,
        rare=True,
        help="With --plot: this measure alone.",
    ),
    option(
        PICTURES,
        "--title",
        metavar="TEXT",
        default=None,
        rare=True,
        help="With --plot: a title in place of the headline.",
    ),
    option(
        PICTURES,
        "--unit",
        metavar="TEXT",
        default="",
        rare=True,
        help="With --plot: what the numbers are in.",
    ),
    option(
        PICTURES,
        "--size",
        type=(int, int),
        metavar="WIDTH HEIGHT",
        default=(1280, 800),
        show_default="1280 800",
        rare=True,
        help="With --plot: its size in dots.",
    ),
    option(
        PICTURES,
        "--theme",
        type=click.Choice(get_args(ThemeName)),
        metavar="THEME",
        default="light",
        show_default=True,
        rare=True,
        help="With --plot: light, dark or print.",
    ),
)
