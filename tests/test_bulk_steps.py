"""What holds for every step that writes many rows: `layer`, `rekey`, `lock-dormant`, `undo`."""

import signal
import sqlite3
import subprocess
import time
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import pytest

from conftest import CHEAP_POLICY, Program, make_portal, prove, run_program, start_program
from lean_tumbler.core.policy import StoragePolicy
from test_forecast import ago

ROWS = 600
KEY = ("--key", "recovery.private.pem")


@dataclass(frozen=True)
class Step:
    """A command, how it is called, and how many rows are as it leaves them."""

    arguments: tuple[str, ...]
    done: Callable[[list[str]], int]


def layered(values: list[str]) -> int:
    return sum(value.startswith("$over$") for value in values)


def keyed(values: list[str]) -> int:
    return sum(value.startswith("$keyed$") for value in values)


def locked(values: list[str]) -> int:
    return sum(value.startswith("!locked$") for value in values)


def digests(values: list[str]) -> int:
    return sum(len(value) == 32 for value in values)


STEPS = {
    "layer": Step(("layer", "--backup", "layer.sealed", "--to", "recovery.public.pem"), layered),
    "lock-dormant": Step(
        (
            "lock-dormant",
            "--inactive-days",
            "90",
            "--backup",
            "lock.sealed",
            "--to",
            "recovery.public.pem",
        ),
        locked,
    ),
    "rekey": Step(("rekey", "--backup", "rekey.sealed", "--to", "recovery.public.pem"), keyed),
    "undo": Step(("undo", "before.sealed", *KEY), digests),
}


def under_a_key(policy: str) -> str:
    told = 'lanes = 1\nkeyed_by = "pepper"\nrealm = "coldharbour"\n'
    keys = '[keys]\npepper = { file = "pepper.key", form = "base64" }\n'
    return policy.replace("lanes = 1\n", told, 1) + keys


@dataclass(frozen=True)
class Bulk:
    """A table of digests whose owners are long away; layered already where that is to be undone."""

    folder: Path
    step: Step

    def values(self) -> list[str]:
        with closing(sqlite3.connect(self.folder / "harbour.db")) as connection:
            return [row[0] for row in connection.execute("SELECT pw FROM passengers ORDER BY id")]

    def done(self) -> int:
        return self.step.done(self.values())

    def run(self, *more: str, again: str = "") -> tuple[int, str, str]:
        arguments = [again if each.endswith(".sealed") and again else each
                     for each in self.step.arguments]  # fmt: skip
        finished = run_program(*arguments, *more, cwd=self.folder)
        return finished.code, finished.out, finished.err

    @property
    def again(self) -> str:
        """The backup of a second run: a new file, but for undoing, which reads the old one."""
        return "" if self.step is STEPS["undo"] else "again.sealed"


@pytest.fixture(params=STEPS)
def bulk(request: pytest.FixtureRequest, tmp_path: Path) -> Bulk:
    make_portal(tmp_path, ["md5"] * ROWS)
    policy = CHEAP_POLICY.replace('stored = "pw"', 'stored = "pw"\nlast_login = "seen"')
    (tmp_path / "tumbler.toml").write_text(policy)
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute(f"ALTER TABLE passengers ADD COLUMN seen TEXT DEFAULT '{ago(400)}'")
    assert run_program("keys", "new", "recovery", cwd=tmp_path).code == 0
    if request.param == "undo":
        sealed = ("--backup", "before.sealed", "--to", "recovery.public.pem")
        assert run_program("layer", *sealed, cwd=tmp_path).code == 0
    if request.param == "rekey":
        assert run_program("layer", "--no-backup", cwd=tmp_path).code == 0
        assert run_program("keys", "new", "pepper", "--over-values", cwd=tmp_path).code == 0
        (tmp_path / "tumbler.toml").write_text(under_a_key(policy))
    return Bulk(tmp_path, STEPS[request.param])


def begun(bulk: Bulk) -> float:
    """Wait until a run has written something; give when to wait no longer."""
    deadline = time.monotonic() + 60
    while not bulk.done():
        assert time.monotonic() < deadline
        time.sleep(0.02)
    return deadline


