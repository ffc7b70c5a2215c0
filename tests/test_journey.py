"""The whole job through the built program, and through SIGKILL."""

import random
import signal
import sqlite3
import subprocess
import time
from contextlib import chdir, closing
from datetime import UTC, date, datetime, timedelta
from datetime import time as time_of_day
from pathlib import Path

import pytest
from argon2 import low_level

from conftest import (
    OPENABLE,
    Portal,
    Program,
    make_portal,
    oracle,
    run_in_process,
    run_program,
    start_program,
)
from lean_tumbler.core.schemes.catalogue import read_value


def admits(program: Program, login: str, password: str) -> dict[str, object]:
    finished = program("admit", login, "--format", "json", stdin=password.encode() + b"\n")
    document = finished.document
    assert finished.code == (0 if document["admitted"] else 1)
    return document


def check_all(program: Program, portal: Portal) -> list[object]:
    """Wrong passwords and other people's are refused, the right one opens; give the actions."""
    actions = []
    people = portal.openable
    for person, other in zip(people, [*people[1:], people[0]], strict=True):
        for wrong in (person.password + "x", other.password, person.stored or "x"):
            if wrong != person.password:
                with chdir(portal.database.parent):  # in this process: many, and all alike
                    refused = run_in_process("admit", person.login, stdin=wrong.encode() + b"\n")
                assert (refused.code, refused.out) == (1, "not admitted\n")
        right = admits(program, person.login, person.password)
        assert right["admitted"]
        actions.append(right["action"])
    return actions


def test_the_whole_job(tmp_path: Path, program: Program) -> None:
    """Audit, layer, log in: every password is accepted at every stage, and no other is."""
    portal = make_portal(tmp_path, [*OPENABLE, "locked", "null"])
    weak = program("progress", "--format", "json").document["stores"][0]
    assert weak["below_floor"] == 5
    verified = program("verify", "known.csv", "--store", "passengers", "--format", "json")
    assert (verified.code, verified.document["accepted"]) == (0, 6)

    layered = program("layer", "--no-backup", "--format", "json").document
    assert (layered["considered"], layered["layered"], layered["replaced"]) == (8, 4, 1)
    assert layered["left"] == {
        "current: neither this step nor a login changes it": 1,
        "locked: no password opens it": 1,
        "no value": 1,
    }
    stored = portal.stored()
    assert [bool((stored[n] or "").startswith("$over$")) for n in range(1, 7)] == [
        *(False, True, True, True, True, False)
    ]
    assert (stored[7], stored[8]) == ("!", None)
    after = program("progress", "--format", "json").document["stores"][0]
    assert (after["below_floor"], after["grades"]) == (
        0,
        {"layered": 4, "current": 2, "locked": 1},
    )
    again = program("layer", "--no-backup", "--format", "json").document
    assert (again["layered"], again["replaced"]) == (0, 0)
    assert portal.stored() == stored

    assert check_all(program, portal) == ["none", *["layer-removed"] * 4, "none"]
    assert check_all(program, portal) == ["none"] * 6
    for row in ("passenger7", "passenger8", "nobody"):
        refused = admits(program, f"{row}@tidepost.example", "!")
        assert refused == {
            "document": "lean-tumbler/admit/1",
            "admitted": False,
            "action": "none",
            "from": None,
            "to": None,
        }
    # The primitive's own verifier, which knows nothing of this project, takes the new values.
    for person in portal.openable:
        value = (portal.stored()[person.number] or "").encode()
        assert low_level.verify_secret(value, person.password.encode(), low_level.Type.ID)


def test_upgrades_without_layering(tmp_path: Path, program: Program) -> None:
    """Who does not layer has every login upgraded all the same."""
    portal = make_portal(tmp_path, OPENABLE)
    assert check_all(program, portal) == [*["upgraded"] * 5, "none"]


