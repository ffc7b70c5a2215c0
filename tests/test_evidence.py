"""Proof before writing, readers first, and the file in which evidence is kept."""

import base64
import hashlib
import json
import sqlite3
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

import pytest

from conftest import Portal, Program, make_portal, run_in_process
from lean_tumbler.core.reading.evidence import CohortKey, Counts, Evidence, Proof
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.evidence_file import CohortTrial, EvidenceFile

KEY = CohortKey("passengers", "portal-2004", "2969c2908df4cece")


@pytest.fixture
def unproven(tmp_path: Path) -> Portal:
    """A store of which nothing is known yet."""
    portal = make_portal(tmp_path, ["md5", "sha1", "bcrypt", "plain"] * 5)
    (tmp_path / "tumbler.evidence.json").unlink()
    return portal


def layered(portal: Portal) -> int:
    return sum(str(value).startswith("$over$") for value in portal.stored().values())


def test_a_cohort_without_proof_is_not_layered(unproven: Portal, in_process: Program) -> None:
    """What says itself how it was made is; the rest waits, with what to do, and exit code 1."""
    finished = in_process("layer")
    assert finished.code == 1
    assert "“portal-2004” is not layered: no account of it is known to open." in finished.out
    assert "--unproven portal-2004" in finished.out
    assert layered(unproven) == 5  # bcrypt says all of itself
    document = in_process("layer", "--dry-run", "--format", "json").document
    assert document["proofs"]["portal-2004"]["missing"] == "no account of it is known to open"
    assert in_process("layer", "--unproven", "portal-2004").code == 1
    assert layered(unproven) == 10
    assert in_process("layer", "--unproven", "portal-2011").code == 0
    assert layered(unproven) == 15
    assert in_process("layer", "--unproven", "portal-2005").code == 2


def test_known_accounts_prove_and_disprove(unproven: Portal, in_process: Program) -> None:
    """Five of five give a bound of 45 %; one that is refused stops its cohort alone."""
    assert in_process("verify", "known.csv", "--store", "passengers").code == 0
    plan = in_process("plan").out
    assert (
        "portal-2004: 5 of 5 known accounts: at most 45 % of these rows can be made other" in plan
    )
    asked = in_process("layer", "--proof", "1%", "--format", "json")
    assert asked.code == 1
    assert asked.document["proofs"]["portal-2004"]["missing"].startswith("too few accounts")
    assert layered(unproven) == 5
    person = next(row for row in unproven.passengers if row.cohort == "md5")
    (unproven.folder / "one.csv").write_text(f"login,password\n{person.login},mistyped\n")
    assert in_process("verify", "one.csv", "--store", "passengers").code == 1
    finished = in_process("layer")
    assert finished.code == 1
    assert "portal-2004: 4 of 5 known accounts: disproved" in finished.out
    assert layered(unproven) == 10
    assert in_process("verify", "known.csv", "--store", "passengers").code == 0
    assert in_process("layer").code == 0  # what is found now takes the place of what was found then
    assert layered(unproven) == 15


def test_logins_prove_too(unproven: Portal, in_process: Program) -> None:
    """An admitted login speaks for its cohort, a refused one says nothing, a person counts once."""
    policy = unproven.folder / "tumbler.toml"
    policy.write_text(
        policy.read_text().replace("readers_ready", 'mode = "observe"\nreaders_ready')
    )
    people = [row for row in unproven.passengers if row.cohort == "sha1"]
    for _ in range(2):
        for person in people[:3]:
            in_process("admit", person.login, stdin=person.password.encode())
            in_process("admit", person.login, stdin=b"mistyped")
    document = in_process("plan", "--format", "json").document
    (proof,) = [c["proof"] for c in document["cohorts"] if c["cohort"] == "portal-2011"]
    assert (proof["observed_agreed"], proof["observed_differed"], proof["missing"]) == (3, 0, None)
    text = policy.with_name("tumbler.evidence.json").read_text()
    assert policy.with_name("tumbler.evidence.json").stat().st_mode & 0o777 == 0o600
    for person in people:
        assert person.login not in text
        assert (person.stored or "") not in text


@pytest.mark.parametrize(
    ("counts", "bound"),
    [((10, 0, 0, 0), 0.2589), ((0, 0, 4217, 0), 0.00071), ((1, 0, 0, 0), 0.95),
     ((0, 0, 0, 0), 1.0), ((10, 1, 0, 0), 1.0), ((5, 0, 5, 0), 0.2589)],
)  # fmt: skip
def test_the_bound_follows_from_the_counts(counts: tuple[int, ...], bound: float) -> None:
    """1 − 0.05^(1/n) for n right and none wrong; nothing is bounded where something is wrong."""
    accepted, refused, agreed, differed = counts
    found = Counts(accepted=accepted, refused=refused, agreed=agreed, differed=differed)
    assert found.bound == pytest.approx(bound, rel=2e-3)


