"""`enforce`: what the guard of a column lets in on each server, and what shuts the gate."""

import hashlib
import json
import re
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, suppress
from dataclasses import dataclass
from pathlib import Path
from xml.etree import ElementTree as ET

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CHEAP_POLICY, Portal, Program, make_portal, run_program
from lean_tumbler.core.grades import Floor
from lean_tumbler.core.limits import Limits, over_limits
from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, read_value
from lean_tumbler.core.stored_forms import between, pattern
from lean_tumbler.stores.sql.opening import open_database
from server_portal import make_portal as make_server_portal
from test_servers import STARTERS

SALT = b"ebb and flow, 16"
DIRECT = {
    scheme: DERIVATIONS[scheme].create(b"Dunlin 42", SALT, costs)
    for scheme, costs in {
        "argon2id": {"memory_kib": 256, "passes": 1, "lanes": 1},
        "scrypt": {"cost_log2": 4, "block_size": 8, "lanes": 1},
        "pbkdf2-sha256": {"rounds": 1000},
        "pbkdf2-sha512": {"rounds": 1000},
        "bcrypt": {"cost_log2": 5},
    }.items()
}
FLOOR = """
[floor]
argon2id = { memory_kib = 256, passes = 1 }
scrypt = { cost_log2 = 4, block_size = 8, lanes = 1 }
pbkdf2-sha256 = { rounds = 1000 }
pbkdf2-sha512 = { rounds = 1000 }
bcrypt = { cost_log2 = 5 }
"""
LAYERED = "$over$from=2969c2908df4cece,salt=YTFi" + DIRECT["argon2id"]
GOOD = [
    *DIRECT.values(),
    LAYERED,
    "$over$from=bcrypt,salt=YTFi,login=YTFi" + DIRECT["scrypt"],
    "!",
    "*",
    "!locked$abcdefghijklmnopqrs_-9",
]
BAD = {
    "plain text": "harbour1",
    "an old digest": hashlib.md5(b"x").hexdigest(),
    "a truncated value": DIRECT["argon2id"][:-1],
    "a truncated layered value": LAYERED[:-1],
    "a value below the floor": DIRECT["argon2id"].replace("m=256", "m=255"),
    "too few rounds": DIRECT["pbkdf2-sha256"].replace("i=1000", "i=999"),
    "a cost with a leading zero": DIRECT["argon2id"].replace("m=256", "m=0256"),
    "a truncated bcrypt value": DIRECT["bcrypt"][:-1],
    "a weak bcrypt cost": DIRECT["bcrypt"].replace("$05$", "$04$"),
    "something behind it": DIRECT["argon2id"] + " ",
    "something before it": " " + DIRECT["argon2id"],
    "upper case": DIRECT["argon2id"].replace("argon2id", "ARGON2ID"),
    "bcrypt under a layer tag": "$over$from=bcrypt" + DIRECT["bcrypt"],
    "blanks inside": DIRECT["argon2id"].replace("$v=19", "$v= 19"),
    "empty": "",
    "a marker that is too short": "!locked$abcdefghijklmnopqrs_-",
    "a marker with other signs": "!locked$abcdefghijklmnopqrs_-.",
}
POLICY = re.sub(r"\[floor\].*?\n\n", FLOOR + "\n", CHEAP_POLICY, count=1, flags=re.DOTALL)


@pytest.fixture
def program(in_process: Program) -> Program:
    """Run in this process: there are many runs, and the built program is run elsewhere."""
    return in_process


@dataclass(frozen=True)
class Guarded:
    """A store of current values, on some server; `write` tells whether a value gets in."""

    folder: Path
    run: Callable[[str], object]
    update: str
    insert: str

    def write(self, statement: str, value: str) -> bool:
        try:
            self.run(statement.format("'" + value.replace("'", "''") + "'"))
        except Exception:  # noqa: BLE001 - whatever the server's client raises
            return False
        return True


