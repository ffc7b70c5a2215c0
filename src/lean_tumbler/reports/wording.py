"""How numbers are written in every text report."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterable


def count(number: int, noun: str) -> str:
    """Write a number with its noun: `1 account`, `2 accounts`."""
    return f"{number:,} {noun}" if number == 1 else f"{number:,} {noun}s"


def costs(parameters: Iterable[tuple[str, int]]) -> str:
    """Write parameters as the policy names them."""
    return ", ".join(f"{name} {number:,}" for name, number in parameters)
