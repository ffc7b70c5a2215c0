"""Values that database servers compute in their own ways, in this project's own code."""

import hashlib
import hmac
import re
import stringprep
import unicodedata
from base64 import b64decode, b64encode

_SCRAM_SETTING = re.compile(r"SCRAM-SHA-256\$(?P<rounds>\d+):(?P<salt>[A-Za-z0-9+/]+=*)\$")
LABELLED_KEY_ROUNDS = 4096
_PROHIBITED = (
    stringprep.in_table_c12, stringprep.in_table_c21_c22, stringprep.in_table_c3,
    stringprep.in_table_c4, stringprep.in_table_c5, stringprep.in_table_c6,
    stringprep.in_table_c7, stringprep.in_table_c8, stringprep.in_table_c9,
)  # fmt: skip


def scram_sha256(setting: str, password: bytes) -> str:
    """Compute a SCRAM verifier: stored key and server key (RFC 5802 section 3, RFC 7677)."""
    parts = _SCRAM_SETTING.fullmatch(setting)
    if parts is None:
        raise ValueError("not a setting of this scheme")
    salt, rounds = b64decode(parts["salt"]), int(parts["rounds"])
    salted = hashlib.pbkdf2_hmac("sha256", _prepared(password), salt, rounds)
    client_key = hmac.digest(salted, b"Client Key", "sha256")
    stored_key = hashlib.sha256(client_key).digest()
    server_key = hmac.digest(salted, b"Server Key", "sha256")
    return f"{setting}{b64encode(stored_key).decode()}:{b64encode(server_key).decode()}"


def _prepared(password: bytes) -> bytes:
    """Prepare a password by SASLprep (RFC 4013); what it prohibits goes in as it is."""
    text = password.decode("utf-8")
    mapped = "".join(
        " " if stringprep.in_table_c12(character) else character
        for character in text
        if not stringprep.in_table_b1(character)
    )
    normal = unicodedata.normalize("NFKC", mapped)
    if any(test(character) for character in normal for test in _PROHIBITED):
        return password
    return normal.encode("utf-8")


def mysql_old(setting: str, password: bytes) -> str:
    """Compute the 16-digit form of old servers: two sums of 31 bits; blanks and tabs are skipped.

    Source: MariaDB documentation, OLD_PASSWORD(), and that function as oracle in the tests.
    """
    first, second, step = 1345345333, 0x12345671, 7
    for byte in password:
        if byte in b" \t":
            continue
        first ^= ((first & 63) + step) * byte + (first << 8)
        first &= 0xFFFFFFFFFFFFFFFF
        second += (second << 8) ^ first
        second &= 0xFFFFFFFFFFFFFFFF
        step += byte
    return f"{setting}{first & 0x7FFFFFFF:08x}{second & 0x7FFFFFFF:08x}"


def labelled_key(setting: str, password: bytes) -> str:
    """Compute the T: form: SHA-512 of a PBKDF2-HMAC-SHA512 key of 4,096 rounds, and the salt.

    The key's own salt is the stored one and a constant; the setting is T: and the stored salt.
    """
    salt = bytes.fromhex(setting.removeprefix("T:"))
    key = hashlib.pbkdf2_hmac(
        "sha512", password, salt + b"AUTH_PBKDF2_SPEEDY_KEY", LABELLED_KEY_ROUNDS
    )
    digest = hashlib.sha512(key + salt).hexdigest().upper()
    return f"T:{digest}{setting.removeprefix('T:')}"
