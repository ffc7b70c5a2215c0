"""The whole job on the portal, command by command, as a reader would type it."""

import csv
import io
import os
import re
import shlex
import shutil
import sys
import time
from collections import Counter
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import chdir
from datetime import UTC, date, datetime, timedelta
from datetime import time as time_of_day
from pathlib import Path

from lean_tumbler.cli.session import Session
from lean_tumbler.demo import steps
from lean_tumbler.demo.forgotten import FORGOTTEN, FORGOTTEN_TABLE, clean_up
from lean_tumbler.demo.half_year import HALF_YEAR_DAYS, Visit, note_seen, visits
from lean_tumbler.demo.keys_apart import move_value, name_key
from lean_tumbler.demo.other_stores import OTHER_STORES
from lean_tumbler.demo.people import TAKEOVER, Person
from lean_tumbler.demo.portal import (
    DATABASE,
    KNOWN,
    LAYERED,
    POLICY,
    RECOVERY,
    REMAINS,
    REPORT,
    SIGN_INS,
    UNTOUCHED,
    write_portal,
)
from lean_tumbler.stores.file_access import write_text

Run = Callable[[list[str], Session], int]

SHOWN_LOGINS = (11, 22, 36)  # of the known accounts: one of each cohort that is layered
_OBSERVING = re.compile(r'mode = "observe".*')
_LOOKED_AT = (30, 90, HALF_YEAR_DAYS)  # days after the takeover


