"""When a refusal is said: at the time that refusals of its store take, whatever its row made of it.

Equal work leaves differences of some hundredths: how a value is read, and which library does which
part. They are hidden by waiting. What is left is how late the system wakes who waits.
"""

from collections import deque
from collections.abc import Callable

LAST = 100  # refusals
_WITHIN = 0.95  # so many of the last are quicker than the wait
_ROOM = 1.05  # for what is slower than that by itself, not by the machine's load


class RefusalTime:
    """How long refusals of one store take.

    Args:
        wait: waits for some seconds.
    """

    def __init__(self, wait: Callable[[float], None]) -> None:
        self._wait = wait
        self._last: deque[float] = deque(maxlen=LAST)

    def wait_out(self, taken: float) -> None:
        """Wait until a refusal may be said.

        Args:
            taken: the seconds that it took so far; waits for others are not its own.
        """
        self._last.append(taken)
        usual = sorted(self._last)[int(_WITHIN * (len(self._last) - 1))] * _ROOM
        if usual > taken:
            self._wait(usual - taken)
