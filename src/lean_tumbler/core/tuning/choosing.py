"""The costliest parameters that users can wait for; never below the floor."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from lean_tumbler.core.schemes.argon2 import memory_moved_kib

if TYPE_CHECKING:
    from collections.abc import Callable

    from lean_tumbler.core.grades import Floor
    from lean_tumbler.core.schemes.base import Parameters
    from lean_tumbler.core.tuning.measuring import Measurement

# Memory in KiB and passes: the published least, then upwards by 1.3 to 2 times in memory traffic,
# through what RFC 9106 section 4 recommends second (64 MiB, 3 passes), and beyond. More memory is
# raised before passes: it is what an attacker's hardware lacks.
GRID: tuple[tuple[int, int], ...] = (
    (19456, 2),
    (32768, 2),
    (47104, 2),
    (65536, 2),
    (65536, 3),
    (98304, 3),
    (131072, 3),
    (196608, 3),
    (262144, 3),
)

# Memory bandwidth of one 450 W consumer GPU of 2022, as its maker states it, in bytes a second.
ATTACKER_BYTES_PER_SECOND = 1.008e12


@dataclass(frozen=True, slots=True, kw_only=True)
class Choice:
    """The chosen point and the reason for it."""

    measurement: Measurement
    guesses_per_second: float
    why: str


def candidates(floor: Floor) -> list[Parameters]:
    """List the points to measure, the cheapest first: the grid at or above the floor.

    A floor of the policy's own that the grid does not meet adds its own alternatives.
    """
    own = {
        (alternative["memory_kib"], alternative["passes"])
        for alternative in floor.alternatives.get("argon2id", ())
        if {"memory_kib", "passes"} <= set(alternative)
    }
    pairs = GRID if own & set(GRID) else (*own, *GRID)
    points = [{"memory_kib": memory, "passes": passes, "lanes": 1} for memory, passes in pairs]
    reached: list[Parameters] = [point for point in points if floor.reached_by("argon2id", point)]
    return sorted(reached, key=memory_moved_kib)


def measure_until_too_slow(
    floor: Floor, *, within_milliseconds: float, measured: Callable[[Parameters], Measurement]
) -> list[Measurement]:
    """Measure candidates, the cheapest first, until two in a row are too slow even alone."""
    points: list[Measurement] = []
    for parameters in candidates(floor):
        points.append(measured(parameters))
        too_slow = [point.milliseconds > within_milliseconds for point in points[-2:]]
        if too_slow == [True, True]:
            break
    return points


def guesses_per_second(parameters: Parameters) -> float:
    """How many guesses the reference attacker makes: bandwidth over memory traffic."""
    return ATTACKER_BYTES_PER_SECOND / (1024 * memory_moved_kib(parameters))


def choose(points: list[Measurement], *, within_milliseconds: float) -> Choice | None:
    """Take the costliest point for an attacker that answers in time at load.

    Args:
        points: what was measured; all of it at or above the floor.
        within_milliseconds: the longest wait at the 99th percentile.

    Returns:
        The choice; None where nothing answers in time.
    """
    fitting = [point for point in points if point.p99_milliseconds <= within_milliseconds]
    if not fitting:
        return None
    best = max(fitting, key=lambda point: memory_moved_kib(point.parameters))
    dearer = [
        point
        for point in points
        if memory_moved_kib(point.parameters) > memory_moved_kib(best.parameters)
    ]
    next_up = min(dearer, key=lambda point: memory_moved_kib(point.parameters), default=None)
    why = (
        f"the costliest for an attacker that answers within {within_milliseconds:.0f} ms "
        "at the 99th percentile with every core busy"
    )
    if next_up is not None:
        why += f"; the next step up takes {next_up.p99_milliseconds:.0f} ms"
    return Choice(measurement=best, guesses_per_second=guesses_per_second(best.parameters), why=why)
