"""After a leak: what the copy holds of each account, what falls when, and who must do what."""

import csv
import hashlib
import io
import random
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from conftest import CHEAP_POLICY, Program, make_portal, stored_value
from lean_tumbler.core.grades import Grade
from lean_tumbler.core.tuning.attacker import Attacker
from lean_tumbler.core.tuning.leak import LeakedKind, SinceThen, Urgency, opened, urgency

LEFT = (datetime.now(UTC).date() - timedelta(days=30)).isoformat()


@pytest.fixture
def program(in_process: Program) -> Program:
    """Run in this process: there are many runs, and the built program is run elsewhere."""
    return in_process


def kind(grade: Grade, rate: float | None, *, salted: bool = True) -> LeakedKind:
    return LeakedKind(words="some", grade=grade, guesses_per_second=rate, salted=salted)


@pytest.mark.parametrize(
    ("leaked", "since", "accounts", "administrators", "expected"),
    [
        (kind(Grade.READABLE, float("inf")), SinceThen.NOTHING, 9, False, Urgency.TODAY),
        (kind(Grade.FAST_UNSALTED, 1e11, salted=False), SinceThen.NOTHING, 9, False, Urgency.TODAY),
        # So many with a slow hash each that a day opens less than half of them.
        (kind(Grade.OUTDATED, 1e4), SinceThen.NOTHING, 10_000, False, Urgency.NEXT_LOGIN),
        (kind(Grade.OUTDATED, 1e4), SinceThen.NOTHING, 100, False, Urgency.TODAY),
        (kind(Grade.OUTDATED, 1e4), SinceThen.NOTHING, 10_000, True, Urgency.TODAY),
        # At the floor or not: what a day opens is reset today.
        (kind(Grade.CURRENT, 1e4), SinceThen.NOTHING, 100, False, Urgency.TODAY),
        (kind(Grade.CURRENT, 1e4), SinceThen.NOTHING, 10_000, False, Urgency.NEXT_LOGIN),
        (kind(Grade.CURRENT, 1e-5), SinceThen.NOTHING, 100, False, Urgency.NOTHING),
        (kind(Grade.CURRENT, 1e-5), SinceThen.NOTHING, 100, True, Urgency.NEXT_LOGIN),
        (kind(Grade.CURRENT, 1e4), SinceThen.UPGRADED, 100, False, Urgency.TODAY),
        (kind(Grade.FAST_SALTED, 1e10), SinceThen.MADE, 100, True, Urgency.NOTHING),
        (kind(Grade.FAST_SALTED, 1e10), SinceThen.CHANGED, 100, False, Urgency.NOTHING),
        (kind(Grade.LOCKED, None), SinceThen.NOTHING, 100, False, Urgency.NOTHING),
        (kind(Grade.UNKNOWN, None), SinceThen.NOTHING, 100, False, Urgency.LOOK),
    ],
)
def test_what_must_be_done(
    leaked: LeakedKind, since: SinceThen, accounts: int, administrators: bool, expected: Urgency
) -> None:
    """By what the copy holds, what happened since, how many share the attacker, and their rights."""
    falls = opened(leaked, accounts, Attacker())
    shares = [falls[name].share for name in ("hour", "day", "30 days", "year")]
    assert shares == sorted(shares)
    assert urgency(leaked, since, falls, administrators=administrators) is expected


def test_salts_divide_an_attackers_time() -> None:
    """A guess at unsalted values is tried on all; with salts of their own each costs the same."""
    together = opened(kind(Grade.FAST_UNSALTED, 1e3, salted=False), 1000, Attacker())
    apart = opened(kind(Grade.FAST_SALTED, 1e3), 1000, Attacker())
    assert together["hour"].share > 2 * apart["hour"].share
    alone = opened(kind(Grade.FAST_SALTED, 1e3), 1, Attacker())
    assert alone["hour"] == together["hour"]


Row = tuple[str | None, str | None]  # stored value and salt; no row without a stored value


def _salted(password: str, salt: str) -> Row:
    return hashlib.sha1((password + salt).encode()).hexdigest(), salt


