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
from lean_tumbler.core.reading.evidence import CohortKey, Counts, Evidence
from lean_tumbler.core.reasons import Reason
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.evidence_file import CohortTrial, EvidenceFile, Shown

KEY = CohortKey("passengers", "portal-2004", "2969c2908df4cece")


@pytest.fixture
def unproven(tmp_path: Path) -> Portal:
    """A store of which nothing is known yet."""
    portal = make_portal(tmp_path, ["md5", "sha1", "bcrypt", "plain"] * 20)
    (tmp_path / "tumbler.evidence.json").unlink()
    return portal


def layered(portal: Portal) -> int:
    return sum(str(value).startswith("$over$") for value in portal.stored().values())


def test_a_cohort_without_proof_is_not_layered(unproven: Portal, in_process: Program) -> None:
    """What says itself how it was made is; the rest waits, with what to do, and exit code 1."""
    finished = in_process("layer", "--no-backup")
    assert finished.code == 1
    reason = "no account of its cohort is known to open"
    assert f"“portal-2004” is not layered: {reason}." in finished.out
    assert "--unproven portal-2004" in finished.out
    assert layered(unproven) == 20  # bcrypt says all of itself
    document = in_process("layer", "--dry-run", "--format", "json").document
    assert document["proofs"]["portal-2004"]["missing"] == reason
    assert in_process("layer", "--no-backup", "--unproven", "portal-2004").code == 1
    assert layered(unproven) == 40
    more = ("--unproven", "portal-2011", "--unproven", "clerks")
    assert in_process("layer", "--no-backup", *more).code == 0
    assert layered(unproven) == 60
    assert in_process("layer", "--no-backup", "--unproven", "portal-2005").code == 2


def known_of(portal: Portal, cohort: str, number: int, *, wrong: int = 0) -> str:
    """Write a file of known accounts of one cohort; the last ones have another password."""
    people = [row for row in portal.passengers if row.cohort == cohort][:number]
    typed = [row.password for row in people[: number - wrong]] + ["mistyped"] * wrong
    lines = [f"{row.login},{password}" for row, password in zip(people, typed, strict=True)]
    (portal.folder / "some.csv").write_text("\n".join(["login,password", *lines, ""]))
    return "some.csv"


def test_known_accounts_prove_and_disprove(unproven: Portal, in_process: Program) -> None:
    """The bound is of the rows not yet seen; too few stop their cohort, with the three ways on."""
    verify = ("verify", "--store", "passengers")
    assert in_process(*verify, known_of(unproven, "md5", 5)).code == 0
    asked = in_process("layer", "--no-backup")
    assert asked.code == 1
    assert (
        "portal-2004: 5 of 5 known accounts. If these are like the rest, with 95 % confidence at "
        "most 40 % of its rows use another formula."
    ) in asked.out
    assert "“portal-2004” is not layered: too few accounts" in asked.out
    assert "Add 4 more accounts to KNOWN" in asked.out
    assert "accept the figure: --error-bound 40%." in asked.out
    assert layered(unproven) == 20
    assert in_process(*verify, known_of(unproven, "md5", 10, wrong=1)).code == 1
    finished = in_process("layer", "--no-backup")
    assert "“portal-2004” is not layered: accounts of its cohort were refused." in finished.out
    assert layered(unproven) == 20
    assert in_process(*verify, known_of(unproven, "md5", 10)).code == 0
    in_process("layer", "--no-backup")  # what is found now takes the place of what was found then
    assert layered(unproven) == 40
    assert in_process(*verify, known_of(unproven, "sha1", 5)).code == 0
    in_process("layer", "--no-backup", "--error-bound", "40%")
    assert layered(unproven) == 60


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
    proof = document["proofs"]["portal-2011"]
    assert (proof["observed_agreed"], proof["observed_differed"], proof["people"]) == (3, 0, 3)
    text = policy.with_name("tumbler.evidence.json").read_text()
    assert policy.with_name("tumbler.evidence.json").stat().st_mode & 0o777 == 0o600
    for person in people:
        assert person.login not in text
        assert (person.stored or "") not in text


