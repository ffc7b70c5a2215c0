"""Digests that are shorter than the column's usual: cut where a shorter one could have stood.

A PHC string says no length. One that a column cut to 16 bytes reads like one that was made so;
beside others of the same scheme and costs it is told apart.
"""

from collections import Counter

from msgspec import Struct

from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.schemes.catalogue import DERIVATIONS


class DigestLength(Struct, frozen=True):
    """A scheme at its costs, and how many bytes its digest has."""

    scheme: str
    parameters: tuple[tuple[str, int], ...]
    digest_bytes: int


def length_of(parsed: ParsedValue) -> DigestLength | None:
    """Give what decides; None for a scheme whose digests are of one length."""
    of = parsed.inner or parsed
    if of.kind is not Kind.DERIVATION or not DERIVATIONS[of.scheme].digest_multiple:
        return None
    return DigestLength(of.scheme, tuple(sorted(of.parameters.items())), len(of.digest))


def cut_lengths(rows: Counter[DigestLength]) -> frozenset[DigestLength]:
    """Tell which are cut: shorter and rarer than another of the same scheme at the same costs."""
    usual: dict[tuple[object, ...], tuple[int, int]] = {}
    for found, number in rows.items():
        key = (found.scheme, found.parameters)
        usual[key] = max(usual.get(key, (0, 0)), (number, found.digest_bytes))
    return frozenset(
        found
        for found, number in rows.items()
        for most, longest in [usual[found.scheme, found.parameters]]
        if found.digest_bytes < longest and number < most
    )
