"""Whoever crashes the program finds no password in what is left of it."""

import os
import resource
import signal
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import PROGRAM, Portal
from test_service import served

WITH_CORES = (
    sys.executable,
    "-c",
    (
        "import os, resource, sys; most = resource.getrlimit(resource.RLIMIT_CORE)[1];"
        "resource.setrlimit(resource.RLIMIT_CORE, (most, most)); os.execv(sys.argv[1], sys.argv[1:])"
    ),
)


def dumps(process: "subprocess.Popen[bytes]") -> bool:
    """Crash a program; tell whether the system kept its memory."""
    process.send_signal(signal.SIGABRT)  # shells have programs behind them ignore SIGQUIT
    _, status = os.waitpid(process.pid, 0)
    process.returncode = status  # it is waited for
    assert os.WIFSIGNALED(status)
    return os.WCOREDUMP(status)


@pytest.mark.skipif(
    resource.getrlimit(resource.RLIMIT_CORE)[1] == 0, reason="the system keeps none of anybody's"
)
def test_a_crash_leaves_no_memory_behind(portal: Portal, tmp_path: Path) -> None:
    """A service that crashes dumps nothing, started in the same way as a program that does."""
    command = (*WITH_CORES, "/bin/sh", "-c", "echo ready; cat")
    with subprocess.Popen(
        command, cwd=tmp_path, stdin=subprocess.PIPE, stdout=subprocess.PIPE
    ) as other:
        assert other.stdout
        assert other.stdout.readline() == b"ready\n"
        assert dumps(other)
    with served(portal.folder, program=(*WITH_CORES, str(PROGRAM))) as service:
        person = portal.openable[0]
        assert service.admit(person.login, person.password)["admitted"]
        assert not dumps(service.process)
