"""Stored values for implementations in other languages, checked by programs that share no code."""

import base64
import ctypes
import hashlib
import json
import subprocess
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import missing, oracle
from lean_tumbler import CredentialGateway, StoragePolicy

FILE = Path(__file__).with_name("vectors.json")
VECTORS: list[dict[str, str]] = json.loads(FILE.read_text("utf-8"))
_LONGEST = 127  # what the argon2 program takes

POLICY = """
[target]
memory_kib = 8
passes = 1
[floor]
argon2id = { memory_kib = 8, passes = 1 }
[formulas]
"""


def test_vectors_cover_what_is_written() -> None:
    """Every scheme directly, every scheme that may lie over a digest so too, and awkward texts."""
    direct = Counter(
        vector["scheme"] for vector in VECTORS if not vector["stored"].startswith("$over")
    )
    layered = Counter(
        vector["scheme"] for vector in VECTORS if vector["stored"].startswith("$over")
    )
    assert set(direct) == {"argon2id", "scrypt", "pbkdf2-sha256", "pbkdf2-sha512", "bcrypt"}
    assert set(layered) == set(direct) - {"bcrypt"}
    passwords = {vector["password"] for vector in VECTORS}
    assert any(not text.isascii() for text in passwords)
    assert {len(text) for text in passwords} >= {72, 73, 300}


def test_the_library_admits_every_vector_and_nothing_else() -> None:
    """With the formula in the policy alone; the value is the same whatever wrote it."""
    formulas = {vector["formula"] for vector in VECTORS if "formula" in vector}
    lines = (f"f{number} = '{text}'" for number, text in enumerate(sorted(formulas)))
    gateway = CredentialGateway(StoragePolicy.from_toml(POLICY + "\n".join(lines)))
    for vector in VECTORS:
        assert gateway.admit(stored=vector["stored"], password=vector["password"]).admitted
        assert not gateway.admit(
            stored=vector["stored"], password="x" + vector["password"]
        ).admitted


def test_node_checks_scrypt_and_pbkdf2() -> None:
    """Its crypto module, and Argon2 where it has that; formulas and heads are read by its script."""
    command = (oracle("node"), str(FILE.with_suffix(".js")), str(FILE))
    checked = json.loads(subprocess.run(command, check=True, capture_output=True).stdout)
    assert checked.items() >= {"scrypt": 8, "pbkdf2-sha256": 8, "pbkdf2-sha512": 8}.items()


def test_libcrypt_checks_bcrypt() -> None:
    """The system's own crypt(3) gives the same text again."""
    crypt = _libcrypt()
    found = [vector for vector in VECTORS if vector["scheme"] == "bcrypt"]
    assert len(found) == 3
    for vector in found:
        assert crypt(vector["password"], vector["stored"]) == vector["stored"]


def _libcrypt() -> Callable[[str, str], str]:
    try:
        function: Any = ctypes.CDLL("libcrypt.so.1").crypt
    except OSError:
        missing("libcrypt")
    function.restype = ctypes.c_char_p
    return lambda password, setting: function(password.encode(), setting.encode()).decode()


LEGACY: dict[str, Callable[[bytes, bytes], str]] = {
    "utf-8, md5, hex": lambda password, _: hashlib.md5(password).hexdigest(),
    "utf-8, append salt, sha1, hex": lambda password, salt: hashlib.sha1(
        password + salt
    ).hexdigest(),
    "utf-8, prepend salt, sha256, 999 times (append salt, sha256), hex": lambda password, salt: (
        _repeated(hashlib.sha256(salt + password).digest(), salt).hex()
    ),
}


def _repeated(digest: bytes, salt: bytes) -> bytes:
    for _ in range(999):
        digest = hashlib.sha256(digest + salt).digest()
    return digest


@pytest.mark.parametrize("vector", [each for each in VECTORS if each["scheme"] == "argon2id"])
def test_the_argon2_program_checks_argon2(vector: dict[str, str]) -> None:
    """Direct values and layered ones: the head says what to hand to it."""
    head, _, rest = vector["stored"].partition("$argon2id$")
    secret = vector["password"].encode()
    if head:
        named = dict(pair.split("=", 1) for pair in head.removeprefix("$over$").split(","))
        old = _decoded(named.get("salt", ""))
        below = (
            _libcrypt()(vector["password"], old.decode())
            if vector.get("below")
            else LEGACY[vector["formula"]](secret, old)
        )
        secret = f"over:{named['from']}:{below}".encode()
    if len(secret) > _LONGEST:
        assert vector["password"] == "a" * 300
        return
    _, _costs, salt, digest = rest.split("$")
    command = (
        oracle("argon2"),
        _decoded(salt),
        "-id",
        "-t",
        "2",
        "-k",
        "1024",
        "-p",
        "1",
        "-l",
        "32",
        "-r",
    )
    found = subprocess.run(command, input=secret, check=True, capture_output=True).stdout
    assert bytes.fromhex(found.decode()) == _decoded(digest)


def _decoded(text: str) -> bytes:
    return base64.b64decode(text + "=" * (-len(text) % 4))
