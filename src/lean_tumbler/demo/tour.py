"""The whole job on the portal, command by command, as a reader would type it."""

import csv
import io
import shlex
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import chdir
from pathlib import Path

from lean_tumbler.cli.session import Session
from lean_tumbler.demo.other_stores import AGENTS_KNOWN, OTHER_STORES
from lean_tumbler.demo.portal import DATABASE, KNOWN, KNOWN_FEW, POLICY, write_portal

Run = Callable[[list[str], Session], int]

# Low, so that the demo stays short; a real choice would measure longer and allow more.
WITHIN_MILLISECONDS = 150
LOGINS_PER_SECOND = 8
SHOWN_LOGINS = 4
_MISTYPED = 9  # every so many logins, somebody mistypes first

_STEPS = (
    (
        "Recover a formula that nobody remembers",
        "The freight agents' values are digests of something. Three passwords are known.",
        ["formula", "solve", AGENTS_KNOWN, "--save", "agents-1998"],
    ),
    (
        "Read it aloud",
        "To be held against the old source, line by line, should anybody find it.",
        ["formula", "show", "agents-1998"],
    ),
    (
        "Prove the legacy formulas",
        "Some passwords are known, from test accounts. Does the policy accept every one?",
        ["verify", KNOWN, "--store", "passengers"],
    ),
    (
        "Choose parameters by measuring",
        f"{LOGINS_PER_SECOND} logins a second, {WITHIN_MILLISECONDS} ms: how costly may a hash be?",
        [
            "tune",
            "--quick",
            "--schemes",
            "argon2id,scrypt",
            "--peak-logins",
            f"{LOGINS_PER_SECOND}/s",
            "--within",
            f"{WITHIN_MILLISECONDS}ms",
            "--save",
        ],
    ),
    (
        "Rehearse",
        "The whole change on a copy, with some accounts whose password is known.",
        ["rehearse", KNOWN_FEW, "--store", "passengers", "--rows", "20"],
    ),
    (
        "Layer now",
        "Every weak value goes under a slow hash at once, without anybody's password.",
        ["layer", "--store", "passengers"],
    ),
    (
        "Prove it again",
        "The same known accounts, against the layered values.",
        ["verify", KNOWN, "--store", "passengers"],
    ),
)


class _Tour:
    """Prints what it does and runs it."""

    def __init__(self, folder: Path, run: Run, session: Session) -> None:
        self._folder = folder
        self._run = run
        self._session = session
        self._number = 0

    def _say(self, text: str = "") -> None:
        self._session.stdout.write(text + "\n")
        self._session.stdout.flush()

    def _heading(self, title: str, why: str) -> None:
        self._number += 1
        self._say(f"\n── {self._number}. {title} " + "─" * max(0, 70 - len(title)))
        self._say(why)

    def _command(self, arguments: list[str]) -> int:
        self._say(f"\n$ lean-tumbler {shlex.join(arguments)}")
        return self._run(arguments, self._session)

    def all(self) -> int:
        """Run every step; the first that fails ends the tour with its exit code."""
        started = time.monotonic()
        write_portal(self._folder)
        self._say("Coldharbour Ferries has taken over three small lines. All people are invented.")
        others = ", ".join(OTHER_STORES)
        self._say(f"{self._folder}/ now holds {DATABASE}, {POLICY}, {KNOWN}, {others}.")
        self._say(f"\n$ cd {shlex.quote(str(self._folder))}")
        with chdir(self._folder):
            self._find_and_judge()
            for title, why, arguments in _STEPS:
                self._heading(title, why)
                code = self._command(arguments)
                if code == 1 and arguments[0] == "tune":
                    self._say("This machine is too slow, or busy: the policy keeps its target.")
                elif code != 0:
                    return code
            self._day_of_logins()
            self._heading("Watch it finish", "Where does the store stand after one day?")
            code = self._command(["progress"])
        self._say(
            f"\nDone in {time.monotonic() - started:.0f} s. Try it by hand:\n"
            f"  cd {shlex.quote(str(self._folder))}; lean-tumbler audit passengers"
        )
        return code

    def _find_and_judge(self) -> None:
        self._heading(
            "Find and judge",
            "What did the previous owners leave? Everything is only read. First, everywhere:",
        )
        self._headlines([DATABASE], "The portal's database, and a table that somebody forgot")
        for name, (what, _) in OTHER_STORES.items():
            self._headlines([name], what)
        self._say("\nThe portal comes first. All of what is wrong with it:")
        self._command(["audit", DATABASE, "--table", "passengers"])

    def _headlines(self, arguments: list[str], what: str) -> None:
        """Run an audit, and show what its first lines say of each column."""
        output = io.StringIO()
        session = Session(stdin=io.BytesIO(), stdout=output, stderr=self._session.stderr)
        self._run(["audit", *arguments], session)
        headlines = output.getvalue().split("\n\n", 1)[0].rstrip().splitlines()
        self._say(f"\n{what}:")
        self._say(f"$ lean-tumbler audit {shlex.join(arguments)} | head -n {len(headlines)}")
        for line in headlines:
            self._say(line.rstrip())

    def _day_of_logins(self) -> None:
        self._heading(
            "A day of logins",
            "Each login is checked against whatever is stored; what is not current is rewritten.",
        )
        actions: Counter[str] = Counter()
        for number, (login, password) in enumerate(_typed()):
            shown = number < SHOWN_LOGINS
            output = io.StringIO()
            session = Session(
                stdin=io.BytesIO(password.encode() + b"\n"),
                stdout=output,
                stderr=self._session.stderr,
            )
            if shown:
                self._say(f"\n$ grep ^{login}, {KNOWN} | cut -d, -f2 | lean-tumbler admit {login}")
            self._run(["admit", login], session)
            if shown:
                self._say(output.getvalue().rstrip())
            actions[output.getvalue().strip()] += 1
        self._say(f"\nThe whole day, {sum(actions.values())} attempts:")
        for action, times in actions.most_common():
            self._say(f"  {times:3}  {action}")


def _typed() -> Iterator[tuple[str, str]]:
    """What people type in a day: known accounts, now and then mistyped first."""
    with Path(KNOWN).open(encoding="utf-8", newline="") as file:
        rows = [(row["login"], row["password"]) for row in csv.DictReader(file)]
    # A stride that shares no factor with the number of rows mixes the cohorts.
    for number in range(len(rows)):
        login, password = rows[number * 11 % len(rows)]
        if number % _MISTYPED == _MISTYPED - 1:
            yield login, password.swapcase()
        yield login, password


def take_tour(folder: Path, run: Run, session: Session) -> int:
    """Write the demo's files and run the whole job on them.

    Args:
        folder: where the files go.
        run: runs one command line, as the program itself does.
        session: its streams.

    Returns:
        The exit code.
    """
    return _Tour(folder, run, session).all()
