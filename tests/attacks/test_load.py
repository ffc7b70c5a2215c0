"""Whoever can connect: floods, half-sent requests and full descriptors leave logins answered."""

import json
import resource
import socket
import ssl
import subprocess
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

import httpx
import pytest

import servers
from conftest import PROGRAM, Portal, make_portal
from lean_tumbler.service.connections import bounds_of_process
from test_service import STORE, served

HALF_A_REQUEST = b"POST /v1/admit HTTP/1.1\r\nHost: t\r\nContent-Type: application/json\r\nX-Half: "


def half_sent(path: Path) -> socket.socket:
    opened = socket.socket(socket.AF_UNIX)
    opened.settimeout(10)
    opened.connect(str(path))
    opened.sendall(HALF_A_REQUEST)
    return opened


def resident_kib(pid: int) -> int:
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("VmRSS"))


def test_a_thousand_half_sent_requests_leave_logins_answered(portal: Portal) -> None:
    """They are dropped after some seconds; meanwhile others are admitted at once."""
    person = portal.openable[0]
    with served(portal.folder) as service, ExitStack() as stack:
        for _ in range(1_200):
            stack.callback(half_sent(portal.folder / "s").close)
        started = time.monotonic()
        assert service.admit(person.login, person.password)["admitted"]
        assert time.monotonic() - started < 10
        assert not service.admit(person.login, "wrong")["admitted"]


def test_half_sent_requests_end(portal: Portal) -> None:
    """A connection whose headers are not whole in time is closed by the service."""
    with served(portal.folder):
        opened = half_sent(portal.folder / "s")
        assert opened.recv(1) == b""  # within the socket's own time limit
        opened.close()


@pytest.mark.parametrize("descriptors", [100])
def test_full_descriptors_leave_logins_answered(portal: Portal, descriptors: int) -> None:
    """The longest waiting connections give way to new ones before descriptors run out."""
    person = portal.openable[0]
    command = ("prlimit", f"--nofile={descriptors}:{descriptors}", str(PROGRAM))
    with served(portal.folder, program=command) as service, ExitStack() as stack:
        for _ in range(3 * descriptors):
            stack.callback(half_sent(portal.folder / "s").close)
        for _ in range(5):
            with httpx.Client(
                transport=httpx.HTTPTransport(uds=str(portal.folder / "s")),
                base_url="http://t",
                timeout=20,
            ) as other:
                body = {"store": STORE, "login": person.login, "password": person.password}
                assert other.post("/v1/admit", json=body).json()["admitted"]
        assert service.process.poll() is None


def _send_headers(opened: socket.socket) -> None:
    for number in range(5_000):
        opened.sendall(b"\r\nX-%d: " % number + b"x" * 8_000)


def test_headers_without_end_take_no_memory(portal: Portal) -> None:
    """A request's head is bounded in bytes: more than that is refused, and nothing is kept."""
    with served(portal.folder) as service:
        before = resident_kib(service.process.pid)
        for _ in range(20):
            opened = half_sent(portal.folder / "s")
            with pytest.raises(OSError):  # noqa: PT011 - closed, reset or broken: all will do
                _send_headers(opened)
            opened.close()
        assert resident_kib(service.process.pid) - before < 20_000


def test_readiness_is_asked_once_for_many(portal: Portal) -> None:
    """Callers without a token read no tables, however many they are."""
    with served(portal.folder) as service:
        started = time.monotonic()
        for _ in range(300):
            assert service.client.get("/health/ready").status_code == 200
        assert time.monotonic() - started < 30


def test_a_reload_keeps_the_watch_and_answers_meanwhile(tmp_path: Path) -> None:
    """Logins go on while the policy is read; a certificate changes with it."""
    portal = make_portal(tmp_path, ["md5", "current"])
    person = portal.openable[1]
    with served(tmp_path) as service:
        for _ in range(20):
            service.process.send_signal(1)
            assert service.admit(person.login, person.password)["admitted"]
        deadline = time.monotonic() + 30
        while sum(event["event"] == "policy-read" for event in service.events()) < 1:
            assert time.monotonic() < deadline
            time.sleep(0.1)
        assert service.admit(person.login, person.password)["admitted"]


# -- TLS --------------------------------------------------------------------------------------


