"""Bounds on work: what a password, or a stored value that somebody planted, may ask for."""

from collections.abc import Mapping
from typing import Annotated

from msgspec import Meta, Struct

from lean_tumbler.core.formulas.evaluation import FORMULA_BYTES, FORMULA_WORK
from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES, DERIVATIONS
from lean_tumbler.errors import OverLimit

Count = Annotated[int, Meta(ge=1)]


class Limits(Struct, frozen=True, kw_only=True):
    """Bounds on the work that a password or a stored value can ask for.

    Attributes:
        password_bytes: the longest password that is tried, in bytes.
        memory_kib: the most memory of one derivation, in KiB.
        work_kib: memory times passes, or times scrypt's lanes, in KiB; about ten seconds.
        lanes: the most lanes of Argon2, which starts a thread for each.
        rounds: the most rounds of PBKDF2.
        crypt_rounds: the most rounds of the crypt(3) family; about two seconds.
        bcrypt_cost_log2: the highest cost of bcrypt.
        formula_work: the most digests and rounds that one formula may compute.
        formula_bytes: the longest text that a formula may build, in bytes.
    """

    password_bytes: Count = 1024
    memory_kib: Count = 1_048_576
    work_kib: Count = 8_388_608
    lanes: Count = 64
    rounds: Count = 10_000_000
    crypt_rounds: Count = 1_000_000
    bcrypt_cost_log2: Count = 16
    formula_work: Count = FORMULA_WORK
    formula_bytes: Count = FORMULA_BYTES


def over_limits(parsed: ParsedValue, limits: Limits) -> str:
    """Name the first cost of a stored value that is above its limit; empty where none is."""
    if parsed.inner is not None:
        return over_limits(parsed.inner, limits)
    if parsed.scheme in CRYPT_SCHEMES:
        return _crypt_scheme_over_limits(parsed, limits)
    if parsed.scheme not in DERIVATIONS:
        return ""
    derivation = DERIVATIONS[parsed.scheme]
    parameters = parsed.parameters
    asked = {
        "memory_kib": derivation.memory_kib(parameters),
        "work_kib": derivation.work_kib(parameters),
        **{
            limit: parameters[name] * blocks
            for name, limit in derivation.limits.items()
            for blocks in [derivation.blocks_of(len(parsed.digest))]
        },
    }
    return _first_above(asked, limits)


def _crypt_scheme_over_limits(parsed: ParsedValue, limits: Limits) -> str:
    asked = {
        "memory_kib": CRYPT_SCHEMES[parsed.scheme].memory_kib(parsed.parameters),
        "crypt_rounds": parsed.parameters.get("rounds", 0),
    }
    return _first_above(asked, limits)


def _first_above(asked: Mapping[str, int], limits: Limits) -> str:
    for name, number in asked.items():
        limit = getattr(limits, name)
        if number > limit:
            return f"{name} = {number:,}, above the limit of {limit:,}"
    return ""


def require_within_limits(parsed: ParsedValue, limits: Limits) -> None:
    """Refuse work that a planted value could ask for.

    Raises:
        OverLimit: naming the parameter, its value and the limit.
    """
    asked = over_limits(parsed, limits)
    if asked:
        raise OverLimit(f"the stored value asks for {asked}")
