"""`FoldedBook`: a kept book, and the ways into one by an engine that is named."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eptaro.core.calendars.span import Span
from eptaro.core.questions.book_options import BookOptions, Calendars, Measures, Worked
from eptaro.core.questions.group_coverage import Coverage
from eptaro.core.questions.scope import By, Scope
from eptaro.core.tables.format import Format
from eptaro.kept import KeptBook
from eptaro.patience import PATIENCE, waiting_at_most
from eptaro.rules.dates import DateRules, date_rules
from eptaro.rules.files import FileRules
from eptaro.rules.lookups import Lookups
from eptaro.rules.numbers import Numbers

if TYPE_CHECKING:
    from eptaro.daybook import Daybook
    from eptaro.engines.files import Engine


class FoldedBook(KeptBook):
    """Transactions folded by the engine that is named."""

    @classmethod
    def fold(
        cls,
        what: Any,
        *,
        date: str,
        measures: Measures = (),
        engine: Engine = "stream",
        client: Any = None,
        by: By = None,
        calendar: Calendars = None,
        coverage: Coverage = None,
        dates: DateRules | None = None,
        zone: str | None = None,
        files: FileRules | None = None,
        formats: Mapping[str, Format] | None = None,
        workdays: Worked = None,
        values: By = None,
        where: str | None = None,
        numbers: Numbers = None,
        lookups: Lookups = None,
        into: str | Path | None = None,
        shards: int | None = None,
        patience: float = PATIENCE,
        **named: str,
    ) -> Daybook:
        """Fold files by the engine named; whichever it is, the book is the same.

        A database is folded by `from_sql`. Sums of floats may differ in their last bits. The
        other parameters, and the errors, are those of `Daybook`.

        Parameters
        ----------
        what : str, Path, sequence of these, or a Dask frame
            The files; a Dask frame for the engine `dask`.
        engine : {"stream", "local", "dask"}
            `stream` reads files piece by piece, `local` into memory at once, `dask` on the
            workers of a cluster.
        client : Client or str, optional
            A Dask client, or the address of a scheduler; without it, workers on this machine.
        files : FileRules, optional
            How files are written.
        into : str or Path, optional
            A folder that the book is to lie in, shard by shard, which may be larger than memory;
            where there is one already, the rows are added to it.
        shards : int, optional
            Into how many shards groups are dealt, by default as many as make some million cells
            each. On a cluster, without `into`, the workers keep them; their client must stay.
        patience : float
            Seconds after which a store or a cluster is given up that gives no answer.

        Returns
        -------
        Daybook
            The book of all their rows.
        """
        from eptaro.engines.files import check_engine, fold_files

        check_engine(engine)
        asked = BookOptions.of(
            measures, by, calendar, coverage, formats, workdays, values, where, date, named
        )
        with waiting_at_most(patience):
            if into is not None or shards is not None:
                from eptaro.sharded.folding import fold_sharded
                from eptaro.sharded.readas import ReadAs

                read = ReadAs.given(
                    date, by, date_rules(dates, zone), files, numbers, lookups, values, where
                )
                return fold_sharded(
                    what,
                    asked,
                    read,
                    into=into,
                    engine=engine,
                    client=client,
                    shards=shards,
                    patience=patience,
                )
            folded = fold_files(
                *(what, engine, date, asked.by, asked.planes, date_rules(dates, zone), files),
                *(client, patience, asked.formulas, numbers, lookups),
            )
            return cls._of(folded, asked)  # type: ignore[return-value]

    @classmethod
    def from_sql(
        cls,
        url: str,
        what: str,
        *,
        date: str,
        measures: Measures,
        by: By = None,
        only: Mapping[str, Any] | Span | Sequence[Mapping[str, Any] | Span] | None = None,
        calendar: Calendars = None,
        coverage: Coverage = None,
        dates: DateRules | None = None,
        formats: Mapping[str, Format] | None = None,
        workdays: Worked = None,
        where: str | None = None,
        lookups: Lookups = None,
        patience: float = PATIENCE,
    ) -> Daybook:
        """Fold a table (or a SELECT) inside its database; only cells come back.

        `queries` of the book shows what was asked. Sums of whole numbers and decimals are
        exact. The other parameters are those of `Daybook`.

        Parameters
        ----------
        url : str
            An address as SQLAlchemy has it.
        what : str
            A table, `schema.table`, or a query.
        only : Span, mapping, or several of these, optional
            Days and group values to which the database narrows the rows.
        where : str, optional
            The condition that rows must meet; the database works it out.
        patience : float
            Seconds after which a database is given up that gives no answer.

        Returns
        -------
        Daybook
            The book of all rows that are left.

        Raises
        ------
        MeasureError
            For first and last, which need an order of rows.
        InputError
            With what the database refuses.
        """
        from eptaro.engines.databases.fold import fold_database

        asked = BookOptions.of(measures, by, calendar, coverage, formats, workdays, (), where)
        scope, rules = Scope.of_database(only), date_rules(dates)
        with waiting_at_most(patience):
            folded = fold_database(
                url, what, date, asked.by, asked.planes, rules, scope, asked.formulas, lookups
            )
        return cls._of(folded, asked)  # type: ignore[return-value]
