"""The login service as applications meet it: the program, started, over a socket."""

import asyncio
import json
import signal
import socket
import ssl
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import pytest
from argon2 import low_level

import servers
from conftest import PROGRAM, Portal, Program, make_portal, oracle
from lean_tumbler.core.login.new_passwords import NewPasswords, Objection, reasons_against
from lean_tumbler.service.watch import AcceptanceWatch

STORE = "passengers"


@dataclass(frozen=True)
class Service:
    process: "subprocess.Popen[bytes]"
    client: httpx.Client
    log: Path

    def post(self, path: str, **fields: Any) -> httpx.Response:
        return self.client.post(f"/v1/{path}", json=fields)

    def admit(self, login: str, password: str, **more: Any) -> dict[str, Any]:
        response = self.post("admit", store=STORE, login=login, password=password, **more)
        assert response.status_code == 200, response.text
        document: dict[str, Any] = response.json()
        return document

    def events(self) -> list[dict[str, Any]]:
        return [json.loads(line) for line in self.log.read_text().splitlines()]

    def metric(self, name: str, **labels: str) -> float:
        """Add up a metric's lines that have these labels."""
        wanted = [f'{label}="{value}"' for label, value in labels.items()]
        return sum(
            float(line.rpartition(" ")[2])
            for line in self.client.get("/metrics").text.splitlines()
            if line.startswith(name) and all(text in line for text in wanted)
        )


@contextmanager
def served(
    folder: Path, *arguments: str, program: Sequence[str] = (str(PROGRAM),)
) -> Iterator[Service]:
    """Start the service on a Unix socket, and wait until it answers."""
    log = folder / "service.log"
    path = folder / "s"
    with log.open("wb") as err:
        process = subprocess.Popen(
            [*program, "serve", "--listen", f"unix:{path}", *arguments],
            cwd=folder, stderr=err, stdout=subprocess.DEVNULL,
        )  # fmt: skip
    transport = httpx.HTTPTransport(uds=str(path))
    with httpx.Client(transport=transport, base_url="http://tumbler", timeout=60) as client:
        deadline = time.monotonic() + 60
        while True:
            try:
                client.get("/health/live")
                break
            except httpx.TransportError:
                assert process.poll() is None, log.read_text()
                assert time.monotonic() < deadline
                time.sleep(0.05)
        try:
            yield Service(process, client, log)
        finally:
            process.kill()
            process.wait()


def test_every_account_is_admitted_and_upgraded(portal: Portal) -> None:
    """Right passwords are admitted whatever is stored, and rewritten; all else gets one answer."""
    with served(portal.folder) as service:
        before = portal.stored()
        for person in portal.passengers:
            refused = service.admit(person.login, "wrong " + person.password)
            assert refused == {"admitted": False, "action": "none"}
        assert portal.stored() == before
        for person in portal.openable:
            answer = service.admit(person.login, person.password)
            action = "none" if person.cohort == "current" else "upgraded"
            assert answer == {"admitted": True, "action": action}
            value = (portal.stored()[person.number] or "").encode()
            assert low_level.verify_secret(value, person.password.encode(), low_level.Type.ID)
        for person in portal.openable:
            assert service.admit(person.login, person.password)["action"] == "none"
        assert service.admit("nobody", "x") == {"admitted": False, "action": "none"}
        assert service.metric("tumbler_logins_total", admitted="true", action="upgraded") == 15
        assert (
            service.metric("tumbler_refusals_total", reason="unknown") == 4
        )  # three have no value
        seen = service.log.read_text() + service.client.get("/metrics").text
        for person in portal.passengers:
            assert person.login not in seen
            assert person.cohort == "locked" or not person.stored or person.stored not in seen
            assert person.password not in seen


PROBLEMS = [
    (b"x", {}, 400, "not-json", ""),
    (b"[1]", {}, 400, "not-json", ""),
    (b"\xff\xfe", {}, 400, "not-utf-8", ""),
    (b"[" * 50_000, {}, 400, "not-json", ""),
    (b'{"store": "passengers", "login": "a"}', {}, 400, "missing-field", "password"),
    (b'{"store": "passengers", "login": "a", "password": null}', {}, 400, "missing-field", "password"),
    (b'{"store": "passengers", "login": 7, "password": "x"}', {}, 400, "wrong-field", "login"),
    (b'{"store": "passengers", "login": "a", "password": "x", "extra": 1}', {}, 400, "unknown-field", ""),
    (b'{"store": "kiosk", "login": "a", "password": "x"}', {}, 400, "unknown-store", "store"),
    (b'{"store": "passengers", "login": "a", "password": "a\\u0000b"}', {}, 400, "wrong-field", "password"),
    (b'{"store": "passengers", "login": "a", "password": "\\ud800"}', {}, 400, "wrong-field", "password"),
    (b'{"store": "passengers", "login": "a", "password": "' + b"x" * 9000 + b'"}', {}, 400, "wrong-field", "password"),
    (b" " * 10_000_000, {}, 413, "too-large", ""),
    (b"{}", {"Content-Type": "text/plain"}, 415, "wrong-content-type", ""),
]  # fmt: skip


