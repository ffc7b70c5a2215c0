"""Stores that encrypted passwords reversibly: decrypting one value, to compare it.

Modes: NIST SP 800-38A (ECB, CBC) and SP 800-38D (GCM); ciphers: FIPS 197 and SP 800-67. Nothing is
ever encrypted here.
"""

import base64
import binascii
import hmac
from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct

from lean_tumbler.core.formulas.steps import ENCODINGS
from lean_tumbler.errors import CheckImpossible, KeyMissing

CIPHERS = MappingProxyType({"aes": (16, (16, 24, 32)), "des-ede3": (8, (16, 24))})
_NONCE_BYTES, _TAG_BYTES = 12, 16  # SP 800-38D, 5.2.1.1 and 5.2.1.2, as almost everybody uses them


class Decryption(Struct, frozen=True, kw_only=True):
    """How a store's values are decrypted.

    Attributes:
        cipher: the block cipher.
        mode: how blocks are chained (NIST SP 800-38A and 800-38D).
        key: the name of the key in `[keys]`; required.
        text_encoding: how the encrypted bytes are written.
        padding: what fills the last block.
        first_block: for CBC, what the first block is: the initialisation vector, or data that was
            encrypted with a vector of zeros. With GCM the nonce comes first and the tag last.
        encoding: how the password became bytes.
    """

    cipher: Literal["aes", "des-ede3"] = "aes"
    mode: Literal["ecb", "cbc", "gcm"] = "cbc"
    key: str = ""
    text_encoding: Literal["base64", "hex"] = "base64"
    padding: Literal["pkcs7", "zeros", "none"] = "pkcs7"
    first_block: Literal["iv", "data"] = "iv"
    encoding: Annotated[str, Meta(extra={"must": " or ".join(ENCODINGS)})] = "utf-8"

    def is_of(self, stored: str, password: str, keys: Mapping[str, bytes]) -> bool | None:
        """Tell whether a value is a password's; None where it is not one of this store's.

        Raises:
            KeyMissing: the key is not there.
            CheckImpossible: the key is of a length that the cipher does not take.
        """
        opened = self.decrypt(stored, keys)
        if opened is None:
            return None
        try:
            return hmac.compare_digest(opened, password.encode(ENCODINGS[self.encoding]))
        except UnicodeEncodeError:
            return False

    def password_of(self, stored: str, keys: Mapping[str, bytes]) -> str | None:
        """Give the password that a value holds; None where nothing readable comes out.

        Without padding or tag nothing else tells a wrong key, so text of any other than printable
        characters is none.

        Raises:
            KeyMissing: the key is not there.
            CheckImpossible: the key is of a length that the cipher does not take.
        """
        opened = self.decrypt(stored, keys)
        try:
            text = None if opened is None else opened.decode(ENCODINGS[self.encoding])
        except UnicodeDecodeError:
            return None
        return text if text and text.isprintable() else None

    def decrypt(self, stored: str, keys: Mapping[str, bytes]) -> bytes | None:
        """Decrypt one value; None where it is not one of this store's.

        Raises:
            KeyMissing: the key is not there.
            CheckImpossible: the key is of a length that the cipher does not take.
        """
        if self.key not in keys:
            raise KeyMissing(f"decrypting needs the key “{self.key}”, which is not there")
        block_bytes, key_lengths = CIPHERS[self.cipher]
        if len(keys[self.key]) not in key_lengths:
            raise CheckImpossible(
                f"the key “{self.key}” has {len(keys[self.key])} bytes; {self.cipher} takes "
                f"{' or '.join(map(str, key_lengths))}"
            )
        raw = _read(stored.strip(), self.text_encoding)
        if raw is None:
            return None
        opened = self._opened(raw, keys[self.key], block_bytes)
        return None if opened is None else _unpadded(opened, self._padding, block_bytes)

    @property
    def _padding(self) -> str:
        return "none" if self.mode == "gcm" else self.padding

    def _opened(self, raw: bytes, key: bytes, block_bytes: int) -> bytes | None:
        new = _cipher(self.cipher)
        if self.mode == "gcm":
            nonce, body, tag = raw[:_NONCE_BYTES], raw[_NONCE_BYTES:-_TAG_BYTES], raw[-_TAG_BYTES:]
            if len(raw) < _NONCE_BYTES + _TAG_BYTES:
                return None
            try:
                return bytes(new(key, "GCM", nonce=nonce).decrypt_and_verify(body, tag))
            except ValueError:
                return None
        if not raw or len(raw) % block_bytes:
            return None
        if self.mode == "ecb":
            return bytes(new(key, "ECB").decrypt(raw))
        vector, body = bytes(block_bytes), raw
        if self.first_block == "iv":
            vector, body = raw[:block_bytes], raw[block_bytes:]
        return bytes(new(key, "CBC", iv=vector).decrypt(body)) if body else None


def _cipher(name: str) -> Callable[..., Any]:
    from Crypto.Cipher import AES, DES3  # noqa: PLC0415 - rarely needed

    module: Any = AES if name == "aes" else DES3

    def new(key: bytes, mode: str, **options: bytes) -> Any:
        return module.new(key, getattr(module, f"MODE_{mode}"), **options)

    return new


def _read(text: str, text_encoding: str) -> bytes | None:
    try:
        if text_encoding == "hex":
            return bytes.fromhex(text.removeprefix("0x"))
        return base64.b64decode(text + "=" * (-len(text) % 4), validate=True)
    except (ValueError, binascii.Error):
        return None


def _unpadded(raw: bytes, padding: str, block_bytes: int) -> bytes | None:
    if padding == "zeros":
        return raw.rstrip(b"\0")
    if padding == "none":
        return raw
    count = raw[-1]  # RFC 5652 section 6.3
    if not 1 <= count <= block_bytes or raw[-count:] != bytes([count]) * count:
        return None
    return raw[:-count]
