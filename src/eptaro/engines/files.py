"""Files folded by the engine that is named: piece by piece, in memory, or on a cluster."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any, Literal, TypeAlias, assert_never, get_args

from eptaro.core.expressions.formula import PLAIN, Formulas
from eptaro.core.folds.folded import Folded
from eptaro.core.folds.planes import Plane
from eptaro.engines.local import fold_source
from eptaro.errors import QuestionError, unknown
from eptaro.inputs.columns.cleaned import cleaned
from eptaro.inputs.columns.lookedup import looked_up
from eptaro.inputs.columns.wrapped import in_memory
from eptaro.inputs.files.opening import open_files
from eptaro.inputs.sources import Source
from eptaro.rules.dates import DateRules
from eptaro.rules.files import FileRules
from eptaro.rules.lookups import Lookups
from eptaro.rules.numbers import Numbers

Engine: TypeAlias = Literal["stream", "local", "dask"]


def check_engine(engine: str) -> None:
    """Raise `QuestionError` for an engine that there is not."""
    if engine not in get_args(Engine):
        raise QuestionError(unknown("engine", engine, get_args(Engine)))


def fold_files(
    what: Any,
    engine: Engine,
    date: str,
    by: list[str],
    planes: Iterable[Plane],
    dates: DateRules,
    files: FileRules | None,
    client: Any = None,
    patience: float = 60,
    formulas: Formulas = PLAIN,
    numbers: Numbers = None,
    lookups: Lookups = None,
) -> Folded:
    """Return the cells of files, or of a Dask frame; whichever the engine, they are the same."""
    check_engine(engine)
    given = str(what) if isinstance(what, Path) else what
    if engine == "dask":
        from eptaro.engines.cluster import fold_cluster

        return fold_cluster(
            given,
            date,
            by,
            planes,
            dates,
            files,
            client,
            patience=patience,
            formulas=formulas,
            numbers=numbers,
            lookups=lookups,
        )
    paths = [given] if isinstance(given, str) else [str(one) for one in given]
    source: Source = cleaned(looked_up(open_files(paths, files), lookups, dates), numbers)
    match engine:
        case "stream":
            return fold_source(source, date, by, planes, dates, formulas=formulas)
        case "local":
            return fold_source(in_memory(source), date, by, planes, dates, formulas=formulas)
        case _:
            assert_never(engine)
