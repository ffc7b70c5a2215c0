"""Rows of two tables, of several kinds and with two columns of values: invented, of known truth."""

import hashlib
import random
import sqlite3
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from conftest import CHEAP_POLICY, Program, in_process
from lean_tumbler.core.schemes.catalogue import DERIVATIONS

__all__ = ["in_process"]
HEAD = CHEAP_POLICY.partition("[store.passengers]")[0]
KINDS = ("password", "token", "O'Brien 100%")


def slow(password: str, salt: str) -> str:
    raw = hashlib.sha256(salt.encode()).digest()[:16]
    costs = {"memory_kib": 256, "passes": 1, "lanes": 1}
    return DERIVATIONS["argon2id"].create(password.encode(), raw, costs)


@dataclass
class Invented:
    """A database of one store, and what opens each account.

    Attributes:
        draw: what it is drawn with.
        is_joined: whether logins stand in another table.
        has_kinds: whether each person has rows of several kinds, of which one is the store's.
        is_moving: whether a second column takes the place of the first.
        empties: whether the first is emptied.
        may_be_null: whether the columns may be NULL.
        passwords: login -> the password that opens it; the others are opened by none.
        doubled: rows with a value in both columns.
    """

    draw: random.Random
    is_joined: bool = False
    has_kinds: bool = False
    is_moving: bool = False
    empties: bool = False
    may_be_null: bool = True
    passwords: dict[str, str] = field(default_factory=dict)
    doubled: int = 0

    def values(self, login: str, password: str, salt: str) -> tuple[str | None, str | None]:
        """Draw what stands in the two columns, and note what opens the account."""
        nothing = self.draw.choice((None, "") if self.may_be_null else ("",))
        legacy = hashlib.md5((password + salt).encode()).hexdigest()
        old = self.draw.choice([legacy] * 6 + [slow(password, salt), "!", nothing])
        new = nothing
        if self.is_moving and self.draw.random() < 0.3:
            new = slow("new " + password, salt + "new")
        counted = new or old
        self.doubled += bool(new and old)
        if counted and counted != "!":
            self.passwords[login] = password if counted == old else "new " + password
        return old, new

    def write(self, path: Path) -> None:
        """Write the database."""
        null = "" if self.may_be_null else " NOT NULL"
        key = "person int, kind text" if self.has_kinds else "id int"
        names = "person, kind" if self.has_kinds else "id"
        login = "" if self.is_joined else ", login text"
        second = f", slow varchar(255){null}" if self.is_moving else ""
        owner = ", owner_id int" if self.is_joined and not self.has_kinds else ""
        with closing(sqlite3.connect(path)) as db, db:
            db.execute("CREATE TABLE people (nr INTEGER PRIMARY KEY, mail text, salt text)")
            db.execute(
                f"CREATE TABLE secrets ({key}{owner}{login}, salt text, pw text{null}{second},"
                f" PRIMARY KEY ({names}))"
            )
            for n in range(self.draw.randint(1, 30)):
                self.write_person(db, n)

    def write_person(self, db: sqlite3.Connection, n: int) -> None:
        mail, number, salt = f"crew{n}@tidepost.example", 1000 - 7 * n, f"s{n}"
        if self.is_joined:
            db.execute("INSERT INTO people VALUES (?, ?, ?)", (number, mail, "another salt"))
        for kind in KINDS if self.has_kinds else KINDS[:1]:
            old, new = f"{kind} {n}", f"another {kind}" if self.may_be_null else ""
            if kind == KINDS[self.wanted_kind]:
                old, new = self.values(mail, f"Fulmar {n}", salt)  # type: ignore[assignment]
            row: list[object] = [number, kind] if self.has_kinds else [n]
            row += [number] if self.is_joined and not self.has_kinds else []
            row += [] if self.is_joined else [mail if kind == KINDS[self.wanted_kind] else kind]
            row += [salt, old] + ([new] if self.is_moving else [])
            db.execute(f"INSERT INTO secrets VALUES ({', '.join('?' * len(row))})", row)

    @property
    def wanted_kind(self) -> int:
        return 2 if self.has_kinds else 0

    def policy(self) -> str:
        lines = ["[store.crew]", 'locator = "crew.db"', 'table = "secrets"']
        lines += ["readers_ready = 2026-01-01"]
        if self.is_joined:
            by = "person" if self.has_kinds else "owner_id"
            lines += [f'join = {{ table = "people", key = "nr", by = "{by}" }}']
        lines += ["[store.crew.columns]", 'stored = "pw"', 'salt = "salt"']
        lines += [f'login = "{"people.mail" if self.is_joined else "login"}"']
        if self.is_moving:
            told = str(self.empties).lower()
            lines += [f'write_to = {{ column = "slow", empty_stored = {told} }}']
        if self.has_kinds:
            lines += ["[store.crew.rows]", 'when = "kind in (\\"O\'Brien 100%\\", \\"none\\")"']
        lines += [
            "[[store.crew.cohort]]",
            'name = "log"',
            'formula = "utf-8, append salt, md5, hex"',
        ]
        return "\n".join([HEAD, *lines])


def rows_of(path: Path) -> list[tuple[object, ...]]:
    with closing(sqlite3.connect(path)) as db:
        return sorted(db.execute("SELECT * FROM secrets"), key=repr)


def others_of(rows: list[tuple[object, ...]], made: Invented) -> list[tuple[object, ...]]:
    """The rows that are not the store's."""
    return [row for row in rows if made.has_kinds and KINDS[made.wanted_kind] not in row]


