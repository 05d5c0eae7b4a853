"""`ReadAs`: how the files of a book in a folder are read, so that more can be read alike."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from pathlib import Path
from typing import Any

from eptaro.core.questions.scope import By
from eptaro.errors import InputError
from eptaro.rules.dates import DateRules, date_rules
from eptaro.rules.files import FileRules
from eptaro.rules.lookups import Lookup, Lookups, lookups_of
from eptaro.rules.numbers import NumberRules, Numbers
from eptaro.storage.folder.manifest import Manifest


@dataclass(frozen=True)
class ReadAs:
    """The columns of dates and groups, and the rules, by which files are folded."""

    date: str
    by: tuple[str, ...] = ()
    dates: DateRules = field(default_factory=DateRules)
    files: FileRules | None = None
    numbers: Numbers = None
    lookups: Lookups = None
    values: tuple[str, ...] = ()
    where: str | None = None

    @classmethod
    def given(
        cls,
        date: str,
        by: By,
        dates: DateRules,
        files: FileRules | None,
        numbers: Numbers,
        lookups: Lookups,
        values: By,
        where: str | None,
    ) -> ReadAs:
        """Return the same of what a way into a book is given."""
        names, more = (
            () if one is None else (one,) if isinstance(one, str) else tuple(one)
            for one in (by, values)
        )
        return cls(date, names, dates, files, numbers, lookups, more, where)

    @classmethod
    def again(
        cls,
        manifest: Manifest,
        date: str | None = None,
        dates: DateRules | None = None,
        zone: str | None = None,
        files: FileRules | None = None,
        numbers: Numbers = None,
        lookups: Lookups = None,
    ) -> ReadAs:
        """Return how the files of a book were read, but for what is said."""
        said = manifest.reading
        before = cls.of(said) if said else cls(str(date), tuple(manifest.by))
        return replace(
            before,
            date=date or before.date,
            dates=before.dates if dates is None and zone is None else date_rules(dates, zone),
            files=files or before.files,
            numbers=before.numbers if numbers is None else numbers,
            lookups=before.lookups if lookups is None else lookups,
        )

    def settings(self) -> dict[str, Any]:
        """Return the same as JSON takes it; of lookups, those that are files."""
        numbers = self.numbers
        return {
            "date": self.date,
            "by": list(self.by),
            "dates": _said(self.dates),
            "files": None if self.files is None else _said(self.files),
            "numbers": _said(numbers) if isinstance(numbers, NumberRules) else numbers,
            "lookups": [_lookup(one) for one in lookups_of(self.lookups)],
            "values": list(self.values),
            "where": self.where,
        }

    @classmethod
    def of(cls, said: Mapping[str, Any]) -> ReadAs:
        """Return what `settings` made."""
        numbers, files = said["numbers"], said["files"]
        lookups = []
        for one in said["lookups"]:
            if one["table"] is None:
                raise InputError(
                    "the book's rows took columns from a table in memory; give it with lookups="
                )
            own = one["files"]
            rules = None if own is None else FileRules(**own)
            lookups.append(Lookup(**{**one, "files": rules}))
        return cls(
            said["date"],
            tuple(said["by"]),
            DateRules(**said["dates"]),
            None if files is None else FileRules(**files),
            NumberRules(**numbers) if isinstance(numbers, dict) else numbers,
            lookups or None,
            tuple(said["values"]),
            said["where"],
        )


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
