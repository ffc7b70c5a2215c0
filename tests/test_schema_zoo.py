"""Tables of every make that a server has, each through the whole job by the commands alone."""

import hashlib
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

import servers
from conftest import CHEAP_POLICY, Program, in_process
from lean_tumbler.stores.interface import Swap
from lean_tumbler.stores.sql.store import SqlStore

__all__ = ["in_process"]
HEAD = CHEAP_POLICY.partition("[store.passengers]")[0]
PEOPLE = [(f"u{n}@tidepost.example", f"Fulmar {n} ä{n}") for n in range(12)]
UUID = "'{n:08x}-0000-4000-8000-00000000000a'"


def digest(password: str, salt: str) -> str:
    return hashlib.md5((password + salt).encode()).hexdigest()


@dataclass(frozen=True, kw_only=True)
class Schema:
    """One make of table.

    Attributes:
        create: statements; `{T}` is the table, quoted.
        row: the values of one row: `{n}`, `{login}`, `{pw}` (hexadecimal), `{salt}`.
        table: its name as the policy has it.
        quoted: its name as statements have it.
        after: statements once the rows stand there.
        widen: the statement that gives the column room, where it has too little.
        stored: the expression for the stored value as text.
        edits: what a person changes in the drafted policy: text, and what takes its place.
        holds: a query, and what it gives in the end.
    """

    create: str
    row: str = "({n}, '{login}', '{pw}', '{salt}')"
    table: str = "crew"
    quoted: str = "crew"
    after: str = ""
    widen: str = ""
    stored: str = "pw"
    edits: tuple[tuple[str, str], ...] = ()
    holds: tuple[str, str] = ("", "")


def beside_people(reference: str) -> Schema:
    """Logins stand in a table of people; each has a password and a token, by a key of two."""
    people = ", ".join(
        f"({n}, '{login}', '2026-01-{n + 1:02}')" for n, (login, _) in enumerate(PEOPLE)
    )
    return Schema(
        create="CREATE TABLE people (id int PRIMARY KEY, email varchar(90) UNIQUE, last_login date);"
        f" INSERT INTO people VALUES {people}; CREATE TABLE {{T}} (person_id int{reference},"
        " kind varchar(20), pw varchar(255), salt varchar(20), PRIMARY KEY (person_id, kind))",
        row="({n}, 'password', '{pw}', '{salt}'), ({n}, 'token', '{salt}{salt}{salt}', NULL)",
        holds=("SELECT count(*) FROM crew WHERE kind = 'token' AND length(pw) = 9", "12"),
    )


def to_another_column(definition: str) -> Schema:
    """A column of its own for new values; the old one may not be NULL, and is emptied."""
    return Schema(
        create="CREATE TABLE {T} (id int PRIMARY KEY, login varchar(90), pw varchar(40) NOT NULL,"
        f" salt varchar(20), slow varchar(255){definition})",
        row="({n}, '{login}', '{pw}', '{salt}', {slow})".replace(
            "{slow}", "''" if "NOT NULL" in definition else "NULL"
        ),
        edits=(
            ('stored = "pw"', 'write_to = { column = "slow", empty_stored = true }\nstored = "pw"'),
        ),
        holds=("SELECT count(*) FROM crew WHERE pw = '' AND slow <> ''", "12"),
    )


