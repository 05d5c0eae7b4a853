"""`Record`: the base of dataclasses that are compared and shown by their fields; `record` makes
a class one that nobody changes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields
from functools import cache
from operator import attrgetter
from typing import Any, TypeVar, dataclass_transform, overload

T = TypeVar("T")


@overload
def record(kind: type[T]) -> type[T]: ...
@overload
def record(*, kw_only: bool) -> Callable[[type[T]], type[T]]: ...
@dataclass_transform(frozen_default=True, eq_default=False, field_specifiers=(field,))
def record(kind: type[T] | None = None, *, kw_only: bool = False) -> Any:
    """Make a class a dataclass whose fields nobody sets again, as the type checker sees to.

    What users hold is `dataclass(frozen=True)`, which also refuses it when it runs: that compiles
    two more methods for each class, and of the hundred classes that a command loads takes a tenth
    of its time.
    """
    make = dataclass(eq=False, repr=False, kw_only=kw_only)
    return make if kind is None else make(kind)


class Record:
    """A frozen dataclass that equals another of the same fields, and is shown as it is written.

    `dataclass` would compile these methods for each class anew: of the hundred classes that a
    command loads that took a quarter of its time. Give it `eq=False, repr=False` beside `frozen`.

    >>> from dataclasses import dataclass
    >>> @dataclass(frozen=True, eq=False, repr=False)
    ... class Port(Record):
    ...     name: str
    ...     berths: int = 1
    >>> class Harbour(Port):
    ...     pass
    >>> Port("Norrow", 2), Port("Norrow") == Port("Norrow", 1), Harbour("Norrow") == Port("Norrow")
    (Port(name='Norrow', berths=2), True, False)
    """

    __slots__ = ()

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if other.__class__ is not self.__class__:
            return NotImplemented
        kind: Any = self.__class__
        values = _compared_values(kind)
        return bool(values(self) == values(other))

    def __hash__(self) -> int:
        kind: Any = self.__class__
        return hash(_hashed_values(kind)(self))

    def __repr__(self) -> str:
        own: Any = self
        parts = (f"{part.name}={getattr(own, part.name)!r}" for part in fields(own) if part.repr)
        return f"{self.__class__.__qualname__}({', '.join(parts)})"


def _values(names: list[str]) -> Callable[[Any], Any]:
    return attrgetter(*names) if names else lambda _: ()


@cache
def _compared_values(kind: Any) -> Callable[[Any], Any]:
    """Return what takes the values by which such records are compared."""
    return _values([field.name for field in fields(kind) if field.compare])


@cache
def _hashed_values(kind: Any) -> Callable[[Any], Any]:
    """Return what takes the values by which such records are hashed."""
    return _values(
        [field.name for field in fields(kind) if field.compare and field.hash is not False]
    )
