"""`StoragePath`: a file or folder, on this machine or in an object store, by its address.

Addresses are paths, `file://`, `s3://`, `gs://` and `abfss://` as Arrow's file systems know them,
and whatever the package fsspec knows. Credentials come from where each store has them by its own
convention (environment, profile, role), never from the address.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import unquote

from eptaro.errors import InputError
from eptaro.record import Record, record
from eptaro.timeouts import for_stores

_ADDRESS = re.compile(r"([A-Za-z][A-Za-z0-9+.\-]+)://")
_SLIPPED = re.compile(r"(s3|gs|gcs|abfss?|hdfs|viewfs):/(?!/)", re.IGNORECASE)  # one / too few
_KEYS = re.compile(r"(^|&)[^&=]*(pass|secret|token|key|sig|credential)[^&=]*=", re.IGNORECASE)
_ARROWS = ("file", "s3", "gs", "gcs", "abfs", "abfss", "hdfs", "viewfs")


@record
class StoragePath(Record):
    """A file or folder of a file system.

    >>> str(StoragePath.of("data/bookings.parquet")).endswith("data/bookings.parquet")
    True
    """

    system: Any  # a file system of pyarrow
    path: str
    name: str  # as it may be shown

    @classmethod
    def of(cls, address: str | os.PathLike[str]) -> StoragePath:
        """Return the place that a path or an address names.

        Raises `InputError` for an address that no file system knows, or that holds credentials.
        """
        from pyarrow import fs

        text = os.fspath(address)
        scheme = scheme_of(text)
        if slipped := _SLIPPED.match(text):
            raise InputError(f"an address of {slipped[1]} begins with {slipped[1]}://, with two /")
        if scheme is None:
            return cls(fs.LocalFileSystem(), str(Path(text).absolute()), text)
        from eptaro.urls import redact_url, without_secrets  # which addresses alone need

        redacted = redact_url(text)
        if _has_credentials(scheme, text):
            raise InputError(
                f"{redacted}: an address holds no credentials here; give them where {scheme} "
                f"has them by convention (environment, profile or role)"
            )
        try:
            if scheme in _ARROWS:
                system, path = fs.FileSystem.from_uri(text)
                system = for_stores(system)
            else:
                system, path = _of_fsspec(scheme, text)
        except InputError:
            raise
        except (OSError, ValueError, TypeError, ImportError, NotImplementedError) as error:
            reason = without_secrets(_error_text(error), text)
            raise InputError(f"{redacted}: cannot be opened: {reason}") from None
        return cls(system, path.rstrip("/") or path, redacted.rstrip("/"))

    @property
    def local(self) -> Path | None:
        """The path on this machine, where it is there."""
        return Path(self.path) if self.system.type_name == "local" else None

    def __truediv__(self, name: str) -> StoragePath:
        return StoragePath(self.system, f"{self.path}/{name}", f"{self.name}/{name}")

    def __str__(self) -> str:
        return self.name

    @property
    def ending(self) -> str:
        """The last ending of its name."""
        return Path(self.path).suffix.lower()

    def _info(self) -> Any:
        with self.describe_errors("looked at"):
            return self.system.get_file_info(self.path)

    def is_file(self) -> bool:
        """Return whether it is a file."""
        return bool(self._info().is_file)

    def is_folder(self) -> bool:
        """Return whether it is a folder; in an object store, one that holds something."""
        info = self._info()
        return not info.is_file and (info.type.name == "Directory")

    def size(self) -> int:
        """Return the bytes of a file."""
        return int(self._info().size or 0)

    def within(self) -> list[Found]:
        """Return all files in a folder and the folders in it, in the order of their paths."""
        from pyarrow import fs

        with self.describe_errors("looked through"):
            selector = fs.FileSelector(self.path, recursive=True, allow_not_found=True)
            infos = self.system.get_file_info(selector)
        start = len(self.path) + 1
        files = []
        for info in sorted((i for i in infos if i.is_file), key=lambda info: str(info.path)):
            inside = info.path[start:]
            files.append(Found(self / inside, inside, (info.mtime_ns or 0) / 1e9))
        return files

    def read(self) -> bytes:
        """Return all bytes of a file."""
        with self.describe_errors("read"), self.system.open_input_stream(self.path) as source:
            content: bytes = source.read()
        return content

    def open_input(self) -> Any:
        """Return a file opened to be read here and there."""
        with self.describe_errors("read"):
            return self.system.open_input_file(self.path)

    def write(self, fill: Callable[[Any], None]) -> None:
        """Let `fill` write into a file, which is there whole or not at all."""
        local = self.local
        if local is None:
            with self.describe_errors("written"), self.system.open_output_stream(self.path) as sink:
                fill(sink)
            return
        with self.describe_errors("written"):
            local.parent.mkdir(parents=True, exist_ok=True)
            beside = local.with_name(f".{local.name}.{os.getpid()}")
            try:
                with beside.open("wb") as file:
                    fill(file)
                    file.flush()
                    os.fsync(file.fileno())
                beside.replace(local)
            finally:
                beside.unlink(missing_ok=True)

    def delete(self) -> None:
        """Take a file away, if it is there."""
        with self.describe_errors("deleted"):
            if self._info().is_file:
                self.system.delete_file(self.path)

    @contextmanager
    def describe_errors(self, action: str) -> Iterator[None]:
        """Turn what a file system raises into `InputError` that names the place."""
        try:
            yield
        except FileNotFoundError:
            raise InputError(f"{self.name}: there is no such file") from None
        except (OSError, ValueError) as error:
            if isinstance(error, InputError):
                raise
            raise InputError(f"{self.name}: cannot be {action}: {_error_text(error)}") from None


class Found(NamedTuple):
    """A file in a folder: where it is, its path from there, and when it was written."""

    place: StoragePath
    inside: str
    changed: float  # seconds since 1970


def names_folder(path: object) -> bool:
    """Return whether a path is written as that of a folder, with a `/` at its end.

    >>> names_folder("out/"), names_folder("out.parquet")
    (True, False)
    """
    return isinstance(path, str) and path.endswith(("/", os.sep))


def _has_credentials(scheme: str, text: str) -> bool:
    """Return whether an address holds a user and a password, or keys among its options; also where
    they are percent-encoded.

    The file systems of one cloud write `container@account`, which is no secret.
    """
    rest = text.partition("://")[2]
    user, at, _ = unquote(rest.partition("/")[0]).rpartition("@")
    keys = bool(_KEYS.search(unquote(rest.partition("?")[2])))
    return keys or (":" in user if scheme.startswith("abfs") else bool(at))


def scheme_of(text: str) -> str | None:
    """Return the scheme of an address, None of a path.

    >>> scheme_of("s3://ferries/2024.parquet"), scheme_of("data/2024.parquet")
    ('s3', None)
    """
    match = _ADDRESS.match(text)
    return match[1].lower() if match else None


def is_stored(text: str) -> bool:
    """Return whether an address is one of files rather than of a database.

    >>> is_stored("s3://ferries/2024.parquet"), is_stored("sqlite:///ferries.db")
    (True, False)
    """
    scheme = scheme_of(text)
    return scheme in _ARROWS or (scheme is not None and scheme in _fsspec_schemes())


def _fsspec_schemes() -> set[str]:
    try:
        from fsspec import available_protocols
    except ImportError:
        return set()
    return {*available_protocols()} - {"http+unix"}


def _of_fsspec(scheme: str, text: str) -> tuple[Any, str]:
    from pyarrow import fs

    from eptaro.optional import import_optional

    fsspec = import_optional("fsspec", "cluster", f"reading {scheme}://")
    system, path = fsspec.core.url_to_fs(text)
    return fs.PyFileSystem(fs.FSSpecHandler(system)), path


def _error_text(error: Exception) -> str:
    words = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
    return " ".join(words.split())


def runs(process: int) -> bool:
    """Return whether a process other than this one runs, also where that is not known."""
    if process == os.getpid():
        return False
    if os.name != "posix":
        return True
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):  # another user's, or a number that is none
        return True
    return True
