"""How numbers are written in every text report."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterable

    from lean_tumbler.core.tuning.popularity import Opened


def count(number: int, noun: str) -> str:
    """Write a number with its noun: `1 account`, `2 accounts`."""
    return f"{number:,} {noun}" if number == 1 else f"{number:,} {noun}s"


def costs(parameters: Iterable[tuple[str, int]]) -> str:
    """Write parameters as the policy names them."""
    return ", ".join(f"{name} {number:,}" for name, number in parameters)


_UNITS = (
    (31_557_600.0, "year"),
    (86_400.0, "day"),
    (3_600.0, "hour"),
    (60.0, "minute"),
)


def duration(seconds: float) -> str:
    """Write a length of time in its largest fitting unit."""
    for size, unit in _UNITS:
        if seconds >= size:
            number = round(seconds / size)
            return count(number, unit)
    return "under a second" if seconds < 1 else count(round(seconds), "second")


def spread(low: float, high: float) -> str:
    """Write a length of time between two; one where a person sees no difference."""
    shortest, longest = duration(low), duration(high)
    if shortest == longest:
        return longest if high < 1 else f"about {longest}"
    number, _, unit = shortest.partition(" ")
    is_alike = number.isdigit() and unit.rstrip("s") == longest.partition(" ")[2].rstrip("s")
    return f"{number if is_alike else shortest} to {longest}"


def money(amount: float) -> str:
    """Write an amount in the currency of the hardware's price."""
    if amount < 0.01:
        return "less than $0.01"
    return f"${amount:,.2f}" if amount < 100 else f"${amount:,.0f}"


def share_cracked(opened: Opened, *, at_most: str = "at most") -> str:
    """Write the share of accounts that falls; beyond what is known it is a bound."""
    return f"{f'{at_most} ' if opened.is_at_most else ''}{100 * opened.share:.0f} %"


def guess_count(number: float) -> str:
    """Write a number of guesses, with thousands and millions in words above a million."""
    for size, word in ((1e12, "trillion"), (1e9, "billion"), (1e6, "million")):
        if number >= size:
            return f"{number / size:,.3g} {word}"
    return f"{number:,.0f}"


def sentence(text: str) -> str:
    """End a sentence that has no end yet."""
    return text if text.endswith(("?", ".", "!")) else text + "."
