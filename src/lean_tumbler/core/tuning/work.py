"""What one guess costs an attacker, in operations and bytes, from the schemes' own definitions.

docs/ATTACKER.md explains the counts and says how it compares with measurements.
"""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from types import MappingProxyType

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.steps import (
    DIGESTS,
    Digest,
    Formula,
    Hmac,
    Join,
    Loop,
    Number,
    Operand,
    Part,
    Pbkdf2,
    Step,
    Take,
)
from lean_tumbler.core.schemes.argon2 import memory_moved_kib
from lean_tumbler.core.schemes.base import Parameters


@dataclass(frozen=True, slots=True, kw_only=True)
class Work:
    """What one guess takes.

    Attributes:
        operations: 32-bit integer operations.
        bytes_moved: to and from the device's memory.
        on_chip_rounds: rounds that wait for on-chip memory, one after the other.
        on_chip_bytes: on-chip memory that a guess holds meanwhile.
        shortcut: by how much trading memory for time lowers the cost of a guess.
    """

    operations: float = 0.0
    bytes_moved: float = 0.0
    on_chip_rounds: float = 0.0
    on_chip_bytes: int = 0
    shortcut: float = 1.0


# 32-bit operations of one compression: a rotation, a three-operand logic function and a
# three-operand sum count as one each, a 64-bit operation as two.
COMPRESSION: Mapping[str, int] = MappingProxyType(
    {
        "md4": 48 * 3,  # RFC 1320 section 3.4: function, sum, rotation
        "md5": 64 * 4,  # RFC 1321 section 3.4: the same and a sum
        "sha1": 80 * 5 + 64 * 3,  # FIPS 180-4 section 6.1.2: rounds and schedule
        "sha224": 64 * 14 + 48 * 10,  # section 6.2.2
        "sha256": 64 * 14 + 48 * 10,
        "sha384": 80 * 34 + 64 * 22,  # section 6.4.2, in 64-bit words
        "sha512": 80 * 34 + 64 * 22,
        "ripemd160": 2 * 80 * 5,
        "sha3-256": 24 * 188,  # FIPS 202 section 3.2
        "sha3-512": 24 * 188,
        "blake2b": 12 * 8 * 36,  # RFC 7693 section 3.2
    }
)
_DES = 16 * (8 * 23 + 80) / 32  # FIPS 46-3 in bit slices: 32 guesses in one word
_BLAMKA_BLOCK = 128 * 36  # RFC 9106 section 3.6: 128 quarter rounds for one KiB
_SALSA_BLOCK = 8 * 4 * 12 + 48  # RFC 7914 section 3: Salsa20/8 and the exclusive or, 64 bytes
_PBKDF2_COMPRESSIONS = 2  # of one round of HMAC, its two keyed states being kept
_BCRYPT_ROUNDS = 521 * 16  # blocks of one key schedule, rounds of Blowfish
_BCRYPT_BYTES = 4096  # the four S-boxes
# RFC 9106 section 7.2: what the best known attack gains on Argon2id in one pass and in more.
_ARGON2_SHORTCUT_ONE_PASS, _ARGON2_SHORTCUT = 2.1, 1.33


def formula_work(formula: Formula, numbers: Parameters = MappingProxyType({})) -> Work:
    """Count what one evaluation of a formula takes; salts and keys are prepared once.

    Args:
        formula: which.
        numbers: the parts of the row that it takes as numbers; 1 where one is not known.
    """
    return Work(operations=_Steps(numbers).all(formula.steps))


