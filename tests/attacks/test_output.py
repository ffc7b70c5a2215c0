"""Whoever names a table, or closes the reader's end: no terminal is steered, no device replaced."""

import json
import os
import re
import sqlite3
import stat
import subprocess
from contextlib import closing
from pathlib import Path

import pytest

from conftest import PROGRAM, Portal, Program, make_portal
from lean_tumbler.core.printable import printable
from lean_tumbler.stores.file_access import write_text

STEERING = "\x1b]0;owned\x07\x1b[2J\x9b31m\u202egnp.exe\r\x08"
_STYLE = re.compile(r"\x1b\[[0-9;]*m")


@pytest.fixture
def named(tmp_path: Path) -> Path:
    """A table, a column and an account whose names steer terminals."""
    with closing(sqlite3.connect(tmp_path / "evil.db")) as connection, connection:
        connection.execute(f'CREATE TABLE "guests{STEERING}" (id text, "pw{STEERING}" text)')
        rows = [(f"{n}{STEERING}", "5f4dcc3b5aa765d61d8327deb882cf99") for n in range(3)]
        connection.executemany(f'INSERT INTO "guests{STEERING}" VALUES (?, ?)', rows)
    return tmp_path


@pytest.mark.parametrize("format_", ["text", "json", "csv", "html", "sarif"])
@pytest.mark.parametrize("colour", ["", "1"])
def test_names_steer_no_terminal(
    format_: str, colour: str, named: Path, in_process: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whatever a schema calls its tables; colours of our own stay."""
    assert named.exists()
    if colour:
        monkeypatch.setenv("FORCE_COLOR", colour)
    column = ("--column", f"pw{STEERING}")
    finished = in_process("audit", "evil.db", *column, "--format", format_)
    assert finished.code == 0, finished.err
    assert "guests" in finished.out
    plain = _STYLE.sub("", finished.out) if colour else finished.out
    assert printable(plain) == plain
    if format_ == "json":
        (store,) = json.loads(finished.out)["stores"]
        assert store["table"] == f"guests{STEERING}"  # JSON's escapes say it exactly


def test_messages_steer_no_terminal(named: Path, in_process: Program) -> None:
    """Errors name what they are about, harmlessly."""
    assert named.exists()
    for arguments in (
        ("audit", f"no{STEERING}.db"),
        ("audit", "evil.db", "--table", f"x{STEERING}"),
    ):
        finished = in_process(*arguments)
        assert finished.code != 0
        assert printable(finished.err) == finished.err


COMMANDS = [
    ("audit", "harbour.db"),
    ("audit", "harbour.db", "--format", "csv"),
    ("layer", "--dry-run"),
    ("--version",),
]


@pytest.mark.parametrize("arguments", COMMANDS, ids=" ".join)
def test_a_full_disk_is_said(arguments: tuple[str, ...], portal: Portal) -> None:
    """One line, and an exit code that is neither “done” nor “no”."""
    with Path("/dev/full").open("wb") as full:
        done = subprocess.run(
            [str(PROGRAM), *arguments], cwd=portal.folder, stdout=full, stderr=subprocess.PIPE,
            check=False, timeout=120,
        )  # fmt: skip
    assert done.returncode == 3
    assert done.stderr.decode().splitlines()[-1] == (
        "lean-tumbler: the result could not be written: No space left on device"
    )
    assert b"Traceback" not in done.stderr


@pytest.mark.parametrize("arguments", COMMANDS[:3], ids=" ".join)
def test_a_closed_pipe_is_no_answer(arguments: tuple[str, ...], tmp_path: Path) -> None:
    """The reader has gone: that is not “the answer is no”, and nothing is said about it."""
    make_portal(tmp_path, ["md5"] * 60)
    reading, writing = os.pipe()
    os.close(reading)
    try:
        done = subprocess.run(
            [str(PROGRAM), *arguments], cwd=tmp_path, stdout=writing, stderr=subprocess.PIPE,
            check=False, timeout=120,
        )  # fmt: skip
    finally:
        os.close(writing)
    assert done.returncode == 3
    assert b"Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("closed", "code", "out"),
    [("0<&-", 0, True), ("1>&-", 3, False), ("2>&-", 0, True), ("0<&- 1>&- 2>&-", 3, False)],
)
def test_closed_streams_harm_nothing(closed: str, code: int, out: bool, portal: Portal) -> None:
    """No file takes the place of a stream: the database stays as it was, and the code is right."""
    before = portal.database.read_bytes()
    done = subprocess.run(
        ["sh", "-c", f'exec "$0" audit harbour.db {closed}', str(PROGRAM)],
        cwd=portal.folder, capture_output=True, check=False, timeout=120,
    )  # fmt: skip
    assert (done.returncode, done.stdout != b"") == (code, out)
    assert b"internal error" not in done.stderr
    assert portal.database.read_bytes() == before


def test_no_device_and_no_pipe_is_replaced(portal: Portal, program: Program) -> None:
    """`--output` writes into them; a link is followed, and stays."""
    folder = portal.folder
    os.mkfifo(folder / "pipe")
    with subprocess.Popen(["cat", str(folder / "pipe")], stdout=subprocess.PIPE) as reader:
        assert program("audit", "harbour.db", "--output", "pipe").code == 0
        out, _ = reader.communicate(timeout=60)
    assert b"accounts are below the floor" in out
    assert stat.S_ISFIFO((folder / "pipe").stat().st_mode)
    (folder / "link").symlink_to("target.txt")
    (folder / "target.txt").write_text("before")
    assert program("audit", "harbour.db", "--output", "link").code == 0
    assert (folder / "link").is_symlink()
    assert "below the floor" in (folder / "target.txt").read_text()
    write_text(Path("/dev/null"), "nothing")
    assert stat.S_ISCHR(Path("/dev/null").stat().st_mode)