def _invented_salted(password: str, chance: random.Random) -> tuple[str, Row, Row, str]:
    """The same of a salted digest: with the same salt another digest is of another password."""
    then = _salted(password, "a1b2")
    what = chance.choice(("salted", "salted, changed", "salted anew"))
    now = {"salted": then, "salted, changed": _salted("other", "a1b2"),
           "salted anew": _salted(password, "ffee")}[what]  # fmt: skip
    return what, then, now, Urgency.NOTHING if what == "salted, changed" else Urgency.TODAY


def _invented(number: int, chance: random.Random) -> tuple[str, str | None, str | None, str]:
    """Give a row of the copy, the row of today, and what should be said of it."""
    password = f"Dunlin{number}{chance.randrange(10**6)}"
    md5 = hashlib.md5(password.encode()).hexdigest()
    slow, _ = stored_value("current", password, number)
    what = chance.choice(
        ("as it was", "changed", "upgraded", "current", "gone", "new", "locked since", "bcrypt")
    )
    match what:
        case "as it was":
            return what, md5, md5, Urgency.TODAY
        case "changed":
            return what, md5, hashlib.md5(b"other" + md5.encode()).hexdigest(), Urgency.NOTHING
        case "upgraded":  # the same password, written anew: the copy still opens it
            return what, md5, slow, Urgency.TODAY
        case "bcrypt":  # by the application itself, at a login
            return what, md5, "$2b$04$" + "abcdefghijklmnopqrstuu" + "a" * 31, Urgency.TODAY
        case "current":  # at this policy's floor, which a day opens
            return what, slow, slow, Urgency.TODAY
        case "gone":
            return what, md5, None, Urgency.TODAY
        case "new":
            return what, None, md5, Urgency.NOTHING
        case _:
            return what, md5, "!locked$" + "A" * 22, Urgency.TODAY


@pytest.mark.parametrize("seed", range(4))
def test_an_invented_leak_of_known_truth(program: Program, tmp_path: Path, seed: int) -> None:
    """Of each account that changed, moved, came or went, the right thing is said by the copy."""
    chance = random.Random(seed)
    (tmp_path / "tumbler.toml").write_text(CHEAP_POLICY)
    rows: list[tuple[int, str, Row, Row, str]] = []
    for number in range(1, 261):
        if number > 200:
            rows.append((number, *_invented_salted(f"Skua {number}", chance)))
        else:
            what, then, now, must = _invented(number, chance)
            rows.append((number, what, (then, None), (now, None), must))
    for name, place in (("harbour.db", 3), ("leaked.db", 2)):
        with closing(sqlite3.connect(tmp_path / name)) as connection, connection:
            connection.execute(
                "CREATE TABLE passengers (id INTEGER PRIMARY KEY, email TEXT, pw TEXT, pw_salt"
                " TEXT, is_admin INTEGER)"
            )
            connection.executemany(
                "INSERT INTO passengers VALUES (?, ?, ?, ?, 0)",
                [(number, f"p{number}@tidepost.example", *of[place - 2])
                 for number, _, *of, _ in rows if of[place - 2][0] is not None],
            )  # fmt: skip
    options = ("exposed", "--since", LEFT, "--copy", "leaked.db", "--format", "json")
    finished = program(*options, "--list", "reset.csv")
    assert finished.code == 0, finished.err
    today = {
        int(line["account"])
        for line in csv.DictReader(io.StringIO((tmp_path / "reset.csv").read_text()))
    }
    expected = {number for number, _, _, _, must in rows if must is Urgency.TODAY}
    wrong = {number: what for number, what, *_ in rows if (number in today) != (number in expected)}
    assert not wrong
    assert sum(finished.document["urgencies"].values()) == 260
    assert finished.document["accounts"] == sum(1 for row in rows if row[2][0] is not None)


def test_what_was_locked_since_is_not_said_to_have_been(program: Program, tmp_path: Path) -> None:
    """A lock is of today; the copy may hold what lay there, and an authority is told no more."""
    make_portal(tmp_path, ["md5", "locked"] * 5)
    document = program("exposed", "--since", LEFT, "--format", "json").document
    assert document["urgencies"]["nothing"] == 5
    assert "5 in a state that is not known" in " ".join(document["statement"])
    assert "locked" not in " ".join(document["statement"])


