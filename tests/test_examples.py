"""The example applications, started and logged in to."""

import hashlib
import importlib
import json
import os
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import httpx
import pytest

import servers
from conftest import Portal, make_portal, oracle
from test_service import Service, served

EXAMPLES = Path(__file__).parent.parent / "examples"
Login = Callable[[str, str], bool]
KIOSK = """
[store.kiosk]
readers_ready = 2026-01-01
locator = "application"

[[store.kiosk.cohort]]
name = "old"
formula = "utf-8, md5, hex"

[[store.kiosk.cohort]]
name = "typed in"
plain_text = true
"""


def by_exit_code(command: list[str], environment: dict[str, str]) -> Login:
    def login(name: str, password: str) -> bool:
        finished = subprocess.run(
            [*command, name], input=f"{password}\n".encode(), env={**os.environ, **environment},
            capture_output=True, check=False, timeout=60,
        )  # fmt: skip
        assert finished.returncode in {0, 1}, finished.stderr
        return finished.returncode == 0

    return login


def require_logins(portal: Portal, login: Login) -> None:
    """Log everybody in, wrongly and rightly: all are upgraded, and still admitted afterwards."""
    for person in portal.openable[:6]:
        assert not login(person.login, person.password + "x")
        assert login(person.login, person.password)
        stored = portal.stored()[person.number] or ""
        assert stored.startswith("$argon2id$")
        assert login(person.login, person.password)
        assert portal.stored()[person.number] == stored
    assert not login("nobody@tidepost.example", "x")


DIGEST = hashlib.md5(b"Gannet 7").hexdigest()  # reads as a stored value: no new password


def require_new_passwords(portal: Portal, command: list[str], environment: dict[str, str]) -> None:
    """Get a value for a registration, change a password, and be told why one may not be used."""

    def run(action: str, login: str, *typed: str) -> tuple[int, str]:
        done = subprocess.run(
            [*command, action, login], input="\n".join(typed), env={**os.environ, **environment},
            capture_output=True, check=False, timeout=60, text=True,
        )  # fmt: skip
        return done.returncode, done.stdout + done.stderr

    person = portal.openable[0]
    code, value = run("hash", person.login, "Skua 12 harbour")
    assert (code, value[:10]) == (0, "$argon2id$")
    code, said = run("hash", person.login, DIGEST)
    assert code not in {0, 1}
    assert "a-stored-value" in said
    assert DIGEST not in said
    assert run("change", person.login, "wrong", "Skua 12 harbour")[0] == 1
    assert run("change", person.login, person.password, "Skua 12 harbour")[0] == 0
    assert run("change", person.login, "Skua 12 harbour", person.password)[0] == 0


def compiled(folder: Path) -> str:
    program = folder / "login"
    subprocess.run(
        [oracle("go"), "build", "-o", str(program), str(EXAMPLES / "go" / "login.go")],
        env={**os.environ, "GOCACHE": str(folder / "cache"), "GO111MODULE": "off",
             "GOPATH": str(folder / "path")},
        check=True, timeout=300,
    )  # fmt: skip
    return str(program)


@pytest.mark.parametrize("language", ["php", "ruby", "go"])
def test_a_snippet_in_each_language_logs_in(tmp_path: Path, language: str) -> None:
    """By the language's own standard library, over the Unix socket."""
    command = {
        "php": lambda: [oracle("php"), str(EXAMPLES / "php" / "login.php")],
        "ruby": lambda: [oracle("ruby"), str(EXAMPLES / "ruby" / "login.rb")],
        "go": lambda: [compiled(tmp_path)],
    }[language]()
    portal = make_portal(tmp_path, ["md5", "sha1", "plain", "bcrypt", "current"])
    with served(tmp_path) as service:
        environment = {"SERVICE": str(tmp_path / "s")}
        require_logins(portal, by_exit_code(command, environment))
        require_new_passwords(portal, command, environment)
        stop(service)
        finished = subprocess.run([*command, "ada"], input=b"x", env={**os.environ, **environment},
                                  capture_output=True, check=False, timeout=60)  # fmt: skip
        assert finished.returncode not in {0, 1}  # no answer is no refusal


def require_forms(portal: Portal, post: Callable[..., Any], *, registered: int) -> None:
    """Register, be told what may not be used, and change a password, by forms."""

    def answered(path: str, **form: str) -> int:
        return int(post(path, data=form).status_code)

    new = {"login": "new@tidepost.example", "password": "Skua 12 harbour"}
    assert answered("/register", **new) == registered
    assert answered("/register", **{**new, "password": DIGEST}) == 422
    person = portal.openable[0]
    known = {"login": person.login, "password": person.password}
    assert answered("/change", **{**known, "password": "wrong"}, new="Skua 12 harbour") == 401
    assert answered("/change", **known, new=DIGEST) == 422
    assert answered("/change", **known, new="Skua 12 harbour") == 200
    assert answered("/login", **known) == 401
    assert (
        answered("/change", **{**known, "password": "Skua 12 harbour"}, new=person.password) == 200
    )


