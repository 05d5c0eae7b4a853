"""Files as sources: the ending decides which kind."""

from __future__ import annotations

import weakref
from collections import Counter
from collections.abc import Callable, Sequence
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import pyarrow as pa

from eptaro.errors import EptaroError, InputError, refusal, unknown
from eptaro.inputs.files.chunks import unreadable
from eptaro.inputs.files.csv import CsvFile, StandardInput
from eptaro.inputs.sources import FrameSource, ManyFiles, Source, TableSource
from eptaro.option import setting
from eptaro.paths import StoragePath, is_stored, scheme_of
from eptaro.rules import FileRules
from eptaro.timeouts import connection_options

_MARKS = "*?["


def stored_files(address: str, rules: FileRules) -> Sequence[Source] | Path:
    """Return the files of an address, a pattern or a folder; of one on this machine, its path.

    Raises `InputError` where there is none.
    """
    place = StoragePath.of(address)
    if place.local is not None:
        return place.local
    if any(mark in place.path for mark in _MARKS):
        return _match_pattern(place, rules)
    if place.is_file():
        return [_open_place(place, rules)]
    if not place.is_folder():
        raise InputError(f"{place}: there is no such file")
    from eptaro.inputs.files.parquet import parquet_folder

    return parquet_folder(place, rules)


def _match_pattern(place: StoragePath, rules: FileRules) -> list[Source]:
    """Return the files that a pattern fits; `*` represents any letters but `/`."""
    parts = place.path.split("/")
    plain = next(at for at, part in enumerate(parts) if any(mark in part for mark in _MARKS))
    start = "/".join(parts[:plain])
    name = place.name[: len(place.name) - len(place.path) + len(start)]
    patterns = parts[plain:]
    sources = []
    for file in StoragePath(place.system, start, name).within():
        inside = file.inside.split("/")
        if len(inside) == len(patterns) and all(map(fnmatchcase, inside, patterns)):
            sources.append(_open_place(file.place, rules))
    if not sources:
        raise InputError(f"{place}: no file fits this pattern")
    return sources


def _open_place(place: StoragePath, rules: FileRules) -> Source:
    """Return a file as a source: CSV and Parquet are read where they lie, others are copied."""

    path = Path(place.name)
    match ending := readable_ending(path, rules):
        case ".csv" | ".tsv":
            return CsvFile(path, rules, place)
        case ".parquet":
            return _parquet(path, rules, place)
        case _:
            import shutil
            import tempfile

            folder = tempfile.mkdtemp(prefix="eptaro-")
            copy = Path(folder) / f"copy{ending}"
            with place.describe_errors("read"), copy.open("wb") as sink:
                shutil.copyfileobj(place.system.open_input_stream(place.path), sink)
            source = READERS[ending](copy, rules)
            source.name = str(place)
            weakref.finalize(source, shutil.rmtree, folder, ignore_errors=True)
            return source


def query_source(url: str, query: str | None) -> Source:
    """Return the rows of a query as a source.

    Raises `InputError` where there is no query, or the database refuses.
    """
    from eptaro.optional import import_optional
    from eptaro.urls import redact_url

    if not query:
        raise InputError(
            f"{redact_url(url)}: a database needs a query, such as 'SELECT * FROM sales' (files "
            f"are read from file://, s3://, gs:// and abfss://, and from what fsspec knows)"
        )
    file = url.removeprefix("sqlite:///")
    plain = file.partition("?")[0]
    if file != url and plain and not plain.startswith("file:") and not Path(plain).exists():
        raise InputError(f"{plain}: there is no such file")
    sql = import_optional("sqlalchemy", "databases", "reading a database")
    try:
        engine = sql.create_engine(url, connect_args=connection_options(url))
        with engine.connect() as connection:
            result = connection.execute(sql.text(query))
            names, rows = list(result.keys()), result.fetchall()
    except (sql.exc.SQLAlchemyError, ImportError, ValueError, OSError) as error:
        raise refusal(url, error) from None
    values: list[Any] = [list(column) for column in zip(*rows, strict=True)]
    columns = values or [[] for _ in names]
    try:
        table = pa.table([pa.array(column) for column in columns], names)
    except pa.ArrowException as error:
        raise InputError(f"{redact_url(url)}: a column mixes kinds of values: {error}") from None
    return TableSource(table, redact_url(url))


_PACKED = (".gz", ".zst", ".bz2", ".zip")
_MOST_NAMED = 8  # files of a folder
_STANDARD_INPUT = "-"


def _arrow(path: Path, rules: FileRules) -> Source:
    from eptaro.inputs.files.arrow import ArrowFile  # as each kind is loaded where it is met

    return ArrowFile(path, rules)


def _json(path: Path, rules: FileRules) -> Source:
    from eptaro.inputs.files.jsonlines import JsonLines

    return JsonLines(path, rules)


def _json_rows(path: Path, rules: FileRules) -> Source:
    """Return the rows of a JSON file: a list of objects."""
    import json

    try:
        rows = json.loads(path.read_text(encoding="utf-8-sig"))
    except (ValueError, RecursionError) as error:
        raise InputError(f"{path}: is not JSON: {error}") from None
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise InputError(
            f"{path}: is not a list of JSON objects, one for each row; a file with an object on "
            f"each line is called .jsonl"
        )
    if not rows:
        raise InputError(f"{path}: holds no rows")
    return TableSource(rows, str(path), of_text=True)