@pytest.mark.parametrize(
    ("counts", "bound"),
    [((10, 0, 0, 0), 0.2589), ((0, 0, 4217, 0), 0.00071), ((1, 0, 0, 0), 0.95),
     ((0, 0, 0, 0), 1.0), ((10, 1, 0, 0), 0.3644), ((5, 0, 5, 0), 0.2589),
     ((0, 0, 4999, 1), 0.00095)],
)  # fmt: skip
def test_the_bound_follows_from_the_counts(counts: tuple[int, ...], bound: float) -> None:
    """1 − 0.05^(1/n) for n right and none wrong; with wrong ones, a rate has its own bound."""
    accepted, refused, agreed, differed = counts
    found = Counts(accepted=accepted, refused=refused, agreed=agreed, differed=differed)
    assert found.bound == pytest.approx(bound, rel=2e-3)


def test_what_counts_as_proof() -> None:
    """Nothing known, too little, something against it, or enough."""
    evidence = Evidence({KEY: Counts(accepted=5)})
    assert evidence.judged(KEY, most=0.5) is None
    assert evidence.judged(KEY) is Reason.TOO_FEW
    assert evidence.judged(KEY, rows=5) is None  # each row of it was seen
    assert evidence.judged(CohortKey("passengers", "portal-2004", "another")) is Reason.UNPROVEN
    assert Evidence({KEY: Counts(accepted=5, differed=1)}).judged(KEY) is Reason.CONTRADICTED
    assert Evidence({KEY: Counts(agreed=5000, differed=1)}).judged(KEY) is None  # a rate


def test_many_programs_note_at_once(tmp_path: Path) -> None:
    """No note is lost between them, and the count is never above the number of people."""
    policy = tmp_path / "tumbler.toml"
    policy.touch()

    def note(worker: int) -> None:
        for number in range(20):
            login = f"{worker}-{number}@tidepost.example"
            trial = CohortTrial(store=KEY.store, key=KEY, login=login, right=True)
            EvidenceFile.beside(policy).note(Shown.LOGIN, [trial])

    with ThreadPoolExecutor(6) as executor:
        list(executor.map(note, range(6)))
    agreed = EvidenceFile.beside(policy).load().evidence().of(KEY).agreed
    assert 118 <= agreed <= 120  # two people may share a bit


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
        EvidenceFile.beside(policy).load()


def test_nothing_is_written_before_readers_are_ready(unproven: Portal, in_process: Program) -> None:
    """Without readers_ready, or before that day: three lines say why, and name the order."""
    before = unproven.stored()
    policy = unproven.folder / "tumbler.toml"
    text = policy.read_text()
    for line, says in (
        ("", "does not say readers_ready"),
        ("readers_ready = 2999-01-01\n", "readers_ready = 2999-01-01, which is after"),
    ):
        policy.write_text(text.replace("readers_ready = 2026-01-01\n", line))
        for command in (
            ("layer", "--no-backup"),
            ("lock-dormant", "--backup", "b", "--to", "k", "--inactive-days", "30"),
        ):
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
    early = run_in_process(
        "layer", "--no-backup", clock=lambda: datetime(2025, 12, 31, 23, tzinfo=UTC)
    )
    assert (early.code, unproven.stored()) == (2, before)


def test_a_rows_own_words_need_no_proof(tmp_path: Path, in_process: Program) -> None:
    """Tags and dollar fields are layered at once, their own salt and formula kept in the head."""
    salt = b"salt"
    value = "{SSHA}" + base64.b64encode(hashlib.sha1(b"Gull 7" + salt).digest() + salt).decode()
    make_portal(tmp_path, ["md5"])
    (tmp_path / "tumbler.evidence.json").unlink()
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute("UPDATE passengers SET pw = ?, pw_salt = 'another'", (value,))
    document = in_process("layer", "--no-backup", "--format", "json").document
    assert (document["layered"], document["proofs"]) == (1, {})
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection:
        login, over = connection.execute("SELECT email, pw FROM passengers").fetchone()
    assert ",salt=c2FsdA$" in over
    assert in_process("admit", login, stdin=value.encode()).code == 1
    assert in_process("admit", login, stdin=b"Gull 7").out.startswith("admitted")
    assert json.dumps(document)
