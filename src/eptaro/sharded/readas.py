"""How the files of a book in a folder are read, as its manifest keeps it, so that more can be read
alike.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import fields
from pathlib import Path
from typing import Any

from eptaro.core.measures.measure import Measure
from eptaro.core.questions.scope import By
from eptaro.errors import InputError
from eptaro.inputs.options import FileOptions
from eptaro.rules.across import Across, across_of
from eptaro.rules.dates import DateRules
from eptaro.rules.files import FileRules
from eptaro.rules.lookups import Lookup, lookups_of
from eptaro.rules.numbers import NumberRules
from eptaro.storage.folder.manifest import Manifest


def settings_of(options: FileOptions) -> dict[str, Any]:
    """Return how files are read as JSON takes it; of lookups, those that are files."""
    numbers, across = options.numbers, across_of(options.across)
    return {
        "date": options.date,
        "by": _names(options.by),
        "dates": _said(options.rules),
        "files": None if options.files is None else _said(options.files),
        "numbers": _said(numbers) if isinstance(numbers, NumberRules) else numbers,
        "lookups": [_lookup(one) for one in lookups_of(options.lookups)],
        "values": _names(options.values),
        "where": options.where,
        "across": None if across is None else vars(across),
    }


def options_before(manifest: Manifest, measures: Sequence[Measure]) -> FileOptions:
    """Return how the files of a book were read that are in it."""
    calendar = manifest.options.calendar
    said: Mapping[str, Any] = manifest.reading
    if not said:
        return FileOptions(measures=measures, by=manifest.by, calendar=calendar)
    numbers, files, across = said["numbers"], said["files"], said.get("across")
    lookups = []
    for one in said["lookups"]:
        if one["table"] is None:
            raise InputError(
                "the book's rows took columns from a table in memory; give it with lookups="
            )
        own = one["files"]
        rules = None if own is None else FileRules(**own)
        lookups.append(Lookup(**{**one, "files": rules}))
    return FileOptions(
        measures=measures,
        date=said["date"],
        by=said["by"],
        calendar=calendar,
        dates=DateRules(**said["dates"]),
        files=None if files is None else FileRules(**files),
        numbers=NumberRules(**numbers) if isinstance(numbers, dict) else numbers,
        lookups=lookups or None,
        values=said["values"],
        where=said["where"],
        across=None if across is None else Across(**across),
    )


def _names(given: By) -> list[str]:
    """Return names of columns, as they were given, in a list."""
    return [] if given is None else [given] if isinstance(given, str) else list(given)


def _said(rules: Any) -> dict[str, Any]:
    """Return what rules say beside their defaults."""
    plain = type(rules)()
    given = {
        one.name: getattr(rules, one.name)
        for one in fields(rules)
        if one.init and getattr(rules, one.name) != getattr(plain, one.name)
    }
    return {name: list(v) if isinstance(v, tuple) else v for name, v in given.items()}


def _lookup(one: Lookup) -> dict[str, Any]:
    named = isinstance(one.table, str | Path)
    return {
        "table": str(one.table) if named else None,
        "key": one.key,
        "other": one.other,
        "first": one.first,
        "through": one.through,
        "files": None if one.files is None else _said(one.files),
    }
