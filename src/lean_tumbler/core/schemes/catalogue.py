"""Every scheme this project reads. A new family is one module and one line here."""

from types import MappingProxyType

from lean_tumbler.core import layered
from lean_tumbler.core.schemes import (
    argon2,
    bcrypt,
    lock_markers,
    pbkdf2,
    raw_digests,
    readable,
    scrypt,
)
from lean_tumbler.core.schemes.base import Derivation, Family, ParsedValue

# In this order the families are asked; the last one takes any text.
FAMILIES: tuple[Family, ...] = (
    layered.FAMILY,
    argon2.FAMILY,
    scrypt.FAMILY,
    pbkdf2.FAMILY,
    bcrypt.FAMILY,
    lock_markers.FAMILY,
    raw_digests.FAMILY,
    readable.FAMILY,
)

DERIVATIONS: MappingProxyType[str, Derivation] = MappingProxyType(
    {derivation.scheme: derivation for family in FAMILIES for derivation in family.derivations}
)

VALUE_CHARACTERS = 4096  # longer text is not a stored value, and is not searched by patterns


def read_value(text: str) -> ParsedValue:
    """Understand one stored value. Any text gives an answer; none raises."""
    if len(text) <= VALUE_CHARACTERS:
        for family in FAMILIES:
            parsed = family.read(text)
            if parsed is not None:
                return parsed
    return readable.read(text)
