"""Turns at deriving: so many at once, and how long who comes now would wait."""

from collections.abc import Callable
from threading import Lock, Semaphore, local

_WEIGHT = 0.1  # of the latest turn in the mean: that of some twenty turns
# A sum of many turns strays little; this leaves room for it, and for what a request takes beside.
_ROOM = 0.7


class DerivationSlots:
    """A semaphore that knows how long its holders hold it.

    Args:
        at_once: how many may hold it.
        within_seconds: how long a request may take, waiting included.
        clock: seconds, monotonic.
    """

    def __init__(self, *, at_once: int, within_seconds: float, clock: Callable[[], float]) -> None:
        self._at_once, self._within_seconds, self._clock = at_once, within_seconds, clock
        self._free = Semaphore(at_once)
        self._lock = Lock()
        self._begun = local()
        self._mean_seconds = 0.0

    def __enter__(self) -> None:
        self._free.acquire()
        self._begun.at = self._clock()

    def __exit__(self, *_: object) -> None:
        taken = self._clock() - self._begun.at
        with self._lock:
            before = self._mean_seconds or taken
            self._mean_seconds = before + _WEIGHT * (taken - before)
        self._free.release()

    def has_room(self, inside: int) -> bool:
        """Tell whether one more request is likely to be answered in time.

        Args:
            inside: requests that derive or wait already. Where none waits, there is room.
        """
        rounds = (inside + 1) / self._at_once
        return inside < self._at_once or (
            rounds * self._mean_seconds <= _ROOM * self._within_seconds
        )
