"""How a column is shown: its heading, its priority, and the format of its values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from decimal import ROUND_HALF_UP, Decimal, InvalidOperation, localcontext
from enum import IntEnum

from eptaro.errors import MeasureError, unknown
from eptaro.option import option


class Priority(IntEnum):
    """How soon a column is shown: keys and answers always, the others where there is room."""

    KEY = 0
    ANSWER = 1
    BESIDE = 2
    DAYS = 3
    DETAIL = 4


@dataclass(frozen=True)
class DisplayHint:
    """How a column is shown on a screen; files have its exact name.

    Parameters
    ----------
    words : str
        What is above it.
    rank : Rank
        How soon it is shown.
    of : str
        The measure that it belongs to; named as well where there are several.
    ends : str
        Of a column of first days, the one with the last days, which is shown with it.
    rare : bool
        Whether it is shown only where it holds for some row.
    drawn : bool
        Whether it is a share or a change, which a small bar shows as well.
    """

    words: str
    rank: Priority = Priority.ANSWER
    of: str = ""
    ends: str = ""
    rare: bool = False
    drawn: bool = False

    def against(self, what: str) -> DisplayHint:
        """Return the face with what its values are set against."""
        return replace(self, words=f"{self.words}, {what}")


PERIOD = DisplayHint("period", Priority.KEY)
FIRST = DisplayHint("days", Priority.DAYS, ends="last")
LAST = DisplayHint("last day", Priority.DAYS)
COMPLETE = DisplayHint("complete", Priority.DETAIL)
DATE = DisplayHint("date", Priority.KEY)


_DIGITS = 400  # of the longest float


@dataclass(frozen=True)
class Format:
    """A sign before the number (such as a currency's), its decimals, or a percentage.

    Values themselves do not change, in files neither.

    Parameters
    ----------
    sign : str
        What is before the number.
    places : int, optional
        Decimals shown, 0 to 12.
    percent : bool
        Whether it is shown as a percentage.

    Raises
    ------
    MeasureError
        For decimals out of range.

    Examples
    --------
    >>> Format(sign="€", places=0).shown(1234.5)
    '€1,235'
    >>> Format(percent=True, places=1).shown(0.125)
    '12.5%'
    """

    sign: str = ""
    places: int | None = option(None, help="Decimals shown.", least=0, most=12)
    percent: bool = False

    def __post_init__(self) -> None:
        if self.places is not None and not 0 <= self.places <= 12:
            raise MeasureError(f"places={self.places} must be 0 to 12")

    def shown(self, value: float, decimals: int = 2) -> str:
        """Return a number as people read it; `decimals` serve where the format has none.

        Parameters
        ----------
        value : float
            The number.
        decimals : int
            Decimals where the format has none.

        Returns
        -------
        str
            The number as people read it.
        """
        decimals = decimals if self.places is None else self.places
        if self.percent:
            return f"{rounded(value, decimals, 100)}%"
        minus = "-" if value < 0 else ""
        return f"{minus}{self.sign}{rounded(abs(value), decimals)}"


def rounded(value: float | Decimal, places: int, times: int = 1) -> str:
    """Return a number with so many decimals, halves away from zero as people round, and with
    commas between thousands.

    A float is taken for the shortest decimal that gives it back: what people see.

    >>> rounded(0.125, 2), rounded(2.675, 2), rounded(-2.5, 0), rounded(0.285, 0, 100)
    ('0.13', '2.68', '-3', '29')
    """
    try:
        exact = value if isinstance(value, int | Decimal) else Decimal(repr(float(value)))
        with localcontext(prec=_DIGITS):
            number = Decimal(exact) * times
            return f"{number.quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP):,f}"
    except InvalidOperation:  # infinite, or with more digits than there are
        return f"{value * times:,.{places}f}"


def check_formats(formats: Mapping[str, Format], measures: list[str]) -> Mapping[str, Format]:
    """Return the formats; raises `MeasureError` for one of a measure that is not there."""
    for name in formats:
        if name not in measures:
            raise MeasureError(f"formats: {unknown('measure', name, measures)}")
    return formats
