"""Listening: a Unix socket or loopback, elsewhere only with TLS and a token; signals."""

import asyncio
import math
import os
import signal
import socket
import ssl
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from ipaddress import ip_address
from pathlib import Path

import uvicorn
from msgspec import Struct
from starlette.applications import Starlette

from lean_tumbler.errors import SourceError, TumblerError, UsageError
from lean_tumbler.service.app import Access, Application
from lean_tumbler.service.connections import BoundedLoop, Connection, bounds_of_process
from lean_tumbler.service.events import Event, Log
from lean_tumbler.service.logins import LoginService
from lean_tumbler.stores.file_access import file_errors, require_own

_GRACE_SECONDS = 20
_BACKLOG = 1024
_OF_OTHERS = 0o007
_FIRST_INHERITED = 3  # sd_listen_fds(3)
_SOCKET_MODE = 0o660
# Of TLS 1.2, what RFC 9325 section 4.2 recommends; TLS 1.3 has no others.
_CIPHERS = "ECDHE+AESGCM:ECDHE+CHACHA20"


class Listening(Struct, frozen=True, kw_only=True):
    """Where the service listens."""

    place: str  # `unix:PATH`, `HOST:PORT`, or `inherited` for a socket that systemd has opened
    certificate: Path | None = None  # for TLS, in PEM; None without
    private_key: Path | None = None  # its key

    def require_safe(self, access: Access) -> None:
        """Refuse a place where passwords could be read along, or anybody could call.

        Raises:
            UsageError: TLS or a token is missing.
        """
        if (self.certificate is None) is not (self.private_key is None):
            raise UsageError("--certificate and --private-key go together")
        if self.private_key is not None:
            _require_private(self.private_key)
        if self.place.startswith("unix:") or self.place == "inherited":
            return
        host = self.place.rpartition(":")[0].strip("[]")
        if not _is_loopback(host) and not (self.certificate and access.token):
            raise UsageError(
                f"{self.place} can be reached from other machines, and passwords would cross the "
                "network; give "
                "--certificate, --private-key and --token-file, or listen on 127.0.0.1 or unix:PATH"
            )

    def load_certificate(self, config: uvicorn.Config) -> None:
        """Read certificate and key anew, for connections that begin from now on.

        Raises:
            SourceError: they cannot be read, or do not belong together.
        """
        if config.ssl is None or self.certificate is None or self.private_key is None:
            return
        _require_private(self.private_key)
        try:
            config.ssl.load_cert_chain(self.certificate, self.private_key)
        except (OSError, ssl.SSLError):
            raise SourceError(
                f"{self.certificate}: the certificate or its key cannot be read anew; the old one "
                "stays in force"
            ) from None

    def open(self) -> socket.socket:
        """Open the socket.

        Raises:
            UsageError: the place cannot be understood.
            SourceError: it cannot be listened at.
        """
        try:
            if self.place == "inherited":
                return _inherited()
            if self.place.startswith("unix:"):
                return _unix(self.place.removeprefix("unix:"))
            return _tcp(self.place)
        except OSError as error:
            raise SourceError(f"{self.place}: {error.strerror or 'cannot listen'}") from None


def _require_private(path: Path) -> None:
    with file_errors(path):
        require_own(path, path.stat(), what="the private key", others=_OF_OTHERS)


def _is_loopback(host: str) -> bool:
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def _inherited() -> socket.socket:
    if os.environ.get("LISTEN_FDS") != "1" or os.environ.get("LISTEN_PID") != str(os.getpid()):
        raise UsageError("--listen inherited: no socket was handed over by systemd")
    return socket.socket(fileno=_FIRST_INHERITED)


def _unix(path: str) -> socket.socket:
    """Open a socket for owner and group; one that nobody listens at any more is taken away."""
    opened = socket.socket(socket.AF_UNIX)
    with socket.socket(socket.AF_UNIX) as probe:
        if Path(path).is_socket() and probe.connect_ex(path):
            Path(path).unlink()
    before = os.umask(0o777 & ~_SOCKET_MODE)
    try:
        opened.bind(path)
    finally:
        os.umask(before)
    return opened