_PLAIN = "id int PRIMARY KEY, login varchar(90), pw varchar(255), salt varchar(20)"
_TABLES: dict[str, dict[str, Schema]] = {
    "sqlite": {
        "a unique login for a key": Schema(
            create="CREATE TABLE crew (login text UNIQUE, pw text, salt text)",
            row="('{login}', '{pw}', '{salt}')",
        ),
        "text key without rowid": Schema(
            create="CREATE TABLE crew (id text PRIMARY KEY, login, pw, salt) WITHOUT ROWID",
            row="('k{n:02}', '{login}', '{pw}', '{salt}')",
        ),
        "strict": Schema(
            create="CREATE TABLE crew (id INTEGER PRIMARY KEY, login TEXT, pw TEXT, salt TEXT)"
            " STRICT"
        ),
        "bytes": Schema(
            create="CREATE TABLE crew (id INTEGER PRIMARY KEY, login TEXT, pw BLOB, salt TEXT)",
            row="({n}, '{login}', x'{pw}', '{salt}')",
        ),
        "names of other makes": Schema(
            create='CREATE TABLE "User Data" ("Id" INTEGER PRIMARY KEY, "E-Mail" TEXT,'
            ' "Pass Word" TEXT, "select salt" TEXT)',
            table="User Data",
            quoted='"User Data"',
            stored='"Pass Word"',
        ),
        "no case": Schema(
            create="CREATE TABLE crew (id INTEGER PRIMARY KEY, login TEXT COLLATE NOCASE,"
            " pw TEXT COLLATE NOCASE, salt TEXT COLLATE NOCASE)"
        ),
        "a trigger that dates changes": Schema(
            create="CREATE TABLE crew (id INTEGER PRIMARY KEY, login, pw, salt, changed DEFAULT 0);"
            "CREATE TRIGGER touched AFTER UPDATE ON crew BEGIN UPDATE crew SET changed = changed + 1"
            " WHERE id = new.id; END",
            row="({n}, '{login}', '{pw}', '{salt}', 0)",
        ),
        "a generated column": Schema(
            create="CREATE TABLE crew (id INTEGER PRIMARY KEY, login, pw, salt,"
            " short AS (substr(pw, 1, 4)))"
        ),
        "a composite key": Schema(
            create="CREATE TABLE crew (line int, seat int, login TEXT UNIQUE, pw TEXT, salt TEXT,"
            " PRIMARY KEY (line, seat))",
            row="(1, {n}, '{login}', '{pw}', '{salt}')",
        ),
        "a login in another table": beside_people(""),
        "another column": to_another_column(" NOT NULL DEFAULT ''"),
    },
    "postgresql": {
        "identity": Schema(
            create="CREATE TABLE {T} (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,"
            " login text, pw text, salt text)",
            row="(DEFAULT, '{login}', '{pw}', '{salt}')",
        ),
        "uuid, citext": Schema(
            create="CREATE EXTENSION IF NOT EXISTS citext; CREATE TABLE {T} (id uuid PRIMARY KEY,"
            " login citext, pw text, salt text)",
            row=f"({UUID}, '{{login}}', '{{pw}}', '{{salt}}')",
        ),
        "another schema": Schema(
            create='CREATE SCHEMA "CRM desk"; CREATE TABLE {T} ("Id" int PRIMARY KEY,'
            ' "Login" text, "PassWord" text, "Salt" text)',
            table="CRM desk.User",
            quoted='"CRM desk"."User"',
            stored='"PassWord"',
        ),
        "char, too narrow": Schema(
            create="CREATE TABLE {T} (id int PRIMARY KEY, login text, pw char(40), salt char(12))",
            widen="ALTER TABLE {T} ALTER COLUMN pw TYPE varchar(255)",
        ),
        "bytes": Schema(
            create="CREATE TABLE {T} (id int PRIMARY KEY, login text, pw bytea, salt text)",
            row="({n}, '{login}', '\\x{pw}', '{salt}')",
            stored="encode(pw, 'escape')",
        ),
        "a domain": Schema(
            create="CREATE DOMAIN secret AS varchar(300); CREATE TABLE {T} (id int PRIMARY KEY,"
            " login text, pw secret, salt text)",
        ),
        "an enumeration beside": Schema(
            create="CREATE TYPE rank AS ENUM ('admin', 'hand'); CREATE TABLE {T} (id int PRIMARY"
            " KEY, login text, pw text, salt text, role rank)",
            row="({n}, '{login}', '{pw}', '{salt}', 'hand')",
        ),
        "partitions": Schema(
            create="CREATE TABLE {T} (id int PRIMARY KEY, login text, pw text, salt text) PARTITION"
            " BY RANGE (id); CREATE TABLE crew_a PARTITION OF crew FOR VALUES FROM (0) TO (6);"
            " CREATE TABLE crew_b PARTITION OF crew FOR VALUES FROM (6) TO (100)",
        ),
        "an heir": Schema(
            create="CREATE TABLE people (id int PRIMARY KEY, login text); CREATE TABLE {T} ("
            "pw text, salt text, PRIMARY KEY (id)) INHERITS (people)",
        ),
        "a case-folding collation": Schema(
            create="CREATE COLLATION folding (provider = icu, locale = 'und-u-ks-level2',"
            " deterministic = false); CREATE TABLE {T} (id int PRIMARY KEY, login text COLLATE"
            " folding, pw text COLLATE folding, salt text)",
        ),
        "a trigger that dates changes": Schema(
            create="CREATE TABLE {T} (id int PRIMARY KEY, login text, pw text, salt text, changed"
            " timestamp); CREATE FUNCTION touch() RETURNS trigger AS $$ BEGIN new.changed = now();"
            " RETURN new; END $$ LANGUAGE plpgsql; CREATE TRIGGER touched BEFORE UPDATE ON {T}"
            " FOR EACH ROW EXECUTE FUNCTION touch()",
            row="({n}, '{login}', '{pw}', '{salt}', NULL)",
        ),
        "a composite key": Schema(
            create="CREATE TABLE {T} (line int, seat int, login text UNIQUE, pw text, salt text,"
            " PRIMARY KEY (line, seat))",
            row="(1, {n}, '{login}', '{pw}', '{salt}')",
        ),
        "a login in another table": beside_people(" REFERENCES people"),
        "another column": to_another_column(""),
    },
    "mariadb": {
        "latin-1": Schema(create=f"CREATE TABLE {{T}} ({_PLAIN}) CHARACTER SET latin1"),
        "utf8mb3": Schema(create=f"CREATE TABLE {{T}} ({_PLAIN}) CHARACTER SET utf8mb3"),
        "accent-folding": Schema(
            create=f"CREATE TABLE {{T}} ({_PLAIN}) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci"
        ),
        "binary": Schema(
            create="CREATE TABLE {T} (id int PRIMARY KEY, login varchar(90), pw varbinary(300),"
            " salt varbinary(20))",
        ),
        "bytes of a digest": Schema(
            create="CREATE TABLE {T} (id int PRIMARY KEY, login varchar(90), pw varbinary(300),"
            " salt varchar(20))",
            row="({n}, '{login}', x'{pw}', '{salt}')",
        ),
        "char, too narrow": Schema(
            create="CREATE TABLE {T} (id int PRIMARY KEY, login varchar(90), pw char(32),"
            " salt char(12))",
            widen="ALTER TABLE {T} MODIFY pw varchar(255)",
        ),
        "names of other makes": Schema(
            create="CREATE TABLE {T} (`Id` int PRIMARY KEY, `E-Mail` varchar(90), `Pass Word`"
            " varchar(255), `select salt` varchar(20))",
            table="User Data",
            quoted="`User Data`",
            stored="`Pass Word`",
        ),
        "a binary key": Schema(
            create="CREATE TABLE {T} (id binary(16) PRIMARY KEY, login varchar(90), pw text,"
            " salt varchar(20))",
            row="(unhex(md5('{n}')), '{login}', '{pw}', '{salt}')",
        ),
        "partitions": Schema(
            create=f"CREATE TABLE {{T}} ({_PLAIN}) PARTITION BY HASH (id) PARTITIONS 3"
        ),
        "zero dates": Schema(
            create=f"CREATE TABLE {{T}} ({_PLAIN}, last_login datetime NOT NULL)",
            row="({n}, '{login}', '{pw}', '{salt}', 0)",
        ),
        "a date that follows changes": Schema(
            create=f"CREATE TABLE {{T}} ({_PLAIN}, changed timestamp NOT NULL DEFAULT"
            " '2020-01-01 00:00:00' ON UPDATE current_timestamp())",
            row="({n}, '{login}', '{pw}', '{salt}', '2020-01-01')",
            holds=("SELECT count(*) FROM crew WHERE changed = '2020-01-01'", "12"),
        ),
        "documents and enumerations beside": Schema(
            create=f"CREATE TABLE {{T}} ({_PLAIN}, more json, role enum('admin', 'hand'))",
            row="({n}, '{login}', '{pw}', '{salt}', '{{}}', 'hand')",
        ),
        "a composite key": Schema(
            create="CREATE TABLE {T} (line int, seat int, login varchar(90) UNIQUE, pw text,"
            " salt varchar(20), PRIMARY KEY (line, seat))",
            row="(1, {n}, '{login}', '{pw}', '{salt}')",
        ),
        "a login in another table": beside_people(" REFERENCES people (id)"),
        "another column": to_another_column(""),
    },
}
ZOO = [(server, name) for server, schemas in _TABLES.items() for name in schemas]


