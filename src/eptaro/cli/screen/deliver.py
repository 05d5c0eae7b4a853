"""An answer written to a file, or printed as a table, CSV, JSON or Markdown."""

from __future__ import annotations

import sys
from typing import assert_never

from eptaro.cli.lean import leave_pandas_out
from eptaro.cli.options import AnswerOptions, OutputOptions
from eptaro.cli.screen.show import show
from eptaro.cli.told import tell
from eptaro.core.tables.display import visible
from eptaro.core.tables.table import Table
from eptaro.errors import QuestionError, unknown


def deliver(table: Table, output: OutputOptions) -> None:
    """Write a result to a file or print it; where it went is told on standard error."""
    exactly = False
    if isinstance(output, AnswerOptions):
        exactly = output.all_columns or output.columns is not None
        table = table if output.columns is None else _chosen(table, output.columns)
    if output.out is not None or output.form != "table":
        leave_pandas_out()
    if output.out is not None:
        tell(f"{len(table):,} rows written to {table.write(output.out)}")
        return
    if output.form == "table":
        show(table, output.rows, exactly=exactly)
        return
    from eptaro.outputs import text

    match output.form:
        case "csv":
            made = text.to_csv(table)
        case "json":
            made = text.to_json(table)
        case "object":
            made = text.to_json_object(table)
        case "markdown":
            made = text.to_markdown(table)
        case _:
            assert_never(output.form)
    if sys.stdout.isatty():  # a file or another program gets the data as it is
        made = "\n".join(map(visible, made.split("\n")))
    sys.stdout.write(made)


def _chosen(table: Table, columns: str) -> Table:
    """Return the columns that are named, set apart by commas."""
    names = [name.strip() for name in columns.split(",") if name.strip()]
    for name in names:
        if name not in table:
            raise QuestionError(f"--columns: {unknown('column', name, table.names)}")
    return table.select(list(dict.fromkeys(names)))
