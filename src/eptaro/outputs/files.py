"""Tables as files; the ending decides how."""

from __future__ import annotations

import errno
import os
import re
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path

from eptaro.core.tables.table import Table
from eptaro.errors import InputError, as_path, unknown
from eptaro.outputs.sheets import write_xlsx
from eptaro.outputs.text import to_json, to_markdown, write_csv
from eptaro.places import Place, runs, scheme_of


def write(table: Table, path: str | Path) -> Path | str:
    """Write a table to a file and return its path; the file appears whole or not at all."""
    if isinstance(path, str) and scheme_of(path):
        return _write_stored(table, path)
    target = as_path(path)
    writer = WRITERS.get(target.suffix.lower())
    if writer is None:
        raise InputError(f"{target}: {unknown('file ending', target.suffix, WRITERS)}")
    return replace_whole(target, lambda beside: writer(table, beside))


def _write_stored(table: Table, address: str) -> Path | str:
    """Write a table to an object store, where a file is there whole or not at all."""
    place = Place.of(address)
    if place.local is not None:
        return write(table, place.local)
    writer = WRITERS.get(place.ending)
    if writer is None:
        raise InputError(f"{place}: {unknown('file ending', place.ending, WRITERS)}")
    with tempfile.TemporaryDirectory(prefix="eptaro-") as folder:
        made = Path(folder) / "made"
        writer(table, made)
        with made.open("rb") as source:
            place.write(lambda sink: shutil.copyfileobj(source, sink))
    return place.name


def replace_whole(target: Path, fill: Callable[[Path], None]) -> Path:
    """Let `fill` write a file beside its place, then rename it to `target`.

    A symbolic link stays: what it points to is written. A device or a named pipe is written
    to. What a run that was killed left beside the place is taken away. Raises `InputError`
    where the folder is missing or cannot be written.
    """
    try:
        place = Path(os.path.realpath(target))
        if place.exists() and not place.is_file():
            _write_to(place, fill)
            return target
        _clear_leftovers(place)
        handle, name = tempfile.mkstemp(dir=place.parent, prefix=_beside(place))
        os.close(handle)
    except (OSError, ValueError) as error:
        raise _unwritten(target, error) from None
    beside = Path(name)
    try:
        fill(beside)
        mode = place.stat().st_mode & 0o777 if place.exists() else 0o666 & ~_umask()
        beside.chmod(mode)
        beside.replace(place)
    except (OSError, UnicodeError) as error:
        raise _unwritten(target, error) from None
    finally:
        beside.unlink(missing_ok=True)
    return target


def _unwritten(target: Path, error: Exception) -> InputError:
    said = (error.strerror if isinstance(error, OSError) else None) or error
    return InputError(f"{target}: cannot be written: {said}")


def _beside(place: Path) -> str:
    """Return how the names begin of files written beside a place by this process."""
    return f".{place.name[:100]}.{os.getpid()}-"


def _clear_leftovers(place: Path) -> None:
    """Take away what processes that no longer run left beside a place."""
    left = re.compile(re.escape(f".{place.name[:100]}.") + r"(\d+)-\w+")
    for file in place.parent.iterdir():
        found = left.fullmatch(file.name)
        if found and int(found[1]) != os.getpid() and not runs(int(found[1])):
            file.unlink(missing_ok=True)


def _write_to(place: Path, fill: Callable[[Path], None]) -> None:
    """Write to a device or a named pipe what `fill` makes."""
    if place.is_dir():
        raise IsADirectoryError(errno.EISDIR, "Is a directory")
    with tempfile.TemporaryDirectory(prefix="eptaro-") as folder:
        made = Path(folder) / "made"
        fill(made)
        with made.open("rb") as source, place.open("wb", buffering=0) as sink:
            while part := source.read(1 << 16):
                rest = memoryview(part)
                while rest:
                    rest = rest[sink.write(rest) :]


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def _csv(table: Table, path: Path) -> None:
    with path.open("wb") as sink:
        write_csv(table, sink)


def _parquet(table: Table, path: Path) -> None:
    from pyarrow import parquet

    parquet.write_table(table.to_arrow(), path)


def _arrow(table: Table, path: Path) -> None:
    from pyarrow import feather

    feather.write_feather(table.to_arrow(), str(path), compression="uncompressed")


def _json(table: Table, path: Path) -> None:
    path.write_text(to_json(table), encoding="utf-8")


def _markdown(table: Table, path: Path) -> None:
    path.write_text(to_markdown(table), encoding="utf-8")


def _html(table: Table, path: Path) -> None:
    from eptaro.outputs.html import to_html

    path.write_text(to_html(table), encoding="utf-8")


WRITERS: dict[str, Callable[[Table, Path], None]] = {
    ".csv": _csv,
    ".parquet": _parquet,
    ".json": _json,
    ".md": _markdown,
    ".arrow": _arrow,
    ".xlsx": write_xlsx,
    ".html": _html,
}
