"""Kinds of credentials: passwords are found whatever they are called, and nothing else is one."""

import hashlib
import json
import sqlite3
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

import pytest

from conftest import Program
from invented.columns import NOTHING, kinds_told, write_schema
from lean_tumbler.core.audit.kinds import RULES_OF_KINDS, CredentialKind, Keeping, kind_by_names


@pytest.mark.parametrize("seed", range(0, 200, 17))
def test_an_invented_schema_is_told_rightly(seed: int, tmp_path: Path) -> None:
    """Each column by its truth; the benchmark `kinds` runs all seeds."""
    truth = write_schema(tmp_path / "schema.db", seed)
    told = kinds_told(tmp_path / "schema.db")
    assert {name: told.get(name, NOTHING) for name in truth} == truth
    assert told.keys() <= truth.keys()


@pytest.mark.parametrize("kind", CredentialKind)
def test_every_kind_says_how_it_is_kept(kind: CredentialKind) -> None:
    """What opens something has a remedy and cites a rule; what opens nothing has neither."""
    rule = RULES_OF_KINDS[kind]
    assert bool(rule.remedy) is bool(rule.breaks) is kind.opens_something
    assert (rule.keeping is Keeping.ANYHOW) is not kind.opens_something


@pytest.mark.parametrize(
    ("table", "column", "kind"),
    [
        ("users", "confirmation_token", CredentialKind.RESET_TOKEN),
        ("users", "persistence_token", CredentialKind.SESSION_TOKEN),
        ("users", "encrypted_otp_secret", CredentialKind.OTP_SECRET),
        ("user_sessions", "key", CredentialKind.SESSION_TOKEN),
        ("users", "key", None),
        ("users", "otp_enabled_at", None),
        ("users", "password", None),
        ("orders", "order_hash", CredentialKind.IDENTIFIER),
    ],
)
def test_names_tell_kinds(table: str, column: str, kind: CredentialKind | None) -> None:
    """A plain word says so in a table alone that says whose it is."""
    assert kind_by_names(column, table) is kind


def made(path: Path, table: str, columns: str, rows: Sequence[Sequence[object]]) -> None:
    """Write a table."""
    with closing(sqlite3.connect(path)) as database, database:
        database.execute(f"CREATE TABLE {table} ({columns})")
        marks = ", ".join("?" * len(rows[0]))
        database.executemany(f"INSERT INTO {table} VALUES ({marks})", rows)


def test_readable_tokens_are_a_finding_and_no_accounts(tmp_path: Path, in_process: Program) -> None:
    """Their number stands on the first screen; `--fail-on` counts them as high."""
    made(tmp_path / "app.db", "password_resets", "email, token",
         [(f"u{n}@tidepost.example", f"Tk-{n:04}-{'xYz' * 6}") for n in range(30)])  # fmt: skip
    told = in_process("audit", "app.db")
    assert told.out.startswith("No column of passwords was found.\n")
    assert "password_resets.token: 30 reset tokens stand readable" in told.out
    document = in_process("audit", "app.db", "--format", "json").document
    assert document["stores"] == []
    (other,) = document["others"]
    assert (other["kind"], other["rows"], other["readable"]) == ("reset token", 30, 30)
    page = in_process("audit", "app.db", "--format", "html").out
    assert "<td>password_resets.token</td><td>reset token</td>" in page
    sarif = json.loads(in_process("audit", "app.db", "--format", "sarif").out)["runs"][0]
    (result,) = sarif["results"]
    assert sarif["tool"]["driver"]["rules"][result["ruleIndex"]]["id"] == result["ruleId"]
    assert in_process("audit", "app.db", "--fail-on", "high").code == 1
    assert in_process("audit", "app.db", "--fail-on", "critical").code == 0


def test_tokens_that_still_open_something_are_counted(tmp_path: Path, in_process: Program) -> None:
    """By the column that says until when, in whatever form of a time, and by the one that says used."""
    ends = ["2020-01-01", "2099-01-01 10:00:00", "4070908800", "soon", None]
    rows = [
        (
            f"u{n}@tidepost.example",
            f"Tk-{n:04}-{'xYz' * 6}",
            ends[n % 5],
            "2020-02-02" if n % 2 else None,
        )
        for n in range(40)
    ]
    made(tmp_path / "app.db", "password_resets", "email, token, expires_at, used_at", rows)
    (other,) = in_process("audit", "app.db", "--format", "json").document["others"]
    assert (other["readable"], other["still_open"]) == (40, 8)
    told = in_process("audit", "app.db").out
    assert "40 reset tokens stand readable, 8 of them not expired; no password opens" in told
    made(tmp_path / "other.db", "password_resets", "email, token", [row[:2] for row in rows])
    (other,) = in_process("audit", "other.db", "--format", "json").document["others"]
    assert other["still_open"] is None


