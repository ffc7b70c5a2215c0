"""Throw-away database servers on sockets in a temporary folder, one of each for a test session."""

import os
import shutil
import socket
import sqlite3
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote

from conftest import missing


@dataclass(frozen=True)
class Server:
    """A running server: its URL for the program, and how to feed and dump it."""

    url: str
    client: tuple[str, ...]
    dump: tuple[str, ...]
    connections: str
    folder: Path
    command: tuple[str, ...]
    processes: "list[subprocess.Popen[bytes]]"
    probe: tuple[str, ...]

    @property
    def process(self) -> "subprocess.Popen[bytes]":
        """The one that runs now."""
        return self.processes[-1]

    def restart(self, *, away_seconds: float) -> None:
        """Kill the server, and start it again a while later."""
        self.kill()
        time.sleep(away_seconds)
        self.start_again()

    def start_again(self) -> None:
        """Start the server that was killed."""
        deadline = time.monotonic() + 60
        while True:  # a killed one may count as running until the system has buried it
            self.processes.append(_started(self.command, self.folder))
            try:
                _wait(self.process, (*self.client, *self.probe), self.folder)
            except RuntimeError:
                assert time.monotonic() < deadline
            else:
                return

    def others(self) -> int:
        """Count the connections of other programs."""
        asked = subprocess.run(
            self.client, input=self.connections.encode(), check=True, capture_output=True
        )
        return int(asked.stdout.split()[-1])

    def kill(self) -> None:
        """Kill every process of the server, as a power cut would."""
        alive = ("pgrep", "-f", f"{self.folder}/data")
        while found := subprocess.run(alive, capture_output=True, check=False, text=True).stdout:
            for server in found.split():
                subprocess.run(("pkill", "-9", "-P", server), check=False)
                subprocess.run(("kill", "-9", server), check=False, stderr=subprocess.DEVNULL)
            self.process.wait()

    @contextmanager
    def holding(self, statements: str) -> Iterator[None]:
        """Keep a transaction open that has run some statements."""
        options = ("--unbuffered",) if "mariadb" in self.client[0] else ()
        with subprocess.Popen(
            (*self.client, *options), stdin=subprocess.PIPE, stdout=subprocess.PIPE
        ) as client:
            assert client.stdin
            assert client.stdout
            client.stdin.write(f"BEGIN; {statements} SELECT 'held';\n".encode())
            client.stdin.flush()
            assert any(b"held" in line for line in client.stdout)
            try:
                yield
            finally:
                client.stdin.write(b"COMMIT;\n")
                client.stdin.close()
                client.wait()

    def run(self, statements: str) -> None:
        """Run SQL statements."""
        subprocess.run(self.client, input=statements.encode(), check=True, capture_output=True)

    def ask(self, statement: str) -> str:
        """Run one query and give what the server's own client prints, without headings."""
        options = ("--skip-column-names", "--raw") if "mariadb" in self.client[0] else ()
        asked = subprocess.run(
            (*self.client, *options), input=statement.encode(), check=True, capture_output=True
        )
        return asked.stdout.decode()

    def dumped(self, *options: str) -> bytes:
        """Give what the server's own dump program writes."""
        return subprocess.run((*self.dump, *options), check=True, capture_output=True).stdout


@dataclass(frozen=True)
class SqliteFile:
    """An SQLite file, fed and asked as a server is."""

    path: Path

    @property
    def url(self) -> str:
        """Its URL for the program."""
        return f"sqlite:///{self.path}"

    def run(self, statements: str) -> None:
        """Run SQL statements."""
        with closing(sqlite3.connect(self.path, timeout=60)) as connection, connection:
            connection.executescript(statements)

    def ask(self, statement: str) -> str:
        """Run one query and give its rows as lines."""
        with closing(sqlite3.connect(self.path, timeout=60)) as connection:
            rows = connection.execute(statement).fetchall()
        return "".join("|".join(map(str, row)) + "\n" for row in rows)


