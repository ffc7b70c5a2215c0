"""What an attacker pays for an audited store, scheme by scheme, and how much of it falls."""

import math
from collections.abc import Iterable

from msgspec import Struct

from lean_tumbler.core.audit.results import GroupReading
from lean_tumbler.core.grades import Grade
from lean_tumbler.core.tuning.attacker import (
    AttackCost,
    Attacker,
    Hardware,
    attack_cost,
    guesses_per_second,
)
from lean_tumbler.core.tuning.popularity import LIKELIEST, Opened

SPEND_EACH = 0.01  # money for each account, for the share that falls to so small a budget


class Exposure(Struct, frozen=True, kw_only=True):
    """One group of rows under attack."""

    reading: GroupReading  # what the rows hold
    rows: int  # how many there are
    guesses_per_second: float  # at one value; infinite where it can be read
    together: bool  # whether one guess is tried on all rows at once, because no salt differs
    # number of guesses -> what they cost against one account, and against all
    likeliest: dict[int, tuple[AttackCost, AttackCost]]
    opened: Opened  # of the rows, what opens for `SPEND_EACH` a row, spread evenly over them


def exposures(groups: Iterable[tuple[GroupReading, int]], attacker: Attacker) -> list[Exposure]:
    """Give the exposure of each group that can be attacked, the cheapest first.

    Args:
        groups: what was read, and how many rows hold it.
        attacker: who guesses.
    """
    found = [
        exposure
        for reading, rows in groups
        if (exposure := _exposure(reading, rows, attacker)) is not None
    ]
    return sorted(found, key=lambda exposure: -exposure.guesses_per_second)


def reading_rate(reading: GroupReading, hardware: Hardware) -> float | None:
    """Give guesses a second at one value; infinite where it can be read, None where none are."""
    if reading.grade is Grade.READABLE:
        return math.inf
    return guesses_per_second(
        reading.scheme, dict(reading.parameters), hardware, formula=reading.formula
    )


def _exposure(reading: GroupReading, rows: int, attacker: Attacker) -> Exposure | None:
    hardware = attacker.hardware
    together = not reading.salted
    rate = reading_rate(reading, hardware)
    if rate is None:
        return None
    if math.isinf(rate):
        nothing = AttackCost(0.0, 0.0, 0.0)
        return Exposure(
            reading=reading, rows=rows, guesses_per_second=rate, together=True,
            likeliest=dict.fromkeys(LIKELIEST, (nothing, nothing)), opened=Opened(share=1.0),
        )  # fmt: skip
    times = 1 if together else rows
    affordable = SPEND_EACH * rows / hardware.price_per_hour * 3600 * rate / times
    return Exposure(
        reading=reading,
        rows=rows,
        guesses_per_second=rate,
        together=together,
        likeliest={
            guesses: (
                attack_cost(guesses, rate, hardware),
                attack_cost(guesses * times, rate, hardware),
            )
            for guesses in LIKELIEST
        },
        opened=attacker.popularity.opened(affordable),
    )
