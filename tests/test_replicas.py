"""Layering that waits for replicas, with real ones that are held up."""

import hashlib
import json
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path

import pytest

import servers
from conftest import Program, make_portal, prove, start_program
from lean_tumbler import StoragePolicy

ROWS = 300
POLICY = """
[target]
memory_kib = 8192
passes = 1
[floor]
argon2id = {{ memory_kib = 8192, passes = 1 }}
[store.kiosk]
locator = "{locator}"
table = "kiosk"
readers_ready = 2026-01-01
replicas = {replicas}
[store.kiosk.columns]
account = "id"
login = "login"
stored = "pw"
[[store.kiosk.cohort]]
name = "old"
formula = "utf-8, md5, hex"
"""
Hold = Callable[[], AbstractContextManager[None]]


@contextmanager
def postgresql_pair() -> Iterator[tuple[servers.Server, servers.Server, Hold]]:
    @contextmanager
    def held() -> Iterator[None]:
        standby.run("SELECT pg_wal_replay_pause();")
        yield
        standby.run("SELECT pg_wal_replay_resume();")

    with servers.postgresql() as primary, servers.postgresql_standby(primary) as standby:
        yield primary, standby, held


@contextmanager
def mariadb_pair() -> Iterator[tuple[servers.Server, servers.Server, Hold]]:
    @contextmanager
    def held() -> Iterator[None]:
        with subprocess.Popen(replica.client, stdin=subprocess.PIPE) as client:
            assert client.stdin is not None
            client.stdin.write(b"FLUSH TABLES WITH READ LOCK;\n")
            client.stdin.flush()
            yield
            client.stdin.close()

    with servers.mariadb_pair() as (primary, replica):
        yield primary, replica, held


def prepare(folder: Path, primary: servers.Server, replicas: list[str]) -> None:
    values = ",".join(f"({n},'k{n}','{hashlib.md5(b'%d' % n).hexdigest()}')" for n in range(ROWS))
    primary.run(
        "CREATE TABLE kiosk (id integer PRIMARY KEY, login varchar(20), pw varchar(255));"
        f"INSERT INTO kiosk VALUES {values};"
    )
    policy = POLICY.format(locator=primary.url, replicas=json.dumps(replicas))
    (folder / "tumbler.toml").write_text(policy)
    prove(folder, StoragePolicy.from_toml(policy))


def layered(server: servers.Server) -> int:
    return int(server.ask("SELECT count(*) FROM kiosk WHERE pw LIKE '$over$%';"))


def wait_until(holds: Callable[[], bool]) -> None:
    deadline = time.monotonic() + 60
    while not holds():
        assert time.monotonic() < deadline
        time.sleep(0.1)


@pytest.mark.parametrize("pair", [postgresql_pair, mariadb_pair])
def test_layering_waits_for_a_replica(tmp_path: Path, program: Program, pair: Callable[
    [], AbstractContextManager[tuple[servers.Server, servers.Server, Hold]]
]) -> None:  # fmt: skip
    """While a replica applies nothing the run stops writing; afterwards it goes on to the end."""
    with pair() as (primary, replica, held):
        prepare(tmp_path, primary, [] if "postgres" in primary.url else [replica.url])
        wait_until(
            lambda: (
                "kiosk"
                in replica.ask(
                    "SELECT table_name FROM information_schema.tables WHERE table_name = 'kiosk';"
                )
            )
        )
        wait_until(lambda: replica.ask("SELECT count(*) FROM kiosk;").strip() == str(ROWS))
        paced = ("--max-replica-lag", "1", "--rate", "40/s", "--format", "json")
        with held():
            running = start_program("layer", "--no-backup", *paced, cwd=tmp_path)
            wait_until(lambda: layered(primary) > 0)
            before = -1
            while before < (before := layered(primary)):  # it still writes
                time.sleep(2.5)
            assert 0 < before < ROWS
            assert running.poll() is None
        out, _ = running.communicate(timeout=120)
        document = json.loads(out)
        assert running.returncode == 0
        assert document["layered"] == ROWS
        assert document["waited_seconds"] > 2
        wait_until(lambda: layered(replica) == ROWS)


def test_what_cannot_be_waited_for(tmp_path: Path, program: Program) -> None:
    """Where no replica can be asked, the run says so before it writes anything."""
    with servers.postgresql() as server:
        prepare(tmp_path, server, [])
        finished = program("layer", "--no-backup", "--max-replica-lag", "5")
        assert (finished.code, finished.out) == (3, "")
        assert "no replica is attached" in finished.err
        assert layered(server) == 0
    with servers.mariadb() as server:
        prepare(tmp_path, server, [])
        finished = program("layer", "--no-backup", "--max-replica-lag", "5")
        assert (finished.code, finished.out) == (2, "")
        assert "“replicas” is missing" in finished.err
        policy = (tmp_path / "tumbler.toml").read_text()
        (tmp_path / "tumbler.toml").write_text(policy.replace("[]", json.dumps([server.url])))
        finished = program("layer", "--no-backup", "--max-replica-lag", "5")
        assert (finished.code, finished.out) == (3, "")
        assert "it is not a replica, or the account lacks" in finished.err
        assert layered(server) == 0
    portal = make_portal(tmp_path, ["md5"])
    finished = program("layer", "--no-backup", "--max-replica-lag", "5")
    assert finished.code == 2
    assert "SQLite" in finished.err
    assert portal.passengers
