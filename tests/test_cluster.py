"""Layering on a real Dask cluster, one worker of which is killed."""

import json
import os
import re
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import pytest

import servers
from conftest import Program, make_portal, run_program
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.errors import StoreUnavailable
from lean_tumbler.jobs.layer.cluster import ClusterExecutor, is_overheard

BIN = Path(sys.executable).parent
SEALED = ("--backup", "1.sealed", "--to", "recovery.public.pem")


@dataclass(frozen=True)
class Cluster:
    address: str
    workers: "list[subprocess.Popen[bytes]]"
    scheduler: "subprocess.Popen[bytes]"
    log: Path

    def seen(self) -> str:
        """Give what scheduler and workers have written."""
        return self.log.read_text("utf-8", "replace")


@contextmanager
def cluster(folder: Path, *, workers: int, preload: Sequence[str] = ()) -> Iterator[Cluster]:
    """Start a scheduler and workers of one thread, as Dask's own program does.

    Args:
        folder: where they write.
        workers: how many.
        preload: a program of each worker, which runs before any task; none for no such program.
    """
    folder.mkdir(exist_ok=True)
    address = f"tcp://127.0.0.1:{servers.free_port()}"
    log = folder / "log"
    environment = {**os.environ, "DASK_DISTRIBUTED__LOGGING__DISTRIBUTED": "debug"}
    with log.open("wb") as out:

        def start(*arguments: str) -> "subprocess.Popen[bytes]":
            return subprocess.Popen((str(BIN / "dask"), *arguments), cwd=folder, stdout=out,
                                    stderr=out, env=environment)  # fmt: skip

        scheduler = start("scheduler", "--host", address, "--no-dashboard")
        running = [
            start(
                "worker",
                address,
                "--no-nanny",
                "--no-dashboard",
                "--nthreads",
                "1",
                *(f"--preload={preload[n]}" for n in [number] if preload and preload[n]),
            )
            for number in range(workers)
        ]
        try:
            deadline = time.monotonic() + 90
            while (
                len(re.findall("Starting established connection to tcp", log.read_text()))
                < (
                    2 * workers  # each end says it
                )
                and time.monotonic() < deadline
            ):
                time.sleep(0.2)
            yield Cluster(address, running, scheduler, log)
        finally:
            for process in (*running, scheduler):
                process.kill()
                process.wait()


def test_a_killed_worker_loses_nothing(tmp_path: Path) -> None:
    """Every account is layered though one of two workers is killed in mid-run; no secret leaks."""
    portal = make_portal(tmp_path, ["md5", "sha1", "plain"] * 60)
    policy = (tmp_path / "tumbler.toml").read_text()
    (tmp_path / "tumbler.toml").write_text(
        re.sub("memory_kib = [0-9]+", "memory_kib = 16384", policy, count=1)
    )
    run_program("keys", "new", "recovery", cwd=tmp_path)
    with cluster(tmp_path / "cluster", workers=2) as running:
        command = [str(BIN / "lean-tumbler"), "layer", "--cluster", running.address, *SEALED,
                   "--format", "json"]  # fmt: skip
        layering = subprocess.Popen(command, cwd=tmp_path, stdout=subprocess.PIPE,
                                    stderr=subprocess.PIPE)  # fmt: skip
        before = portal.stored()
        while portal.stored() == before:
            time.sleep(0.05)
            assert layering.poll() is None
        running.workers[0].send_signal(signal.SIGKILL)
        out, err = layering.communicate(timeout=120)
        assert (layering.returncode, err) == (0, b"")
        document = json.loads(out)
        assert (document["layered"], document["replaced"], document["failed"]) == (120, 60, 0)
        seen = running.seen()
        assert not any(row.password in seen for row in portal.passengers)
        assert not any(row.stored in seen for row in portal.passengers if row.stored)
    gateway = CredentialGateway(StoragePolicy.from_toml(policy))
    stored = portal.stored()
    for row in portal.passengers:
        value = stored[row.number] or ""
        assert value.startswith(("$over$", "$argon2id$"))
        assert gateway.admit(stored=value, password=row.password, salt=row.salt, login=row.login,
                             store="passengers").admitted  # fmt: skip


