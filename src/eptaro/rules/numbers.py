"""`NumberRules`: how numbers are written in text; the default takes only what is plain."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, TypeAlias, get_args

from eptaro.errors import MeasureError, unknown
from eptaro.option import option

Mark: TypeAlias = Literal[",", ".", " ", "'"]


@dataclass(frozen=True)
class NumberRules:
    """How numbers are written in columns of text.

    Without any rule: digits with a sign and a decimal mark, such as -1234.50.

    Parameters
    ----------
    decimal : {".", ","}, optional
        The decimal mark; unset, a point, or that of the files.
    thousands : {",", ".", " ", "'"}, optional
        The mark between groups of three digits; a space is also a narrow or a fixed one.
    strip : str or sequence of str
        What may precede or follow a number and is not part of it: `$`, `EUR`, `kg`.
    brackets : bool
        Numbers in brackets are negative: (12) is -12.
    trailing_minus : bool
        The sign may follow: 12- is -12.
    percent : bool
        Numbers before a percent sign are hundredths: 5% is 0.05.
    blanks : str or sequence of str
        Words that mean that there is no number, such as `NA`.

    Raises
    ------
    MeasureError
        For a rule that cannot be.

    Examples
    --------
    >>> NumberRules(decimal=",", thousands=".").thousands
    '.'
    """

    decimal: Literal[".", ","] | None = None
    thousands: Mark | None = option(
        None, help="The mark between groups of three digits.", heading="files"
    )
    strip: Sequence[str] = option(
        (),
        help="A sign or unit beside numbers, such as $ or kg. May be given again.",
        metavar="WORD",
        heading="files",
    )
    brackets: bool = option(False, help="Numbers in brackets are negative.", heading="files")
    trailing_minus: bool = option(False, help="The sign may follow: 12-.", heading="files")
    percent: bool = option(
        False, help="Numbers before % are hundredths.", name="percents", heading="files"
    )
    blanks: Sequence[str] = option(
        (),
        help="A word for no number, such as NA. May be given again.",
        metavar="WORD",
        name="blank-number",
        heading="files",
    )

    def __post_init__(self) -> None:
        if self.decimal not in (None, ".", ","):
            raise MeasureError(f"decimal={self.decimal!r} is neither . nor ,")
        if self.thousands is not None and self.thousands not in get_args(Mark):
            raise MeasureError(unknown("value for thousands", self.thousands, get_args(Mark)))
        if self.thousands is not None and self.thousands == (self.decimal or "."):
            raise MeasureError("decimal and thousands are the same mark; give two different ones")
        for name in ("strip", "blanks"):
            given = getattr(self, name)
            words = (given,) if isinstance(given, str) else tuple(given)
            if name == "strip" and any(not w.strip() or _DIGITS & {*w} for w in words):
                raise MeasureError(f"strip={list(words)} must be words or signs without digits")
            object.__setattr__(self, name, words)


_DIGITS = {*"0123456789"}
Numbers: TypeAlias = 'NumberRules | Literal["strict", "infer"] | None'


def number_rules(given: object) -> NumberRules | Literal["infer"] | None:
    """Return the rules given, `infer`, or None where only plain numbers are taken."""
    if given is None or given == "strict":
        return None
    if given == "infer":
        return "infer"
    if not isinstance(given, NumberRules):
        raise MeasureError(
            f"numbers={given!r} is neither strict, infer nor NumberRules(thousands=',')"
        )
    return given
