"""A helper program that gives a key, for vaults and security modules: a line of JSON each way.

docs/FORMATS.md has the exchange. What a helper says is never shown: it may hold a secret.
"""

import json
import os
import selectors
import signal
import subprocess
import time
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from lean_tumbler.errors import StoreUnavailable, UsageError
from lean_tumbler.stores.json_text import load_json

REQUEST = "lean-tumbler/key-request/1"
ANSWER_SECONDS = 10.0
ANSWER_BYTES = 4096


def key_from_helper(
    name: str,
    command: Sequence[str],
    *,
    folder: Path,
    answer_seconds: float = ANSWER_SECONDS,
) -> bytes:
    """Ask a helper for a key.

    Args:
        name: of the key.
        command: the program and its arguments; no shell reads them.
        folder: that it is started in.
        answer_seconds: how long an answer may take.

    Returns:
        The key, in the form that the policy names.

    Raises:
        UsageError: there is no such program.
        StoreUnavailable: it gives no key in time, or something else.
    """
    what = f"[keys] “{name}”: the helper {Path(command[0]).name}"
    request = json.dumps({"document": REQUEST, "key": name}).encode("ascii") + b"\n"
    try:
        running = subprocess.Popen(  # noqa: S603 - the policy's own program, without a shell
            command,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            cwd=folder,
            start_new_session=True,
        )
    except OSError as error:
        raise UsageError(f"{what} cannot be started: {error.strerror}") from None
    try:
        answer = _answered(running, request, answer_seconds)
    finally:
        with suppress(ProcessLookupError):
            os.killpg(running.pid, signal.SIGKILL)
        running.wait()
        for stream in (running.stdin, running.stdout):
            with suppress(OSError):
                stream.close() if stream else None
    if answer is None:
        raise StoreUnavailable(f"{what} gave no answer within {answer_seconds:.0f} s")
    return _key_of(answer, what)


def _answered(running: "subprocess.Popen[bytes]", request: bytes, seconds: float) -> bytes | None:
    """Give what a helper writes until it ends its line or itself; None where it takes too long."""
    if running.stdin is None or running.stdout is None:
        return None
    with suppress(OSError):  # it may have ended already; what it wrote counts
        running.stdin.write(request)
        running.stdin.close()
    ends, answer = time.monotonic() + seconds, b""
    with selectors.DefaultSelector() as selector:
        selector.register(running.stdout, selectors.EVENT_READ)
        while b"\n" not in answer and len(answer) <= ANSWER_BYTES:
            if not selector.select(max(0.0, ends - time.monotonic())):
                return None
            part = os.read(running.stdout.fileno(), ANSWER_BYTES)
            if not part:
                break
            answer += part
    return answer


def _key_of(answer: bytes, what: str) -> bytes:
    try:
        document = load_json(answer.decode("utf-8")) if len(answer) <= ANSWER_BYTES else None
    except ValueError:
        document = None
    key = document.get("key") if isinstance(document, dict) else None
    if not isinstance(key, str) or not key.isascii():
        is_refused = isinstance(document, dict) and "error" in document
        said = "has no such key, or refuses it" if is_refused else "gave something else than a key"
        raise StoreUnavailable(f"{what} {said}")
    return key.encode("ascii")
