"""Argon2 in its three types and both versions (RFC 9106)."""

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

DIGEST_BYTES = 32
_VERSION_NOW = 0x13
_VERSION_BEFORE = 0x10  # what a value without `v=` was computed with
_TYPES = MappingProxyType({"argon2d": 0, "argon2i": 1, "argon2id": 2})  # RFC 9106 section 3.2

# RFC 9106 section 3.1: memory from 8 KiB a lane, passes from 1, lanes from 1 to 2^24 - 1.
PARAMETERS = (
    Parameter(name="memory_kib", lowest=8, highest=2**32 - 1),
    Parameter(name="passes", lowest=1, highest=2**32 - 1),
    Parameter(name="lanes", lowest=1, highest=2**24 - 1),
)


def _from_phc(parsed: phc.PhcString | None) -> ParsedValue | None:
    if parsed is None or parsed.name not in _TYPES:
        return None
    version = _VERSION_BEFORE if parsed.version is None else parsed.version
    if set(parsed.parameters) != {"m", "t", "p"} or version not in {_VERSION_NOW, _VERSION_BEFORE}:
        return None
    parameters = {
        "memory_kib": parsed.parameters["m"],
        "passes": parsed.parameters["t"],
        "lanes": parsed.parameters["p"],
    }
    # RFC 9106 section 3.1: a salt of at least 8 bytes is expected, a digest of at least 4 required.
    if not within(parameters, PARAMETERS) or len(parsed.digest) < 4 or len(parsed.salt) < 8:
        return None
    if parameters["memory_kib"] < 8 * parameters["lanes"]:
        return None
    notes = () if version == _VERSION_NOW else ("Argon2 version 1.0, superseded by 1.3 in 2016.",)
    return phc.parsed_value(parsed, parameters, variant=f"v={version}", notes=notes)


def read(text: str) -> ParsedValue | None:
    """Read `$argon2id$v=19$m=…,t=…,p=…$salt$digest` and its relatives."""
    return _from_phc(phc.parse(text)) if text.startswith("$argon2") else None


def read_setting(setting: str) -> ParsedValue | None:
    """Read a setting, as layered values keep it."""
    return _from_phc(phc.parse_setting(setting))


def derive(
    secret: bytes,
    salt: bytes,
    parameters: Parameters,
    *,
    digest_bytes: int = DIGEST_BYTES,
    scheme: str = "argon2id",
    version: int = _VERSION_NOW,
) -> bytes:
    """Run the primitive once; releases the interpreter lock."""
    from argon2 import low_level  # noqa: PLC0415 - loads native code; reading does not need it

    return low_level.hash_secret_raw(
        secret=secret,
        salt=salt,
        time_cost=parameters["passes"],
        memory_cost=parameters["memory_kib"],
        parallelism=parameters["lanes"],
        hash_len=digest_bytes,
        type=low_level.Type(_TYPES[scheme]),
        version=version,
    )


def _recompute(parsed: ParsedValue, secret: bytes) -> bytes:
    return derive(
        secret,
        parsed.salt or b"",
        parsed.parameters,
        digest_bytes=len(parsed.digest),
        scheme=parsed.scheme,
        version=int(parsed.variant.removeprefix("v=")),
    )


def _create(scheme: str, secret: bytes, salt: bytes, parameters: Parameters) -> str:
    memory, passes, lanes = (parameters[entry.name] for entry in PARAMETERS)
    head = f"${scheme}$v={_VERSION_NOW}$m={memory},t={passes},p={lanes}${phc.encode(salt)}$"
    return phc.write(head, derive(secret, salt, parameters, scheme=scheme))


def memory_moved_kib(parameters: Parameters) -> int:
    """Memory traffic of one derivation: m·(2 + 3(t − 1)) KiB.

    The first pass writes each block and reads one other; later passes read two and write one
    (RFC 9106 section 3.2, steps 5 and 6).
    """
    return parameters["memory_kib"] * (2 + 3 * (parameters["passes"] - 1))


def _as_strong(parameters: Parameters, others: Parameters) -> bool:
    return parameters["memory_kib"] >= others["memory_kib"] and memory_moved_kib(
        parameters
    ) >= memory_moved_kib(others)


def _derivation(scheme: str, summary: str) -> Derivation:
    return Derivation(
        scheme=scheme,
        summary=summary,
        source="RFC 9106",
        parameters=PARAMETERS,
        defaults={"memory_kib": 19456, "passes": 2, "lanes": 1},
        salt_bytes=16,  # RFC 9106 section 4, step 4
        recompute=_recompute,
        create=partial(_create, scheme),
        whole_text=phc.whole_text,
        read_setting=read_setting,
        memory_kib=lambda parameters: parameters["memory_kib"],
        work_kib=lambda parameters: parameters["memory_kib"] * parameters["passes"],
        as_strong=_as_strong,
        may_layer=scheme == "argon2id",
    )


FAMILY = Family(
    name="argon2",
    read=read,
    derivations=(
        _derivation("argon2id", "Memory-hard derivation, the first choice for passwords."),
        _derivation("argon2i", "Memory-hard derivation with data-independent access."),
        _derivation("argon2d", "Memory-hard derivation with data-dependent access."),
    ),
)
