"""Layered values: a slow hash over a legacy digest, with all that is needed to check it.

    $over$from=FINGERPRINT[,salt=BASE64][,login=BASE64]$argon2id$v=19$m=…,t=…,p=…$salt$digest

docs/FORMATS.md is the specification. This module knows the text form; what lies below (a
formula, or a scheme that describes itself) is resolved by the gateway.
"""

import re

from lean_tumbler.core.schemes import argon2, pbkdf2, phc, scrypt
from lean_tumbler.core.schemes.base import Derivation, Family, Kind, Parameters, ParsedValue

TAG = "$over$"
_HEAD = re.compile(
    r"\$over\$from=(?P<origin>[a-z0-9-]{1,32})"
    r"(?:,salt=(?P<salt>[A-Za-z0-9+/]{0,2048}))?"
    r"(?:,login=(?P<login>[A-Za-z0-9+/]{1,2048}))?"
    r"(?P<inner>\$(?:argon2id|scrypt|pbkdf2-sha256|pbkdf2-sha512)\$.+)",
    re.ASCII,
)
_INNER_FAMILIES = (argon2.FAMILY, scrypt.FAMILY, pbkdf2.FAMILY)


def read(text: str) -> ParsedValue | None:
    """Read a layered value; None where the text is not a well-formed one."""
    match = _HEAD.fullmatch(text) if text.startswith(TAG) else None
    if match is None:
        return None
    readings = (family.read(match["inner"]) for family in _INNER_FAMILIES)
    inner = next((reading for reading in readings if reading is not None), None)
    salt = None if match["salt"] is None else phc.decode(match["salt"])
    login = None if match["login"] is None else phc.decode(match["login"])
    undecodable = (salt is None) != (match["salt"] is None) or (login is None) != (
        match["login"] is None
    )
    if inner is None or undecodable:
        return None
    return ParsedValue(
        scheme=inner.scheme,
        layout="layered",
        kind=Kind.LAYERED,
        parameters=inner.parameters,
        salt=salt,
        digest=inner.digest,
        inner=inner,
        origin=match["origin"],
        login=login,
    )


def secret(origin: str, legacy_digest: str) -> bytes:
    """What the derivation runs on.

    The label makes a leaked legacy digest useless as a password should the head be lost.
    """
    return f"over:{origin}:{legacy_digest}".encode()


def write(
    *,
    origin: str,
    legacy_digest: str,
    salt: bytes | None,
    login: bytes | None,
    derivation: Derivation,
    parameters: Parameters,
    fresh_salt: bytes,
) -> str:
    """Put a derivation over a legacy digest in canonical text.

    Args:
        origin: the formula's fingerprint, or the name of the scheme below.
        legacy_digest: what the legacy system stored, in canonical text.
        salt: the formula's salt, raw, or the scheme's setting; None where it takes none.
        login: the login, raw, where the formula takes it.
        derivation: the slow scheme to put on top.
        parameters: its costs.
        fresh_salt: random bytes for it.
    """
    if not derivation.may_layer:
        raise ValueError(f"{derivation.scheme} cannot stand over a legacy digest")
    fields = [f"from={origin}"]
    if salt is not None:
        fields.append(f"salt={phc.encode(salt)}")
    if login is not None:
        fields.append(f"login={phc.encode(login)}")
    inner = derivation.create(secret(origin, legacy_digest), fresh_salt, parameters)
    return TAG + ",".join(fields) + inner


FAMILY = Family(name="layered", read=read)
