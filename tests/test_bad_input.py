"""Every kind of bad input: one clear line, the right exit code, no value, no change."""

import contextlib
import os
import pty
import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import pytest

from conftest import PROGRAM, Portal, Program

PLANTED = "$argon2id$v=19$m=4194304,t=1,p=1$c2FsdHNhbHQ$ZGlnZXN0ZGlnZXN0"
SECRET = "Razorbill 4241"


@pytest.mark.parametrize(
    ("arguments", "code", "expected"),
    [
        (("audit", "missing.db"), 3, "missing.db: No such file or directory"),
        (("layer", "--policy", "file.toml"), 2, "known.csv is a file of records, without tables"),
        (("audit", "cut.db"), 3, "cut.db: cut off: 5,000 bytes of"),
        (("audit", "."), 3, "Is a directory"),
        (("audit", "empty.db"), 3, "empty.db: holds no data"),
        (("audit", "oracle://db/x"), 2, "oracle:// is not supported"),
        (("layer", "--policy", "server.toml"), 3, "the server cannot be reached"),
        (("audit", "harbour.db", "--table", "passenger"), 2, "no table “passenger”"),
        (("audit", "harbour.db", "--column", "pwd"), 2, "no table has a column “pwd”"),
        (
            ("audit", "harbour.db", "--table", "passengers", "--column", "pww"),
            2,
            "no column “pww”; did you mean “pw”?",
        ),
        (("audit", "harbour.db", "--column", "pw", "--salt-column", "sal"), 2, "no column “sal”"),
        (("layer", "--policy", "nope.toml"), 2, "policy file nope.toml: No such file"),
        (("progress", "--policy", "typo.toml"), 2, "unknown key “stord”; did you mean “stored”?"),
        (("progress", "--policy", "known.csv"), 2, "known.csv: not valid TOML at line"),
        (("layer", "--policy", "table.toml"), 2, "has no table “passenger”; did you mean"),
        (("layer", "--store", "kiosk"), 2, "the policy has no store “kiosk”; it has: passengers"),
        (("verify", "nope.csv"), 2, "nope.csv: No such file or directory"),
        (
            ("verify", "known.csv", "--store", "passengers", "--formula", "utf-8, sha, hex"),
            2,
            "position 8: expected a step (did you mean",
        ),
        (("lock-dormant", "--inactive-days", "3000000"), 2, "a number of days, up to 36,525"),
        (("plan", "--lock-after", "9" * 12), 2, "--lock-after: expected a whole number from 1"),
        (("progress", "--lately", "3000000"), 2, "--lately: expected a number of days"),
        (("tune", "--within", "0"), 2, "--within: expected a time above 0"),
        (("tune", "--within", "soon"), 2, "--within: expected a time above 0"),
        (("tune", "--peak-logins", "0/s"), 2, "--peak-logins: expected a rate above 0"),
        (("tune", "--peak-logins", "-3/s"), 2, "--peak-logins: expected"),
        (("tune", "--peak-logins", "40"), 2, "--peak-logins: expected a rate above 0"),
        (("tune", "--memory", "4 apples"), 2, "--memory: expected an amount above 0"),
        (("tune", "--upgrading", "130%"), 2, "--upgrading: expected a share"),
        (("tune", "--schemes", "bcript"), 2, "no scheme “bcript” to write; did you mean"),
        (("tune", "--schemes", "md5"), 2, "no scheme “md5” to write"),
        (("tune", "--schemes", "bcrypt", "--approved-only"), 2, "leaves none of --schemes"),
        (("tune", "--floor", "highest"), 2, "--floor: no such file, and none of owasp"),
        (("tune", "--plot", "t.gif", "--measurements", "nope.json"), 2, "ends in .png or .svg"),
        (("tune", "--save", "--policy", "nope.toml"), 2, "policy file nope.toml"),
        (("layer", "--concurrency", "0"), 2, "--concurrency: expected a whole number from 1"),
        (("explain", "a", SECRET), 2, "too many arguments"),
        (("admit", "ada", SECRET), 2, "too many arguments"),
        ((SECRET,), 2, "no such command"),
        (("audit",), 2, "the following arguments are required: SOURCE"),
        (("demo", "--into", "."), 2, "holds other files"),
        (("demo", "--into", "known.csv"), 2, "known.csv: "),
        (("audit", "harbour.db", "--output", "no/such/file"), 3, "no/such/file"),
        (("audit", "passengers", "--column", "pw"), 2, "the policy names the columns"),
        (("layer", "--policy", "no-table.toml"), 2, "“table” is missing"),
        (("admit", "\udcff"), 2, "LOGIN is not UTF-8"),
    ],
)
def test_wrong_calls(
    portal: Portal, program: Program, arguments: tuple[str, ...], code: int, expected: str
) -> None:
    """Each mistake gets one line that names the place, and the exit code of its kind."""
    folder = portal.folder
    text = (folder / "tumbler.toml").read_text()
    (folder / "typo.toml").write_text(text.replace("stored =", "stord ="))
    (folder / "table.toml").write_text(text.replace('table = "passengers"', 'table = "passenger"'))
    server = text.replace("sqlite:///harbour.db", "postgresql://127.0.0.1:1/x")
    (folder / "server.toml").write_text(server)
    (folder / "file.toml").write_text(text.replace("sqlite:///harbour.db", "known.csv"))
    (folder / "no-table.toml").write_text(text.replace('table = "passengers"\n', ""))
    (folder / "cut.db").write_bytes(portal.database.read_bytes()[:5000])
    (folder / "empty.db").touch()
    before = portal.database.read_bytes()
    finished = program(*arguments)
    assert finished.code == code
    assert expected in finished.err
    assert finished.err.count("\n") == 1
    assert finished.out == ""
    assert "Traceback" not in finished.err
    assert SECRET not in finished.err
    assert portal.database.read_bytes() == before