@pytest.fixture(scope="module", params=["SQLite", *STARTERS])
def guarded(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Guarded]:
    folder = tmp_path_factory.mktemp("guarded")
    statements = (
        "UPDATE passengers SET pw = {} WHERE id = 1;",
        "INSERT INTO passengers (id, email, pw) VALUES (1000, 'x', {}); DELETE FROM passengers WHERE id = 1000;",
    )
    if request.param == "SQLite":
        portal = make_portal(folder, ["current"] * 3)
        (folder / "tumbler.toml").write_text(POLICY)

        def run(statement: str) -> None:
            with closing(sqlite3.connect(portal.database)) as connection:
                connection.executescript(f"PRAGMA synchronous = OFF; BEGIN; {statement} COMMIT;")

        yield Guarded(folder, run, *statements)
        return
    with STARTERS[request.param]() as server:
        make_server_portal(server, folder, rows=3)
        server.run(f"UPDATE passengers SET pw = '{DIRECT['argon2id']}', pw_salt = NULL;")
        policy = POLICY.replace('"sqlite:///harbour.db"', f'"{server.url}"')
        (folder / "tumbler.toml").write_text(policy)
        engine = open_database(server.url, base=folder, writable=True).engine
        writing = engine.execution_options(isolation_level="AUTOCOMMIT")

        def run_there(text: str) -> None:
            with writing.connect() as connection:  # a client program for each takes much longer
                for statement in filter(None, map(str.strip, text.split(";"))):
                    connection.exec_driver_sql(statement)

        yield Guarded(folder, run_there, *statements)
        engine.dispose()


def test_the_guard_of_each_server(guarded: Guarded) -> None:
    """Every form that is written gets in; plain text, old digests, cut and weak values do not."""
    refused = run_program("enforce", "constraint", "--remove", cwd=guarded.folder)
    assert (refused.code, "is not guarded" in refused.err) == (2, True)
    shown = run_program("enforce", "constraint", "--format", "json", cwd=guarded.folder)
    assert (shown.code, shown.document["stands"], shown.document["violations"]) == (0, False, 0)
    assert guarded.write(guarded.update, "harbour1")
    listed = ("--list", "refused.csv")
    stopped = run_program("enforce", "constraint", "--apply", *listed, cwd=guarded.folder)
    assert stopped.code == 1
    assert (guarded.folder / "refused.csv").read_text().split() == ["account", "1"]
    assert "1 row would not be admitted" in stopped.out
    assert "account 1" in stopped.out
    assert "harbour1" not in stopped.out + stopped.err
    assert guarded.write(guarded.update, DIRECT["argon2id"])
    applied = run_program("enforce", "constraint", "--apply", cwd=guarded.folder)
    assert applied.code == 0, applied.err
    assert applied.out.startswith("passengers: the column is guarded.")
    assert run_program("enforce", "constraint", "--apply", cwd=guarded.folder).code == 2
    for value in GOOD:
        assert guarded.write(guarded.update, value), value
        assert guarded.write(guarded.insert, value), value
    for what, value in BAD.items():
        assert not guarded.write(guarded.update, value), what
        assert not guarded.write(guarded.insert, value), what
    guarded.run("UPDATE passengers SET pw = NULL WHERE id = 1;")
    assert run_program("enforce", "constraint", "--remove", cwd=guarded.folder).code == 0
    assert guarded.write(guarded.update, "harbour1")


HALF = {
    "SQLite": "CREATE TRIGGER tumbler_stored_forms_insert BEFORE INSERT ON passengers BEGIN SELECT 1; END;",
    "postgresql": "ALTER TABLE passengers ADD CONSTRAINT tumbler_stored_forms CHECK (true) NOT VALID;",
}