@dataclass(frozen=True)
class Redis:
    """A running server of counts."""

    url: str
    process: "subprocess.Popen[bytes]"


@contextmanager
def redis(folder: Path) -> Iterator[Redis]:
    """Start Redis on a free port; it writes nothing."""
    port = str(free_port())
    command = (found("redis-server"), "--port", port, "--bind", "127.0.0.1", "--save", "")
    process = _started(command, folder)
    _wait(process, (found("redis-cli"), "-p", port, "ping"), folder)
    try:
        yield Redis(f"redis://127.0.0.1:{port}/0", process)
    finally:
        _stop(process)


SMALL_LOG = "--innodb-log-file-size=8M"  # it is copied for each server, and may be searched
_LOG = "server.log"  # what a server says, for when it does not start


def free_port() -> int:
    """Find a port that nobody listens at."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def wait_until_listening(address: Path, process: "subprocess.Popen[bytes]") -> None:
    """Wait until somebody takes connections on a socket, which is there a moment before."""
    with socket.socket(socket.AF_UNIX) as probe:
        while probe.connect_ex(str(address)) != 0:
            assert process.poll() is None
            time.sleep(0.05)


def where(*names: str) -> str | None:
    """Find the first of these programs, in the folders of servers too."""
    folders = [str(path) for path in sorted(Path("/usr/lib/postgresql").glob("*/bin"))]
    path = os.pathsep.join([os.environ.get("PATH", ""), "/usr/sbin", *folders])
    return next((program for name in names if (program := shutil.which(name, path=path))), None)


def found(*names: str) -> str:
    program = where(*names)
    if program is None:
        missing(f"the program {names[0]}")
    return program or ""


def _as(user: str) -> tuple[str, ...]:
    """Servers refuse to run as root: run them as their own user, where we are root."""
    return ("runuser", "-u", user, "--") if os.geteuid() == 0 else ()


@contextmanager
def _folder(user: str) -> Iterator[Path]:
    """A short path, since sockets allow some hundred characters."""
    with tempfile.TemporaryDirectory(prefix="lt-", dir="/tmp") as name:
        if os.geteuid() == 0:
            shutil.chown(name, user)
        yield Path(name)


def _wait(process: "subprocess.Popen[bytes]", probe: tuple[str, ...], folder: Path) -> None:
    deadline = time.monotonic() + 60
    while subprocess.run(probe, capture_output=True, check=False).returncode != 0:
        if process.poll() is not None or time.monotonic() > deadline:
            said = (folder / _LOG).read_text("utf-8", "replace")[-2000:]
            message = f"the server did not start: exit code {process.poll()}; it said: {said}"
            raise RuntimeError(message)
        time.sleep(0.03)


def _started(command: tuple[str, ...], folder: Path) -> "subprocess.Popen[bytes]":
    with (folder / _LOG).open("ab") as log:
        return subprocess.Popen(command, stdout=log, stderr=log, cwd=folder)


def _stop(process: "subprocess.Popen[bytes]") -> None:
    process.terminate()
    try:
        process.wait(timeout=30)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()


_TEMPLATES: dict[str, tempfile.TemporaryDirectory[str]] = {}


def _template(user: str, make: Callable[[Path], Sequence[str]]) -> Path:
    """Make a new server's data, once for all servers of this process; give its folder."""
    if user not in _TEMPLATES:
        _TEMPLATES[user] = tempfile.TemporaryDirectory(prefix="lt-", dir="/tmp")
        folder = Path(_TEMPLATES[user].name)
        if os.geteuid() == 0:
            shutil.chown(folder, user)
        subprocess.run(make(folder), check=True, capture_output=True, cwd=folder)
    return Path(_TEMPLATES[user].name) / "data"


def postgresql() -> AbstractContextManager[Server]:
    """Start PostgreSQL on a socket."""

    def make(folder: Path) -> Sequence[str]:
        options = ("-U", "tumbler", "-A", "trust", "-N", "-D", str(folder / "data"))
        return (*_as("postgres"), found("initdb"), *options)

    return _postgresql(lambda data: ("cp", "-a", str(_template("postgres", make)), str(data)))


