"""`Record`: the base of dataclasses that are compared and shown by their fields; `record` makes
a class one that nobody changes.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import FrozenInstanceError, dataclass, field, fields, make_dataclass
from functools import cache
from operator import attrgetter
from typing import Any, TypeVar, dataclass_transform, overload

T = TypeVar("T")


@overload
def record(kind: type[T]) -> type[T]: ...
@overload
def record(*, kw_only: bool = False, guarded: bool = False) -> Callable[[type[T]], type[T]]: ...
@dataclass_transform(frozen_default=True, eq_default=False, field_specifiers=(field,))
def record(kind: type[T] | None = None, *, kw_only: bool = False, guarded: bool = False) -> Any:
    """Make a class a dataclass whose fields nobody sets again, as the type checker sees to.

    What users hold is `guarded`, which refuses it when it runs as well. How a record is made is
    compiled when the first is: `dataclass` would do so for each of the hundred classes that a
    command loads, of which it makes forty, and take a quarter of its time.

    >>> @record(guarded=True)
    ... class Berth:
    ...     name: str
    ...     metres: int = 90
    >>> berth = Berth("North")
    >>> berth.metres = 80
    Traceback (most recent call last):
    dataclasses.FrozenInstanceError: cannot assign to field 'metres'
    """

    def make(kind: Any) -> Any:
        dataclass(init=False, eq=False, repr=False, kw_only=kw_only)(kind)
        if "__init__" not in kind.__dict__:
            inherited = kind.__setattr__ is _refuse_to_set
            kind.__init__ = _LateInit(kind, guarded=guarded or inherited)
        if kind.__repr__ is object.__repr__:
            kind.__repr__ = Record.__repr__
        if guarded:
            kind.__setattr__, kind.__delattr__ = _refuse_to_set, _refuse_to_delete
        return kind

    return make if kind is None else make(kind)


class _LateInit:
    """The `__init__` of a record before it is compiled."""

    def __init__(self, owner: Any, *, guarded: bool) -> None:
        self._owner, self._guarded = owner, guarded

    def __get__(self, own: Any, kind: Any = None) -> Any:
        owner = self._owner
        namespace = {n: getattr(owner, n) for n in ("__post_init__",) if hasattr(owner, n)}
        twin: Any = make_dataclass(
            owner.__name__,
            [(part.name, part.type, part) for part in fields(owner)],
            namespace=namespace,
            eq=False,
            repr=False,
            frozen=self._guarded,
        )
        twin.__init__.__qualname__ = f"{owner.__qualname__}.__init__"
        owner.__init__ = twin.__init__
        return twin.__init__ if own is None else twin.__init__.__get__(own)


def _refuse_to_set(own: object, name: str, value: object) -> None:
    raise FrozenInstanceError(f"cannot assign to field {name!r}")


def _refuse_to_delete(own: object, name: str) -> None:
    raise FrozenInstanceError(f"cannot delete field {name!r}")


class Record:
    """A frozen dataclass that equals another of the same fields, and is shown as it is written.

    `dataclass` would compile these methods for each class anew: of the hundred classes that a
    command loads that took a quarter of its time.

    >>> @record(guarded=True)
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