Tell = Callable[[str, str, str], None]  # login, password, what the old code said


def require_observed(folder: Path, portal: Portal, tell: Tell, service: Service) -> None:
    """Observe as the documents say: nothing is written, and closed accounts contradict nothing."""
    before = portal.stored()
    person, banned, unconfirmed, expired = portal.openable[:4]
    tell(person.login, person.password, "right")
    tell(person.login, "another", "wrong")
    tell(banned.login, banned.password, "right")
    tell(unconfirmed.login, unconfirmed.password, "unasked")
    tell(expired.login, "another", "unasked")
    assert portal.stored() == before
    agreed = [service.metric("tumbler_agreement_total", expected=said, admitted=said)
              for said in ("true", "false")]  # fmt: skip
    assert agreed == [2, 1]
    assert contradictions(folder, service) == 0


def contradictions(folder: Path, service: Service) -> int:
    """Stop the service, and count the people whose login was judged otherwise."""
    stop(service)
    stores = json.loads((folder / "tumbler.evidence.json").read_text())["stores"].values()
    return sum(cohort["counts"]["differed"] for store in stores for cohort in store["cohorts"])


def observing(folder: Path) -> None:
    policy = folder / "tumbler.toml"
    policy.write_text(policy.read_text().replace("locator =", 'mode = "observe"\nlocator ='))


def by_arguments(command: list[str], environment: dict[str, str]) -> Tell:
    def tell(login: str, password: str, said: str) -> None:
        subprocess.run(
            [*command, "observe", login, said], input=f"{password}\n".encode(), check=True,
            env={**os.environ, **environment}, capture_output=True, timeout=60,
        )  # fmt: skip

    return tell


@pytest.mark.parametrize("language", ["php", "ruby", "go"])
def test_a_snippet_in_each_language_observes(tmp_path: Path, language: str) -> None:
    """What the old code says of banned, unconfirmed and expired accounts is told as documented."""
    command = {
        "php": lambda: [oracle("php"), str(EXAMPLES / "php" / "login.php")],
        "ruby": lambda: [oracle("ruby"), str(EXAMPLES / "ruby" / "login.rb")],
        "go": lambda: [compiled(tmp_path)],
    }[language]()
    portal = make_portal(tmp_path, ["md5"] * 5)
    observing(tmp_path)
    with served(tmp_path) as service:
        tell = by_arguments(command, {"SERVICE": str(tmp_path / "s")})
        require_observed(tmp_path, portal, tell, service)


def test_a_node_application_observes(tmp_path: Path) -> None:
    """The same by a running application."""
    portal = make_portal(tmp_path, ["md5"] * 5)
    observing(tmp_path)
    address = tmp_path / "portal.sock"
    with served(tmp_path) as service, node_application(tmp_path, address) as client:

        def tell(login: str, password: str, said: str) -> None:
            form = {"login": login, "password": password, "said": said}
            assert client.post("/observe", data=form).status_code == 200

        require_observed(tmp_path, portal, tell, service)


def test_a_document_store_observes(tmp_path: Path) -> None:
    """The same where the application brings the stored value along, and keeps it."""
    portal = make_portal(tmp_path, ["md5"] * 5)
    policy = tmp_path / "tumbler.toml"
    policy.write_text(policy.read_text() + KIOSK)
    observing(tmp_path)
    path = tmp_path / "kiosk.json"
    path.write_text(
        json.dumps({row.login: {"profile": {"secret": row.stored}} for row in portal.passengers})
    )
    before = path.read_bytes()
    with served(tmp_path) as service:
        command = [oracle("node"), str(EXAMPLES / "documents" / "login.js")]
        environment = {"SERVICE": str(tmp_path / "s"), "DOCUMENTS": str(path)}
        require_observed(tmp_path, portal, by_arguments(command, environment), service)
    assert path.read_bytes() == before


def test_a_banned_account_that_is_told_as_wrong_contradicts(tmp_path: Path) -> None:
    """The mistake that the documents warn of shows as a contradiction."""
    portal = make_portal(tmp_path, ["md5"] * 5)
    observing(tmp_path)
    with served(tmp_path) as service:
        person = portal.openable[0]
        fields = {"store": "passengers", "login": person.login, "password": person.password}
        service.client.post("/v1/admit", json={**fields, "expected": False})
        assert contradictions(tmp_path, service) == 1


