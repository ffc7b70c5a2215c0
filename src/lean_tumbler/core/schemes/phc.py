"""The open PHC string: `$name[$v=N][$key=value,…]$salt$digest`, unpadded base64.

Source: the string format specification of the Password Hashing Competition (2015); RFC 9106
does not fix a text form, and this one is what stock Argon2 programs write and read.
"""

import base64
import binascii
import re
from dataclasses import dataclass, field

from lean_tumbler.core.schemes.base import Kind, Parameters, ParsedValue

LAYOUT = "PHC string"

_PHC = re.compile(
    r"\$(?P<name>[a-z0-9-]{1,32})"
    r"(?:\$v=(?P<version>[0-9]{1,10}))?"
    r"\$(?P<parameters>[a-z]{1,3}=[0-9]{1,10}(?:,[a-z]{1,3}=[0-9]{1,10}){0,7})"
    r"\$(?P<salt>[A-Za-z0-9+/]{1,512})"
    r"\$(?P<digest>[A-Za-z0-9+/]{1,1024})",
    re.ASCII,
)


@dataclass(frozen=True, slots=True, kw_only=True)
class PhcString:
    """The fields of a PHC string; parameters keep the short names of the text."""

    name: str
    version: int | None
    parameters: Parameters
    salt: bytes = field(repr=False)
    digest: bytes = field(repr=False)
    head: str = field(repr=False)  # all before the digest, closing `$` included


def encode(raw: bytes) -> str:
    """Write bytes in the PHC string's base64: standard alphabet, no padding."""
    return base64.b64encode(raw).decode("ascii").rstrip("=")


def decode(text: str) -> bytes | None:
    """Read unpadded base64; None where the length is impossible."""
    try:
        return base64.b64decode(text + "=" * (-len(text) % 4), validate=True)
    except (binascii.Error, ValueError):
        return None


def parse(text: str) -> PhcString | None:
    """Read a PHC string; None where the text is not one."""
    match = _PHC.fullmatch(text)
    if match is None:
        return None
    pairs = [pair.partition("=") for pair in match["parameters"].split(",")]
    parameters = {name: int(number) for name, _, number in pairs}
    salt, digest = decode(match["salt"]), decode(match["digest"])
    if len(parameters) != len(pairs) or not salt or not digest:
        return None
    return PhcString(
        name=match["name"],
        version=int(match["version"]) if match["version"] else None,
        parameters=parameters,
        salt=salt,
        digest=digest,
        head=text[: match.start("digest")],
    )


def write(head: str, digest: bytes) -> str:
    """Complete a PHC string from all before its digest."""
    return head + encode(digest)


def setting_of(phc: PhcString) -> str:
    """Give the setting: the text with the digest's length in bytes in the digest's place."""
    return f"{phc.head}{len(phc.digest)}"


def whole_text(setting: str, digest: bytes) -> str:
    """Put a digest back into a setting."""
    return write(setting[: setting.rindex("$") + 1], digest)


def parse_setting(setting: str) -> PhcString | None:
    """Read a setting back; the digest is zeros of the right length."""
    head, dollar, length = setting.rpartition("$")
    if not dollar or not re.fullmatch(r"[1-9][0-9]{0,2}", length, re.ASCII):
        return None
    return parse(write(head + dollar, bytes(int(length))))


def parsed_value(
    phc: PhcString, parameters: Parameters, *, variant: str = "", notes: tuple[str, ...] = ()
) -> ParsedValue:
    """Give a PHC string as a parsed value, its parameters under the policy's names."""
    return ParsedValue(
        scheme=phc.name,
        layout=LAYOUT,
        kind=Kind.DERIVATION,
        parameters=parameters,
        variant=variant,
        salt=phc.salt,
        digest=phc.digest,
        setting=setting_of(phc),
        notes=notes,
    )
