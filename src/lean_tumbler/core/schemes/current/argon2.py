"""Argon2 in its three types and both versions (RFC 9106)."""

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from itertools import product
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
    Tuning,
    within,
)
from lean_tumbler.core.schemes.guess_work import Work

DIGEST_BYTES = 32
_VERSION_NOW = 0x13
_VERSION_BEFORE = 0x10  # what a value without `v=` was computed with
OLDER = f"v={_VERSION_BEFORE}"  # the variant of such a value, written or not
_TYPES = MappingProxyType({"argon2d": 0, "argon2i": 1, "argon2id": 2})  # RFC 9106 section 3.2

# RFC 9106 section 3.1: memory from 8 KiB a lane, passes from 1, lanes from 1 to 2^24 - 1.
PARAMETERS = (
    Parameter(name="memory_kib", lowest=8, highest=2**32 - 1),
    Parameter(name="passes", lowest=1, highest=2**32 - 1),
    Parameter(name="lanes", lowest=1, highest=2**24 - 1, needs=("memory_kib", 8)),
)


# RFC 9106 section 3.6: 128 quarter rounds for one KiB, 36 operations each.
_BLAMKA_BLOCK = 128 * 36

# Memory from the published least through what RFC 9106 section 4 recommends second (64 MiB) and
# beyond; each in so many passes.
_MEMORY_KIB = (
    19456, 24576, 30720, 32768, 47104, 65536, 98304, 131072, 196608, 262144, 393216, 524288,
    1048576,
)  # fmt: skip
_PASSES = (2, 3, 4)


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
    is_old = version != _VERSION_NOW
    notes = ("Argon2 version 1.0, superseded by 1.3 in 2016.",) if is_old else ()
    return Contents(
        parameters=parameters,
        variant=f"v={version}",
        salt=salt,
        digest=digest,
        setting=phc.setting_of(match, digest),
        notes=notes,
        obsolete=is_old or match.string.startswith("$argon2d$"),
    )


_IN_ORDER = ("t=(?P<passes>[0-9]+)", "p=(?P<lanes>[0-9]+)")


def _layout(scheme: str, *, by_letter: bool = False) -> Layout:
    """Describe the standard's order of costs, or the one that sorts them by their letters."""
    costs = ",".join(reversed(_IN_ORDER) if by_letter else _IN_ORDER)
    told = "m=…,p=…,t=…" if by_letter else "m=…,t=…,p=…"
    return Layout(
        scheme=scheme,
        name=f"{phc.NAME}, costs by letter" if by_letter else phc.NAME,
        structure=f"${scheme}$v=19${told}$salt$digest",
        source="seen with packages for Node.js" if by_letter else f"RFC 9106; {phc.SOURCE}",
        kind=Kind.DERIVATION,
        says=Says.ALL,
        starts=(f"${scheme}$",),
        pattern=rf"\${scheme}(?:\$v=(?P<version>[0-9]+))?\$m=(?P<memory>[0-9]+),{costs}" + phc.TAIL,
        key_groups=("version", "memory", "passes", "lanes"),
        build=_build,
    )


_IN_STANDARD = tuple(_layout(scheme) for scheme in ("argon2id", "argon2i", "argon2d"))
LAYOUTS = (*_IN_STANDARD, *(_layout(each.scheme, by_letter=True) for each in _IN_STANDARD))


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


def in_words(parameters: Parameters) -> str:
    """Write costs for a person."""
    lanes = f", {parameters['lanes']} lanes" if parameters["lanes"] > 1 else ""
    passes = "1 pass" if parameters["passes"] == 1 else f"{parameters['passes']} passes"
    return f"{parameters['memory_kib'] / 1024:.4g} MiB, {passes}{lanes}"


def _work_in_words(parameters: Parameters) -> str:
    memory = parameters["memory_kib"] / 1024
    return f"{memory:,.3g} MiB of memory, gone through {parameters['passes']} times"


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


def _work(parameters: Parameters) -> Work:
    """RFC 9106 section 3.2: a first pass writes and reads each block, a later one reads two.

    The attacks of section 7.2 lower the product of chip area and time; they move no fewer bytes.
    """
    blocks = parameters["memory_kib"] * parameters["passes"]
    return Work(
        operations=blocks * _BLAMKA_BLOCK,
        bytes_moved=1024.0 * memory_moved_kib(parameters),
    )


def _above(alternatives: Sequence[Parameters]) -> Iterator[Parameters]:
    lanes = max((point["lanes"] for point in alternatives), default=1)
    for memory, passes in product(_MEMORY_KIB, _PASSES):
        yield {"memory_kib": memory, "passes": passes, "lanes": lanes}


# OWASP Password Storage Cheat Sheet (2023 edition), which names Argon2id alone; RFC 9106 section 4,
# the first and the second recommended option.
_FLOORS: Mapping[str, tuple[Parameters, ...]] = {
    "owasp": (
        {"memory_kib": 47104, "passes": 1},
        {"memory_kib": 19456, "passes": 2},
        {"memory_kib": 12288, "passes": 3},
        {"memory_kib": 9216, "passes": 4},
        {"memory_kib": 7168, "passes": 5},
    ),
    "rfc9106": (
        {"memory_kib": 1 << 21, "passes": 1, "lanes": 4},
        {"memory_kib": 1 << 16, "passes": 3, "lanes": 4},
    ),
}
# Memory and passes by turns, so that a line through the points can tell one from the other.
_TUNING = Tuning(
    points=tuple(
        {"memory_kib": memory, "passes": passes, "lanes": 1}
        for memory, passes in (
            (16384, 1), (16384, 3), (32768, 1), (19456, 2), (47104, 2), (65536, 1), (65536, 3),
            (131072, 2),
        )
    ),
    grows_with=lambda parameters: parameters["memory_kib"] * parameters["passes"],
    above=_above,
)  # fmt: skip
_ON_TOP = OnTop(
    layout=_IN_STANDARD[0],
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
        in_words=in_words,
        work_in_words=_work_in_words,
        limits={"memory_kib": "memory_kib", "lanes": "lanes"},
        floors=_FLOORS if scheme == "argon2id" else {},
        tuning=_TUNING if scheme == "argon2id" else None,
    )


FAMILY = Family(
    name="argon2",
    layouts=LAYOUTS,
    derivations=tuple(_derivation(layout.scheme) for layout in _IN_STANDARD),
    work=dict.fromkeys(_TYPES, _work),
)
