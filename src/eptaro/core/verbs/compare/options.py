"""What a comparison was asked, checked as far as it can be without looking at the data."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, TypeAlias, get_args

from eptaro.core.tables.answer import Question
from eptaro.core.verbs.compare.counterparts import Match
from eptaro.core.verbs.goals import Goals, Pace
from eptaro.errors import QuestionError, check_texts, unknown

Align: TypeAlias = Literal["place", "restated"]
Kind: TypeAlias = Literal["days", "workdays", "weekdays"]
ALIGNS: tuple[Align, ...] = get_args(Align)
KINDS: tuple[Kind, ...] = get_args(Kind)


_MOST_PRIORS = 200  # prior periods that a mean is of


@dataclass(frozen=True)
class Compare(Question):
    """What a comparison was asked; see `compare` for what each option means.

    `back` holds one amount as it was written, or several that stand side by side.
    """

    verb = "compare"
    per: str
    back: tuple[str, ...] = ("1 year",)
    against: str | None = None
    mean_of: int = 1
    to_date: bool = False
    match: Match = "date"
    align: Align = "place"
    periods: int = 1
    every: str | None = None
    trailing: str | None = None
    details: bool = False
    effects: Kind | None = None
    goals: Goals | None = None
    pace: Pace = "straight"
    sort: str | None = None

    @property
    def before(self) -> str:
        """What is on the prior side, in words."""
        return ", ".join(self.back) if self.against is None else f"against {self.against}"

    def check(self) -> None:
        """Raise `QuestionError` for options that cannot be, or cannot be combined."""
        check_texts(per=self.per, against=self.against, sort=self.sort, every=self.every)
        if self.align not in ALIGNS:
            raise QuestionError(unknown("value for align", self.align, ALIGNS))
        if not self.to_date:
            given = (self.match, self.periods, self.every)
            for name, value, plain in zip(_TO_DATE, given, ("date", 1, None), strict=True):
                if value != plain:
                    raise QuestionError(f"{name} belongs to to_date=True; whole periods need none")
        if self.trailing is not None:
            given_too = {"to_date": self.to_date, "against": self.against, "goals": self.goals}
            for name in (name for name, value in given_too.items() if value):
                raise QuestionError(f"trailing windows go with back, not with {name}")
        self._check_mean()
        if self.against and self.align != "place":
            raise QuestionError("align='restated' goes with back='1 year', not with against")

    def _check_mean(self) -> None:
        if not 1 <= self.mean_of <= _MOST_PRIORS:
            raise QuestionError(f"mean_of={self.mean_of} must be 1 to {_MOST_PRIORS}")
        others = {
            "against": self.against is not None,
            "effects": self.effects is not None,
            "align": self.align != "place",
        }
        for name in (name for name, given in others.items() if given and self.mean_of > 1):
            raise QuestionError(f"mean_of and {name} do not go together; leave one out")


_TO_DATE = ("match", "periods", "every")
