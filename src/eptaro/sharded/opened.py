"""A book's folder, opened."""

from __future__ import annotations

from typing import Any

from eptaro.engines.clients import client_that_stays
from eptaro.errors import InputError
from eptaro.patience import PATIENCE
from eptaro.places import Place
from eptaro.sharded.book import FolderBook
from eptaro.storage.folder.manifest import read_manifest


def open_folder(place: Place, client: Any = None, patience: float = PATIENCE) -> FolderBook:
    """Return the book of a folder, asked in this process or, with a client, on a cluster.

    Raises `InputError` where it is none, or its manifest is damaged.
    """
    manifest = read_manifest(place)
    missing = {p for m in manifest.options.measures for p in m.planes} - {*manifest.planes}
    if missing:
        raise InputError(f"{place}: is a damaged book: it lacks {sorted(missing)[0]}")
    if client is None:
        return FolderBook._made(place, manifest)
    from eptaro.sharded.cluster import ClusterShards  # Dask is loaded where it is used

    cluster = client_that_stays(client, patience)
    shards = ClusterShards(cluster, place, manifest, patience=patience)
    return FolderBook._made(place, manifest, shards=shards)
