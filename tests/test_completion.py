"""Completion: what each shell offers, asked through the program and through a terminal."""

import os
import pty
import re
import select
import shutil
import sqlite3
import subprocess
import time
from contextlib import closing
from pathlib import Path

import pytest

from conftest import PROGRAM
from lean_tumbler.cli.commands import SUMMARIES

POLICY = """\
[store.passengers]
locator = "harbour.db"
columns = { login = "email", stored = "pw" }
[[store.passengers.cohort]]
name = "counter-2004"
formula = "utf-8, md5, hex"
[store.crew]
locator = "crew.csv"
columns = { login = "login", stored = "pw" }
[[store.crew.cohort]]
name = "crew-2011"
formula = "utf-8, sha1, hex"
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A policy with two stores, and a database with two tables."""
    (tmp_path / "tumbler.toml").write_text(POLICY)
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection:
        connection.execute("CREATE TABLE passengers (id INTEGER PRIMARY KEY, email TEXT, pw TEXT)")
        connection.execute("CREATE TABLE bookings (id INTEGER PRIMARY KEY, berth TEXT)")
    return tmp_path


LINES = {
    "lean-tumbler aud": {"audit"},
    "lean-tumbler audit har": {"harbour.db"},
    "lean-tumbler audit harbour.db --tab": {"--table"},
    "lean-tumbler audit harbour.db --table ": {"passengers", "bookings"},
    "lean-tumbler audit harbour.db --table bookings --column ": {"id", "berth"},
    "lean-tumbler audit harbour.db --login-column e": {"email"},
    "lean-tumbler layer --store ": {"passengers", "crew"},
    "lean-tumbler layer --unproven ": {"counter-2004", "crew-2011"},
    "lean-tumbler layer --store crew --unproven ": {"crew-2011"},
    "lean-tumbler layer --policy none.toml --store ": set[str](),
    "lean-tumbler formula so": {"solve"},
    "lean-tumbler completion ": {"bash", "zsh", "fish"},
    "lean-tumbler nosuch ": set(SUMMARIES),
    "lean-tumbler audit harbour.db --format ": {"text", "json", "csv", "html", "sarif"},
    "lean-tumbler audit postgresql://127.0.0.1:1/none --column ": set[str](),
}


def offered(line: str, folder: Path) -> set[str]:
    """Ask as a shell does; nothing else may be said."""
    answer = folder / "answer"
    environment = {
        **os.environ,
        "_ARGCOMPLETE": "1",
        "_ARGCOMPLETE_SUPPRESS_SPACE": "1",
        "_ARGCOMPLETE_STDOUT_FILENAME": str(answer),
        "COMP_LINE": line,
        "COMP_POINT": str(len(line)),
    }
    ended = subprocess.run([PROGRAM], cwd=folder, env=environment, capture_output=True, check=False)
    assert (ended.returncode, ended.stdout, ended.stderr) == (0, b"", b"")
    return {word.strip() for word in re.split(r"[\v\n]", answer.read_text())} - {""}


@pytest.mark.parametrize("line", LINES)
def test_a_line_is_completed(line: str, folder: Path) -> None:
    """With commands, options, files, and names that policy and source hold."""
    assert offered(line, folder) == LINES[line]


@pytest.mark.parametrize(
    "policy",
    ["store = 1", "[store]\nx = 1", "[store.x]\ncohort = 2", "[store.x]\ncohort = [3, {name = 4}]",
     "store = [1]", "[store.x", "a = " + "[" * 5_000],
)  # fmt: skip
def test_a_policy_that_is_half_written_completes_what_it_can(policy: str, folder: Path) -> None:
    """A key press says nothing of mistakes, whatever stands in the file."""
    (folder / "tumbler.toml").write_text(policy)
    for line in ("lean-tumbler layer --store ", "lean-tumbler layer --unproven "):
        assert offered(line, folder) <= {"x"}


SHELLS = {
    "bash": (["bash", "--norc", "--noprofile", "-i"], 'eval "$(lean-tumbler completion bash)"'),
    "zsh": (
        ["zsh", "-f", "-i"],
        'autoload -U compinit; compinit -u; eval "$(lean-tumbler completion zsh)"',
    ),
    "fish": (["fish", "--no-config", "-i"], "lean-tumbler completion fish | source"),
}


class Terminal:
    """A shell in a terminal, typed at."""

    def __init__(self, command: list[str], folder: Path) -> None:
        self._process, self._terminal = pty.fork()
        if self._process == 0:
            os.chdir(folder)
            os.environ |= {
                "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}",
                "TERM": "dumb",
                "HOME": str(folder),
            }
            os.execvp(command[0], command)  # noqa: S606 - the shell itself

    def type(self, text: str) -> None:
        """Type a text."""
        os.write(self._terminal, text.encode())

    def shows(self, pattern: str, *, seconds: float = 30) -> str:
        """Wait until a pattern is on the screen; give all of it."""
        screen, until = "", time.monotonic() + seconds
        while time.monotonic() < until and not re.search(pattern, screen):
            if select.select([self._terminal], [], [], 0.2)[0]:
                screen += os.read(self._terminal, 1 << 16).decode("utf-8", "replace")
        return screen

    def close(self) -> None:
        """Hang up."""
        os.close(self._terminal)
        os.waitpid(self._process, 0)


@pytest.mark.parametrize("shell", SHELLS)
def test_a_terminal_completes(shell: str, folder: Path) -> None:
    """The line that the help gives makes each shell complete a store's name at a key press."""
    command, line = SHELLS[shell]
    if shutil.which(shell) is None:
        assert "CI" not in os.environ, f"{shell} is not installed"
        pytest.skip(f"{shell} is not installed")
    with closing(Terminal(command, folder)) as terminal:
        terminal.type(f"{line}; echo rea''dy\n")
        terminal.shows(r"(?m)^ready|[^ ]ready")
        terminal.type("lean-tumbler layer --store passe\t")
        screen = terminal.shows("passengers")
    assert "passengers" in screen
