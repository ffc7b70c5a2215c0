"""Choosing a stable part of the accounts: 1 % always contains the 0.1 %."""

import hashlib
import math


def in_share(reference: bytes, share: float) -> bool:
    """Tell whether an account belongs to the first `share` (0 to 1) of all.

    Args:
        reference: what names the account, the same at every call.
        share: the part of all accounts that is meant.
    """
    place = int.from_bytes(hashlib.sha256(b"share:" + reference).digest()[:8], "big")
    return place < first_outside(share)


def first_outside(share: float) -> int:
    """Give the first of 2^64 places that lies outside a share."""
    return math.ceil(share * 2**64)
