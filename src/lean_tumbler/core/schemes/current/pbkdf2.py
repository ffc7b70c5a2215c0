"""PBKDF2 (RFC 8018 section 5.2) in its layouts; new values are PHC strings."""

import hashlib
import re
import struct
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from types import MappingProxyType

from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import (
    Contents,
    Kind,
    Layout,
    Parameters,
    ParsedValue,
    Says,
    read_first,
)
from lean_tumbler.core.schemes.derivation import (
    Derivation,
    Family,
    OnTop,
    Parameter,
    Steps,
    Tuning,
    within,
)
from lean_tumbler.core.schemes.guess_work import HMAC_COMPRESSIONS, rounds_of

PARAMETERS = (Parameter(name="rounds", lowest=1, highest=2**32 - 1),)

_LEAST_DIGEST_BYTES = 8
_BLOB_HEADER = struct.Struct(">BIII")
_BLOB_FUNCTIONS = ("pbkdf2-sha1", "pbkdf2-sha256", "pbkdf2-sha512")

# Each scheme's digest, its length in bytes, and the rounds of the OWASP Password Storage Cheat
# Sheet (2023 edition).
_SCHEMES = MappingProxyType(
    {
        "pbkdf2-sha1": ("sha1", 20, 1_300_000),
        "pbkdf2-sha256": ("sha256", 32, 600_000),
        "pbkdf2-sha512": ("sha512", 64, 210_000),
    }
)
# NIST SP 800-63B (revision 3) section 5.1.1.2: “typically at least 10,000 iterations”.
_NIST_ROUNDS = 10_000
_MEASURED = {
    "pbkdf2-sha256": (
        10_000, 25_000, 50_000, 100_000, 200_000, 400_000, 600_000, 1_200_000,
    ),
    "pbkdf2-sha512": (
        10_000, 25_000, 50_000, 100_000, 210_000, 400_000, 600_000, 1_200_000,
    ),
}  # fmt: skip
_FACTORS = (1.0, 1.25, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0, 15.0, 20.0)


def _contents(
    scheme: str, rounds: int, salt: bytes, digest: bytes, *, confidence: float = 1.0
) -> Contents | None:
    """Check the ranges; every layout's numbers come through here.

    In whatever layout a value stands, its setting is that of the PHC string.
    """
    parameters = {"rounds": rounds}
    if not within(parameters, PARAMETERS) or len(digest) < _LEAST_DIGEST_BYTES:
        return None
    return Contents(
        scheme=scheme,
        parameters=parameters,
        salt=salt,
        digest=digest,
        setting=f"${scheme}$i={rounds},l={len(digest)}${phc.encode(salt)}${len(digest)}",
        confidence=confidence,
    )


def _build_phc(scheme: str, match: re.Match[str]) -> Contents | None:
    fields = phc.salt_and_digest(match)
    if fields is None or (match["length"] and int(match["length"]) != len(fields[1])):
        return None
    return _contents(scheme, int(match["rounds"]), *fields)


def _build_underscore(scheme: str, match: re.Match[str]) -> Contents | None:
    digest = phc.decode(match["digest"])
    return _contents(scheme, int(match["rounds"]), match["salt"].encode("ascii"), digest or b"")


def _build_colon(scheme: str, match: re.Match[str]) -> Contents | None:
    digest = bytes.fromhex(match["digest"])
    return _contents(scheme, int(match["rounds"]), match["salt"].encode("ascii"), digest)


def _build_dots(scheme: str, match: re.Match[str]) -> Contents | None:
    salt, digest = (phc.decode(match[name].replace(".", "+")) for name in ("salt", "digest"))
    return _contents(scheme, int(match["rounds"]), salt, digest) if salt and digest else None


def _build_long_blob(match: re.Match[str]) -> Contents | None:
    raw = phc.decode(match.string.rstrip("="))
    if raw is None or len(raw) < _BLOB_HEADER.size + 8:
        return None
    _, function, rounds, salt_bytes = _BLOB_HEADER.unpack_from(raw)
    rest = raw[_BLOB_HEADER.size :]
    if function >= len(_BLOB_FUNCTIONS) or not 8 <= salt_bytes < len(rest):
        return None
    return _contents(_BLOB_FUNCTIONS[function], rounds, rest[:salt_bytes], rest[salt_bytes:])


