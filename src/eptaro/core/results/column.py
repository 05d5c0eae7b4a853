"""`Column`: named values with validity, kind, unit and description.

| kind    | stored as                                   | handed out as, masked where blank |
|---------|---------------------------------------------|-----------------------------------|
| integer | int64 or int32                              | the same                          |
| decimal | int64 in units of 10**-scale                | `decimal.Decimal` objects         |
| float   | float64                                     | float64                           |
| text    | int32 codes into `choices`, -1 where blank  | `str` objects                     |
| date    | int32 day ordinals                          | datetime64[D]                     |
| flag    | bool                                        | bool                              |

A decimal is a whole number of its smallest unit, so sums of money are exact. While it is being
calculated, a number may be a Python integer of any size; a table brings it to 64 bits.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from decimal import Decimal
from functools import cache, cached_property, partial
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

import numpy as np
from numpy.typing import ArrayLike, NDArray

from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.days import FIRST_DAY, LAST_DAY, Days, Flags, Ints, as_dates
from eptaro.core.kernels import bigint
from eptaro.core.kernels.parallel import gather, repeat, tile
from eptaro.core.results.format import DisplayHint, Format, Priority
from eptaro.errors import EptaroError, MeasureError, QuestionError
from eptaro.record import record

if TYPE_CHECKING:
    from fractions import Fraction


@record
class TiledArray:
    """Few values that represent those of many rows, which are written out when they are needed.

    Each value is that of `each` rows one after the other, and after the last one it begins anew.

    >>> rows = TiledArray(np.array([7, 9]), 2, 8)
    >>> np.asarray(rows).tolist(), int(rows[3]), rows[np.array([0, 4])].tolist()
    ([7, 7, 9, 9, 7, 7, 9, 9], 9, [7, 7])
    """

    values: NDArray[Any]
    each: int
    rows: int

    @classmethod
    def of_groups(cls, groups: int, spans: int) -> TiledArray:
        """Return the group of each row, from 0."""
        return cls(np.arange(groups), spans, groups * spans)

    @classmethod
    def of_spans(cls, values: NDArray[Any], groups: int) -> TiledArray:
        """Return what each row has of its span. `values` is `(n_spans,)`."""
        return cls(values, 1, groups * len(values))

    def __len__(self) -> int:
        return self.rows

    def __getitem__(self, rows: Any) -> Any:
        """Return the values of one row, or of several."""
        if isinstance(rows, slice):
            return self._written_out[rows]
        return self.values[rows // self.each % len(self.values)]

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> NDArray[Any]:
        """Return the value of every row."""
        return self._written_out if dtype is None else self._written_out.astype(dtype)

    def gather(self, values: NDArray[Any]) -> NDArray[Any]:
        """Return the values at the places that the rows name, written out.

        `values` is `(n_values,)`, the result `(n_rows,)`.

        >>> TiledArray(np.array([2, 0]), 2, 4).gather(np.array([5, 6, 7])).tolist()
        [7, 7, 5, 5]
        """
        return replace(self, values=values[self.values])._written_out

    @cached_property
    def _written_out(self) -> NDArray[Any]:
        run = repeat(self.values, self.each) if self.each > 1 else self.values
        times = self.rows // len(run) if len(run) else 0
        return run if times == 1 else tile(run, times)


ManyInts: TypeAlias = Ints | TiledArray
ManyFlags: TypeAlias = Flags | TiledArray


class LazyColumn:
    """A column of known name and length that is calculated when it is asked for.

    >>> column = LazyColumn("trips", 2, lambda: Column.of("", "integer", [3, 5]))
    >>> column.name, len(column), column.take(slice(1, 2)).compute().to_list()
    ('trips', 2, [5])
    """

    def __init__(self, name: str, rows: int, make: Callable[[], Column]) -> None:
        self.name, self._rows, self._make = name, rows, make
        self._made: Column | None = None

    def __len__(self) -> int:
        return self._rows

    def compute(self) -> Column:
        """Return the column, calculated once."""
        if self._made is None:
            self._made = self._make().named(self.name)
        return self._made

    def take(self, places: NDArray[Any] | slice) -> LazyColumn:
        """Return the values at some places, to be calculated later as well. `places` is `(n,)`."""
        rows = len(range(self._rows)[places]) if isinstance(places, slice) else len(places)
        return LazyColumn(self.name, rows, lambda: self.compute().take(places))


AnyColumn: TypeAlias = "Column | LazyColumn"


def take_lazy(columns: Sequence[AnyColumn], places: NDArray[Any] | TiledArray) -> list[LazyColumn]:
    """Return columns at some places, to be calculated when they are asked for.

    `places` is `(n,)`.
    """

    def make(column: AnyColumn) -> Column:
        whole = column if isinstance(column, Column) else column.compute()
        return whole.take(places)

    return [LazyColumn(c.name, len(places), partial(make, c)) for c in columns]


def lazy_group(
    names: Sequence[str], rows: int, make: Callable[[], list[Column]]
) -> list[LazyColumn]:
    """Return columns that are all calculated when one of them is asked for."""
    all_made = cache(make)
    return [
        LazyColumn(name, rows, lambda at=at: all_made()[at])  # type: ignore[misc]
        for at, name in enumerate(names)
    ]


ColumnKind = Literal["integer", "decimal", "float", "text", "date", "flag"]


_DTYPES: dict[ColumnKind, type[np.generic]] = {
    "integer": np.int64,
    "decimal": np.int64,
    "float": np.float64,
    "text": np.int32,
    "date": np.int32,
    "flag": np.bool_,
}


_WIDE: tuple[ColumnKind, ...] = (
    "integer",
    "decimal",
    "float",
)  # may hold Python integers for a while


NO_NUMBERS = ("text", "date")  # kinds that nothing is calculated with


@record(guarded=True)
class Column:
    """One named, typed sequence of values; `valid` is None where nothing is blank."""

    name: str
    kind: ColumnKind
    data: NDArray[Any]
    valid: Flags | None = None
    scale: int = 0
    choices: NDArray[Any] | None = None
    unit: str = ""
    description: str = ""
    format: Format | None = None
    face: DisplayHint | None = None

    @classmethod
    def of(
        cls,
        name: str,
        kind: ColumnKind,
        data: ArrayLike,
        valid: ArrayLike | None = None,
        **details: Any,
    ) -> Column:
        """Return a column of a kind, dropping a validity mask that masks nothing.

        Days outside the years 1 to 9999, where a last period may reach, are blank.

        Parameters
        ----------
        name : str
            The column's name.
        kind : str
            One of the kinds above.
        data : array
            The values as that kind is stored.
        valid : bool array of shape (n,), optional
            Where there is a value; None where all are.
        details : optional
            `scale`, `choices`, `unit`, `description`, `format`, `face`.

        Returns
        -------
        Column
            The column.

        Examples
        --------
        >>> Column.of("fare", "decimal", [705, 0], [True, False], scale=2).to_list()
        [Decimal('7.05'), None]
        """
        array = np.asarray(data)
        valid = None if valid is None else np.asarray(valid, bool)
        if array.dtype.kind == "u":
            array = array.astype(object) if bigint.largest_absolute(array) >= bigint.ROOM else array
        if array.dtype == object and kind in _WIDE:
            array = bigint.narrowed_to(array, floats=kind == "float")
        elif not (kind == "integer" and array.dtype == np.int32):  # half the room serves as well
            array = array.astype(_DTYPES[kind], copy=False)
        if (
            kind == "date"
            and array.size
            and not (array.min() >= FIRST_DAY and array.max() <= LAST_DAY)
        ):
            inside = (array >= FIRST_DAY) & (array <= LAST_DAY)
            valid = inside if valid is None else valid & inside
        if valid is not None and valid.all():
            valid = None
        if kind == "text" and valid is not None:
            array = np.where(valid, array, np.int32(-1))
        return cls(name, kind, array, valid, **details)

    @classmethod
    def text(
        cls, name: str, choices: ArrayLike, codes: ArrayLike | None = None, **details: Any
    ) -> Column:
        """Return a text column: each code picks one of `choices`, -1 is blank.

        Parameters
        ----------
        name : str
            The column's name.
        choices : array of str
            The texts that occur.
        codes : int array of shape (n,), optional
            For each row the place of its text, -1 for blank; one of None is blank as well.
        details : optional
            As for `of`.

        Returns
        -------
        Column
            A column of kind text.

        Examples
        --------
        >>> Column.text("route", ["Norrow", None]).to_list()
        ['Norrow', None]
        """
        array = np.asarray(choices)
        places = np.arange(len(array)) if codes is None else np.asarray(codes)
        if array.dtype == object and len(array):
            none = np.equal(array, np.array(None, object)).astype(bool)
            places = np.where(none[np.maximum(places, 0)], -1, places) if none.any() else places
        valid = places >= 0
        return cls.of(name, "text", places, valid, choices=array, **details)

    def __len__(self) -> int:
        return len(self.data)

    @property
    def blank(self) -> Flags:
        """Where there is no value."""
        return np.zeros(len(self), bool) if self.valid is None else ~self.valid

    def filled_mask(self, rows: slice) -> Flags | None:
        """Return which of some rows hold a value, or None where all do.

        Parameters
        ----------
        rows : slice
            Some rows.

        Examples
        --------
        >>> Column.of("trips", "integer", [3, 5], [True, False]).filled_mask(slice(0, 2)).tolist()
        [True, False]
        """
        valid = None if self.valid is None else self.valid[rows]
        if self.kind == "float":
            present = ~np.isnan(self.data[rows])
            valid = present if valid is None else valid & present
        return None if valid is None or valid.all() else valid

    def take(self, places: NDArray[Any] | TiledArray | slice) -> Column:
        """Return the column at the given places.

        Parameters
        ----------
        places : int array of shape (n,), TiledArray or slice
            Rows to pick.

        Examples
        --------
        >>> Column.of("fare", "integer", [7, 5, 2]).take([2, 0]).to_list()
        [2, 7]
        """
        if isinstance(places, TiledArray):
            valid = None if self.valid is None else places.gather(self.valid)
            return replace(self, data=places.gather(self.data), valid=valid)
        valid = None if self.valid is None else gather(self.valid, places)
        return replace(self, data=gather(self.data, places), valid=valid)

    def named(
        self, name: str, description: str | None = None, face: DisplayHint | None = None
    ) -> Column:
        """Return the same values under another name.

        Parameters
        ----------
        name : str
            The new name.
        description : str, optional
            A new description.
        face : Face, optional
            A new face.

        Examples
        --------
        >>> Column.of("", "integer", [3]).named("trips", "Number of trips").description
        'Number of trips'
        """
        text = self.description if description is None else description
        return replace(self, name=name, description=text, face=face or self.face)

    @property
    def lower_is_better(self) -> bool:
        """Whether less of it is better, as its format says."""
        return self.format is not None and self.format.better == "lower"

    def is_worse(self, change: float) -> bool:
        """Return whether a change of it is for the worse.

        Examples
        --------
        >>> delays = Column.of("delay", "integer", [3], format=Format(better="lower"))
        >>> delays.is_worse(1.0), delays.is_worse(-1.0)
        (True, False)
        """
        return change > 0 if self.lower_is_better else change < 0

    def shown_as(self, form: Format | None) -> Column:
        """Return the same values in another format.

        Parameters
        ----------
        form : Format or None
            How they are shown.

        Examples
        --------
        >>> from eptaro.core.results.format import format_column
        >>> format_column(Column.of("fare", "integer", [3]).shown_as(Format(sign="€")))
        ['€3']
        """
        return replace(self, format=form)

    def blanked(self, keep: Flags) -> Column:
        """Return the column with blanks wherever `keep` is false.

        Parameters
        ----------
        keep : bool array of shape (n,)
            Where values stay.

        Examples
        --------
        >>> Column.of("trips", "integer", [3, 5]).blanked(np.array([True, False])).to_list()
        [3, None]
        """
        valid = keep if self.valid is None else self.valid & keep
        if valid.all():
            return replace(self, valid=None)
        data = np.where(valid, self.data, np.int32(-1)) if self.kind == "text" else self.data
        return replace(self, data=data, valid=valid)

    def fraction(self, place: int) -> Fraction:
        """Return one number exactly.

        Parameters
        ----------
        place : int
            A row.

        Examples
        --------
        >>> Column.of("fare", "decimal", [705], scale=2).fraction(0)
        Fraction(141, 20)
        """
        from fractions import Fraction

        (value,) = self.data[place : place + 1].tolist()
        return Fraction(Fraction(value), 10**self.scale)

    def ranks(self) -> NDArray[np.int64]:
        """Return the place of each value among the different ones in natural order, -1 for blanks.

        Equal values share a place, whole numbers to the last digit; text goes by letters.

        Examples
        --------
        >>> Column.text("ship", ["b", "a", None, "b"]).ranks().tolist()
        [1, 0, -1, 1]
        """
        if self.kind == "text":
            keys = np.array(["" if word is None else str(word) for word in self.to_list()])
        else:
            keys = self.data
        blank = self.blank | np.isnan(self.numbers()) if self.kind == "float" else self.blank
        keys = np.where(blank, keys[:1], keys)
        ranked = bigint.rank_values(keys)
        return np.where(blank, -1, ranked).astype(np.int64)

    def numbers(self) -> NDArray[np.float64]:
        """Return a numeric column as floats, NaN where blank.

        Raises `QuestionError` for texts and dates.

        Examples
        --------
        >>> Column.of("fare", "decimal", [705, 0], [True, False], scale=2).numbers().tolist()
        [7.05, nan]
        """
        values = self.units()
        return values / 10.0**self.scale if self.kind == "decimal" else values

    def units(self) -> NDArray[np.float64]:
        """Return a numeric column in units of 10**-scale as floats, NaN where blank: decimals as
        whole numbers.

        Raises `QuestionError` for texts and dates.

        Examples
        --------
        >>> Column.of("fare", "decimal", [705, 0], [True, False], scale=2).units().tolist()
        [705.0, nan]
        """
        if self.kind in NO_NUMBERS:
            raise QuestionError(
                f"{self.name or 'a measure'} is {self.kind}; only numbers can be used here"
            )
        values = bigint.to_floats(self.data)
        if self.valid is not None:
            values[~self.valid] = np.nan
        return values

    def values(self) -> NDArray[Any]:
        """Return the values as handed out (see the table at the top of this module), masked where
        they are blank.

        Examples
        --------
        >>> Column.of("fare", "integer", [7, 0], [True, False]).values().tolist()
        [7, None]
        """
        blank = self.blank
        return np.ma.array(self.unmasked(), mask=blank) if blank.any() else self.unmasked()

    def unmasked(self) -> NDArray[Any]:
        """Return the values without a mask: NaN, NaT and None where floats, dates and objects are
        blank, anything where whole numbers and flags are.

        Examples
        --------
        >>> Column.of("fare", "float", [7.5, 0.0], [True, False]).unmasked().tolist()
        [7.5, nan]
        """
        match self.kind:
            case "float":
                return self.numbers()
            case "date":
                dates = as_dates(self.data)
                if self.valid is not None:
                    dates[~self.valid] = np.datetime64("NaT", "D")
                return dates
            case "decimal" | "text":
                objects = np.empty(len(self), object)
                objects[:] = self.to_list()
                return objects
            case _:
                return self.data

    def to_list(self) -> list[Any]:
        """Return the values as Python objects, None where blank.

        Examples
        --------
        >>> Column.of("fare", "decimal", [705, 0], [True, False], scale=2).to_list()
        [Decimal('7.05'), None]
        """
        items = self._words() if self.kind == "text" else self._objects()
        if self.valid is None or self.kind == "text":
            return items
        valid = self.valid.tolist()
        return [item if there else None for item, there in zip(items, valid, strict=True)]

    def _objects(self) -> list[Any]:
        """Return the values as Python objects, anything where blank."""
        if self.kind == "date":
            dates: list[Any] = as_dates(self.data).tolist()
            return dates
        items: list[Any] = self.data.tolist()
        if self.kind != "decimal":
            return items
        if self.data.dtype == object:  # of more digits than `scaleb` keeps
            return [Decimal(f"{n}E-{self.scale}") for n in items]
        return [Decimal(n).scaleb(-self.scale) for n in items]

    def _words(self) -> list[Any]:
        """Return texts, None where blank; of many choices only those that occur are made."""
        codes, choices = self.data.tolist(), self.choices
        if choices is None:
            choices = np.array([], object)
        if len(choices) > len(self):
            used = choices[np.maximum(self.data, 0)].tolist()
            return [word if code >= 0 else None for word, code in zip(used, codes, strict=True)]
        words = choices.tolist()
        return [words[code] if code >= 0 else None for code in codes]


def subtract_columns(now: Column, prior: Column) -> Column:
    """Return now less prior: exact for whole numbers and decimals, else as floats."""
    blank = now.blank | prior.blank
    form = now.format and now.format.of_changes
    if "float" in (now.kind, prior.kind):
        with np.errstate(over="ignore", invalid="ignore"):
            differences = np.where(blank, 0.0, now.numbers() - prior.numbers())
        if (
            np.isinf(differences) & np.isfinite(now.numbers()) & np.isfinite(prior.numbers())
        ).any():
            raise MeasureError(f"column {now.name!r}: a change does not fit into a float")
        return Column.of(now.name, "float", differences, ~blank, format=form)
    one, two = of_one_kind([now, prior])
    data = bigint.subtract(one.data, two.data)
    return Column.of(now.name, one.kind, data, ~blank, scale=one.scale, format=form)


def date_column(
    name: str,
    days: Days,
    valid: Flags | None = None,
    description: str = "",
    face: DisplayHint | None = None,
) -> Column:
    """Return a date column from day ordinals; blank ones may hold anything.

    `days` and `valid` are `(n_rows,)`.
    """
    return Column.of(name, "date", days, valid, description=description, face=face)


def day_counts(days: Ints, description: str, priority: Priority = Priority.DETAIL) -> Column:
    """Return the column that says how many days each row has. `days` is `(n_rows,)`."""
    face = DisplayHint("number of days", priority)
    return Column.of("days", "integer", days, unit="days", description=description, face=face)


def words_at(
    name: str, words: Sequence[str] | NDArray[Any], place: Ints, description: str, face: DisplayHint
) -> Column:
    """Return a column that has at each row the word of its place; equal words have one code.

    `words` is `(n_places,)`, `place` `(n_rows,) int64`.
    """
    choices, codes = np.unique(np.asarray(words), return_inverse=True)
    return Column.text(name, choices, codes[place], description=description, face=face)


def with_shown_labels(column: Column, calendar: Calendar) -> Column:
    """Return a column of labels of periods, or of lists of them, with what a calendar shows."""
    if not calendar.shown or column.choices is None:
        return column
    labels = {str(choice) for choice in column.choices}
    texts = {one: ", ".join(map(calendar.shown_label, one.split(", "))) for one in labels}
    return replace(column, face=with_texts(column.face or DisplayHint(column.name), texts.items()))


def with_texts(face: DisplayHint, labels: Iterable[tuple[str, str]]) -> DisplayHint:
    """Return a face with the texts that values are shown as; one that is shown as two texts, as
    labels of two calendars may be, is shown as it is.
    """
    ways: dict[str, set[str]] = {}
    for value, text in labels:
        ways.setdefault(value, set()).add(text)
    texts = {
        value: min(values_shown) for value, values_shown in ways.items() if len(values_shown) == 1
    }
    return replace(face, texts={v: text for v, text in texts.items() if v != text} or None)


def of_one_kind(parts: Sequence[Column]) -> list[Column]:
    """Return columns brought to the widest kind among them: integer, decimal, float."""
    kinds = {part.kind for part in parts}
    if not kinds <= {"integer", "decimal", "float"}:
        if len(kinds) > 1:
            raise EptaroError(f"column {parts[0].name!r} changes its kind between parts")
        return list(parts)
    if "float" in kinds:
        return [p if p.kind == "float" else Column.of(p.name, "float", p.numbers()) for p in parts]
    scale = max(part.scale for part in parts)
    kind: ColumnKind = "decimal" if scale else "integer"
    return [
        p
        if (p.kind, p.scale) == (kind, scale)
        else replace(
            p, kind=kind, scale=scale, data=bigint.multiply(p.data, 10 ** (scale - p.scale))
        )
        for p in parts
    ]


def on_one_scale(over: Column, under: Column) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return two columns of numbers as floats to be divided, NaN where blank: exact ones in whole
    units, so that the quotient is rounded once, and quotients that are equal come out equal.

    The results have the shapes of the columns.

    >>> fares = Column.of("", "decimal", [330, 110], scale=2)
    >>> trips = Column.of("", "integer", [3, 1])
    >>> top, bottom = on_one_scale(fares, trips)
    >>> (top / bottom).tolist(), (fares.numbers() / trips.numbers()).tolist()
    ([1.1, 1.1], [1.0999999999999999, 1.1])
    """
    if "float" in (over.kind, under.kind):
        return over.numbers(), under.numbers()
    more = over.scale - under.scale
    return over.units() * 10.0 ** max(-more, 0), under.units() * 10.0 ** max(more, 0)