def postgresql_standby(primary: Server) -> AbstractContextManager[Server]:
    """Start a PostgreSQL server that follows another."""
    options = ("-h", str(primary.folder), "-U", "tumbler", "-R", "-c", "fast")
    return _postgresql(lambda data: (found("pg_basebackup"), *options, "-D", str(data)))


@contextmanager
def _postgresql(making: Callable[[Path], Sequence[str]]) -> Iterator[Server]:
    """Make a server's data by a program, and start it."""
    with _folder("postgres") as folder:
        command = (*_as("postgres"), *making(folder / "data"))
        subprocess.run(command, check=True, capture_output=True, cwd=folder)
        with _postgresql_in(folder) as server:
            yield server


@contextmanager
def _postgresql_in(folder: Path) -> Iterator[Server]:
    server, psql = found("postgres"), found("psql")
    options = ("-D", str(folder / "data"), "-k", str(folder), "-c", "listen_addresses=")
    command = (*_as("postgres"), server, *options)
    processes = [_started(command, folder)]
    login = ("-h", str(folder), "-U", "tumbler")
    client = (psql, *login, "-v", "ON_ERROR_STOP=1", "-tA", "postgres")
    try:
        _wait(processes[0], (*client, "-c", "select 1"), folder)
        yield Server(
            url=f"postgresql://tumbler@/postgres?host={folder}",
            client=client,
            connections="select count(*) from pg_stat_activity where datname = 'postgres'"
            " and pid <> pg_backend_pid()",
            folder=folder,
            dump=(found("pg_dump"), *login, "postgres"),
            command=command,
            processes=processes,
            probe=("-c", "select 1"),
        )
    finally:
        at_once = (found("pg_ctl"), "-D", str(folder / "data"), "-m", "immediate", "stop")
        subprocess.run((*_as("postgres"), *at_once), check=False, capture_output=True)
        _stop(processes[-1])


@contextmanager
def mariadb(*options: str) -> Iterator[Server]:
    """Start MariaDB on a socket, and with options on a port too."""
    install, server = found("mariadb-install-db"), found("mariadbd")
    user = ("--user=mysql",) if os.geteuid() == 0 else ()

    def make(folder: Path) -> Sequence[str]:
        # At its start it clears its folder for temporary files, others' files too.
        data = (f"--datadir={folder / 'data'}", f"--tmpdir={folder}")
        usual = ("--auth-root-authentication-method=normal", "--skip-test-db", SMALL_LOG)
        return (install, "--no-defaults", *data, *user, *usual)

    with _folder("mysql") as folder:
        data, path = str(folder / "data"), str(folder / "s")
        copied = ("cp", "-a", str(_template("mysql", make)), data)
        subprocess.run(copied, check=True, capture_output=True)
        command = (
            server, "--no-defaults", f"--datadir={data}", f"--tmpdir={folder}",
            f"--socket={path}", *user,
            f"--pid-file={folder}/pid", "--innodb-flush-log-at-trx-commit=0", SMALL_LOG,
            *(options or ("--skip-networking",)),
        )  # fmt: skip
        processes = [_started(command, folder)]
        login = (
            "--no-defaults",
            f"--socket={path}",
            "--user=root",
            "--default-character-set=utf8mb4",
        )
        client = (found("mariadb"), *login)
        try:
            _wait(processes[0], (*client, "-e", "select 1"), folder)
            subprocess.run((*client, "-e", "create database ferries"), check=True)
            yield Server(
                url=f"mysql://root@/ferries?unix_socket={path}",
                client=(*client, "ferries"),
                connections="select count(*) from information_schema.processlist"
                " where db = 'ferries' and id <> connection_id()",
                folder=folder,
                dump=(found("mariadb-dump"), *login, "ferries"),
                command=command,
                processes=processes,
                probe=("-e", "select 1"),
            )
        finally:
            _stop(processes[-1])