@pytest.mark.parametrize(
    ("password", "expected"),
    [
        (b"", "no password"),
        (b"\n", "no password"),
        (b"secret\0word", "a NUL at byte 6"),
        (b"caf\xe9 au lait", "not UTF-8 at byte 3"),
        (b"x" * 10_000_000, "longer than 1024 bytes"),
    ],
    ids=["empty", "newline", "nul", "latin-1", "ten megabytes"],
)
@pytest.mark.parametrize("command", ["hash", "admit"])
def test_impossible_passwords(
    portal: Portal, program: Program, command: str, password: bytes, expected: str
) -> None:
    """A password that cannot be one is refused by name of the reason, and never shown."""
    arguments = (command, portal.passengers[1].login) if command == "admit" else (command,)
    finished = program(*arguments, stdin=password)
    assert (finished.code, finished.out) == (2, "")
    assert expected in finished.err
    assert "secret" not in finished.err
    assert "lait" not in finished.err


@pytest.mark.parametrize(
    ("stored", "alert"),
    [
        (PLANTED, "asks for more work than [limits] allows"),
        (b"\xff\xfe", "fits no scheme and no formula"),
        ("", "is empty"),
        ("$9$abc$defghijkl", "fits no scheme and no formula"),
    ],
)
def test_unreadable_stored_values(
    portal: Portal, program: Program, stored: str | bytes, alert: str
) -> None:
    """The person gets the same answer as always, the operator an alert with the account."""
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET pw = ? WHERE id = 2", (stored,))
    before = portal.stored()
    finished = program("admit", portal.passengers[1].login, stdin=SECRET.encode())
    assert (finished.code, finished.out) == (1, "not admitted\n")
    assert "account 2: " in finished.err
    assert alert in finished.err
    assert portal.stored() == before
    layered = program("layer", "--no-backup", "--format", "json")
    assert layered.code == 0
    assert portal.stored()[2] == before[2] or stored == PLANTED


