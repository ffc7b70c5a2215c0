"""The derivation scrypt (RFC 7914) in its layouts; new values are PHC strings."""

import hashlib
import re
from collections.abc import Iterator, Sequence

from lean_tumbler.core.schemes import crypt64, phc
from lean_tumbler.core.schemes.base import Contents, Kind, Layout, Parameters, ParsedValue, Says
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
_SALSA_BLOCK = 8 * 4 * 12 + 48  # RFC 7914 section 3: Salsa20/8 and the exclusive or, 64 bytes
_COSTS_LOG2 = range(14, 22)  # to choose from

# RFC 7914 section 2: N a power of two above 1, r·p below 2^30; `cost_log2` is log2 N.
PARAMETERS = (
    Parameter(name="cost_log2", lowest=1, highest=31),
    Parameter(name="block_size", lowest=1, highest=2**16),
    Parameter(name="lanes", lowest=1, highest=2**16),
)


def _contents(numbers: tuple[int, int, int], salt: bytes, digest: bytes) -> Contents | None:
    """Check the parameters' ranges; every layout's numbers come through here.

    In whatever layout a value stands, its setting is that of the PHC string.
    """
    parameters = {entry.name: number for entry, number in zip(PARAMETERS, numbers, strict=True)}
    if not within(parameters, PARAMETERS) or not digest:
        return None
    cost, size, lanes = numbers
    return Contents(
        parameters=parameters,
        salt=salt,
        digest=digest,
        setting=f"$scrypt$ln={cost},r={size},p={lanes}${phc.encode(salt)}${len(digest)}",
    )


def _numbers(match: re.Match[str]) -> tuple[int, int, int]:
    return int(match["cost"]), int(match["size"]), int(match["lanes"])


def _build_phc(match: re.Match[str]) -> Contents | None:
    fields = phc.salt_and_digest(match)
    return _contents(_numbers(match), *fields) if fields else None


def _build_colon(match: re.Match[str]) -> Contents | None:
    cost, size, lanes = _numbers(match)
    if cost < 2 or cost & (cost - 1):
        return None
    numbers = (cost.bit_length() - 1, size, lanes)
    return _contents(numbers, match["salt"].encode("ascii"), bytes.fromhex(match["digest"]))


def _build_crypt(match: re.Match[str]) -> Contents | None:
    cost, size, lanes = (crypt64.number(match[name]) for name in ("cost", "size", "lanes"))
    digest = crypt64.decode(match["digest"])
    return _contents((cost, size, lanes), match["salt"].encode("ascii"), digest)


LAYOUTS = (
    Layout(
        scheme="scrypt",
        name=phc.NAME,
        structure="$scrypt$ln=…,r=…,p=…$salt$digest",
        source=f"RFC 7914; {phc.SOURCE}",
        kind=Kind.DERIVATION,
        says=Says.ALL,
        starts=("$scrypt$ln=",),
        pattern=r"\$scrypt\$ln=(?P<cost>[0-9]+),r=(?P<size>[0-9]+),p=(?P<lanes>[0-9]+)" + phc.TAIL,
        key_groups=("cost", "size", "lanes"),
        build=_build_phc,
    ),
    Layout(
        scheme="scrypt",
        name="colon name, dollar fields, hex",
        structure="scrypt:N:r:p$salt$hex",
        source="RFC 7914",
        kind=Kind.DERIVATION,
        says=Says.ALL,
        starts=("scrypt:",),
        pattern=r"scrypt:(?P<cost>[0-9]+):(?P<size>[0-9]+):(?P<lanes>[0-9]+)"
        r"\$(?P<salt>[ -#%-~]+)\$(?P<digest>(?:[0-9a-f]{2})+)",
        key_groups=("cost", "size", "lanes"),
        build=_build_colon,
    ),
    Layout(
        scheme="scrypt",
        name="crypt fields",
        structure="$7$ and N, r, p in 1, 5 and 5 characters, salt$digest",
        source="RFC 7914; crypt(5)",
        kind=Kind.DERIVATION,
        says=Says.ALL,
        starts=("$7$",),
        pattern=r"\$7\$(?P<cost>[./0-9A-Za-z])(?P<size>[./0-9A-Za-z]{5})"
        r"(?P<lanes>[./0-9A-Za-z]{5})(?P<salt>[./0-9A-Za-z]*)\$(?P<digest>[./0-9A-Za-z]{43})",
        key_groups=("cost", "size", "lanes"),
        build=_build_crypt,
    ),
)


