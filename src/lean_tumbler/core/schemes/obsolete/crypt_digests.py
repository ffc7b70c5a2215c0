"""The methods of crypt(3) that are built on digests, in this project's own code.

Sources: Kamp, MD5 crypt, FreeBSD 2.0 (1994), for md5-crypt and apr1-crypt; Drepper, Unix crypt
using SHA-256 and SHA-512 (2007); crypt(5) for sha1-crypt, HMAC-SHA1 again and again (RFC 2104).
Each takes the setting and the password's bytes, and gives the whole stored text.
"""

import hashlib
import hmac
import re
from collections.abc import Callable
from itertools import cycle, islice

from lean_tumbler.core.schemes import crypt64

_SHA_ROUNDS = 5000  # where the setting names none
_MD5_ROUNDS = 1000
# In which order the digest's bytes are written; three bytes make four characters.
_MD5_ORDER = (12, 6, 0, 13, 7, 1, 14, 8, 2, 15, 9, 3, 5, 10, 4, 11)
_SHA256_ORDER = (
    20, 10, 0, 11, 1, 21, 2, 22, 12, 23, 13, 3, 14, 4, 24, 5, 25, 15, 26, 16, 6, 17, 7, 27,
    8, 28, 18, 29, 19, 9, 30, 31,
)  # fmt: skip
_SHA512_ORDER = (
    42, 21, 0, 1, 43, 22, 23, 2, 44, 45, 24, 3, 4, 46, 25, 26, 5, 47, 48, 27, 6, 7, 49, 28,
    29, 8, 50, 51, 30, 9, 10, 52, 31, 32, 11, 53, 54, 33, 12, 13, 55, 34, 35, 14, 56, 57, 36, 15,
    16, 58, 37, 38, 17, 59, 60, 39, 18, 19, 61, 40, 41, 20, 62, 63,
)  # fmt: skip
_SHA1_ORDER = (2, 1, 0, 5, 4, 3, 8, 7, 6, 11, 10, 9, 14, 13, 12, 17, 16, 15, 0, 19, 18)

_MD5_SETTING = re.compile(r"(?P<tag>\$1\$|\$apr1\$)(?P<salt>[^$]{0,8})\$")
_SHA_SETTING = re.compile(r"\$(?P<tag>[56])\$(?:rounds=(?P<rounds>\d+)\$)?(?P<salt>[^$]{0,16})\$")
_SHA1_SETTING = re.compile(r"\$sha1\$(?P<rounds>\d+)\$(?P<salt>[^$]+)\$")
_ITERATED_SETTING = re.compile(r"\$[PH]\$(?P<count>.)(?P<salt>.{8})", re.DOTALL)
_CACHING_SETTING = re.compile(r"\$A\$(?P<rounds>[0-9A-F]{3})\$(?P<salt>.{20})", re.DOTALL)


def _md5(data: bytes) -> bytes:
    return hashlib.md5(data, usedforsecurity=False).digest()


def _cycled(text: bytes, length: int) -> bytes:
    """Repeat a text up to a length."""
    return (text * (length // len(text) + 1))[:length] if text else b""


def _mixed(
    digest: Callable[[bytes], bytes], start: bytes, password: bytes, salt: bytes, rounds: int
) -> bytes:
    """Run the rounds that md5-crypt and the SHA-crypts share."""
    around = []  # what stands before and behind the value; the rounds repeat after 2 · 3 · 7
    for number in range(42):
        between = (salt if number % 3 else b"") + (password if number % 7 else b"")
        around.append((password + between, b"") if number & 1 else (b"", between + password))
    value = start
    for before, behind in islice(cycle(around), rounds):
        value = digest(before + value + behind)
    return value


def md5_crypt(setting: str, password: bytes) -> str:
    """Compute md5-crypt or apr1-crypt; they differ in their tag alone, which goes in."""
    parts = _match(_MD5_SETTING, setting)
    tag, salt = parts["tag"].encode("ascii"), parts["salt"].encode("utf-8")
    start = password + tag + salt
    start += _cycled(_md5(password + salt + password), len(password))
    bits = len(password)
    while bits:
        start += b"\0" if bits & 1 else password[:1]
        bits >>= 1
    digest = _mixed(_md5, _md5(start), password, salt, _MD5_ROUNDS)
    return setting + crypt64.encode(digest[place] for place in _MD5_ORDER)


def _sha_digest(name: str, password: bytes, salt: bytes, rounds: int) -> bytes:
    """Steps 1 to 21 of the specification."""
    make = getattr(hashlib, name)

    def digest(data: bytes) -> bytes:
        made: bytes = make(data, usedforsecurity=False).digest()
        return made

    other = digest(password + salt + password)
    start = password + salt + _cycled(other, len(password))
    bits = len(password)
    while bits:
        start += other if bits & 1 else password
        bits >>= 1
    first = digest(start)
    long_password = _cycled(digest(password * len(password)), len(password))
    long_salt = _cycled(digest(salt * (16 + first[0])), len(salt))
    return _mixed(digest, first, long_password, long_salt, rounds)


def sha_crypt(setting: str, password: bytes) -> str:
    """Compute sha256-crypt or sha512-crypt, as the setting says."""
    parts = _match(_SHA_SETTING, setting)
    rounds = int(parts["rounds"] or _SHA_ROUNDS)
    name, order = ("sha256", _SHA256_ORDER) if parts["tag"] == "5" else ("sha512", _SHA512_ORDER)
    digest = _sha_digest(name, password, parts["salt"].encode("utf-8"), rounds)
    return setting + crypt64.encode(digest[place] for place in order)


def caching_sha256(setting: str, password: bytes) -> str:
    """Compute what database servers cache: sha256-crypt with a salt of 20 bytes."""
    parts = _match(_CACHING_SETTING, setting)
    salt = parts["salt"].encode("utf-8")
    digest = _sha_digest("sha256", password, salt, 1000 * int(parts["rounds"], 16))
    return setting + crypt64.encode(digest[place] for place in _SHA256_ORDER)


def sha1_crypt(setting: str, password: bytes) -> str:
    """Compute sha1-crypt."""
    parts = _match(_SHA1_SETTING, setting)
    rounds = int(parts["rounds"])
    value = f"{parts['salt']}$sha1${rounds}".encode()
    for _ in range(rounds):
        value = hmac.digest(password, value, "sha1")
    return setting + crypt64.encode(value[place] for place in _SHA1_ORDER)


def iterated_md5(setting: str, password: bytes) -> str:
    """Compute iterated MD5: the digest of salt and password, then of digest and password."""
    parts = _match(_ITERATED_SETTING, setting)
    digest = _md5(parts["salt"].encode("utf-8") + password)
    for _ in range(1 << crypt64.number(parts["count"])):
        digest = _md5(digest + password)
    return setting + crypt64.encode(digest)


def _match(pattern: re.Pattern[str], setting: str) -> re.Match[str]:
    found = pattern.fullmatch(setting)
    if found is None:
        raise ValueError("not a setting of this scheme")
    return found