def test_a_policy_or_an_option_overrules_the_name(tmp_path: Path, in_process: Program) -> None:
    """Who names a column means it."""
    made(tmp_path / "app.db", "people", "login, token",
         [(f"u{n}", hashlib.md5(str(n).encode()).hexdigest()) for n in range(30)])  # fmt: skip
    named = in_process("audit", "app.db", "--table", "people", "--column", "token")
    assert named.out.startswith("people.token: 30 of 30 accounts are below the floor")


def test_what_a_login_checks_slowly_is_the_password(tmp_path: Path, in_process: Program) -> None:
    """A slow hash in the only credential of a table with logins, whatever it is called."""
    slow = "$2b$10$" + "abcdefghijklmnopqrstuO" + "a" * 31
    made(tmp_path / "app.db", "people", "login, pin", [(f"u{n}", slow) for n in range(9)])
    assert in_process("audit", "app.db").out.startswith("people.pin: ")


def test_likely_passwords_beside_salted_rows(tmp_path: Path, in_process: Program) -> None:
    """An empty salt is none: 24 of 3,500 unsalted digests hold one word, and are found."""
    rows = [
        (n, f"u{n}@tidepost.example",
         hashlib.md5(b"123456" if n % 300 == 0 else f"Xq{n}-7f".encode()).hexdigest(), "")
        if n % 2 == 0 else
        (n, f"u{n}@tidepost.example", hashlib.md5(f"Xq{n}s{n}".encode()).hexdigest(), f"s{n}")
        for n in range(7000)
    ]  # fmt: skip
    made(tmp_path / "shop.db", "users", "id INTEGER PRIMARY KEY, email, password, salt", rows)
    document = in_process("audit", "shop.db", "--format", "json").document
    found = {finding["code"]: finding["rows"] for finding in document["stores"][0]["findings"]}
    assert found["common-password"] == 24


def test_administrators_by_a_column_of_roles(tmp_path: Path, in_process: Program) -> None:
    """An audit sees them as a draft does."""
    rows = [(n, f"u{n}@tidepost.example", hashlib.md5(str(n).encode()).hexdigest(),
             "admin" if n < 5 else "member") for n in range(40)]  # fmt: skip
    made(tmp_path / "app.db", "users", "id INTEGER PRIMARY KEY, email, password, role", rows)
    first = in_process("audit", "app.db").out.splitlines()[0]
    assert first.endswith("below the floor, 5 administrators among them.")


def test_a_digest_of_the_mail_is_no_password(tmp_path: Path, in_process: Program) -> None:
    """A picture's address is the digest of a mail; the column beside it holds the passwords."""
    mails = [f"u{n}@tidepost.example" for n in range(40)]
    rows = [(n, mail, hashlib.md5(mail.encode()).hexdigest(), f"{n * 7919 % 10000:04d}")
            for n, mail in enumerate(mails)]  # fmt: skip
    made(tmp_path / "app.db", "users", "id INTEGER PRIMARY KEY, email, picture, passwort", rows)
    document = json.loads(in_process("audit", "app.db", "--format", "json").out)
    assert [store["column"] for store in document["stores"]] == ["passwort"]
    assert document["stores"][0]["grades"] == {"readable": 40}


def test_equal_tables_are_told_once(tmp_path: Path, in_process: Program) -> None:
    """Thirty tenants: a line for those that are alike, and one of them in full."""
    for tenant in range(30):
        rows = [(n, f"u{n}@t{tenant}.example", hashlib.md5(f"{tenant}-{n}x".encode()).hexdigest())
                for n in range(30)]  # fmt: skip
        made(
            tmp_path / "app.db", f"t{tenant}_users", "id INTEGER PRIMARY KEY, email, password", rows
        )
    told = in_process("audit", "app.db").out
    assert told.startswith("t*_users.password, 30 tables: 900 of 900 accounts are below the floor.")
    assert len(told.splitlines()) < 60
    assert len(in_process("audit", "app.db", "--format", "json").document["stores"]) == 30
