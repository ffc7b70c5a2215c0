"""Upgrading a live directory at login: the server itself verifies what was written."""

import base64
import hashlib
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

import servers
from conftest import Program, run_in_process
from lean_tumbler.core.policy import Columns
from lean_tumbler.stores.directory.store import DirectoryStore
from lean_tumbler.stores.interface import Swap, SwapResult
from test_directory import ENTRY

PASSWORD = "Möwe (7) * harbour"


def _tagged(tag: str, salt: bytes = b"") -> str:
    digest = hashlib.sha1(PASSWORD.encode() + salt).digest()
    return f"{{{tag}}}{base64.b64encode(digest + salt).decode()}"


VALUES = {"ada": _tagged("SSHA", b"bollard8"), "ben": _tagged("SHA"), "dora": PASSWORD}


@pytest.fixture(scope="module")
def directory() -> Iterator[servers.Directory]:
    with servers.openldap() as running:
        head = (
            f"dn: {running.base}\nobjectClass: dcObject\nobjectClass: organization\n"
            "dc: tidepost\no: Tidepost\n"
        )
        people = (
            ENTRY.format(
                login=login,
                base=running.base,
                values=f"userPassword:: {base64.b64encode(value.encode()).decode()}",
            )
            for login, value in VALUES.items()
        )
        running.add(head + "".join(people))
        yield running


@pytest.fixture(autouse=True)
def password(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("LEAN_TUMBLER_DATABASE_PASSWORD", servers.DIRECTORY_PASSWORD)


@pytest.fixture
def policy(directory: servers.Directory, tmp_path: Path) -> Path:
    path = tmp_path / "tumbler.toml"
    path.write_text(
        "[target]\nmemory_kib = 256\npasses = 1\n"
        "[floor]\nargon2id = { memory_kib = 256, passes = 1 }\n"
        f'[store.freight]\nlocator = "{directory.url()}"\nreaders_ready = 2026-01-01\n'
        '[store.freight.columns]\nlogin = "uid"\nstored = "userPassword"\n'
        '[[store.freight.cohort]]\nname = "typed in"\nplain_text = true\n'
    )
    return path


def binds(directory: servers.Directory, login: str, typed: str) -> bool:
    """Ask the server itself, by its own client."""
    name = f"uid={login},{directory.base}"
    command = [
        servers.found("ldapwhoami"),
        "-H",
        directory.socket_url,
        "-x",
        "-D",
        name,
        "-w",
        typed,
    ]
    return subprocess.run(command, capture_output=True, check=False).returncode == 0


@pytest.mark.parametrize("login", VALUES)
def test_a_login_upgrades_and_the_server_verifies_what_was_written(
    login: str, directory: servers.Directory, policy: Path, program: Program
) -> None:
    """Before and after, a bind with the password works; another password never does."""
    assert policy.exists()
    assert binds(directory, login, PASSWORD)
    assert program("admit", login, stdin=b"wrong\n").code == 1
    admitted = program("admit", login, "--format", "json", stdin=f"{PASSWORD}\n".encode())
    assert admitted.document["action"] == "upgraded", admitted.err
    assert admitted.document["to"] == "argon2id"
    assert binds(directory, login, PASSWORD)
    assert not binds(directory, login, "wrong")
    again = program("admit", login, "--format", "json", stdin=f"{PASSWORD}\n".encode())
    assert (again.document["admitted"], again.document["action"]) == (True, "none")
    assert program("admit", login, stdin=b"wrong\n").code == 1


def test_a_login_is_no_search_filter(policy: Path, program: Program) -> None:
    """Characters with a meaning in filters find nobody."""
    assert policy.exists()
    for login in ("*", "a*", "ada)(uid=*", "(uid=ada)"):
        assert program("admit", login, stdin=f"{PASSWORD}\n".encode()).code == 1


def test_a_swap_tells_changed_from_gone(directory: servers.Directory) -> None:
    """The old value is taken out in the same operation that puts the new one in."""
    store = DirectoryStore(directory.url(), Columns(login="uid", stored="userPassword"))
    account = store.fetch("ben")[0]
    new = "$argon2id$v=19$m=256,t=1,p=1$c2FsdHNhbHQ$AAAAAAAAAAAAAAAAAAAAAA"
    assert store.swap(Swap(key=account.key, old=b"other", new=new)) is SwapResult.CHANGED
    assert store.fetch("ben") == [account]
    nobody = f"uid=nobody,{directory.base}"
    assert store.swap(Swap(key=nobody, old=b"x", new=new)) is SwapResult.GONE


def test_a_first_value_goes_into_an_entry_that_has_none(directory: servers.Directory) -> None:
    """The server itself makes sure that no value stands there."""
    entry = ENTRY.format(login="eve", base=directory.base, values="description: none")
    directory.add(entry)
    store = DirectoryStore(directory.url(), Columns(login="uid", stored="userPassword"))
    new = "$argon2id$v=19$m=256,t=1,p=1$c2FsdHNhbHQ$AAAAAAAAAAAAAAAAAAAAAA"
    (account,) = store.fetch("eve")
    assert account.stored is None
    assert store.fill(account.key, new) is SwapResult.DONE
    assert store.fill(account.key, new.replace("AAAA", "BBBB")) is SwapResult.CHANGED
    assert [found.stored for found in store.fetch("eve")] == [b"{ARGON2}" + new.encode()]


@pytest.mark.parametrize("command", ["layer", "plan"])
def test_layering_is_refused(command: str, policy: Path, program: Program) -> None:
    """With the reason: binds would break."""
    assert policy.exists()
    finished = program(command)
    assert (finished.code, finished.out) == (2, "")
    assert "everybody who binds would be locked out" in finished.err


def test_a_directory_is_audited_and_verified_as_a_store(
    directory: servers.Directory, policy: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By its name in the policy."""
    monkeypatch.chdir(tmp_path)
    assert policy.exists()
    audited = run_in_process("audit", "freight", "--format", "json")
    assert audited.document["stores"][0]["table"] == directory.base
    lines = [f'{login},"{PASSWORD}"' for login in VALUES]
    (tmp_path / "known.csv").write_text("\n".join(["login,password", *lines]) + "\n")
    verified = run_in_process("verify", "known.csv", "--store", "freight", "--format", "json")
    assert verified.document["rejected"] == 0
