"""Turns at deriving: so many at once, and when who comes now would be answered."""

import heapq
from collections.abc import Callable
from threading import Lock, Semaphore, get_ident

from lean_tumbler.core.tuning.ceiling import CEILING

_WEIGHT = 0.1  # of the latest turn in the mean: that of some twenty turns


class DerivationSlots:
    """A semaphore that knows how long its holders hold it, and since when.

    Args:
        at_once: how many may hold it.
        within_seconds: how long a request may take, waiting included.
        clock: seconds, monotonic.
    """

    def __init__(self, *, at_once: int, within_seconds: float, clock: Callable[[], float]) -> None:
        self.at_once, self.within_seconds = at_once, within_seconds
        self._clock = clock
        self._free = Semaphore(at_once)
        self._lock = Lock()
        self._begun: dict[int, float] = {}  # by holder
        self.mean_seconds = 0.0

    def __enter__(self) -> None:
        self._free.acquire()
        with self._lock:
            self._begun[get_ident()] = self._clock()

    def __exit__(self, *_: object) -> None:
        with self._lock:
            self.took(self._clock() - self._begun.pop(get_ident()))
        self._free.release()

    def took(self, seconds: float) -> None:
        """Count how long a turn took."""
        before = self.mean_seconds or seconds
        usual = min(seconds, CEILING * before)  # one row of unusual work says little of others
        self.mean_seconds = before + _WEIGHT * (usual - before)

    def has_room(self, inside: int) -> bool:
        """Tell whether one more request is likely to be answered in time.

        Args:
            inside: requests that derive or wait already. Where none waits, there is room.
        """
        if inside < self.at_once:
            return True
        return self._wait_seconds(inside) + self.mean_seconds <= self.within_seconds

    def _wait_seconds(self, inside: int) -> float:
        """Reckon when a turn is free for who comes now: each takes the mean from its begin on."""
        now = self._clock()
        with self._lock:
            left = [max(0.0, begun + self.mean_seconds - now) for begun in self._begun.values()]
        waiting = inside - len(left)
        turns = left + [0.0] * (self.at_once - len(left))
        heapq.heapify(turns)
        for _ in range(waiting):
            heapq.heapreplace(turns, turns[0] + self.mean_seconds)
        return turns[0]
