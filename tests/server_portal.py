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
from lean_tumbler.stores.keys import read_keys
from lean_tumbler.stores.sql.opening import open_database
from lean_tumbler.stores.sql.store import SqlStore

ROWS = 120
Database = servers.Server | servers.SqliteFile


def is_mariadb(server: Database) -> bool:
    return server.url.startswith("mysql")


def make_portal(server: Database, folder: Path, rows: int = ROWS) -> dict[str, str]:
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


def _sql(text: str | None, server: Database) -> str:
    if text is None:
        return "NULL"
    doubled = text.replace("\\", "\\\\") if is_mariadb(server) else text
    return "'" + doubled.replace("'", "''") + "'"


def gateway_of(folder: Path) -> CredentialGateway:
    """Give the library's gateway of the policy in a folder, with its keys."""
    policy = StoragePolicy.from_toml((folder / "tumbler.toml").read_text())
    return CredentialGateway(policy, keys=read_keys(policy, base=folder, environment={}))


def locked_out(server: Database, folder: Path, passwords: dict[str, str]) -> list[str]:
    """Check every login with the library, on what the server's own client prints."""
    gateway = gateway_of(folder)
    query = "SELECT email, COALESCE(pw, '-'), COALESCE(pw_salt, '-'), id FROM passengers"
    separator = "\t" if is_mariadb(server) else "|"
    found = {}
    for line in server.ask(query).splitlines():
        login, stored, salt, account = line.split(separator)
        found[login] = (stored, None if salt == "-" else salt, account)
    return [
        login
        for login, password in passwords.items()
        for stored, salt, account in [found[login]]
        if not gateway.admit(
            store="passengers",
            stored=stored,
            salt=salt,
            login=login,
            account=account,
            password=password,
        ).admitted
    ]


class OtherWriters:
    """What goes on beside a bulk run: logins, changed passwords, new accounts, closed ones."""

    def __init__(self, server: Database, folder: Path, passwords: dict[str, str]) -> None:
        self.passwords = passwords
        self._gateway = gateway_of(folder)
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
        new = self._gateway.hash(password=password, account=account.bound_name)
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
    server: Database, folder: Path, *, kills: int, memory_kib: int
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
    with OtherWriters(server, folder, passwords) as others:
        through_kills("layer", folder, others, kills=kills)
    finished = run_program("layer", "--no-backup", "--format", "json", cwd=folder, timeout=600)
    assert finished.code == 0, finished.err
    assert finished.document["failed"] == 0
    return others


def through_kills(
    command: str, folder: Path, others: OtherWriters, *, kills: int, each_seconds: float = 0.8
) -> None:
    """Begin a command again and again, and kill it, until the others have done each thing often."""
    chance = random.Random()
    killed = 0
    while killed < kills or min(others.done.values()) < 10:
        killed += 1
        running = start_program(command, "--no-backup", cwd=folder)
        time.sleep(each_seconds * chance.random())
        running.send_signal(signal.SIGKILL)
        running.wait()


_KEYED = """lanes = 1
keyed_by = "{key}"
realm = "coldharbour"
"""
_KEYS = """
[keys]
pepper-2025 = { file = "pepper-2025.key", form = "base64" }
pepper-2026 = { file = "pepper-2026.key", form = "base64" }
"""


def put_under_key(server: Database, folder: Path) -> None:
    """Layer the portal's rows, and put all that can be under a first key, in a wider column."""
    wider = "MODIFY pw varchar(400)" if is_mariadb(server) else "ALTER pw TYPE varchar(400)"
    if isinstance(server, servers.Server):
        server.run(f"ALTER TABLE passengers {wider};")
    policy = folder / "tumbler.toml"
    assert run_program("layer", "--no-backup", cwd=folder, timeout=600).code == 0
    for key in ("pepper-2025", "pepper-2026"):
        assert run_program("keys", "new", key, "--over-values", cwd=folder).code == 0
    keyed = _KEYED.format(key="pepper-2025")
    policy.write_text(policy.read_text().replace("lanes = 1\n", keyed, 1) + _KEYS)
    assert run_program("rekey", "--no-backup", cwd=folder, timeout=600).code == 0


def rotated_through_kills(
    server: Database, folder: Path, *, rows: int, kills: int, each_seconds: float = 0.8
) -> OtherWriters:
    """Move all values from one key to another while others write, through kills.

    Args:
        server: where.
        folder: for the policy.
        rows: of the table.
        kills: how often at least.
        each_seconds: how long a run lasts at most before it is killed.
    """
    passwords = make_portal(server, folder, rows=rows)
    policy = folder / "tumbler.toml"
    put_under_key(server, folder)
    policy.write_text(
        policy.read_text().replace('keyed_by = "pepper-2025"', 'keyed_by = "pepper-2026"')
    )
    with OtherWriters(server, folder, passwords) as others:
        through_kills("rekey", folder, others, kills=kills, each_seconds=each_seconds)
    finished = run_program("rekey", "--no-backup", "--format", "json", cwd=folder, timeout=600)
    assert finished.code == 0, finished.err
    assert finished.document["still_under"] == {}
    return others


def may_only_read(server: Database, folder: Path) -> None:
    """Let the policy name an account of the server that may read the table, and nothing else."""
    if is_mariadb(server):
        server.run("CREATE USER reader@localhost; GRANT SELECT ON ferries.* TO reader@localhost;")
    else:
        server.run("CREATE ROLE reader LOGIN; GRANT SELECT ON passengers TO reader;")
    policy = (folder / "tumbler.toml").read_text()
    user = "root" if is_mariadb(server) else "tumbler"
    (folder / "tumbler.toml").write_text(policy.replace(f"//{user}@", "//reader@"))
