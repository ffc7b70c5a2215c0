"""The open PHC string: `$name[$v=N]$key=value,…$salt$digest`, unpadded base64.

Source: the string format specification of the Password Hashing Competition (2015); RFC 9106
does not fix a text form, and this one is what stock Argon2 programs write and read.
"""

import base64
import binascii
import re

NAME = "PHC string"
SOURCE = "PHC string format, 2015"
TAIL = r"\$(?P<salt>[A-Za-z0-9+/]+)\$(?P<digest>[A-Za-z0-9+/]+)"

# What a stored value may reasonably hold; more is not of this form.
SALT_BYTES = 384
DIGEST_BYTES = 768


def encode(raw: bytes) -> str:
    """Write bytes in the PHC string's base64: standard alphabet, no padding."""
    return base64.b64encode(raw).decode("ascii").rstrip("=")


def decode(text: str) -> bytes | None:
    """Read unpadded base64; None where the length is impossible."""
    try:
        return base64.b64decode(text + "=" * (-len(text) % 4), validate=True)
    except (binascii.Error, ValueError):
        return None


def decode_url(text: str) -> bytes | None:
    """Read base64url (RFC 4648 section 5), padded or not; None where the length is impossible."""
    return decode(text.rstrip("=").replace("-", "+").replace("_", "/"))


def salt_and_digest(match: re.Match[str]) -> tuple[bytes, bytes] | None:
    """Decode the two fields at the end; None where they cannot be."""
    salt, digest = decode(match["salt"]), decode(match["digest"])
    if not salt or not digest or len(salt) > SALT_BYTES or len(digest) > DIGEST_BYTES:
        return None
    return salt, digest


def setting_of(match: re.Match[str], digest: bytes) -> str:
    """Give the setting: the text with the digest's length in bytes in the digest's place."""
    return f"{match.string[: match.start('digest')]}{len(digest)}"


def whole_text(setting: str, digest: bytes) -> str:
    """Put a digest back into a setting."""
    return setting[: setting.rindex("$") + 1] + encode(digest)


def with_blank_digest(setting: str) -> str:
    """Give a setting as a value whose digest is zeros; empty where it is malformed."""
    head, dollar, length = setting.rpartition("$")
    if not dollar or not re.fullmatch(r"[1-9][0-9]{0,2}", length, re.ASCII):
        return ""
    return head + dollar + encode(bytes(int(length)))
