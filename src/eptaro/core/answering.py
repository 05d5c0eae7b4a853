"""`Answering`: facts that answer; every verb is a method."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from eptaro.core.calendars.period import Period
from eptaro.core.questions.in_parts import in_own_calendars
from eptaro.core.questions.view import Facts
from eptaro.core.tables.table import Table

if TYPE_CHECKING:
    from eptaro.core.verbs.accumulate import accumulate
    from eptaro.core.verbs.card import card
    from eptaro.core.verbs.compare.compare import compare
    from eptaro.core.verbs.recap.recap import recap
    from eptaro.core.verbs.rhythm import rhythm
    from eptaro.core.verbs.spread import histogram, spread
    from eptaro.core.verbs.trail import trail


class Verb:
    """A method whose module is imported when it is first asked for: few programs need all."""

    def __init__(self, module: str) -> None:
        self._module = f"eptaro.core.verbs.{module}"

    def __set_name__(self, owner: type, name: str) -> None:
        self._name = name

    def __get__(self, answering: Answering | None, owner: type[Answering]) -> Any:
        verb = in_own_calendars(getattr(import_module(self._module), self._name))
        setattr(Answering, self._name, verb)
        return getattr(owner if answering is None else answering, self._name)


class Answering(Facts):
    """Folded transactions that can be asked; where groups keep calendars, each in its own."""

    if TYPE_CHECKING:
        recap = in_own_calendars(recap)
        accumulate = in_own_calendars(accumulate)
        trail = in_own_calendars(trail)
        compare = in_own_calendars(compare)
        card = in_own_calendars(card)
        rhythm = in_own_calendars(rhythm)
        spread = in_own_calendars(spread)
        histogram = in_own_calendars(histogram)
    else:
        recap, accumulate, trail = Verb("recap.recap"), Verb("accumulate"), Verb("trail")
        compare, card, rhythm = Verb("compare.compare"), Verb("card"), Verb("rhythm")
        spread, histogram = Verb("spread"), Verb("spread")

    @property
    def queries(self) -> tuple[str, ...]:
        """What a database was asked, where it folded the book."""
        return self.folded.queries

    @property
    def aside(self) -> Table:
        """The rows whose date could not be read: row, value and reason."""
        return self.folded.aside or Table([])

    @property
    def notes(self) -> tuple[str, ...]:
        """What was decided while reading, and on what evidence."""
        return self.folded.notes

    def prove(self, table: Table, *, sample: int = 40) -> int:
        """Make a random sample of a table's numbers again, one transaction at a time.

        Parameters
        ----------
        table : Table
            An answer of this book.
        sample : int
            How many rows to draw, beside the last one and those of totals.

        Returns
        -------
        int
            How many numbers agreed.

        Raises
        ------
        EptaroError
            With the whole trace, where a number was not found again.
        QuestionError
            Where the table has no numbers that can be traced.
        """
        from eptaro.core.proof.prove import prove  # what few programs need is loaded when they do

        return prove(table, sample)

    def latest(self, level: str) -> Period:
        """Return the period of a level that holds the last day of the coverage.

        Parameters
        ----------
        level : str
            A level of the calendar.

        Returns
        -------
        Period
            The period.

        Examples
        --------
        >>> import eptaro as ep
        >>> book = ep.Daybook({"on": ["2025-08-20"]}, date="on", measures="n=count()")
        >>> str(book.latest("quarter"))
        '2025-Q3'
        """
        return self.calendar.period_of(self.coverage.last, level)