def read_setting(setting: str) -> ParsedValue | None:
    """Read a setting, as layered values keep it."""
    return LAYOUTS[0].read(phc.with_blank_digest(setting))


def memory_kib(parameters: Parameters) -> int:
    """Working memory: 128·r bytes times N for the table and p for the lanes (RFC 7914, 5)."""
    blocks = (1 << parameters["cost_log2"]) + parameters["lanes"]
    return -(-128 * blocks * parameters["block_size"] // 1024)


def derive(
    secret: bytes, salt: bytes, parameters: Parameters, *, digest_bytes: int = DIGEST_BYTES
) -> bytes:
    """Run the primitive once; releases the interpreter lock."""
    return hashlib.scrypt(
        secret,
        salt=salt,
        n=1 << parameters["cost_log2"],
        r=parameters["block_size"],
        p=parameters["lanes"],
        maxmem=(memory_kib(parameters) + 1024) * 1024,  # OpenSSL's default refuses 32 MiB and more
        dklen=digest_bytes,
    )


def _recompute(parsed: ParsedValue, secret: bytes) -> bytes:
    return derive(secret, parsed.salt or b"", parsed.parameters, digest_bytes=len(parsed.digest))


def _create(secret: bytes, salt: bytes, parameters: Parameters) -> str:
    cost, block_size, lanes = (parameters[entry.name] for entry in PARAMETERS)
    head = f"$scrypt$ln={cost},r={block_size},p={lanes}${phc.encode(salt)}$"
    return head + phc.encode(derive(secret, salt, parameters))


def in_words(parameters: Parameters) -> str:
    """Write costs for a person."""
    lanes = f", {parameters['lanes']} lanes" if parameters["lanes"] > 1 else ""
    mib = 2 ** parameters["cost_log2"] * parameters["block_size"] * 128 / 2**20
    return f"N = 2^{parameters['cost_log2']} ({mib:g} MiB){lanes}"


def work(parameters: Parameters) -> Work:
    """RFC 7914 section 5: 128·N·r bytes are written, and as many read, in each of p lanes."""
    lanes = parameters.get("lanes", 1)  # yescrypt has none
    blocks = 2.0 ** parameters["cost_log2"] * parameters["block_size"] * lanes
    return Work(operations=2 * 2 * blocks * _SALSA_BLOCK, bytes_moved=256 * blocks)


def _above(_: Sequence[Parameters]) -> Iterator[Parameters]:
    for cost in _COSTS_LOG2:
        yield {"cost_log2": cost, "block_size": 8, "lanes": 1}


# OWASP Password Storage Cheat Sheet (2023 edition).
_FLOOR = tuple(
    {"cost_log2": cost, "block_size": 8, "lanes": lanes}
    for cost, lanes in ((17, 1), (16, 2), (15, 3), (14, 5), (13, 10))
)


def _table(parameters: Parameters) -> tuple[int, int]:
    table = parameters["block_size"] << parameters["cost_log2"]
    return table, table * parameters["lanes"]


def _as_strong(parameters: Parameters, others: Parameters) -> bool:
    return all(
        mine >= theirs for mine, theirs in zip(_table(parameters), _table(others), strict=True)
    )


FAMILY = Family(
    name="scrypt",
    layouts=LAYOUTS,
    derivations=(
        Derivation(
            scheme="scrypt",
            source="RFC 7914",
            parameters=PARAMETERS,
            defaults={"cost_log2": 17, "block_size": 8, "lanes": 1},
            salt_bytes=16,
            recompute=_recompute,
            create=_create,
            whole_text=phc.whole_text,
            read_setting=read_setting,
            memory_kib=memory_kib,
            work_kib=lambda parameters: memory_kib(parameters) * parameters["lanes"],
            as_strong=_as_strong,
            in_words=in_words,
            limits={"lanes": "lanes"},
            floors={"owasp": _FLOOR},
            tuning=Tuning(
                points=tuple(
                    {"cost_log2": cost, "block_size": 8, "lanes": 1} for cost in range(11, 19)
                ),
                grows_with=lambda parameters: float(_table(parameters)[1]),
                above=_above,
            ),
            on_top=OnTop(
                layout=LAYOUTS[0],
                start="$scrypt",
                numbers=(("$ln=", "cost_log2"), (",r=", "block_size"), (",p=", "lanes")),
                digest_characters=-(-4 * DIGEST_BYTES // 3),
            ),
        ),
    ),
    work={"scrypt": work},
)
