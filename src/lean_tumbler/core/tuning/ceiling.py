"""From what on a stored value asks for unusual work, and what work refusals may take in total."""

from collections.abc import Iterable

# So many times what a derivation at the target takes, or what nine rows in ten stay under,
# whichever is more; and never less than what a value of a usual slow scheme takes.
CEILING = 4
USUAL_SHARE = 0.9
LEAST_CEILING_SECONDS = 0.5
UNUSUAL_SECONDS = 1.0  # a check above the ceiling that takes less is no harm, one beside others


def ceiling_seconds(rows: Iterable[tuple[float, int]], *, target_seconds: float = 0.0) -> float:
    """Give the ceiling, in seconds of a core.

    Args:
        rows: (what one check takes, how many rows ask for it).
        target_seconds: what a derivation at the target takes.
    """
    ordered = sorted(rows)
    left = USUAL_SHARE * sum(number for _, number in ordered)
    usual = 0.0
    for seconds, number in ordered:
        usual, left = seconds, left - number
        if left <= 0:
            break
    return max(LEAST_CEILING_SECONDS, CEILING * max(usual, target_seconds))


def is_unusual(seconds: float, ceiling: float) -> bool:
    """Tell whether a check of so many seconds of a core is made alone, and told."""
    return seconds > max(UNUSUAL_SECONDS, ceiling)
