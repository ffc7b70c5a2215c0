"""What one guess takes of an attacker's hardware, in the units that families count it in.

docs/ATTACKER.md explains the counts and says how they compare with measurements.
"""

from collections.abc import Callable, Mapping
from types import MappingProxyType

from msgspec import Struct


class Work(Struct, frozen=True, kw_only=True):
    """What one guess takes."""

    operations: float = 0.0  # 32-bit integer operations
    bytes_moved: float = 0.0  # to and from the device's memory
    on_chip_rounds: float = 0.0  # rounds that wait for on-chip memory, one after the other
    on_chip_bytes: int = 0  # on-chip memory that a guess holds meanwhile

    @property
    def seconds_of_a_core(self) -> float:
        """About how long a core of a server takes: within a factor of three."""
        return self.operations / _CORE_OPERATIONS + self.on_chip_rounds / _CORE_ON_CHIP_ROUNDS


# Of one core in a second, as measured with the primitives in use on a server of 2023.
_CORE_OPERATIONS = 3e9
_CORE_ON_CHIP_ROUNDS = 2.2e8


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
        "sha512-224": 80 * 34 + 64 * 22,  # section 5.3.6: SHA-512 with other first words
        "sha512-256": 80 * 34 + 64 * 22,
        "sha3-224": 24 * 188,  # FIPS 202 section 3.2
        "sha3-256": 24 * 188,
        "sha3-384": 24 * 188,
        "sha3-512": 24 * 188,
        "blake2b": 12 * 8 * 36,  # RFC 7693 section 3.2
        "blake2s": 10 * 8 * 18,  # the same in 32-bit words, two rounds fewer
    }
)
DES = 16 * (8 * 23 + 80) / 32  # FIPS 46-3 in bit slices: 32 guesses in one word
HMAC_COMPRESSIONS = 2  # of one round of PBKDF2, the two keyed states being kept


def rounds_of(digest: str, compressions: float = 1.0) -> Callable[[Mapping[str, int]], Work]:
    """Count rounds of a hash function, each of so many compressions."""
    return lambda costs: Work(operations=costs["rounds"] * compressions * COMPRESSION[digest])


def compressions_of(*names: str) -> Callable[[Mapping[str, int]], Work]:
    """Count one compression of each of some hash functions."""
    return lambda _: Work(operations=sum(COMPRESSION[name] for name in names))
