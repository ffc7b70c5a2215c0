"""Argon2 in its three types and both versions (RFC 9106)."""

import re
from functools import partial
from types import MappingProxyType

from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import (
    Contents,
    Derivation,
    Family,
    Kind,
    Layout,
    OnTop,
    Parameter,
    Parameters,
    ParsedValue,
    Says,
    read_first,
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


def _build(match: re.Match[str]) -> Contents | None:
    version = int(match["version"] or _VERSION_BEFORE)
    names = ("memory", "passes", "lanes")
    parameters = {
        entry.name: int(match[name]) for entry, name in zip(PARAMETERS, names, strict=True)
    }
    fields = phc.salt_and_digest(match)
    if fields is None or version not in {_VERSION_NOW, _VERSION_BEFORE}:
        return None
    salt, digest = fields
    # RFC 9106 section 3.1: a salt of at least 8 bytes is expected, a digest of at least 4 required.
    if not within(parameters, PARAMETERS) or len(digest) < 4 or len(salt) < 8:
        return None
    if parameters["memory_kib"] < 8 * parameters["lanes"]:
        return None
    notes = () if version == _VERSION_NOW else ("Argon2 version 1.0, superseded by 1.3 in 2016.",)
    return Contents(
        parameters=parameters,
        variant=f"v={version}",
        salt=salt,
        digest=digest,
        setting=phc.setting_of(match, digest),
        notes=notes,
    )


def _layout(scheme: str) -> Layout:
    return Layout(
        scheme=scheme,
        name=phc.NAME,
        structure=f"${scheme}$v=19$m=…,t=…,p=…$salt$digest",
        source=f"RFC 9106; {phc.SOURCE}",
        kind=Kind.DERIVATION,
        says=Says.ALL,
        starts=(f"${scheme}$",),
        pattern=rf"\${scheme}(?:\$v=(?P<version>[0-9]+))?"
        r"\$m=(?P<memory>[0-9]+),t=(?P<passes>[0-9]+),p=(?P<lanes>[0-9]+)" + phc.TAIL,
        key_groups=("version", "memory", "passes", "lanes"),
        build=_build,
    )


LAYOUTS = tuple(_layout(scheme) for scheme in ("argon2id", "argon2i", "argon2d"))


def read_setting(setting: str) -> ParsedValue | None:
    """Read a setting, as layered values keep it."""
    return read_first(LAYOUTS, phc.with_blank_digest(setting))


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
        version=int(parsed.contents.variant.removeprefix("v=")),
    )


def _create(scheme: str, secret: bytes, salt: bytes, parameters: Parameters) -> str:
    memory, passes, lanes = (parameters[entry.name] for entry in PARAMETERS)
    head = f"${scheme}$v={_VERSION_NOW}$m={memory},t={passes},p={lanes}${phc.encode(salt)}$"
    return head + phc.encode(derive(secret, salt, parameters, scheme=scheme))


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


_ON_TOP = OnTop(
    layout=LAYOUTS[0],
    start=f"$argon2id$v={_VERSION_NOW}",
    numbers=(("$m=", "memory_kib"), (",t=", "passes"), (",p=", "lanes")),
    digest_characters=-(-4 * DIGEST_BYTES // 3),
)


def _derivation(scheme: str) -> Derivation:
    return Derivation(
        scheme=scheme,
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
        on_top=_ON_TOP if scheme == "argon2id" else None,
    )


FAMILY = Family(
    name="argon2",
    layouts=LAYOUTS,
    derivations=tuple(_derivation(layout.scheme) for layout in LAYOUTS),
)
