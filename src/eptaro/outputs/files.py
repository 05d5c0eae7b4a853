"""Tables as files; the ending decides how."""

from __future__ import annotations

import errno
import os
import re
import shutil
import tempfile
import uuid
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from pathlib import Path

from eptaro.core.results.result import Result
from eptaro.errors import InputError, as_path, unknown
from eptaro.outputs.sheets import write_xlsx
from eptaro.outputs.text import to_json, to_markdown, write_csv
from eptaro.paths import StoragePath, names_folder, runs, scheme_of


def write(table: Result, path: str | Path) -> Path | str:
    """Write a table to a file, or to a new folder where the path ends in `/`, and return the path;
    a file appears whole or not at all.
    """
    if names_folder(path):
        return write_folder(table, path)
    if isinstance(path, str) and scheme_of(path):
        return _write_stored(table, path)
    target = as_path(path)
    writer = WRITERS.get(target.suffix.lower())
    if writer is None:
        raise InputError(f"{target}: {unknown('file ending', target.suffix, WRITERS)}")
    return replace_whole(target, lambda beside: writer(table, beside))


def _write_stored(table: Result, address: str) -> Path | str:
    """Write a table to an object store, where a file is there whole or not at all."""
    place = StoragePath.of(address)
    if place.local is not None:
        return write(table, place.local)
    writer = WRITERS.get(place.ending)
    if writer is None:
        raise InputError(f"{place}: {unknown('file ending', place.ending, WRITERS)}")
    with tempfile.TemporaryDirectory(prefix="eptaro-") as folder:
        path = Path(folder) / "made"
        writer(table, path)
        with path.open("rb") as source:
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
        handle, name = tempfile.mkstemp(dir=place.parent, prefix=_temporary_prefix(place))
        os.close(handle)
    except (OSError, ValueError) as error:
        raise _write_error(target, error) from None
    beside = Path(name)
    try:
        fill(beside)
        mode = place.stat().st_mode & 0o777 if place.exists() else 0o666 & ~_umask()
        beside.chmod(mode)
        beside.replace(place)
    except (OSError, UnicodeError) as error:
        raise _write_error(target, error) from None
    finally:
        beside.unlink(missing_ok=True)
    return target


def _write_error(target: Path, error: Exception) -> InputError:
    reason = (error.strerror if isinstance(error, OSError) else None) or error
    return InputError(f"{target}: cannot be written: {reason}")


def _temporary_prefix(place: Path) -> str:
    """Return how the names begin of files written beside a place by this process."""
    return f".{place.name[:100]}.{os.getpid()}-"


def _clear_leftovers(place: Path) -> None:
    """Take away what processes that no longer run left beside a place."""
    pattern = re.compile(re.escape(f".{place.name[:100]}.") + r"(\d+)-\w+")
    for file in place.parent.iterdir():
        match = pattern.fullmatch(file.name)
        if match and int(match[1]) != os.getpid() and not runs(int(match[1])):
            file.unlink(missing_ok=True)


def _write_to(place: Path, fill: Callable[[Path], None]) -> None:
    """Write to a device or a named pipe what `fill` makes."""
    if place.is_dir():
        raise IsADirectoryError(errno.EISDIR, "Is a directory")
    with tempfile.TemporaryDirectory(prefix="eptaro-") as folder:
        path = Path(folder) / "made"
        fill(path)
        with path.open("rb") as source, place.open("wb", buffering=0) as sink:
            while part := source.read(1 << 16):
                rest = memoryview(part)
                while rest:
                    rest = rest[sink.write(rest) :]


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def _csv(table: Result, path: Path) -> None:
    with path.open("wb") as sink:
        write_csv(table, sink)


def _parquet(table: Result, path: Path) -> None:
    from pyarrow import parquet

    from eptaro.outputs.arrow import to_arrow

    parquet.write_table(to_arrow(table), path)


def _arrow(table: Result, path: Path) -> None:
    from pyarrow import feather

    from eptaro.outputs.arrow import to_arrow

    feather.write_feather(to_arrow(table), str(path), compression="uncompressed")


def _json(table: Result, path: Path) -> None:
    path.write_text(to_json(table), encoding="utf-8")


def _markdown(table: Result, path: Path) -> None:
    path.write_text(to_markdown(table), encoding="utf-8")


def _html(table: Result, path: Path) -> None:
    from eptaro.outputs.html import to_html

    path.write_text(to_html(table), encoding="utf-8")


WRITERS: dict[str, Callable[[Result, Path], None]] = {
    ".csv": _csv,
    ".parquet": _parquet,
    ".json": _json,
    ".md": _markdown,
    ".arrow": _arrow,
    ".xlsx": write_xlsx,
    ".html": _html,
}


_PART = re.compile(r"part-\d{4,}\.parquet|\.part-\d{4,}\.parquet\.\d+")


def write_folder(table: Result, path: str | Path) -> Path | str:
    """Write a table to a new folder, `part-0000.parquet` and so on, and return its path.

    On this machine the folder appears whole or not at all; in an object store each part does.
    Raises `InputError` where the folder is there and holds anything.
    """
    place = StoragePath.of(path)
    if place.is_file() or place.within():
        raise InputError(f"{place}: is there already; name a new folder")
    local = place.local
    if local is None:
        _write_parts(table, place)
        return place.name
    with place.describe_errors("written"):
        local.parent.mkdir(parents=True, exist_ok=True)
        _clear_left_folders(local)
        beside = local.with_name(f".{local.name}.{os.getpid()}-{uuid.uuid4().hex[:8]}")
        beside.mkdir()
    try:
        _write_parts(table, StoragePath(place.system, str(beside), str(place)))
        with place.describe_errors("written"):
            if local.exists():
                local.rmdir()
            beside.rename(local)
    finally:
        shutil.rmtree(beside, ignore_errors=True)
    return Path(path)


def _clear_left_folders(folder: Path) -> None:
    """Take away what runs that were killed left beside a folder: their own files, and no others."""
    pattern = re.compile(re.escape(f".{folder.name}.") + r"(\d+)-[0-9a-f]{8}")
    for other in folder.parent.iterdir():
        match = pattern.fullmatch(other.name)
        if match is None or other.is_symlink() or not other.is_dir() or runs(int(match[1])):
            continue
        for file in other.iterdir():
            if _PART.fullmatch(file.name) and not file.is_symlink():
                file.unlink(missing_ok=True)
        with suppress(OSError):  # it holds something else
            other.rmdir()


def _write_parts(table: Result, folder: StoragePath) -> None:
    if table.parts is None:
        _write_part(0, table, folder=folder)
    else:
        table.parts.each(partial(_write_part, folder=folder))


def _write_part(shard: int, table: Result, folder: StoragePath) -> int:
    from pyarrow import parquet

    from eptaro.outputs.arrow import to_arrow

    place = folder / f"part-{shard:04d}.parquet"
    place.write(partial(parquet.write_table, to_arrow(table)))
    return len(table)
