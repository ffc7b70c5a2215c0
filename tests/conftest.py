"""What the tests share: the built program, a small store, and programs used as oracles."""

import atexit
import fcntl
import hashlib
import io
import json
import os
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import Any

import bcrypt
import jsonschema_rs
import pytest
from hypothesis import settings

from lean_tumbler.cli.main import run
from lean_tumbler.cli.session import Session
from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.reading.evidence import CohortKey
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.row_plans import RowPlan, plan_row
from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.stores.evidence_file import CohortTrial, EvidenceFile, Shown
from warm_program import Running, WarmProgram

PROGRAM = Path(sys.executable).with_name("lean-tumbler")
DATA = Path(__file__).with_name("data")
SCHEMAS = Path(__file__).parent.parent / "docs" / "schemas"

# Runs explore anew each time; in CI the examples are the same, so that a result can be repeated.
settings.register_profile(
    "project",
    deadline=None,
    print_blob=True,
    derandomize=bool(os.environ.get("CI")),
)
settings.load_profile("project")

# Programs that are started compile their modules once, and not each time.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
os.environ.pop("COLUMNS", None)  # who runs tests in parallel sets it, and results in pipes obey it
_WARM = WarmProgram()
atexit.register(_WARM.close)

# A target that costs a millisecond, and a floor lowered to it.
CHEAP_POLICY = """\
[target]
scheme = "argon2id"
memory_kib = 256
passes = 1
lanes = 1

[floor]
argon2id = { memory_kib = 256, passes = 1 }

[store.passengers]
locator = "sqlite:///harbour.db"
table = "passengers"
readers_ready = 2026-01-01

[store.passengers.columns]
account = "id"
login = "email"
stored = "pw"
salt = "pw_salt"
privileged = "is_admin"

[[store.passengers.cohort]]
name = "portal-2004"
formula = "utf-8, md5, hex"

[[store.passengers.cohort]]
name = "portal-2011"
formula = "utf-8, append salt, sha1, hex"

[[store.passengers.cohort]]
name = "clerks"
plain_text = true
"""


@dataclass(frozen=True)
class Finished:
    """What a run of the program gave."""

    code: int
    out: str
    err: str

    @property
    def document(self) -> dict[str, Any]:
        """Read what was printed as JSON; each document is as its schema in docs/schemas says."""
        document: dict[str, Any] = json.loads(self.out)
        if "document" in document:  # SARIF has a schema of its own
            _schema(document["document"].split("/")[1]).validate(document)
        return document


@cache
def _schema(name: str) -> jsonschema_rs.Draft202012Validator:
    text = (SCHEMAS / f"{name}.json").read_text("utf-8")
    return jsonschema_rs.Draft202012Validator(json.loads(text))


Program = Callable[..., Finished]


def run_program(*arguments: str, cwd: Path, stdin: bytes = b"", timeout: float = 120) -> Finished:
    """Run the program as a user would, in a process of its own whose imports are done."""
    running = _WARM.start(arguments, cwd=cwd, stdin=stdin)
    out, err = running.communicate(timeout)
    return Finished(running.wait(), out.decode(), err.decode())


def start_program(*arguments: str, cwd: Path) -> Running:
    """Start the program likewise, and let it run."""
    return _WARM.start(arguments, cwd=cwd)


def run_built_program(*arguments: str, cwd: Path, stdin: bytes = b"") -> Finished:
    """Run the built program from its very start."""
    finished = subprocess.run(
        [str(PROGRAM), *arguments], cwd=cwd, input=stdin, capture_output=True, check=False
    )
    return Finished(finished.returncode, finished.stdout.decode(), finished.stderr.decode())


def run_in_process(
    *arguments: str, stdin: bytes = b"", clock: Callable[[], datetime] | None = None
) -> Finished:
    """Run the program's own entry in this process: quicker where many runs are needed."""
    out, err = io.StringIO(), io.StringIO()
    session = Session(stdin=io.BytesIO(stdin), stdout=out, stderr=err)
    if clock is not None:
        session.clock = clock
    try:
        code = run(arguments, session)
    except SystemExit as error:
        code = int(error.code or 0)
    return Finished(code, out.getvalue(), err.getvalue())


@pytest.fixture
def program(tmp_path: Path) -> Program:
    """Give the built program, running in the test's own folder."""

    def run(*arguments: str, stdin: bytes = b"", timeout: float = 120) -> Finished:
        return run_program(*arguments, cwd=tmp_path, stdin=stdin, timeout=timeout)

    return run