def test_what_is_no_request_gets_a_problem_document(portal: Portal) -> None:
    """Each with a stable type, the field's name, and no value; nothing else happens."""
    with served(portal.folder) as service:
        before = portal.stored()
        for body, more, status, kind, field in PROBLEMS:
            headers = {"Content-Type": "application/json", **more}
            response = service.client.post("/v1/admit", content=body, headers=headers)
            assert response.status_code == status, (body[:40], response.text)
            assert response.headers["content-type"] == "application/problem+json"
            document = response.json()
            assert (document["type"], document["status"]) == (f"/problems/{kind}", status)
            assert document.get("field", "") == field
            assert service.metric("tumbler_problems_total", type=kind) >= 1
        assert service.client.get("/nowhere").json()["type"] == "/problems/not-found"
        wrong = service.client.get("/v1/admit")
        assert (wrong.status_code, wrong.json()["type"]) == (405, "/problems/wrong-method")
        assert portal.stored() == before
        assert "Traceback" not in service.log.read_text()


def test_a_client_that_sends_too_slowly_is_timed_out(portal: Portal) -> None:
    """It gets its problem document, and others are answered meanwhile."""
    with served(portal.folder) as service, socket.socket(socket.AF_UNIX) as slow:
        slow.connect(str(portal.folder / "s"))
        slow.sendall(b"POST /v1/admit HTTP/1.1\r\nHost: t\r\nContent-Type: application/json\r\n"
                     b"Content-Length: 100\r\n\r\n{")  # fmt: skip
        assert service.client.get("/health/ready").json() == {"status": "ready"}
        slow.settimeout(30)
        answer = slow.recv(4096)
        while b"}" not in answer:
            answer += slow.recv(4096)
        assert answer.startswith(b"HTTP/1.1 408 ")
        assert b"/problems/too-slow" in answer


def test_values_that_the_application_fetches_and_writes(portal: Portal) -> None:
    """`admit-value` touches no database: it gives what to write, and nothing for a refusal."""
    with served(portal.folder) as service:
        before = portal.stored()
        for person in portal.passengers:
            fields = {"stored": person.stored, "salt": person.salt, "login": person.login,
                      "store": STORE}  # fmt: skip
            right = service.post("admit-value", password=person.password, **fields).json()
            assert right["admitted"] is (person in portal.openable)
            if person in portal.openable and person.cohort != "current":
                again = service.post("admit-value", stored=right["new_value"],
                                     password=person.password).json()  # fmt: skip
                assert again == {"admitted": True, "action": "none"}
            else:
                assert "new_value" not in right
            wrong = service.post("admit-value", password="wrong", **fields).json()
            assert wrong == {"admitted": False, "action": "none"}
        assert portal.stored() == before


def test_new_and_changed_passwords(portal: Portal) -> None:
    """A good one is hashed or put in place; a bad one is refused with all its reasons."""
    person = next(row for row in portal.passengers if row.cohort == "sha1")
    with served(portal.folder) as service:
        value = service.post("hash", password="ebb and flow 77").json()["value"]
        assert low_level.verify_secret(value.encode(), b"ebb and flow 77", low_level.Type.ID)
        refused = service.post("hash", password="summer1", login="ada@tidepost.example")
        assert refused.status_code == 422
        assert refused.json()["type"] == "/problems/password-refused"
        assert refused.json()["reasons"] == ["too-short", "common"]
        before = portal.stored()
        change = {"store": STORE, "login": person.login, "new_password": "ebb and flow 77"}
        assert service.post("change", password="wrong", **change).json() == {"changed": False}
        assert service.post("change", password="x", **{**change, "new_password": "short"}).status_code == 422  # fmt: skip
        assert portal.stored() == before
        assert service.post("change", password=person.password, **change).json() == {
            "changed": True
        }
        assert service.admit(person.login, "ebb and flow 77")["admitted"]
        assert not service.admit(person.login, person.password)["admitted"]
        assert not service.post("change", **{**change, "login": "nobody"}, password="x").json()[
            "changed"
        ]


