"""Writing to real PostgreSQL and MariaDB servers: swaps of bytes, and the whole job."""

import json
import random
import signal
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
import sqlalchemy as sa

import servers
from conftest import CHEAP_POLICY, OPENABLE, PROGRAM, Program, run_program, stored_value
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.policy import Columns
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.operations.admission import admit_login
from lean_tumbler.stores.interface import Swap, SwapResult
from lean_tumbler.stores.locators import open_engine
from lean_tumbler.stores.sql import SqlStore
from test_servers import STARTERS

_ROWS = 120


@pytest.fixture(scope="module", params=STARTERS)
def server(request: pytest.FixtureRequest) -> Iterator[servers.Server]:
    with STARTERS[request.param]() as running:
        yield running


def is_mariadb(server: servers.Server) -> bool:
    return server.url.startswith("mysql")


def opened(server: servers.Server, table: str = "kiosk") -> SqlStore:
    engine, locator = open_engine(server.url, base=Path(), writable=True)
    return SqlStore(
        engine,
        locator=locator,
        table=table,
        columns=Columns(login="login", stored="pw"),
        writable=True,
    )


# Declared types by server; each is to keep bytes apart that its collation takes for equal.
_TYPES = {
    "postgresql": ["text", "varchar(200)", "char(12)", "bytea", 'text COLLATE "und-x-icu"'],
    "mariadb": [
        "text", "varchar(200)", "char(12)", "varbinary(200)", "blob",
        "varchar(200) CHARACTER SET latin1", "varchar(200) COLLATE utf8mb4_general_ci",
    ],
}  # fmt: skip
_SWAP_TYPES = [(name, kind) for name, kinds in _TYPES.items() for kind in kinds]


@pytest.fixture(scope="module")
def running() -> Iterator[dict[str, servers.Server]]:
    with servers.postgresql() as one, servers.mariadb() as other:
        yield {"postgresql": one, "mariadb": other}


@pytest.mark.parametrize(("name", "kind"), _SWAP_TYPES)
def test_a_swap_compares_bytes_whatever_the_type(
    name: str, kind: str, running: dict[str, servers.Server]
) -> None:
    """Letter case, accents and blanks count; changed, gone and NULL rows are told apart."""
    server = running[name]
    server.run(
        f"DROP TABLE IF EXISTS kiosk; CREATE TABLE kiosk (id int PRIMARY KEY, login text, pw {kind});"
        "INSERT INTO kiosk VALUES (1, 'a', 'Môwe'), (2, 'b', 'môwe'), (3, 'c', 'Mowe'),"
        " (4, 'd', NULL), (5, 'e', 'Môwe');"
    )
    store = opened(server)
    old = "Môwe".encode()
    swaps = [Swap(key=key, old=old, new=f"n\\{key}") for key in (1, 2, 3, 4, 9)]
    assert store.swap_many(swaps) == [
        SwapResult.DONE,
        SwapResult.CHANGED,
        SwapResult.CHANGED,
        SwapResult.CHANGED,
        SwapResult.GONE,
    ]
    found = {account.key: account.stored for account in store.page(after=None, rows=9)}
    assert found == {1: b"n\\1", 2: "môwe".encode(), 3: b"Mowe", 4: None, 5: old}
    assert store.swap(Swap(key=1, old=b"n\\1", new="again")) is SwapResult.DONE
    assert [account.stored for account in store.fetch("a")] == [b"again"]
    store.close()


def test_a_column_that_is_too_narrow_writes_nothing(server: servers.Server) -> None:
    """Also on a server that would cut the value off without an error."""
    if is_mariadb(server):
        server.run("SET GLOBAL sql_mode = '';")
    server.run(
        "DROP TABLE IF EXISTS kiosk;"
        "CREATE TABLE kiosk (id int PRIMARY KEY, login varchar(20), pw varchar(10));"
        "INSERT INTO kiosk VALUES (1, 'a', 'old'), (2, 'b', 'old');"
    )
    store = opened(server)
    swaps = [Swap(key=1, old=b"old", new="short"), Swap(key=2, old=b"old", new="x" * 60)]
    with pytest.raises(SourceError):
        store.swap_many(swaps)
    assert [account.stored for account in store.page(after=None, rows=9)] == [b"old", b"old"]
    store.close()


def test_a_trigger_that_changes_values_is_noticed(server: servers.Server) -> None:
    """What does not stand as written is taken back with its whole batch."""
    table = "CREATE TABLE kiosk (id int PRIMARY KEY, login varchar(20), pw varchar(100));"
    rows = "INSERT INTO kiosk VALUES (1, 'a', 'old');"
    server.run("DROP TABLE IF EXISTS kiosk;" + table + rows)
    if is_mariadb(server):
        server.run(
            "CREATE TRIGGER upper_case BEFORE UPDATE ON kiosk FOR EACH ROW SET NEW.pw = "
            "UPPER(NEW.pw);"
        )
    else:
        server.run(
            "CREATE FUNCTION upper_case() RETURNS trigger LANGUAGE plpgsql AS "
            "$$ BEGIN NEW.pw := upper(NEW.pw); RETURN NEW; END $$;"
            "CREATE TRIGGER upper_case BEFORE UPDATE ON kiosk FOR EACH ROW "
            "EXECUTE FUNCTION upper_case();"
        )
    store = opened(server)
    with pytest.raises(SourceError, match="did not keep a value as written"):
        store.swap(Swap(key=1, old=b"old", new="new"))
    assert [account.stored for account in store.page(after=None, rows=9)] == [b"old"]
    store.close()


