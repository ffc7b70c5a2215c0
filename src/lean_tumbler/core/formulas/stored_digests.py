"""Reading a stored text as a digest, whole or cut off by a narrow column."""

import base64
import binascii

from lean_tumbler.core.formulas.steps import DIGESTS

SHORTEST_BYTES = 4  # of a digest that was cut off; less would fit by chance


def is_like_a_digest(text: str) -> bool:
    """Tell whether a text can be a digest, whole or cut off, in hexadecimal or base64."""
    read = read_digest(text)
    return read is not None and len(read[0]) >= SHORTEST_BYTES


def read_digest(text: str) -> tuple[bytes, str, bool] | None:
    """Read a stored text as a digest: its bytes, how it is written, and whether all are there."""
    if text and all(character in "0123456789abcdefABCDEF" for character in text):
        encoding = "hex-upper" if text.upper() == text and not text.isdigit() else "hex"
        even = len(text) // 2 * 2
        return bytes.fromhex(text[:even]), encoding, even == len(text)
    body, alphabet = text.rstrip("="), "base64"
    if {"-", "_"} & set(body):
        body, alphabet = body.replace("-", "+").replace("_", "/"), "base64url"
    try:
        raw = base64.b64decode(body[: len(body) // 4 * 4], validate=True)
        whole = base64.b64decode(body + "=" * (-len(body) % 4), validate=True)
    except (binascii.Error, ValueError):
        return None
    is_whole = len(whole) in {digest.size_bytes for digest in DIGESTS.values()}
    padded = text.endswith("=") or len(body) % 4 == 0
    return (whole if is_whole else raw), alphabet if padded else f"{alphabet}-unpadded", is_whole