@pytest.fixture
def in_process(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Program:
    """Give the program's entry in this process, in the test's own folder: for many short runs."""
    monkeypatch.chdir(tmp_path)

    def run(*arguments: str, stdin: bytes = b"", timeout: float = 0) -> Finished:
        del timeout
        return run_in_process(*arguments, stdin=stdin)

    return run


def _derive(scheme: str, password: str, seed: int, **parameters: int) -> str:
    salt = hashlib.sha256(b"test salt %d" % seed).digest()[:16]
    return DERIVATIONS[scheme].create(password.encode(), salt, parameters)


def stored_value(cohort: str, password: str, seed: int) -> tuple[str | None, str | None]:
    """Compute a stored value and its salt column, by other means than the project's formulas."""
    if cohort == "plain":
        return password, None
    if cohort == "md5":
        return hashlib.md5(password.encode()).hexdigest(), None
    if cohort == "sha1":
        salt = f"{seed:08x}"
        return hashlib.sha1((password + salt).encode()).hexdigest(), salt
    if cohort == "bcrypt":
        return bcrypt.hashpw(password.encode(), bcrypt.gensalt(4)).decode(), None
    if cohort == "weak-argon2":
        return _derive("argon2id", password, seed, memory_kib=64, passes=1, lanes=1), None
    if cohort == "current":
        return _derive("argon2id", password, seed, memory_kib=256, passes=1, lanes=1), None
    return {"locked": "!", "empty": "", "null": None}[cohort], None


OPENABLE = ("plain", "md5", "sha1", "bcrypt", "weak-argon2", "current")


@dataclass(frozen=True)
class Passenger:
    """One row of the test store, with what opens it."""

    number: int
    login: str
    password: str = field(repr=False)
    cohort: str
    stored: str | None = field(repr=False)
    salt: str | None


@dataclass(frozen=True)
class Portal:
    """A folder with a database, its policy and a file of known accounts."""

    folder: Path
    passengers: tuple[Passenger, ...]

    @property
    def database(self) -> Path:
        return self.folder / "harbour.db"

    def stored(self) -> dict[int, str | None]:
        """Read what the column holds now."""
        with closing(sqlite3.connect(self.database)) as connection:
            return dict(connection.execute("SELECT id, pw FROM passengers"))

    @property
    def openable(self) -> list[Passenger]:
        return [passenger for passenger in self.passengers if passenger.cohort in OPENABLE]


def make_portal(folder: Path, cohorts: Sequence[str]) -> Portal:
    """Write a store with one passenger for each cohort named."""
    passengers = []
    for number, cohort in enumerate(cohorts, start=1):
        password = f"{('Möwe', 'Gannet', 'Skua')[number % 3]}{number * 37} {cohort}!"
        stored, salt = stored_value(cohort, password, number)
        login = f"passenger{number}@tidepost.example"
        passengers.append(Passenger(number, login, password, cohort, stored, salt))
    with closing(sqlite3.connect(folder / "harbour.db")) as connection, connection:
        connection.execute(
            "CREATE TABLE passengers (id INTEGER PRIMARY KEY, email TEXT, pw TEXT, pw_salt TEXT,"
            " is_admin INTEGER)"
        )
        connection.executemany(
            "INSERT INTO passengers VALUES (?, ?, ?, ?, ?)",
            [
                (row.number, row.login, row.stored, row.salt, int(row.number % 10 == 1))
                for row in passengers
            ],
        )
    (folder / "tumbler.toml").write_text(CHEAP_POLICY)
    prove(folder, StoragePolicy.from_toml(CHEAP_POLICY))
    portal = Portal(folder, tuple(passengers))
    known = "".join(f"{row.login},{row.password}\n" for row in portal.openable)
    (folder / "known.csv").write_text("login,password\n" + known)
    return portal


def planned(
    stored: bytes | None,
    salt: bytes | None = None,
    *,
    policy: StoragePolicy,
    login: str = "ada",
) -> RowPlan:
    """Plan one row of the store as the bulk step does."""
    reader = store_reader(policy, policy.stores["passengers"])
    return plan_row(reader.read(Row(stored=stored, salt=salt, login=login)), policy)


def prove(folder: Path, policy: StoragePolicy) -> None:
    """Note that known accounts have opened each cohort, as `verify` would: enough of any cohort."""
    proven = [
        CohortTrial(
            store=name,
            key=CohortKey(name, cohort.name, cohort.identity),
            login=f"known {number}",
            right=True,
        )
        for name, store in policy.stores.items()
        for cohort in store.cohorts
        for number in range(20)
    ]
    EvidenceFile.beside(folder / "tumbler.toml").note(Shown.KNOWN, proven)


@pytest.fixture
def portal(tmp_path: Path) -> Portal:
    """Give a store with three passengers of every cohort."""
    return make_portal(tmp_path, [*OPENABLE, "locked", "empty", "null"] * 3)


def oracle(name: str) -> str:
    """Give the path of a program used as oracle; skip without it, and fail in CI."""
    found = shutil.which(name)
    if found is None:
        missing(f"the program {name}")
    return found or ""


def missing(what: str) -> None:
    """Skip a test that lacks something; in CI that is a failure."""
    if os.environ.get("CI"):
        pytest.fail(f"{what} is not installed; tests/programs.sh installs it")
    pytest.skip(f"{what} is not installed")


def made_once(folders: pytest.TempPathFactory, name: str, make: Callable[[Path], object]) -> Path:
    """Make a folder once for all workers: the first makes it, the others wait, and share it."""
    base = folders.getbasetemp()
    if "PYTEST_XDIST_WORKER" in os.environ:
        base = base.parent
    folder = base / name
    with (base / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not folder.exists():
            unfinished = folders.mktemp(name)
            make(unfinished)
            unfinished.rename(folder)
    return folder


@pytest.fixture(scope="session")
def foreign_values() -> list[dict[str, str]]:
    """Give stored values made by other programs, with their passwords."""
    values: list[dict[str, str]] = json.loads((DATA / "foreign-values.json").read_text("utf-8"))[
        "values"
    ]
    return values
