"""What a formula is made of. docs/FORMULAS.md explains the notation that writes it."""

import hashlib
import html
import unicodedata
from base64 import b64encode, urlsafe_b64encode
from collections.abc import Callable
from enum import StrEnum
from types import MappingProxyType

from msgspec import Struct


class Flow(StrEnum):
    """What runs from one step to the next."""

    TEXT = "text"
    BYTES = "bytes"


class Side(StrEnum):
    """Where a join puts its operand."""

    APPEND = "append"
    PREPEND = "prepend"
    SURROUND = "surround"


class Input(StrEnum):
    """What a formula can be given."""

    PASSWORD = "password"  # noqa: S105 - a word of the notation
    SALT = "salt"
    LOGIN = "login"


def _escape_quotes(text: str) -> str:
    """Put a backslash before quotes and backslashes, and write NUL as backslash and zero."""
    return text.translate({0x27: "\\'", 0x22: '\\"', 0x5C: "\\\\", 0x00: "\\0"})


def _escape_html(text: str) -> str:
    """Write `& < > "` as entities; the apostrophe stays, as old defaults left it."""
    return html.escape(text, quote=False).replace('"', "&quot;")


TEXT_STEPS: MappingProxyType[str, Callable[[str], str]] = MappingProxyType(
    {
        "trim": str.strip,
        "lower": str.lower,
        "upper": str.upper,
        "nfc": lambda text: unicodedata.normalize("NFC", text),
        "nfd": lambda text: unicodedata.normalize("NFD", text),
        "escape-quotes": _escape_quotes,
        "escape-html": _escape_html,
        "reverse": lambda text: text[::-1],  # by code points
        "length": lambda text: str(len(text)),  # in code points, as a decimal number
        # what a program makes of UTF-8 that it takes for Latin-1
        "double-utf-8": lambda text: text.encode("utf-8", "surrogatepass").decode("latin-1"),
    }
)

# Steps after which different passwords can be the same text.
NARROWING = frozenset({"trim", "lower", "upper", "length"})

ENCODINGS = MappingProxyType(
    {"utf-8": "utf-8", "latin-1": "latin-1", "windows-1252": "cp1252", "utf-16le": "utf-16-le"}
)


class DigestFunction(Struct, frozen=True):
    """A digest: its size in bytes and how to compute it."""

    size_bytes: int
    block_bytes: int  # what HMAC pads its key to (RFC 2104 section 2)
    compute: Callable[[bytes], bytes]
    hashlib_name: str = ""  # empty where the standard library has none


def _from_hashlib(name: str) -> DigestFunction:
    constructor = getattr(hashlib, name)
    probe = constructor(b"", usedforsecurity=False)

    def compute(data: bytes) -> bytes:
        return bytes(constructor(data, usedforsecurity=False).digest())

    return DigestFunction(probe.digest_size, probe.block_size, compute, name)


def _md4(data: bytes) -> bytes:
    from Crypto.Hash import MD4  # noqa: PLC0415 - OpenSSL 3 no longer offers it; rarely needed

    return MD4.new(data).digest()  # noqa: S303 - legacy systems stored it; never written anew


def _ripemd160(data: bytes) -> bytes:
    from Crypto.Hash import RIPEMD160  # noqa: PLC0415 - not in every OpenSSL; rarely needed

    return RIPEMD160.new(data).digest()


def _truncated_sha512(bits: str) -> Callable[[bytes], bytes]:
    def compute(data: bytes) -> bytes:
        from Crypto.Hash import SHA512  # noqa: PLC0415 - not in every OpenSSL; rarely needed

        return SHA512.new(data, truncate=bits).digest()

    return compute


DIGESTS: MappingProxyType[str, DigestFunction] = MappingProxyType(
    {
        "md4": DigestFunction(16, 64, _md4),
        "md5": _from_hashlib("md5"),
        "sha1": _from_hashlib("sha1"),
        "sha224": _from_hashlib("sha224"),
        "sha256": _from_hashlib("sha256"),
        "sha384": _from_hashlib("sha384"),
        "sha512": _from_hashlib("sha512"),
        "sha512-224": DigestFunction(28, 128, _truncated_sha512("224")),
        "sha512-256": DigestFunction(32, 128, _truncated_sha512("256")),
        "sha3-224": _from_hashlib("sha3_224"),
        "sha3-256": _from_hashlib("sha3_256"),
        "sha3-384": _from_hashlib("sha3_384"),
        "sha3-512": _from_hashlib("sha3_512"),
        "ripemd160": DigestFunction(20, 64, _ripemd160),
        "blake2b": _from_hashlib("blake2b"),
        "blake2s": _from_hashlib("blake2s"),
    }
)

