"""A copy of a key over stored values, sealed for the recovery key that is kept offline."""

import base64
import json

from lean_tumbler.core.keyring import require_key
from lean_tumbler.core.sealing import ENCAPSULATED_BYTES, Opener, Sealer
from lean_tumbler.errors import SourceError

DOCUMENT = "lean-tumbler/sealed-key/1"


def sealed_copy(name: str, key: bytes, public_key: str) -> bytes:
    """Seal a key: one line of JSON, the encapsulated key, and one chunk (docs/FORMATS.md).

    Args:
        name: of the key.
        key: its bytes.
        public_key: in PEM, of whoever may open it.

    Raises:
        UsageError: it is no such public key.
    """
    head = json.dumps({"document": DOCUMENT, "name": name}).encode("utf-8") + b"\n"
    sealer = Sealer(public_key, head)
    return head + sealer.encapsulated + sealer.seal(key, last=True)


def opened_copy(raw: bytes, private_key: str) -> tuple[str, bytes]:
    """Give name and bytes of a key that was sealed.

    Raises:
        UsageError: it is no private key.
        SourceError: it is no sealed key, was sealed for another, or was changed.
    """
    line, feed, rest = raw.partition(b"\n")
    try:
        told = json.loads(line)
        is_own = isinstance(told, dict) and told.get("document") == DOCUMENT
        name = str(told["name"]) if is_own else ""
    except (ValueError, KeyError):
        name = ""
    if not name or not feed:
        raise SourceError("not a sealed key of `keys new --copy-for`")
    encapsulated, chunk = rest[:ENCAPSULATED_BYTES], rest[ENCAPSULATED_BYTES:]
    opener = Opener(private_key, encapsulated=encapsulated, head=line + feed)
    key, _ = opener.open(chunk)
    return name, require_key(name, key)


def as_text(key: bytes) -> str:
    """Write a key as its file holds it: base64, in one line."""
    return base64.b64encode(key).decode("ascii") + "\n"