def test_a_part_then_the_rest(bulk: Bulk) -> None:
    """--share takes a stable part: the same rows again where the share is the same."""
    assert bulk.run("--share", "10%")[0] == 0
    part = bulk.values()
    assert 20 <= bulk.done() <= 120
    bulk.run("--share", "10%", again=bulk.again)
    assert bulk.values() == part
    assert bulk.run(again="rest.sealed" if bulk.again else "")[0] == 0
    assert bulk.done() == ROWS


def test_no_quicker_than_asked_for(bulk: Bulk) -> None:
    """--rate bounds the rows written a second, from the first batch on."""
    running = start_program(*bulk.step.arguments, "--rate", "40/s", cwd=bulk.folder)
    deadline = begun(bulk)
    began = time.monotonic()
    while (done := bulk.done()) < 100 and running.poll() is None:
        assert done <= 60 + 40 * (time.monotonic() - began)  # a batch or two ahead, at most
        assert time.monotonic() < deadline
        time.sleep(0.02)
    running.send_signal(signal.SIGTERM)
    assert running.wait(timeout=60) == 4
    assert bulk.done() < ROWS
    assert bulk.run(again=bulk.again)[0] == 0
    assert bulk.done() == ROWS


def test_a_lock_that_is_let_go_is_waited_for(bulk: Bulk) -> None:
    """Another program that holds the table for a while ends no step."""
    with closing(sqlite3.connect(bulk.folder / "harbour.db", isolation_level=None)) as other:
        other.execute("BEGIN EXCLUSIVE")
        running = start_program(*bulk.step.arguments, cwd=bulk.folder)
        with pytest.raises(subprocess.TimeoutExpired):
            running.wait(timeout=8)  # longer than one try waits for a lock
        other.execute("COMMIT")
        assert running.wait(timeout=120) == 0
    assert bulk.done() == ROWS


def test_killed_and_run_again(bulk: Bulk) -> None:
    """A kill in the middle leaves whole rows; the next run takes exactly the others."""
    running = start_program(*bulk.step.arguments, "--rate", "200/s", cwd=bulk.folder)
    begun(bulk)
    running.send_signal(signal.SIGKILL)
    assert running.wait(timeout=60) == -signal.SIGKILL
    assert 0 < bulk.done() < ROWS
    assert bulk.run(again=bulk.again)[0] == 0
    assert bulk.done() == ROWS


@pytest.mark.parametrize("name", STEPS)
def test_files_are_copied(name: str, tmp_path: Path, in_process: Program) -> None:
    """Each step reads a file and writes another; the file itself stays as it is."""
    lines = [f"{n},p{n}@tidepost.example,{n:032x},,{ago(400)}" for n in range(1, 41)]
    text = "id,email,pw,pw_salt,seen\n" + "\n".join(lines) + "\n"
    (tmp_path / "passengers.csv").write_text(text)
    policy = CHEAP_POLICY.replace('stored = "pw"', 'stored = "pw"\nlast_login = "seen"')
    policy = policy.replace('locator = "sqlite:///harbour.db"', 'locator = "passengers.csv"')
    policy = policy.replace('table = "passengers"\n', "").replace('privileged = "is_admin"\n', "")
    (tmp_path / "tumbler.toml").write_text(policy)
    prove(tmp_path, StoragePolicy.from_toml(policy))
    assert in_process("keys", "new", "recovery").code == 0
    source = "passengers.csv"
    if name == "undo":
        sealed = ("--backup", "before.sealed", "--to", "recovery.public.pem")
        assert in_process("layer", *sealed, "--into", "layered.csv").code == 0
        source = "layered.csv"
        (tmp_path / "tumbler.toml").write_text(policy.replace("passengers.csv", source))
    if name == "rekey":
        assert in_process("layer", "--no-backup", "--into", "layered.csv").code == 0
        assert in_process("keys", "new", "pepper", "--over-values").code == 0
        source = "layered.csv"
        (tmp_path / "tumbler.toml").write_text(
            under_a_key(policy.replace("passengers.csv", source))
        )
    before = (tmp_path / source).read_bytes()
    finished = in_process(*STEPS[name].arguments, "--into", "after.csv")
    assert finished.code == 0, finished.err
    assert (tmp_path / source).read_bytes() == before
    values = [line.split(",", 2)[2] for line in (tmp_path / "after.csv").read_text().splitlines()]
    stored = [value.split(",,")[0].strip('"') for value in values[1:]]
    assert STEPS[name].done(stored) == 40
