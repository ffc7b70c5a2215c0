"""Refusals of one store: equal work at equal times, but for rows that ask for unusual work."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from threading import Lock

from lean_tumbler.core.login.refusal_time import RefusalTime
from lean_tumbler.core.login.refusal_work import RefusalWork
from lean_tumbler.core.login.row_work import Item
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.errors import StoreUnavailable


class Refusals:
    """What refusals of one store take, and how its rows of unusual work are checked.

    Args:
        always: the work that every refusal takes at least.
        wait: waits for some seconds.
        one_at_a_time: held while a row is checked that asks for unusual work.
    """

    def __init__(self, always: Item, *, wait: Callable[[float], None], one_at_a_time: Lock) -> None:
        self._work = RefusalWork(always)
        self._time = RefusalTime(wait)
        self._one_at_a_time = one_at_a_time
        self.learn_of, self.is_dear = self._work.learn_of, self._work.is_dear
        self.wait_out = self._time.wait_out

    @contextmanager
    def turn(self, *, is_dear: bool) -> Iterator[None]:
        """Let in one row of unusual work at a time; who comes meanwhile has to come again.

        Raises:
            StoreUnavailable: another is inside.
        """
        if is_dear and not self._one_at_a_time.acquire(blocking=False):
            raise StoreUnavailable(
                "a stored value that asks for unusual work is being checked; retry in a moment"
            )
        try:
            yield
        finally:
            if is_dear:
                self._one_at_a_time.release()

    def fill_up(self, row: Row, done: Sequence[Item], forms: Sequence[str]) -> None:
        """Learn from a refused row, and do what others would have asked for.

        Args:
            row: which.
            done: what the check has done for each form.
            forms: of the password.
        """
        self._work.learn(row, done)
        if not self._work.is_dear(done):
            self._work.fill_up(done, forms)