class _Steps:
    def __init__(self, numbers: Parameters) -> None:
        self._numbers = numbers

    def all(self, steps: Iterable[Step]) -> float:
        return sum(map(self._one, steps))

    def _number(self, number: Number) -> int:
        return self._numbers.get(number.name, 1) if isinstance(number, Part) else number

    def _one(self, step: Step) -> float:
        match step:
            case Digest():
                return COMPRESSION[step.name]
            case Hmac():
                keyed = 2 * _PBKDF2_COMPRESSIONS * COMPRESSION[step.digest]
                return keyed + self._operand(step.key)
            case Pbkdf2():
                blocks = -(-self._number(step.length_bytes) // DIGESTS[step.digest].size_bytes)
                rounds = blocks * self._number(step.rounds)
                return rounds * _PBKDF2_COMPRESSIONS * COMPRESSION[step.digest]
            case Loop():
                return self._number(step.times) * self.all(step.body)
            case Take() | Join():
                return self._operand(step.operand)
            case _:
                return 0.0

    def _operand(self, operand: Operand) -> float:
        return self.all(operand.source.steps) if isinstance(operand.source, Formula) else 0.0


def _argon2(costs: Parameters) -> Work:
    """RFC 9106 section 3.2: a first pass writes and reads each block, a later one reads two."""
    blocks = costs["memory_kib"] * costs["passes"]
    return Work(
        operations=blocks * _BLAMKA_BLOCK,
        bytes_moved=1024.0 * memory_moved_kib(costs),
        shortcut=_ARGON2_SHORTCUT_ONE_PASS if costs["passes"] == 1 else _ARGON2_SHORTCUT,
    )


def _scrypt(costs: Parameters) -> Work:
    """RFC 7914 section 5: 128·N·r bytes are written, and as many read, in each of p lanes."""
    blocks = 2.0 ** costs["cost_log2"] * costs["block_size"] * costs.get("lanes", 1)
    return Work(operations=2 * 2 * blocks * _SALSA_BLOCK, bytes_moved=256 * blocks)


def _bcrypt(costs: Parameters) -> Work:
    """Provos and Mazières 1999: 2^c times two key schedules, one Blowfish round after the other."""
    return Work(
        on_chip_rounds=2.0 ** (costs["cost_log2"] + 1) * _BCRYPT_ROUNDS,
        on_chip_bytes=_BCRYPT_BYTES,
    )


def _rounds_of(digest: str, compressions: float = 1.0) -> Callable[[Parameters], Work]:
    return lambda costs: Work(operations=costs["rounds"] * compressions * COMPRESSION[digest])


def _digest(*names: str) -> Callable[[Parameters], Work]:
    return lambda _: Work(operations=sum(COMPRESSION[name] for name in names))


# How each scheme's cost follows from its parameters. Where a round digests one or two blocks by
# turns, the mean is taken.
_WORK: Mapping[str, Callable[[Parameters], Work]] = MappingProxyType(
    {
        "argon2id": _argon2,
        "argon2i": _argon2,
        "argon2d": _argon2,
        "scrypt": _scrypt,
        "yescrypt": _scrypt,
        "gost-yescrypt": _scrypt,
        "bcrypt": _bcrypt,
        "pbkdf2-sha1": _rounds_of("sha1", _PBKDF2_COMPRESSIONS),
        "pbkdf2-sha256": _rounds_of("sha256", _PBKDF2_COMPRESSIONS),
        "pbkdf2-sha512": _rounds_of("sha512", _PBKDF2_COMPRESSIONS),
        "pbkdf2-sha512-verifier": _rounds_of("sha512", _PBKDF2_COMPRESSIONS),
        "scram-sha-256": _rounds_of("sha256", _PBKDF2_COMPRESSIONS),
        "sha1-crypt": _rounds_of("sha1", _PBKDF2_COMPRESSIONS),
        "md5-crypt": _rounds_of("md5"),
        "apr1-crypt": _rounds_of("md5"),
        "iterated-md5": _rounds_of("md5"),
        "sun-md5": _rounds_of("md5", 2),
        "sha256-crypt": _rounds_of("sha256", 1.5),
        "sha512-crypt": _rounds_of("sha512"),
        "caching-sha256": _rounds_of("sha256", 1.5),
        "des-crypt": lambda _: Work(operations=25 * _DES),
        "bigcrypt": lambda _: Work(operations=25 * _DES),
        "bsdi-crypt": lambda costs: Work(operations=costs["rounds"] * _DES),
        "nt-hash": _digest("md4"),
        "double-sha1": _digest("sha1", "sha1"),
        "postgresql-md5": _digest("md5"),
        "mysql-old": lambda _: Work(operations=12 * 8.0),  # a few sums for each character
        **{name: _digest(name) for name in COMPRESSION},
    }
)


def work_of(scheme: str, parameters: Parameters, *, formula: str = "") -> Work | None:
    """Count what one guess takes; None for what is not guessed or not known.

    Args:
        scheme: by its trade name.
        parameters: its costs.
        formula: for bare digests, what makes them, in the notation; empty where unknown.
    """
    if formula:
        return formula_work(notation.parse(formula), parameters)
    counted = _WORK.get(scheme)
    try:
        return counted(parameters) if counted else None
    except KeyError:  # a layout that does not state its cost
        return None
