"""What values may cost, as conditions of a language."""

from collections.abc import Iterator, Mapping
from typing import ClassVar

from lean_tumbler.core.embedding.check import StoreCheck
from lean_tumbler.core.limits import Limits
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, DERIVATIONS


class CostLines:
    """The conditions on costs, from how a language counts."""

    joined: ClassVar[Mapping[bool, str]]  # whether one is enough -> the sign between conditions
    costs: ClassVar[str] = "costs"  # the list of a value's costs
    digest_length: ClassVar[str]  # of the value at hand, in bytes
    power_of_two: ClassVar[str] = "(1 << {0})"
    blocks: ClassVar[str] = "(({0} + {1} - 1) / {1})"  # so many bytes in blocks

    def over_limits(self, check: StoreCheck) -> list[tuple[str, list[str]]]:
        """Give each slow scheme with the conditions of which one tells that a value asks too much.

        Those that come first keep the products behind them in 64 bits.
        """
        return [
            (scheme, list(map(self.spelled, self._over_limits(scheme, check.limits))))
            for scheme in check.computed
        ]

    def spelled(self, condition: str) -> str:
        """Write a condition on costs as the language's formatter does."""
        return condition

    def _over_limits(self, scheme: str, limits: Limits) -> Iterator[str]:
        first, second, third = (f"{self.costs}[{number}]" for number in range(3))
        if scheme.startswith("argon2"):
            yield f"{first} > {limits.memory_kib}"
            yield f"{second} > {limits.work_kib}"
            yield f"{third} > {limits.lanes}"
            yield f"{first} * {second} > {limits.work_kib}"
        elif scheme == "scrypt":  # 128 · r · (N + p) bytes: RFC 7914 section 2
            table = f"({self.power_of_two.format(first)} + {third})"
            memory = f"128 * {second} * {table}"
            yield f"{first} > {(8 * limits.memory_kib).bit_length()}"
            yield f"{second} > {4 * limits.memory_kib}"
            yield f"{third} > {limits.lanes}"
            yield f"{memory} > {1024 * limits.memory_kib}"
            yield f"{self.blocks.format(f'({memory})', 1024)} * {third} > {limits.work_kib}"
        elif scheme == "bcrypt":
            yield f"{first} > {limits.bcrypt_cost_log2}"
        elif scheme in CRYPT_SCHEMES:
            yield f"{first} > {limits.crypt_rounds}"
        else:
            blocks = self.blocks.format(self.digest_length, DERIVATIONS[scheme].block_bytes)
            yield f"{first} * {blocks} > {limits.rounds}"

    def as_strong(self, check: StoreCheck) -> str:
        """Write whether costs within the limits are at least the target's."""
        return self.joined[False].join(map(self.spelled, self._as_strong(check)))

    def _as_strong(self, check: StoreCheck) -> Iterator[str]:
        costs = check.target.parameters
        first, second, third = (f"{self.costs}[{number}]" for number in range(3))
        if check.target.scheme == "argon2id":
            memory, passes = costs["memory_kib"], costs["passes"]
            yield f"{first} >= {memory}"
            yield f"{first} * (3 * {second} - 1) >= {memory * (3 * passes - 1)}"
        elif check.target.scheme == "scrypt":
            own = costs["block_size"] << costs["cost_log2"]
            table = f"{second} * {self.power_of_two.format(first)}"
            yield f"{table} >= {own}"
            yield f"{table} * {third} >= {own * costs['lanes']}"
        else:
            yield f"{first} >= {next(iter(costs.values()))}"
