"""Auditing real PostgreSQL and MariaDB servers, and what their own dump programs write."""

import hashlib
import os
import signal
import subprocess
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from types import ModuleType

import pytest
import sqlalchemy as sa

import servers
from conftest import OPENABLE, PROGRAM, run_in_process, stored_value
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.files.base import Unreadable
from lean_tumbler.stores.kinds import tables_at
from lean_tumbler.stores.sql import tables as database
from lean_tumbler.stores.sql.arrow_batches import ArrowReading
from lean_tumbler.stores.sql.opening import open_database
from test_sources import COLUMNS, Rows, delimited, told

STARTERS: dict[str, Callable[[], AbstractContextManager[servers.Server]]] = {
    "postgresql": servers.postgresql,
    "mariadb": servers.mariadb,
}


@pytest.fixture(scope="module", params=STARTERS)
def server(request: pytest.FixtureRequest) -> Iterator[servers.Server]:
    with STARTERS[request.param]() as running:
        yield running


@pytest.fixture(scope="module")
def rows(foreign_values: list[dict[str, str]]) -> Rows:
    values: list[tuple[str | None, str | None]] = [(row["stored"], None) for row in foreign_values]
    values += [stored_value(cohort, f"Möwe „{n}“ 7", n) for n, cohort in enumerate(OPENABLE)]
    values += [("!", None), (None, None), ("tab\tbed; back\\slash, quote\" and ' here", None)]
    return [
        {"id": str(n), "email": f"p{n}@tidepost.example", "pw": stored, "pw_salt": salt,
         "is_admin": str(int(n % 50 == 1))}
        for n, (stored, salt) in enumerate(values, start=1)
    ]  # fmt: skip


def _quoted(value: str | None, *, backslashes: bool) -> str:
    if value is None:
        return "NULL"
    doubled = value.replace("\\", "\\\\") if backslashes else value
    return "'" + doubled.replace("'", "''") + "'"


def fill(server: servers.Server, rows: Rows, table: str) -> None:
    """Make a table with a text column and fill it."""
    escape = server.url.startswith("mysql")
    lines = [
        "(" + ", ".join(_quoted(row[c], backslashes=escape) for c in COLUMNS) + ")" for row in rows
    ]
    server.run(
        f"DROP TABLE IF EXISTS {table};\n"
        f"CREATE TABLE {table} (id integer PRIMARY KEY, email varchar(100), pw text,"
        " pw_salt varchar(40), is_admin integer);\n"
        f"INSERT INTO {table} VALUES {', '.join(lines)};\n"
    )


