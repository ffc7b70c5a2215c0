"""PBKDF2 (RFC 8018 section 5.2) as a PHC string."""

import hashlib
from functools import partial
from types import MappingProxyType

from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import (
    Derivation,
    Family,
    Parameter,
    Parameters,
    ParsedValue,
    within,
)

PARAMETERS = (Parameter(name="rounds", lowest=1, highest=2**32 - 1),)

# Each scheme's digest, its length in bytes, and the rounds of the published guidance.
_SCHEMES = MappingProxyType(
    {
        "pbkdf2-sha1": ("sha1", 20, 1_300_000),
        "pbkdf2-sha256": ("sha256", 32, 600_000),
        "pbkdf2-sha512": ("sha512", 64, 210_000),
    }
)


def _from_phc(parsed: phc.PhcString | None) -> ParsedValue | None:
    if parsed is None or parsed.name not in _SCHEMES or parsed.version is not None:
        return None
    fields = dict(parsed.parameters)
    parameters = {"rounds": fields.pop("i", 0)}
    if fields.pop("l", len(parsed.digest)) != len(parsed.digest) or fields:
        return None
    if not within(parameters, PARAMETERS):
        return None
    return phc.parsed_value(parsed, parameters)


def read(text: str) -> ParsedValue | None:
    """Read `$pbkdf2-sha256$i=…,l=…$salt$digest` and its relatives."""
    return _from_phc(phc.parse(text)) if text.startswith("$pbkdf2-") else None


def read_setting(setting: str) -> ParsedValue | None:
    """Read a setting, as layered values keep it."""
    return _from_phc(phc.parse_setting(setting))


def _recompute(parsed: ParsedValue, secret: bytes) -> bytes:
    digest_name = _SCHEMES[parsed.scheme][0]
    rounds = parsed.parameters["rounds"]
    return hashlib.pbkdf2_hmac(digest_name, secret, parsed.salt or b"", rounds, len(parsed.digest))


def _create(scheme: str, secret: bytes, salt: bytes, parameters: Parameters) -> str:
    digest_name, length, _ = _SCHEMES[scheme]
    rounds = parameters["rounds"]
    head = f"${scheme}$i={rounds},l={length}${phc.encode(salt)}$"
    return phc.write(head, hashlib.pbkdf2_hmac(digest_name, secret, salt, rounds, length))


def _as_strong(parameters: Parameters, others: Parameters) -> bool:
    return parameters["rounds"] >= others["rounds"]


def _derivation(scheme: str) -> Derivation:
    return Derivation(
        scheme=scheme,
        summary="Iterated HMAC, for those who need FIPS-approved primitives.",
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
        may_layer=scheme != "pbkdf2-sha1",
    )


FAMILY = Family(
    name="pbkdf2", read=read, derivations=tuple(_derivation(scheme) for scheme in _SCHEMES)
)
