"""Reading stored values and running the derivations, against published and foreign values."""

import ctypes
import ctypes.util
import hashlib
import subprocess

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from conftest import missing, oracle
from lean_tumbler.core.grades import Floor, Grade, grade
from lean_tumbler.core.limits import Limits
from lean_tumbler.core.login.checking import check
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.ways import Bounds, recompute
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, read_value
from lean_tumbler.core.schemes.obsolete.challenge_verifiers import labelled_key
from lean_tumbler.errors import OverLimit

# What the foreign values' file calls a layout, where this project's name is another.
LAYOUT_NAMES = {
    "HEX": "hex-upper",
    "$7$": "crypt fields",
    "$3$": "dollar fields",
    "digest, colon, salt; salt last": "digest, colon, salt",
}


def test_foreign_values_are_read_as_what_they_are(foreign_values: list[dict[str, str]]) -> None:
    """Every value of another program is read by its scheme and layout."""
    assert len(foreign_values) == 107
    for value in foreign_values:
        parsed = read_value(value["stored"])
        assert parsed.scheme == value["scheme"]
        if "layout" in value:
            assert parsed.layout == LAYOUT_NAMES.get(value["layout"], value["layout"])


def test_no_foreign_digest_is_taken_for_a_password(foreign_values: list[dict[str, str]]) -> None:
    """A stored value that is not understood is called unknown: else layering would destroy it."""
    kinds = {value["stored"]: read_value(value["stored"]).kind for value in foreign_values}
    assert Kind.READABLE not in kinds.values()


def test_passwords_are_read_as_plain_text(foreign_values: list[dict[str, str]]) -> None:
    """Real passwords, non-ASCII ones too, are not mistaken for digests."""
    for value in foreign_values:
        assert read_value(value["password"]).scheme == "plain-text"


def test_foreign_derivations_accept_their_password(foreign_values: list[dict[str, str]]) -> None:
    """Self-describing values of other programs open with their password and no other."""
    checked = 0
    for value in foreign_values:
        parsed = read_value(value["stored"])
        if parsed.kind is not Kind.DERIVATION or parsed.parameters.get("memory_kib", 0) > 20_000:
            continue
        right, wrong = value["password"].encode(), b"x" + value["password"].encode()[1:]
        assert recompute(parsed, right, Limits())[1] == parsed.digest
        assert recompute(parsed, wrong, Limits())[1] != parsed.digest
        checked += 1
    assert checked >= 28


@pytest.mark.parametrize(
    ("scheme", "secret", "salt", "parameters", "digest"),
    [
        # RFC 7914 section 12, cut to the 32 bytes that are stored.
        (
            "scrypt",
            b"pleaseletmein",
            b"SodiumChloride",
            {"cost_log2": 14, "block_size": 8, "lanes": 1},
            "7023bdcb3afd7348461c06cd81fd38ebfda8fbba904f8e3ea9b543f6545da1f2",
        ),
        # RFC 7914 section 11, cut to 32 bytes.
        (
            "pbkdf2-sha256",
            b"Password",
            b"NaCl",
            {"rounds": 80_000},
            "4ddcd8f60b98be21830cee5ef22701f9641a4418d04c0414aeff08876b34ab56",
        ),
        # RFC 6070.
        (
            "pbkdf2-sha1",
            b"password",
            b"salt",
            {"rounds": 4096},
            "4b007901b765489abead49d926f721d065a429c1",
        ),
    ],
)
def test_derivations_give_published_vectors(
    scheme: str, secret: bytes, salt: bytes, parameters: dict[str, int], digest: str
) -> None:
    """The derivations compute what their standards print."""
    stored = DERIVATIONS[scheme].create(secret, salt, parameters)
    assert read_value(stored).digest.hex() == digest


@pytest.mark.parametrize("version_flag", ["13", "10"])
@pytest.mark.parametrize("kind", ["id", "i", "d"])
def test_argon2_agrees_with_the_reference_program(kind: str, version_flag: str) -> None:
    """Values of the reference program open here, in every type and both versions."""
    made = subprocess.run(
        [
            *(oracle("argon2"), "invented salt", f"-{kind}", "-t", "2", "-k", "512", "-p", "2"),
            *("-e", "-v", version_flag),
        ],
        input=b"Dunlin 42",
        capture_output=True,
        check=True,
    ).stdout.decode()
    parsed = read_value(made.strip())
    assert parsed.scheme == f"argon2{kind}"
    assert recompute(parsed, b"Dunlin 42", Limits())[1] == parsed.digest


def _libcrypt(password: bytes, setting: bytes) -> str:
    name = ctypes.util.find_library("crypt")
    if name is None:
        missing("libcrypt")
    library = ctypes.CDLL(name)
    library.crypt.restype = ctypes.c_char_p
    return bytes(library.crypt(password, setting)).decode()


