"""`ShardStore`: the cells of a book in shards, in a folder or on the workers of a cluster."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np

from eptaro.core.aggregation.folded import Folded
from eptaro.core.aggregation.groups import Categorical, Groups
from eptaro.core.aggregation.merge import merge
from eptaro.core.calendars.calendar import Calendar
from eptaro.core.calendars.span import Span
from eptaro.core.calendars.workdays import Workdays
from eptaro.core.measures.measure import Measures
from eptaro.core.query.book_options import chosen_measures
from eptaro.core.query.coverage import asked_by_group, group_spans
from eptaro.core.query.own_calendars import OwnCalendars, check_own
from eptaro.core.query.query import AsOf, By, MeasuredQuery, Only, Query
from eptaro.core.query.view import BookData, View
from eptaro.core.results.column import Column
from eptaro.core.results.format import Format
from eptaro.core.results.result import Result
from eptaro.core.verbs.store import answer
from eptaro.engines.clients import client_that_stays
from eptaro.engines.local import free_memory
from eptaro.errors import InputError, QuestionError
from eptaro.paths import StoragePath
from eptaro.record import record
from eptaro.sharded.planner import ask_shards, view_of_shards
from eptaro.sharded.shard_query import BookContext
from eptaro.sharded.shards import FolderShards, Shards
from eptaro.storage.folder.manifest import Manifest, read_manifest
from eptaro.timeouts import TIMEOUT

_NOTHING = Categorical(np.zeros(0, np.int32), Column.text("", np.array([], object)))
_BYTES = 24  # of each cell in memory, and again for each plane
AT_ONCE = 1_000_000  # cells that are held in memory without another thought


@record
class ShardStore:
    """The book of a manifest as it was when it was opened; `folder` is None where the workers of
    a cluster hold the shards. Up to `run_parallel` cells are put together in memory to be asked.
    """

    folder: StoragePath | None
    manifest: Manifest
    shards: Shards
    about: BookData
    at_once: int

    @classmethod
    def of(
        cls,
        folder: StoragePath | None,
        manifest: Manifest,
        shards: Shards | None = None,
        formats: Mapping[str, Format] | None = None,
    ) -> ShardStore:
        """Return the store of a manifest; without `shards`, those of its folder."""
        if shards is None:
            assert folder is not None
            shards = FolderShards(folder, manifest)
        options = manifest.options
        assert isinstance(options.workdays, Workdays)
        names = Groups(dict.fromkeys(manifest.by, _NOTHING), manifest.groups)
        common, own = check_own(options.calendar)
        about = BookData(
            replace(manifest.metadata(), groups=names, formats=formats or {}),
            options.measures,
            common,
            Span.parse(manifest.about["coverage"]),
            options.workdays,
            own,
            declared=None if asked_by_group(options.coverage) else options.coverage,
        )
        return cls(folder, manifest, shards, about, AT_ONCE)

    @classmethod
    def open(cls, place: StoragePath, client: Any = None, timeout: float = TIMEOUT) -> ShardStore:
        """Return the store of a folder, asked in this process or, with a client, on a cluster.

        Raises `InputError` where it is none, or its manifest is damaged.
        """
        manifest = read_manifest(place)
        missing = {p for m in manifest.options.measures for p in m.planes} - {*manifest.planes}
        if missing:
            raise InputError(f"{place}: is a damaged book: it lacks {sorted(missing)[0]}")
        if client is None:
            return cls.of(place, manifest)
        from eptaro.sharded.cluster import ClusterShards  # Dask is loaded where it is used

        cluster = client_that_stays(client, timeout)
        return cls.of(place, manifest, ClusterShards(cluster, place, manifest, timeout=timeout))

    @property
    def where(self) -> str:
        """Where the cells lie, in words."""
        count = self.manifest.shards
        place = "on a cluster" if self.folder is None else f"in {self.folder}"
        return f" in {count} shard{'s' if count > 1 else ''} {place}"

    @property
    def context(self) -> BookContext:
        """What every shard has in common."""
        about = self.about
        return BookContext(
            *(about.folded, about.measures, about.calendar, about.coverage, about.workdays),
            about.own,
            asked_by_group(self.manifest.options.coverage),
        )

    @cached_property
    def _folded(self) -> Folded:
        """All cells in memory, which only some queries need."""
        needed = self.manifest.cells * _BYTES * (1 + len(self.manifest.planes))
        if needed > free_memory():
            raise QuestionError(
                f"this takes all {self.manifest.cells:,} cells of {self.about.source} into memory, "
                f"about {needed / 2**30:,.1f} GiB; ask by fewer group columns, or narrow with only="
            )
        reduced = self.shards.reduce(_all_of, merge)
        if reduced is None:
            raise InputError(f"{self.folder}: the book holds no rows")
        rows = self.about.folded
        return replace(rows, groups=reduced.groups, cells=reduced.cells, distinct=reduced.distinct)

    @cached_property
    def facts(self) -> BookData:
        """The book with all its cells in memory; raises `QuestionError` where they do not fit."""
        context, folded = self.context, self._folded
        spans = (
            None if context.asked is None else group_spans(context.asked, folded, context.coverage)
        )
        return replace(context.facts(folded, spans), declared=self.about.declared)

    @property
    def at_hand(self) -> BookData:
        """The facts where there are few cells, else what the manifest holds."""
        return self.facts if self._at_once else self.about

    @property
    def _at_once(self) -> bool:
        """Whether a query takes all cells: there are few, or other groups decide as well."""
        whole = any(measure.over_all for measure in self.about.measures)
        return whole or self.manifest.cells <= self.at_once

    def ask(self, query: Query) -> Result:
        """Return the answer to a query."""
        if isinstance(query, MeasuredQuery) and query.measures is not None:
            return self.measuring(query.measures).ask(replace(query, measures=None))
        if self._at_once:
            return answer(self.facts, query)
        return ask_shards(self.shards, self.manifest.shards, self.context, query)

    def view(self, by: By = None, only: Only = None, as_of: AsOf = None) -> View:
        """Return what a query looks at."""
        if self._at_once:
            return self.facts.view(by, only, as_of)
        query = Query(by=by, only=only, as_of=as_of)
        return view_of_shards(self.shards, self.manifest.shards, self.context, query)

    def on_calendar(
        self, calendar: Calendar | OwnCalendars, workdays: Workdays | None
    ) -> ShardStore:
        """Return the same cells on another calendar."""
        common, own = check_own(calendar)
        about = replace(
            self.about, calendar=common, own=own, workdays=workdays or self.about.workdays
        )
        return replace(self, about=about)

    def measuring(self, measures: Measures) -> ShardStore:
        """Return the same cells with some of the measures, or others that they allow."""
        own = chosen_measures(measures, self.about.measures, self.manifest.planes)
        return replace(self, about=replace(self.about, measures=own))

    def formatted(self, formats: Mapping[str, Format]) -> ShardStore:
        """Return the same cells with some measures shown in another way."""
        return replace(self, about=self.about.formatted(formats))

    def of_manifest(self, manifest: Manifest) -> ShardStore:
        """Return the store of the same folder after a change."""
        store = self.of(self.folder, manifest, formats=self.about.folded.formats)
        about = replace(store.about, workdays=self.about.workdays)
        return replace(store, about=about, at_once=self.at_once)


def _all_of(shard: int, folded: Folded) -> Folded:
    return folded
