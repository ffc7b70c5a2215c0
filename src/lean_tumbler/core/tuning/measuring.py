"""How long derivations take on this machine, alone and with every core busy."""

import math
import statistics
from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

from lean_tumbler.core.schemes.base import Derivation, Parameters

Clock = Callable[[], float]

SECONDS_EACH = 0.5  # for one point, alone and again under load
LEAST_RUNS = 5
_SALT = bytes(16)


@dataclass(frozen=True, slots=True, kw_only=True)
class Measurement:
    """One point: a scheme at some parameters. Times in milliseconds of wall clock."""

    scheme: str
    parameters: Parameters
    milliseconds: float  # median, nothing else running
    milliseconds_at_load: float  # median, every core busy with the same
    p99_milliseconds: float  # at load


def percentile(values: Sequence[float], share: float) -> float:
    """Give the least value that at least `share` of all values do not exceed."""
    ordered = sorted(values)
    return ordered[max(0, math.ceil(share * len(ordered)) - 1)]


def _timings(derivation: Derivation, parameters: Parameters, clock: Clock) -> list[float]:
    """Run one after the other until enough time has gone by; the first, cold run is dropped."""
    derivation.create(b"warm-up", _SALT, parameters)
    timings: list[float] = []
    started = clock()
    while len(timings) < LEAST_RUNS or clock() - started < SECONDS_EACH:
        before = clock()
        derivation.create(b"measured", _SALT, parameters)
        timings.append(1000 * (clock() - before))
    return timings


def measure(
    derivation: Derivation, parameters: Parameters, *, executor: Executor, cores: int, clock: Clock
) -> Measurement:
    """Measure one point.

    Args:
        derivation: the scheme.
        parameters: its costs.
        executor: runs `cores` derivations at once.
        cores: how many that is.
        clock: seconds, monotonic.
    """
    alone = _timings(derivation, parameters, clock)
    futures = [executor.submit(_timings, derivation, parameters, clock) for _ in range(cores)]
    at_load = [timing for future in futures for timing in future.result()]
    return Measurement(
        scheme=derivation.scheme,
        parameters=parameters,
        milliseconds=statistics.median(alone),
        milliseconds_at_load=statistics.median(at_load),
        p99_milliseconds=percentile(at_load, 0.99),
    )