@pytest.mark.parametrize("password", [b"", b"Tern 7", "Möwe".encode(), b"x" * 72, b"y" * 100])
@pytest.mark.parametrize("variant", ["2a", "2b", "2y"])
def test_bcrypt_agrees_with_the_system_library(variant: str, password: bytes) -> None:
    """Values of the C library open here, passwords above 72 bytes too."""
    made = _libcrypt(password, f"${variant}$04$abcdefghijklmnopqrstuu".encode())
    parsed = read_value(made)
    assert (parsed.scheme, parsed.contents.variant) == ("bcrypt", variant)
    assert recompute(parsed, password, Limits())[1] == parsed.digest


def test_the_verifier_of_a_key_is_computed_as_openssl_does() -> None:
    """The T: form is SHA-512 of the key that OpenSSL derives, and of the salt."""
    salt = bytes(range(16))
    options = [f"hexsalt:{(salt + b'AUTH_PBKDF2_SPEEDY_KEY').hex()}", "iter:4096", "digest:SHA512"]
    named = [part for option in ("pass:Dunlin 42", *options) for part in ("-kdfopt", option)]
    command = [oracle("openssl"), "kdf", "-keylen", "64", *named, "PBKDF2"]
    key = bytes.fromhex(subprocess.run(command, check=True, capture_output=True, text=True).stdout
                        .strip().replace(":", ""))  # fmt: skip
    digest = subprocess.run([oracle("openssl"), "dgst", "-sha512", "-binary"], input=key + salt,
                            check=True, capture_output=True).stdout  # fmt: skip
    stored = f"T:{(digest + salt).hex().upper()}"
    assert read_value(stored).contents.whole == labelled_key(
        f"T:{salt.hex().upper()}", b"Dunlin 42"
    )


@pytest.mark.parametrize("scheme", sorted(DERIVATIONS))
def test_a_setting_and_a_digest_give_the_value_again(scheme: str) -> None:
    """What layered values keep of a scheme is enough to rebuild its text, byte for byte."""
    derivation = DERIVATIONS[scheme]
    cheap = {"memory_kib": 64, "passes": 1, "lanes": 1, "cost_log2": 4, "block_size": 1}
    parameters = {entry.name: cheap.get(entry.name, 10) for entry in derivation.parameters}
    stored = derivation.create(b"Skua", bytes(range(16)), parameters)
    parsed = read_value(stored)
    again = derivation.read_setting(parsed.contents.setting)
    assert again is not None
    assert (again.scheme, again.parameters, again.salt) == (scheme, parameters, bytes(range(16)))
    assert (
        derivation.whole_text(parsed.contents.setting, derivation.recompute(again, b"Skua"))
        == stored
    )


@pytest.mark.parametrize(
    ("stored", "expected"),
    [
        ("", "empty"),
        ("!", "lock-marker"),
        ("!$2b$12$abc", "lock-marker"),
        ("$2b$03$" + "a" * 53, "unknown"),
        ("$2b$32$" + "a" * 53, "unknown"),
        ("$2b$10$" + "a" * 52, "unknown"),
        ("$argon2id$v=18$m=64,t=1,p=1$c2FsdHNhbHQ$ZGlnZXN0ZGlnZXN0", "unknown"),
        ("$argon2id$v=19$m=4,t=1,p=1$c2FsdHNhbHQ$ZGlnZXN0ZGlnZXN0", "unknown"),
        ("$argon2id$v=19$m=64,m=64,t=1,p=1$c2FsdHNhbHQ$ZGlnZXN0", "unknown"),
        ("$scrypt$ln=0,r=8,p=1$c2FsdA$ZGlnZXN0", "unknown"),
        ("$pbkdf2-sha256$i=1000,l=31$c2FsdA$" + "a" * 43, "unknown"),
        ("5f4dcc3b5aa765d61d8327deb882cf99", "md5"),
        ("5f4dcc3b5aa765d61d8327deb882cf9", "unknown"),
        ("a" * 5000, "unknown"),
        ("summer 2020", "plain-text"),
        ("letmein", "plain-text"),
        ("aGFyYm91ciBmZXJyeQ==", "encoded"),
        ("Q29sZGhhcmJvdXIgZmVycnkyIQ==", "encoded"),  # as long as a SHA-1
        ("686172626f757220666572727931", "encoded"),
        ("$2b$10$" + "a" * 40, "unknown"),
        ("_abcd1234ABCDefgh56.", "bsdi-crypt"),
        ("{CLEARTEXT}harbour", "plain-text"),
        ("{ssha}gWXzFeQKT9D1C886r64IiHerTnmHJdrc", "sha1"),
        ("{SSHA}JWmvTcuLvm3gdNNFfdJNKJR4rjM=", "unknown"),
        ("0x5f4dcc3b5aa765d61d8327deb882cf99", "md5"),
        ("X03MO1qnZdYdgyfeuILPmQ", "md5"),
        ("$sha1$40000$abcdefgh$LnFNYmF3vJ3AzbPmH8o0yDKH0Fuq", "sha1-crypt"),
        ("$md5,rounds=904$abcdefgh$$AbCdEfGhIjKlMnOpQrStUv", "sun-md5"),
        ("T:" + "A5" * 80, "pbkdf2-sha512-verifier"),
        ("S:" + "A5" * 30 + ";T:" + "A5" * 80, "sha1"),
        ("S:" + "A5" * 30 + ";H:" + "A5" * 16 + ";T:" + "A5" * 80, "sha1"),
        ("S:" + "A5" * 30 + ";H:" + "A5" * 15, "unknown"),
        ("$A$005$" + "s" * 20 + "a" * 43, "sha256-crypt-20"),
    ],
)
def test_borders_of_the_readers(stored: str, expected: str) -> None:
    """Values just outside a scheme are not read as it; short words are plain text."""
    assert read_value(stored).scheme == expected


