"""Keyed values: a direct or layered value, encrypted under a key that the database does not hold.

    $keyed$by=NAME,check=CHECK,to=BOUND$NONCE$SEALED

NAME names the key and CHECK tells it from another; BOUND is `account` or `realm`. docs/FORMATS.md
is the specification. This module knows the text form alone; `core/keyring.py` seals and opens.
"""

import re
from enum import StrEnum

from msgspec import Struct

from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import Contents, Kind, Layout, Says
from lean_tumbler.core.schemes.derivation import Family

TAG = "$keyed$"
SCHEME = "keyed"
KEY_NAME = "[a-z0-9][a-z0-9.-]{0,31}"
CHECK_BYTES, NONCE_BYTES, TAG_BYTES = 6, 12, 16  # SP 800-38D sections 5.2.1.1 and 5.2.1.2
CHECK_CHARACTERS, NONCE_CHARACTERS = 8, 16  # of the same in base64
LEAST_CHARACTERS = 48  # of what is sealed: tag and the shortest value


class Bound(StrEnum):
    """What a value is bound to: it opens nowhere else."""

    ACCOUNT = "account"  # to its row, and to the realm
    REALM = "realm"  # to the policy's realm: any row of it


class KeyedHead(Struct, frozen=True, kw_only=True):
    """What stands before the nonce."""

    name: str  # of the key
    check: bytes  # what tells the key and the realm from others
    bound: Bound  # what the value is bound to

    def __str__(self) -> str:
        return f"{beginning(self.name, self.check)}to={self.bound}$"


class Keyed(MaskedRecord, Struct, frozen=True, kw_only=True):
    """A keyed value taken apart."""

    head: KeyedHead
    nonce: Hidden[bytes]
    sealed: Hidden[bytes]  # cipher text, and the tag behind it

    def __str__(self) -> str:
        return f"{self.head}{phc.encode(self.nonce)}${phc.encode(self.sealed)}"


def beginning(name: str, check: bytes | None = None) -> str:
    """Give how all values under a key begin; without its check, under any key of that name."""
    return f"{TAG}by={name}," + ("" if check is None else f"check={phc.encode(check)},")


def characters(inner: int, name: str) -> int:
    """Say how many characters a value of so many takes once it is sealed.

    Args:
        inner: of the value.
        name: of the key.
    """
    head = len(str(KeyedHead(name=name, check=bytes(CHECK_BYTES), bound=Bound.ACCOUNT)))
    return head + NONCE_CHARACTERS + 1 - (-4 * (inner + TAG_BYTES) // 3)


def read(text: str) -> Keyed | None:
    """Take a keyed value apart; None where a text is none."""
    match = LAYOUT.match(text) if text.startswith(TAG) else None
    return None if match is None else _keyed(match)


def _keyed(match: re.Match[str]) -> Keyed | None:
    raw = [phc.decode(match[name]) for name in ("check", "nonce", "sealed")]
    if None in raw:
        return None
    check, nonce, sealed = (each or b"" for each in raw)
    head = KeyedHead(name=match["name"], check=check, bound=Bound(match["bound"]))
    found = Keyed(head=head, nonce=nonce, sealed=sealed)
    return found if str(found) == match.string else None  # base64 has other texts of these bytes


def _build(match: re.Match[str]) -> Contents | None:
    return None if _keyed(match) is None else Contents(variant=match["name"])


LAYOUT = Layout(
    scheme=SCHEME,
    name="dollar fields",
    structure="$keyed$by=NAME,check=…,to=account|realm$…$…",
    source="docs/FORMATS.md",
    kind=Kind.KEYED,
    says=Says.ALL,
    starts=(TAG,),
    pattern=rf"\$keyed\$by=(?P<name>{KEY_NAME}),check=(?P<check>[A-Za-z0-9+/]{{{CHECK_CHARACTERS}}})"
    rf",to=(?P<bound>account|realm)\$(?P<nonce>[A-Za-z0-9+/]{{{NONCE_CHARACTERS}}})"
    rf"\$(?P<sealed>[A-Za-z0-9+/]{{{LEAST_CHARACTERS},}})",
    key_groups=("name", "check", "bound"),
    build=_build,
)
FAMILY = Family(name="keyed", layouts=(LAYOUT,))
