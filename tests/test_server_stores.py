"""Writing to real PostgreSQL and MariaDB servers: swaps of bytes, and the whole job."""

import hashlib
import json
import random
import time
from collections.abc import Iterator, Sequence
from contextlib import chdir
from pathlib import Path

import pytest
import sqlalchemy as sa

import servers
from conftest import CHEAP_POLICY, Finished, Program, run_in_process, run_program, start_program
from lean_tumbler.core.policy import Columns
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.interface import Account, Swap, SwapResult
from lean_tumbler.stores.sql.opening import open_database
from lean_tumbler.stores.sql.store import SqlStore
from server_portal import (
    ROWS,
    is_mariadb,
    layered_through_kills,
    locked_out,
    make_portal,
    rotated_through_kills,
)
from test_servers import STARTERS


@pytest.fixture(scope="module", params=STARTERS)
def server(request: pytest.FixtureRequest) -> Iterator[servers.Server]:
    with STARTERS[request.param]() as running:
        yield running


def opened(server: servers.Server, table: str = "kiosk") -> SqlStore:
    return SqlStore(
        open_database(server.url, base=Path(), writable=True),
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
    filled = [store.fill(key, f"f{n}") for n, key in enumerate((4, 4, 1, 9))]
    assert filled == [SwapResult.DONE, SwapResult.CHANGED, SwapResult.CHANGED, SwapResult.GONE]
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


_ODD = "'\"\\{},;% \n\tNULLäé%s:x$x\\x0a€{}"


@pytest.mark.parametrize(
    ("name", "kind"),
    [("postgresql", "text"), ("postgresql", "bytea"), ("mariadb", "text"), ("mariadb", "blob")],
)
def test_values_of_odd_characters_are_written_as_they_are(
    name: str, kind: str, running: dict[str, servers.Server]
) -> None:
    """Quotes, braces, backslashes and commas of old and new values mean nothing to a batch."""
    server, chance = running[name], random.Random(8)
    values = ["".join(chance.choices(_ODD, k=chance.randrange(1, 40))) for _ in range(600)]
    olds = [value.encode() for value in values[:300]]
    server.run(f"DROP TABLE IF EXISTS kiosk; CREATE TABLE kiosk (id int PRIMARY KEY, pw {kind});")
    columns = Columns(account="id", stored="pw")
    store = SqlStore(
        open_database(server.url, base=Path(), writable=True),
        table="kiosk", columns=columns, writable=True,
    )  # fmt: skip
    with open_database(server.url, base=Path(), writable=True).engine.begin() as connection:
        new_row = sa.text("INSERT INTO kiosk VALUES (:id, :pw)")
        rows = [
            {"id": n, "pw": old.decode() if kind == "text" else old} for n, old in enumerate(olds)
        ]
        connection.execute(new_row, rows)
    swaps = [Swap(key=n, old=old, new=values[300 + n]) for n, old in enumerate(olds)]
    assert set(store.swap_many(swaps)) == {SwapResult.DONE}
    assert [a.stored for a in store.page(after=None, rows=300)] == [s.new_bytes for s in swaps]
    store.close()


def test_views_and_tables_without_a_key_are_refused(server: servers.Server) -> None:
    """With the table's name and what to do."""
    server.run(
        "DROP TABLE IF EXISTS nokey; CREATE TABLE nokey (login varchar(20), pw text);"
        "DROP VIEW IF EXISTS seen; CREATE VIEW seen AS SELECT login, pw FROM nokey;"
    )
    with pytest.raises(UsageError, match="table nokey has no primary key that names a row"):
        opened(server, "nokey")
    with pytest.raises(UsageError, match="seen is a view, and views are only read"):
        opened(server, "seen")


# The whole job


def test_the_whole_job_on_a_server(
    server: servers.Server, tmp_path: Path, program: Program
) -> None:
    """Audited, layered, logged in to, counted; nobody is locked out at any step."""
    passwords = make_portal(server, tmp_path)
    assert locked_out(server, tmp_path, passwords) == []
    before = program("audit", "passengers", "--format", "json").document["stores"][0]["grades"]
    assert before["fast-unsalted"]
    layered = program("layer", "--no-backup", "--format", "json").document
    assert layered["considered"] == ROWS
    assert layered["layered"] + layered["replaced"] > ROWS // 3
    assert layered["failed"] == layered["changed_meanwhile"] == 0
    assert locked_out(server, tmp_path, passwords) == []
    again = program("layer", "--no-backup", "--format", "json").document
    assert again["layered"] == again["replaced"] == 0
    after = program("audit", "passengers", "--format", "json").document["stores"][0]["grades"]
    assert set(after) <= {"layered", "current", "locked"}
    for login, password in list(passwords.items())[:3]:
        admitted = program("admit", login, stdin=f"{password}\n".encode())
        assert (admitted.code, admitted.err) == (0, "")
        assert program("admit", login, stdin=f"{password}x\n".encode()).code == 1
    assert locked_out(server, tmp_path, passwords) == []
    assert program("progress", "--format", "json").document["stores"][0]["below_floor"] == 0


def test_layering_beside_other_writers_and_through_kills(
    server: servers.Server, tmp_path: Path
) -> None:
    """Ten kills at random moments, while others write: every account opens with its last password.

    Checked by the library, on what the server's own client prints.
    """
    others = layered_through_kills(server, tmp_path, kills=10, memory_kib=1024)
    assert others.refused == []
    assert locked_out(server, tmp_path, others.passwords) == []
    left = server.ask("SELECT COUNT(*) FROM passengers WHERE LENGTH(pw) IN (32, 40)")
    assert int(left) == 0


def test_a_key_is_replaced_beside_other_writers_and_through_kills(
    server: servers.Server, tmp_path: Path
) -> None:
    """Nobody is locked out or refused, and at the end no row is under the old key."""
    others = rotated_through_kills(server, tmp_path, rows=2000, kills=5)
    assert others.refused == []
    assert locked_out(server, tmp_path, others.passwords) == []
    under = "SELECT COUNT(*) FROM passengers WHERE pw LIKE '$keyed$by=pepper-{},%'"
    assert int(server.ask(under.format("2025"))) == 0
    assert int(server.ask(under.format("2026"))) > 1000


def test_two_runs_at_once_share_the_table(server: servers.Server, tmp_path: Path) -> None:
    """Both finish; together they write every row once, and neither loses a swap to the other."""
    passwords = make_portal(server, tmp_path, rows=1500)
    policy = tmp_path / "tumbler.toml"  # dear enough that the second starts before the first ends
    policy.write_text(policy.read_text().replace("256", "4096"))
    runs = [
        start_program("layer", "--no-backup", "--format", "json", cwd=tmp_path) for _ in range(2)
    ]
    documents = []
    for run in runs:
        out, err = run.communicate(timeout=120)
        assert (run.returncode, err) == (0, b"")
        documents.append(json.loads(out))
    assert [document["changed_meanwhile"] for document in documents] == [0, 0]
    assert all(document["layered"] for document in documents)
    assert locked_out(server, tmp_path, passwords) == []
    again = run_program("layer", "--no-backup", "--format", "json", cwd=tmp_path).document
    assert again["layered"] + again["replaced"] == 0


def test_a_server_that_dies_and_returns(tmp_path: Path) -> None:
    """A run waits for a server that comes back, goes on, and locks nobody out."""
    with servers.postgresql() as server:
        passwords = make_portal(server, tmp_path, rows=1500)
        policy = tmp_path / "tumbler.toml"
        policy.write_text(policy.read_text().replace("256", "2048"))
        process = start_program("layer", "--no-backup", "--format", "json", cwd=tmp_path)
        deadline = time.monotonic() + 60
        while int(server.ask("SELECT COUNT(*) FROM passengers WHERE pw LIKE '$over%'")) == 0:
            assert time.monotonic() < deadline
        server.restart(away_seconds=2)
        out, err = process.communicate(timeout=120)
        assert (process.returncode, err) == (0, b"")
        assert json.loads(out)["failed"] == 0
        assert locked_out(server, tmp_path, passwords) == []


def kiosk(
    folder: Path,
    server: servers.Server,
    people: Sequence[tuple[str, str]],
    *,
    table: str,
    login: str,
    stored: str,
) -> Program:
    """Write a policy for a table of MD5 values, and its known accounts; give the program there.

    It runs in this process: these are many short runs.
    """
    (folder / "tumbler.toml").write_text(
        CHEAP_POLICY.partition("[store.passengers]")[0]
        + f'[store.kiosk]\nlocator = "{server.url}"\ntable = "{table}"\n'
        "readers_ready = 2026-01-01\n"
        f'[store.kiosk.columns]\nlogin = "{login}"\nstored = "{stored}"\n'
        '[[store.kiosk.cohort]]\nname = "md5"\nformula = "utf-8, md5, hex"\n'
    )
    (folder / "known.csv").write_text(
        "login,password\n" + "".join(f"{name},{password}\n" for name, password in people)
    )

    def run(*arguments: str, stdin: bytes = b"") -> Finished:
        with chdir(folder):
            return run_in_process(*arguments, stdin=stdin)

    return run


# Kinds of keys, and eight of them in the order in which the server sorts them.
_KEYS = {
    "postgresql": {
        "uuid": [f"'{n}0000000-0000-4000-8000-00000000000{n}'" for n in range(1, 9)],
        "numeric(20,0)": [str(n * 10**17) for n in range(1, 9)],
        "numeric(10,2)": ["-1.50", "0.25", "1.00", "1.01", "2", "10", "20.05", "30"],
        "bigint": [str(2**62 + n) for n in range(8)],
        "text": [f"'k{n}'" for n in range(8)],
        "char(6)": [f"'key {n}'" for n in range(8)],
        "bytea": [f"'\\x0{n}ff'" for n in range(8)],
    },
    "mariadb": {
        "uuid": [f"'{n}0000000-0000-4000-8000-00000000000{n}'" for n in range(1, 9)],
        "decimal(20,0)": [str(n * 10**17) for n in range(1, 9)],
        "decimal(10,2)": ["-1.50", "0.25", "1.00", "1.01", "2", "10", "20.05", "30"],
        "bigint unsigned": [str(2**63 + n) for n in range(8)],
        "varchar(20)": [f"'k{n}'" for n in range(8)],
        "varbinary(20)": [f"x'0{n}ff'" for n in range(8)],
        "char(36)": [f"'key {n}'" for n in range(8)],
    },
}


@pytest.mark.parametrize(
    ("name", "kind"), [(name, kind) for name, kinds in _KEYS.items() for kind in kinds]
)
def test_keys_of_any_type(
    name: str, kind: str, running: dict[str, servers.Server], tmp_path: Path
) -> None:
    """Rows are paged through, found, swapped, layered, logged in to and put back by their key."""
    server = running[name]
    people = [(f"skua{n}", f"Gannet {n}") for n in range(8)]
    rows = ", ".join(
        f"({key}, '{login}', '{hashlib.md5(password.encode()).hexdigest()}')"
        for key, (login, password) in zip(_KEYS[name][kind], people, strict=True)
    )
    server.run(
        f"DROP TABLE IF EXISTS kiosk; CREATE TABLE kiosk (id {kind} PRIMARY KEY, login text,"
        f" pw varchar(255)); INSERT INTO kiosk VALUES {rows};"
    )
    before = server.ask("SELECT count(DISTINCT pw) FROM kiosk WHERE pw LIKE '$%'")
    store = opened(server)
    seen: list[Account] = []
    while page := store.page(after=seen[-1].key if seen else None, rows=3):
        seen += page
    assert [account.login for account in seen] == [login for login, _ in people]
    for account in seen[:3]:
        if not isinstance(account.key, bytes):
            found = store.find(str(account.key))
            assert found
            assert found.login == account.login
        assert store.fill(account.key, "x") is SwapResult.CHANGED
    store.close()
    run = kiosk(tmp_path, server, people, table="kiosk", login="login", stored="pw")

    assert run("verify", "known.csv", "--store", "kiosk").code == 0
    assert "8 of 8 rows" in run("plan").out
    assert run("keys", "new", "k").code == 0
    layered = run("layer", "--backup", "b.sealed", "--to", "k.public.pem", "--format", "json")
    assert layered.code == 0, layered.err
    assert layered.document["layered"] == 8
    undone = run("undo", "b.sealed", "--key", "k.private.pem")
    assert undone.code == 0, undone.err
    assert server.ask("SELECT count(DISTINCT pw) FROM kiosk WHERE pw LIKE '$%'") == before
    assert run("layer", "--no-backup").code == 0
    for login, password in people[:2]:
        assert run("admit", login, stdin=password.encode() + b"\n").code == 0
    assert run("rehearse", "known.csv").code == 0


@pytest.mark.parametrize(
    ("name", "table"),
    [
        ("postgresql", "User"),
        ("postgresql", "o'clock"),
        ("postgresql", "per%cent"),
        ("mariadb", "order"),
        ("mariadb", "a b"),
        ("mariadb", "semi;colon"),
        ("mariadb", "per%cent"),
    ],
)
def test_a_table_of_another_schema(
    name: str, table: str, running: dict[str, servers.Server], tmp_path: Path
) -> None:
    """Schema-qualified, quoted, mixed-case and reserved names, in every command that writes."""
    server = running[name]
    q = '"' if name == "postgresql" else "`"
    schema = "CRM desk"
    place = f"{q}{schema}{q}.{q}{table}{q}"
    people = [(f"skua{n}", f"Gannet {n}") for n in range(6)]
    rows = ", ".join(
        f"({n}, '{login}', '{hashlib.md5(password.encode()).hexdigest()}')"
        for n, (login, password) in enumerate(people)
    )
    cascade = " CASCADE" if name == "postgresql" else ""
    server.run(
        f"DROP SCHEMA IF EXISTS {q}{schema}{q}{cascade}; CREATE SCHEMA {q}{schema}{q};"
        f"CREATE TABLE {place} (id int PRIMARY KEY, {q}Login{q} text, {q}select{q} varchar(200));"
        f"INSERT INTO {place} VALUES {rows};"
    )
    run = kiosk(tmp_path, server, people, table=f"{schema}.{table}", login="Login", stored="select")
    audited = run("audit", server.url, "--table", f"{schema}.{table}", "--format", "json")
    assert audited.document["stores"][0]["table"] == f"{schema}.{table}", audited.err
    assert run("verify", "known.csv", "--store", "kiosk").code == 0
    assert "6 of 6 rows" in run("plan").out
    assert run("rehearse", "known.csv").code == 0
    layered = run("layer", "--no-backup", "--format", "json")
    assert layered.code == 0, layered.err
    assert layered.document["layered"] == 6
    assert run("progress").code == 0
    for login, password in people[:2]:
        assert run("admit", login, stdin=password.encode() + b"\n").code == 0
    applied = run("enforce", "constraint", "--apply")
    assert applied.code == 0, applied.err
    refused = server.ask(f"SELECT count(*) FROM {place} WHERE {q}select{q} LIKE '$%'")
    assert refused.strip() == "6"
    assert run("enforce", "constraint", "--remove").code == 0


@pytest.mark.parametrize("name", ["postgresql", "mariadb"])
def test_an_account_that_may_only_read(
    name: str,
    running: dict[str, servers.Server],
    tmp_path: Path,
    in_process: Program,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """User and password come from the environment or a file; what it cannot see, is not denied."""
    server = running[name]
    people = [(f"skua{n}", f"Gannet {n}") for n in range(3)]
    rows = ", ".join(
        f"({n}, '{login}', '{hashlib.md5(password.encode()).hexdigest()}')"
        for n, (login, password) in enumerate(people)
    )
    user = "CREATE ROLE reader LOGIN" if name == "postgresql" else "CREATE USER reader"
    server.run(
        "DROP TABLE IF EXISTS kiosk; CREATE TABLE kiosk (id int PRIMARY KEY, login text,"
        f" pw varchar(255)); INSERT INTO kiosk VALUES {rows}; {user};"
        " GRANT SELECT ON kiosk TO reader;"
    )
    kiosk(tmp_path, server, people, table="kiosk", login="login", stored="pw")
    assert in_process("verify", "known.csv", "--store", "kiosk").code == 0
    assert in_process("layer", "--no-backup").code == 0
    assert in_process("enforce", "constraint", "--apply").code == 0
    file = tmp_path / "user"
    file.write_text("reader\n")
    file.chmod(0o600)
    monkeypatch.setenv("LEAN_TUMBLER_DATABASE_USER_FILE", str(file))
    assert in_process("verify", "known.csv", "--store", "kiosk").code == 0
    seen = in_process("enforce", "constraint")
    expected = "is guarded" if name == "postgresql" else "cannot be seen"
    assert (seen.code, expected in seen.out.splitlines()[0]) == (0, True), seen.out
    file.chmod(0o644)
    assert in_process("audit", "kiosk").code != 0


def test_who_reads_a_column_is_told_as_the_server_knows_it(
    server: servers.Server, tmp_path: Path, in_process: Program
) -> None:
    """Accounts that may read it, routines and views that name it, and who is connected now."""
    policy = f"""{CHEAP_POLICY}
[store.berths]
locator = "{server.url}"
table = "berths"
columns = {{ login = "login", stored = "pw" }}
cohort = [{{ name = "all", formula = "utf-8, md5, hex" }}]
"""
    (tmp_path / "tumbler.toml").write_text(policy)
    server.run(
        "CREATE TABLE berths (login varchar(40) PRIMARY KEY, pw varchar(255));"
        f"INSERT INTO berths VALUES ('ada', '{hashlib.md5(b'Skua').hexdigest()}');"
        "CREATE VIEW berth_view AS SELECT login, pw FROM berths;"
    )
    if is_mariadb(server):
        server.run(
            "CREATE USER cron2012; GRANT SELECT ON berths TO cron2012;"
            "CREATE FUNCTION berth_of(who varchar(40)) RETURNS varchar(255) READS SQL DATA"
            " RETURN (SELECT pw FROM berths WHERE login = who);"
        )
    else:
        server.run(
            "CREATE ROLE cron2012 LOGIN; GRANT SELECT ON berths TO cron2012;"
            "CREATE FUNCTION berth_of(who varchar) RETURNS varchar LANGUAGE sql AS"
            " 'SELECT pw FROM berths WHERE login = who';"
        )
    plan = in_process("plan", "--store", "berths", "--format", "json")
    assert plan.code == 0, plan.err
    touched = plan.document["touched"]
    assert any("cron2012" in each for each in touched["readers"]), touched
    assert any("berth_of" in each for each in touched["routines"]), touched
    assert any("berth_view" in each for each in touched["views"]), touched
    assert "cron2012" in in_process("plan", "--store", "berths").out
