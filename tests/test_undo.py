"""Sealed backups: put back what a run replaced, and only with the right key and every byte."""

import json
import random
import signal
import time
from pathlib import Path

import pytest

import servers
from conftest import OPENABLE, Portal, Program, make_portal, run_program, start_program
from server_portal import locked_out
from server_portal import make_portal as make_server_portal

SEALED = ("--backup", "layer-1.sealed", "--to", "recovery.public.pem")
UNDO = ("undo", "layer-1.sealed", "--key", "recovery.private.pem")


@pytest.fixture
def program(in_process: Program) -> Program:
    """Many short runs: in this process. Other modules run the built program."""
    return in_process


@pytest.fixture
def sealed(portal: Portal, program: Program) -> Portal:
    """A store that was layered with a sealed backup."""
    assert program("keys", "new", "recovery").code == 0
    finished = program("layer", *SEALED)
    assert finished.code == 0, finished.err
    return portal


def test_what_was_replaced_is_put_back(portal: Portal, program: Program, tmp_path: Path) -> None:
    """Every value is what it was, byte for byte, and every password opens again."""
    before = portal.stored()
    program("keys", "new", "recovery")
    program("layer", *SEALED)
    layered = portal.stored()
    assert layered != before
    checked = program(*UNDO, "--dry-run", "--format", "json").document
    assert portal.stored() == layered
    undone = program(*UNDO, "--format", "json").document
    assert undone["restored"] == undone["considered"] == checked["considered"]
    assert portal.stored() == before
    verified = program("verify", "known.csv", "--store", "passengers", "--format", "json").document
    assert verified["rejected"] == 0
    for name in ("recovery.private.pem", "layer-1.sealed"):
        assert (tmp_path / name).stat().st_mode & 0o777 == 0o600


def test_nothing_of_the_values_can_be_read_in_the_file(
    portal: Portal, program: Program, tmp_path: Path
) -> None:
    """Neither old nor new values, nor logins, stand in it, in any of their usual text encodings."""
    before = {value for value in portal.stored().values() if value and len(value) > 6}
    program("keys", "new", "recovery")
    program("layer", *SEALED)
    content = (tmp_path / "layer-1.sealed").read_bytes()
    assert content.startswith(b'{"document": "lean-tumbler/sealed-backup/1"')
    after = {value for value in portal.stored().values() if value and len(value) > 6}
    for value in before | after | {person.login for person in portal.openable}:
        assert value.encode() not in content
    assert b"PRIVATE" not in (tmp_path / "recovery.public.pem").read_bytes()


def test_rows_that_changed_since_are_left_alone(sealed: Portal, program: Program) -> None:
    """Who logged in meanwhile keeps the value of that login."""
    person = next(row for row in sealed.openable if row.cohort == "md5")
    program("admit", person.login, stdin=f"{person.password}\n".encode())
    upgraded = sealed.stored()[person.number]
    undone = program(*UNDO, "--format", "json").document
    assert undone["changed_meanwhile"] == 1
    assert undone["restored"] == undone["considered"] - 1
    assert sealed.stored()[person.number] == upgraded


def test_a_backup_is_kept_unless_a_day_is_named(portal: Portal, program: Program) -> None:
    """Nothing expires by itself; the day that was asked for is told then, and by `progress`."""
    program("keys", "new", "recovery")
    kept = program("layer", *SEALED, "--share", "30%")
    assert "to be deleted" not in kept.err
    assert program("progress", "--format", "json").document["notes"] == []
    dated = program("layer", "--backup", "b.sealed", *SEALED[2:], "--keep-days", "30")
    notes = program("progress", "--format", "json").document["notes"]
    assert [note.split(",")[0] for note in notes] == ["b.sealed: to be deleted by " + _day(notes)]
    assert _day(notes) in dated.err
    assert portal.openable


def _day(notes: list[str]) -> str:
    return notes[0].split(" by ")[1].split(",")[0]


def test_a_wrong_key_opens_nothing(sealed: Portal, program: Program) -> None:
    """Another key of the same kind; the public half; a text that is no key."""
    layered = sealed.stored()
    program("keys", "new", "other")
    for key, message in (
        ("other.private.pem", "sealed for another key, or changed"),
        ("recovery.public.pem", "not the private half"),
        ("known.csv", "not a private key in PEM"),
    ):
        finished = program("undo", "layer-1.sealed", "--key", key)
        assert finished.code in {2, 3}
        assert finished.out == ""
        assert message in finished.err
    assert sealed.stored() == layered


def test_every_changed_byte_is_noticed(sealed: Portal, program: Program, tmp_path: Path) -> None:
    """Head, key, lengths and chunks: with one bit flipped, nothing is put back."""
    layered = sealed.stored()
    path = tmp_path / "layer-1.sealed"
    content = path.read_bytes()
    head = content.index(b"\n") + 1
    chance = random.Random()
    places = {head - 5, head + 3, head + 34, head + 60, len(content) - 3}
    for place in sorted(places | {chance.randrange(len(content)) for _ in range(6)}):
        changed = bytearray(content)
        changed[place] ^= 1 << chance.randrange(7)
        path.write_bytes(changed)
        finished = program(*UNDO)
        assert finished.code in {2, 3}, place
        assert finished.out == ""
        assert len(finished.err.splitlines()) == 1
    assert sealed.stored() == layered


