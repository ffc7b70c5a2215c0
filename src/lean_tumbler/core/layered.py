"""Layered values: a slow hash over a legacy digest, with all that is needed to check it.

    $over$from=FINGERPRINT[,salt=BASE64][,login=BASE64]$argon2id$v=19$m=…,t=…,p=…$salt$digest

docs/FORMATS.md is the specification. This module knows the text form; what lies below (a
formula, or a scheme that describes itself) is resolved by the gateway.
"""

import re

from lean_tumbler.core.schemes import argon2, pbkdf2, phc, scrypt
from lean_tumbler.core.schemes.base import (
    Contents,
    Derivation,
    Family,
    Kind,
    Layout,
    Parameters,
    read_first,
)

TAG = "$over$"
_INNER_LAYOUTS = tuple(
    layout
    for layout in (*argon2.LAYOUTS[:1], *scrypt.LAYOUTS, *pbkdf2.LAYOUTS)
    if layout.name == phc.NAME and layout.scheme != "pbkdf2-sha1"
)
_MOST_BYTES = 1536  # of a salt or a login


def _decoded(text: str | None) -> bytes | None:
    """Decode a field that is there; raises ValueError where it cannot be."""
    if text is None:
        return None
    raw = phc.decode(text)
    if raw is None or len(raw) > _MOST_BYTES:
        raise ValueError("not base64, or too long")
    return raw


def _build(match: re.Match[str]) -> Contents | None:
    inner = read_first(_INNER_LAYOUTS, match.string[match.start("inner") :])
    if inner is None:
        return None
    try:
        salt, login = _decoded(match["salt"]), _decoded(match["login"])
    except ValueError:
        return None
    return Contents(
        scheme=inner.scheme,
        parameters=inner.parameters,
        salt=salt,
        digest=inner.digest,
        inner=inner,
        origin=match["origin"],
        login=login,
    )


LAYOUTS = (
    Layout(
        scheme="argon2id, scrypt, pbkdf2-sha256, pbkdf2-sha512",
        name="layered",
        structure="$over$from=ORIGIN[,salt=…][,login=…] and a PHC string",
        source="docs/FORMATS.md",
        kind=Kind.LAYERED,
        starts=(TAG,),
        pattern=r"\$over\$from=(?P<origin>[a-z0-9-]{1,32})"
        r"(?:,salt=(?P<salt>[A-Za-z0-9+/]*))?(?:,login=(?P<login>[A-Za-z0-9+/]+))?"
        r"(?P<inner>\$[a-z0-9-]+(?:\$v=[0-9]+)?\$[a-z]+=[0-9]+(?:,[a-z]+=[0-9]+)*)"
        r"\$(?P<inner_salt>[A-Za-z0-9+/]+)\$(?P<inner_digest>[A-Za-z0-9+/]+)",
        shaped_by=("origin", "inner"),
        build=_build,
    ),
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


FAMILY = Family(name="layered", layouts=LAYOUTS)
