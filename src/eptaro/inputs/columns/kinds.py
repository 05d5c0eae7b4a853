"""What each column of text is: numbers, dates or text, decided once from the whole column.

A file of text has no types. What a column is taken for must not depend on which measure or
condition asks, nor on what its first rows happen to hold.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa

from eptaro.core.aggregation.cells import Plane
from eptaro.core.expressions.kinds import FUNCTIONS, Use, ValueKind, sure_kind
from eptaro.core.expressions.kinds import column_uses as uses_of
from eptaro.core.expressions.parser import Formula, Formulas
from eptaro.core.expressions.tree import Call, Name, Node, Text, Where
from eptaro.core.results.column import Column
from eptaro.errors import ExpressionError, InputError, MeasureError
from eptaro.inputs import arrow_compute as pc
from eptaro.inputs.dates.reading import is_text, read_dates
from eptaro.inputs.options import FoldSpec
from eptaro.inputs.sources import ColumnRequest, Source
from eptaro.option import setting
from eptaro.rules import DateRules

_PICKS = ("min", "max", "first", "last")


def only_picked(planes: Iterable[Plane]) -> list[str]:
    """Return the columns of which values are picked, and counted, but never calculated with."""
    planes = [plane for plane in planes if plane.column]
    reckoned = {p.column for p in planes if p.what not in (*_PICKS, "filled", "codes")}
    return sorted({p.column for p in planes if p.what in _PICKS} - reckoned)


def kind_picked(node: Node, kinds: Mapping[str, ValueKind]) -> ValueKind | None:
    """Return what an expression makes, as far as that shows; `kinds` names what columns hold.

    >>> from eptaro.core.expressions.parser import parse
    >>> kind_picked(parse("if(x > 1, 'few', 'many')"), {}), kind_picked(parse("if(x > 1, y)"), {})
    (<ValueKind.TEXT: 'text'>, None)
    """
    match node:
        case Name(name):
            return kinds.get(name)
        case Text():
            return ValueKind.TEXT
        case Where(value):
            return None if value is None else kind_picked(value, kinds)
        case Call(function, given) if FUNCTIONS[function].gives is None:
            values = given[1:] if function == "if" else given
            # A text that is written out beside a date is one.
            parts = sorted(values, key=lambda part: isinstance(part, Text))
            return next((k for part in parts if (k := kind_picked(part, kinds))), None)
        case _:
            return sure_kind(node)


def name_picked(formula: Formula) -> str | None:
    """Return the column of the input that values are picked from; None if they are calculated."""
    node = formula.node.value if isinstance(formula.node, Where) else formula.node
    return node.name if isinstance(node, Name) else None


def _of_days(rules: DateRules) -> DateRules:
    """Return the rules for other columns than that of the dates: months are texts there."""
    return replace(rules, grain="day", fiscal_periods=False)


def read_text_or_date(
    array: pa.ChunkedArray, name: str, source: str, rules: DateRules, kind: ValueKind | None
) -> Column:
    """Return a column that holds dates, or else texts, each a place among those that occur, in
    order of letters.

    Raises `InputError` for a text in a column of dates.
    """
    type_of_values = array.type.value_type if pa.types.is_dictionary(array.type) else array.type
    if pa.types.is_null(type_of_values):
        return Column.of(name, "integer", np.zeros(len(array)), np.zeros(len(array), bool))
    if kind is ValueKind.DATE:
        parsed = read_dates(array, _of_days(rules), name)  # months are texts here
        bad = np.zeros(len(array), bool) if parsed.bad is None else parsed.bad
        blank = bad if parsed.reasons is None else parsed.reasons == "blank"
        unread = np.flatnonzero(bad & ~blank)
        if len(unread):
            row = int(unread[0])
            raise InputError(
                f"{source}: {array[row].as_py()!r} of {name!r} is not a date, and others are"
            )
        return Column.of(name, "date", parsed.days, ~bad)
    from eptaro.inputs.columns.codes import read_codes

    coded = read_codes(array, name)
    return in_order(
        Column.text(name, np.array([*coded.choices.to_list(), None], object)[:-1], coded.codes)
    )


def in_order(column: Column) -> Column:
    """Return texts as places among those that occur, in order of letters."""
    assert column.choices is not None
    words = np.asarray(column.choices, object)
    every, places = np.unique(words, return_inverse=True)
    target = np.append(places.ravel(), -1)
    return Column.text(column.name, every, target[column.data])


_CODE = r"^[-+]?0\d"  # 007 is no 7
_COUNTED = ("filled", "codes")
_PICKED = ("min", "max", "first", "last")


def settled_kinds(source: Source, spec: FoldSpec) -> Formulas:
    """Return formulas that know what each column of text that they or measures use is.

    Raises `ExpressionError` for a column that is taken for two things, and `MeasureError` for one
    that is nearly all numbers where less and more are asked of it.
    """
    date, formulas, rules = spec.date_column, spec.formulas, spec.rules
    if formulas.kinds is not None:
        return formulas
    used = _uses(spec.planes, formulas)
    used.pop(date, None)
    if not source.undecided:
        return replace(formulas, kinds=_kinds_of_typed(source, date, formulas, used, rules))
    settled, open_ones = dict[str, ValueKind](), dict[str, list[Use]]()
    for name, uses in used.items():
        if name not in source.names():
            continue  # which is an error where it is read
        kind = _certain_kind(name, uses)
        if kind is not None:
            settled[name] = kind
        elif not all(use.blank for use in uses) or source.has_rules:
            open_ones[name] = uses
    for name, kind in _decide_kinds(source, date, open_ones, rules):
        settled[name] = kind
    return replace(formulas, kinds=settled)


def _uses(planes: list[Plane], formulas: Formulas) -> dict[str, list[Use]]:
    """Return how measures and formulas use the columns of the input."""
    uses: dict[str, list[Use]] = {}
    picked_names = only_picked(planes)
    for plane in planes:
        if plane.column and plane.column not in formulas.columns:
            what, name = plane.what, plane.column
            number = what not in (*_COUNTED, *_PICKED)
            use = Use(
                name,
                ValueKind.NUMBER if number else None,
                ordered=what in ("min", "max"),
                blank=what == "filled",
                picked=what in _PICKED,
            )
            uses.setdefault(plane.column, []).append(use)
    for name, formula in formulas.columns.items():
        own = name in picked_names  # texts and dates are picked too
        for use in uses_of(formula.node, None if own else formula.wanted):
            uses.setdefault(use.name, []).append(use._replace(picked=own))
    for use in formulas.where.uses if formulas.where else ():
        uses.setdefault(use.name, []).append(use)
    return uses


def _certain_kind(name: str, uses: list[Use]) -> ValueKind | None:
    """Return what a column is surely taken for; None where that is open.

    Raises `ExpressionError` where it is taken for two things.
    """
    sure = _sure_kinds(uses)
    if len(sure) > 1:
        one, two = sorted(kind.value for kind in sure)[:2]
        raise ExpressionError(
            f"column {name!r} is taken for {one} in one place and for {two} in another; what it is "
            f"holds for every measure and condition"
        )
    if sure:
        return next(iter(sure))
    texts = (use.kind is ValueKind.TEXT and not use.dated for use in uses)
    return ValueKind.TEXT if any(texts) else None


def _beside_dates(uses: list[Use]) -> bool:
    """Return whether a column is compared with a date that is written out."""
    return any(use.dated for use in uses)


def _sure_kinds(uses: list[Use]) -> set[ValueKind]:
    words = (ValueKind.NUMBER, ValueKind.DATE, ValueKind.TEXT)
    return {use.kind for use in uses if use.sure and use.kind in words and use.kind is not None}


def _kinds_of_typed(
    source: Source, date: str, formulas: Formulas, used: Mapping[str, list[Use]], rules: DateRules
) -> dict[str, ValueKind]:
    """Return what columns of text are taken for in a source that has types; those that values are
    picked from are texts or dates where the first rows that hold any value hold no number, and
    those that are compared with a date are dates where all values are.
    """
    kinds, open_ones = dict[str, ValueKind](), list[str]()
    dated = dict[str, list[Use]]()
    for name, uses in used.items():
        sure = _sure_kinds(uses)
        if len(sure) == 1:
            kinds[name] = next(iter(sure))
        elif not sure and name in source.names():
            open_ones += [name] if any(use.picked for use in uses) else []
            dated |= {name: uses} if _beside_dates(uses) and not _certain_kind(name, uses) else {}
    if dated:
        first = next(source.batches(ColumnRequest(next(iter(dated)), others=[*dated])), None)
        texts = {n: uses for n, uses in dated.items() if first and is_text(first[n].type)}
        decided = _decide_kinds(source, date, texts, rules)
        kinds |= {name: kind for name, kind in decided if kind is ValueKind.DATE}
        open_ones = [name for name in open_ones if name not in kinds]
    if not open_ones:
        return kinds
    empty = set[str]()
    for batch in source.batches(ColumnRequest((formulas.names or [date])[0], others=open_ones)):
        for name in [*open_ones]:
            column = batch[name]
            kind = _kind_of_values(source, column, name, rules)
            if kind is not None:
                open_ones.remove(name)
                if kind is not ValueKind.NUMBER:
                    kinds[name] = kind
            elif column.null_count < len(column):
                empty.add(name)
        if not open_ones:
            break
    return kinds | dict.fromkeys(empty.intersection(open_ones), ValueKind.TEXT)


def _kind_of_values(
    source: Source, column: pa.ChunkedArray, name: str, rules: DateRules
) -> ValueKind | None:
    """Return what a column that has a type holds; None as long as only blanks are seen."""
    type_of_values = column.type.value_type if pa.types.is_dictionary(column.type) else column.type
    if pa.types.is_date(type_of_values) or pa.types.is_timestamp(type_of_values):
        return ValueKind.DATE
    if not is_text(column.type):
        return ValueKind.NUMBER
    texts = column.cast(pa.string())
    filled = texts.filter(pc.not_equal(pc.utf8_trim_whitespace(texts), ""))
    if not len(filled):
        return None
    if pc.any(source.are_numbers(filled)).as_py():
        return ValueKind.NUMBER
    parsed = read_dates(filled, _of_days(rules), name)
    return ValueKind.TEXT if parsed.bad is not None and parsed.bad.all() else ValueKind.DATE


@dataclass
class _Evidence:
    """What the values of a column of text are, as far as they were seen."""

    filled: int = 0
    numbers: int = 0
    codes: int = 0
    other: tuple[int, str] | None = None  # the first row that is no number, and what it holds
    dates: bool = True
    some_dates: bool = False
    undated: tuple[int, str, str] | None = None  # the first row that is no date, its text and why
    texts: list[pa.Array] = field(default_factory=list)


def _decide_kinds(
    source: Source, date: str, open_ones: Mapping[str, list[Use]], rules: DateRules
) -> Iterator[tuple[str, ValueKind]]:
    """Yield what each of some columns holds, from one look at all of their rows."""
    names = [*open_ones]
    if not names:
        return
    evidence = {name: _Evidence() for name in names}
    rows, own = 0, [name for name in source.names() if name not in source.beside]
    for table in source.batches(ColumnRequest(date if date in own else own[0], others=names)):
        for name in names:
            dated = _beside_dates(open_ones[name])
            _add_evidence(source, evidence[name], table[name], name, rows, rules, dated=dated)
        rows += table.num_rows
    for name in names:
        yield name, _kind(source, name, evidence[name], open_ones[name])


def _add_evidence(
    source: Source,
    evidence: _Evidence,
    column: pa.ChunkedArray,
    name: str,
    rows_before: int,
    rules: DateRules,
    *,
    dated: bool,
) -> None:
    """Add what some rows of a column hold; digits may be dates where it is compared with one."""
    if not is_text(column.type):  # such as the number of a row that was set across
        evidence.numbers += len(column) - column.null_count
        evidence.filled += len(column) - column.null_count
        return
    texts = pc.utf8_trim_whitespace(column.cast(pa.string()))
    texts = pc.if_else(pc.equal(texts, ""), None, texts)
    filled = texts.drop_null()
    if not len(filled):
        return
    if source.has_rules:
        evidence.texts.append(pc.unique(filled))
    numbers = source.are_numbers(texts)
    row = pc.index(pc.fill_null(numbers, True), False).as_py()
    if evidence.other is None and row >= 0:
        evidence.other = rows_before + row, texts[row].as_py()
    evidence.filled += len(filled)
    evidence.numbers += pc.sum(numbers).as_py() or 0
    evidence.codes += pc.sum(pc.match_substring_regex(filled, _CODE)).as_py() or 0
    if evidence.dates and (dated or not evidence.numbers):
        parsed = read_dates(texts, _of_days(rules), name)
        unread = parsed.reasons is not None and (parsed.reasons != "") & (parsed.reasons != "blank")
        evidence.dates = not np.any(unread)
        evidence.some_dates |= not np.all(parsed.bad if parsed.bad is not None else False)
        if not evidence.dates and parsed.reasons is not None:
            row = int(np.flatnonzero(unread)[0])
            evidence.undated = rows_before + row, texts[row].as_py(), str(parsed.reasons[row])
    else:
        evidence.dates = False


def _kind(source: Source, name: str, evidence: _Evidence, uses: list[Use]) -> ValueKind:
    """Return what a column is; raises `MeasureError` for one that is nearly all numbers."""
    if not evidence.filled:
        return ValueKind.BLANK
    if _beside_dates(uses):
        if evidence.dates:
            return ValueKind.DATE
        if evidence.undated and any(use.ordered or evidence.some_dates for use in uses):
            row, text, why = evidence.undated
            word = not any(map(str.isdigit, text))
            blank = f"; {setting(DateRules, 'blanks', text)} counts it as blank" if word else ""
            raise MeasureError(
                f"{source.name}: row {source.row_number(row):,} of {name!r}, which is compared "
                f"with a date: {text!r} {why}{blank}"
            )
    if source.has_rules and not evidence.codes:
        every = pa.chunked_array(evidence.texts, pa.string()).unique()
        if source.settles_numbers(name, every):
            return ValueKind.NUMBER
    if evidence.numbers == evidence.filled:
        return ValueKind.TEXT if evidence.codes else ValueKind.NUMBER
    if not evidence.numbers:
        return ValueKind.DATE if evidence.dates else ValueKind.TEXT
    if 2 * evidence.numbers >= evidence.filled and any(use.ordered for use in uses):
        assert evidence.other is not None
        from eptaro.inputs.columns.numbers import cure

        row, text = evidence.other
        raise MeasureError(
            f"{source.name}: row {source.row_number(row):,} of {name!r}: {text!r} is not a number, "
            f"and {evidence.numbers:,} of {evidence.filled:,} values are{cure(text)}"
        )
    return ValueKind.TEXT
