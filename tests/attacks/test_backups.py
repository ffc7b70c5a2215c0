"""Whoever has the public key, an old backup or the backup's folder: nothing comes back that should not."""

import hashlib
import sqlite3
from collections.abc import Callable
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from conftest import Portal, Program, make_portal
from lean_tumbler.core.signing import new_signing_key
from lean_tumbler.stores.interface import Swap
from lean_tumbler.stores.sealed_backup import BackupWriter, SealedHead

UNDO = ("undo", "1.sealed", "--key", "recovery.private.pem")
PLANTED = hashlib.md5(b"known to the attacker").hexdigest()


def layered(portal: Portal, program: Program) -> None:
    assert program("keys", "new", "recovery").code == 0
    done = program("layer", "--backup", "1.sealed", "--to", "recovery.public.pem")
    assert done.code == 0, done.err


def forge(folder: Path, old: bytes, new: str, signing_key: str) -> None:
    """Write a backup with the public key of the sealing, as anybody who has it may."""
    (folder / "1.sealed").unlink(missing_ok=True)
    now = datetime.now(UTC)
    head = SealedHead(
        store="passengers", table="passengers", step="lock-dormant", made_at=now.isoformat(),
        expires_at=(now + timedelta(days=9)).isoformat(),
    )  # fmt: skip
    writer = BackupWriter(
        folder / "1.sealed",
        public_key=(folder / "recovery.public.pem").read_text(),
        signing_key=signing_key,
        head=head,
    )
    writer.keep([Swap(key=1, old=new.encode(), new=old.decode())])
    writer.finish()


def test_a_forged_backup_puts_nothing_back(portal: Portal, in_process: Program) -> None:
    """Who has the public key can seal, but not sign: the value does not get into any row."""
    layered(portal, in_process)
    before = portal.stored()
    forge(portal.folder, (before[1] or "").encode(), PLANTED, new_signing_key())
    finished = in_process(*UNDO)
    assert finished.code == 3
    assert "not signed by the key beside the policy, or changed" in finished.err
    assert portal.stored() == before


def test_the_same_with_the_right_key_would(portal: Portal, in_process: Program) -> None:
    """The forgery above fails by its signature alone: signed by the policy's own key it is taken."""
    layered(portal, in_process)
    before = portal.stored()
    own = (portal.folder / "tumbler.signing.pem").read_text()
    forge(portal.folder, (before[1] or "").encode(), PLANTED, own)
    assert in_process(*UNDO).code == 0
    assert portal.stored()[1] == PLANTED


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (lambda folder: (folder / "tumbler.signing.public.pem").write_text("no key"), "not a key"),
        (lambda folder: [(folder / f"tumbler.signing.{half}").unlink() for half in ("pem", "public.pem")],
         "the backup's signature cannot be checked"),
    ],
)  # fmt: skip
def test_without_the_key_nothing_is_taken(
    change: Callable[[Path], object], message: str, portal: Portal, in_process: Program
) -> None:
    """A key that is gone or is none is said, and nothing is put back."""
    layered(portal, in_process)
    before = portal.stored()
    change(portal.folder)
    finished = in_process(*UNDO)
    assert finished.code == 2
    assert message in finished.err
    assert portal.stored() == before


def test_the_signing_key_is_its_owners_alone(portal: Portal, in_process: Program) -> None:
    """It is made so, and refused once others may read it."""
    layered(portal, in_process)
    key = portal.folder / "tumbler.signing.pem"
    assert key.stat().st_mode & 0o777 == 0o600
    key.chmod(0o640)
    finished = in_process("layer", "--backup", "2.sealed", "--to", "recovery.public.pem")
    assert finished.code == 2
    assert "others may read the key that signs backups" in finished.err


LOCK = (
    "lock-dormant",
    "--inactive-days",
    "1",
    "--include-never-seen",
    "--to",
    "recovery.public.pem",
)


def test_an_old_undo_revives_no_old_password(tmp_path: Path, in_process: Program) -> None:
    """Locked, reset, locked again: the first undo finds another marker, and leaves it."""
    portal = make_portal(tmp_path, ["md5", "sha1", "md5", "bcrypt", "sha1"])
    policy = (tmp_path / "tumbler.toml").read_text()
    (tmp_path / "tumbler.toml").write_text(
        policy.replace("salt = ", 'last_login = "seen_on"\nsalt = ')
    )
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("ALTER TABLE passengers ADD seen_on text")
    assert in_process("keys", "new", "recovery").code == 0
    assert in_process(*LOCK, "--backup", "1.sealed").code == 0
    reset = hashlib.md5(b"after the reset").hexdigest()
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET pw = ?, pw_salt = NULL", (reset,))
    assert in_process(*LOCK, "--backup", "2.sealed").code == 0
    locked = portal.stored()
    assert all((value or "").startswith("!locked$") for value in locked.values())
    finished = in_process(*UNDO)
    assert finished.code == 1
    assert finished.out.startswith("None of 5 rows put back: later steps or logins have written")
    assert portal.stored() == locked
    undone = in_process("undo", "2.sealed", "--key", "recovery.private.pem")
    assert undone.code == 0
    assert "These accounts open again, with the values that they had." in undone.out
    assert set(portal.stored().values()) == {reset}


def test_an_account_closed_by_hand_stays_closed(tmp_path: Path, in_process: Program) -> None:
    """A marker that a person set is not the one that a step wrote."""
    portal = make_portal(tmp_path, ["md5", "sha1", "md5"])
    policy = (tmp_path / "tumbler.toml").read_text()
    (tmp_path / "tumbler.toml").write_text(
        policy.replace("salt = ", 'last_login = "seen_on"\nsalt = ')
    )
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("ALTER TABLE passengers ADD seen_on text")
    assert in_process("keys", "new", "recovery").code == 0
    assert in_process(*LOCK, "--backup", "1.sealed").code == 0
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET pw = '!' WHERE id = 2")
    assert in_process(*UNDO).code == 0
    after = portal.stored()
    assert after[2] == "!"
    assert [after[1], after[3]] == [portal.passengers[0].stored, portal.passengers[2].stored]


def test_bytes_that_are_no_text_come_back(tmp_path: Path, in_process: Program) -> None:
    """A digest that stood as bytes stands as the same bytes again."""
    portal = make_portal(tmp_path, ["md5", "md5", "sha1"])
    raw = bytes.fromhex(portal.passengers[0].stored or "")
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET pw = ? WHERE id = 1", (raw,))
    layered(portal, in_process)
    assert str(portal.stored()[1]).startswith("$over$")
    assert in_process(*UNDO).code == 0
    restored: object = portal.stored()[1]
    assert restored == raw
    assert portal.stored()[2] == portal.passengers[1].stored
