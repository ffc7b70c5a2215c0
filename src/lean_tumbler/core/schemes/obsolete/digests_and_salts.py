"""A digest, bare or with its salt beside it in the same text; told apart by length."""

import re
from collections.abc import Iterator
from functools import partial

from msgspec import Struct

from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import PREFIXED_HEX, PRINTED_BYTES, Contents, Kind, Layout, Says
from lean_tumbler.core.schemes.derivation import Family
from lean_tumbler.core.schemes.guess_work import COMPRESSION, compressions_of
from lean_tumbler.core.schemes.randomness import looks_random

_SOURCE = "RFC 1321 (md5), FIPS 180-4 (sha1, sha2), FIPS 202 (sha3)"


class _Size(Struct, frozen=True):
    """What a digest of one length is most likely, and what else it may be."""

    scheme: str
    confidence: float
    also_possible: tuple[str, ...]


# By digest length in bytes. The confidences are this project's judgement for a lone value;
# a column, a formula or a tag says more.
SIZES = {
    16: _Size("md5", 0.8, ("nt-hash", "md4")),
    20: _Size("sha1", 0.9, ("ripemd160",)),
    28: _Size("sha224", 0.8, ("sha3-224", "sha512-224")),
    32: _Size("sha256", 0.8, ("sha3-256", "blake2s", "sha512-256")),
    48: _Size("sha384", 0.8, ("sha3-384",)),
    64: _Size("sha512", 0.8, ("sha3-512", "blake2b")),
}
_NAMES = tuple(size.scheme for size in SIZES.values())
_HEX_LENGTHS = tuple(2 * size for size in SIZES)
_MIXED_CASE_NOTE = "The letters of its hexadecimal digits mix both cases."
_URL_NOTE = "Base64url: with - and _ for + and /."
_UNPADDED_NOTE = "Base64 without padding."


def _bare(raw: bytes, *, less_sure: float = 0.0, notes: tuple[str, ...] = ()) -> Contents | None:
    size = SIZES.get(len(raw))
    if size is None:
        return None
    return Contents(
        scheme=size.scheme,
        digest=raw,
        formulas=(f"{size.scheme}, hex",),
        confidence=round(size.confidence - less_sure, 2),
        also_possible=size.also_possible,
        notes=notes,
    )


def _build_hex(notes: tuple[str, ...], match: re.Match[str]) -> Contents | None:
    return _bare(bytes.fromhex(match["digest"]), notes=notes)


def _build_bytes(match: re.Match[str]) -> Contents | None:
    raw = bytes.fromhex(match["digest"])
    note = f"{len(raw)} bytes that are no text; a formula may say how they were made."
    return Contents(digest=raw, confidence=0.0, notes=(note,))


def _build_base64(match: re.Match[str]) -> Contents | None:
    return _bare(phc.decode(match["digest"]) or b"")


def _build_unpadded(match: re.Match[str]) -> Contents | None:
    if not looks_random(match.string):
        return None
    return _bare(phc.decode(match.string) or b"", less_sure=0.2, notes=(_UNPADDED_NOTE,))


def _build_url(match: re.Match[str]) -> Contents | None:
    if not looks_random(match.string):
        return None
    return _bare(phc.decode_url(match.string) or b"", less_sure=0.2, notes=(_URL_NOTE,))


def _salted(name: str, raw: bytes, salt: str, *, first: str) -> Contents:
    """A digest with its salt in the same text; `first` is the side to try first."""
    sides = ("prepend", "append") if first == "prepend" else ("append", "prepend")
    return Contents(
        scheme=name,
        salt=salt.encode("utf-8"),
        digest=raw,
        formulas=tuple(f"{side} salt, {name}, hex" for side in sides),
        confidence=0.9,
    )


def _build_colon(match: re.Match[str]) -> Contents | None:
    raw = bytes.fromhex(match["digest"])
    size = SIZES.get(len(raw))
    return _salted(size.scheme, raw, match["salt"], first="append") if size else None


def _build_named(match: re.Match[str]) -> Contents | None:
    raw = bytes.fromhex(match["digest"])
    size = SIZES.get(len(raw))
    if size is None or size.scheme != match["name"]:
        return None
    return _salted(match["name"], raw, match["salt"], first="prepend")


_digest_alone = partial(
    Layout,
    scheme=", ".join(_NAMES),
    kind=Kind.FAST,
)


def _hex_layouts() -> Iterator[Layout]:
    for name, digits, notes in (
        ("hex", "[0-9a-f]", ()),
        ("hex-upper", "[0-9A-F]", ()),
        ("hex, mixed case", "[0-9a-fA-F]", (_MIXED_CASE_NOTE,)),
    ):
        yield _digest_alone(
            source=_SOURCE,
            name=name,
            structure="the digest in hexadecimal, told apart by length",
            pattern=f"(?P<digest>{digits}+)",
            lengths=_HEX_LENGTHS,
            build=partial(_build_hex, notes),
        )