def test_a_login_that_is_not_unique(portal: Portal, program: Program) -> None:
    """Two rows of one login: none is tried, and the operator hears why."""
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET email = 'both' WHERE id < 3")
    finished = program("admit", "both", stdin=portal.passengers[0].password.encode())
    assert (finished.code, finished.out) == (1, "not admitted\n")
    assert "the login is not unique" in finished.err


def test_a_locked_database_says_so(portal: Portal, program: Program) -> None:
    """A database that another program holds is an error of the store, not a wrong password."""
    with closing(sqlite3.connect(portal.database)) as connection:
        connection.execute("BEGIN EXCLUSIVE")
        finished = program("audit", "harbour.db", timeout=90)
    assert finished.code == 3
    assert "locked by another program" in finished.err


def test_a_reader_that_goes_away_is_no_error(portal: Portal) -> None:
    """Piping into `head` ends quietly."""
    shell = f"'{PROGRAM}' audit harbour.db | head -n 1; exit ${{PIPESTATUS[0]}}"
    finished = subprocess.run(
        ["bash", "-c", shell], cwd=portal.folder, capture_output=True, check=False
    )
    assert finished.stderr == b""
    assert finished.stdout.count(b"\n") == 1


def test_debug_shows_a_traceback_without_values(portal: Portal, program: Program) -> None:
    """--debug tells where an error came from; the password is not in it."""
    for arguments in (("--debug", "hash"), ("hash", "--debug")):
        finished = program(*arguments, stdin=b"secret\0word")
        assert finished.code == 2
        assert "Traceback" in finished.err
        assert "secret" not in finished.err


def _on_a_terminal(portal: Portal, **environment: str) -> bytes:
    """Run an audit with a terminal as its output; give what the terminal got."""
    ours, theirs = pty.openpty()
    process = subprocess.Popen(
        [str(PROGRAM), "audit", "harbour.db"],
        cwd=portal.folder,
        env={**os.environ, "TERM": "xterm", **environment},
        stdout=theirs,
        stderr=subprocess.PIPE,
    )
    os.close(theirs)
    shown = b""
    with contextlib.suppress(OSError):  # the other end closes when the program ends
        while part := os.read(ours, 65_536):
            shown += part
    os.close(ours)
    assert process.communicate(timeout=60)[1] == b""
    assert process.returncode == 0
    return shown


def test_colour_only_where_it_is_wanted(portal: Portal, program: Program) -> None:
    """A terminal gets colours; with NO_COLOR, and into a pipe, no colour is written."""
    coloured = b"\x1b[31m"
    assert coloured in _on_a_terminal(portal)
    assert coloured not in _on_a_terminal(portal, NO_COLOR="1")
    assert "\x1b" not in program("audit", "harbour.db").out


def test_names_are_shown_as_they_are(program: Program, tmp_path: Path) -> None:
    """Brackets and colons of a table's name are no markup of ours."""
    with closing(sqlite3.connect(tmp_path / "crew.db")) as connection, connection:
        connection.execute('CREATE TABLE "crew [red] :anchor:" (login TEXT, pw TEXT)')
        connection.execute(
            'INSERT INTO "crew [red] :anchor:" VALUES (?, ?)', ("a", "0123456789abcdef" * 2)
        )
    assert program("audit", "crew.db").out.startswith("crew [red] :anchor:.pw: 1 of 1 account")


@pytest.mark.parametrize(("module", "is_told"), [("pymysql.connections", False), ("ours", True)])
def test_an_error_that_nobody_can_catch(tmp_path: Path, module: str, is_told: bool) -> None:
    """A driver's finaliser says nothing; any other error is told by its kind, without its message."""
    code = (
        "import sys\nfrom lean_tumbler.cli import main\n"
        "class Last:\n def __del__(self): raise ValueError('s3cret')\n"
        f"Last.__del__.__module__ = {module!r}\n"
        "sys.argv[1:] = ['--version']\nkept = Last()\nmain.run = lambda *_: globals().pop('kept') and 0\n"
        "main.main()\n"
    )
    finished = subprocess.run(
        [sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert ("ValueError in ours" in finished.stderr) is is_told
    assert "s3cret" not in finished.stderr
