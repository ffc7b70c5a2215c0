"""A first password: for accounts that no password opens, by a swap, and for no others."""

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest

from conftest import Program, make_portal
from lean_tumbler.stores.interface import SwapResult
from lean_tumbler.stores.sql.store import SqlStore
from test_stores import PLAIN, make_store

NEW = b"gull on a mast\n"


@pytest.fixture
def store(tmp_path: Path) -> Iterator[SqlStore]:
    found = make_store(tmp_path, PLAIN, [(1, "a", None), (2, "b", "old")])
    yield found
    found.close()


@pytest.mark.parametrize(
    ("stored", "was"),
    [
        (None, "no value"),
        ("", "empty"),
        ("!", "locked"),
        ("*LK*", "locked"),
        ("!$2b$05$Bj71jXIzxD43Uq3VTt1rmucdgFNf2XOvkkyAq5vWOAlifqILUBgde", "locked"),
        ("undefined", "a remnant of a failed write"),
    ],
)
def test_a_closed_account_gets_a_password(
    stored: str | None, was: str, tmp_path: Path, in_process: Program
) -> None:
    """What stood there opened for nobody; what stands there now opens for the new password."""
    portal = make_portal(tmp_path, ["md5", "current"])
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET pw = ? WHERE id = 1", (stored,))
    login = portal.passengers[0].login
    finished = in_process("set-password", login, stdin=NEW)
    assert (finished.code, finished.err) == (0, "")
    assert finished.out == f"Account 1 now has a password (argon2id); it was: {was}.\n"
    assert in_process("admit", login, stdin=NEW).code == 0
    again = in_process("set-password", login, stdin=NEW)
    assert again.code == 2
    assert "holds a value that a password may open; lock the account first" in again.err


@pytest.mark.parametrize("cohort", ["md5", "sha1", "plain", "bcrypt", "current"])
def test_an_account_that_a_password_opens_is_left(
    cohort: str, tmp_path: Path, in_process: Program
) -> None:
    """Nobody's password is overwritten by hand."""
    portal = make_portal(tmp_path, [cohort])
    before = portal.stored()
    assert in_process("set-password", portal.passengers[0].login, stdin=NEW).code == 2
    assert portal.stored() == before


def test_what_cannot_be_set(tmp_path: Path, in_process: Program) -> None:
    """An unknown login, and a password that breaks the rules, write nothing."""
    portal = make_portal(tmp_path, ["md5", "current"])
    assert "the login is not there" in in_process("set-password", "nobody", stdin=NEW).err
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET pw = '!' WHERE id = 1")
    before = portal.stored()
    login = portal.passengers[0].login
    refused = in_process("set-password", login, stdin=b"kestrel\n")
    assert refused.code == 2
    assert "too-short" in refused.err
    assert "kestrel" not in refused.err
    assert portal.stored() == before


def test_a_first_value_goes_in_only_where_none_stands(store: SqlStore) -> None:
    """Two who set a first password at once: one of them writes, the other hears of it."""
    assert store.fill(1, "$first$") is SwapResult.DONE
    assert store.fill(1, "$second$") is SwapResult.CHANGED
    assert store.fill(2, "$second$") is SwapResult.CHANGED
    assert store.fill(3, "$third$") is SwapResult.GONE
    found = {account.key: account.stored for account in store.page(after=None, rows=9)}
    assert found == {1: b"$first$", 2: b"old"}
