"""Files in object stores, by their addresses."""

from __future__ import annotations

import shutil
import tempfile
import weakref
from collections.abc import Sequence
from fnmatch import fnmatchcase
from pathlib import Path

from eptaro.errors import InputError
from eptaro.inputs.files.csv import CsvFile
from eptaro.inputs.files.folders import parquet_folder
from eptaro.inputs.files.parquet import ParquetFile
from eptaro.inputs.sources import Source
from eptaro.places import Place
from eptaro.rules.files import FileRules

_MARKS = "*?["


def stored_files(address: str, rules: FileRules) -> Sequence[Source] | Path:
    """Return the files of an address, a pattern or a folder; of one on this machine, its path.

    Raises `InputError` where there is none.
    """
    place = Place.of(address)
    if place.local is not None:
        return place.local
    if any(mark in place.path for mark in _MARKS):
        return _fitting(place, rules)
    if place.is_file():
        return [_opened(place, rules)]
    if not place.is_folder():
        raise InputError(f"{place}: there is no such file")
    return parquet_folder(place, rules)


def _fitting(place: Place, rules: FileRules) -> list[Source]:
    """Return the files that a pattern fits; `*` stands for any letters but `/`."""
    parts = place.path.split("/")
    plain = next(at for at, part in enumerate(parts) if any(mark in part for mark in _MARKS))
    start = "/".join(parts[:plain])
    name = place.name[: len(place.name) - len(place.path) + len(start)]
    wanted = parts[plain:]
    found = []
    for file in Place(place.system, start, name).within():
        inside = file.inside.split("/")
        if len(inside) == len(wanted) and all(map(fnmatchcase, inside, wanted)):
            found.append(_opened(file.place, rules))
    if not found:
        raise InputError(f"{place}: no file fits this pattern")
    return found


def _opened(place: Place, rules: FileRules) -> Source:
    """Return a file as a source: CSV and Parquet are read where they lie, others are copied."""
    from eptaro.inputs.files.opening import READERS, readable_ending

    path = Path(place.name)
    match ending := readable_ending(path, rules):
        case ".csv" | ".tsv":
            return CsvFile(path, rules, place)
        case ".parquet":
            return ParquetFile(path, rules, place=place)
        case _:
            folder = tempfile.mkdtemp(prefix="eptaro-")
            copy = Path(folder) / f"copy{ending}"
            with place.told("read"), copy.open("wb") as sink:
                shutil.copyfileobj(place.system.open_input_stream(place.path), sink)
            source = READERS[ending](copy, rules)
            source.name = str(place)
            weakref.finalize(source, shutil.rmtree, folder, ignore_errors=True)
            return source
