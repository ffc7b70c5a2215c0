"""What every bulk step works with, whatever it writes."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from lean_tumbler.stores.interface import Swap

Clock = Callable[[], float]
Randomness = Callable[[int], bytes]


@dataclass(frozen=True, slots=True, kw_only=True)
class RunContext:
    """What a run works with.

    Attributes:
        clock: seconds, monotonic.
        randomness: number of bytes -> random bytes.
        pause: waits so many seconds, or until a stop is asked for.
        should_stop: asked before each batch; the batch in hand is finished.
        progress: told the number of rows gone through.
        rows_per_second: the most rows to write; 0 for no bound.
        keep: told of swaps before they are written; where it fails, nothing is.
        seconds_behind: tells how far replicas are behind; None to wait for none.
        most_seconds_behind: how far they may be.
    """

    clock: Clock
    randomness: Randomness
    pause: Callable[[float], object]
    should_stop: Callable[[], bool] = lambda: False
    progress: Callable[[int], None] = lambda _: None
    rows_per_second: float = 0.0
    keep: Callable[[Sequence[Swap]], None] = lambda _: None
    seconds_behind: Callable[[], float] | None = None
    most_seconds_behind: float = 0.0
