"""Layered values: a slow hash over a legacy digest, with all that is needed to check it.

    $over$from=ORIGIN[,salt=BASE64][,login=BASE64][,NAME=BASE64…]$argon2id$v=19$m=…$salt$digest

ORIGIN is the name of a scheme, or the fingerprints of the formulas that can have made what lies
below. docs/FORMATS.md is the specification. This module knows the text form alone.
"""

import re
from collections.abc import Iterable, Mapping
from functools import lru_cache, partial

from msgspec import Struct, field

from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import (
    VALUE_CHARACTERS,
    Contents,
    Kind,
    Layout,
    Parameters,
    Says,
    read_first,
)
from lean_tumbler.core.schemes.derivation import Derivation, Family

TAG = "$over$"
MOST_BYTES = 1536  # of each input
MOST_FORMULAS = 16  # a login may have to try each
FINGERPRINT = "[0-9a-f]{16}"
_ORIGIN = rf"{FINGERPRINT}(?:\+{FINGERPRINT}){{0,{MOST_FORMULAS - 1}}}|[a-z0-9-]{{1,32}}"
_INPUT = r"[A-Za-z_][A-Za-z0-9_-]{0,31}=[A-Za-z0-9+/]*"


class Head(MaskedRecord, Struct, frozen=True, kw_only=True):
    """What stands before the PHC string."""

    origin: str  # a scheme, or fingerprints joined by plus signs
    # the formulas' salt, raw, or the scheme's setting; None where there is none
    salt: Hidden[bytes | None] = None
    # the login, raw, where a formula takes it
    login: Hidden[bytes | None] = None
    # further inputs by name, raw
    parts: Hidden[Mapping[str, bytes]] = field(default_factory=dict)

    def __str__(self) -> str:
        inputs = {"salt": self.salt, "login": self.login, **dict(sorted(self.parts.items()))}
        fields = [f"{name}={phc.encode(raw)}" for name, raw in inputs.items() if raw is not None]
        return TAG + ",".join([f"from={self.origin}", *fields])

    @property
    def is_readable(self) -> bool:
        """Whether what is written with it can be read again: no input is too long."""
        characters = len(TAG) + len("from=") + len(self.origin)
        for name, raw in (("salt", self.salt), ("login", self.login), *self.parts.items()):
            if raw is not None:
                if len(raw) > MOST_BYTES:
                    return False
                characters += len(name) + 2 + -(-4 * len(raw) // 3)  # a comma and an equals sign
        return characters <= VALUE_CHARACTERS // 2 and _is_origin(self.origin)

    def secret(self, legacy_digest: str) -> bytes:
        """What the derivation runs on.

        The label makes a leaked legacy digest useless as a password should the head be lost.
        """
        return f"over:{self.origin}:{legacy_digest}".encode()


def most_named(cohorts: Iterable[tuple[int, bool]]) -> int:
    """Say how many formulas one head may name; 1 where there are no cohorts.

    Args:
        cohorts: how many formulas each has, and whether nothing tells its rows apart: such rows
            may name the formulas of several cohorts in one head.
    """
    found = list(cohorts)
    alone = max((formulas for formulas, _ in found), default=1)
    together = sum(formulas for formulas, is_mixed in found if is_mixed)
    return max(alone, min(together, MOST_FORMULAS))


@lru_cache(maxsize=1024)
def _is_origin(text: str) -> bool:
    return re.fullmatch(_ORIGIN, text, re.ASCII) is not None


def origins_of(origin: str) -> tuple[str, ...]:
    """Take an origin apart: fingerprints, or one scheme."""
    return tuple(origin.split("+"))


def _inputs(match: re.Match[str]) -> dict[str, bytes] | None:
    """Read the inputs of a head; None where one cannot be read, or they are in another order."""
    coded = {name: match[name] for name in ("salt", "login") if match[name] is not None}
    parts = [item.split("=", 1) for item in match["parts"].split(",") if item]
    names = [name for name, _ in parts]
    if names != sorted(set(names)) or coded.keys() & set(names):
        return None
    found: dict[str, bytes] = {}
    for name, text in (*coded.items(), *parts):
        raw = phc.decode(text)
        if raw is None or len(raw) > MOST_BYTES:
            return None
        found[name] = raw
    return found


def _build(inner_layouts: tuple[Layout, ...], match: re.Match[str]) -> Contents | None:
    inner = read_first(inner_layouts, match.string[match.start("inner") :])
    inputs = _inputs(match)
    if inner is None or inputs is None:
        return None
    salt, login = inputs.pop("salt", None), inputs.pop("login", None)
    return Contents(
        scheme=inner.scheme,
        parameters=inner.parameters,
        salt=salt,
        digest=inner.digest,
        inner=inner,
        origin=match["origin"],
        login=login,
        parts=inputs,
    )


def family(derivations: Iterable[Derivation]) -> Family:
    """Give the family of layered values, over whatever derivations can lie on top."""
    on_top = tuple(found for found in derivations if found.on_top)
    layout = Layout(
        scheme=", ".join(found.scheme for found in on_top),
        name="layered",
        structure="$over$from=ORIGIN[,salt=…][,login=…][,NAME=…] and a PHC string",
        source="docs/FORMATS.md",
        kind=Kind.LAYERED,
        says=Says.ALL,
        starts=(TAG,),
        pattern=rf"\$over\$from=(?P<origin>{_ORIGIN})"
        r"(?:,salt=(?P<salt>[A-Za-z0-9+/]*))?(?:,login=(?P<login>[A-Za-z0-9+/]*))?"
        rf"(?P<parts>(?:,{_INPUT})*)"
        r"(?P<inner>\$[a-z0-9-]+(?:\$v=[0-9]+)?\$[a-z]+=[0-9]+(?:,[a-z]+=[0-9]+)*)"
        r"\$(?P<inner_salt>[A-Za-z0-9+/]+)\$(?P<inner_digest>[A-Za-z0-9+/]+)",
        key_groups=("origin", "parts", "inner"),
        build=partial(_build, tuple(found.on_top.layout for found in on_top if found.on_top)),
    )
    return Family(name="layered", layouts=(layout,))


def assembled(
    head: Head, *, derivation: Derivation, parameters: Parameters, fresh_salt: bytes, digest: bytes
) -> str:
    """Put a layered value together of a digest that was derived elsewhere.

    Raises:
        ValueError: the digest has another length than the scheme's.
    """
    form = derivation.on_top
    if form is None or len(digest) != form.digest_bytes:
        raise ValueError(f"{derivation.scheme}: a digest of another length")
    return str(head) + form.text(parameters, phc.encode(fresh_salt), phc.encode(digest))


def write(
    head: Head,  # where the digest comes from, and its inputs
    *,
    legacy_digest: str,  # what the legacy system stored, in canonical text
    derivation: Derivation,  # the slow scheme to put on top
    parameters: Parameters,  # its costs
    fresh_salt: bytes,  # random bytes for it
) -> str:
    """Put a derivation over a legacy digest in canonical text."""
    if derivation.on_top is None:
        raise ValueError(f"{derivation.scheme} cannot wrap a legacy digest")
    return str(head) + derivation.create(head.secret(legacy_digest), fresh_salt, parameters)