def test_new_values_are_what_the_reference_program_computes(
    tmp_path: Path, program: Program
) -> None:
    """The `argon2` program, given the new value's own salt and costs, prints the same text."""
    make_portal(tmp_path, ["md5"])
    salt = b"\0"
    while b"\0" in salt:  # an argument cannot hold a NUL
        value = program("hash", stdin=b"Dunlin 42\n").out.strip()
        parsed = read_value(value)
        salt = parsed.salt or b""
    costs = parsed.parameters
    made = subprocess.run(
        [
            *(oracle("argon2").encode(), salt, b"-id", b"-e", b"-l", b"32"),
            *(b"-t", b"%d" % costs["passes"], b"-k", b"%d" % costs["memory_kib"]),
        ],
        input=b"Dunlin 42",
        capture_output=True,
        check=True,
    )
    assert made.stdout.decode().strip() == value


@pytest.mark.parametrize(
    ("formula", "code", "miss"),
    [
        ("portal-2011", 0, None),
        ("utf-8, append salt, sha1, hex", 0, None),
        ("utf-8, prepend salt, sha1, hex", 1, "the salt after instead of before"),
        ("utf-8, append salt, md5, hex", 1, "it fits the formula “utf-8, append salt, sha1, hex”"),
    ],
)
def test_verify_with_a_file_of_its_own(
    tmp_path: Path, program: Program, formula: str, code: int, miss: str | None
) -> None:
    """A formula fits or its near miss is named, with no store at all."""
    portal = make_portal(tmp_path, ["sha1"] * 3)
    lines = [f"{row.login},{row.password},{row.stored},{row.salt}" for row in portal.passengers]
    (tmp_path / "own.csv").write_text("\n".join(["login,password,stored,salt", *lines]))
    finished = program("verify", "own.csv", "--formula", formula, "--format", "json")
    assert finished.code == code
    accounts = finished.document["accounts"]
    assert [account["accepted"] for account in accounts] == [code == 0] * 3
    for account in accounts:
        assert miss is None or miss in account["near_miss"]
    text = program("verify", "own.csv", "--formula", formula).out
    assert text.startswith("All 3 known accounts accepted" if code == 0 else "3 of 3 known")


def test_a_swap_that_loses_is_deferred(portal: Portal, program: Program) -> None:
    """Where the write fails, the login is right, nothing is written, and the operator hears it."""
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute(
            "CREATE TRIGGER refuse BEFORE UPDATE ON passengers"
            " BEGIN SELECT RAISE(ABORT, 'no writes today'); END"
        )
    before = portal.stored()
    person = portal.openable[1]
    finished = program("admit", person.login, "--format", "json", stdin=person.password.encode())
    assert (finished.code, finished.document["action"]) == (0, "deferred")
    assert "the upgrade was not written" in finished.err
    assert portal.stored() == before


def test_a_missing_formula_stops_every_bulk_step(portal: Portal, program: Program) -> None:
    """A policy that lost a formula is refused, by fingerprint, before anything is written."""
    lost = "0123456789abcdef"
    assert program("layer", "--no-backup").code == 0
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute(
            "UPDATE passengers SET pw = replace(pw, 'from=2969c2908df4cece', ?)",
            (f"from=2969c2908df4cece+{lost}",),
        )
    before = portal.stored()
    for command in ("layer", "verify"):
        known = ("known.csv", "--store", "passengers")
        arguments = known if command == "verify" else ("--no-backup",)
        finished = program(command, *arguments)
        assert finished.code in {1, 2}
        assert lost in finished.out + finished.err
    assert portal.stored() == before


def _layer_and_kill(folder: Path, delay: float) -> None:
    running = start_program("layer", "--no-backup", "--concurrency", "2", cwd=folder)
    time.sleep(delay)
    running.send_signal(signal.SIGKILL)
    running.wait()