def test_half_a_guard_is_none(guarded: Guarded, request: pytest.FixtureRequest) -> None:
    """What a run left that ended half way does not count; it is made whole, or taken away."""
    server = request.node.callspec.params["guarded"]
    if server not in HALF:
        return  # one statement, which the server does whole or not at all
    guarded.write(guarded.update, DIRECT["argon2id"])
    for option in ("--apply", "--remove"):
        guarded.run(HALF[server])
        shown = run_program("enforce", "constraint", "--format", "json", cwd=guarded.folder)
        assert not shown.document["stands"]
        done = run_program("enforce", "constraint", option, "--format", "json", cwd=guarded.folder)
        assert (done.code, done.document["stands"]) == (0, option == "--apply"), done.err
        assert guarded.write(guarded.update, "harbour1") == (option == "--remove")
        if option == "--apply":
            run_program("enforce", "constraint", "--remove", cwd=guarded.folder)


def test_rows_between_the_count_and_the_guard(guarded: Guarded) -> None:
    """Beside a program that writes plain text, a guard that stands holds for every row."""
    stop, written = threading.Event(), []

    def write_plain_text() -> None:
        while not stop.is_set():
            written.append(guarded.write(guarded.update, "harbour1"))
            guarded.write(guarded.update, DIRECT["argon2id"])
            stop.wait(0.005)

    others = threading.Thread(target=write_plain_text)
    others.start()
    outcomes = set()
    try:
        for _ in range(6):
            done = run_program(
                "enforce", "constraint", "--apply", "--format", "json", cwd=guarded.folder
            )
            stands = done.code == 0 and done.document["stands"]
            outcomes.add(stands)
            if stands:
                assert not guarded.write(guarded.update, "harbour1")
                checked = run_program(
                    "enforce", "constraint", "--format", "json", cwd=guarded.folder
                )
                assert checked.document["violations"] == 0
                assert (
                    run_program("enforce", "constraint", "--remove", cwd=guarded.folder).code == 0
                )
    finally:
        stop.set()
        others.join()
    assert any(written)
    guarded.write(guarded.update, DIRECT["argon2id"])


def test_logins_and_layers_pass_the_guard(portal: Portal, program: Program) -> None:
    """The tool's own writes are admitted: whatever was weak is upgraded through it."""
    assert program("layer", "--no-backup").code in {0, 4}
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute("UPDATE passengers SET pw = '!' WHERE pw = '' OR pw NOT LIKE '$%'")
    assert program("enforce", "constraint", "--apply").code == 0
    person = next(row for row in portal.passengers if row.cohort == "sha1")
    assert program("admit", person.login, stdin=person.password.encode()).code == 0
    assert (portal.stored()[person.number] or "").startswith("$argon2id$")


@given(st.integers(1, 10**9), st.integers(0, 10**9), st.integers(0, 10**10))
def test_numbers_of_a_range(lowest: int, more: int, number: int) -> None:
    """The expression takes a decimal number exactly where it is of the range."""
    found = re.fullmatch(between(lowest, lowest + more), str(number))
    assert (found is not None) == (lowest <= number <= lowest + more)


@given(st.text(max_size=40) | st.from_regex(pattern(StoragePolicy()), fullmatch=True))
def test_what_is_admitted_is_never_weak(text: str) -> None:
    """Whatever the published floor's expression takes, the reader grades as no weaker."""
    if re.fullmatch(pattern(StoragePolicy()), text):
        parsed = read_value(text)
        is_strong = Floor().reached_by(parsed.scheme, parsed.parameters)
        by_its_head = parsed.kind is Kind.UNKNOWN and text.startswith(
            "$over$"
        )  # inputs in disorder
        assert is_strong or parsed.scheme == "lock-marker" or by_its_head
        # Each number is looked at by itself; what they ask for together is the login's to refuse.
        slow = DERIVATIONS.get(parsed.scheme)
        has_blocks = slow is not None and slow.blocks_of(len(parsed.digest)) > 1
        together = over_limits(parsed, Limits()).startswith(
            ("work_kib", "memory_kib", *(("rounds",) if has_blocks else ()))
        )
        assert together or not over_limits(parsed, Limits())


