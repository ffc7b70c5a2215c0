"""Keys of the legacy system, and stores whose values were encrypted with one."""

import base64
import csv
import sqlite3
import subprocess
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from conftest import CHEAP_POLICY, Program, oracle
from lean_tumbler import CredentialGateway, StoragePolicy
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.evaluation import Inputs, evaluate
from lean_tumbler.errors import CheckImpossible, KeyMissing

KEY = bytes(range(32))
PASSWORD = "Möwe 77 harbour"


@pytest.fixture
def program(in_process: Program) -> Program:
    """Many short runs: in this process. Other modules run the built program."""
    return in_process


def encrypt(cipher: str, *options: str, key: bytes, data: bytes) -> bytes:
    """Encrypt with OpenSSL, as the legacy system did."""
    command = [oracle("openssl"), "enc", f"-{cipher}", "-K", key.hex(), *options]
    return subprocess.run(command, input=data, capture_output=True, check=True).stdout


def coded(raw: bytes) -> str:
    return base64.b64encode(raw).decode()


IV = bytes(range(16, 32))
TEXT = PASSWORD.encode()
CASES: dict[str, tuple[str, bytes, Callable[[], str]]] = {
    "aes, ecb": ('mode = "ecb"', KEY, lambda: coded(encrypt("aes-256-ecb", key=KEY, data=TEXT))),
    "aes, vector first": (
        "", KEY,
        lambda: coded(IV + encrypt("aes-256-cbc", "-iv", IV.hex(), key=KEY, data=TEXT)),
    ),
    "aes, no vector, hex": (
        'first_block = "data"\ntext_encoding = "hex"', KEY[:16],
        lambda: encrypt("aes-128-cbc", "-iv", "0" * 32, key=KEY[:16], data=TEXT).hex().upper(),
    ),
    "aes, filled with zeros, latin-1": (
        'mode = "ecb"\npadding = "zeros"\nencoding = "latin-1"', KEY,
        lambda: coded(encrypt("aes-256-ecb", "-nopad", key=KEY,
                              data=PASSWORD.encode("latin-1").ljust(16, b"\0"))),
    ),
    "triple DES": (
        'cipher = "des-ede3"\nmode = "ecb"', KEY[:24],
        lambda: coded(encrypt("des-ede3-ecb", key=KEY[:24], data=TEXT)),
    ),
}  # fmt: skip


def policy_of(decryption: str) -> StoragePolicy:
    return StoragePolicy.from_toml(
        CHEAP_POLICY.rpartition("[[store.passengers.cohort]]")[0]
        + f'[store.passengers.decryption]\nkey = "old"\n{decryption}\n'
        + '[keys]\nold = { environment = "COLDHARBOUR_OLD" }\n'
    )


@pytest.mark.parametrize("case", CASES)
def test_an_encrypted_value_opens_and_is_replaced(case: str) -> None:
    """The right password alone opens it, and the next stored value is the target's."""
    decryption, key, make = CASES[case]
    gateway = CredentialGateway(policy_of(decryption), keys={"old": key})
    stored = make()
    known: dict[str, Any] = {"stored": stored, "store": "passengers", "salt": "s"}
    assert not gateway.admit(password="wrong " + PASSWORD, **known).admitted
    outcome = gateway.admit(password=PASSWORD, **known)
    assert (outcome.admitted, outcome.action, outcome.from_scheme) == (
        True,
        "upgraded",
        "encrypted",
    )
    assert outcome.new_value is not None
    assert gateway.admit(stored=outcome.new_value, password=PASSWORD, store="passengers").admitted


def test_authenticated_encryption_opens_too() -> None:
    """GCM with the nonce first and the tag last; a changed value is none of this store's."""
    from Crypto.Cipher import AES  # noqa: PLC0415 - OpenSSL's program has no GCM

    cipher = AES.new(KEY, AES.MODE_GCM, nonce=b"n" * 12)
    body, tag = cipher.encrypt_and_digest(TEXT)
    gateway = CredentialGateway(policy_of('mode = "gcm"'), keys={"old": KEY})
    for raw, admitted in ((b"n" * 12 + body + tag, True), (b"m" * 12 + body + tag, False)):
        outcome = gateway.admit(stored=coded(raw), password=PASSWORD, store="passengers", salt="s")
        assert outcome.admitted is admitted


def test_a_key_that_is_not_there_is_an_error_and_no_wrong_password() -> None:
    """Nobody is told that their password is wrong because a key is missing, or does not fit."""
    stored = CASES["aes, ecb"][2]()
    policy = policy_of('mode = "ecb"')
    for keys, error in (({}, KeyMissing), ({"old": b"short"}, CheckImpossible)):
        with pytest.raises(error, match="the key “old”"):
            CredentialGateway(policy, keys=keys).admit(
                stored=stored, password=PASSWORD, store="passengers"
            )


FORMULA = "utf-8, append key pepper, sha256, hex"


@pytest.fixture
def peppered(tmp_path: Path) -> Path:
    """A store whose formula takes a key."""
    value = evaluate(
        notation.parse(FORMULA), Inputs(password="Dunlin 42", keys={"pepper": b"\x01\x02"})
    )
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute("CREATE TABLE kiosk (id INTEGER PRIMARY KEY, login TEXT, pw TEXT)")
        connection.execute("INSERT INTO kiosk VALUES (1, 'ada', ?)", (value,))
    with (tmp_path / "known.csv").open("w", newline="") as file:
        csv.writer(file).writerows([("login", "password", "stored"), ("ada", "Dunlin 42", value)])
    return tmp_path


