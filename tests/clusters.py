"""Clusters on this machine for tests."""

from __future__ import annotations

import unittest
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

try:
    from distributed import Client, LocalCluster
except ImportError:
    Client = LocalCluster = None

needs_clusters = unittest.skipIf(
    Client is None, "dask.distributed is not installed: pip install 'eptaro[cluster]'"
)


def local_cluster(**options: Any) -> Any:
    """Return workers that end with their context. Tests take warnings for errors, but the
    library's own, of a slow disk or a port in use, say nothing of this package: they are ignored
    from here on in this process.
    """
    warnings.filterwarnings("ignore", module=r"asyncio|contextlib|dask|distributed|tornado")
    free = {"threads_per_worker": 1, "dashboard_address": "127.0.0.1:0", "silence_logs": 50}
    return LocalCluster(**{**free, **options})


@contextmanager
def client_of_threads() -> Iterator[Any]:
    """Yield a client of a worker that is a thread of this process: where no test is of workers."""
    with local_cluster(n_workers=1, processes=False) as workers, Client(workers) as client:
        yield client