def test_a_server_and_its_dump_give_the_report_of_a_file(
    server: servers.Server, rows: Rows, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Live or dumped, the same rows give the same counts, grades, groups and findings."""
    fill(server, rows, "passengers")
    (tmp_path / "reference.csv").write_bytes(delimited(rows))
    (tmp_path / "dump.sql").write_bytes(server.dumped())
    monkeypatch.chdir(tmp_path)
    reports = {}
    for source in ("reference.csv", server.url, "dump.sql"):
        finished = run_in_process("audit", source, "--format", "json")
        assert finished.err == ""
        reports[source] = told(finished.document)
    assert reports[server.url] == reports["reference.csv"]
    assert reports["dump.sql"] == reports["reference.csv"]


def test_the_schema_is_judged(server: servers.Server, tmp_path: Path) -> None:
    """Too narrow a column and a collation without case: from the catalogue, and from the dump."""
    is_mysql = server.url.startswith("mysql")
    kind = "varchar(40) COLLATE latin1_general_ci" if is_mysql else "varchar(40)"
    server.run(
        f"DROP TABLE IF EXISTS lounge; CREATE TABLE lounge (id integer, pw {kind})"
        f"{' CHARSET latin1' if is_mysql else ''};"
        f"INSERT INTO lounge VALUES (1, '{hashlib.md5(b'x').hexdigest()}');"
    )
    options = ("lounge",) if is_mysql else ("--table=lounge",)
    (tmp_path / "dump.sql").write_bytes(server.dumped(*options))
    for source in (server.url, str(tmp_path / "dump.sql")):
        arguments = ("audit", source, "--table", "lounge", "--format", "json")
        (store,) = run_in_process(*arguments).document["stores"]
        found = {finding["code"]: finding["evidence"] for finding in store["findings"]}
        assert found["column-too-narrow"].startswith("pw holds 40 characters; a new value needs 97")
        assert ("case-folding-collation" in found) == is_mysql


def test_binary_columns_are_read(server: servers.Server, tmp_path: Path) -> None:
    """Text kept as binary is read, and bytes that are none, live and from a dump alike."""
    kind, raw = ("bytea", "'\\x{}'") if "postgresql" in server.url else ("varbinary(99)", "0x{}")
    digests = [hashlib.md5(b"%d" % n).hexdigest() for n in range(4)]
    cells = [raw.format(digest.encode().hex()) for digest in digests]
    cells += [raw.format("fffe80"), raw.format("ff" * 20), raw.format("01" * 16)]
    lines = ", ".join(f"({n}, {cell})" for n, cell in enumerate(cells))
    server.run(
        f"DROP TABLE IF EXISTS kiosk; CREATE TABLE kiosk (id integer, pw {kind});"
        f"INSERT INTO kiosk VALUES {lines};"
    )
    live = run_in_process("audit", server.url, "--table", "kiosk", "--format", "json").document
    assert live["stores"][0]["grades"] == {"fast-unsalted": 6, "unknown": 1}
    (tmp_path / "dump.sql").write_bytes(
        server.dumped("--table=kiosk" if "postgresql" in server.url else "kiosk")
    )
    path = str(tmp_path / "dump.sql")
    dumped = run_in_process("audit", path, "--column", "pw", "--format", "json").document
    if "postgresql" in server.url:
        assert dumped["stores"][0]["grades"] == live["stores"][0]["grades"]
    assert dumped["rows"] + dumped["unreadable_rows"] == 7  # MariaDB's dump holds bytes as they are


def test_an_audit_cannot_write(server: servers.Server, rows: Rows) -> None:
    """The connection of an audit is refused every write by the server itself."""
    fill(server, rows[:2], "harbour")
    engine = open_database(server.url, base=Path()).engine
    with engine.connect() as connection, pytest.raises(sa.exc.DBAPIError):
        connection.execute(sa.text("UPDATE harbour SET pw = 'x'"))


@pytest.mark.parametrize(
    ("change", "code", "expected"),
    [
        (lambda url: url.replace("tumbler@", "tumbler:s3cret@").replace("root@", "root:s3cret@"), 2,
         "the URL holds a password"),
        (lambda url: url + "-gone", 3, "cannot be reached"),
        (lambda url: url.replace("/postgres?", "/nowhere?").replace("/ferries?", "/nowhere?"), 3,
         "cannot be reached"),
    ],
)  # fmt: skip
def test_a_server_that_cannot_be_read_gets_one_line(
    server: servers.Server, change: Callable[[str], str], code: int, expected: str
) -> None:
    """A password in the URL, a missing server and a missing database: one line, no secret."""
    finished = run_in_process("audit", change(server.url))
    assert (finished.code, finished.out) == (code, "")
    assert expected in finished.err
    assert finished.err.count("\n") == 1
    assert "s3cret" not in finished.err


def _stopped_half_way(running: servers.Server, folder: Path) -> "subprocess.Popen[bytes]":
    """Start an audit, and stop it while it holds a connection; again where it was too quick."""
    for _ in range(10):
        audit = subprocess.Popen(
            [str(PROGRAM), "audit", running.url, "--table", "big", "--format", "json"],
            cwd=folder,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )
        while running.others() == 0 and audit.poll() is None:
            pass
        if audit.poll() is None:
            os.kill(audit.pid, signal.SIGSTOP)
            if running.others():
                return audit
            os.kill(audit.pid, signal.SIGCONT)
        audit.communicate(timeout=60)
    pytest.fail("the audit was over each time before it could be stopped")


MANY_NUMBERS = {
    "postgresql": "n::text) AS pw FROM generate_series(1, 400000) AS n",
    "mariadb": "n) AS pw FROM (SELECT seq AS n FROM seq_1_to_400000) AS numbers",
}


@pytest.mark.parametrize("name", STARTERS)
def test_a_server_that_dies_half_way_leaves_no_report(name: str, tmp_path: Path) -> None:
    """Exit code 3 and one line: nothing that looks like a complete report."""
    with STARTERS[name]() as running:
        running.run(f"CREATE TABLE big AS SELECT n AS id, md5({MANY_NUMBERS[name]};")
        audit = _stopped_half_way(running, tmp_path)
        running.kill()
        os.kill(audit.pid, signal.SIGCONT)
        out, err = audit.communicate(timeout=60)
    assert (audit.returncode, out) == (3, b"")
    assert err.count(b"\n") == 1
    assert b"cannot be reached, or went away" in err


def test_last_words_of_a_server_are_not_printed(capfd: pytest.CaptureFixture[str]) -> None:
    """Libpq prints them by itself; afterwards standard error is what it was."""

    def connect(_: str) -> None:
        os.write(2, b"FATAL: terminating connection\n")
        raise ConnectionError

    driver = ModuleType("a driver")
    driver.connect = connect  # type: ignore[attr-defined]
    with pytest.raises(ConnectionError):
        list(ArrowReading(driver, "").batches(""))
    os.write(2, b"still heard\n")
    assert capfd.readouterr().err == "still heard\n"


def test_closing_a_result_of_a_lost_server_is_no_error(monkeypatch: pytest.MonkeyPatch) -> None:
    """What is left of it cannot be read; the error comes with the next question, and plainly."""
    monkeypatch.setattr(database, "ROWS_PER_FRAME", 1000)
    with servers.mariadb() as running:
        rows = ", ".join(f"({n}, '{n:032x}')" for n in range(100_000))
        running.run(
            f"CREATE TABLE big (id integer, pw varchar(40)); INSERT INTO big VALUES {rows};"
        )
        _, (table,) = tables_at(running.url, base=Path())
        frames = table.frames(["pw"], Unreadable())
        assert next(frames).height >= 1000
        running.kill()
        frames.close()
        with pytest.raises(SourceError, match="cannot be reached, or went away"):
            next(table.frames(["pw"], Unreadable()))
