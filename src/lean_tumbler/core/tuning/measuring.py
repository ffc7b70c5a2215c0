"""How long derivations take on this machine: alone, and several at once."""

import statistics
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Executor
from itertools import chain
from math import ceil
from typing import Annotated

from msgspec import Meta, Struct

from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, TUNED
from lean_tumbler.core.schemes.derivation import Derivation
from lean_tumbler.core.tuning.capacity import MOST_OF_MEMORY

Clock = Callable[[], float]

_ROUNDS = 3
NOISY = 0.15  # half the distance of the quartiles over the median
_SALT = bytes(32)


Ratio = Annotated[float, Meta(ge=1, le=1000)]


class Measurement(Struct, frozen=True, kw_only=True):
    """One point: a scheme at some parameters. Times in milliseconds of wall clock."""

    scheme: str
    parameters: dict[str, int]
    # derivations at once -> the median time of one
    milliseconds_at_once: dict[Annotated[int, Meta(ge=1)], Annotated[float, Meta(ge=1e-6, le=1e7)]]
    # half the distance of the quartiles over the median, nothing else running
    spread: Annotated[float, Meta(ge=0, le=1000)] = 0.0
    tail: Ratio = 1.0  # the 99th percentile over the median, with the most at once
    # the mean of the slowest round over the median of all, with the most at once. A queue is as
    # long as the mean says, and what is promised has to hold in slow phases too.
    slow: Ratio = 1.0

    @property
    def milliseconds(self) -> float:
        """The median, nothing else running."""
        return self.milliseconds_at_once[1]

    @property
    def milliseconds_at_load(self) -> float:
        """The median with the most at once."""
        return self.milliseconds_at_once[max(self.milliseconds_at_once)]


class LeftOut(Struct, frozen=True):
    """A point that was not measured, and why."""

    scheme: str
    parameters: Parameters
    why: str


class Effort(Struct, frozen=True, kw_only=True):
    """How long measuring may take."""

    seconds: float  # in all
    dearest_milliseconds: float  # of one derivation; dearer ones are left to the fitted line
    points: int  # of each scheme, the most


QUICK = Effort(seconds=4.5, dearest_milliseconds=80.0, points=4)
THOROUGH = Effort(seconds=44.0, dearest_milliseconds=400.0, points=8)


def percentile(values: Sequence[float], share: float) -> float:
    """Give the least value that at least `share` of all values do not exceed."""
    ordered = sorted(values)
    return ordered[max(0, ceil(share * len(ordered)) - 1)]


def at_once_levels(cores: int) -> tuple[int, ...]:
    """Choose how many derivations are run at once: all numbers to 4, then doubling, to `cores`."""
    levels = {*range(1, min(cores, 4) + 1), *(1 << n for n in range(cores.bit_length())), cores}
    return tuple(sorted(level for level in levels if level <= cores))