def write_policy(folder: Path, key: str) -> None:
    (folder / "tumbler.toml").write_text(
        "[target]\nmemory_kib = 256\npasses = 1\n[floor]\nargon2id = { memory_kib = 256 }\n"
        '[store.kiosk]\nlocator = "harbour.db"\ntable = "kiosk"\n'
        '[store.kiosk.columns]\nlogin = "login"\nstored = "pw"\n'
        f'[[store.kiosk.cohort]]\nname = "old"\nformula = "{FORMULA}"\n[keys]\npepper = {key}\n'
    )


def test_a_key_comes_from_the_environment_or_a_file(
    peppered: Path, program: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Both ways and all forms; unset, it is said which key is missing, and where it should be."""
    write_policy(peppered, '{ environment = "COLDHARBOUR_PEPPER", form = "hex" }')
    missing = program("verify", "known.csv")
    assert missing.code == 1
    assert "the key “pepper”" in missing.out
    refused = program("admit", "ada", stdin=b"Dunlin 42\n")
    assert (refused.code, refused.err.count("\n")) == (3, 1)
    assert "the key “pepper”" in refused.err
    monkeypatch.setenv("COLDHARBOUR_PEPPER", "0102")
    assert program("verify", "known.csv").code == 0
    write_policy(peppered, '{ file = "pepper.key", form = "base64" }')
    path = peppered / "pepper.key"
    path.write_bytes(b"AQI=\n")
    path.chmod(0o600)
    assert program("verify", "known.csv").code == 0
    assert program("admit", "ada", stdin=b"Dunlin 42\n").code == 0


@pytest.mark.parametrize(
    ("key", "mode", "expected"),
    [
        ('{ file = "pepper.key" }', 0o644, "others may read the key"),
        ('{ file = "pepper.key", form = "hex" }', 0o600, "the key is not hex"),
        ('{ file = "pepper.key", form = "octal" }', 0o600, "“form” must be base64 or hex or text"),
        ("{ }", 0o600, "a key comes from one place"),
        ('"s3cret"', 0o600, "[keys.pepper] must be a table"),
        ('{ environment = "A", file = "b" }', 0o600, "a key comes from one place"),
    ],
)
def test_a_wrong_key_gets_one_line_without_the_key(
    peppered: Path, program: Program, key: str, mode: int, expected: str
) -> None:
    """A file that others can read, another form, two places, a key in the policy itself."""
    write_policy(peppered, key)
    path = peppered / "pepper.key"
    path.write_bytes(b"s3cret")
    path.chmod(mode)
    finished = program("verify", "known.csv")
    assert (finished.code, finished.out) == (2, "")
    assert expected in finished.err
    assert "s3cret" not in finished.err
    assert finished.err.count("\n") == 1


def test_a_policy_that_decrypts_with_an_unnamed_key_is_refused() -> None:
    """The policy says at once what is missing in it."""
    text = CHEAP_POLICY + '[store.passengers.decryption]\nkey = "old"\nmode = "xts"\n'
    with pytest.raises(Exception, match="“mode” must be cbc or ecb or gcm"):
        StoragePolicy.from_toml(text)
    with pytest.raises(Exception, match=r"name it in \[keys\]"):
        StoragePolicy.from_toml(text.replace("xts", "ecb"))


def test_bulk_layering_replaces_what_it_can_decrypt(tmp_path: Path, program: Program) -> None:
    """The password is known, so the row is current at once; without the key nothing is touched."""
    people = {f"p{n}@tidepost.example": f"Möwe {n} harbour" for n in range(6)}
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection, connection:
        connection.execute("CREATE TABLE cards (id INTEGER PRIMARY KEY, email TEXT, pw TEXT)")
        rows = [
            (n, login, coded(encrypt("aes-256-ecb", key=KEY, data=password.encode())))
            for n, (login, password) in enumerate(people.items())
        ]
        garbage = coded(encrypt("aes-256-ecb", key=KEY[::-1], data=b"under another key"))
        connection.executemany("INSERT INTO cards VALUES (?, ?, ?)", [*rows, (9, "x", garbage)])
    policy = tmp_path / "tumbler.toml"
    policy.write_text(
        "[target]\nmemory_kib = 256\npasses = 1\n"
        "[floor]\nargon2id = { memory_kib = 256, passes = 1 }\n"
        '[store.cards]\nlocator = "harbour.db"\ntable = "cards"\n'
        "readers_ready = 2026-01-01\n"
        '[store.cards.columns]\nlogin = "email"\nstored = "pw"\n'
        '[store.cards.decryption]\nmode = "ecb"\nkey = "old"\n'
        '[keys]\nold = { file = "old.key", form = "hex" }\n'
    )
    without = program("layer", "--no-backup")
    assert (without.code, without.out) == (3, "")
    assert "needs the key “old”" in without.err
    (tmp_path / "old.key").write_text(KEY.hex())
    (tmp_path / "old.key").chmod(0o600)
    known = "".join(f"{login},{password}\n" for login, password in people.items())
    (tmp_path / "known.csv").write_text("login,password\n" + known)
    assert program("verify", "known.csv", "--store", "cards").code == 0
    done = program("layer", "--no-backup", "--format", "json").document
    assert (done["replaced"], done["layered"], done["skipped"]) == (6, 0, 1)
    assert done["cohorts"] == {"decryptable": 6}
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as connection:
        stored = dict(connection.execute("SELECT email, pw FROM cards"))
    assert stored["x"] == garbage
    gateway = CredentialGateway(StoragePolicy.from_toml(policy.read_text()))
    for login, password in people.items():
        assert gateway.admit(stored=stored[login], password=password).admitted
