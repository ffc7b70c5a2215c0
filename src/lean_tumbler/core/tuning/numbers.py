"""Checking tables of numbers that people write."""

from collections.abc import Mapping, Sequence
from typing import Any

from lean_tumbler.errors import UsageError


def require_numbers(
    entries: Mapping[str, Any], names: Sequence[str], *, most: float, place: str
) -> None:
    """Check that a table holds exactly these numbers, each above 0 and at most `most`.

    Raises:
        UsageError: with the place and the entry.
    """
    unknown = sorted(set(entries) - set(names))
    missing = [name for name in names if name not in entries]
    if unknown or missing:
        what = f"unknown entry “{unknown[0]}”" if unknown else f"“{missing[0]}” is missing"
        raise UsageError(f"{place}: {what}; needed: {', '.join(names)}")
    for name in names:
        value = entries[name]
        is_number = isinstance(value, int | float) and not isinstance(value, bool)
        if not is_number or not 0 < value <= most:
            raise UsageError(f"{place}: “{name}” must be a number above 0, to {most:g}")
