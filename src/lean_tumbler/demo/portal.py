"""The passenger portal: five generations of registration code in one table."""

import hashlib
import random
import sqlite3
from collections.abc import Callable
from contextlib import closing
from operator import itemgetter
from pathlib import Path

from msgspec import Struct

from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.demo.bookings import BOOKINGS_FILES, write_bookings
from lean_tumbler.demo.forgotten import FORGOTTEN, write_forgotten
from lean_tumbler.demo.keys_apart import KEY_FILES, REKEYED
from lean_tumbler.demo.other_stores import AGENTS_KNOWN, OTHER_STORES, write_other_stores
from lean_tumbler.demo.people import SEED, Person, people, sign_ins
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.file_access import file_errors, write_text

DATABASE = "harbour.db"
POLICY = "tumbler.toml"
KNOWN = "known.csv"
KNOWN_FEW = "known-few.csv"  # for a rehearsal that is over in seconds
SIGN_INS = "sign-ins.csv"
_FEW_EVERY = 5
# What the tour's commands write.
RECOVERY, LOCKED, RESET = "recovery", "lock-1.sealed", "reset.csv"
LAYERED = "layer-1.sealed"
GATE, REPORT, REMAINS = "gate.state", "report.html", "residue.json"
UNTOUCHED = "untouched"  # the folder of a second copy
_EVIDENCE = "tumbler.evidence.json"
_MADE = frozenset(
    {
        _EVIDENCE,
        f"{RECOVERY}.private.pem",
        f"{RECOVERY}.public.pem",
        f"{Path(POLICY).stem}.history.jsonl",
        *KEY_FILES,
        *(REKEYED.format(number) for number in (1, 2)),
        LAYERED,
        LOCKED,
        RESET,
        GATE,
        REPORT,
        REMAINS,
    }
)
_WRITTEN = frozenset(
    {
        DATABASE,
        POLICY,
        KNOWN,
        KNOWN_FEW,
        SIGN_INS,
        f"{DATABASE}-journal",
        AGENTS_KNOWN,
        *OTHER_STORES,
        *BOOKINGS_FILES,
        *FORGOTTEN,
    }
)

POLICY_TEXT = """\
# Coldharbour Ferries: the passenger portal. Invented data.

[target]
scheme = "argon2id"
memory_kib = 19456
passes = 2
lanes = 1

[store.passengers]
locator = "sqlite:///harbour.db"      # relative to this file
table = "passengers"
mode = "observe"                      # until every program that checks passwords is ready

[store.passengers.columns]
account = "id"
login = "email"
stored = "pw"
salt = "pw_salt"
last_login = "seen_on"
privileged = "is_admin"

[[store.passengers.cohort]]
name = "portal-2004"
formula = "utf-8, md5, hex"

[[store.passengers.cohort]]
name = "portal-2011"
formula = "utf-8, append salt, sha1, hex"

[[store.passengers.cohort]]
name = "clerks"                       # twelve rows that a booking clerk typed in
plain_text = true
"""

_SCHEMA = """\
CREATE TABLE passengers (
    id INTEGER PRIMARY KEY,
    email TEXT NOT NULL UNIQUE,
    full_name TEXT NOT NULL,
    pw TEXT,
    pw_salt TEXT,
    is_admin INTEGER NOT NULL DEFAULT 0,
    seen_on TEXT
)
"""

Stored = tuple[str | None, str | None]


def _plain_text(person: Person, _: random.Random) -> Stored:
    return person.password, None


def _md5(person: Person, _: random.Random) -> Stored:
    digest = hashlib.md5(person.password.encode(), usedforsecurity=False)
    return digest.hexdigest(), None


def _salted_sha1(person: Person, chance: random.Random) -> Stored:
    salt = chance.randbytes(4).hex()
    digest = hashlib.sha1((person.password + salt).encode(), usedforsecurity=False)
    return digest.hexdigest(), salt


def _derived(scheme: str, **parameters: int) -> Callable[[Person, random.Random], Stored]:
    derivation = DERIVATIONS[scheme]

    def stored(person: Person, chance: random.Random) -> Stored:
        salt = chance.randbytes(derivation.salt_bytes)
        return derivation.create(person.password.encode(), salt, parameters), None

    return stored


