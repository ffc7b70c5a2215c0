"""The example applications without a service: from observing to the way out."""

import os
import subprocess
from collections.abc import Mapping
from pathlib import Path

import pytest

import servers
from conftest import CHEAP_POLICY, Program, make_portal, oracle
from embedding.programs import node_packages
from lean_tumbler import CredentialGateway, StoragePolicy

EXAMPLES = Path(__file__).parent.parent.parent / "examples" / "embedded"
KEY = "an invented key of more than thirty-two signs"


class Portal:
    """An example application."""

    def __init__(self, command: list[str], environment: Mapping[str, str], folder: Path) -> None:
        self._command, self._folder = command, folder
        self._environment = dict(os.environ) | dict(environment)

    def __call__(self, action: str, login: str, *typed: str, more: tuple[str, ...] = ()) -> int:
        done = subprocess.run(
            [*self._command, action, login, *more], input="\n".join(typed), text=True,
            cwd=self._folder, env=self._environment, capture_output=True, check=False, timeout=60,
        )  # fmt: skip
        assert done.returncode in {0, 1, 2}, done.stdout + done.stderr
        return done.returncode


def require_new_passwords(portal: Portal, login: str, password: str) -> None:
    """Registration, change and reset by the same file."""
    assert portal("register", "new@tidepost.example", "Skua 12 harbour") == 0
    assert portal("register", "other@tidepost.example", "short") == 2
    assert portal("login", "new@tidepost.example", "Skua 12 harbour") == 0
    assert portal("change", login, "wrong", "Skua 13 harbour") == 1
    assert portal("change", login, password, "Skua 13 harbour") == 0
    assert portal("login", login, password) == 1
    assert portal("login", login, "Skua 13 harbour") == 0
    assert portal("reset", login, "Tern 99 on a mast") == 0
    assert portal("login", login, "Tern 99 on a mast") == 0


def test_php_from_observing_to_the_way_out(
    tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Observed, proven by its own verdicts, layered, logged in to, and done with."""
    people = make_portal(tmp_path, ["md5", "sha1", "bcrypt", "current"] * 5)
    (tmp_path / "tumbler.evidence.json").unlink()
    policy = tmp_path / "tumbler.toml"
    one = CHEAP_POLICY.replace(
        '[[store.passengers.cohort]]\nname = "clerks"\nplain_text = true\n', ""
    )
    named = 'readers_ready = 2026-01-01\nembedded = ["PassengersLogin.php"]\n'
    text = one.replace("readers_ready = 2026-01-01\n", named)
    policy.write_text(
        text.replace("[store.passengers]\n", '[store.passengers]\nmode = "observe"\n')
    )
    assert program("embed", "php", "--output", "PassengersLogin.php").code == 0
    environment = {
        "CHECK": "PassengersLogin.php", "DATABASE": "harbour.db", "VERDICTS": "verdicts.log",
        "VERDICTS_KEY": KEY,
    }  # fmt: skip
    portal = Portal([oracle("php"), str(EXAMPLES / "portal.php")], environment, tmp_path)
    before = people.stored()
    for person in people.openable:
        assert portal("observe", person.login, person.password, more=("right",)) == 0
        assert portal("login", person.login, person.password) == 0
    assert people.stored() == before
    monkeypatch.setenv("LEAN_TUMBLER_VERDICTS_KEY", KEY)
    assert program("evidence", "add", "verdicts.log").code == 0
    policy.write_text(text)
    refused = program("layer", "--no-backup")
    assert refused.code != 0
    assert "is not what would be written now" in refused.err
    assert program("embed", "php", "--output", "PassengersLogin.php").code == 0
    assert program("layer", "--no-backup").code == 0
    layered = sum((value or "").startswith("$over$") for value in people.stored().values())
    assert layered >= 10
    for person in people.openable:
        assert portal("login", person.login, person.password + "x") == 1
        assert portal("login", person.login, person.password) == 0
    assert portal("login", "nobody@tidepost.example", "x") == 1
    require_new_passwords(portal, people.openable[0].login, people.openable[0].password)
    gateway = CredentialGateway(StoragePolicy.from_toml(one))
    for person in people.openable[1:]:
        stored = people.stored()[person.number]
        assert gateway.admit(stored=stored, password=person.password).admitted
    done = program("embed", "php", "--output", "PassengersLogin.php")
    assert "No legacy value is left" in done.out


def test_node_on_a_server(tmp_path: Path, program: Program) -> None:
    """Logged in to on PostgreSQL, with swaps; registration, change and reset."""
    people = make_portal(tmp_path, ["md5", "sha1", "current"] * 3)
    packages = node_packages()
    with servers.postgresql() as server:
        server.run(
            "CREATE TABLE passengers (id serial PRIMARY KEY, email text, pw text, pw_salt text, "
            "is_admin integer);"
            + "".join(
                f"INSERT INTO passengers VALUES ({p.number}, '{p.login}', '{p.stored}', "
                f"{'NULL' if p.salt is None else repr(p.salt)}, 0);"
                for p in people.passengers
            )
            + "SELECT setval('passengers_id_seq', 100);"
        )
        policy = CHEAP_POLICY.replace("sqlite:///harbour.db", server.url)
        (tmp_path / "tumbler.toml").write_text(policy)
        assert program("embed", "node", "--output", "passengers-login.js").code == 0
        environment = {
            "CHECK": "passengers-login.js",
            "NODE_PATH": str(packages),
            "PGHOST": str(server.folder),
            "PGDATABASE": "postgres",
            "PGUSER": "tumbler",
        }
        portal = Portal([oracle("node"), str(EXAMPLES / "portal.js")], environment, tmp_path)
        for person in people.openable:
            assert portal("login", person.login, person.password + "x") == 1
            assert portal("login", person.login, person.password) == 0
        assert "$argon2id$" in server.ask("SELECT min(pw) FROM passengers")
        assert portal("login", "nobody@tidepost.example", "x") == 1
        require_new_passwords(portal, people.openable[0].login, people.openable[0].password)