def test_a_missing_tail_is_noticed(sealed: Portal, program: Program, tmp_path: Path) -> None:
    """Cut anywhere: refused; a file that a killed run left is taken when asked for."""
    path = tmp_path / "layer-1.sealed"
    content = path.read_bytes()
    layered = sealed.stored()
    for length in (10, len(content) // 2, len(content) - 20, len(content) - 1):
        path.write_bytes(content[:length])
        finished = program(*UNDO)
        assert finished.code in {2, 3}
        assert finished.out == ""
    assert sealed.stored() == layered
    path.write_bytes(content[:-70])  # the end mark is gone, all rows are there
    assert "--unfinished reads what is there" in program(*UNDO).err
    undone = program(*UNDO, "--unfinished", "--format", "json").document
    assert undone["restored"] == undone["considered"] > 0


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (("layer", "--backup", "x.sealed"), "--backup or --fingerprints and --to go together"),
        (
            ("lock-dormant", "--include-never-seen", "--before", "2020-01-01", *SEALED),
            "layer-1.sealed is there already, of another step",
        ),
        (("layer", "--backup", "x.sealed", "--to", "known.csv"), "not a public key in PEM"),
        (("layer", "--backup", "x.sealed", "--to", "recovery.private.pem"), "not the public half"),
        (("layer", "--backup", "no/x.sealed", "--to", "recovery.public.pem"), "no/x.sealed: No"),
        (("keys", "new", "recovery"), "recovery.private.pem exists and is not overwritten"),
        (("undo", "known.csv", "--key", "recovery.private.pem"), "not a sealed backup"),
        (("undo", "nope", "--key", "recovery.private.pem"), "nope: No such file"),
    ],
)
def test_what_is_refused(
    arguments: tuple[str, ...], message: str, sealed: Portal, program: Program
) -> None:
    """One clear line, before anything is written."""
    layered = sealed.stored()
    finished = program(*arguments)
    assert finished.code in {2, 3}
    assert message in finished.err
    assert len(finished.err.splitlines()) == 1
    assert sealed.stored() == layered


def test_the_backup_names_its_store(sealed: Portal, program: Program, tmp_path: Path) -> None:
    """With several stores in the policy none needs to be named; another one is refused."""
    policy = tmp_path / "tumbler.toml"
    second = '\n[store.kiosk]\nlocator = "sqlite:///kiosk.db"\ntable = "t"\n'
    columns = '[store.kiosk.columns]\nlogin = "a"\nstored = "b"\n'
    policy.write_text(policy.read_text() + second + columns)
    assert "of the store passengers" in program(*UNDO, "--store", "kiosk").err
    assert program(*UNDO).code == 0
    assert not any((value or "").startswith("$over$") for value in sealed.stored().values())


def test_an_expired_backup_and_one_of_another_store(
    sealed: Portal, program: Program, tmp_path: Path
) -> None:
    """A date in the past is told, another table refused; the head cannot be edited around it."""
    path = tmp_path / "layer-1.sealed"
    content = path.read_bytes()
    line = content[: content.index(b"\n")]
    head = json.loads(line)
    for entry, value, message in (
        ("expires_at", "2020-01-01T00:00:00+00:00", "it was to be deleted by 2020-01-01"),
        ("table", "kiosk", "of the store passengers, table kiosk"),
        (
            "made_at",
            "2020-01-01T00:00:00+00:00",
            "not signed by the key beside the policy, or changed",
        ),
    ):
        changed = json.dumps({**head, entry: value}).encode()
        path.write_bytes(changed + content[len(line) :])
        finished = program(*UNDO)
        assert finished.code in {2, 3}
        assert message in finished.err
    assert sealed.openable


def test_the_backup_of_a_killed_run_covers_all_that_it_wrote(tmp_path: Path) -> None:
    """What was replaced before the kill is put back; what was only sealed is not counted."""
    portal = make_portal(tmp_path, [cohort for cohort in OPENABLE for _ in range(120)])
    text = (tmp_path / "tumbler.toml").read_text()
    (tmp_path / "tumbler.toml").write_text(text.replace("256", "2048"))
    before = portal.stored()
    run_program("keys", "new", "recovery", cwd=tmp_path)
    process = start_program("layer", *SEALED, cwd=tmp_path)
    deadline = time.monotonic() + 60
    while not any((value or "").startswith("$over$") for value in portal.stored().values()):
        assert time.monotonic() < deadline
        time.sleep(0.02)
    time.sleep(random.random() / 2)
    process.send_signal(signal.SIGKILL)
    process.wait()
    written = [login for login, value in portal.stored().items() if value != before[login]]
    assert written
    undone = run_program(*UNDO, "--unfinished", "--format", "json", cwd=tmp_path)
    assert undone.code == 0, undone.err
    assert portal.stored() == before
    report = json.loads(undone.out)
    assert report["restored"] == len(written)
    assert report["held_already"] == report["considered"] - len(written)


@pytest.mark.parametrize("start", [servers.postgresql, servers.mariadb])
def test_undo_on_a_server(start: object, tmp_path: Path, program: Program) -> None:
    """The same on real servers; everybody gets in before, between and after."""
    with start() as server:  # type: ignore[operator]
        passwords = make_server_portal(server, tmp_path)
        before = server.ask("SELECT id, pw FROM passengers ORDER BY id")
        program("keys", "new", "recovery")
        assert program("layer", *SEALED).code == 0
        assert locked_out(server, tmp_path, passwords) == []
        assert program(*UNDO).code == 0
        assert server.ask("SELECT id, pw FROM passengers ORDER BY id") == before