@given(st.text(max_size=300) | st.from_regex(r"\$[a-z0-9-]{1,12}(\$[A-Za-z0-9=,+/.]{0,40}){0,5}"))
@example("$over$from=,salt=$argon2id$")
@example("\ud800")
def test_any_text_is_read_and_graded_once(text: str) -> None:
    """No text makes the reader raise, and each gets exactly one grade."""
    parsed = read_value(text)
    assert grade(parsed, Floor(), salted=False) in Grade
    assert 0.0 <= parsed.contents.confidence <= 1.0


@pytest.mark.parametrize(
    ("stored", "limits"),
    [
        ("$argon2id$v=19$m=4194304,t=1,p=1$c2FsdHNhbHQ$ZGlnZXN0ZGlnZXN0", Limits()),
        ("$argon2id$v=19$m=65536,t=4000000,p=1$c2FsdHNhbHQ$ZGlnZXN0ZGlnZXN0", Limits()),
        ("$argon2id$v=19$m=65536,t=1,p=4000$c2FsdHNhbHQ$ZGlnZXN0ZGlnZXN0", Limits()),
        ("$scrypt$ln=30,r=8,p=1$c2FsdA$ZGlnZXN0", Limits()),
        ("$scrypt$ln=4,r=1,p=60000$c2FsdA$ZGlnZXN0", Limits()),
        ("$pbkdf2-sha256$i=4000000000$c2FsdA$" + "a" * 43, Limits()),
        ("$2b$31$" + "a" * 53, Limits()),
        ("$argon2id$v=19$m=64,t=1,p=1$c2FsdHNhbHQ$ZGlnZXN0ZGlnZXN0", Limits(memory_kib=63)),
    ],
)
def test_a_planted_cost_is_refused_and_not_run(stored: str, limits: Limits) -> None:
    """Values that ask for gigabytes or years are refused before anything is computed."""
    parsed = read_value(stored)
    assert parsed.kind is Kind.DERIVATION
    with pytest.raises(OverLimit, match="limit"):
        recompute(parsed, b"x", limits)


@pytest.mark.parametrize(
    ("scheme", "parameters", "reached"),
    [
        ("argon2id", {"memory_kib": 19456, "passes": 2, "lanes": 1}, True),
        ("argon2id", {"memory_kib": 19455, "passes": 2, "lanes": 1}, False),
        ("argon2id", {"memory_kib": 47104, "passes": 1, "lanes": 1}, True),
        ("argon2i", {"memory_kib": 65536, "passes": 9, "lanes": 1}, False),
        ("bcrypt", {"cost_log2": 10}, True),
        ("bcrypt", {"cost_log2": 9}, False),
        ("pbkdf2-sha256", {"rounds": 600_000}, True),
        ("pbkdf2-sha256", {"rounds": 599_999}, False),
        ("scrypt", {"cost_log2": 17, "block_size": 8, "lanes": 1}, True),
        ("scrypt", {"cost_log2": 16, "block_size": 8, "lanes": 1}, False),
    ],
)
def test_the_published_floor_at_its_borders(
    scheme: str, parameters: dict[str, int], reached: bool
) -> None:
    """A value counts as current exactly from the published numbers on."""
    assert Floor().reached_by(scheme, parameters) is reached


def test_fast_foreign_values_open_by_their_own_formula(
    foreign_values: list[dict[str, str]],
) -> None:
    """A tag, a prefix or a field says the formula: each such value opens, and for one password."""
    checked = 0
    for value in foreign_values:
        parsed = read_value(value["stored"])
        if parsed.kind is not Kind.FAST or not parsed.contents.formulas:
            continue
        password, login = value["password"], value.get("login")
        wrong = "x" + password[1:]
        for typed, accepted in ((password, True), (wrong, False)):
            row = Row(stored=value["stored"].encode(), login=login)
            verdict = check(RowReader().read(row), typed, bounds=Bounds())
            assert verdict.accepted is accepted, value["scheme"]
        checked += 1
    assert checked >= 35


def test_digest_lengths_match_their_names() -> None:
    """A bare digest of each customary length is named after a digest of that length."""
    for name in ("md5", "sha1", "sha224", "sha256", "sha384", "sha512"):
        raw = hashlib.new(name, b"Gannet").digest()
        assert read_value(raw.hex()).scheme == name
        assert read_value(raw.hex().upper()).layout == "hex-upper"
