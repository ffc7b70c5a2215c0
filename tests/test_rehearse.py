"""The rehearsal: nobody locked out, nobody else let in, and nothing left behind."""

import hashlib
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

import servers
from conftest import Portal, Program, make_portal
from server_portal import make_portal as make_server_portal


def matrix(document: dict[str, object], tried: str) -> dict[str, tuple[int, int]]:
    return {
        entry["moment"]: (entry["admitted"], entry["accounts"])
        for entry in document["tried"]  # type: ignore[attr-defined]
        if entry["tried"] == tried
    }


def test_a_change_that_locks_nobody_out(portal: Portal, program: Program) -> None:
    """Each known account is let in at every moment, with nothing but its password."""
    before = portal.stored()
    finished = program("rehearse", "known.csv", "--format", "json")
    document = finished.document
    assert (finished.code, document["passed"]) == (0, True)
    known = len(portal.openable)
    assert document["known"] == known
    assert set(matrix(document, "the password").values()) == {(known, known)}
    for wrong in ("another first letter", "another account's password", "letter case changed",
                  "a blank behind it", "an accent behind it", "filled up to 72 bytes",
                  "filled up to 73 bytes", "filled up to 1,000 characters"):  # fmt: skip
        cells = matrix(document, wrong)
        assert cells, wrong
        assert {admitted for admitted, _ in cells.values()} == {0}
    assert document["layered"] > 0
    assert document["replaced"] > 0
    assert portal.stored() == before
    text = program("rehearse", "known.csv", "--rows", "1").out
    assert text.startswith(f"Nobody is locked out: {known} known accounts, at every step.")


def test_it_leaves_nothing_behind(
    portal: Portal, program: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Neither in the folder nor in the one for temporary files."""
    temporary = tmp_path / "temporary"
    temporary.mkdir()
    monkeypatch.setenv("TMPDIR", str(temporary))
    before = sorted(path.name for path in tmp_path.iterdir())
    assert program("rehearse", "known.csv", "--rows", "5").code == 0
    assert sorted(path.name for path in tmp_path.iterdir()) == before
    assert list(temporary.iterdir()) == []
    assert portal.openable


def test_a_lossy_formula_goes_on_accepting_what_it_accepted(
    tmp_path: Path, program: Program
) -> None:
    """Letter case that did not count before does not count at any moment after."""
    make_portal(tmp_path, ["sha1"])
    policy = (tmp_path / "tumbler.toml").read_text()
    lossy = policy.replace("utf-8, append salt, sha1, hex", "lower, utf-8, append salt, sha1, hex")
    (tmp_path / "tumbler.toml").write_text(lossy)
    _store_lower_case(tmp_path)
    document = program("rehearse", "known.csv", "--format", "json").document
    assert document["passed"]
    assert set(matrix(document, "letter case changed").values()) == {(1, 1)}
    replaced = lossy.replace(
        "[store.passengers.columns]", "replace_lossy = true\n\n[store.passengers.columns]"
    )
    (tmp_path / "tumbler.toml").write_text(replaced)
    finished = program("rehearse", "known.csv", "--format", "json")
    assert (finished.code, finished.document["passed"]) == (1, False)
    assert all(entry["admitted_before"] for entry in finished.document["differences"])
    assert "would be locked out" in program("rehearse", "known.csv").out


def _store_lower_case(folder: Path) -> None:
    with closing(sqlite3.connect(folder / "harbour.db")) as connection, connection:
        digest = hashlib.sha1(b"gull house 7" + b"q8").hexdigest()
        connection.execute("UPDATE passengers SET pw = ?, pw_salt = 'q8'", (digest,))
        login = connection.execute("SELECT email FROM passengers").fetchone()[0]
    (folder / "known.csv").write_text(f"login,password\n{login},Gull House 7\n")


def test_a_formula_that_is_wrong_already(portal: Portal, program: Program, tmp_path: Path) -> None:
    """Who is refused today is named, and the rehearsal has not passed."""
    login = portal.openable[0].login
    (tmp_path / "known.csv").write_text(f"login,password\n{login},wrong\nnobody@x.example,wrong\n")
    finished = program("rehearse", "known.csv")
    assert finished.code == 1
    assert finished.out.startswith("1 known account refused already today.")
    assert "nobody@x.example: not in the store" in finished.out
    assert "wrong" not in finished.out.replace("--", "")


def test_a_column_that_is_too_narrow_is_found_before_anything_is_written(
    tmp_path: Path, program: Program
) -> None:
    """On a real server: the copy has room, the column has not; exit 1."""
    with servers.postgresql() as server:
        make_server_portal(server, tmp_path, rows=20)
        rows = server.ask("SELECT email, pw FROM passengers WHERE length(pw) < 60").splitlines()
        server.run(
            "DELETE FROM passengers WHERE length(pw) >= 60 OR pw IS NULL;"
            "ALTER TABLE passengers ALTER COLUMN pw TYPE varchar(60);"
        )
        login = next(row.split("|")[0] for row in rows if len(row.split("|")[1]) == 32)
        number = int(login[1:].partition("@")[0])
        (tmp_path / "known.csv").write_text(f"login,password\n{login},Möwe {number} <7>\n")
        finished = program("rehearse", "known.csv")
    assert finished.code == 1
    assert "room for 60 characters" in finished.out
    assert finished.out.startswith("The column is too narrow for what would be written.")