@pytest.fixture(scope="module")
def running() -> Iterator[dict[str, servers.Server]]:
    with servers.postgresql() as one, servers.mariadb() as other:
        yield {"postgresql": one, "mariadb": other}


def rows_of(schema: Schema) -> str:
    rows = []
    for n, (login, password) in enumerate(PEOPLE):
        salt = f"s{n:02}"
        values = {"n": n, "login": login, "pw": digest(password, salt), "salt": salt}
        rows.append(schema.row.format(**values))
    return f"INSERT INTO {schema.quoted} VALUES {', '.join(rows)}"


def statements(schema: Schema) -> Sequence[str]:
    """Write the table and its rows."""
    every = (schema.create.replace("{T}", schema.quoted), rows_of(schema), schema.after)
    return [text for text in every if text]


_CLEAN = {
    "postgresql": "DROP SCHEMA public CASCADE; CREATE SCHEMA public;"
    ' DROP SCHEMA IF EXISTS "CRM desk" CASCADE; GRANT ALL ON SCHEMA public TO public',
    "mariadb": "DROP TABLE IF EXISTS crew, `User Data`, people; SET sql_mode = ''",
}


_KILLED = 137


@contextmanager
def dying_in_its_second_batch(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Have a run end inside the transaction of its second batch, with no chance to tidy up."""
    batches = 0
    usual = SqlStore._require_written  # noqa: SLF001 - the last step inside the transaction

    def dies(self: SqlStore, connection: Any, swap: Swap) -> None:
        nonlocal batches
        batches += 1
        if batches == 2:
            raise SystemExit(_KILLED)
        usual(self, connection, swap)

    with monkeypatch.context() as patched:
        patched.setattr(SqlStore, "_require_written", dies)
        yield
    assert batches == 2


@pytest.mark.parametrize(("server", "name"), ZOO)
def test_a_table_of_the_zoo_goes_through_the_whole_job(
    server: str,
    name: str,
    running: dict[str, servers.Server],
    tmp_path: Path,
    in_process: Program,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Drafted, proven, rehearsed, layered, killed, undone, layered, logged in to, locked, guarded."""
    schema = _TABLES[server][name]
    if server == "sqlite":
        source = "crew.db"
        with closing(sqlite3.connect(tmp_path / source)) as db, db:
            db.executescript(";".join(statements(schema)))
    else:
        source = running[server].url
        running[server].run("; ".join((_CLEAN[server], *statements(schema))))
    (tmp_path / "tumbler.toml").write_text(HEAD)
    known = "".join(f"{login},{password}\n" for login, password in PEOPLE[:7])
    (tmp_path / "known.csv").write_text(f"login,password\n{known}")

    def run(*command: str, stdin: bytes = b"") -> str:
        done = in_process(*command, stdin=stdin)
        assert done.code == 0, (command, done.out, done.err)
        return done.out

    run("draft", source, "known.csv", "--merge")
    policy = tmp_path / "tumbler.toml"
    text = policy.read_text()
    assert f'table = "{schema.table}"' in text
    for old, new in (("# readers_ready", "readers_ready"), *schema.edits):
        text = text.replace(old, new)
    policy.write_text(text)
    if schema.widen:
        running[server].run(schema.widen.replace("{T}", schema.quoted))
    assert "12 of 12 rows" in run("plan")
    run("rehearse", "known.csv")
    run("keys", "new", "k")
    run("layer", "--no-backup", "--share", "50%")
    with dying_in_its_second_batch(monkeypatch):
        killed = in_process(
            "layer", "--rate", "6/s", "--backup", "a.sealed", "--to", "k.public.pem"
        )
    assert killed.code == _KILLED
    run("undo", "a.sealed", "--key", "k.private.pem", "--unfinished")
    run("layer", "--backup", "b.sealed", "--to", "k.public.pem")
    assert "12" in run("progress")
    run("undo", "b.sealed", "--key", "k.private.pem")
    run("layer", "--no-backup")
    for login, password in PEOPLE[:3]:
        run("admit", login, stdin=password.encode() + b"\n")
        assert in_process("admit", login, stdin=b"x\n").code == 1
    (tmp_path / "log.csv").write_text(f"login,at\n{PEOPLE[0][0]},2026-11-01\n")
    lock = ("lock-dormant", "--before", "2026-06-01", "--include-never-seen", "--logins", "log.csv")
    run(*lock, "--backup", "l.sealed", "--to", "k.public.pem")
    assert in_process("admit", PEOPLE[4][0], stdin=PEOPLE[4][1].encode() + b"\n").code == 1
    run("enforce", "constraint", "--apply")
    assert in_process("audit", source, "--format", "json").code == 0
    query, expected = schema.holds
    if query and server == "sqlite":
        with closing(sqlite3.connect(tmp_path / source)) as db:
            assert str(db.execute(query).fetchone()[0]) == expected
    elif query:
        assert expected in running[server].ask(query).split()
