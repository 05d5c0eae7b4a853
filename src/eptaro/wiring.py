"""Hangs the outer layers on the hooks of `core`; each is imported when first used."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

from eptaro.core import hooks
from eptaro.core.calendars.names import Names
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.planes import Plane
from eptaro.core.tables.table import Table
from eptaro.rules.dates import DateRules


def _open_files(paths: list[str], rules: Any = None) -> Any:
    from eptaro.inputs.files.opening import open_files

    return open_files(paths, rules)


def _fold(
    table: Any,
    date: str | None,
    by: list[str],
    planes: Iterable[Plane],
    rules: DateRules,
    limit: int | None,
) -> Folded:
    from eptaro.engines.local import fold_source
    from eptaro.inputs.sources import FrameSource, Source

    source = table if isinstance(table, Source) else FrameSource(table)
    return fold_source(source, date, by, planes, rules, limit)


def _fold_database(*args: Any) -> Folded:
    from eptaro.engines.sql import fold_database

    return fold_database(*args)


def _fold_cluster(*args: Any, patience: float) -> Folded:
    from eptaro.engines.cluster import fold_cluster

    return fold_cluster(*args, patience=patience)


def _in_memory(source: Any) -> Any:
    from eptaro.inputs.sources import in_memory

    return in_memory(source)


def _value_rows(table: Any, along: str, by: list[str], planes: set[Plane]) -> Any:
    from eptaro.inputs.alongvalues import value_rows

    return value_rows(table, along, by, planes)


def _holidays_from(kind: str, *args: Any, **options: Any) -> Any:
    from eptaro.inputs import holidays

    return getattr(holidays, f"from_{kind}")(*args, **options)


def read_config(path: str | Path) -> Any:
    """Read an `eptaro.toml`: its `calendars`, `workdays`, `holidays`, `locale` and data set.

    See `eptaro.inputs.config`. Raises `InputError` naming the key that is wrong.
    """
    from eptaro.inputs.config import read_config

    return read_config(path)


def _frame_rows(frame: Any) -> list[dict[str, Any]]:
    from eptaro.inputs.sources import FrameSource

    return FrameSource(frame).rows()


def _locale_names(locale: str) -> Names:
    from eptaro.inputs.locales import locale_names

    return locale_names(locale)


def _table_to_arrow(table: Table) -> Any:
    from eptaro.outputs.arrow import to_arrow

    return to_arrow(table)


def _table_to_pandas(table: Table) -> Any:
    from eptaro.outputs.arrow import to_pandas

    return to_pandas(table)


def _book_write(book: Any, path: Path) -> Path:
    from eptaro.storage.writing import write_book

    return write_book(book, path)


def _book_open(path: Path) -> Any:
    from eptaro.storage.reading import open_book

    return open_book(path)


def _table_write(table: Table, path: str | Path) -> Path:
    from eptaro.outputs.files import write

    return write(table, path)


def _report_write(
    book: Any, path: str | Path, options: dict[str, Any], quality: Table | None, as_of: Any
) -> Path:
    from eptaro.reports.report import write_report

    return write_report(book, path, options, quality, as_of)


def _table_load(table: Table, url: str, name: str, mode: str) -> Any:
    from eptaro.outputs.databases import load_table

    return load_table(table, url, name, mode)


def _table_notebook(table: Table, gap: int, rows: str) -> str:
    from eptaro.outputs.html import notebook_html

    return notebook_html(table, gap, rows)


def _table_picture(table: Table, kind: str | None, measure: str | None) -> bytes:
    from tempfile import TemporaryDirectory

    with TemporaryDirectory() as folder:
        return _table_plot(table, Path(folder) / "picture.png", kind, measure).read_bytes()


def _table_plot(table: Table, path: str | Path, kind: str | None, measure: str | None) -> Path:
    from eptaro.pictures.draw import draw

    return draw(table, path, kind, measure)


def inspect(table: Any, **options: Any) -> Table:
    """Return what is in the dates of a frame or of files: see `eptaro.engines.inspect`.

    `table` is a frame, a mapping of arrays, or the path of a file; `files` a `FileRules`.
    The options are `date`, `by`, `keys` and `dates` (`DateRules`).
    """
    from eptaro.engines.inspect import inspect

    return inspect(_source(table, options), **options)


def annotate(table: Any, **options: Any) -> Any:
    """Add attributes to each row of a frame or of files: see `eptaro.engines.annotate`.

    `table` is a frame, a mapping of arrays, or the path of a file; `files` a `FileRules`.
    The options are `add`, `date`, `calendars`, `workdays`, `locale`, `as_of`, `dates`, `out`.
    """
    from eptaro.engines.annotate import annotate

    return annotate(_source(table, options), **options)


def _source(table: Any, options: dict[str, Any]) -> Any:
    rules = options.pop("files", None)
    return _open_files([str(table)], rules) if isinstance(table, str | Path) else table


def connect() -> None:
    """Provide everything that `core` calls for."""
    hooks.provide(
        book_open=_book_open,
        book_write=_book_write,
        holidays_from=_holidays_from,
        open_files=_open_files,
        fold=_fold,
        fold_cluster=_fold_cluster,
        fold_database=_fold_database,
        in_memory=_in_memory,
        locale_names=_locale_names,
        frame_rows=_frame_rows,
        table_to_arrow=_table_to_arrow,
        table_to_pandas=_table_to_pandas,
        report_write=_report_write,
        table_load=_table_load,
        table_notebook=_table_notebook,
        table_picture=_table_picture,
        table_plot=_table_plot,
        table_write=_table_write,
        value_rows=_value_rows,
    )