def _build_short_blob(match: re.Match[str]) -> Contents | None:
    raw = phc.decode(match.string.rstrip("=")) or b""
    return _contents("pbkdf2-sha1", 1000, raw[1:17], raw[17:], confidence=0.9)


def _layout(
    scheme: str,
    name: str,
    structure: str,
    start: str,
    rest: str,
    build: Callable[[str, re.Match[str]], Contents | None],
    *,
    key_groups: tuple[str, ...] = ("rounds",),
    source: str = "RFC 8018",
) -> Layout:
    return Layout(
        scheme=scheme,
        name=name,
        structure=structure,
        source=source,
        kind=Kind.DERIVATION,
        says=Says.ALL,
        starts=(start,),
        pattern=re.escape(start) + rest,
        key_groups=key_groups,
        build=partial(build, scheme),
    )


_ROUNDS = "(?P<rounds>[0-9]+)"
_TEXT_SALT = r"\$(?P<salt>[ -#%-~]+)\$"
_IN_HEX = r"(?P<digest>(?:[0-9a-f]{2})+)"
_IN_BASE64 = r"(?P<digest>[A-Za-z0-9+/]+)(?P<padding>=*)"
_IN_DOTS = r"\$(?P<salt>[./0-9A-Za-z]+)\$(?P<digest>[./0-9A-Za-z]+)"
_DOTS = "$rounds$salt$digest, a dot for each plus"


def _layouts_of(scheme: str) -> Iterator[Layout]:
    name = _SCHEMES[scheme][0]
    yield _layout(
        scheme, phc.NAME, f"${scheme}$i=…[,l=…]$salt$digest", f"${scheme}$i=",
        _ROUNDS + "(?:,l=(?P<length>[0-9]+))?" + phc.TAIL, _build_phc,
        key_groups=("rounds", "length"), source=f"RFC 8018; {phc.SOURCE}",
    )  # fmt: skip
    yield _layout(
        scheme, "dollar fields, base64 with dots", f"${scheme}{_DOTS}", f"${scheme}$",
        _ROUNDS + _IN_DOTS, _build_dots,
    )  # fmt: skip
    yield _layout(
        scheme, "underscore name, dollar fields, base64", f"pbkdf2_{name}$rounds$salt$base64",
        f"pbkdf2_{name}$", _ROUNDS + _TEXT_SALT + _IN_BASE64, _build_underscore,
    )  # fmt: skip
    yield _layout(
        scheme, "colon name, dollar fields, hex", f"pbkdf2:{name}:rounds$salt$hex",
        f"pbkdf2:{name}:", _ROUNDS + _TEXT_SALT + _IN_HEX, _build_colon,
    )  # fmt: skip
    tags = ("PBKDF2", "PBKDF2-SHA1") if name == "sha1" else (f"PBKDF2-{name.upper()}",)
    for tag in tags:
        yield _layout(
            scheme, "directory tag", f"{{{tag}}}{_DOTS[1:]}", f"{{{tag}}}",
            _ROUNDS + _IN_DOTS, _build_dots, source="RFC 8018; RFC 2307 for the tag",
        )  # fmt: skip


LAYOUTS = (
    *(layout for scheme in _SCHEMES for layout in _layouts_of(scheme)),
    Layout(
        scheme=", ".join(_SCHEMES),
        name="base64 of a header, salt and digest",
        structure="base64 of byte 1, three big-endian numbers of 32 bits, salt, digest",
        source="RFC 8018",
        kind=Kind.DERIVATION,
        says=Says.ALL,
        starts=("AQAAAA",),
        # Seventeen characters and two bits hold the numbers, so the eighteenth shapes too.
        pattern=r"(?P<head>AQAAAA[A-Za-z0-9+/]{12})(?P<rest>[A-Za-z0-9+/]{20,})(?P<padding>={0,2})",
        key_groups=("head",),
        build=_build_long_blob,
    ),
    Layout(
        scheme="pbkdf2-sha1",
        name="base64 of a zero byte, salt and digest",
        structure="base64 of byte 0, 16 bytes of salt, 32 of digest",
        source="RFC 8018",
        kind=Kind.DERIVATION,
        says=Says.TAG,
        starts=("A",),
        pattern=r"A[A-P](?P<rest>[A-Za-z0-9+/]{64})==",
        build=_build_short_blob,
    ),
)