def _locked(_: Person, __: random.Random) -> Stored:
    return "!", None


def _nothing(_: Person, __: random.Random) -> Stored:
    return None, None


class _Cohort(Struct, frozen=True):
    rows: int
    store: Callable[[Person, random.Random], Stored]
    administrators: int = 0
    known: int = 0


COHORTS = (
    _Cohort(12, _plain_text, administrators=1, known=3),
    _Cohort(150, _md5, administrators=2, known=15),
    _Cohort(223, _salted_sha1, administrators=2, known=16),
    _Cohort(62, _derived("bcrypt", cost_log2=5), administrators=1, known=6),
    _Cohort(45, _derived("argon2id", memory_kib=19456, passes=2, lanes=1), 1, 5),
    _Cohort(5, _locked),
    _Cohort(3, _nothing),
)


def write_portal(folder: Path) -> list[Person]:
    """Write the portal's database, its policy, a file of known accounts and the other stores.

    Args:
        folder: made where it is not there; may hold an earlier demo, but nothing else.

    Returns:
        Everybody with an account, in no order.

    Raises:
        UsageError: the folder holds something else.
        SourceError: it cannot be written.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        strangers = sorted({path.name for path in folder.iterdir()} - _MADE - _WRITTEN)
    except OSError as error:
        raise UsageError(f"{folder}: {error.strerror or 'cannot be made'}") from None
    if strangers:
        raise UsageError(f"{folder}: holds other files; name an empty folder with --into")
    for name in _MADE:
        with file_errors(folder / name, otherwise="cannot be removed"):
            (folder / name).unlink(missing_ok=True)
    total = sum(cohort.rows for cohort in COHORTS)
    everybody = list(people(total, administrators=_administrators()))
    known = _write_database(folder / DATABASE, everybody)
    write_other_stores(folder, DATABASE)
    write_bookings(folder)
    write_forgotten(folder, DATABASE)
    write_text(folder / POLICY, POLICY_TEXT)
    lines = [f"{person.login},{person.password}" for person in known]
    for name, some in ((KNOWN, lines), (KNOWN_FEW, lines[::_FEW_EVERY])):
        write_text(folder / name, "\n".join(["login,password", *some]) + "\n")
    typed = [f"{login},{day}" for login, day in sorted(sign_ins(everybody), key=itemgetter(1, 0))]
    write_text(folder / SIGN_INS, "\n".join(["login,day", *typed]) + "\n")
    return everybody


def _administrators() -> frozenset[int]:
    """The first of each cohort, as many as it has."""
    positions: set[int] = set()
    start = 0
    for cohort in COHORTS:
        positions.update(range(start, start + cohort.administrators))
        start += cohort.rows
    return frozenset(positions)


def _write_database(path: Path, everybody: list[Person]) -> list[Person]:
    """Write all rows in random order of their numbers; give the known accounts."""
    chance = random.Random(SEED)  # noqa: S311 - invented data, the same at every run
    numbers = chance.sample(range(1, len(everybody) + 1), len(everybody))
    rows: list[tuple[object, ...]] = []
    known: list[Person] = []
    remaining = iter(zip(numbers, everybody, strict=True))
    for cohort in COHORTS:
        for position in range(cohort.rows):
            number, person = next(remaining)
            seen_on = person.last_login.isoformat() if person.last_login else None
            stored, salt = cohort.store(person, chance)
            rows.append(
                (number, person.login, person.name, stored, salt, person.administrator, seen_on)
            )
            if position < cohort.known:
                known.append(person)
    try:
        path.unlink(missing_ok=True)
        with closing(sqlite3.connect(path)) as connection, connection:
            connection.execute(_SCHEMA)
            connection.executemany("INSERT INTO passengers VALUES (?, ?, ?, ?, ?, ?, ?)", rows)
        path.chmod(0o600)
    except (OSError, sqlite3.Error):
        raise SourceError(f"{path}: cannot be written") from None
    return known
