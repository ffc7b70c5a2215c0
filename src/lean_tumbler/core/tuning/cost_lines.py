"""Time as a line in a scheme's work, fitted to measurements: what untried parameters would take."""

import statistics
from collections.abc import Mapping, Sequence

import numpy as np
from msgspec import Struct
from scipy.optimize import nnls

from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, TUNED
from lean_tumbler.core.tuning.measuring import Measurement

_HELD_BACK_EVERY = 4  # of the points in order, the last of each four
_FEWEST_TO_HOLD_BACK = 4
# The C library asks the kernel anew for blocks of this size and more, and touching new pages costs
# time (mallopt(3), M_MMAP_THRESHOLD: 32 MiB at most on 64-bit systems).
_MAPPED_KIB = 32 * 1024


def _terms(scheme: str, costs: Parameters) -> list[float]:
    """Give what a scheme's time grows with; the first stands for what is always spent."""
    memory_kib = DERIVATIONS[scheme].memory_kib(costs)
    mapped_kib = float(memory_kib) if memory_kib >= _MAPPED_KIB else 0.0
    return [1.0, TUNED[scheme].grows_with(costs), mapped_kib]


class CostLine(Struct, frozen=True):
    """Milliseconds of one derivation of a scheme, for each number of derivations at once."""

    scheme: str  # what it is for
    # derivations at once -> milliseconds for each of the terms
    weights: Mapping[int, Sequence[float]]
    tail: float  # the 99th percentile over the median, with the most at once
    slow: float  # the mean of a slow phase over the median, with the most at once
    # predicted over measured for each point that the check line did not see
    held_back: tuple[float, ...]

    @property
    def error(self) -> float | None:
        """The median relative error on held-back points; None where there were too few."""
        return statistics.median(abs(ratio - 1) for ratio in self.held_back) if (
            self.held_back
        ) else None  # fmt: skip

    def milliseconds(self, parameters: Parameters, at_once: int) -> float:
        """Predict the median.

        Between two measured numbers at once by a line; beyond the last it is taken that more
        cores slow each other down no further, as several hosts would not.
        """
        levels = sorted(self.weights)
        times = [self._at(parameters, level) for level in levels]
        return float(np.interp(at_once, levels, times))

    def _at(self, parameters: Parameters, level: int) -> float:
        return float(np.dot(_terms(self.scheme, parameters), self.weights[level]))


def fit(points: Sequence[Measurement]) -> CostLine:
    """Fit the line of one scheme, by least squares of relative errors with no weight below 0.

    Args:
        points: of one scheme, two at least, the cheapest first.
    """
    levels = sorted(points[0].milliseconds_at_once)
    weights = {level: _weights(points, level) for level in levels}
    held: list[float] = []
    if len(points) >= _FEWEST_TO_HOLD_BACK:
        out = [
            point for n, point in enumerate(points) if n % _HELD_BACK_EVERY == _HELD_BACK_EVERY - 1
        ]
        kept = [point for point in points if point not in out]
        line = {level: _weights(kept, level) for level in levels}
        held = [
            float(np.dot(_terms(point.scheme, point.parameters), line[level]))
            / point.milliseconds_at_once[level]
            for point in out
            for level in levels
        ]
    tail = statistics.median(point.tail for point in points)
    slow = statistics.median(point.slow for point in points)
    return CostLine(points[0].scheme, weights, tail, slow, tuple(held))


def _weights(points: Sequence[Measurement], level: int) -> list[float]:
    times = np.array([point.milliseconds_at_once[level] for point in points])
    terms = np.array([_terms(point.scheme, point.parameters) for point in points])
    largest = terms.max(axis=0)  # columns of one size, so that the solver sees them alike
    largest[largest == 0] = 1.0
    solution, _ = nnls(terms / largest / times[:, None], np.ones(len(points)))
    return [float(weight) for weight in solution / largest]


def fit_all(points: Sequence[Measurement]) -> dict[str, CostLine]:
    """Fit a line for each scheme with two points or more."""
    by_scheme: dict[str, list[Measurement]] = {}
    for point in points:
        by_scheme.setdefault(point.scheme, []).append(point)
    return {scheme: fit(some) for scheme, some in by_scheme.items() if len(some) > 1}
