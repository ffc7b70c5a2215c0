"""Sealing what a bulk step replaces, for a key whose private half is not here.

Hybrid public key encryption (RFC 9180), base mode: DHKEM(X25519, HKDF-SHA256), HKDF-SHA256,
ChaCha20-Poly1305. Each chunk is sealed under the next sequence number, so none can be left out,
repeated or moved; the last one says that it is the last. The head is bound to the key schedule.
"""

from typing import Any

from Crypto.Protocol import HPKE
from Crypto.PublicKey import ECC

from lean_tumbler.errors import SourceError, UsageError

ENCAPSULATED_BYTES = 32  # RFC 9180 section 7.1, DHKEM(X25519, HKDF-SHA256)
_MORE, _LAST = b"more", b"last"


def new_key_pair() -> tuple[str, str]:
    """Make a key pair: the private half and the public half, in PEM (RFC 7468, RFC 8410)."""
    key = ECC.generate(curve="Curve25519")
    return str(key.export_key(format="PEM")), str(key.public_key().export_key(format="PEM"))


def _read_key(pem: str, *, private: bool) -> Any:
    wanted = "private" if private else "public"
    try:
        key = ECC.import_key(pem)
    except (ValueError, TypeError, IndexError):
        raise UsageError(f"not a {wanted} key in PEM; `lean-tumbler keys new` makes one") from None
    if key.curve != "Curve25519" or key.has_private() is not private:
        raise UsageError(f"not the {wanted} half of an X25519 key")
    return key


class Sealer:
    """Seals chunks, one after the other, for the owner of a private key.

    Args:
        public_key: in PEM.
        head: bytes that opening needs again, unchanged.

    Raises:
        UsageError: it is not such a key.
    """

    def __init__(self, public_key: str, head: bytes) -> None:
        self._context = HPKE.new(
            receiver_key=_read_key(public_key, private=False),
            aead_id=HPKE.AEAD.CHACHA20_POLY1305,
            info=head,
        )

    @property
    def encapsulated(self) -> bytes:
        """What the owner needs beside the private key; no secret."""
        return bytes(self._context.enc)

    def seal(self, chunk: bytes, *, last: bool) -> bytes:
        """Seal the next chunk."""
        return bytes(self._context.seal(chunk, _LAST if last else _MORE))


class Opener:
    """Opens chunks in the order in which they were sealed.

    Args:
        private_key: in PEM.
        encapsulated: what the sealer gave.
        head: as it was sealed with.

    Raises:
        UsageError: it is not such a key.
    """

    def __init__(self, private_key: str, *, encapsulated: bytes, head: bytes) -> None:
        self._key = _read_key(private_key, private=True)
        try:
            self._context = HPKE.new(
                receiver_key=self._key,
                aead_id=HPKE.AEAD.CHACHA20_POLY1305,
                enc=encapsulated,
                info=head,
            )
        except ValueError:
            raise SourceError("sealed for another key, or changed") from None

    def open(self, sealed: bytes) -> tuple[bytes, bool]:
        """Open the next chunk; tell whether it is the last.

        Raises:
            SourceError: sealed for another key, changed, or not the next.
        """
        for mark in (_MORE, _LAST):
            try:
                return bytes(self._context.unseal(sealed, mark)), mark == _LAST
            except ValueError:
                continue
        raise SourceError("sealed for another key, or changed") from None
