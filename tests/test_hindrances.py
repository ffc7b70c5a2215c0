"""What stands in a bulk run's way: rights, locks, a full disk. Said plainly, and gone on with."""

import json
import resource
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

import servers
from conftest import PROGRAM, make_portal, run_program, start_program
from server_portal import is_mariadb, locked_out, may_only_read
from server_portal import make_portal as make_server_portal
from test_servers import STARTERS


@pytest.fixture(scope="module", params=STARTERS)
def server(request: pytest.FixtureRequest) -> Iterator[servers.Server]:
    with STARTERS[request.param]() as running:
        yield running


def test_an_account_that_may_not_write(server: servers.Server, tmp_path: Path) -> None:
    """It is told at once which right is missing, and nothing is changed; audits need none of it."""
    make_server_portal(server, tmp_path)
    may_only_read(server, tmp_path)
    before = server.ask("SELECT pw FROM passengers ORDER BY id")
    started = time.monotonic()
    finished = run_program("layer", "--no-backup", cwd=tmp_path)
    assert (finished.code, finished.out) == (3, "")
    assert "this account lacks the right to do that" in finished.err
    assert time.monotonic() - started < 15  # it is not tried again and again
    assert server.ask("SELECT pw FROM passengers ORDER BY id") == before
    assert run_program("audit", "passengers", cwd=tmp_path).code == 0


@pytest.mark.parametrize("command", ["audit passengers", "plan", "progress", "layer --dry-run"])
@pytest.mark.parametrize("server", ["postgresql"], indirect=True)
def test_hidden_rows_are_never_taken_for_all(
    command: str, server: servers.Server, tmp_path: Path
) -> None:
    """Where row-level security would hide rows, nothing is counted; without it, all are."""
    make_server_portal(server, tmp_path)
    server.run(
        "DROP ROLE IF EXISTS watch; CREATE ROLE watch LOGIN; GRANT SELECT ON passengers TO watch;"
        "ALTER TABLE passengers ENABLE ROW LEVEL SECURITY;"
        "CREATE POLICY few ON passengers USING (id < 40);"
    )
    policy = tmp_path / "tumbler.toml"
    text = policy.read_text()
    policy.write_text(text.replace("//tumbler@", "//watch@"))
    hidden = run_program(*command.split(), cwd=tmp_path)
    assert (hidden.code, hidden.out) == (3, "")
    assert "row-level security would hide rows" in hidden.err
    policy.write_text(text)
    assert run_program(*command.split(), cwd=tmp_path).code in {0, 1}
    server.run("DROP TABLE passengers CASCADE; DROP ROLE watch")


def test_a_wrong_password_and_a_guard_are_said(server: servers.Server, tmp_path: Path) -> None:
    """A refused password is no missing right; a refused value is no server that is away."""
    make_server_portal(server, tmp_path)
    run_program("keys", "new", "recovery", cwd=tmp_path)
    sealed = ("--backup", "1.sealed", "--to", "recovery.public.pem")
    assert run_program("layer", *sealed, cwd=tmp_path).code in {0, 1}
    weak = "UPDATE passengers SET pw = NULL WHERE pw NOT LIKE '$%'"
    server.run(weak)
    guarded = run_program("enforce", "constraint", "--apply", cwd=tmp_path)
    assert guarded.code == 0, guarded.err
    undone = run_program("undo", "1.sealed", "--key", "recovery.private.pem", cwd=tmp_path)
    assert undone.code == 3
    assert "a constraint of the column refused a value" in undone.err
    run_program("enforce", "constraint", "--remove", cwd=tmp_path)
    if is_mariadb(server):  # the other server asks for none on its socket
        server.run("CREATE USER porter@localhost IDENTIFIED BY 'mooring'")
        policy = (tmp_path / "tumbler.toml").read_text().replace("//root@", "//porter@")
        (tmp_path / "tumbler.toml").write_text(policy)
        finished = run_program("audit", "passengers", cwd=tmp_path)
        assert "the user or the password is refused; the password comes from" in finished.err


def test_a_lock_that_another_holds(server: servers.Server, tmp_path: Path) -> None:
    """A run waits for rows that are locked, and goes on to the end when the lock is gone."""
    passwords = make_server_portal(server, tmp_path)
    lock = (
        "SELECT COUNT(*) FROM (SELECT id FROM passengers FOR UPDATE) AS held;"
        if is_mariadb(server)
        else "LOCK TABLE passengers IN EXCLUSIVE MODE;"
    )
    with server.holding(lock):
        layering = start_program("layer", "--no-backup", "--format", "json", cwd=tmp_path)
        with pytest.raises(subprocess.TimeoutExpired):
            layering.wait(timeout=8)  # longer than one try waits for a lock
    out, _ = layering.communicate(timeout=120)
    assert (layering.returncode, json.loads(out)["failed"]) == (0, 0)
    assert locked_out(server, tmp_path, passwords) == []


def test_a_disk_that_is_full(tmp_path: Path) -> None:
    """The batch is not half-written, the run says why it stopped, and later it goes on."""
    portal = make_portal(tmp_path, ["md5"] * 1500)
    room = portal.database.stat().st_size + 60_000

    def run_short_of_room() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (room, room))

    finished = subprocess.run(
        [str(PROGRAM), "layer", "--no-backup", "--format", "json"], cwd=tmp_path, capture_output=True,
        preexec_fn=run_short_of_room, text=True, check=False,
    )  # fmt: skip
    assert finished.returncode in {3, 4}
    assert finished.stderr.count("\n") == 1
    assert "full" in finished.stderr or "I/O" in finished.stderr
    stored = portal.stored().values()
    assert all(len(value or "") == 32 or (value or "").startswith("$over$") for value in stored)
    again = run_program("layer", "--no-backup", "--format", "json", cwd=tmp_path)
    assert again.code == 0
    assert json.loads(again.out)["failed"] == 0
    assert all((value or "").startswith("$over$") for value in portal.stored().values())
