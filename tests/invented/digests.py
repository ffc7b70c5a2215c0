"""Digests that nobody can read, as programs have stored them; by primitives alone."""

import base64
import hashlib
import random
import zlib
from collections.abc import Callable

_CRYPT_SIGNS = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

Chance = random.Random


def _md5(password: str) -> bytes:
    return hashlib.md5(password.encode()).digest()


def des_like(chance: Chance) -> str:
    """What des-crypt gives: two characters of salt, 64 bits in eleven characters."""
    bits = chance.getrandbits(64) << 2
    body = "".join(_CRYPT_SIGNS[bits >> 6 * place & 63] for place in reversed(range(11)))
    return "".join(chance.choices(_CRYPT_SIGNS, k=2)) + body


# Name -> how a password is stored; the result opens nothing by being typed.
UNREADABLE: dict[str, Callable[[str, Chance], str]] = {
    "des-crypt": lambda _, chance: des_like(chance),
    "md5 cut to 8": lambda password, _: _md5(password).hex()[:8],
    "md5 cut to 12": lambda password, _: _md5(password).hex()[:12],
    "md5 cut to 13": lambda password, _: _md5(password).hex()[:13],
    "md5 cut to 20, upper": lambda password, _: _md5(password).hex()[:20].upper(),
    "crc32": lambda password, _: f"{zlib.crc32(password.encode()):08x}",
    "base64 of md5, unpadded": lambda password, _: base64.b64encode(_md5(password)).decode()[:22],
    "base64 of sha1, unpadded": lambda password, _: base64.b64encode(
        hashlib.sha1(password.encode()).digest()
    ).decode()[:27],
    "base64 of md5": lambda password, _: base64.b64encode(_md5(password)).decode(),
    "base64 of sha256, cut to 16": lambda password, _: base64.b64encode(
        hashlib.sha256(password.encode()).digest()
    ).decode()[:16],
    "hex in pairs": lambda password, _: _md5(password).hex(":"),
    "bytes as numbers": lambda password, _: str(list(_md5(password))),
    "bytes as signed numbers": lambda password, _: str(
        [byte - 256 if byte > 127 else byte for byte in _md5(password)]
    ).replace(" ", ""),
}