@pytest.fixture
def gated(tmp_path: Path) -> Portal:
    """A store that says when rows were made and changed, with an accepted state."""
    portal = make_portal(tmp_path, ["md5", "sha1", "current", "current", "current"])
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.executescript(
            "ALTER TABLE passengers ADD COLUMN made TEXT; ALTER TABLE passengers ADD COLUMN changed TEXT;"
            "UPDATE passengers SET made = '2026-01-01', changed = '2026-02-02';"
        )
    policy = CHEAP_POLICY.replace(
        'stored = "pw"', 'stored = "pw"\ncreated = "made"\nupdated = "changed"'
    )
    (tmp_path / "tumbler.toml").write_text(policy)
    first = run_program("enforce", "gate", "--state", "s", cwd=tmp_path)
    assert (first.code, "accepted 2 accounts that are weak or not understood" in first.out) == (
        0,
        True,
    )
    return portal


def change(portal: Portal, statement: str) -> None:
    with closing(sqlite3.connect(portal.database)) as connection, connection:
        connection.execute(statement)


WEAK = hashlib.md5(b"y").hexdigest()


def test_the_gate_stays_shut_until_mended_or_accepted(gated: Portal, program: Program) -> None:
    """New weak rows and rows that went backwards, with their times; not those accepted before."""
    assert program("enforce", "gate", "--state", "s").code == 0
    change(gated, f"INSERT INTO passengers VALUES (9, 'n', '{WEAK}', NULL, 0, '2026-03-03', NULL)")
    change(gated, f"UPDATE passengers SET pw = '{WEAK}', changed = '2026-04-04' WHERE id = 3")
    for _ in range(2):
        finished = program("enforce", "gate", "--state", "s")
        assert finished.code == 1
        assert "account 9: fast-unsalted, is new; created 2026-03-03" in finished.out
        assert "account 3: fast-unsalted, went backwards; created 2026-01-01, updated 2026-04-04" in finished.out  # fmt: skip
        assert "account 1" not in finished.out
        assert WEAK not in finished.out
    change(gated, "DELETE FROM passengers WHERE id = 9")
    document = program("enforce", "gate", "--state", "s", "--format", "json").document
    assert (document["passed"], document["stores"][0]["regressions"]) == (False, 1)
    assert program("enforce", "gate", "--state", "s", "--accept").code == 0
    assert program("enforce", "gate", "--state", "s").code == 0


def test_an_account_that_was_mended_may_not_fall_back(gated: Portal, program: Program) -> None:
    """What was accepted as weak and has become strong is watched from then on."""
    old = gated.stored()[1]
    change(gated, "UPDATE passengers SET pw = '!' WHERE id = 1")
    assert program("enforce", "gate", "--state", "s").code == 0
    change(gated, f"UPDATE passengers SET pw = '{old}' WHERE id = 1")
    finished = program("enforce", "gate", "--state", "s")
    assert (finished.code, "went backwards" in finished.out) == (1, True)


def test_the_gate_for_machines(gated: Portal, program: Program) -> None:
    """JUnit XML for CI servers, SARIF for code scanning."""
    change(gated, f"UPDATE passengers SET pw = '{WEAK}' WHERE id = 4")
    junit = program("enforce", "gate", "--state", "s", "--format", "junit")
    suite = ET.fromstring(junit.out)  # noqa: S314 - made here
    assert (junit.code, suite.get("failures"), suite.get("tests")) == (1, "1", "1")
    assert "account 4" in (suite.findtext("testcase/failure") or "")
    sarif = json.loads(program("enforce", "gate", "--state", "s", "--format", "sarif").out)
    results = sarif["runs"][0]["results"]
    assert [result["ruleId"] for result in results] == ["below-floor-appeared"]
    assert sarif["version"] == "2.1.0"


def test_a_state_that_is_none(gated: Portal, program: Program) -> None:
    """Another file is refused, and left as it is."""
    (gated.folder / "other").write_text("no state")
    finished = program("enforce", "gate", "--state", "other")
    assert (finished.code, "not a state" in finished.err) == (2, True)
    assert (gated.folder / "other").read_text() == "no state"
    with suppress(FileNotFoundError):
        (gated.folder / "s").unlink()
    assert program("enforce", "gate", "--state", "s", "--format", "json").document["stores"][0][
        "first_run"
    ]
