"""Canaries: secrets planted everywhere, and searched for in everything that comes out."""

import hashlib
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from conftest import CHEAP_POLICY, Finished, Program, run_in_process
from test_service import STORE, served

PASSWORD = "Canary4711 whimbrel"
OTHER = "Canary0815 avocet"
SALT = "canary5a1t"
PLAIN = "Canary plain 99"
UNKNOWN = "$9$canaryscheme$canarydigest"


@pytest.fixture
def secrets(tmp_path: Path) -> list[str]:
    """Plant a store of secrets; give all of them in every form that could leak."""
    digest = hashlib.sha1((PASSWORD + SALT).encode()).hexdigest()
    unsalted = hashlib.md5(OTHER.encode()).hexdigest()
    planted = "$argon2id$v=19$m=4194304,t=1,p=1$Y2FuYXJ5c2FsdA$Y2FuYXJ5Y2FuYXJ5"
    rows = [
        (1, "ada", digest, SALT),
        (2, "bea", unsalted, None),
        (3, "cato", PLAIN, None),
        (4, "dagny", UNKNOWN, None),
        (5, "edda", planted, None),
        (6, "finn", b"\xffcanary", None),
    ]
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute(
            "CREATE TABLE passengers (id INTEGER PRIMARY KEY, email, pw, pw_salt, is_admin)"
        )
        connection.executemany("INSERT INTO passengers VALUES (?, ?, ?, ?, 1)", rows)
    (tmp_path / "tumbler.toml").write_text(CHEAP_POLICY)
    (tmp_path / "known.csv").write_text(f"login,password\nada,{PASSWORD}\nbea,{PLAIN}\n")
    (tmp_path / "own.csv").write_text(
        f"login,password,stored,salt\nada,{PASSWORD},{digest},{SALT}\nbea,{OTHER},{UNKNOWN},\n"
    )
    (tmp_path / "broken.csv").write_text(f'login,password,stored\nada,{PASSWORD},"{digest}\n')
    (tmp_path / "secret.toml").write_text(f'[target]\nscheme = "{PASSWORD}\n')
    return [PASSWORD, OTHER, SALT, PLAIN, UNKNOWN, digest, unsalted, planted, "canary", "Canary"]


COMMANDS = [
    ("audit", "harbour.db"),
    ("audit", "passengers"),
    ("audit", "harbour.db", "--column", "email"),
    ("audit", "harbour.db", "--format", "csv"),
    ("audit", "harbour.db", "--format", "sarif"),
    ("audit", "own.csv"),
    ("audit", "known.csv"),
    ("audit", "broken.csv"),
    ("explain", "-"),
    ("draft", "harbour.db", "known.csv", "--budget", "0.5", "--merge"),
    ("formula", "solve", "own.csv", "--budget", "0.3"),
    ("verify", "known.csv", "--store", "passengers"),
    ("verify", "own.csv", "--formula", "utf-8, prepend salt, sha1, hex"),
    ("verify", "own.csv"),
    ("verify", "broken.csv"),
    ("verify", "own.csv", "--policy", "secret.toml"),
    ("admit", "ada"),
    ("admit", "bea"),
    ("admit", "cato"),
    ("admit", "dagny"),
    ("admit", "edda"),
    ("admit", "finn"),
    ("admit", "nobody"),
    ("progress",),
    ("plan",),
    ("report",),
    ("enforce", "constraint"),
    ("enforce", "constraint", "--apply"),
    ("lock-dormant", "--inactive-days", "1", "--dry-run"),
    ("exposed", "--since", "2026-01-01"),
    ("rehearse", "known.csv"),
    ("rehearse", "own.csv"),
    ("undo", "own.csv", "--key", "known.csv"),
    ("layer", "--dry-run"),
    ("layer", "--backup", "kept", "--to", "own.csv"),
    ("layer",),
    ("admit", "ada"),
    ("verify", "known.csv", "--store", "passengers"),
    ("audit", "passengers"),
]


def _search(secrets: list[str], finished: Finished, command: tuple[str, ...]) -> None:
    assert "internal error" not in finished.err
    for secret in secrets:
        assert secret not in finished.out, command
        assert secret not in finished.err, command


def test_no_secret_comes_out_of_the_program(
    secrets: list[str], program: Program, tmp_path: Path
) -> None:
    """Neither results, messages nor files left behind hold a planted secret: each command once."""
    inputs = {path.name for path in tmp_path.iterdir()}
    for command in {words[0]: words for words in COMMANDS}.values():
        _search(secrets, program(*command, stdin=PASSWORD.encode()), command)
    written = [tmp_path / f"tumbler.{kind}" for kind in ("evidence.json", "history.jsonl")]
    assert {path.name for path in tmp_path.iterdir()} == {*inputs, *(p.name for p in written)}
    kept = "".join(path.read_text("utf-8") for path in written)
    assert not [secret for secret in secrets if secret in kept]


@pytest.mark.parametrize(
    ("extra", "typed"),
    [
        *((("--format", "json"), typed) for typed in (PASSWORD, "wrong " + OTHER, UNKNOWN)),
        *((("--debug",), typed) for typed in (PASSWORD, PLAIN)),
    ],
)
def test_no_secret_comes_out_of_any_form(
    secrets: list[str],
    monkeypatch: pytest.MonkeyPatch,
    tmp_path: Path,
    extra: tuple[str, ...],
    typed: str,
) -> None:
    """JSON and tracebacks hold none either, whatever is typed."""
    monkeypatch.chdir(tmp_path)
    for command in COMMANDS:
        words = (*command, *extra) if extra[0] == "--format" else (*extra, *command)
        _search(secrets, run_in_process(*words, stdin=typed.encode()), command)


def test_the_only_command_that_prints_a_stored_value_is_hash(
    secrets: list[str], program: Program
) -> None:
    """`hash` prints what is to be stored, and the password is not in it."""
    finished = program("hash", stdin=PASSWORD.encode())
    assert finished.out.startswith("$argon2id$")
    assert PASSWORD not in finished.out + finished.err


def test_no_secret_comes_out_of_the_service(secrets: list[str], tmp_path: Path) -> None:
    """Neither answers but a new value, nor metrics, nor the log, for right and wrong requests."""
    seen = []
    with served(tmp_path) as service:
        for login in ("ada", "bea", "cato", "dagny", "edda", "finn", "nobody"):
            for password in (PASSWORD, PLAIN, UNKNOWN):
                fields = {"store": STORE, "login": login, "password": password}
                seen.append(service.post("admit", **fields).text)
                seen.append(service.post("change", **fields, new_password=OTHER + " new").text)
                seen.append(service.post("admit", **fields, new_password=OTHER).text)
                seen.append(service.post("admit", **{**fields, "store": password}).text)
        seen += [
            service.post("admit-value", stored=stored, password=OTHER, salt=SALT).text
            for stored in (*secrets, UNKNOWN, "\0" + PASSWORD)
        ]
        seen.append(service.post("hash", password=SALT[:7], login=PASSWORD).text)
        seen += [service.client.post("/v1/admit", content=PASSWORD).text,
                 service.client.post(f"/v1/{PASSWORD}").text,
                 service.client.get("/metrics").text]  # fmt: skip
        service.process.terminate()
        service.process.wait(timeout=30)
        log = service.log.read_text()
    assert any('"admitted":true' in text for text in seen)
    for secret in secrets:
        assert secret not in log
        assert all(secret not in text for text in seen)