# The standard library runs these; the others would be too slow to be worth offering.
PBKDF2_DIGESTS = tuple(name for name, digest in DIGESTS.items() if digest.hashlib_name)

TEXT_ENCODINGS: MappingProxyType[str, Callable[[bytes], str]] = MappingProxyType(
    {
        "hex": bytes.hex,
        "hex-upper": lambda raw: raw.hex().upper(),
        "base64": lambda raw: b64encode(raw).decode("ascii"),
        "base64-unpadded": lambda raw: b64encode(raw).decode("ascii").rstrip("="),
        # RFC 4648 section 5
        "base64url": lambda raw: urlsafe_b64encode(raw).decode("ascii"),
        "base64url-unpadded": lambda raw: urlsafe_b64encode(raw).decode("ascii").rstrip("="),
    }
)

# What each filter takes and gives.
FILTERS = MappingProxyType(
    {
        "trim": (Flow.TEXT, Flow.TEXT),
        "lower": (Flow.TEXT, Flow.TEXT),
        "upper": (Flow.TEXT, Flow.TEXT),
        "nfc": (Flow.TEXT, Flow.TEXT),
        "nfd": (Flow.TEXT, Flow.TEXT),
        "reverse": (Flow.TEXT, Flow.TEXT),
        "length": (Flow.TEXT, Flow.TEXT),
        "local-part": (Flow.TEXT, Flow.TEXT),  # of a mail address: RFC 5321, section 4.1.2
        "hex": (Flow.BYTES, Flow.TEXT),
        "hex-upper": (Flow.BYTES, Flow.TEXT),
        "base64": (Flow.BYTES, Flow.TEXT),
        "base64-unpadded": (Flow.BYTES, Flow.TEXT),
        "base64url": (Flow.BYTES, Flow.TEXT),
        "base64url-unpadded": (Flow.BYTES, Flow.TEXT),
        "unhex": (Flow.TEXT, Flow.BYTES),
        "unbase64": (Flow.TEXT, Flow.BYTES),
    }
)


SLICE = "slice "  # how a filter begins that has two numbers behind it


class Key(Struct, frozen=True):
    """A secret of the legacy system, by name."""

    name: str


class Part(Struct, frozen=True):
    """A part of the row by its name: of the value's layout, or a column of its own."""

    name: str


Number = int | Part  # a number that stands in the formula, or in a part of the row


class Operand(Struct, frozen=True):
    """What a step takes beside the flow: a source and the filters on it."""

    source: "Input | Key | Part | str | bytes | Formula"
    filters: tuple[str, ...] = ()

    @property
    def flow(self) -> Flow:
        """Text or bytes, after the filters."""
        for name in reversed(self.filters):
            if not name.startswith(SLICE):  # which leaves what it takes
                return FILTERS[name][1]
        if isinstance(self.source, Formula):
            return self.source.flow
        return Flow.BYTES if isinstance(self.source, bytes | Key) else Flow.TEXT


class Rewrite(Struct, frozen=True):
    """Text to text, by a name of TEXT_STEPS."""

    name: str


class Encode(Struct, frozen=True):
    """Text to bytes, by a name of ENCODINGS."""

    name: str


class Take(Struct, frozen=True):
    """Start again from the operand."""

    operand: Operand


class Join(Struct, frozen=True):
    """Put the operand before, after, or on both sides."""

    side: Side
    operand: Operand


class Digest(Struct, frozen=True):
    """A digest, by a name of DIGESTS."""

    name: str


class Hmac(Struct, frozen=True):
    """RFC 2104 with the operand as key."""

    digest: str
    key: Operand


class Pbkdf2(Struct, frozen=True):
    """RFC 8018 section 5.2 with the operand as salt."""

    digest: str
    rounds: Number
    length_bytes: Number
    salt: Operand


class Write(Struct, frozen=True):
    """Bytes to text, by a name of TEXT_ENCODINGS."""

    name: str


class Cut(Struct, frozen=True):
    """Keep some code points of text, or some bytes of bytes: the first, or those from a place."""

    length: Number
    start: int = 0


class Loop(Struct, frozen=True):
    """Run the body again and again; it gives back the type that it takes."""

    times: Number
    body: "tuple[Step, ...]"


Step = Rewrite | Encode | Take | Join | Digest | Hmac | Pbkdf2 | Write | Cut | Loop
DIGESTING = Digest | Hmac | Pbkdf2


class Formula(Struct, frozen=True):
    """Steps from the password on, and what they end in."""

    steps: tuple[Step, ...]
    flow: Flow = Flow.TEXT
