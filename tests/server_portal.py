"""A portal on a real server, what others write there, and layering that is killed meanwhile."""

import random
import signal
import threading
import time
from pathlib import Path

import sqlalchemy as sa

import servers
from conftest import CHEAP_POLICY, OPENABLE, prove, run_program, start_program, stored_value
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.policy import Columns
from lean_tumbler.migration.admission import admit_login
from lean_tumbler.stores.interface import Swap, SwapResult
from lean_tumbler.stores.sql.opening import open_database
from lean_tumbler.stores.sql.store import SqlStore

ROWS = 120


def is_mariadb(server: servers.Server) -> bool:
    return server.url.startswith("mysql")


def make_portal(server: servers.Server, folder: Path, rows: int = ROWS) -> dict[str, str]:
    """Fill a table with every cohort, write a policy, and give each login's password."""
    passwords = {}
    lines = []
    cohorts = [*OPENABLE, "locked", "null"]
    for number in range(1, rows + 1):
        cohort, password = cohorts[number % len(cohorts)], f"Möwe {number} <7>"
        stored, salt = stored_value(cohort, password, number)
        login = f"p{number}@tidepost.example"
        if cohort in OPENABLE:
            passwords[login] = password
        cells = [_sql(text, server) for text in (login, stored, salt)]
        lines.append(f"({number}, {', '.join(cells)}, {int(number % 40 == 7)})")
    server.run(
        "DROP TABLE IF EXISTS passengers;"
        "CREATE TABLE passengers (id int PRIMARY KEY, email varchar(100), pw varchar(255),"
        " pw_salt varchar(40), is_admin int);"
        f"INSERT INTO passengers VALUES {', '.join(lines)};"
    )
    policy = CHEAP_POLICY.replace('"sqlite:///harbour.db"', f'"{server.url}"')
    (folder / "tumbler.toml").write_text(policy)
    prove(folder, StoragePolicy.from_toml(policy))
    return passwords


def _sql(text: str | None, server: servers.Server) -> str:
    if text is None:
        return "NULL"
    doubled = text.replace("\\", "\\\\") if is_mariadb(server) else text
    return "'" + doubled.replace("'", "''") + "'"


def locked_out(server: servers.Server, folder: Path, passwords: dict[str, str]) -> list[str]:
    """Check every login with the library, on what the server's own client prints."""
    gateway = CredentialGateway(StoragePolicy.from_toml((folder / "tumbler.toml").read_text()))
    query = "SELECT email, COALESCE(pw, '-'), COALESCE(pw_salt, '-') FROM passengers"
    separator = "\t" if is_mariadb(server) else "|"
    found = {}
    for line in server.ask(query).splitlines():
        login, stored, salt = line.split(separator)
        found[login] = (stored, None if salt == "-" else salt)
    return [
        login
        for login, password in passwords.items()
        for stored, salt in [found[login]]
        if not gateway.admit(
            store="passengers", stored=stored, salt=salt, login=login, password=password
        ).admitted
    ]


class OtherWriters:
    """What goes on beside a bulk run: logins, changed passwords, new accounts, closed ones."""

    def __init__(self, server: servers.Server, folder: Path, passwords: dict[str, str]) -> None:
        self.passwords = passwords
        self._gateway = CredentialGateway(
            StoragePolicy.from_toml((folder / "tumbler.toml").read_text())
        )
        database = open_database(server.url, base=folder, writable=True)
        self._engine = database.engine
        self._columns = Columns(account="id", login="email", stored="pw", salt="pw_salt")
        self._store = SqlStore(database, table="passengers", columns=self._columns, writable=True)
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._work)
        self.done: dict[str, int] = dict.fromkeys(("login", "change", "insert", "delete"), 0)
        self.refused: list[str] = []
        self._next = 100_000

    def __enter__(self) -> "OtherWriters":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join(timeout=60)
        self._store.close()

    def _work(self) -> None:
        chance = random.Random(5)
        while not self._stop.is_set():
            action = chance.choice(("login", "login", "change", "insert", "delete"))
            getattr(self, f"_{action}")(chance.choice(sorted(self.passwords)))
            self.done[action] += 1
            time.sleep(0.01)

    def _login(self, login: str) -> None:
        admission = admit_login(
            self._store, self._gateway, store_name="passengers", login=login,
            password=self.passwords[login],
        )  # fmt: skip
        if not admission.outcome.admitted:
            self.refused.append(login)

    def _change(self, login: str) -> None:
        password = f"new {login} {self.done['change']}"
        account = self._store.fetch(login)[0]
        new = self._gateway.hash(password=password)
        swap = Swap(key=account.key, old=account.stored or b"", new=new)
        if self._store.swap(swap) is SwapResult.DONE:
            self.passwords[login] = password

    def _insert(self, _: str) -> None:
        self._next += 1
        login, password = f"late{self._next}@tidepost.example", f"Tern {self._next}"
        stored, salt = stored_value("sha1", password, self._next)
        with self._engine.begin() as connection:
            connection.execute(
                sa.text("INSERT INTO passengers VALUES (:id, :email, :pw, :salt, 0)"),
                {"id": self._next, "email": login, "pw": stored, "salt": salt},
            )
        self.passwords[login] = password

    def _delete(self, login: str) -> None:
        with self._engine.begin() as connection:
            connection.execute(
                sa.text("DELETE FROM passengers WHERE email = :email"), {"email": login}
            )
        del self.passwords[login]


def layered_through_kills(
    server: servers.Server, folder: Path, *, kills: int, memory_kib: int
) -> OtherWriters:
    """Layer 2,000 rows while others write; kill the run again and again, then let it end.

    Args:
        server: where.
        folder: for the policy.
        kills: how often at least; again until the others have done each thing ten times.
        memory_kib: the target's, which says how long all takes.
    """
    passwords = make_portal(server, folder, rows=2000)
    policy = folder / "tumbler.toml"
    policy.write_text(policy.read_text().replace("256", str(memory_kib)))
    chance = random.Random()
    with OtherWriters(server, folder, passwords) as others:
        killed = 0
        while killed < kills or min(others.done.values()) < 10:
            killed += 1
            running = start_program("layer", "--no-backup", cwd=folder)
            time.sleep(0.8 * chance.random())
            running.send_signal(signal.SIGKILL)
            running.wait()
    finished = run_program("layer", "--no-backup", "--format", "json", cwd=folder, timeout=600)
    assert finished.code == 0, finished.err
    assert finished.document["failed"] == 0
    return others


def may_only_read(server: servers.Server, folder: Path) -> None:
    """Let the policy name an account of the server that may read the table, and nothing else."""
    if is_mariadb(server):
        server.run("CREATE USER reader@localhost; GRANT SELECT ON ferries.* TO reader@localhost;")
    else:
        server.run("CREATE ROLE reader LOGIN; GRANT SELECT ON passengers TO reader;")
    policy = (folder / "tumbler.toml").read_text()
    user = "root" if is_mariadb(server) else "tumbler"
    (folder / "tumbler.toml").write_text(policy.replace(f"//{user}@", "//reader@"))
