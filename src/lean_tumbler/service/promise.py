"""Whether logins are answered as promised: 99 in 100 of them within `--within`."""

from collections import deque
from collections.abc import Callable

from msgspec import Struct

from lean_tumbler.service.derivation_slots import DerivationSlots
from lean_tumbler.service.metrics import Metrics

PROMISED = 0.99
LAST = 1_000  # logins that are looked at
_AGAIN_SECONDS = 60.0  # so long one alert serves
_BUSY = 0.7  # of the slots' time, as `tune` chooses at most


class _Answer(Struct, frozen=True):
    at: float
    kept: bool


class Promise:
    """Counts what was answered in time, late, or refused for want of room.

    Args:
        slots: in which logins derive; they say what is promised.
        metrics: takes the counts.
        clock: seconds, monotonic.
    """

    def __init__(
        self, slots: DerivationSlots, metrics: Metrics, *, clock: Callable[[], float]
    ) -> None:
        self._slots, self._metrics, self._clock = slots, metrics, clock
        self._last: deque[_Answer] = deque(maxlen=LAST)
        self._kept = 0
        self._alerted_at: float | None = None
        metrics.promise_seconds.set(slots.within_seconds)

    def note(self, seconds: float | None) -> str:
        """Note one login, and give what the operator should hear; empty for nothing.

        Args:
            seconds: from its request to its answer; None where there was no room for it.
        """
        outcome = "no-room" if seconds is None else self._outcome(seconds)
        self._metrics.promise.labels(outcome).inc()
        if len(self._last) == LAST:
            self._kept -= self._last[0].kept
        self._last.append(_Answer(self._clock(), kept=outcome == "kept"))
        self._kept += outcome == "kept"
        return self._alert()

    def _outcome(self, seconds: float) -> str:
        return "kept" if seconds <= self._slots.within_seconds else "late"

    def _alert(self) -> str:
        now = self._clock()
        is_kept = self._kept >= PROMISED * len(self._last)
        is_told = self._alerted_at is not None and now < self._alerted_at + _AGAIN_SECONDS
        if len(self._last) < LAST or is_kept or is_told:
            return ""
        self._alerted_at = now
        within = 1000 * self._slots.within_seconds
        return (
            f"{self._kept:,} of the last {LAST:,} logins were answered within {within:,.0f} ms, "
            f"where 99 in 100 are promised: {self._why(now)}"
        )

    def _why(self, now: float) -> str:
        rate = (LAST - 1) / max(now - self._last[0].at, 1e-9)
        mean, at_once = self._slots.mean_seconds, self._slots.at_once
        busy = rate * mean / at_once
        load = f"{rate:,.1f} logins a second of {1000 * mean:,.0f} ms each, {at_once:,} at once"
        if busy > _BUSY:
            return f"{load}, are more than this host carries; run `lean-tumbler tune` for that load"
        return f"{load}, come in bursts, or other programs take the cores; look at the host's load"
