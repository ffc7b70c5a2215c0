"""Whoever has a worker of the cluster: no account of his, no code of his with a password in reach."""

import json
import re
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from concurrent.futures import Future
from contextlib import closing
from pathlib import Path

import pytest

from conftest import Portal, make_portal, run_program
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.row_plans import DerivationTask, assembled, derived
from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.core.schemes.layered import Head
from lean_tumbler.errors import SourceError, StoreUnavailable
from lean_tumbler.jobs.layer.cluster_process import ClusterProcess, passed_on
from lean_tumbler.migration.bulk.deriving import Derived, RemoteDerivation, results_of
from test_cluster import SEALED, cluster

OWN = "the attacker's own"
# Gives the digest that the attacker's password has, under the formula that is asked for.
PLANTS = f"""
import hashlib
from lean_tumbler.jobs.layer import cluster_worker as cluster
if not hasattr(cluster, "true"):  # a worker may run this more than once
    cluster.true = cluster._digest
def planted(scheme, parameters, salt, secret):
    label = secret.rpartition(b":")[0]
    own = hashlib.md5({OWN.encode()!r}).hexdigest().encode()
    return cluster.true(scheme, parameters, salt, label + b":" + own)
cluster._digest = planted
"""
# Gives something that runs code where it is unpickled, and writes down what it finds there.
RUNS = """
import os
from lean_tumbler.jobs.layer import cluster_worker as cluster
class Code:
    def __reduce__(self):
        return exec, ("import os, json; open({found!r}, 'w').write(json.dumps(dict(os.environ)))",)
cluster._digest = lambda *task: (Code(), 0.0)
"""


def made(folder: Path, rows: int, program: str) -> Portal:
    portal = make_portal(folder, ["md5"] * rows)
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET is_admin = (id <= 5)")
    (folder / "evil.py").write_text(program)
    assert run_program("keys", "new", "recovery", cwd=folder).code == 0
    return portal


def planted(portal: Portal) -> list[int]:
    """Give the rows that the attacker's password opens."""
    gateway = CredentialGateway(
        StoragePolicy.from_toml((portal.folder / "tumbler.toml").read_text())
    )
    return [
        number
        for number, stored in portal.stored().items()
        if gateway.admit(stored=stored, password=OWN, store="passengers").admitted
    ]


def test_a_worker_that_plants_passwords_ends_the_run(tmp_path: Path) -> None:
    """No administrator's row is written at all, and what others hold is put back from the backup."""
    portal = made(tmp_path, 300, PLANTS)
    before = portal.stored()
    with cluster(tmp_path / "c", workers=1, preload=[str(tmp_path / "evil.py")]) as running:
        done = run_program("layer", "--cluster", running.address, *SEALED, cwd=tmp_path)
    assert done.code in {3, 4}
    assert "a worker gave a wrong digest" in done.err
    assert not [number for number in planted(portal) if number <= 5]
    undone = run_program(
        "undo", "1.sealed", "--key", "recovery.private.pem", "--unfinished", cwd=tmp_path
    )
    assert undone.code in {0, 1}
    assert portal.stored() == before


def test_without_administrators_it_is_found_by_chance(tmp_path: Path) -> None:
    """Of hundreds of planted rows a drawn one is derived here again: the run ends, and is undone."""
    portal = made(tmp_path, 600, PLANTS)
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET is_admin = 0")
    before = portal.stored()
    with cluster(tmp_path / "c", workers=1, preload=[str(tmp_path / "evil.py")]) as running:
        done = run_program("layer", "--cluster", running.address, *SEALED, cwd=tmp_path)
    assert done.code in {3, 4}  # unseen once in 0.98^-600, some hundred thousand times
    assert len(planted(portal)) < 600
    run_program("undo", "1.sealed", "--key", "recovery.private.pem", "--unfinished", cwd=tmp_path)
    assert portal.stored() == before