@contextmanager
def served_with_tls(folder: Path) -> Iterator[tuple[int, "subprocess.Popen[bytes]"]]:
    (folder / "token").write_text("a-token-for-tests\n")
    (folder / "token").chmod(0o600)
    servers.self_signed(folder, "localhost")
    port = servers.free_port()
    command = [str(PROGRAM), "serve", "--listen", f"0.0.0.0:{port}", "--certificate",
               "localhost.pem", "--private-key", "localhost.key", "--token-file", "token"]  # fmt: skip
    with (folder / "tls.log").open("wb") as log:
        process = subprocess.Popen(command, cwd=folder, stderr=log)
    deadline = time.monotonic() + 60
    while True:
        try:
            socket.create_connection(("127.0.0.1", port), timeout=5).close()
            break
        except OSError:
            assert process.poll() is None, (folder / "tls.log").read_text()
            assert time.monotonic() < deadline
            time.sleep(0.1)
    try:
        yield port, process
    finally:
        process.kill()
        process.wait()


def handshake(port: int, trusted: Path, *, ciphers: str = "", version: str = "") -> str:
    context = ssl.create_default_context(cafile=str(trusted))
    if version:
        context.maximum_version = ssl.TLSVersion[version]
        context.minimum_version = ssl.TLSVersion[version]
    if ciphers:
        context.set_ciphers(ciphers)
    with (
        socket.create_connection(("127.0.0.1", port), timeout=10) as plain,
        context.wrap_socket(plain, server_hostname="localhost") as secure,
    ):
        return (secure.cipher() or ("",))[0]


def test_old_versions_and_weak_ciphers_are_refused(portal: Portal) -> None:
    """TLS 1.2 and later, with forward secrecy and authenticated encryption alone."""
    folder = portal.folder
    with served_with_tls(folder) as (port, process):
        trusted = folder / "localhost.pem"
        assert "GCM" in handshake(port, trusted, version="TLSv1_2")
        assert handshake(port, trusted).startswith("TLS_")
        for ciphers in ("AES128-SHA", "AES256-GCM-SHA384", "ECDHE-RSA-AES128-SHA"):
            with pytest.raises((ssl.SSLError, OSError)):
                handshake(port, trusted, ciphers=ciphers, version="TLSv1_2")
        with pytest.raises((ssl.SSLError, OSError)):
            handshake(port, trusted, ciphers="ALL:@SECLEVEL=0", version="TLSv1_1")
        servers.self_signed(folder, "localhost")  # renewed
        with pytest.raises(ssl.SSLError):
            handshake(port, trusted)
        process.send_signal(1)
        deadline = time.monotonic() + 20
        while "policy-read" not in (folder / "tls.log").read_text():
            assert time.monotonic() < deadline
            time.sleep(0.1)
        assert handshake(port, trusted)


def test_a_private_key_that_others_may_read_is_refused(portal: Portal) -> None:
    """As with the token's file."""
    servers.self_signed(portal.folder, "localhost")
    (portal.folder / "localhost.key").chmod(0o644)
    command = [str(PROGRAM), "serve", "--listen", "127.0.0.1:0", "--certificate", "localhost.pem",
               "--private-key", "localhost.key"]  # fmt: skip
    done = subprocess.run(command, cwd=portal.folder, capture_output=True, check=False, timeout=60)
    assert done.returncode == 2
    assert b"others may read the private key" in done.stderr


def test_a_flood_of_handshakes_leaves_logins_answered(portal: Portal) -> None:
    """Connections that begin no TLS hold nobody up, and end by themselves."""
    person = portal.openable[0]
    with served_with_tls(portal.folder) as (port, _), ExitStack() as stack:
        for _ in range(300):
            stack.enter_context(socket.create_connection(("127.0.0.1", port), timeout=10))
        context = ssl.create_default_context(cafile=str(portal.folder / "localhost.pem"))
        with httpx.Client(
            verify=context, base_url=f"https://localhost:{port}", timeout=20
        ) as client:
            answer = client.post(
                "/v1/admit",
                json={"store": STORE, "login": person.login, "password": person.password},
                headers={"Authorization": "Bearer a-token-for-tests"},
            )
            assert json.loads(answer.text)["admitted"]


def test_the_process_asks_for_its_descriptors() -> None:
    """The bounds follow from what the process may have."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    bounds = bounds_of_process()
    assert bounds.most <= max(soft, hard)
    assert bounds.most_of_one_peer * 2 in {bounds.most, bounds.most - 1}