def test_views_and_tables_without_a_key_are_refused(server: servers.Server) -> None:
    """With the table's name and what to do."""
    server.run(
        "DROP TABLE IF EXISTS nokey; CREATE TABLE nokey (login varchar(20), pw text);"
        "DROP VIEW IF EXISTS seen; CREATE VIEW seen AS SELECT login, pw FROM nokey;"
    )
    with pytest.raises(UsageError, match="table nokey has no primary key of one column"):
        opened(server, "nokey")
    with pytest.raises(UsageError, match="seen is a view; name the table under it"):
        opened(server, "seen")


# The whole job


def make_portal(server: servers.Server, folder: Path, rows: int = _ROWS) -> dict[str, str]:
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


def test_the_whole_job_on_a_server(
    server: servers.Server, tmp_path: Path, program: Program
) -> None:
    """Audited, layered, logged in to, counted; nobody is locked out at any step."""
    passwords = make_portal(server, tmp_path)
    assert locked_out(server, tmp_path, passwords) == []
    before = program("audit", "passengers", "--format", "json").document["stores"][0]["grades"]
    assert before["fast-unsalted"]
    layered = program("layer", "--format", "json").document
    assert layered["considered"] == _ROWS
    assert layered["layered"] + layered["replaced"] > _ROWS // 3
    assert layered["failed"] == layered["changed_meanwhile"] == 0
    assert locked_out(server, tmp_path, passwords) == []
    again = program("layer", "--format", "json").document
    assert again["layered"] == again["replaced"] == 0
    after = program("audit", "passengers", "--format", "json").document["stores"][0]["grades"]
    assert set(after) <= {"layered", "current", "locked"}
    for login, password in list(passwords.items())[:3]:
        admitted = program("admit", login, stdin=f"{password}\n".encode())
        assert (admitted.code, admitted.err) == (0, "")
        assert program("admit", login, stdin=f"{password}x\n".encode()).code == 1
    assert locked_out(server, tmp_path, passwords) == []
    assert program("progress", "--format", "json").document["stores"][0]["below_floor"] == 0


class OtherWriters:
    """What goes on beside a bulk run: logins, changed passwords, new accounts, closed ones."""

    def __init__(self, server: servers.Server, folder: Path, passwords: dict[str, str]) -> None:
        self.passwords = passwords
        self._gateway = CredentialGateway(
            StoragePolicy.from_toml((folder / "tumbler.toml").read_text())
        )
        engine, locator = open_engine(server.url, base=folder, writable=True)
        self._engine = engine
        self._columns = Columns(account="id", login="email", stored="pw", salt="pw_salt")
        self._store = SqlStore(
            engine, locator=locator, table="passengers", columns=self._columns, writable=True
        )
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
            time.sleep(0.002)

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


def test_layering_beside_other_writers_and_through_kills(
    server: servers.Server, tmp_path: Path
) -> None:
    """Ten kills at random moments, while others write: every account opens with its last password.

    Checked by the library, on what the server's own client prints.
    """
    passwords = make_portal(server, tmp_path, rows=3000)
    policy = tmp_path / "tumbler.toml"
    policy.write_text(policy.read_text().replace("256", "2048"))
    chance = random.Random()
    with OtherWriters(server, tmp_path, passwords) as others:
        for _ in range(10):
            process = subprocess.Popen(
                [str(PROGRAM), "layer"], cwd=tmp_path, stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )  # fmt: skip
            time.sleep(0.7 + 1.5 * chance.random())
            process.send_signal(signal.SIGKILL)
            process.wait()
    assert others.refused == []
    assert min(others.done.values()) > 10
    finished = run_program("layer", "--format", "json", cwd=tmp_path)
    assert finished.code == 0, finished.err
    assert finished.document["failed"] == 0
    assert locked_out(server, tmp_path, others.passwords) == []
    left = server.ask("SELECT COUNT(*) FROM passengers WHERE LENGTH(pw) IN (32, 40)")
    assert int(left) == 0


def test_two_runs_at_once_share_the_table(server: servers.Server, tmp_path: Path) -> None:
    """Both finish; together they write every row once, and neither loses a swap to the other."""
    passwords = make_portal(server, tmp_path, rows=3000)
    policy = tmp_path / "tumbler.toml"  # dear enough that the second starts before the first ends
    policy.write_text(policy.read_text().replace("256", "1024"))
    arguments = [str(PROGRAM), "layer", "--format", "json"]
    runs = [
        subprocess.Popen(arguments, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        for _ in range(2)
    ]
    documents = []
    for run in runs:
        out, err = run.communicate(timeout=120)
        assert (run.returncode, err) == (0, b"")
        documents.append(json.loads(out))
    assert [document["changed_meanwhile"] for document in documents] == [0, 0]
    assert all(document["layered"] for document in documents)
    assert locked_out(server, tmp_path, passwords) == []
    again = run_program("layer", "--format", "json", cwd=tmp_path).document
    assert again["layered"] + again["replaced"] == 0


def test_a_server_that_dies_and_returns(tmp_path: Path) -> None:
    """A run waits for a server that comes back, goes on, and locks nobody out."""
    with servers.postgresql() as server:
        passwords = make_portal(server, tmp_path, rows=1500)
        policy = tmp_path / "tumbler.toml"
        policy.write_text(policy.read_text().replace("256", "2048"))
        process = subprocess.Popen(
            [str(PROGRAM), "layer", "--format", "json"], cwd=tmp_path, stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )  # fmt: skip
        deadline = time.monotonic() + 60
        while int(server.ask("SELECT COUNT(*) FROM passengers WHERE pw LIKE '$over%'")) == 0:
            assert time.monotonic() < deadline
        server.restart(away_seconds=2)
        out, err = process.communicate(timeout=120)
        assert (process.returncode, err) == (0, b"")
        assert json.loads(out)["failed"] == 0
        assert locked_out(server, tmp_path, passwords) == []
