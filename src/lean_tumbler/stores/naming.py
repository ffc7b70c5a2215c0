"""Saying which name was probably meant."""

import difflib
from collections.abc import Sequence

from lean_tumbler.errors import UsageError


def nearest(name: str, known: Sequence[str]) -> str:
    """Give a hint: the nearest known name, or all of them."""
    near = difflib.get_close_matches(name, known, n=1, cutoff=0.5)
    return f"did you mean “{near[0]}”?" if near else f"it has: {', '.join(known)}"


def require_column(name: str, columns: Sequence[str], place: str) -> None:
    """Refuse a column that a table lacks, naming the nearest.

    Raises:
        UsageError: it is not there.
    """
    if name not in columns:
        raise UsageError(f"{place} has no column “{name}”; {nearest(name, columns)}")
