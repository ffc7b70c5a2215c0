"""The program with its imports done: each run is a fork, which starts twenty times as quick.

Run by itself it waits on a Unix socket for arguments, environment, folder and three descriptors,
and answers with the process's number, and then with its exit code. What a run does is `main` as the
built program calls it: with streams, folder, environment and end of a process of its own; signals
reach it. Tests of descriptors and of the start itself run the built program.
"""

import atexit
import contextlib
import importlib
import io
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import traceback
from collections.abc import Sequence
from pathlib import Path
from pkgutil import walk_packages
from typing import IO, NoReturn

import lean_tumbler
from lean_tumbler.cli.main import main

# What the commands import when they run. The libraries start no threads before they are used.
_MODULES = (
    "argon2.low_level", "bcrypt", "jinja2", "matplotlib.figure", "polars",
    "psycopg", "pymysql", "rich.progress", "rich.table", "scipy.optimize", "scipy.stats",
    "sqlalchemy", "tomlkit", "zstandard",
)  # fmt: skip
_REQUEST_BYTES = 1 << 20


class Running:
    """A run that goes on, with what a process of one's own offers.

    Args:
        asked: gives the process's number, and its exit code in the end.
        out: gets its standard output.
        err: gets its standard error.
    """

    def __init__(self, asked: socket.socket, out: IO[bytes], err: IO[bytes]) -> None:
        self._asked, self._out, self._err = asked, out, err
        self.returncode: int | None = None
        self.pid = self._answer(30)

    def _answer(self, timeout: float | None) -> int:
        self._asked.settimeout(timeout)
        answer = self._asked.recv(64)
        if not answer:
            raise RuntimeError("the waiting process is gone")
        return int(answer)

    def wait(self, timeout: float | None = None) -> int:
        """Wait for the end; give the exit code."""
        if self.returncode is None:
            try:
                self.returncode = self._answer(timeout)
            except (TimeoutError, BlockingIOError):
                raise subprocess.TimeoutExpired("lean-tumbler", timeout or 0) from None
        return self.returncode

    def poll(self) -> int | None:
        """Give the exit code, if there is one already."""
        with contextlib.suppress(subprocess.TimeoutExpired):
            return self.wait(timeout=0)
        return None

    def send_signal(self, number: int) -> None:
        """Send a signal, unless the process has ended."""
        if self.poll() is None:
            os.kill(self.pid, number)

    def communicate(self, timeout: float | None = None) -> tuple[bytes, bytes]:
        """Wait for the end; give standard output and standard error."""
        self.wait(timeout)
        with self._asked, self._out, self._err:
            self._out.seek(0)
            self._err.seek(0)
            return self._out.read(), self._err.read()


class WarmProgram:
    """Starts the waiting process, and runs the program in forks of it."""

    def __init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory()
        self._address = str(Path(self._folder.name) / "warm")
        self._process: subprocess.Popen[bytes] | None = None

    def _start(self) -> None:
        listening = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        listening.bind(self._address)
        listening.listen()
        number = str(listening.fileno())
        # One thread for arithmetic: a fork takes none along.
        environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
        self._process = subprocess.Popen(
            [sys.executable, __file__, number], pass_fds=(listening.fileno(),), env=environment,
            stdin=subprocess.DEVNULL,
        )  # fmt: skip
        listening.close()

    def start(
        self,
        arguments: Sequence[str],
        *,
        cwd: Path,
        stdin: bytes = b"",
    ) -> Running:
        """Start the program."""
        if self._process is None:
            self._start()
        request = {"arguments": list(arguments), "cwd": str(cwd), "env": dict(os.environ)}
        asked = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        asked.connect(self._address)
        out, err = (tempfile.TemporaryFile() for _ in range(2))  # noqa: SIM115 - Running closes them
        with tempfile.TemporaryFile() as given:
            given.write(stdin)
            given.seek(0)
            descriptors = [file.fileno() for file in (given, out, err)]
            socket.send_fds(asked, [json.dumps(request).encode()], descriptors)
        return Running(asked, out, err)

    def close(self) -> None:
        """End the waiting process."""
        if self._process is not None:
            self._process.kill()
            self._process.wait()
        self._folder.cleanup()


def _serve(listening: socket.socket) -> NoReturn:
    """Fork for each request."""
    while True:
        asked, _ = listening.accept()
        raw, descriptors, _, _ = socket.recv_fds(asked, _REQUEST_BYTES, 3)
        child = os.fork()
        if child == 0:
            listening.close()
            asked.close()
            _run(json.loads(raw), descriptors)
        for descriptor in descriptors:
            os.close(descriptor)
        asked.send(str(child).encode())
        threading.Thread(target=_answer, args=(child, asked), daemon=True).start()


def _answer(child: int, asked: socket.socket) -> None:
    _, status = os.waitpid(child, 0)
    with asked, contextlib.suppress(OSError):
        asked.send(str(os.waitstatus_to_exitcode(status)).encode())


def _run(request: dict[str, object], descriptors: list[int]) -> NoReturn:
    for number, descriptor in enumerate(descriptors):
        os.dup2(descriptor, number)
        os.close(descriptor)
    environment = request["env"]
    os.environ.clear()
    os.environ.update(environment if isinstance(environment, dict) else {})
    os.chdir(str(request["cwd"]))
    signal.signal(signal.SIGINT, signal.default_int_handler)
    sys.stdin, sys.stdout, sys.stderr = (
        io.TextIOWrapper(os.fdopen(number, mode), encoding="utf-8", errors=errors)
        for number, mode, errors in ((0, "rb", "strict"), (1, "wb", "strict"),
                                     (2, "wb", "backslashreplace"))
    )  # fmt: skip
    arguments = request["arguments"]
    sys.argv = ["lean-tumbler", *(arguments if isinstance(arguments, list) else [])]
    code = 1
    try:
        main()
    except SystemExit as ended:
        code = int(ended.code or 0)
    except BaseException:  # noqa: BLE001 - as an interpreter ends
        traceback.print_exc()
    # The rest of an interpreter's end takes longer than most runs: every module is let go.
    threading._shutdown()  # type: ignore[attr-defined] # noqa: SLF001 - nothing public waits so
    atexit._run_exitfuncs()  # noqa: SLF001 - likewise
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    os._exit(code)


def _prepare() -> None:
    found = (each.name for each in walk_packages(lean_tumbler.__path__, "lean_tumbler."))
    for name in (*_MODULES, *found):
        if not name.endswith("__main__"):
            importlib.import_module(name)


if __name__ == "__main__":
    _prepare()
    _serve(socket.socket(fileno=int(sys.argv[1])))