def _tcp(place: str) -> socket.socket:
    host, _, port = place.rpartition(":")
    if not host or not port.isdigit():
        raise UsageError(f"--listen {place}: expected HOST:PORT, unix:PATH or inherited")
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    # Named, because asyncio turns Nagle's algorithm off for sockets that say they are TCP alone.
    opened = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    opened.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    opened.bind((host.strip("[]"), int(port)))
    return opened


class _Server(uvicorn.Server):
    """A server that ends by returning: the usual one raises its signal again and is gone."""

    @contextmanager
    def capture_signals(self) -> Iterator[None]:
        """Leave signals to the loop."""
        yield

    def stop(self) -> None:
        """Take no more requests, and end when those inside are answered."""
        self.should_exit = True


def serve(
    # reads the policy, and makes the service of it; asked again at SIGHUP
    make: Callable[[], LoginService],
    listening: Listening,  # where
    access: Access,  # who may call
    *,
    log: Log,  # takes one event
    clock: Callable[[], float],  # seconds, monotonic
) -> None:
    """Serve until a signal ends it; requests that are being answered are finished.

    Raises:
        TumblerError: it cannot begin.
    """
    listening.require_safe(access)
    log(Event.STARTING, at=listening.place)  # reading large stores takes some seconds
    current = _Current(make, log)
    opened = listening.open()
    application = Application(lambda: current.service, access, clock=clock).starlette()
    Connection.bounds = bounds_of_process()
    config = _config(application, listening)

    async def run() -> None:
        server = _Server(config)
        loop = asyncio.get_running_loop()
        loop.add_signal_handler(
            signal.SIGHUP, lambda: current.reload(lambda: listening.load_certificate(config))
        )
        for number in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(number, server.stop)
        await server.serve(sockets=[opened])

    log(Event.LISTENING, at=listening.place, stores=list(current.service.stores))
    try:
        with asyncio.Runner(loop_factory=BoundedLoop) as runner:
            runner.run(run())
    finally:
        opened.close()
        if listening.place.startswith("unix:"):
            Path(listening.place.removeprefix("unix:")).unlink(missing_ok=True)
        close_stores(current.service)
        log(Event.ENDED)


class _Current:
    """The service in force; another takes its place whole, while logins go on.

    Args:
        make: reads the policy, and makes the service of it.
        log: takes one event.
    """

    def __init__(self, make: Callable[[], LoginService], log: Log) -> None:
        self.service = make()
        self._make, self._log = make, log
        self._turn = asyncio.Lock()
        self._reloads: set[asyncio.Task[None]] = set()

    def reload(self, first: Callable[[], None]) -> None:
        """Read the policy anew, aside; with a mistake in it the old one stays.

        Args:
            first: what else is read anew.
        """
        task = asyncio.get_running_loop().create_task(self._reload(first))
        self._reloads.add(task)
        task.add_done_callback(self._reloads.discard)

    async def _reload(self, first: Callable[[], None]) -> None:
        async with self._turn:
            try:
                first()
                fresh = await asyncio.get_running_loop().run_in_executor(None, self._make)
            except TumblerError as error:
                self._log(Event.POLICY_KEPT, message=str(error))
                return
            before, self.service = self.service, fresh
            close_stores(before)
            self._log(Event.POLICY_READ, stores=list(fresh.stores))


def _config(application: Starlette, listening: Listening) -> uvicorn.Config:
    config = uvicorn.Config(
        application,
        http=Connection,
        ws="none",
        h11_max_incomplete_event_size=Connection.bounds.header_bytes,
        timeout_keep_alive=math.ceil(Connection.bounds.header_seconds),
        log_config=None,
        log_level="critical",  # its other lines are tracebacks, with what an error holds
        access_log=False,
        server_header=False,
        proxy_headers=False,
        lifespan="off",
        backlog=_BACKLOG,
        timeout_graceful_shutdown=_GRACE_SECONDS,
        ssl_certfile=listening.certificate,
        ssl_keyfile=listening.private_key,
        ssl_ciphers=_CIPHERS,
    )
    config.load()
    if config.ssl is not None:
        config.ssl.minimum_version = ssl.TLSVersion.TLSv1_2
    return config


def close_stores(service: LoginService) -> None:
    """Let go of a service's connections; those in use end with their request."""
    for store in service.stores.values():
        store.close()