def read_setting(setting: str) -> ParsedValue | None:
    """Read a setting, as layered values keep it."""
    return read_first(LAYOUTS, phc.with_blank_digest(setting))


def _recompute(parsed: ParsedValue, secret: bytes) -> bytes:
    digest_name = _SCHEMES[parsed.scheme][0]
    rounds = parsed.parameters["rounds"]
    return hashlib.pbkdf2_hmac(digest_name, secret, parsed.salt or b"", rounds, len(parsed.digest))


def _create(scheme: str, secret: bytes, salt: bytes, parameters: Parameters) -> str:
    digest_name, length, _ = _SCHEMES[scheme]
    rounds = parameters["rounds"]
    head = f"${scheme}$i={rounds},l={length}${phc.encode(salt)}$"
    return head + phc.encode(hashlib.pbkdf2_hmac(digest_name, secret, salt, rounds, length))


def _as_strong(parameters: Parameters, others: Parameters) -> bool:
    return parameters["rounds"] >= others["rounds"]


def _above(alternatives: Sequence[Parameters]) -> Iterator[Parameters]:
    for point in alternatives:
        for factor in _FACTORS:
            yield {"rounds": round(point["rounds"] * factor)}


def _tuning(rounds: Sequence[int]) -> Tuning:
    return Tuning(
        points=tuple({"rounds": number} for number in rounds),
        grows_with=lambda parameters: float(parameters["rounds"]),
        above=_above,
        approved=True,
    )


def _on_top(scheme: str) -> OnTop:
    layout = next(found for found in LAYOUTS if (found.scheme, found.name) == (scheme, phc.NAME))
    return OnTop(
        layout=layout,
        start=f"${scheme}",
        numbers=(("$i=", "rounds"), (",l=", "")),
        digest_characters=-(-4 * _SCHEMES[scheme][1] // 3),
    )


def _derivation(scheme: str) -> Derivation:
    return Derivation(
        scheme=scheme,
        source="RFC 8018 section 5.2",
        parameters=PARAMETERS,
        defaults={"rounds": _SCHEMES[scheme][2]},
        salt_bytes=16,  # RFC 8018 section 4.1 asks for 8; NIST SP 800-132 for 16
        recompute=_recompute,
        create=partial(_create, scheme),
        whole_text=phc.whole_text,
        read_setting=read_setting,
        memory_kib=lambda _: 1,
        work_kib=lambda _: 0,
        as_strong=_as_strong,
        on_top=None if scheme == "pbkdf2-sha1" else _on_top(scheme),
        in_words=lambda parameters: f"{parameters['rounds']:,} rounds",
        work_in_words=lambda parameters: (
            f"{parameters['rounds']:,} rounds of HMAC, one after the other"
        ),
        limits={"rounds": "rounds"},
        floors={
            "owasp": ({"rounds": _SCHEMES[scheme][2]},),
            "nist": ({"rounds": _NIST_ROUNDS},),
        },
        tuning=_tuning(_MEASURED[scheme]) if scheme in _MEASURED else None,
        digest_multiple=4 if scheme == "pbkdf2-sha1" else 8,
        block_bytes=_SCHEMES[scheme][1],
        steps=Steps(
            number=lambda costs: costs["rounds"], costs=lambda number: ({"rounds": number},)
        ),
    )


FAMILY = Family(
    name="pbkdf2",
    layouts=LAYOUTS,
    derivations=tuple(_derivation(scheme) for scheme in _SCHEMES),
    work={scheme: rounds_of(name, HMAC_COMPRESSIONS) for scheme, (name, *_) in _SCHEMES.items()},
)
