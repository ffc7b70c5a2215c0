"""The process that talks to a cluster, from the side that does not trust it.

It gets tasks and gives digests, both as lines of JSON; a digest of another length, an answer that
nobody asked for, or one that is none, ends the run.
"""

import json
import os
import subprocess
import sys
from base64 import b64decode, b64encode
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Future
from contextlib import contextmanager
from itertools import count
from threading import Lock, Thread
from typing import Any

from lean_tumbler.core.row_plans import DerivationTask
from lean_tumbler.errors import SourceError, StoreUnavailable, UsageError
from lean_tumbler.migration.bulk.deriving import RemoteDerivation
from lean_tumbler.stores.json_text import load_json

_LINE_BYTES = 1 << 24
# What the process needs to find its programs and certificates; nothing else goes there.
_PASSED_ON = ("PATH", "HOME", "LANG", "LC_ALL", "TMPDIR", "VIRTUAL_ENV", "SSL_CERT_FILE")

Digests = list[tuple[bytes | None, float]]


def passed_on(environment: Mapping[str, str]) -> dict[str, str]:
    """Give what of the environment the process may see: Dask's own settings, and no secrets."""
    return {
        name: value
        for name, value in environment.items()
        if name in _PASSED_ON or name.startswith("DASK_")
    }


class ClusterProcess:
    """Sends tasks to the process, and reads what comes back.

    Args:
        process: with pipes at both ends.
        address: what messages call the cluster.
    """

    def __init__(self, process: "subprocess.Popen[bytes]", address: str) -> None:
        self._process, self._address = process, address
        self._numbers, self._lock, self._sending = count(), Lock(), Lock()
        self._waiting: dict[int, tuple[Future[Digests], int]] = {}
        self._ended = False

    def start(self) -> int:
        """Connect; give how many calls run at once.

        Raises:
            UsageError: the address is none, or the package is not installed.
            SourceError: the scheduler cannot be reached, or has no workers.
        """
        self._send(self._address)
        answer = self._read()
        if answer is None:
            raise self._lost()
        if "error" in answer:
            kind = UsageError if answer.get("usage") else SourceError
            raise kind(str(answer["error"]))
        workers = answer.get("workers")
        if not isinstance(workers, int) or workers < 1:
            raise self._wrong()
        Thread(target=self._listen, daemon=True).start()
        return workers

    def digests(self, tasks: Sequence[DerivationTask]) -> "Future[Digests]":
        """Have digests derived; the result raises `StoreUnavailable` where the cluster is lost."""
        future: Future[Digests] = Future()
        with self._lock:
            number = next(self._numbers)
            self._waiting[number] = future, len(tasks)
            ended = self._ended
        try:
            if not ended:
                self._send({"id": number, "tasks": [_named(task) for task in tasks]})
        except OSError:
            ended = True
        if ended:
            self._end_all(self._lost())
        return future

    def _send(self, what: object) -> None:
        pipe = self._process.stdin
        if pipe is None:
            raise self._lost()
        with self._sending:
            pipe.write(json.dumps(what).encode("ascii") + b"\n")
            pipe.flush()

    def _read(self) -> dict[str, Any] | None:
        """Read an answer; None where there are no more."""
        pipe = self._process.stdout
        line = pipe.readline(_LINE_BYTES) if pipe is not None else b""
        if not line:
            return None
        try:
            answer = load_json(line)
        except ValueError:
            raise self._wrong() from None
        if not isinstance(answer, dict):
            raise self._wrong()
        return answer

    def _listen(self) -> None:
        try:
            while (answer := self._read()) is not None:
                self._take(answer)
            self._end_all(self._lost())
        except SourceError as error:
            self._end_all(error)
            self._process.kill()

    def _take(self, answer: dict[str, Any]) -> None:
        number = answer.get("id")
        with self._lock:
            held = self._waiting.pop(number, None) if isinstance(number, int) else None
        if held is None:
            raise self._wrong()
        future, tasks = held
        if "lost" in answer:
            future.set_exception(self._lost())
            return
        try:
            future.set_result(_digests(answer["results"], tasks))
        except (KeyError, TypeError, ValueError):
            future.set_exception(self._wrong())
            raise self._wrong() from None

    def _end_all(self, error: Exception) -> None:
        with self._lock:
            self._ended = True
            waiting, self._waiting = self._waiting, {}
        for future, _ in waiting.values():
            future.set_exception(error)

    def _lost(self) -> StoreUnavailable:
        return StoreUnavailable(f"{self._address}: the scheduler, or too many workers, went away")

    def _wrong(self) -> SourceError:
        return SourceError(f"{self._address}: the cluster sent an answer to no request; stopped")


def _named(task: DerivationTask) -> list[object]:
    if task.head is None:
        raise ValueError("a password is never derived elsewhere")
    secret = task.head.secret(task.legacy_digest)
    return [task.scheme, task.parameters, _coded(task.fresh_salt), _coded(secret)]


def _coded(raw: bytes) -> str:
    return b64encode(raw).decode("ascii")


def _digests(results: Any, tasks: int) -> Digests:
    """Read results; each is checked for its length where the value is put together.

    Raises:
        ValueError: they are of another form, or of another number.
        TypeError: likewise.
    """
    if not isinstance(results, list) or len(results) != tasks:
        raise ValueError("another number of results")
    return [
        (None if raw is None else b64decode(raw, validate=True), float(seconds))
        for raw, seconds in results
    ]


@contextmanager
def cluster(address: str) -> Iterator[tuple[RemoteDerivation, int]]:
    """Start the process, and connect it to a scheduler; give what derives, and how many at once.

    Raises:
        UsageError: another form of address, or the package is not installed.
        SourceError: the scheduler cannot be reached, or has no workers.
    """
    with subprocess.Popen(
        [sys.executable, "-I", "-m", "lean_tumbler.jobs.layer.cluster"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        env=passed_on(os.environ),
        start_new_session=True,  # Ctrl-C is for this side: the batch in hand is finished
    ) as process:
        try:
            found = ClusterProcess(process, address)
            workers = found.start()
            yield RemoteDerivation(found.digests, address), workers
        finally:
            process.kill()