@pytest.mark.parametrize(
    ("password", "login", "rules", "expected"),
    [
        ("kittiwake over sand", None, NewPasswords(), []),
        ("Möwe 12", None, NewPasswords(), [Objection.TOO_SHORT]),
        ("ｋｉｔｔｉｗａｋｅ", None, NewPasswords(), []),
        ("x" * 300, None, NewPasswords(), [Objection.TOO_LONG, Objection.COMMON]),
        ("PassWord2020", None, NewPasswords(), [Objection.COMMON]),
        ("ada.hawserholt1", "Ada.Hawserholt@tidepost.example", NewPasswords(), [Objection.LIKE_LOGIN]),
        ("Hawserholt-2024!", "ada.hawserholt@tidepost.example", NewPasswords(), [Objection.LIKE_LOGIN]),
        ("hawserholthawserholt", "ada.hawserholt@x.example", NewPasswords(), [Objection.LIKE_LOGIN]),
        ("hawserholt sails far", "ada.hawserholt@x.example", NewPasswords(), []),
        ("Coldharbour77", None, NewPasswords(words=("coldharbour",)), [Objection.LIKE_WORD]),
        ("all in lower", None, NewPasswords(composition=("digit", "upper", "other")),
         [Objection.NO_DIGIT, Objection.NO_UPPER]),
    ],
)  # fmt: skip
def test_rules_for_new_passwords(
    password: str, login: str | None, rules: NewPasswords, expected: list[Objection]
) -> None:
    """Length in code points, likely ones, the login and the organisation's words by any ending."""
    assert reasons_against(password, login=login, rules=rules, common={"password2020"}) == expected


def test_more_logins_than_the_queue_holds(tmp_path: Path) -> None:
    """Those beyond it are told at once to come back; those inside are answered right."""
    portal = make_portal(tmp_path, ["current"] * 3)
    policy = (tmp_path / "tumbler.toml").read_text()
    (tmp_path / "tumbler.toml").write_text(policy.replace("256", "65536"))
    person = portal.passengers[0]

    async def many(path: Path) -> list[httpx.Response]:
        transport = httpx.AsyncHTTPTransport(uds=str(path))
        async with httpx.AsyncClient(
            transport=transport, base_url="http://t", timeout=60
        ) as client:
            body = {"store": STORE, "login": person.login, "password": person.password}
            return await asyncio.gather(*(client.post("/v1/admit", json=body) for _ in range(20)))

    with served(tmp_path, "--concurrency", "1", "--queue", "3", "--within", "60s") as service:
        answers = asyncio.run(many(tmp_path / "s"))
        busy = [answer for answer in answers if answer.status_code == 503]
        right = [answer for answer in answers if answer.status_code == 200]
        assert len(busy) + len(right) == 20
        assert len(right) >= 4
        assert busy
        assert all(answer.headers["retry-after"] == "1" for answer in busy)
        assert all(answer.json()["type"] == "/problems/busy" for answer in busy)
        assert all(answer.json()["admitted"] for answer in right)
        assert service.admit(person.login, person.password)["admitted"]
        assert service.metric("tumbler_requests_in_flight") == 0


def test_upgrades_stop_where_logins_begin_to_fail() -> None:
    """A cohort that is admitted less often than before ends the store's upgrades, and only its."""
    watch = AcceptanceWatch()
    usual = [number % 20 != 0 for number in range(1000)]  # one in twenty mistypes
    assert [watch.note("a", "md5", admitted=each) for each in usual] == [""] * 1000
    assert watch.may_upgrade("a")
    heard = [watch.note("a", "md5", admitted=number % 2 == 0) for number in range(200)]
    told = [message for message in heard if message]
    assert len(told) == 1
    assert "95% before" in told[0]
    assert not watch.may_upgrade("a")
    assert watch.may_upgrade("b")
    assert watch.note("a", "sha1", admitted=True) == ""


def test_a_store_whose_upgrades_are_stopped_still_answers(portal: Portal) -> None:
    """With an alert in the log; right passwords are admitted, and nothing more is written."""
    first, second = [row for row in portal.passengers if row.cohort == "md5"][:2]
    with served(portal.folder) as service:
        value = {"stored": first.stored, "store": STORE}
        for _ in range(200):
            assert service.post("admit-value", password=first.password, **value).json()["new_value"]
        for _ in range(100):
            service.post("admit-value", password="wrong", **value)
        assert service.events()[-1]["event"] == "alert"
        assert service.events()[-1]["level"] == "warning"
        before = portal.stored()
        assert service.admit(second.login, second.password) == {"admitted": True, "action": "none"}
        assert portal.stored() == before
        right = service.post("admit-value", password=first.password, **value).json()
        assert right == {"admitted": True, "action": "none"}


