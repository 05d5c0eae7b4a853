"""Clients of Dask clusters: connected within a timeout, watched, and closed again."""

from __future__ import annotations

import asyncio
import os
import signal
import time
import warnings
from collections.abc import Iterator
from concurrent.futures import CancelledError
from contextlib import contextmanager, suppress
from multiprocessing import resource_tracker
from typing import Any, TypeVar

from eptaro.background import BackgroundTask
from eptaro.errors import EptaroError, InputError
from eptaro.optional import import_optional
from eptaro.timeouts import TIMEOUT
from eptaro.urls import redact_url, without_secrets

Done = TypeVar("Done")


_EVERY = 0.2


_CLOSING = 5


class Watchdog:
    """Looks, beside the work, whether a cluster still answers and has workers.

    Raises `InputError` where neither was so for `timeout` seconds; work that goes on may
    take as long as it takes.
    """

    def __init__(self, cluster: Any, timeout: float) -> None:
        self._cluster, self._timeout = cluster, timeout
        self._seen, self._said = time.monotonic(), "the scheduler does not answer"
        self._heard: dict[str, float] = {}  # when the scheduler last heard of each worker

    def over(self, work: BackgroundTask[Done]) -> Done:
        """Return the result of some work, or give it up."""
        look = BackgroundTask(self._look)
        looked = time.monotonic()
        while not work.done(_EVERY):
            if look.done() and time.monotonic() > looked + 1:
                look, looked = BackgroundTask(self._look), time.monotonic()
            if time.monotonic() > self._seen + self._timeout:
                raise InputError(
                    f"the cluster gave no answer for {self._timeout:g} seconds: {self._said}"
                )
        return work.result()

    def _look(self) -> None:
        try:
            workers = _workers(self._cluster)
        except Exception as error:  # whatever it is, the scheduler did not answer
            self._said = f"the scheduler does not answer ({type(error).__name__})"
            return
        heard = {name: float(worker.get("last_seen", 0)) for name, worker in workers.items()}
        silent = [name for name, when in heard.items() if self._heard.get(name) == when]
        if heard and len(silent) < len(heard):
            self._seen = time.monotonic()
        self._said = "its workers do not answer" if heard else "it has no workers"
        self._heard = heard


def _workers(cluster: Any) -> dict[str, Any]:
    """Return what the scheduler knows of each worker."""
    try:
        info = cluster.scheduler_info(n_workers=-1)
    except TypeError:  # of versions that always cover all
        info = cluster.scheduler_info()
    workers: dict[str, Any] = info.get("workers", {})
    return workers


@contextmanager
def own_errors() -> Iterator[None]:
    """Turn what the cluster raises into `InputError`, in one line."""
    distributed = import_optional("distributed", "cluster", "folding on a cluster")
    gone = getattr(distributed.client, "ClosedClientError", TimeoutError)  # of newer versions
    try:
        yield
    except EptaroError:
        raise
    except gone:
        raise InputError(
            "the cluster that this book was on is gone; open its folder again, or fold it again"
        ) from None
    except distributed.KilledWorker as error:
        raise InputError(
            f"workers ended while they folded a part ({error.task}), each time that it was tried: "
            f"they may have too little memory for it; give them more, or name more and smaller "
            f"files"
        ) from None
    except (
        OSError,
        RuntimeError,
        ValueError,
        TimeoutError,
        CancelledError,
        asyncio.CancelledError,
    ) as error:
        message = " ".join(str(error).split()) or type(error).__name__
        raise InputError(f"the cluster failed: {message}") from None


@contextmanager
def client_of(client: Any, timeout: float) -> Iterator[Any]:
    """Yield a client; one made here is closed with its workers."""
    distributed = import_optional("distributed", "cluster", "folding on a cluster")
    if getattr(client, "status", "running") == "closed":
        raise InputError("the client is closed; give one that is open, or an address")
    if client is not None and not isinstance(client, str):
        yield client
        return
    if isinstance(client, str):
        connected = _connect(distributed, client, timeout)
        try:
            yield connected
        finally:
            connected.close(timeout=1)
        return
    cluster = BackgroundTask(_own_cluster).result()
    own = distributed.Client(cluster)
    try:
        yield own
    except KeyboardInterrupt:  # a clean end would take longer than anybody waits
        for worker in cluster.workers.values():
            with suppress(AttributeError, TypeError, OSError):
                os.kill(worker.pid, signal.SIGTERM)
        raise
    except BaseException:
        own.close(timeout=1)
        cluster.close(timeout=_CLOSING)
        raise
    own.close()
    cluster.close()


def client_that_stays(client: Any, timeout: float = TIMEOUT) -> Any:
    """Return a client, connected to the scheduler whose address is given; it stays open."""
    distributed = import_optional("distributed", "cluster", "a cluster")
    return _connect(distributed, client, timeout) if isinstance(client, str) else client


def _connect(distributed: Any, address: str, timeout: float) -> Any:
    """Return a client of a scheduler that answers in time."""
    call = BackgroundTask(lambda: distributed.Client(address, timeout=timeout))
    until = time.monotonic() + timeout
    while not call.done(_EVERY):
        if time.monotonic() > until:
            raise InputError(
                f"{redact_url(address)}: no scheduler answers: nothing came in {timeout:g} seconds"
            )
    try:
        return call.result()
    except Exception as error:  # what answers there may be anything
        message = without_secrets(" ".join(str(error).split()), address)
        raise InputError(f"{redact_url(address)}: no scheduler answers: {message}") from None


def _own_cluster() -> Any:
    """Return workers on this machine; Ctrl-C reaches this process alone, which ends them."""
    distributed = import_optional("distributed", "cluster", "folding on a cluster")
    _start_tracker()
    warnings.filterwarnings("ignore", "Creating scratch directories")  # of a slow disk
    if hasattr(signal, "pthread_sigmask"):  # the workers are started with the mask of this thread
        signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    return distributed.LocalCluster(
        threads_per_worker=1,
        processes=True,
        dashboard_address="127.0.0.1:0",  # any free port: another cluster may hold the usual one
        silence_logs=50,
    )


def _start_tracker() -> None:
    """Start the process that clears up after workers, so that it does so without a word."""
    before = os.environ.get("PYTHONWARNINGS")
    os.environ["PYTHONWARNINGS"] = "ignore"
    try:
        resource_tracker.ensure_running()
    finally:
        if before is None:
            del os.environ["PYTHONWARNINGS"]
        else:
            os.environ["PYTHONWARNINGS"] = before
