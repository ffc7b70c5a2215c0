"""Checking passwords against every scheme that a check can decide, with the system as oracle."""

import hashlib
import os
from pathlib import Path
from typing import Any

import bcrypt
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import servers
from conftest import CHEAP_POLICY, Program, missing, planned
from lean_tumbler import CredentialGateway, Outcome, StoragePolicy
from lean_tumbler.core.limits import Limits, over_limits
from lean_tumbler.core.reading.ways import recompute
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.row_plans import derived, task_of
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, LAYOUTS, read_value
from lean_tumbler.core.schemes.obsolete import system_crypt
from lean_tumbler.errors import CheckImpossible

ACCEPTING = StoragePolicy.from_toml(CHEAP_POLICY)
POLICY = StoragePolicy.from_toml(CHEAP_POLICY.partition("[[store.passengers.cohort]]")[0])


def admit(**row: Any) -> Outcome:
    """Ask a gateway of its own, whose refusals cost what this row asks for and no other does."""
    return CredentialGateway(POLICY).admit(**row)


C64 = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"


def crypt(setting: str, password: bytes) -> str:
    """Ask the system's library, where it is."""
    if system_crypt.crypt_function() is None:
        missing("libcrypt")
    return system_crypt.system_crypt(setting, password)


def test_every_foreign_value_opens_with_its_password_alone(
    foreign_values: list[dict[str, str]],
) -> None:
    """All 107 accept their password and refuse it with another first character."""
    for row in foreign_values:
        known: dict[str, Any] = {"stored": row["stored"], "login": row.get("login")}
        wrong = ("X" if row["password"][0] != "X" else "Y") + row["password"][1:]
        admitted = admit(password=row["password"], **known)
        assert admitted.admitted, (row["scheme"], admitted.refusal)
        refused = admit(password=wrong, **known)
        assert (refused.admitted, refused.refusal) == (False, "wrong-password"), row["scheme"]


def test_every_foreign_setting_value_is_layered_and_comes_off_again(
    foreign_values: list[dict[str, str]],
) -> None:
    """Its setting in the head is enough; what several passwords open stays layered."""
    seen = set()
    for row in foreign_values:
        parsed = read_value(row["stored"])
        if parsed.kind is not Kind.ITERATED:
            continue
        seen.add(parsed.scheme)
        plan = planned(row["stored"].encode(), policy=POLICY)
        over = derived(task_of(plan, POLICY.target, os.urandom))
        assert not admit(stored=over, password="X" + row["password"]).admitted
        outcome = admit(stored=over, password=row["password"])
        lossy = bool(CRYPT_SCHEMES[parsed.scheme].lossy)
        expected = (True, "none") if lossy else (True, "layer-removed")
        assert (outcome.admitted, outcome.action) == expected, parsed.scheme
    assert {"md5-crypt", "sha512-crypt", "des-crypt", "yescrypt", "scram-sha-256"} <= seen


@settings(max_examples=60)
@given(
    st.sampled_from(["$1${}$", "$5${}$", "$6${}$", "$5$rounds=1003${}$", "$sha1$9${}$"]),
    st.text(C64, min_size=1, max_size=8),
    st.binary(max_size=90).filter(lambda raw: b"\0" not in raw),
)
def test_our_crypt_methods_agree_with_the_system(form: str, salt: str, password: bytes) -> None:
    """Any password and salt give the text that libcrypt gives."""
    made = crypt(form.format(salt), password)
    parsed = read_value(made)
    compute = CRYPT_SCHEMES[parsed.scheme].compute
    assert compute(parsed.contents.setting, password) == made


SYSTEM_SETTINGS = {
    "bsdi-crypt": "_J9..salt",
    "des-crypt": "ab",
    "bigcrypt": "ab" + "." * 22,
    "sun-md5": "$md5,rounds=10$saltsalt$",
    "yescrypt": "$y$j75$saltsaltsalt",
    "gost-yescrypt": "$gy$j75$saltsaltsalt",
}


@pytest.mark.parametrize("scheme", SYSTEM_SETTINGS)
def test_methods_of_the_system_open_here(scheme: str) -> None:
    """Values of libcrypt's own methods are read as what they are, and open with their password."""
    stored = crypt(SYSTEM_SETTINGS[scheme], b"Dunlin 42 gull")
    parsed = read_value(stored)
    assert parsed.scheme == scheme
    assert admit(stored=stored, password="Dunlin 42 gull").admitted
    assert not admit(stored=stored, password="dunlin 42 gull").admitted
    assert admit(stored=f"{{CRYPT}}{stored}", password="Dunlin 42 gull").admitted


@pytest.mark.parametrize("password", ["Möwe 7", "ÿÿÿ", "x" * 80 + "ÿ", "Зимородок", ""])
def test_the_signed_variant_of_bcrypt_agrees_with_the_system(password: str) -> None:
    """The sign extension of 2x, on bytes above 127 and beyond 72."""
    raw = password.encode()
    made = crypt("$2x$04$abcdefghijklmnopqrstuu", raw)
    parsed = read_value(made)
    assert recompute(parsed, raw, Limits())[1] == parsed.digest
    right = made.replace("$2x$", "$2b$")
    assert (recompute(read_value(right), raw, Limits())[1] == parsed.digest) == raw[:72].isascii()


def test_old_server_passwords_agree_with_the_server() -> None:
    """MariaDB's own OLD_PASSWORD and PASSWORD give values that open here."""
    words = ["a", "Dunlin 42", "tab\tand blank ", "ÿ Möwe", "x" * 60]
    with servers.mariadb() as server:
        for word in words:
            asked = f"SELECT OLD_PASSWORD('{word}'), PASSWORD('{word}')"
            for stored in server.ask(asked).split("\t"):
                assert admit(stored=stored.strip(), password=word).admitted
                assert not admit(stored=stored.strip(), password=word + "!").admitted