def test_a_lost_scheduler_ends_the_run(tmp_path: Path, program: Program) -> None:
    """Where the cluster goes away the run stops, says so, and is continued without it."""
    portal = make_portal(tmp_path, ["md5"] * 400)
    policy = (tmp_path / "tumbler.toml").read_text()
    dear = re.sub("memory_kib = [0-9]+", "memory_kib = 16384", policy, count=1)
    (tmp_path / "tumbler.toml").write_text(dear)
    run_program("keys", "new", "recovery", cwd=tmp_path)
    with cluster(tmp_path / "cluster", workers=1) as running:
        layering = subprocess.Popen(
            [str(BIN / "lean-tumbler"), "layer", "--cluster", running.address, *SEALED],
            cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE)  # fmt: skip
        before = portal.stored()
        while portal.stored() == before:
            assert layering.poll() is None
            time.sleep(0.05)
        for process in (running.scheduler, *running.workers):
            process.kill()
        _, err = layering.communicate(timeout=120)
        assert layering.returncode in {3, 4}
        assert b"the scheduler, or too many workers, went away" in err
    (tmp_path / "tumbler.toml").write_text(policy)
    finished = program("layer", "--no-backup", "--format", "json")
    assert finished.code == 0
    assert (
        finished.document["left"].get("already layered: replaced at login", 0)
        + (finished.document["layered"])
        == 400
    )


def test_what_is_no_cluster(tmp_path: Path, program: Program) -> None:
    """An address without a scheduler, and one of another form, are said before anything is done."""
    make_portal(tmp_path, ["md5"])
    program("keys", "new", "recovery")
    finished = program("layer", "--cluster", "127.0.0.1:8786", *SEALED)
    assert (finished.code, finished.out) == (2, "")
    assert "tcp://HOST:8786" in finished.err
    nowhere = f"tcp://127.0.0.1:{servers.free_port()}"
    sealed = ("--backup", "2.sealed", *SEALED[2:])
    finished = program("layer", "--cluster", nowhere, *sealed)
    assert (finished.code, finished.out) == (3, "")
    assert "no scheduler answers there" in finished.err
    assert "goes with --backup and --to" in program("layer", "--cluster", nowhere).err
    overheard = program("layer", "--cluster", "tcp://10.0.0.7:8786", *sealed)
    assert overheard.code == 2
    assert "digests would cross the network in clear, and anybody could answer" in overheard.err


@pytest.mark.parametrize(
    ("address", "expected"),
    [
        ("tcp://127.0.0.1:8786", False),
        ("tcp://[::1]:8786", False),
        ("tcp://localhost:8786", False),
        ("tcp://10.0.0.7:8786", True),
        ("tcp://queue.coldharbour.example:8786", True),
        ("tls://queue.coldharbour.example:8786", False),
    ],
)
def test_who_may_read_along(address: str, expected: bool) -> None:
    """Other machines over plain tcp are told about; this machine and TLS are not."""
    assert is_overheard(address) is expected


def test_results_that_never_come_are_given_up() -> None:
    """Where the scheduler is gone, who waits is told so, also of what was handed over later."""
    connected = [True]
    with ThreadPoolExecutor(1) as inner:
        executor = ClusterExecutor(inner, "tcp://127.0.0.1:1", lambda: connected[0])
        assert executor.submit(len, "dunlin").result() == 6
        ended = threading.Event()
        waiting = [executor.submit(ended.wait) for _ in range(2)]
        executor.give_up_if_lost()
        assert not any(future.done() for future in waiting)
        connected[0] = False
        executor.give_up_if_lost()
        for future in waiting:
            with pytest.raises(StoreUnavailable, match="went away"):
                future.result(timeout=0)
        ended.set()


@pytest.mark.parametrize(("failures", "given"), [(0, True), (1, True), (3, True), (4, False)])
def test_a_result_lost_on_its_way_is_computed_again(failures: int, given: bool) -> None:
    """An error in a result's place is tried again three times, and then is the cluster's loss."""
    left = iter(range(failures))

    def call() -> int:
        if next(left, None) is not None:
            raise ValueError("not enough values to unpack")
        return 6

    with ThreadPoolExecutor(1) as inner:
        future = ClusterExecutor(inner, "tcp://127.0.0.1:1", lambda: True).submit(call)
        if given:
            assert future.result(timeout=10) == 6
        else:
            with pytest.raises(StoreUnavailable, match="went away"):
                future.result(timeout=10)
