"""A run that goes on takes up only what it has left itself: same file, same policy, own rows."""

import hashlib
import os
import sqlite3
import threading
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from conftest import Program, prove
from lean_tumbler import StoragePolicy
from lean_tumbler.stores.files.file_store import FileStore
from lean_tumbler.stores.signing_key import signing_key, verifying_key

POLICY = """
[target]
memory_kib = 64
passes = 1
[floor]
argon2id = { memory_kib = 64, passes = 1 }
[store.kiosk]
locator = "export.csv"
readers_ready = 2026-01-01
[store.kiosk.columns]
login = "mail"
stored = "pw"
[[store.kiosk.cohort]]
name = "old"
formula = "utf-8, md5, hex"
"""
INTO = ("layer", "--into", "copy.csv")


def _md5(password: str) -> str:
    return hashlib.md5(password.encode()).hexdigest()


def prepare(folder: Path) -> Path:
    """Give the working file of a run that ended early."""
    rows = [f"p{n}@tidepost.example,{_md5(f'Skua {n}')},{_md5(f'Dunlin {n}')}" for n in range(40)]
    (folder / "export.csv").write_text("\n".join(["mail,pw,former", *rows, ""]))
    (folder / "tumbler.toml").write_text(POLICY)
    policy = StoragePolicy.from_toml(POLICY)
    prove(folder, policy)
    store = FileStore(folder / "export.csv", policy.stores["kiosk"], into=(folder / "copy.csv"))
    store.close()
    return folder / "copy.csv.work"


def _previous_column(folder: Path, _: Path) -> None:
    text = (folder / "tumbler.toml").read_text()
    (folder / "tumbler.toml").write_text(text.replace('stored = "pw"', 'stored = "former"'))


def _another_formula(folder: Path, _: Path) -> None:
    changed = (folder / "tumbler.toml").read_text().replace("utf-8, md5", "utf-16le, md5")
    (folder / "tumbler.toml").write_text(changed)
    prove(folder, StoragePolicy.from_toml(changed))


def _another_file(folder: Path, _: Path) -> None:
    text = (folder / "export.csv").read_text()
    (folder / "export.csv").write_text(text + f"late@tidepost.example,{_md5('Ruff')},\n")


def _readable(_: Path, work: Path) -> None:
    work.chmod(0o666)


def _of_somebody_else(_: Path, work: Path) -> None:
    os.chown(work, 12345, 12345)


def _linked(folder: Path, work: Path) -> None:
    work.rename(folder / "elsewhere")
    work.symlink_to(folder / "elsewhere")


def _journal(_: Path, work: Path) -> None:
    planted = work.with_name(f"{work.name}-journal")
    planted.write_bytes(b"\xd9\xd5\x05\xf9\x20\xa1\x63\xd7" + bytes(504))
    planted.chmod(0o666)


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (_previous_column, "was made of another file, or for other columns or cohorts"),
        (_another_formula, "was made of another file, or for other columns or cohorts"),
        (_another_file, "was made of another file, or for other columns or cohorts"),
        (_readable, "others may read the rows that are worked on"),
        (_of_somebody_else, "belongs to another user"),
        (_linked, "is a link"),
        (_journal, "others may read the rows that are worked on"),
    ],
)
def test_what_is_not_its_own_is_not_taken_up(
    tmp_path: Path, in_process: Program, change: Callable[[Path, Path], None], message: str
) -> None:
    """Another column or formula, a planted or readable file: nothing is written."""
    work = prepare(tmp_path)
    change(tmp_path, work)
    finished = in_process(*INTO)
    assert finished.code == 2
    assert message in finished.err
    assert not (tmp_path / "copy.csv").exists()


def test_what_is_its_own_is_taken_up(tmp_path: Path, in_process: Program) -> None:
    """Without a change the run goes on; what was done is not done again."""
    work = prepare(tmp_path)
    with closing(sqlite3.connect(work)) as connection, connection:
        connection.execute("UPDATE accounts SET stored = '!locked$' || hex(randomblob(16))")
    finished = in_process(*INTO, "--format", "json")
    assert (finished.code, finished.document["layered"]) == (0, 0)
    assert (tmp_path / "copy.csv").read_text().count("!locked$") == 40


def test_a_planted_link_is_not_followed(tmp_path: Path, in_process: Program) -> None:
    """Where the working file begins, a link to another file does no harm to that one."""
    work = prepare(tmp_path)
    work.unlink()
    (tmp_path / "precious").write_text("kept")
    work.with_name(f"{work.name}.new").symlink_to(tmp_path / "precious")
    assert in_process(*INTO).code == 0
    assert (tmp_path / "precious").read_text() == "kept"


def test_two_first_runs_make_one_signing_key(tmp_path: Path) -> None:
    """Started at once they sign with one key, which its public half verifies."""
    policy, found = tmp_path / "tumbler.toml", []
    start = threading.Barrier(8)

    def first() -> None:
        start.wait()
        found.append(signing_key(policy))

    threads = [threading.Thread(target=first) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(found) == 8
    assert len(set(found)) == 1
    assert "PUBLIC" in verifying_key(policy)
