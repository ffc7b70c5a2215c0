"""The booking desk: generations told apart by a date, or by nothing, and a layout of its own."""

import base64
import hashlib
import random
import sqlite3
from collections.abc import Callable, Sequence
from contextlib import closing
from datetime import date, timedelta
from pathlib import Path

from msgspec import Struct

from lean_tumbler.demo.people import SEED, Person, people
from lean_tumbler.stores.file_access import write_text

BOOKINGS, BOOKINGS_POLICY, BOOKINGS_KNOWN = "bookings.db", "bookings.toml", "bookings-known.csv"
_EVIDENCE = "bookings.evidence.json"
BOOKINGS_FILES = (BOOKINGS, BOOKINGS_POLICY, BOOKINGS_KNOWN, _EVIDENCE)

POLICY_TEXT = """\
# Coldharbour Ferries: the booking desk. Invented data.

[target]
scheme = "argon2id"
memory_kib = 19456
passes = 2
lanes = 1

[store.desk]
locator = "sqlite:///bookings.db"
table = "customers"
readers_ready = 2026-05-01            # the desk's one program has the new check

[store.desk.columns]
account = "number"
login = "mail"
stored = "code"
salt = "code_salt"
created = "since"

[[store.desk.cohort]]
name = "desk-2003"
formula = "utf-8, md5, hex"
when = "created before 2009-07-01"

[[store.desk.cohort]]
name = "desk-2009"
formula = "utf-8, append salt, md5, hex"
when = "created from 2009-07-01"

[[store.desk.cohort]]
name = "skerry-desk"                  # nothing tells these two apart
formula = "utf-8, sha1, hex"

[[store.desk.cohort]]
name = "lantern-desk"
formula = "utf-8, prepend login:lower, sha1, hex"

[[store.desk.cohort]]
name = "terminals"
layout = "{salt:base64}/{rounds}/{digest:hex}"
formula = "utf-8, pbkdf2-sha1 rounds 20 salt, hex"
"""

_CREATE = """\
CREATE TABLE customers (
    number INTEGER PRIMARY KEY,
    mail TEXT NOT NULL UNIQUE,
    code TEXT,
    code_salt TEXT,
    since TEXT
)
"""
_CHANGE = date(2009, 7, 1)
_KNOWN_OF_EACH = 10

Stored = tuple[str, str | None]


def _md5(person: Person, _: random.Random) -> Stored:
    return hashlib.md5(person.password.encode(), usedforsecurity=False).hexdigest(), ""


def _salted_md5(person: Person, chance: random.Random) -> Stored:
    salt = chance.randbytes(5).hex()
    digest = hashlib.md5((person.password + salt).encode(), usedforsecurity=False)
    return digest.hexdigest(), salt


def _sha1(person: Person, _: random.Random) -> Stored:
    return hashlib.sha1(person.password.encode(), usedforsecurity=False).hexdigest(), None


def _sha1_of_login(person: Person, _: random.Random) -> Stored:
    text = person.login.lower() + person.password
    return hashlib.sha1(text.encode(), usedforsecurity=False).hexdigest(), None


def _terminal(person: Person, chance: random.Random) -> Stored:
    rounds, salt = chance.choice([50, 100]), chance.randbytes(8)
    raw = hashlib.pbkdf2_hmac("sha1", person.password.encode(), salt, rounds, 20)
    return f"{base64.b64encode(salt).decode()}/{rounds}/{raw.hex()}", None


class _Generation(Struct, frozen=True):
    rows: int
    store: Callable[[Person, random.Random], Stored]
    first: date
    days: int


_GENERATIONS: Sequence[_Generation] = (
    _Generation(24, _md5, date(2003, 3, 1), (_CHANGE - date(2003, 3, 1)).days),
    _Generation(30, _salted_md5, _CHANGE, 1500),
    _Generation(14, _sha1, date(2012, 5, 1), 900),
    _Generation(14, _sha1_of_login, date(2012, 5, 1), 900),
    _Generation(12, _terminal, date(2015, 1, 1), 700),
)


def write_bookings(folder: Path) -> None:
    """Write the booking desk's database, its policy and a file of known accounts.

    Args:
        folder: where the demo's files are.
    """
    chance = random.Random(SEED + 2)  # noqa: S311 - invented data, the same at every run
    everybody = list(people(sum(g.rows for g in _GENERATIONS), administrators=frozenset()))
    chance.shuffle(everybody)
    remaining = iter(everybody)
    rows, known = [], ["login,password"]
    for generation in _GENERATIONS:
        for place in range(generation.rows):
            person = next(remaining)
            stored, salt = generation.store(person, chance)
            since = generation.first + timedelta(days=chance.randrange(generation.days))
            rows.append((person.login, stored, salt, since.isoformat()))
            if place < _KNOWN_OF_EACH:
                known.append(f"{person.login},{person.password}")
    chance.shuffle(rows)
    for name in (BOOKINGS, _EVIDENCE):
        (folder / name).unlink(missing_ok=True)
    with closing(sqlite3.connect(folder / BOOKINGS)) as connection, connection:
        connection.execute(_CREATE)
        connection.executemany(
            "INSERT INTO customers (mail, code, code_salt, since) VALUES (?, ?, ?, ?)", rows
        )
    (folder / BOOKINGS).chmod(0o600)
    write_text(folder / BOOKINGS_POLICY, POLICY_TEXT)
    write_text(folder / BOOKINGS_KNOWN, "\n".join(known) + "\n")