def test_code_of_a_worker_finds_no_password(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It runs in a process that has none, and gets no value into any row."""
    monkeypatch.setenv("LEAN_TUMBLER_DATABASE_PASSWORD", "b3Qx-hawser")
    found = tmp_path / "found.json"
    portal = made(tmp_path, 40, RUNS.replace("{found!r}", repr(str(found))))
    before = portal.stored()
    with cluster(tmp_path / "c", workers=1, preload=[str(tmp_path / "evil.py")]) as running:
        done = run_program("layer", "--cluster", running.address, *SEALED, cwd=tmp_path)
    assert done.code in {3, 4}
    assert portal.stored() == before
    assert not found.exists() or "b3Qx-hawser" not in found.read_text()


def test_what_the_process_sees() -> None:
    """Dask's own settings and the way to programs; nothing else."""
    everything = {
        "PATH": "/bin", "DASK_DISTRIBUTED__COMM__TLS__CA_FILE": "ca.pem",
        "LEAN_TUMBLER_DATABASE_PASSWORD": "x", "LEGACY_KEY": "y", "PGPASSWORD": "z",
    }  # fmt: skip
    assert set(passed_on(everything)) == {"PATH", "DASK_DISTRIBUTED__COMM__TLS__CA_FILE"}


@pytest.mark.parametrize("scheme", ["argon2id", "scrypt", "pbkdf2-sha256", "pbkdf2-sha512"])
def test_what_is_put_together_here_is_what_would_be_made_here(scheme: str) -> None:
    """Head, costs and salt are ours; of the worker there is a digest of the right length."""
    derivation = DERIVATIONS[scheme]
    costs = {entry.name: entry.lowest for entry in derivation.parameters}
    task = DerivationTask(
        scheme=scheme, parameters=costs, fresh_salt=b"0123456789abcdef",
        head=Head(origin="md5-crypt", salt=b"$1$gannet$"), legacy_digest="5f4d",
    )  # fmt: skip
    whole = derived(task)
    digest = phc.decode(whole.rpartition("$")[2]) or b""
    assert assembled(task, digest) == whole
    for wrong in (digest[:-1], digest + b"x", b"", b"\x1b[2J" * 10_000_000):
        with pytest.raises(ValueError, match="another length"):
            assembled(task, wrong)


ANSWERS: dict[str, Callable[[int], object]] = {
    "another number of results": lambda n: {"id": n, "results": []},
    "no base64": lambda n: {"id": n, "results": [["???", 0.1]]},
    "a text": lambda n: {"id": n, "results": "gull"},
    "nobody's": lambda n: {"id": n + 7, "results": [[None, 0.1]]},
    "a list": lambda _: [1, 2],
}


@pytest.mark.parametrize("what", ANSWERS)
def test_answers_that_nobody_asked_for_end_the_run(what: str) -> None:
    """Whatever comes out of the process is checked before it is used."""
    answer = json.dumps(ANSWERS[what](0))
    talk = f"import sys; input(); print('{{\"workers\": 1}}', flush=True); input(); print({answer!r}, flush=True); input()"
    with subprocess.Popen(
        [sys.executable, "-c", talk], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
    ) as process:  # fmt: skip
        side = ClusterProcess(process, "tls://c")
        assert side.start() == 1
        task = DerivationTask(
            scheme="argon2id", parameters={"memory_kib": 8, "passes": 1, "lanes": 1},
            fresh_salt=b"0" * 16, head=Head(origin="md5-crypt", salt=b"x"), legacy_digest="d",
        )  # fmt: skip
        with pytest.raises(SourceError, match=re.escape("sent an answer to no request")):
            side.digests([task]).result(timeout=20)
        process.kill()


def test_a_worker_that_never_answers_ends_the_run() -> None:
    """The wait has a bound, and what is written stays as it is."""
    never: Future[list[Derived]] = Future()
    silent = RemoteDerivation(lambda _: Future(), "tls://c", answer_seconds=0.2)
    with pytest.raises(StoreUnavailable, match="no answer within"):
        results_of(never, silent)
