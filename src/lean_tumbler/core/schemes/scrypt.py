"""The derivation scrypt (RFC 7914) as a PHC string."""

import hashlib

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

# RFC 7914 section 2: N a power of two above 1, r·p below 2^30; `cost_log2` is log2 N.
PARAMETERS = (
    Parameter(name="cost_log2", lowest=1, highest=31),
    Parameter(name="block_size", lowest=1, highest=2**16),
    Parameter(name="lanes", lowest=1, highest=2**16),
)


def _from_phc(parsed: phc.PhcString | None) -> ParsedValue | None:
    if parsed is None or parsed.name != "scrypt" or set(parsed.parameters) != {"ln", "r", "p"}:
        return None
    parameters = {
        "cost_log2": parsed.parameters["ln"],
        "block_size": parsed.parameters["r"],
        "lanes": parsed.parameters["p"],
    }
    if parsed.version is not None or not within(parameters, PARAMETERS):
        return None
    return phc.parsed_value(parsed, parameters)


def read(text: str) -> ParsedValue | None:
    """Read `$scrypt$ln=…,r=…,p=…$salt$digest`."""
    return _from_phc(phc.parse(text)) if text.startswith("$scrypt$") else None


def read_setting(setting: str) -> ParsedValue | None:
    """Read a setting, as layered values keep it."""
    return _from_phc(phc.parse_setting(setting))


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
    return phc.write(head, derive(secret, salt, parameters))


def _work(parameters: Parameters) -> tuple[int, int]:
    table = parameters["block_size"] << parameters["cost_log2"]
    return table, table * parameters["lanes"]


def _as_strong(parameters: Parameters, others: Parameters) -> bool:
    return all(
        mine >= theirs for mine, theirs in zip(_work(parameters), _work(others), strict=True)
    )


FAMILY = Family(
    name="scrypt",
    read=read,
    derivations=(
        Derivation(
            scheme="scrypt",
            summary="Memory-hard derivation, older than Argon2.",
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
            may_layer=True,
        ),
    ),
)