class _Tour:
    """Prints what it does and runs it."""

    def __init__(self, folder: Path, run: Run, session: Session) -> None:
        self._folder = folder
        self._run = run
        self._out = session.stdout
        self._err = session.stderr
        self._number = 0
        self._today = TAKEOVER

    def _say(self, text: str = "") -> None:
        self._out.write(text + "\n")
        self._out.flush()

    def _heading(self, title: str, why: str) -> None:
        self._number += 1
        self._say(f"\n── {self._number}. {title} " + "─" * max(0, 70 - len(title)))
        self._say(why)

    def _session(self, *, stdin: bytes = b"", stdout: io.StringIO | None = None) -> Session:
        """Begin a run of the program on the day that it is in the story."""
        noon = datetime.combine(self._today, time_of_day(12), UTC)
        return Session(
            stdin=io.BytesIO(stdin),
            stdout=stdout or self._out,
            stderr=self._err,
            clock=lambda: noon,
        )

    def _command(self, arguments: Sequence[str]) -> int:
        self._say(f"\n$ lean-tumbler {shlex.join(arguments)}")
        return self._run(list(arguments), self._session())

    def _answer(self, arguments: Sequence[str], *, stdin: bytes = b"") -> str:
        """Run a command and give what it prints."""
        output = io.StringIO()
        self._run(list(arguments), self._session(stdin=stdin, stdout=output))
        return output.getvalue().rstrip()

    def all(self) -> int:
        """Run every step; the first that fails ends the tour with its exit code."""
        started = time.monotonic()
        everybody = write_portal(self._folder)
        self._say("Coldharbour Ferries has taken over three small lines. All people are invented.")
        others = ", ".join(OTHER_STORES)
        self._say(f"{self._folder}/ now holds {DATABASE}, {POLICY}, {KNOWN}, {others}.")
        self._say(f"\n$ cd {shlex.quote(str(self._folder))}")
        with chdir(self._folder):
            self._find_and_judge()
            code = self._steps(steps.FIRST_STEPS)
            if code == 0:
                self._readers_first()
                code = self._steps(steps.STEPS) or self._steps([steps.GENERATIONS])
            if code == 0:
                code = self._what_remains()
            if code == 0:
                self._some_logins()
                self._half_year(everybody)
                code = self._keys_apart() or self._steps(steps.LAST_STEPS)
        if code == 0:
            self._say(
                f"\nDone in {time.monotonic() - started:.0f} s. Open {self._folder / REPORT}."
            )
            self._to_try()
        return code

    def _to_try(self) -> None:
        """Write the same data once more, and say what to type there."""
        untouched = self._folder / UNTOUCHED
        write_portal(untouched)
        self._say(
            "The same data stands there once more, as nobody has touched it. Try it by hand:\n"
        )
        activate = Path(sys.prefix) / "bin" / "activate"
        if shutil.which("lean-tumbler") is None and activate.exists():
            self._say(f"  . {shlex.quote(os.path.relpath(activate))}")
        self._say(f"  cd {shlex.quote(str(untouched))}")
        for arguments in steps.TO_TRY:
            self._say(f"  lean-tumbler {shlex.join(arguments)}")

    def _steps(self, chosen: "Sequence[steps.TourStep]") -> int:
        for title, why, *commands in chosen:
            self._heading(title, why)
            for arguments in commands:
                code = self._command(arguments)
                if code == 1 and arguments[0] == "tune":
                    self._say("This machine is too slow, or busy: the policy keeps its target.")
                elif code != 0 and (code, arguments[0]) != (1, "layer"):
                    return code  # 1 of `layer`: something waits until it is proven
        return 0

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
        self._say(f"\n{what}:")
        self._first_lines(["audit", *arguments])

    def _first_lines(self, arguments: Sequence[str]) -> None:
        """Run a command, and show what it says before its first empty line."""
        lines = self._answer(arguments).split("\n\n", 1)[0].splitlines()
        self._say(f"$ lean-tumbler {shlex.join(arguments)} | head -n {len(lines)}")
        for line in lines:
            self._say(line.rstrip())

    def _readers_first(self) -> None:
        """Observe before anything is written; until then a bulk step refuses."""
        self._heading(
            "Readers first",
            "Every program that checks passwords gets the new check, and observes for a while.",
        )
        self._command(["layer", "--store", "passengers", "--no-backup"])
        with Path(KNOWN).open(encoding="utf-8", newline="") as file:
            observed = [(row["login"], row["password"]) for row in csv.DictReader(file)]
        answers = Counter(
            self._answer(["admit", login], stdin=password.encode() + b"\n")
            for login, password in observed
        )
        self._say(f"\n{len(observed)} logins are observed; nothing is written:")
        for answer, times in answers.most_common():
            self._say(f"  {times:3}  {answer}")
        policy = Path(POLICY).read_text("utf-8")
        ready = f'mode = "upgrade"\nreaders_ready = {self._today}'
        write_text(Path(POLICY), _OBSERVING.sub(ready, policy))
        self._say(f"\nAll programs are ready. {POLICY} says so now:\n{ready}")
        self._command(["plan", "--store", "passengers", "--logins", SIGN_INS])

    def _what_remains(self) -> int:
        """Search what somebody forgot, clean up, and search again."""
        self._heading(
            "Find what remains elsewhere",
            "The column is clean. Does anything else still hold what it held?",
        )
        exactly = ("--backup", LAYERED, "--key", f"{RECOVERY}.private.pem")
        code = self._command(["residue", *FORGOTTEN, DATABASE, *exactly])
        self._say("\nTheir owners do so:")
        self._say(f"  rm {' '.join(FORGOTTEN)}")
        statements = f"PRAGMA secure_delete = ON; DROP TABLE {FORGOTTEN_TABLE}; VACUUM"
        self._say(f"  sqlite3 {DATABASE} '{statements}'")
        clean_up(Path(), DATABASE)
        code = code or self._command(["residue", DATABASE, *exactly])
        written = ("--format", "json", "--output", REMAINS)
        return code or self._command(["residue", DATABASE, *exactly, *written])

    def _some_logins(self) -> None:
        self._heading(
            "Log in",
            "Each login is checked against whatever is stored; what is not current is rewritten.",
        )
        with Path(KNOWN).open(encoding="utf-8", newline="") as file:
            known = [(row["login"], row["password"]) for row in csv.DictReader(file)]
        for place in SHOWN_LOGINS:
            login, password = known[place]
            self._say(f"\n$ grep ^{login}, {KNOWN} | cut -d, -f2 | lean-tumbler admit {login}")
            self._say(self._answer(["admit", login], stdin=password.encode() + b"\n"))
        self._say(f"\n$ echo guess | lean-tumbler admit {login}")
        self._say(self._answer(["admit", login], stdin=b"guess\n"))

    def _keys_apart(self) -> int:
        """Put a key over all values, replace it, and see a value that was moved."""
        code = 0
        for key, steps_of_key in steps.KEYS.items():
            code = code or self._steps([steps_of_key[0]])
            added = name_key(Path(POLICY), key)
            self._say(f"\n{POLICY} says so now:\n{added}")
            code = code or self._steps([steps_of_key[1]])
        self._heading(
            "See a value that was moved",
            "Somebody who can write to the table copies his own value over an administrator's.",
        )
        with Path(KNOWN).open(encoding="utf-8", newline="") as file:
            own = next(csv.DictReader(file))
        moved = move_value(Path(DATABASE), own["login"])
        self._say(f"$ sqlite3 {DATABASE} '{moved.statement}'")
        self._say(f"\n$ lean-tumbler admit {moved.login} < his-own-password")
        self._say(self._answer(["admit", moved.login], stdin=own["password"].encode() + b"\n"))
        self._say()
        self._first_lines(["audit", "passengers"])
        self._command(["keys", "check"])
        moved.put_back()
        self._say("\nThe administrator's own value is put back from last night's backup:")
        self._first_lines(["keys", "check"])
        return code

    def _half_year(self, everybody: Sequence[Person]) -> None:
        self._heading(
            "Half a year of logins",
            "Whoever comes back logs in here, for real, once: later logins would change nothing.",
        )
        coming = visits(everybody)
        for days in _LOOKED_AT:
            until = TAKEOVER + timedelta(days=days)
            some = [visit for visit in coming if self._today < visit.day <= until]
            self._log_in(some, until)
            self._today = until
            self._say()
            self._first_lines(["progress"])

    def _log_in(self, some: Sequence[Visit], until: date) -> None:
        """Let people log in, several at once, as they do."""

        def admit(attempt: tuple[str, str]) -> str:
            login, password = attempt
            return self._answer(["admit", login], stdin=password.encode() + b"\n")

        attempts = [(visit.login, password) for visit in some for password in visit.typed]
        with ThreadPoolExecutor(os.cpu_count() or 1) as executor:
            actions = Counter(executor.map(admit, attempts))
        note_seen(Path(DATABASE), some)
        self._say(f"\nUntil {until}, {len(some)} people in {len(attempts)} attempts:")
        for action, times in actions.most_common():
            self._say(f"  {times:3}  {action}")


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
