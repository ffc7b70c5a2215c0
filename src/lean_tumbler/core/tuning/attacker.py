"""Guesses a second on reference hardware, and what a number of guesses costs there."""

from typing import Annotated

from msgspec import Meta, Struct, field

from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.guess_work import Work
from lean_tumbler.core.tuning.popularity import Popularity
from lean_tumbler.core.tuning.work import work_of

# Between two reads of on-chip memory, a round of Blowfish waits for six operations, each on the
# one before: an index cut out, two sums, three exclusive ors. Four cycles each on such hardware.
_DEPENDENT_CYCLES = 6 * 4
_SECONDS_PER_HOUR = 3600
Above = Annotated[float, Meta(gt=0, le=1e30)]


class Hardware(Struct, frozen=True, kw_only=True):
    """A device that guesses. Replaceable: the numbers are its maker's or its owner's."""

    name: Annotated[str, Meta(min_length=1, extra={"must": "a text"})]
    integer_operations_per_second: Above
    memory_bytes_per_second: Above
    on_chip_bytes: Above
    on_chip_latency_cycles: Above
    clock_hertz: Above
    watts: Above
    price_per_hour: Above


# One 450 W consumer GPU of 2022. Its maker states the clock, 1,008 GB/s, 128 units of 128 lanes,
# and 100 KiB of usable on-chip memory in each unit. Assumptions: that all lanes do an integer
# operation each cycle, that a read of on-chip memory takes 30 cycles, and the price, electricity
# included.
CONSUMER_GPU_2022 = Hardware(
    name="one 450 W consumer GPU of 2022",
    integer_operations_per_second=128 * 128 * 2.52e9,
    memory_bytes_per_second=1.008e12,
    on_chip_bytes=128 * 100 * 1024,
    on_chip_latency_cycles=30,
    clock_hertz=2.52e9,
    watts=450,
    price_per_hour=0.40,
)


class Attacker(Struct, frozen=True, kw_only=True):
    """Who guesses: with what, and in which order."""

    # one device; several cost and guess as many times as much
    hardware: Hardware = CONSUMER_GPU_2022
    # how people choose passwords, which an attacker knows
    popularity: Popularity = field(default_factory=Popularity)


MODEL_FACTOR = 2.0  # by which a rate may be off, up or down: an assumption, held against nothing


def guess_rate(work: Work, hardware: Hardware) -> float:
    """Give guesses a second: the least that arithmetic, memory and latency allow."""
    limits = []
    if work.operations:
        limits.append(hardware.integer_operations_per_second / work.operations)
    if work.bytes_moved:
        limits.append(hardware.memory_bytes_per_second / work.bytes_moved)
    if work.on_chip_rounds:
        in_flight = hardware.on_chip_bytes // work.on_chip_bytes
        cycles = work.on_chip_rounds * (hardware.on_chip_latency_cycles + _DEPENDENT_CYCLES)
        limits.append(in_flight * hardware.clock_hertz / cycles)
    return min(limits)


def guesses_per_second(
    scheme: str, parameters: Parameters, hardware: Hardware, *, formula: str = ""
) -> float | None:
    """Give guesses a second against one stored value; None where there is nothing to guess."""
    work = work_of(scheme, parameters, formula=formula)
    return None if work is None else guess_rate(work, hardware)


class AttackCost(Struct, frozen=True):
    """What a number of guesses takes on one device."""

    seconds: float
    money: float
    kilowatt_hours: float


def attack_cost(guesses: float, rate: float, hardware: Hardware) -> AttackCost:
    """Give the time, the price and the energy of a number of guesses."""
    seconds = guesses / rate
    hours = seconds / _SECONDS_PER_HOUR
    return AttackCost(seconds, hours * hardware.price_per_hour, hours * hardware.watts / 1000)
