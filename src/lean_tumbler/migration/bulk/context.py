"""What every bulk step works with, whatever it writes."""

from collections.abc import Callable, Sequence

from msgspec import Struct

from lean_tumbler.stores.interface import Swap

Clock = Callable[[], float]
Randomness = Callable[[int], bytes]


class RunContext(Struct, frozen=True, kw_only=True):
    """What a run works with."""

    clock: Clock  # seconds, monotonic
    randomness: Randomness  # number of bytes -> random bytes
    pause: Callable[[float], object]  # waits so many seconds, or until a stop is asked for
    # asked before each batch; the batch in hand is finished
    should_stop: Callable[[], bool] = lambda: False
    progress: Callable[[int], None] = lambda _: None  # told the number of rows gone through
    rows_per_second: float = 0.0  # the most rows to write; 0 for no bound
    # told of swaps before they are written; where it fails, nothing is
    keep: Callable[[Sequence[Swap]], None] = lambda _: None
    # tells how far replicas are behind; None to wait for none
    seconds_behind: Callable[[], float] | None = None
    most_seconds_behind: float = 0.0  # how far they may be