@contextmanager
def mariadb_pair() -> Iterator[tuple[Server, Server]]:
    """Start two MariaDB servers, the second of which follows the first."""
    port = free_port()
    listening = ("--bind-address=127.0.0.1", f"--port={port}")
    with (
        mariadb("--server-id=1", "--log-bin", *listening) as primary,
        mariadb("--server-id=2", "--skip-networking") as replica,
    ):
        primary.run("CREATE USER follower@'%' IDENTIFIED BY 'follower';"
                    "GRANT REPLICATION SLAVE ON *.* TO follower@'%'; RESET MASTER;")  # fmt: skip
        replica.run(f"CHANGE MASTER TO MASTER_HOST='127.0.0.1', MASTER_PORT={port},"
                    " MASTER_USER='follower', MASTER_PASSWORD='follower', MASTER_USE_GTID=slave_pos;"
                    "START SLAVE;")  # fmt: skip
        yield primary, replica


@dataclass(frozen=True)
class Directory:
    """A running directory server: its socket, and how to fill it."""

    socket_url: str
    base: str
    client: tuple[str, ...]
    process: "subprocess.Popen[bytes]"
    encrypted_url: str = ""

    def url(self, *, bind_name: str | None = None, base: str | None = None) -> str:
        """Give the URL for the program."""
        name = quote(f"cn=admin,{self.base}" if bind_name is None else bind_name, safe="")
        return f"{self.socket_url}/{self.base if base is None else base}????bindname={name}"

    def add(self, entries: str) -> None:
        """Add entries, as LDIF."""
        subprocess.run(self.client, input=entries.encode(), check=True, capture_output=True)


DIRECTORY_PASSWORD = "a4Fz-bollard"  # for a server that lives as long as one test module
_SLAPD = """
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload argon2
pidfile {folder}/pid
database mdb
suffix "{base}"
rootdn "cn=admin,{base}"
rootpw {password}
directory {folder}/data
access to * by anonymous read by * none
limits anonymous size.prtotal=2
"""


def self_signed(folder: Path, name: str) -> None:
    """Make a certificate for a name or an address, `NAME.pem`, and its key, `NAME.key`."""
    kind = "IP" if name[0].isdigit() else "DNS"
    subprocess.run(
        (found("openssl"), "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2",
         "-keyout", f"{name}.key", "-out", f"{name}.pem", "-subj", f"/CN={name}",
         "-addext", f"subjectAltName={kind}:{name}"),
        cwd=folder, check=True, capture_output=True,
    )  # fmt: skip


@contextmanager
def openldap(certificate: Path | None = None) -> Iterator[Directory]:
    """Start OpenLDAP on a socket, its Argon2 module loaded.

    Args:
        certificate: a PEM file with its key beside it; then it listens with TLS too.
    """
    slapd, add, whoami = found("slapd"), found("ldapadd"), found("ldapwhoami")
    base = "dc=tidepost,dc=example"
    with tempfile.TemporaryDirectory(prefix="lt-", dir="/tmp") as name:
        folder = Path(name)
        (folder / "data").mkdir()
        (folder / "slapd.conf").write_text(
            (f"TLSCertificateFile {certificate}\n"
             f"TLSCertificateKeyFile {certificate.with_suffix('.key')}\n" if certificate else "")
            + _SLAPD.format(folder=folder, base=base, password=DIRECTORY_PASSWORD)
        )  # fmt: skip
        encrypted = f"ldaps://127.0.0.1:{free_port()}" if certificate else ""
        address = f"ldapi://{quote(str(folder / 'socket'), safe='')}"
        process = subprocess.Popen(
            (slapd, "-f", str(folder / "slapd.conf"), "-h", f"{address} {encrypted}", "-d", "0"),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        login = ("-H", address, "-x", "-D", f"cn=admin,{base}", "-w", DIRECTORY_PASSWORD)
        try:
            _wait(process, (whoami, *login), folder)
            yield Directory(
                socket_url=address,
                base=base,
                client=(add, *login),
                process=process,
                encrypted_url=encrypted,
            )
        finally:
            _stop(process)