def _build_pairs(match: re.Match[str]) -> Contents | None:
    return _bare(bytes.fromhex(re.sub("[^0-9a-fA-F]", "", match["digest"])))


def _build_numbers(match: re.Match[str]) -> Contents | None:
    numbers = [int(number) for number in re.findall("[0-9]+", match["digest"])]
    return _bare(bytes(numbers)) if max(numbers) < 256 else None


HEX_LAYOUTS = tuple(_hex_layouts())
LAYOUTS = (
    *HEX_LAYOUTS,
    _digest_alone(
        source=_SOURCE,
        name="hex, in pairs",
        structure="the digest's bytes in hexadecimal, with colons, dashes or blanks between",
        pattern="(?P<digest>[0-9a-fA-F]{2}(?:(?::[0-9a-fA-F]{2})+|(?:-[0-9a-fA-F]{2})+"
        "|(?: [0-9a-fA-F]{2})+))",
        lengths=tuple(3 * size - 1 for size in SIZES),
        build=_build_pairs,
    ),
    _digest_alone(
        source=_SOURCE,
        name="list of byte numbers",
        structure="the digest's bytes as decimal numbers, as programs print lists",
        pattern=r"[\[({]?(?P<digest>[0-9]{1,3}(?:[,; ] ?[0-9]{1,3}){15,63})[\])}]?",
        longest=400,
        build=_build_numbers,
        by_value=True,
    ),
    _digest_alone(
        source=_SOURCE,
        name=PREFIXED_HEX,
        structure="0x and the digest in hexadecimal, as databases print binary",
        starts=("0x", "\\x"),
        pattern=r"(?:0x|\\x)(?P<digest>[0-9a-fA-F]+)",
        lengths=tuple(length + 2 for length in _HEX_LENGTHS),
        build=partial(_build_hex, ()),
    ),
    Layout(
        scheme="bytes",
        name=PRINTED_BYTES,
        structure="\\\\x and bytes of no digest's length, as databases print binary",
        source="",
        kind=Kind.UNKNOWN,
        starts=("\\x",),
        pattern=r"\\x(?P<digest>(?:[0-9a-fA-F]{2}){2,})",
        build=_build_bytes,
        longest=2 * 512 + 2,
    ),
    Layout(
        scheme="md5, sha1, sha224, sha256, sha512",
        name="base64",
        structure="the digest in padded base64, told apart by length",
        source=f"{_SOURCE}; RFC 4648 section 4",
        kind=Kind.FAST,
        pattern=r"(?P<digest>[A-Za-z0-9+/]+)(?P<padding>={1,2})",
        lengths=(24, 28, 40, 44, 88),
        build=_build_base64,
    ),
    Layout(
        scheme="md5, sha1, sha256, sha384, sha512",
        name="base64, no padding",
        structure="the digest in base64 without padding; only where it looks random",
        source=f"{_SOURCE}; RFC 4648 section 3.2",
        kind=Kind.FAST,
        pattern=r"[A-Za-z0-9+/]+",
        lengths=(22, 27, 38, 43, 64, 86),
        build=_build_unpadded,
        by_value=True,
    ),
    _digest_alone(
        name="base64url",
        structure="the digest in base64 with - and _, told apart by length",
        source=f"{_SOURCE}; RFC 4648 section 5",
        pattern=r"[A-Za-z0-9]*[_-][A-Za-z0-9_-]*={0,2}",
        lengths=(22, 24, 27, 28, 38, 40, 43, 44, 64, 86, 88),
        build=_build_url,
        by_value=True,
    ),
    _digest_alone(
        source=_SOURCE,
        name="digest, colon, salt",
        structure="hex:salt",
        says=Says.PLACES,
        pattern=r"(?P<digest>(?:[0-9a-fA-F]{2})+):(?P<salt>[!-9;-~]+)",
        build=_build_colon,
        longest=256,
    ),
    _digest_alone(
        source=_SOURCE,
        name="dollar fields, salt first",
        structure="sha1$salt$hex",
        says=Says.PLACES,
        starts=("md5$", "sha1$", "sha2", "sha384$", "sha512$"),
        pattern=r"(?P<name>md5|sha1|sha224|sha256|sha384|sha512)\$(?P<salt>[ -#%-~]*)"
        r"\$(?P<digest>(?:[0-9a-f]{2})+)",
        key_groups=("name",),
        build=_build_named,
        longest=256,
    ),
)

FAMILY = Family(
    name="digests",
    layouts=LAYOUTS,
    formulas=tuple(
        f"{join}{name}, hex" for name in _NAMES for join in ("", "append salt, ", "prepend salt, ")
    ),
    work={name: compressions_of(name) for name in COMPRESSION},
)
