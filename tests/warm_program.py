"""The program with its imports done: each run is a fork, which starts twenty times as quick.

Run by itself it waits on a Unix socket for arguments, environment, folder and three descriptors,
and answers with the exit code. What a run does is `main` as the built program calls it: with
streams, folder, environment and end of a process of its own. Tests of signals, of descriptors and
of the start itself run the built program.
"""

import atexit
import contextlib
import gc
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
from collections.abc import Mapping
from pathlib import Path
from pkgutil import walk_packages
from typing import NoReturn

import lean_tumbler
from lean_tumbler.cli.main import main

# What the commands import when they run. The libraries start no threads before they are used.
_MODULES = (
    "argon2.low_level", "bcrypt", "jinja2", "matplotlib.figure", "polars",
    "psycopg", "pymysql", "rich.progress", "rich.table", "scipy.optimize", "scipy.stats",
    "sqlalchemy", "tomlkit", "zstandard",
)  # fmt: skip
_REQUEST_BYTES = 1 << 20


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

    def run(
        self,
        arguments: list[str],
        *,
        cwd: Path,
        stdin: bytes,
        timeout: float,
        environment: Mapping[str, str] | None = None,
    ) -> tuple[int, bytes, bytes]:
        """Run the program: exit code, standard output and standard error."""
        if self._process is None:
            self._start()
        request = {"arguments": arguments, "cwd": str(cwd), "env": dict(environment or os.environ)}
        with contextlib.ExitStack() as opened:
            given, out, err = (opened.enter_context(tempfile.TemporaryFile()) for _ in range(3))
            given.write(stdin)
            given.seek(0)
            asked = opened.enter_context(socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET))
            asked.settimeout(timeout)
            asked.connect(self._address)
            descriptors = [file.fileno() for file in (given, out, err)]
            socket.send_fds(asked, [json.dumps(request).encode()], descriptors)
            answer = asked.recv(64)
            if not answer:
                raise RuntimeError("the waiting process is gone")
            out.seek(0)
            err.seek(0)
            return int(answer), out.read(), err.read()

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
    gc.collect()
    gc.freeze()  # else a fork's collector would touch, and so copy, every page of it


if __name__ == "__main__":
    _prepare()
    _serve(socket.socket(fileno=int(sys.argv[1])))
