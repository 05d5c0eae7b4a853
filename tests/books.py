"""Books of what is folded already, as tests of parts need them."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import AbstractContextManager
from unittest import mock

import eptaro as ep
from eptaro.core.aggregation.folded import Folded
from eptaro.core.query.book_options import BookOptions
from eptaro.core.verbs.store import MemoryStore


def book_of_folded(
    folded: Folded,
    measures: Iterable[ep.Measure],
    calendar: ep.Calendar,
    coverage: ep.Span | str | None = None,
    workdays: ep.Workdays | None = None,
) -> ep.Daybook:
    """Return the book of transactions that were folded before."""
    options = BookOptions(tuple(measures), [], calendar, coverage, workdays=workdays)
    return ep.Daybook._of(MemoryStore(options.facts(folded)))


def without_pictures() -> AbstractContextManager[object]:
    """Leave the pictures of reports out: tests of pages and of screenshots draw them."""
    return mock.patch("eptaro.reports.sections.Section.add_picture")
