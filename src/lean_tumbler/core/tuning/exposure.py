"""What an attacker pays for an audited store, scheme by scheme, and how much of it falls."""

from collections.abc import Iterable
from dataclasses import dataclass

from lean_tumbler.core.audit.results import GroupReading
from lean_tumbler.core.grades import Grade
from lean_tumbler.core.tuning.attacker import AttackCost, Attacker, attack_cost, guesses_per_second
from lean_tumbler.core.tuning.popularity import LIKELIEST

SPEND_EACH = 0.01  # money for each account, for the share that falls to so small a budget


@dataclass(frozen=True, slots=True, kw_only=True)
class Exposure:
    """One group of rows under attack.

    Attributes:
        reading: what the rows hold.
        rows: how many there are.
        guesses_per_second: at one value; infinite where it can be read.
        together: whether one guess is tried on all rows at once, because no salt differs.
        likeliest: number of guesses -> what they cost against one account, and against all.
        cracked_share: of the rows, what opens for `SPEND_EACH` a row, spread evenly over them.
        is_at_most: whether that is a bound, because no list of passwords reaches so far.
    """

    reading: GroupReading
    rows: int
    guesses_per_second: float
    together: bool
    likeliest: dict[int, tuple[AttackCost, AttackCost]]
    cracked_share: float
    is_at_most: bool = False


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


def _exposure(reading: GroupReading, rows: int, attacker: Attacker) -> Exposure | None:
    hardware = attacker.hardware
    together = not reading.salted
    if reading.grade is Grade.READABLE:
        nothing = AttackCost(0.0, 0.0, 0.0)
        return Exposure(
            reading=reading, rows=rows, guesses_per_second=float("inf"), together=True,
            likeliest=dict.fromkeys(LIKELIEST, (nothing, nothing)), cracked_share=1.0,
        )  # fmt: skip
    rate = guesses_per_second(
        reading.scheme, dict(reading.parameters), hardware, formula=reading.formula
    )
    if rate is None:
        return None
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
        cracked_share=attacker.popularity.cracked_share(affordable),
        is_at_most=not attacker.popularity.is_known(affordable),
    )
