"""`explain` of rows: the newest ones, and what was typed or stored in another row's place."""

import sqlite3
from contextlib import closing
from pathlib import Path

import bcrypt
import pytest

from conftest import CHEAP_POLICY, Program
from lean_tumbler.core.reading.slow_misses import MOST_DERIVATIONS

_TABLE = "CREATE TABLE passengers ({key}, email TEXT, pw TEXT, pw_salt TEXT, is_admin INTEGER, created_on TEXT)"
PASSWORDS = {
    "ann": "alpha one",
    "bob": "bravo two",
    "eva": "Möwe im Hafen".encode().decode("latin-1"),
    "finn": "a long password th",
    "gus": "gus@coldharbour.example",
    "hal": "undefined",
    "ida": "ida",
}


def _store(folder: Path, *, key: str = "id INTEGER PRIMARY KEY", created: bool = False) -> None:
    policy = CHEAP_POLICY
    if created:
        policy = policy.replace('account = "id"', 'account = "id"\ncreated = "created_on"')
    (folder / "tumbler.toml").write_text(policy)
    with closing(sqlite3.connect(folder / "harbour.db")) as connection, connection:
        connection.execute(_TABLE.format(key=key))
        for number, (name, hashed) in enumerate(PASSWORDS.items(), start=1):
            stored = bcrypt.hashpw(hashed.encode(), bcrypt.gensalt(4)).decode()
            row = (number if "INTEGER" in key else f"{97 * number % 7}{name}",
                   f"{name}@coldharbour.example", stored, f"2026-10-{20 - number}")  # fmt: skip
            connection.execute("INSERT INTO passengers VALUES (?, ?, ?, NULL, 0, ?)", row)


@pytest.mark.parametrize(
    ("login", "typed", "says"),
    [
        ("ann", "bravo two", "it opens the row of another account nearby"),
        ("eva", "Möwe im Hafen", "it fits after one change: in UTF-8 twice over; formula: “double-utf-8, then bcrypt”"),
        ("finn", "a long password that was cut", "cut to 18 characters; formula: “first 18, then bcrypt”"),
        ("gus", "golf", "it fits the login, which was hashed in the password's place; reset it"),
        ("hal", "hotel", "it fits “undefined”, which was hashed in the password's place; reset it"),
        ("ida", "india", "it fits the login up to its @, which was hashed in the password's place"),
        ("bob", "quite another", "no known transformation fits"),
    ],
)  # fmt: skip
def test_what_was_hashed_in_place_of_a_password(
    tmp_path: Path, in_process: Program, login: str, typed: str, says: str
) -> None:
    """The row of somebody else, the login, a word for nothing, a cut, a wrong encoding: named."""
    _store(tmp_path)
    done = in_process(
        "explain", "--login", f"{login}@coldharbour.example", "--check", stdin=typed.encode()
    )
    text = " ".join(done.out.split())
    assert done.code == 1
    assert text.startswith("The password does not open it: ")
    assert says in text
    assert "ann@" not in text.partition("Account")[0]


def test_the_newest_rows(tmp_path: Path, in_process: Program) -> None:
    """The highest keys; or the latest days, where a column says when; else nobody knows."""
    _store(tmp_path)
    assert in_process("explain", "--newest").out.startswith("Account 7 of passengers: bcrypt")
    three = in_process("explain", "--newest", "3").out
    assert [n for n in range(1, 8) if f"Account {n} of" in three] == [5, 6, 7]
    assert in_process("explain", "--newest", "--login", "x").code == 2


def test_the_newest_rows_by_day(tmp_path: Path, in_process: Program) -> None:
    """A column that says when rows were written decides."""
    _store(tmp_path, created=True)
    assert in_process("explain", "--newest").out.startswith("Account 1 of passengers: bcrypt")


def test_keys_without_an_order(tmp_path: Path, in_process: Program) -> None:
    """Names say nothing of when; the message says what would."""
    _store(tmp_path, key="id TEXT PRIMARY KEY")
    done = in_process("explain", "--newest")
    assert done.code == 2
    assert "name the column that says when as “created”" in done.err


def test_a_long_file_of_refused_accounts_ends(
    tmp_path: Path, in_process: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whatever is tried in a password's place takes from the derivations of the run, too."""
    derived = 0
    hashed = bcrypt.hashpw

    def counted(secret: bytes, salt: bytes) -> bytes:
        nonlocal derived
        derived += 1
        return hashed(secret, salt)

    stored = hashed(b"tern", bcrypt.gensalt(4)).decode()
    people = [f"p{n}@coldharbour.example,no such {n},{stored}" for n in range(60)]
    (tmp_path / "known.csv").write_text("\n".join(["login,password,stored", *people]) + "\n")
    (tmp_path / "tumbler.toml").write_text(CHEAP_POLICY)
    monkeypatch.setattr(bcrypt, "hashpw", counted)
    out = in_process("verify", "known.csv").out
    assert "the derivations for near misses are spent" in " ".join(out.split())
    assert derived <= MOST_DERIVATIONS + 2 * len(people)
