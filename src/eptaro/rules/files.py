"""`FileRules`: how files are written, where that cannot be determined from their ending."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from eptaro.errors import InputError
from eptaro.option import option


def usual_delimiter(decimal: str) -> str:
    """Return what sets fields apart unless it is given: semicolons beside decimal commas."""
    return ";" if decimal == "," else ","


@dataclass(frozen=True)
class FileRules:
    """How files are written: the mark between CSV fields, their encoding, the decimal mark, the
    line of their column names; the sheet of a workbook; the query for a database; and of a file
    whose ending says nothing, its kind.

    Parameters
    ----------
    delimiter : str
        The mark between CSV fields.
    encoding : str
        Of CSV files.
    decimal : {".", ","}
        The decimal mark in CSV files.
    header_row : int
        The line of a CSV file that names the columns, from 1; those above it are passed over.
    like : str, optional
        The ending that files are read by, whatever theirs is, such as `csv`.
    sheet : str, optional
        The sheet of a workbook, by default the first.
    query : str, optional
        With a database address for a file: the rows to read.

    Raises
    ------
    InputError
        For a rule that cannot be.
    """

    delimiter: str = option(
        "", help="The mark between the fields of a CSV file.", metavar="MARK", heading="files"
    )
    encoding: str = option(
        "utf-8",
        help="The encoding of a CSV file, such as latin-1.",
        metavar="NAME",
        heading="files",
    )
    decimal: Literal[".", ","] = option(".", help="The decimal mark in CSV files.", heading="files")
    header_row: int = option(
        1,
        help="The line of a CSV file that names the columns, where there are lines above it.",
        metavar="N",
        least=1,
        heading="files",
    )
    like: str | None = option(
        None,
        help="Read files as if they had this ending, such as csv for a .txt.",
        metavar="ENDING",
        heading="files",
    )
    sheet: str | None = option(
        None, help="The sheet of a workbook.", metavar="NAME", heading="files"
    )
    query: str | None = option(
        None,
        help="With a database address for FILE: the rows to read.",
        metavar="SQL",
        heading="files",
    )

    def __post_init__(self) -> None:
        if not self.delimiter:
            object.__setattr__(self, "delimiter", usual_delimiter(self.decimal))
        if len(self.delimiter) != 1 or not self.delimiter.isascii() or self.delimiter in '"\r\n':
            raise InputError(f"delimiter={self.delimiter!r} is not one character such as , or ;")
        if not isinstance(self.header_row, int) or self.header_row < 1:
            raise InputError(f"header_row={self.header_row!r} is not a line of a file, from 1")
        if self.decimal not in (".", ","):
            raise InputError(f"decimal={self.decimal!r} is neither . nor ,")
        if self.decimal == self.delimiter:
            raise InputError("delimiter and decimal are the same mark; give two different ones")
        try:
            b"a".decode(self.encoding)
        except UnicodeError:  # it is one, of which a single letter is no text
            pass
        except (LookupError, ValueError):
            raise InputError(
                f"encoding={self.encoding!r} is not a text encoding; try utf-8 or latin-1"
            ) from None