def test_logins_that_stand_twice_are_counted_once_a_row(program: Program, tmp_path: Path) -> None:
    """Accounts named by a login that two rows share: no row is lost, doubled or called changed."""
    portal = make_portal(tmp_path, ["md5"] * 6)
    policy = tmp_path / "tumbler.toml"
    policy.write_text(policy.read_text().replace('account = "id"', 'account = "email"'))
    with closing(sqlite3.connect(portal.database)) as db, db:
        db.execute("UPDATE passengers SET email = 'one@tidepost.example' WHERE id <= 2")
    (tmp_path / "leaked.db").write_bytes(portal.database.read_bytes())
    options = ("exposed", "--since", LEFT, "--copy", "leaked.db", "--format", "json")
    document = program(*options).document
    assert document["accounts"] == 6
    assert document["urgencies"]["reset today"] == 6


def test_a_copy_in_another_form_shows_no_change(program: Program, tmp_path: Path) -> None:
    """Where all values differ, as in capitals, that is how they were written, and no news."""
    portal = make_portal(tmp_path, ["md5"] * 20)
    lines = [
        f"{row.number},{row.login},{(row.stored or '').upper()},,0" for row in portal.passengers
    ]
    (tmp_path / "copy.csv").write_text("\n".join(["id,email,pw,pw_salt,is_admin", *lines]) + "\n")
    options = ("exposed", "--since", LEFT, "--copy", "copy.csv", "--format", "json")
    assert program(*options).document["urgencies"]["reset today"] == 20


def test_what_was_layered_since_lay_bare(program: Program, tmp_path: Path) -> None:
    """Without the copy: an upgrade changes no password, and what may have been written counts."""
    portal = make_portal(tmp_path, ["md5", "sha1"] * 10)
    before = program("exposed", "--since", LEFT, "--format", "json").document
    assert before["urgencies"]["reset today"] == 20
    assert program("layer", "--no-backup").code == 0
    after = program("exposed", "--since", LEFT, "--format", "json").document
    assert after["urgencies"]["reset today"] == 20
    assert {group["grade"] for group in after["groups"]} == {"fast-unsalted", "fast-salted"}
    assert "the copy itself was not read" in " ".join(after["statement"])
    login = portal.passengers[1].login
    admitted = program("admit", login, stdin=f"{portal.passengers[1].password}\n".encode())
    assert admitted.code == 0
    text = program("exposed", "--since", LEFT).out
    assert "20 accounts must be reset today, 0 at their next login; 0 need do nothing." in text
    assert "written since" in text
    assert "Give the copy itself with --copy" in text


def test_exactly_the_listed_are_locked(program: Program, tmp_path: Path) -> None:
    """Administrators first, whoever else is left alone, and the way back."""
    make_portal(tmp_path, ["md5", "current", "locked"] * 4)
    listed = program("exposed", "--since", LEFT, "--list", "reset.csv")
    assert listed.code == 0, listed.err
    assert "lock-dormant --accounts reset.csv" in " ".join(listed.out.split())
    lines = (tmp_path / "reset.csv").read_text().splitlines()
    assert lines[1].startswith("1,")
    (tmp_path / "reset.csv").write_text("\n".join([*lines, "77,nobody,no,reset today,x"]) + "\n")
    assert program("keys", "new", "recovery").code == 0
    backup = ("--backup", "lock.sealed", "--to", "recovery.public.pem")
    finished = program("lock-dormant", "--accounts", "reset.csv", *backup, "--format", "json")
    document = finished.document
    assert finished.code == 0, finished.err
    assert (document["locked"], document["not_in_table"]) == (len(lines) - 1, 1)
    assert document["left"] == {"not on the list": 12 - (len(lines) - 1)}
    assert program("undo", "lock.sealed", "--key", "recovery.private.pem").code == 0
    refused = program("lock-dormant", "--accounts", "tumbler.toml", *backup)
    assert refused.code == 2
    assert "the first line must name account" in refused.err


def test_a_day_that_has_not_come(program: Program, tmp_path: Path) -> None:
    """Wrong usage, in one line."""
    make_portal(tmp_path, ["md5"])
    tomorrow = (datetime.now(UTC).date() + timedelta(days=2)).isoformat()
    refused = program("exposed", "--since", tomorrow)
    assert (refused.code, refused.err.count("\n")) == (2, 1)
