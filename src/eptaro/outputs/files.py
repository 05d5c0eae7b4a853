"""Tables as files; the ending decides how."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable
from pathlib import Path

from eptaro.core.errors import InputError, unknown
from eptaro.core.table import Table
from eptaro.outputs.sheets import write_xlsx
from eptaro.outputs.text import to_json, to_markdown, write_csv


def write(table: Table, path: str | Path) -> Path:
    """Write a table to a file and return its path; the file appears whole or not at all."""
    target = Path(path)
    writer = WRITERS.get(target.suffix.lower())
    if writer is None:
        raise InputError(f"{target}: {unknown('file ending', target.suffix, WRITERS)}")
    return replace_whole(target, lambda beside: writer(table, beside))


def replace_whole(target: Path, fill: Callable[[Path], None]) -> Path:
    """Let `fill` write a file beside its place, then rename it to `target`.

    Raises `InputError` where the folder is missing or cannot be written.
    """
    try:
        handle, name = tempfile.mkstemp(dir=target.parent, prefix=f".{target.name}.")
        os.close(handle)
    except OSError as error:
        raise InputError(f"{target}: cannot be written: {error.strerror}") from None
    beside = Path(name)
    try:
        fill(beside)
        mode = target.stat().st_mode & 0o777 if target.exists() else 0o666 & ~_umask()
        beside.chmod(mode)
        beside.replace(target)
    except OSError as error:
        raise InputError(f"{target}: cannot be written: {error.strerror or error}") from None
    finally:
        beside.unlink(missing_ok=True)
    return target


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