def _sheet(path: Path, rules: FileRules) -> Source:
    from eptaro.inputs.files.workbooks import read_sheet

    table, unusable = read_sheet(path, rules.sheet)
    return TableSource(table, str(path), of_text=True, unusable=unusable)


def _parquet(path: Path, rules: FileRules, place: StoragePath | None = None) -> Source:
    from eptaro.inputs.files.parquet import ParquetFile  # other files need none of it

    return ParquetFile(path, rules, place=place)


READERS: dict[str, Callable[[Path, FileRules], Source]] = {
    ".csv": CsvFile,
    ".tsv": CsvFile,
    ".parquet": _parquet,
    ".arrow": _arrow,
    ".feather": _arrow,
    ".json": _json_rows,
    ".ndjson": _json,
    ".jsonl": _json,
    ".xlsx": _sheet,
    ".xlsb": _sheet,
    ".ods": _sheet,
}


def open_files(paths: list[str], rules: FileRules | None = None) -> Source:
    """Return one or several files, patterns or folders of Parquet as one source.

    `-` is standard input (CSV), and an address such as sqlite:///sales.db a database,
    whose rows `rules.query` picks. Raises `InputError` for a file that is missing or whose
    ending is none of `READERS`.
    """
    rules = rules or FileRules()
    if len(paths) == 1 and scheme_of(paths[0]) and not is_stored(paths[0]):
        return query_source(paths[0], rules.query)
    parts = [part for path in paths for part in _sources(path, rules)]
    if not parts:
        raise InputError("no file is given")
    for name, count in Counter(part.name for part in parts).items():
        if count > 1:
            raise InputError(f"{name}: is named twice; its rows would count twice")
    return parts[0] if len(parts) == 1 else ManyFiles(parts)


def opened_source(rows: Any, rules: FileRules | None = None) -> Source:
    """Return a source, a file by its path, or a frame as a source."""
    if isinstance(rows, Source):
        return rows
    if isinstance(rows, str | Path):
        return open_files([str(rows)], rules)
    return FrameSource(rows)


def _sources(path: str, rules: FileRules) -> Sequence[Source]:
    """Return the files of a path, a pattern, a folder or an address."""
    if scheme_of(path):
        stored = stored_files(path, rules)
        if not isinstance(stored, Path):
            return stored
        path = str(stored)
    file = Path(path)
    if path != _STANDARD_INPUT and file.is_dir():
        from eptaro.inputs.files.parquet import parquet_folder

        return parquet_folder(StoragePath.of(path), rules)
    if not any(mark in path for mark in "*?[") or file.exists():
        return [_open_local(file, rules)]
    start = Path(file.anchor) if file.is_absolute() else Path()
    files = sorted(start.glob(str(file.relative_to(start))))
    if not files:
        raise InputError(f"{path}: no file fits this pattern")
    return [_open_local(file, rules) for file in files]


def ending_of(path: Path, rules: FileRules) -> str:
    """Return the ending that says how a file is read, without that of its packing."""
    suffixes = [suffix.lower() for suffix in path.suffixes]
    packed = bool(suffixes) and suffixes[-1] in _PACKED
    own = suffixes[:-1] if packed else suffixes
    ending = own[-1] if own else ".csv" if suffixes == [".zip"] else ""
    if rules.like is not None:
        ending = "." + rules.like.lower().lstrip(".")
    if packed and ending and ending not in (".csv", ".tsv"):
        raise InputError(f"{path}: only CSV files may be compressed")
    return ending


def readable_ending(path: Path, rules: FileRules) -> str:
    """Return the ending that a file is read by; raises `InputError` where there is no reader."""
    ending = ending_of(path, rules)
    if ending not in READERS:
        hint = "" if rules.like else f"; if it is text, use {setting(FileRules, 'like', 'csv')}"
        raise InputError(f"{path}: {unknown('file ending', ending, READERS)}{hint}")
    if rules.header_row != 1 and ending not in (".csv", ".tsv"):
        raise InputError(f"{path}: header_row={rules.header_row} is only for CSV files")
    return ending


def _files_beside(path: Path) -> str:
    """Return the file whose name is like that of a missing one, or some of those in its folder."""
    from difflib import get_close_matches

    every = (file.name for file in path.parent.glob("*") if file.suffix.lower() in READERS)
    names = sorted(name for name in every if not name.startswith("."))
    if close := get_close_matches(path.name, names, 1):
        return f"; did you mean {close[0]!r}?"
    more = f" and {len(names) - _MOST_NAMED:,} more" if len(names) > _MOST_NAMED else ""
    return f"; the folder holds {', '.join(names[:_MOST_NAMED])}{more}" if names else ""


def _open_local(path: Path, rules: FileRules) -> Source:
    if str(path) == _STANDARD_INPUT:
        return StandardInput(rules)
    ending = readable_ending(path, rules)
    if not path.exists():
        raise InputError(f"{path}: there is no such file{_files_beside(path)}")
    if not path.is_file():
        raise InputError(f"{path}: is not a file")
    try:
        return READERS[ending](path, rules)
    except EptaroError:
        raise
    except (pa.ArrowException, OSError, UnicodeError) as error:
        raise unreadable(path, error) from None