def join_columns(parts: Sequence[Column]) -> Column:
    """Return columns of one name and kind one below the other, scales brought together."""
    if len(parts) == 1:
        return parts[0]
    parts = of_one_kind(parts)
    head = parts[0]
    valid = None
    if any(part.valid is not None for part in parts):
        valid = np.concatenate([~part.blank for part in parts])
    if head.kind == "text":
        choices = np.concatenate([np.asarray(part.choices) for part in parts])
        sizes = np.cumsum([0, *(len(np.asarray(part.choices)) for part in parts)])
        data = np.concatenate(
            [np.where(p.data < 0, -1, p.data + at) for p, at in zip(parts, sizes, strict=False)]
        )
        face = _joined_face(parts)
        return replace(head, data=data.astype(np.int32), valid=valid, choices=choices, face=face)
    return replace(head, data=np.concatenate([part.data for part in parts]), valid=valid)


def _joined_face(parts: Sequence[Column]) -> DisplayHint | None:
    """Return the face of columns of texts as one."""
    faces = [part.face for part in parts]
    if faces[0] is None or not any(face is not None and face.texts for face in faces):
        return faces[0]
    faces_shown = (
        (str(value), ((part.face and part.face.texts) or {}).get(str(value), str(value)))
        for part in parts
        for value in np.asarray(part.choices)
    )
    return with_texts(faces[0], faces_shown)


