"""Who wrote a backup: signatures over everything up to each of its chunks.

Ed25519 (RFC 8032), over the SHA-512 of what stands before and of the chunk. A chunk that is
repeated, moved, left out or made by somebody else is not signed.
"""

import hashlib
from typing import Any

from Crypto.PublicKey import ECC
from Crypto.Signature import eddsa

from lean_tumbler.errors import SourceError, UsageError

SIGNATURE_BYTES = 64  # RFC 8032 section 5.1.6
_CURVE = "Ed25519"


def new_signing_key() -> str:
    """Make a private key, in PEM (RFC 8410)."""
    return str(ECC.generate(curve=_CURVE).export_key(format="PEM"))


def public_half(pem: str) -> str:
    """Give the public half of a key, in PEM.

    Raises:
        UsageError: it is no such key.
    """
    return str(_key(pem).public_key().export_key(format="PEM"))


def _key(pem: str) -> Any:
    try:
        key = ECC.import_key(pem)
    except (ValueError, TypeError, IndexError):
        raise UsageError("not a key in PEM") from None
    if key.curve != _CURVE:
        raise UsageError("not a key for signatures (Ed25519)")
    return key


class Chain:
    """What is signed, link by link.

    Args:
        beginning: what stands before the first chunk.
    """

    def __init__(self, beginning: bytes) -> None:
        self._link = hashlib.sha512(beginning).digest()

    def after(self, chunk: bytes) -> bytes:
        """Take a chunk up, and give what its signature is over."""
        self._link = hashlib.sha512(self._link + chunk).digest()
        return self._link


class Signer:
    """Signs chunks in their order.

    Args:
        private_key: in PEM.
        beginning: what stands before the first chunk.

    Raises:
        UsageError: it is no such key.
    """

    def __init__(self, private_key: str, beginning: bytes) -> None:
        key = _key(private_key)
        if not key.has_private():
            raise UsageError("not the private half of a key for signatures")
        self._signer = eddsa.new(key, mode="rfc8032")
        self._chain = Chain(beginning)

    def sign(self, chunk: bytes) -> bytes:
        """Give the next chunk's signature."""
        return bytes(self._signer.sign(self._chain.after(chunk)))


class Verifier:
    """Verifies chunks in their order.

    Args:
        key: in PEM, of either half.
        beginning: what stands before the first chunk.

    Raises:
        UsageError: it is no such key.
    """

    def __init__(self, key: str, beginning: bytes) -> None:
        self._verifier = eddsa.new(_key(public_half(key)), mode="rfc8032")
        self._chain = Chain(beginning)

    def require(self, chunk: bytes, signature: bytes) -> None:
        """Refuse a chunk that the key's owner did not sign here.

        Raises:
            SourceError: it is not signed, or was changed.
        """
        try:
            self._verifier.verify(self._chain.after(chunk), signature)
        except ValueError:
            raise SourceError("not signed by the key beside the policy, or changed") from None