@pytest.mark.parametrize("seed", range(12))
def test_nobody_is_lost_between_tables_kinds_and_columns(
    seed: int, tmp_path: Path, in_process: Program
) -> None:
    """Whoever could log in can after each step, others cannot; undone rows are what they were."""
    draw = random.Random(seed)
    made = Invented(
        draw,
        is_joined=draw.random() < 0.5,
        has_kinds=draw.random() < 0.5,
        is_moving=draw.random() < 0.7,
        empties=draw.random() < 0.5,
        may_be_null=draw.random() < 0.5,
    )
    made.write(tmp_path / "crew.db")
    (tmp_path / "tumbler.toml").write_text(made.policy())
    known = "".join(f"{login},{word}\n" for login, word in made.passwords.items())
    (tmp_path / "known.csv").write_text(f"login,password\n{known}")

    def everybody_opens() -> None:
        if made.passwords:
            found = in_process(
                "verify", "known.csv", "--store", "crew", "--format", "json"
            ).document
            assert found["accepted"] == len(made.passwords), found

    before = rows_of(tmp_path / "crew.db")
    everybody_opens()
    in_process("keys", "new", "k")
    sealed = ("--backup", "b.sealed", "--to", "k.public.pem")
    layered = in_process("layer", "--unproven", "log", *sealed, "--format", "json")
    assert layered.document["failed"] == 0
    everybody_opens()
    after = rows_of(tmp_path / "crew.db")
    assert others_of(after, made) == others_of(before, made)
    plan = in_process("plan", "--format", "json").document
    move = plan["column_move"]
    assert (move is not None) is made.is_moving
    if move is not None:
        assert move["waiting"] == 0
        assert move["doubled"] == made.doubled if made.empties else True
    in_process("undo", "b.sealed", "--key", "k.private.pem")
    restored = rows_of(tmp_path / "crew.db")
    assert [as_it_counts(row) for row in restored] == [as_it_counts(row) for row in before]
    everybody_opens()
    in_process("layer", "--no-backup", "--unproven", "log")
    for login, word in list(made.passwords.items())[:3]:
        assert in_process("admit", login, stdin=word.encode() + b"\n").code == 0
        assert in_process("admit", login, stdin=b"another\n").code == 1
    everybody_opens()
    assert others_of(rows_of(tmp_path / "crew.db"), made) == others_of(before, made)


def as_it_counts(row: tuple[object, ...]) -> tuple[object, ...]:
    """A row, whether nothing stands there as NULL or as the empty text."""
    return tuple(value or "" for value in row)


def view_of(folder: Path, account: str) -> None:
    """A table with a key of two columns and logins that repeat, and a view of some of its rows."""
    with closing(sqlite3.connect(folder / "crew.db")) as db, db:
        db.execute(
            "CREATE TABLE seats (ship text, seat int, login text, pw text, salt text,"
            " PRIMARY KEY (ship, seat))"
        )
        db.execute("CREATE VIEW auks AS SELECT * FROM seats WHERE ship = 'Auk'")
        for ship in ("Auk", "Gannet"):
            for n in range(6):
                text = hashlib.md5(f"Fulmar {n}s{n}".encode()).hexdigest()
                row = (ship, n, f"u{n}@tidepost.example", text, f"s{n}")
                db.execute("INSERT INTO seats VALUES (?, ?, ?, ?, ?)", row)
    text = f"""{HEAD}
[store.crew]
locator = "crew.db"
table = "auks"
readers_ready = 2026-01-01
[store.crew.columns]
account = {account}
login = "login"
stored = "pw"
salt = "salt"
[[store.crew.cohort]]
name = "log"
formula = "utf-8, append salt, md5, hex"
"""
    (folder / "tumbler.toml").write_text(text)
    known = "".join(f"u{n}@tidepost.example,Fulmar {n}\n" for n in range(6))
    (folder / "known.csv").write_text(f"login,password\n{known}")


@pytest.mark.parametrize("account", ['"seat"', '["ship", "seat"]'])
def test_a_view_is_read_and_never_written(
    account: str, tmp_path: Path, in_process: Program
) -> None:
    """Audit, proof and plan work on its rows; a step that writes names the table instead."""
    view_of(tmp_path, account)
    audit = in_process("audit", "crew.db", "--table", "auks", "--format", "json").document
    assert audit["rows"] == 6
    assert in_process("verify", "known.csv", "--store", "crew").code == 0
    assert "6 of 6 rows" in in_process("plan").out
    refused = in_process("layer", "--no-backup")
    assert refused.code == 2
    assert "is a view, and views are only read; to write, name its table" in refused.err


def test_a_key_of_several_columns_may_be_named(tmp_path: Path, in_process: Program) -> None:
    """Rows of one key's part share it; each is written alone, and found by its JSON list."""
    view_of(tmp_path, '["ship", "seat"]')
    policy = (tmp_path / "tumbler.toml").read_text()
    changed = policy.replace('"auks"', '"seats"').replace(
        "[store.crew.columns]",
        "[store.crew.rows]\nwhen = 'ship = \"Gannet\"'\n[store.crew.columns]",
    )
    (tmp_path / "tumbler.toml").write_text(changed)
    assert in_process("verify", "known.csv", "--store", "crew").code == 0
    assert in_process("layer", "--no-backup").code == 0
    with closing(sqlite3.connect(tmp_path / "crew.db")) as db:
        counted = dict(db.execute("SELECT ship, sum(pw LIKE '$%') FROM seats GROUP BY ship"))
    assert counted == {"Auk": 0, "Gannet": 6}
    explained = in_process("explain", "--store", "crew", "--account", '["Gannet", 3]')
    assert explained.code == 0
    assert "argon2id over log" in explained.out
    assert in_process("explain", "--store", "crew", "--account", "3").code == 2
