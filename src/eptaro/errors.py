"""The errors that Eptaro raises on purpose.

    EptaroError
    ├── CalendarError   a calendar, level, label or period that cannot be
    ├── DateError       a date or span that cannot be read or does not exist
    ├── MeasureError    a measure that cannot be parsed or calculated
    ├── ExpressionError a condition or formula that cannot be parsed or calculated
    ├── QuestionError   a verb asked for what cannot be
    └── InputError      a file, frame or column that cannot be used

Every branch is a `ValueError` too, so plain code may catch that.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from types import MappingProxyType


class EptaroError(Exception):
    """Root of all errors that Eptaro raises on purpose.

    An address in the message loses its user, password and options.
    """

    def __init__(self, *args: object) -> None:
        from eptaro.urls import redact  # which only errors need

        super().__init__(*(redact(arg) if isinstance(arg, str) else arg for arg in args))


class CalendarError(EptaroError, ValueError):
    """A calendar, level, label or period that cannot be."""


class DateError(EptaroError, ValueError):
    """A date or span that cannot be read or does not exist."""


class MeasureError(EptaroError, ValueError):
    """A measure that cannot be parsed or calculated."""


class ExpressionError(EptaroError, ValueError):
    """A condition or formula that cannot be parsed or calculated; its text shows the place."""


class QuestionError(EptaroError, ValueError):
    """A verb asked for what cannot be."""


class NothingLeftError(QuestionError):
    """A question after whose narrowing no transaction is left."""


class InputError(EptaroError, ValueError):
    """A file, frame or column that cannot be used."""


class KernelError(EptaroError, ImportError):
    """A kernel that `EPTARO_KERNEL` names and that cannot run."""


class NoRowsError(InputError):
    """A table that has columns but no rows."""


def refusal(address: str, error: BaseException) -> InputError:
    """Return the error for what a database, or its driver, says of an address."""
    from eptaro.urls import redact_url, without_secrets

    detail = " ".join(str(getattr(error, "orig", None) or error).split())
    return InputError(f"{redact_url(address)}: {without_secrets(detail, address)}")


_on_command_line: ContextVar[bool] = ContextVar("on_command_line", default=False)


@contextmanager
def on_command_line() -> Iterator[None]:
    """Have messages name the options of the command line rather than parameters."""
    token = _on_command_line.set(True)
    try:
        yield
    finally:
        _on_command_line.reset(token)


def spell_option(parameter: str, option: str) -> str:
    """Return how the caller writes an option: as a parameter, or on the command line.

    >>> spell_option("date=", "--date COLUMN")
    'date='
    """
    return option if _on_command_line.get() else parameter


def shell_word(text: str) -> str:
    """Return an argument in quotes where a shell needs them; the one kind around the other.

    >>> print(*map(shell_word, ("ships", "ship != 'Norrow'", "from '$5'")), sep="; ")
    ships; "ship != 'Norrow'"; 'from '"'"'$5'"'"''
    """
    import re
    from shlex import quote  # needed in errors alone

    # Between double quotes a shell reads on; `!=` is no history of commands.
    return f'"{text}"' if "'" in text and not re.search(r'["$`\\]|!(?!=)', text) else quote(text)


def show_option(name: str, value: object) -> str:
    """Return an option of a question as it was given: by its name, or as it is written on a command
    line. One that a config may set as well is better called by its name alone.

    >>> show_option("back", "90d"), show_option("wide", True)
    ("back='90d'", 'wide=True')
    """
    flag = f"--{name.replace('_', '-')}"
    option = flag if value is True else f"{flag} {shell_word(str(value))}"
    return spell_option(f"{name}={value!r}", option)


def unknown(
    what: str,
    got: object,
    accepted: Iterable[object],
    synonyms: Mapping[str, str] = MappingProxyType({}),
) -> str:
    """Return the one wording for a name that is not among the accepted ones.

    `synonyms` gives names by those that people try instead; only accepted ones are suggested.

    >>> unknown("level", "mnth", ["year", "month", "day"])
    "unknown level 'mnth': did you mean 'month'? Accepted: year, month, day"
    """
    from difflib import get_close_matches  # needed in errors alone

    names = [str(name) for name in accepted]
    folded = {name.casefold(): name for name in names}
    meant = str(got).casefold()
    close = get_close_matches(meant, list(folded), n=1)
    synonym = synonyms.get(meant)
    suggested = synonym if synonym in names else folded[close[0]] if close else None
    hint = f": did you mean {suggested!r}?" if suggested else "."
    listed = ", ".join(names[:40]) + (", …" if len(names) > 40 else "")
    return f"unknown {what} {str(got)!r}{hint} Accepted: {listed or 'none'}"


def count_noun(count: int, noun: str) -> str:
    """Return a number of things.

    >>> count_noun(1, "day"), count_noun(1200, "company")
    ('1 day', '1,200 companies')
    """
    return f"1 {noun}" if count == 1 else f"{count:,} {plural(noun)}"


def plural(noun: str) -> str:
    """Return the plural of a noun.

    >>> plural("half"), plural("entry"), plural("day")
    ('halves', 'entries', 'days')
    """
    if noun == "half":
        return "halves"
    return f"{noun[:-1]}ies" if noun.endswith("y") and noun[-2:-1] not in "aeou" else f"{noun}s"


def check_texts(**named: object) -> None:
    """Raise `QuestionError` for the first argument that is neither text nor left out.

    >>> check_texts(per="month", sort=None)
    """
    for name, value in named.items():
        if value is not None and not isinstance(value, str):
            raise QuestionError(f"{name}={value!r} must be text")


def as_path(value: object) -> Path:
    """Return a path given as text or path; raises `InputError` for anything else."""
    if not isinstance(value, str | os.PathLike):
        what = repr(value) if isinstance(value, int) else f"a {type(value).__name__}"
        raise InputError(f"{what} is not the path of a file; give text or a pathlib.Path")
    return Path(os.fspath(value))