def test_observing_writes_nothing_and_counts_agreement(portal: Portal) -> None:
    """With the application's verdict beside it, each answer is counted by cohort."""
    policy = (portal.folder / "tumbler.toml").read_text()
    observing = policy.replace("[store.passengers]\n", '[store.passengers]\nmode = "observe"\n')
    (portal.folder / "tumbler.toml").write_text(observing)
    with served(portal.folder) as service:
        before = portal.stored()
        for person in portal.openable:
            answer = service.admit(person.login, person.password, expected=True)
            assert answer == {"admitted": True, "action": "none"}
            service.admit(person.login, "wrong", expected=False)
        service.admit(portal.openable[0].login, "wrong", expected=True)
        assert portal.stored() == before
        agreed = {"expected": "true", "admitted": "true"}
        assert service.metric("tumbler_agreement_total", **agreed) == 18
        assert service.metric("tumbler_agreement_total", cohort="sha1", **agreed) == 3
        assert service.metric("tumbler_agreement_total", expected="true", admitted="false") == 1


def test_a_policy_is_read_anew_only_if_it_is_valid(portal: Portal) -> None:
    """SIGHUP takes a good policy over, and keeps the old one beside a line that says why."""
    good = (portal.folder / "tumbler.toml").read_text()
    person = next(row for row in portal.passengers if row.cohort == "sha1")
    with served(portal.folder) as service:
        for text, event, level in (
            (good.replace("[store", "[stor"), "policy-kept", "error"),
            (good.replace('"passengers"', '"passenger"'), "policy-kept", "error"),
            (good.replace("256", "512"), "policy-read", "notice"),
        ):
            (portal.folder / "tumbler.toml").write_text(text)
            known = len(service.events())
            service.process.send_signal(signal.SIGHUP)
            deadline = time.monotonic() + 20
            while len(service.events()) == known:
                assert time.monotonic() < deadline
                time.sleep(0.05)
            last = service.events()[-1]
            assert (last["event"], last["level"]) == (event, level)
        assert service.admit(person.login, person.password)["action"] == "upgraded"
        assert "m=512," in (portal.stored()[person.number] or "")


def test_a_stop_lets_answers_end(tmp_path: Path) -> None:
    """SIGTERM while a login is derived: it is answered, the socket goes, the exit code is 0."""
    portal = make_portal(tmp_path, ["current"])
    policy = (tmp_path / "tumbler.toml").read_text()
    (tmp_path / "tumbler.toml").write_text(policy.replace("256", "262144"))
    with served(tmp_path) as service:
        answers: list[dict[str, Any]] = []
        person = portal.passengers[0]
        asking = threading.Thread(
            target=lambda: answers.append(service.admit(person.login, person.password))
        )
        asking.start()
        while not service.metric("tumbler_requests_in_flight"):
            assert not answers  # else the derivation was too quick to be caught at it
        service.process.send_signal(signal.SIGTERM)
        asking.join()
        assert answers == [{"admitted": True, "action": "upgraded"}]
        assert service.process.wait(timeout=30) == 0
        assert not (tmp_path / "s").exists()


_HAND_OVER = """
import os, sys
os.dup2(int(sys.argv[1]), 3)
os.environ.update(LISTEN_FDS="1", LISTEN_PID=str(os.getpid()))
os.execv(sys.argv[2], sys.argv[2:])
"""


def test_a_socket_that_was_opened_beforehand(portal: Portal) -> None:
    """As systemd hands one over: the third file, and who it is meant for."""
    person = portal.openable[0]
    path = portal.folder / "handed"
    with socket.socket(socket.AF_UNIX) as opened, (portal.folder / "log").open("wb") as err:
        opened.bind(str(path))
        opened.listen()
        command = [sys.executable, "-c", _HAND_OVER, str(opened.fileno()), str(PROGRAM), "serve",
                   "--listen", "inherited"]  # fmt: skip
        with subprocess.Popen(
            command, cwd=portal.folder, stderr=err, pass_fds=(opened.fileno(),)
        ) as process:
            transport = httpx.HTTPTransport(uds=str(path))
            with httpx.Client(transport=transport, base_url="http://t", timeout=30) as client:
                body = {"store": STORE, "login": person.login, "password": person.password}
                assert client.post("/v1/admit", json=body).json()["admitted"]
            process.terminate()
            assert process.wait(timeout=30) == 0


