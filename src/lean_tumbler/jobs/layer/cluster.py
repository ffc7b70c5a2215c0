"""Derivations on many machines, a Dask cluster: the side that talks to it.

It runs as a process of its own, `python -m lean_tumbler.jobs.layer.cluster`, because Dask unpickles
what its machines send: whoever has one of them runs code here. So nothing is here that is worth it:
no database's credentials, no backup, no key. What comes out of it are lines of JSON, which
`cluster_process` reads and checks.

What crosses the network is legacy digests, salts, parameters and new digests; never a database's
credentials, and never a password.
"""

import json
import logging
import sys
from base64 import b64decode, b64encode
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future
from contextlib import contextmanager
from functools import partial
from threading import Event, Lock, Thread
from typing import Any, BinaryIO
from urllib.parse import urlsplit

from lean_tumbler.errors import SourceError, StoreUnavailable, TumblerError, UsageError
from lean_tumbler.jobs.layer.cluster_worker import digests
from lean_tumbler.stores.transport import leaves_this_machine

_CONNECT_SECONDS = 10
_LOOK_SECONDS = 0.5
_TRIES = 4
_CONNECTED = frozenset({"running", "connecting"})


class ClusterExecutor(Executor):
    """Runs calls on the workers of a cluster. A worker that is lost is replaced by another.

    Args:
        inner: the cluster's own executor.
        address: what messages call it.
        is_connected: whether the scheduler is there, or may still come back.
    """

    def __init__(self, inner: Executor, address: str, is_connected: Callable[[], bool]) -> None:
        self._inner, self._address, self._is_connected = inner, address, is_connected
        self._lock = Lock()
        self._waiting: set[Future[Any]] = set()

    def submit(self, call: Callable[..., Any], /, *arguments: Any, **named: Any) -> "Future[Any]":
        """Run a call somewhere; its result raises `StoreUnavailable` where the cluster is lost."""
        future: Future[Any] = Future()
        with self._lock:
            self._waiting.add(future)
        self._try(future, partial(self._inner.submit, call, *arguments, **named), _TRIES)
        return future

    def _try(self, future: "Future[Any]", submit: Callable[[], "Future[Any]"], tries: int) -> None:
        try:
            inner = submit()
        except RuntimeError:  # the executor has been shut down
            self._end(future)
            return
        inner.add_done_callback(partial(self._pass_on, future, submit, tries - 1))

    def _pass_on(
        self,
        future: "Future[Any]",
        submit: Callable[[], "Future[Any]"],
        tries: int,
        inner: "Future[Any]",
    ) -> None:
        failed = inner.cancelled() or inner.exception() is not None
        # A worker that dies just after its result was fetched leaves an error in the result's place
        if failed and tries and self._is_connected():
            self._try(future, submit, tries)
        else:
            self._end(future, None if failed else inner)

    def _end(self, future: "Future[Any]", inner: "Future[Any] | None" = None) -> None:
        with self._lock:
            if future not in self._waiting:
                return
            self._waiting.discard(future)
        if inner is None:
            future.set_exception(self._lost())
        else:
            future.set_result(inner.result())

    def give_up_if_lost(self) -> None:
        """End the wait for results where the scheduler has gone: they never come by themselves."""
        if self._is_connected():
            return
        with self._lock:
            lost = set(self._waiting)
        for future in lost:
            self._end(future)

    def _lost(self) -> StoreUnavailable:
        return StoreUnavailable(f"{self._address}: the scheduler, or too many workers, went away")


@contextmanager
def _looked_after(executor: ClusterExecutor) -> Iterator[None]:
    """Look now and then whether the cluster is still there."""
    ended = Event()

    def look() -> None:
        while not ended.wait(_LOOK_SECONDS):
            executor.give_up_if_lost()

    thread = Thread(target=look, daemon=True)
    thread.start()
    try:
        yield
    finally:
        ended.set()
        thread.join()


@contextmanager
def cluster_executor(address: str) -> Iterator[tuple[Executor, int]]:
    """Connect to a scheduler; give the executor, and how many calls run at once.

    Args:
        address: tcp://HOST:PORT, or tls://HOST:PORT with the certificates of Dask's configuration.

    Raises:
        UsageError: another form of address, or the package is not installed.
        SourceError: the scheduler cannot be reached, or has no workers.
    """
    parts = urlsplit(address)
    if parts.scheme not in {"tcp", "tls"} or not parts.hostname:
        raise UsageError("--cluster takes tcp://HOST:8786 or tls://HOST:8786")
    try:
        from distributed import Client  # noqa: PLC0415 - an extra
    except ModuleNotFoundError:
        raise UsageError("--cluster needs the extra: pip install 'lean-tumbler[cluster]'") from None
    for name in list(logging.root.manager.loggerDict):  # what fails for good is raised here
        if name.split(".")[0] == "distributed":
            logging.getLogger(name).setLevel(logging.CRITICAL)
    try:
        client: Any = Client(address, timeout=_CONNECT_SECONDS, set_as_default=False)  # type: ignore[no-untyped-call]
    except (OSError, TypeError, ValueError):
        raise SourceError(f"{address}: no scheduler answers there") from None
    with client:
        workers = sum(client.nthreads().values())
        if not workers:
            raise SourceError(f"{address}: the scheduler has no workers; start some first")
        executor = ClusterExecutor(
            client.get_executor(pure=False), address, lambda: client.status in _CONNECTED
        )
        with _looked_after(executor):
            yield executor, workers


def is_overheard(address: str) -> bool:
    """Tell whether an address lets others on the network read along."""
    parts = urlsplit(address)
    return parts.scheme != "tls" and leaves_this_machine(parts.hostname)


def _serve(lines: BinaryIO, out: BinaryIO) -> None:
    """Answer the other side until it ends: an address first, then lists of tasks."""
    lock = Lock()

    def say(**answer: object) -> None:
        with lock:
            out.write(json.dumps(answer).encode("ascii") + b"\n")
            out.flush()

    def done(number: int, future: "Future[Any]") -> None:
        try:
            results = [[_coded(raw), seconds] for raw, seconds in future.result()]
            say(id=number, results=results)
        except Exception as error:  # noqa: BLE001 - whatever a cluster raises is a lost answer
            say(id=number, lost=str(error) if isinstance(error, StoreUnavailable) else "no result")

    address = json.loads(lines.readline())
    try:
        with cluster_executor(address) as (executor, workers):
            say(workers=workers)
            for line in lines:
                request = json.loads(line)
                tasks = [(scheme, costs, b64decode(salt), b64decode(secret))
                         for scheme, costs, salt, secret in request["tasks"]]  # fmt: skip
                future = executor.submit(digests, tasks)
                future.add_done_callback(partial(done, request["id"]))
    except TumblerError as error:
        say(error=str(error), usage=isinstance(error, UsageError))


def _coded(raw: object) -> str | None:
    return b64encode(raw).decode("ascii") if isinstance(raw, bytes) else None


if __name__ == "__main__":
    _serve(sys.stdin.buffer, sys.stdout.buffer)