def test_layer_resumes_after_kills_at_random_moments(tmp_path: Path) -> None:
    """Killed ten times, run again: every row is layered exactly once, every password opens."""
    portal = make_portal(tmp_path, [cohort for cohort in OPENABLE for _ in range(150)])
    text = (tmp_path / "tumbler.toml").read_text()
    # Some five milliseconds for each row: a run lasts long enough to be killed in the middle.
    (tmp_path / "tumbler.toml").write_text(text.replace("256", "2048"))
    chance = random.Random()
    seen: list[dict[int, str | None]] = []
    for _ in range(10):
        _layer_and_kill(tmp_path, chance.random())
        seen.append(portal.stored())
    finished = run_program("layer", "--no-backup", "--format", "json", cwd=tmp_path)
    assert finished.code == 0
    final = portal.stored()
    for earlier in seen:  # what was once layered or replaced was never touched again
        for person in portal.passengers:
            value = earlier[person.number]
            if value != person.stored:
                assert value == final[person.number]
    for person in portal.passengers:
        value = final[person.number] or ""
        parsed = read_value(value)
        assert value.count("$over$") == (person.cohort != "plain")
        assert (parsed.inner or parsed).parameters["memory_kib"] == 2048
    verified = run_program(
        "verify", "known.csv", "--store", "passengers", "--format", "json", cwd=tmp_path
    )
    assert verified.document["accepted"] == len(portal.openable) == 900


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_layer_stops_on_request_with_a_summary(tmp_path: Path, number: signal.Signals) -> None:
    """Ctrl-C and SIGTERM finish the batch in hand, print the summary and leave with 4."""
    portal = make_portal(tmp_path, ["md5"] * 1500)
    text = (tmp_path / "tumbler.toml").read_text()
    (tmp_path / "tumbler.toml").write_text(text.replace("256", "4096"))
    process = start_program("layer", "--no-backup", cwd=tmp_path)
    deadline = time.monotonic() + 60
    while not any((value or "").startswith("$over$") for value in portal.stored().values()):
        assert time.monotonic() < deadline
        time.sleep(0.02)
    process.send_signal(number)
    out, err = process.communicate(timeout=60)
    assert (process.returncode, err) == (4, b"")
    assert b"Run the same command again to continue" in out
    done = sum((value or "").startswith("$over$") for value in portal.stored().values())
    assert f"{done:,} rows layered" in out.decode()
    assert 0 < done < 1500


def test_two_runs_at_once_do_each_row_once(tmp_path: Path) -> None:
    """Both finish without error; together they did every row, and every password opens."""
    portal = make_portal(tmp_path, ["md5", "sha1", "bcrypt", "plain"] * 60)
    runs = [
        start_program("layer", "--no-backup", "--format", "json", cwd=tmp_path) for _ in range(2)
    ]
    for run in runs:
        _, err = run.communicate(timeout=120)
        assert (run.returncode, err) == (0, b"")
    assert all((value or "").count("$over$") <= 1 for value in portal.stored().values())
    verified = run_program(
        "verify", "known.csv", "--store", "passengers", "--format", "json", cwd=tmp_path
    )
    assert verified.document["rejected"] == 0


@pytest.mark.parametrize(
    ("times", "code"),
    [
        (("05:58", "05:59", "06:00"), 4),
        (("23:50", "00:10", "06:00"), 4),
        (("06:00", "06:01", "23:59"), 0),  # the next 06:00 is tomorrow's
    ],
)
def test_a_run_ends_at_its_time_of_day(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, times: tuple[str, ...], code: int
) -> None:
    """`--until` means the first such time after the start; what is left waits for the next run."""
    portal = make_portal(tmp_path, ["md5"] * 40)
    monkeypatch.chdir(tmp_path)
    moments: list[datetime] = []
    for text in times:
        moment = datetime.combine(date(2026, 5, 4), time_of_day.fromisoformat(text), UTC)
        moments.append(moment + timedelta(days=1) * (bool(moments) and moment < moments[0]))
    left = iter(moments)

    def clock() -> datetime:
        return next(left, moments[-1])

    finished = run_in_process(
        "layer", "--no-backup", "--until", "06:00", "--format", "json", clock=clock
    )
    assert finished.code == code
    layered = sum(str(value).startswith("$over$") for value in portal.stored().values())
    assert finished.document["layered"] == layered
    assert (layered == len(portal.passengers)) is (code == 0)
    assert run_program("layer", "--no-backup", "--format", "json", cwd=tmp_path).code == 0