def test_where_passwords_could_be_read_along(portal: Portal, program: Program) -> None:
    """Other addresses than this machine's need TLS and a token; with both they are served."""
    folder = portal.folder
    refused = program("serve", "--listen", "0.0.0.0:0")
    assert refused.code == 2
    assert "passwords would cross the network" in refused.err
    (folder / "token").write_text("a-token-for-tests\n")
    readable = program("serve", "--token-file", "token")
    assert (readable.code, "others may read the token" in readable.err) == (2, True)
    (folder / "token").chmod(0o600)
    subprocess.run(
        [oracle("openssl"), "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "key.pem",
         "-out", "cert.pem", "-days", "2", "-subj", "/CN=localhost", "-addext",
         "subjectAltName=DNS:localhost"],
        cwd=folder, check=True, capture_output=True,
    )  # fmt: skip
    port = servers.free_port()
    command = [str(PROGRAM), "serve", "--listen", f"0.0.0.0:{port}", "--certificate", "cert.pem",
               "--private-key", "key.pem", "--token-file", "token"]  # fmt: skip
    with subprocess.Popen(command, cwd=folder, stderr=subprocess.PIPE) as process:
        assert process.stderr is not None
        assert b"starting" in process.stderr.readline()
        assert b"listening" in process.stderr.readline()
        trusted = ssl.create_default_context(cafile=str(folder / "cert.pem"))
        with httpx.Client(verify=trusted, base_url=f"https://localhost:{port}") as client:
            deadline = time.monotonic() + 30
            while True:
                try:
                    client.get("/health/live")
                    break
                except httpx.TransportError:
                    assert time.monotonic() < deadline
                    time.sleep(0.1)
            body = {"password": "ebb and flow 77"}
            without = client.post("/v1/hash", json=body)
            assert (without.status_code, without.json()["type"]) == (401, "/problems/no-token")
            wrong = client.post("/v1/hash", json=body, headers={"Authorization": "Bearer no"})
            assert wrong.status_code == 401
            right = {"Authorization": "Bearer a-token-for-tests"}
            assert client.post("/v1/hash", json=body, headers=right).status_code == 200
            assert client.get("/metrics").status_code == 401
            assert client.get("/openapi.json").json()["components"]["securitySchemes"]
        process.terminate()
        process.wait(timeout=30)


def test_the_description_says_what_is_checked(portal: Portal) -> None:
    """Every path, field and problem of the description is real: asked without fields, each refuses."""
    with served(portal.folder) as service:
        document = service.client.get("/openapi.json").json()
        assert document["openapi"] == "3.1.0"
        for path, methods in document["paths"].items():
            if "get" in methods:
                assert service.client.get(path).status_code == 200
                continue
            schema = methods["post"]["requestBody"]["content"]["application/json"]["schema"]
            schema = document["components"]["schemas"][schema["$ref"].rpartition("/")[2]]
            for name in schema["required"]:
                body = {field: "x" for field in schema["required"] if field != name}
                refused = service.client.post(path, json=body).json()
                assert (refused["type"], refused["field"]) == ("/problems/missing-field", name)
                types = document["components"]["schemas"]["Problem"]["properties"]["type"]["enum"]
                assert refused["type"] in types


def test_a_fuzzer_that_reads_the_description(portal: Portal) -> None:
    """It finds no failure, no answer that is not described, and no bad request that is taken.

    It is not asked whether good ones are: stores and passwords are refused by what they say.
    """
    port = servers.free_port()
    with (portal.folder / "fuzzed.log").open("wb") as log:
        command = [str(PROGRAM), "serve", "--listen", f"127.0.0.1:{port}"]
        with subprocess.Popen(command, cwd=portal.folder, stderr=log) as process:
            finished = subprocess.run(
                [str(PROGRAM.with_name("schemathesis")), "run", "--wait-for-schema", "30",
                 "--phases", "coverage,fuzzing", "--max-examples", "20", "--seed", "1",
                 "--exclude-checks", "positive_data_acceptance", "--no-color",
                 f"http://127.0.0.1:{port}/openapi.json"],
                cwd=portal.folder, capture_output=True, text=True, check=False,
            )  # fmt: skip
            process.terminate()
        assert finished.returncode == 0, finished.stdout
        assert "Tested: 6" in finished.stdout
        assert "Traceback" not in (portal.folder / "fuzzed.log").read_text()