def test_a_server_verifier_of_a_real_server_opens() -> None:
    """PostgreSQL stores what it is given by its own code, non-ASCII passwords prepared."""
    words = ["Dunlin 42", "Möwe 7", "ﬁne ² ª", "soft\u00adhyphen", "\u00a0nbsp"]
    with servers.postgresql() as server:
        for number, word in enumerate(words):
            server.run(f"CREATE ROLE berth{number} PASSWORD '{word}';")
            asked = f"SELECT rolpassword FROM pg_authid WHERE rolname = 'berth{number}';"
            stored = server.ask(asked).strip()
            assert stored.startswith("SCRAM-SHA-256$")
            assert admit(stored=stored, password=word).admitted, number
            assert not admit(stored=stored, password=word + "x").admitted


def test_the_cached_form_is_sha256_crypt_with_a_long_salt() -> None:
    """With a salt that sha256-crypt takes whole, both give one digest; and it opens here."""
    salt = "0123456789abcdef"
    usual = crypt(f"$5$rounds=5000${salt}$", b"Dunlin 42").rpartition("$")[2]
    compute = CRYPT_SCHEMES["sha256-crypt-20"].compute
    assert compute(f"$A$005${salt}{salt[:4]}", b"Dunlin 42")[-43:] != usual
    stored = compute("$A$005$\x01\x02aä$bcdefghijklmnop", b"Dunlin 42")
    assert read_value(stored).scheme == "sha256-crypt-20"
    assert admit(stored=stored, password="Dunlin 42").admitted


def test_a_salt_with_more_bits_than_a_salt_has_opens_as_before() -> None:
    """Programs that took salts of their own wrote such a last character; the primitive raises."""
    value = bcrypt.hashpw(b"Tern on a mast", bcrypt.gensalt(4)).decode("ascii")
    characters = "./ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"
    same_bits = [
        c for c in characters if characters.index(c) >> 4 == characters.index(value[28]) >> 4
    ]
    assert len(same_bits) == 16
    for character in same_bits:
        stored = f"{value[:28]}{character}{value[29:]}"
        assert admit(stored=stored, password="Tern on a mast").admitted
        assert not admit(stored=stored, password="Tern").admitted


@pytest.mark.parametrize(
    "stored",
    [
        "$6$rounds=999999999$saltsalt$" + "a" * 86,
        "$sha1$4294967295$saltsalt$" + "a" * 28,
        "$md5,rounds=4294967295$saltsalt$$" + "a" * 22,
        "_zzzzsalt" + "a" * 11,
        "$P$Ssaltsalt" + "a" * 22,
        "$y$jPT$saltsaltsalt$" + "a" * 43,  # N of 2 to the 28: terabytes
        "$y$j9T.zz$saltsaltsalt$" + "a" * 43,  # costs that are not read
        "$A$FFF$" + "s" * 20 + "a" * 43,
    ],
)
def test_planted_costs_are_refused_unrun(stored: str) -> None:
    """A huge cost in a planted value, bare or below a layer, is refused before any work."""
    parsed = read_value(stored)
    assert parsed.kind is Kind.ITERATED
    assert over_limits(parsed, Limits())
    assert admit(stored=stored, password="x").refusal == "over-limit"
    if parsed.contents.whole:
        plan = planned(stored.encode(), policy=POLICY)
        over = derived(task_of(plan, POLICY.target, os.urandom))
        assert admit(stored=over, password="x").refusal == "over-limit"


def test_the_form_that_matched_is_named(tmp_path: Path, program: Program) -> None:
    """A password that the legacy system got decomposed opens, and verify says which form did."""
    composed, decomposed = "M\u00f6we 7", "Mo\u0308we 7"
    digest = hashlib.md5(decomposed.encode()).hexdigest()
    rows = [("a", composed, digest), ("b", decomposed, digest), ("c", "Tern 7", digest)]
    lines = ["login,password,stored", *(",".join(row) for row in rows)]
    (tmp_path / "known.csv").write_text("\n".join(lines) + "\n")
    document = program("verify", "known.csv", "--format", "json").document
    assert [row["form"] for row in document["accounts"]] == ["nfd", "as typed", ""]
    assert "(nfd of what was typed)" in program("verify", "known.csv").out


def test_a_missing_library_is_an_error_and_no_wrong_password(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Where the system's library is not there, nobody is told that their password is wrong."""
    monkeypatch.setattr(system_crypt, "crypt_function", lambda: None)
    with pytest.raises(CheckImpossible, match="no libcrypt"):
        admit(stored="$y$j75$saltsaltsalt$" + "a" * 43, password="x")


def test_thirteen_characters_that_read_as_a_digest_are_no_password() -> None:
    """Where plain text is declared, a value that may be des-crypt is not opened by itself."""
    stored = "aZ3kQ9mTx4LwE"
    assert read_value(stored).scheme == "des-crypt"
    for policy, leave in (
        (ACCEPTING, Reason.MAY_BE_DIGEST),
        (POLICY, None),
    ):
        outcome = CredentialGateway(policy).admit(
            stored=stored, password=stored, store="passengers", salt="s"
        )
        assert not outcome.admitted
        assert planned(stored.encode(), b"s", policy=policy).leave is leave


def test_every_iterated_scheme_can_be_checked() -> None:
    """No layout of the catalogue is read and then left without a check."""
    iterated = {layout.scheme for layout in LAYOUTS if layout.kind is Kind.ITERATED}
    assert iterated - {"the crypt(3) family"} <= set(CRYPT_SCHEMES)