class Bench:
    """Measures points one after the other within a time.

    Args:
        effort: how long it may take.
        executor: runs as many derivations at once as there are cores.
        cores: how many that is.
        memory_kib: what is free for it; points that need more are left out.
        clock: seconds, monotonic.
    """

    def __init__(
        self, effort: Effort, *, executor: Executor, cores: int, memory_kib: int, clock: Clock
    ) -> None:
        self._effort = effort
        self._executor = executor
        self._levels = at_once_levels(cores)
        self._memory_kib = memory_kib
        self._clock = clock
        self.left_out: list[LeftOut] = []

    def measure(
        self, schemes: Sequence[str], *, progress: Callable[[int], None]
    ) -> list[Measurement]:
        """Measure points of each scheme, in rounds, so that a machine's slow phases show.

        Args:
            schemes: their names.
            progress: told of each point of a round that is done; there are `steps` of them.
        """
        seconds = self._effort.seconds * max(2, len(schemes)) / len(TUNED)
        each = seconds / (self.steps(schemes) * len(self._levels))
        plan = [
            (DERIVATIONS[scheme], parameters)
            for scheme in schemes
            for parameters in self._planned(DERIVATIONS[scheme], seconds / len(schemes))
        ]
        timings: list[dict[int, list[list[float]]]] = [
            {level: [] for level in self._levels} for _ in plan
        ]
        for _ in range(_ROUNDS):
            for (derivation, parameters), found in zip(plan, timings, strict=True):
                for level in self._levels:
                    found[level].append(self._timings(derivation, parameters, level, each))
                progress(1)
        return [
            summed_up(derivation.scheme, parameters, found)
            for (derivation, parameters), found in zip(plan, timings, strict=True)
        ]

    def steps(self, schemes: Sequence[str]) -> int:
        """Count the points of all rounds."""
        return _ROUNDS * sum(len(TUNED[scheme].points[: self._effort.points]) for scheme in schemes)

    def _planned(self, derivation: Derivation, seconds: float) -> Iterator[Parameters]:
        """Give the points that memory and time allow, the cheapest first; note the others."""
        given, planned, slow = 0, 0.0, ""
        for parameters in TUNED[derivation.scheme].points[: self._effort.points]:
            needed_kib = derivation.memory_kib(parameters) * self._levels[-1]
            why = slow
            if not slow and needed_kib > MOST_OF_MEMORY * self._memory_kib:
                why = f"needs {needed_kib / 1024:,.0f} MiB for {self._levels[-1]} at once"
            elif not slow:
                cold = self._timed(derivation, parameters)  # the first run warms up
                planned += cold * _ROUNDS * len(self._levels)
                if 1000 * cold > self._effort.dearest_milliseconds:
                    slow = f"slower than {self._effort.dearest_milliseconds:.0f} ms"
                elif planned > seconds:
                    slow = "no time left"
                why = slow if given > 1 else ""  # two are enough for a line, and needed for it
            if why:
                self.left_out.append(LeftOut(derivation.scheme, parameters, why))
            else:
                given += 1
                yield parameters

    def _timings(
        self, derivation: Derivation, parameters: Parameters, level: int, seconds: float
    ) -> list[float]:
        until = self._clock() + seconds

        def one_after_the_other() -> list[float]:
            timings = [self._timed(derivation, parameters)]
            while self._clock() < until:
                timings.append(self._timed(derivation, parameters))
            return timings

        futures = [self._executor.submit(one_after_the_other) for _ in range(level)]
        return [timing for future in futures for timing in future.result()]

    def _timed(self, derivation: Derivation, parameters: Parameters) -> float:
        before = self._clock()
        derivation.create(b"measured", _SALT[: derivation.salt_bytes], parameters)
        return self._clock() - before


def summed_up(
    scheme: str, parameters: Parameters, rounds: Mapping[int, Sequence[Sequence[float]]]
) -> Measurement:
    """Make one point of seconds, by derivations at once and by rounds."""
    timings = {level: [*chain(*found)] for level, found in rounds.items()}
    alone, at_load = timings[1], timings[max(timings)]
    slowest = max(map(statistics.fmean, rounds[max(rounds)]))
    quarter, median, three_quarters = statistics.quantiles(alone, n=4)
    return Measurement(
        scheme=scheme,
        parameters=dict(parameters),
        milliseconds_at_once={
            level: 1000 * statistics.median(found) for level, found in timings.items()
        },
        spread=(three_quarters - quarter) / 2 / median,
        tail=percentile(at_load, 0.99) / statistics.median(at_load),
        slow=max(1.0, slowest / statistics.median(at_load)),
    )


def spread_of(points: Sequence[Measurement]) -> float:
    """Give how much timings varied: the median of all points' spreads; 0 without a point."""
    return statistics.median(point.spread for point in points) if points else 0.0


def is_noisy(points: Sequence[Measurement]) -> bool:
    """Tell whether timings varied so much that a choice made of them is uncertain."""
    return spread_of(points) > NOISY