def stop(service: Service) -> None:
    service.process.terminate()
    service.process.wait(timeout=30)


def test_a_node_application_logs_in(tmp_path: Path) -> None:
    """A login form on plain node:http; without the service it lets nobody in and says why."""
    portal = make_portal(tmp_path, ["md5", "sha1", "plain", "bcrypt", "current"])
    address = tmp_path / "portal.sock"
    with served(tmp_path) as service, node_application(tmp_path, address) as client:

        def login(name: str, password: str) -> bool:
            form = {"login": name, "password": password}
            status = client.post("/login", data=form).status_code
            assert status in {200, 401}
            return status == 200

        require_logins(portal, login)
        require_forms(portal, client.post, registered=200)
        stop(service)
        assert client.post("/login", data={"login": "a", "password": "b"}).status_code == 503


@contextmanager
def node_application(folder: Path, address: Path) -> Iterator[httpx.Client]:
    """Start the example on node:http, and give a client of it."""
    command = [oracle("node"), str(EXAMPLES / "node" / "login.js"), str(address)]
    application = subprocess.Popen(command, env={**os.environ, "SERVICE": str(folder / "s")})
    transport = httpx.HTTPTransport(uds=str(address))
    try:
        servers.wait_until_listening(address, application)
        with httpx.Client(transport=transport, base_url="http://portal", timeout=60) as client:
            yield client
    finally:
        application.kill()
        application.wait()


def test_a_document_store_is_upgraded_by_its_own_application(tmp_path: Path) -> None:
    """The application fetches and writes; the service sees values alone."""
    portal = make_portal(tmp_path, ["md5", "plain", "bcrypt", "current"])
    policy = (tmp_path / "tumbler.toml").read_text()
    (tmp_path / "tumbler.toml").write_text(policy + KIOSK)
    path = tmp_path / "kiosk.json"
    documents = {row.login: {"profile": {"secret": row.stored}} for row in portal.passengers}
    path.write_text(json.dumps(documents))
    with served(tmp_path):
        command = [oracle("node"), str(EXAMPLES / "documents" / "login.js")]
        login = by_exit_code(command, {"SERVICE": str(tmp_path / "s"), "DOCUMENTS": str(path)})
        for row in portal.passengers:
            assert not login(row.login, row.password + "x")
            assert login(row.login, row.password)
            assert login(row.login, row.password)
        for name in ("nobody", "constructor", "__proto__", "toString"):
            assert not login(name, "x")
    stored = json.loads(path.read_text())
    assert all(found["profile"]["secret"].startswith("$argon2id$") for found in stored.values())


def test_a_flask_application_logs_in(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """In its own process, by the library, with a swap of its own."""
    portal = make_portal(tmp_path, ["md5", "sha1", "plain", "bcrypt", "current"])
    shutil.copy(EXAMPLES / "flask" / "portal.py", tmp_path / "portal_example.py")
    monkeypatch.setenv("PORTAL", str(tmp_path))
    monkeypatch.syspath_prepend(str(tmp_path))
    monkeypatch.delitem(sys.modules, "portal_example", raising=False)
    client = importlib.import_module("portal_example").app.test_client()

    def login(name: str, password: str) -> bool:
        answer = client.post("/login", data={"login": name, "password": password})
        assert answer.status_code in {200, 401}
        return bool(answer.status_code == 200)

    require_logins(portal, login)
    require_forms(portal, client.post, registered=201)
    assert login("new@tidepost.example", "Skua 12 harbour")


def test_a_change_in_flask_overwrites_nobody(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Where somebody else wrote between the check and the change, the other's value stays."""
    portal = make_portal(tmp_path, ["current"])
    shutil.copy(EXAMPLES / "flask" / "portal.py", tmp_path / "portal_example.py")
    monkeypatch.setenv("PORTAL", str(tmp_path))
    monkeypatch.syspath_prepend(str(tmp_path))
    monkeypatch.delitem(sys.modules, "portal_example", raising=False)
    module = importlib.import_module("portal_example")
    hashed = module.gateway.hash

    def hash_meanwhile(**asked: str) -> str:
        with closing(sqlite3.connect(portal.database)) as connection, connection:
            connection.execute("UPDATE passengers SET pw = 'of another'")
        return str(hashed(**asked))

    monkeypatch.setattr(module.gateway, "hash", hash_meanwhile)
    person = portal.passengers[0]
    answer = module.app.test_client().post(
        "/change",
        data={"login": person.login, "password": person.password, "new": "Razorbill 12 pier"},
    )
    assert answer.status_code == 401
    assert portal.stored()[1] == "of another"