def coded_once(column: Column) -> Column:
    """Return a column of texts in which equal ones have one code, which `join` does not see to."""
    if column.choices is None:
        return column
    words, places = np.unique(np.asarray(column.choices), return_inverse=True)
    codes = np.where(column.data < 0, -1, places[np.maximum(column.data, 0)])
    return replace(column, data=codes.astype(np.int32), choices=words)


def materialize(column: Column) -> Column:
    """Return the column with all its values as they are stored.

    Decimals that do not fit into 64 bits lose decimals that are zero in all of them.
    Raises `MeasureError` where a value still does not fit.
    """
    if column.data.dtype != object:
        return column
    units = column.data if column.valid is None else np.where(column.valid, column.data, 0)
    scale = column.scale
    while scale and not bigint.fits_int64(units) and not (units % 10).any():
        units, scale = units // 10, scale - 1
    data = bigint.narrowed_to(units, floats=column.kind == "float")
    if data.dtype == object:
        large = max(units.tolist(), key=abs)
        value_text = f"{Decimal(f'{large}E-{scale}'):.6g}"
        limit = "a float" if column.kind == "float" else f"64 bits at {scale} decimals"
        raise MeasureError(
            f"column {column.name!r}: a value of {value_text} does not fit into {limit}; ask for "
            f"fewer rows at once, or store the column with fewer decimals"
        )
    return replace(column, data=data, scale=scale)
