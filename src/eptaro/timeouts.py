"""Timeouts of object stores, databases and clusters."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

TIMEOUT = 60.0  # seconds
_ATTEMPTS = 2
_timeout: ContextVar[float] = ContextVar("timeout", default=TIMEOUT)


@contextmanager
def waiting_at_most(seconds: float) -> Iterator[None]:
    """Give up what does not answer for so many seconds, in a block."""
    token = _timeout.set(seconds)
    try:
        yield
    finally:
        _timeout.reset(token)


def wait_at_most(seconds: float) -> Any:
    """Give up what does not answer for so many seconds; return what ends that with `wait_again`."""
    return _timeout.set(seconds)


def wait_again(token: Any) -> None:
    """End what `wait_at_most` began."""
    _timeout.reset(token)


def for_stores(system: Any) -> Any:
    """Return a file system of pyarrow that gives up an object store in time."""
    if system.type_name != "s3":
        return system
    from pyarrow import fs

    _, (options,) = system.__reduce__()
    each = max(_timeout.get() / _ATTEMPTS, 0.5)
    again = fs.AwsStandardS3RetryStrategy(max_attempts=_ATTEMPTS)
    options |= {"connect_timeout": each, "request_timeout": each, "retry_strategy": again}
    return fs.S3FileSystem(**{name: value for name, value in options.items() if value != ""})


def connection_options(url: str) -> dict[str, Any]:
    """Return the options with which a driver connects to the database of an address."""
    server = url.partition("://")[0].partition("+")[0] in ("postgresql", "mysql", "mariadb")
    return {"connect_timeout": max(round(_timeout.get()), 1)} if server else {}
