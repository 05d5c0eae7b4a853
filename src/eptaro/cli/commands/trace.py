"""The `trace` command: what is behind one number of a verb's answer."""

from __future__ import annotations

from pathlib import Path

import click
import numpy as np

from eptaro.cli.commands.verbs import accumulate, compare, recap, restated, rhythm, trail
from eptaro.cli.help import DEMO, OUTPUT, QUESTION, HeadedCommand, option
from eptaro.cli.messages import notify
from eptaro.core.results.column import Column
from eptaro.core.results.format import escape_controls
from eptaro.errors import EptaroError, QuestionError, count_noun
from eptaro.table import Table

_VERBS = {
    "recap": recap,
    "accumulate": accumulate,
    "trail": trail,
    "compare": compare,
    "restated": restated,
    "rhythm": rhythm,
}


@click.command(
    cls=HeadedCommand,
    context_settings={"ignore_unknown_options": True},
    examples=(
        (
            "The days and bookings behind the second route's change",
            f"trace compare {DEMO} --per quarter --to-date --by route --row 2 --column "
            "revenue_change",
        ),
        (
            "One month's total, with its bookings in a file",
            f"trace recap {DEMO} --per month --row 1 --column revenue --rows-to april.csv",
        ),
        (
            "A rolling window",
            f"trace trail {DEMO} --back '6 months' --every month --row 12 --column "
            "revenue_trailing",
        ),
    ),
)
@click.argument("verb", type=click.Choice(list(_VERBS)))
@option(
    QUESTION,
    "--row",
    type=click.IntRange(1),
    metavar="N",
    required=True,
    help="The row of the answer, from 1.",
)
@option(QUESTION, "--column", required=True, metavar="NAME", help="The column of the number.")
@option(
    OUTPUT,
    "--rows-to",
    type=click.Path(path_type=Path),
    metavar="FILE",
    default=None,
    help="Write the places of its transactions in the input to a file.",
)
@option(
    OUTPUT,
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
    """Show the audit trail of one number, and calculate it again from its transactions."""
    table = _VERBS[verb]().reply(rest).table
    if row > len(table):
        rows = count_noun(len(table), "row")
        raise QuestionError(f"there is no row {row:,}; the answer has {rows}")
    proof = table.trace(row - 1, column)
    click.echo("\n".join(map(escape_controls, str(proof).split("\n"))))
    if rows_to is not None:
        places = Column.of(
            "row",
            "integer",
            list(proof.rows),
            unit="number",
            description="Place in the input, from 1",
        )
        columns = [places]
        if any(proof.tables):
            names, codes = np.unique(np.array(proof.tables), return_inverse=True)
            columns.insert(0, Column.text("table", names, codes, description="Whose row it is"))
        notify(f"{len(places):,} places written to {Table(columns).write(rows_to)}")
    if pairs_to is not None:
        if proof.pairs is None:
            raise QuestionError(f"the days of {column} have no counterparts to be paired with")
        notify(f"{len(proof.pairs):,} pairs written to {proof.pairs.write(pairs_to)}")
    if not proof.agrees:
        raise EptaroError("the number in the table is not the one that its transactions give")