def test_what_counts_as_proof() -> None:
    """Nothing known, too little, something against it, or enough."""
    evidence = Evidence({KEY: Counts(accepted=5)})
    assert evidence.judged(KEY) is Proof.PROVEN
    assert evidence.judged(KEY, most=0.01) is Proof.TOO_LITTLE
    assert evidence.judged(CohortKey("passengers", "portal-2004", "another")) is Proof.NONE
    assert Evidence({KEY: Counts(accepted=5, differed=1)}).judged(KEY) is Proof.AGAINST


def test_many_programs_note_at_once(tmp_path: Path) -> None:
    """No note is lost between them, and the count is never above the number of people."""
    policy = tmp_path / "tumbler.toml"
    policy.touch()

    def note(worker: int) -> None:
        for number in range(20):
            login = f"{worker}-{number}@tidepost.example"
            EvidenceFile.beside(policy).note_seen([CohortTrial(key=KEY, login=login, right=True)])

    with ThreadPoolExecutor(6) as executor:
        list(executor.map(note, range(6)))
    agreed = EvidenceFile.beside(policy).read().of(KEY).agreed
    assert 115 <= agreed <= 120  # two people may share a bit


@pytest.mark.parametrize(
    "text", ["", "[]", "{}", '{"document": "x"}', "[" * 9000, '{"document": 1, "stores": 2}',
             '{"document": "lean-tumbler/evidence/1", "key": "!", "stores": {}}',
             ('{"document": "lean-tumbler/evidence/1", "key": "", "stores": {"a": [{"cohort": "c", '
              '"from": "f", "maps": {"accepted": "eJwDAAAAAAE="}}]}}')],
)  # fmt: skip
def test_a_file_that_is_none_of_ours(tmp_path: Path, text: str) -> None:
    """It is named, with what to do, and nothing rests on it."""
    policy = tmp_path / "tumbler.toml"
    policy.touch()
    (tmp_path / "tumbler.evidence.json").write_text(text)
    with pytest.raises(UsageError, match="not an evidence file that this tool wrote"):
        EvidenceFile.beside(policy).read()


def test_nothing_is_written_before_readers_are_ready(unproven: Portal, in_process: Program) -> None:
    """Without readers_ready, or before that day: three lines say why, and name the order."""
    before = unproven.stored()
    policy = unproven.folder / "tumbler.toml"
    text = policy.read_text()
    for line, says in (
        ("", "does not say readers_ready"),
        ("readers_ready = 2999-01-01\n", "not come"),
    ):
        policy.write_text(text.replace("readers_ready = 2026-01-01\n", line))
        for command in (("layer",), ("lock-dormant", "--backup", "b", "--to", "k", "--away", "30")):
            finished = in_process(*command)
            assert (finished.code, finished.out) == (2, "")
            if command[0] == "layer":
                assert says in finished.err
                assert finished.err.count("\n") == 3
                assert "The order is: 1. every program that checks passwords" in finished.err
        assert in_process("layer", "--dry-run").code == 1  # it would leave what is not proven
        assert in_process("plan").code == 0
    assert unproven.stored() == before
    policy.write_text(text)
    early = run_in_process("layer", clock=lambda: datetime(2025, 12, 31, 23, tzinfo=UTC))
    assert (early.code, unproven.stored()) == (2, before)


def test_a_rows_own_words_need_no_proof(tmp_path: Path, in_process: Program) -> None:
    """Tags and dollar fields are layered at once, their own salt and formula kept in the head."""
    salt = b"salt"
    value = "{SSHA}" + base64.b64encode(hashlib.sha1(b"Gull 7" + salt).digest() + salt).decode()
    make_portal(tmp_path, ["md5"])
    (tmp_path / "tumbler.evidence.json").unlink()
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute("UPDATE passengers SET pw = ?, pw_salt = 'another'", (value,))
    document = in_process("layer", "--format", "json").document
    assert (document["layered"], document["proofs"]) == (1, {})
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection:
        login, over = connection.execute("SELECT email, pw FROM passengers").fetchone()
    assert ",salt=c2FsdA$" in over
    assert in_process("admit", login, stdin=value.encode()).code == 1
    assert in_process("admit", login, stdin=b"Gull 7").out.startswith("admitted")
    assert json.dumps(document)
