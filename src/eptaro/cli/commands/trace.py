"""The `trace` command: what stands behind one number of a verb's answer."""

from __future__ import annotations

from pathlib import Path

import click

from eptaro.cli.commands.accumulate import accumulate
from eptaro.cli.commands.compare import compare
from eptaro.cli.commands.recap import recap
from eptaro.cli.commands.rhythm import rhythm
from eptaro.cli.commands.trail import trail
from eptaro.cli.commands.verb import VerbCommand
from eptaro.cli.reading import tell
from eptaro.core.tables.column import Column
from eptaro.core.tables.display import visible
from eptaro.core.tables.table import Table
from eptaro.errors import EptaroError, QuestionError

_VERBS: dict[str, click.Command] = {
    "recap": recap,
    "accumulate": accumulate,
    "trail": trail,
    "compare": compare,
    "rhythm": rhythm,
}


@click.command(
    context_settings={"ignore_unknown_options": True},
    epilog="Example: eptaro trace compare eptaro-demo/bookings.csv --date sailed_on "
    "--measure 'revenue=sum(fare)' --per quarter --to-date --row 1 --column revenue_change",
)
@click.argument("verb", type=click.Choice(list(_VERBS)))
@click.option("--row", type=click.IntRange(1), required=True, help="The row of the answer, from 1.")
@click.option("--column", required=True, metavar="NAME", help="The column of the number.")
@click.option(
    "--rows-to",
    type=click.Path(path_type=Path),
    metavar="FILE",
    default=None,
    help="Write the places of its transactions in the input to a file.",
)
@click.option(
    "--pairs-to",
    type=click.Path(path_type=Path),
    metavar="FILE",
    default=None,
    help="Write a comparison's days beside their counterparts to a file.",
)
@click.argument("rest", metavar="[THE VERB'S OWN OPTIONS]...", nargs=-1, type=click.UNPROCESSED)
def trace(
    verb: str,
    row: int,
    column: str,
    rows_to: Path | None,
    pairs_to: Path | None,
    rest: tuple[str, ...],
) -> None:
    """Tell the days and transactions behind one number, made again from these."""
    command = _VERBS[verb]
    assert isinstance(command, VerbCommand)
    found = command.reply(rest).table.trace(row - 1, column)
    click.echo("\n".join(map(visible, str(found).split("\n"))))
    if rows_to is not None:
        places = Column.of(
            "row",
            "integer",
            list(found.rows),
            unit="number",
            description="Place in the input, from 1",
        )
        tell(f"{len(places):,} places written to {Table([places]).write(rows_to)}")
    if pairs_to is not None:
        if found.pairs is None:
            raise QuestionError(f"the days of {column} have no counterparts to be paired with")
        tell(f"{len(found.pairs):,} pairs written to {found.pairs.write(pairs_to)}")
    if not found.agrees:
        raise EptaroError("the number in the table is not what its transactions come to")
