"""Derivations for bulk layering: here, or elsewhere with digests alone coming back."""

from collections.abc import Callable, Sequence
from concurrent.futures import Executor, Future
from statistics import fmean, median

from msgspec import Struct

from lean_tumbler.core.row_plans import DerivationTask, assembled, derived
from lean_tumbler.errors import SourceError, StoreUnavailable
from lean_tumbler.migration.bulk.context import Clock

Derived = tuple[str, float]  # with its seconds; an empty text where there was not enough memory

# Of what other machines derive, the part that is derived here again before it is written; the rows
# of administrators all are. Who plants k values goes unseen with a probability of 0.98^k.
CHECKED_SHARE = 0.02
ANSWER_SECONDS = 300.0  # a call takes seconds; a worker that never answers ends the run


class RemoteDerivation(Struct, frozen=True):
    """Other machines."""

    # gives the digest of each task and its seconds, or None for no memory
    digests: Callable[[Sequence[DerivationTask]], "Future[list[tuple[bytes | None, float]]]"]
    name: str  # what messages call them
    answer_seconds: float = ANSWER_SECONDS  # how long an answer may take to come

    def derive(self, tasks: Sequence[DerivationTask]) -> "Future[list[Derived]]":
        """Have values derived; their texts are put together here."""
        future: Future[list[Derived]] = Future()

        def put_together(found: "Future[list[tuple[bytes | None, float]]]") -> None:
            try:
                pairs = zip(tasks, found.result(), strict=True)
                values = [("" if raw is None else assembled(task, raw), seconds)
                          for task, (raw, seconds) in pairs]  # fmt: skip
            except Exception as error:  # noqa: BLE001 - whatever it is goes to who waits for it
                future.set_exception(error)
            else:
                future.set_result(values)

        self.digests(tasks).add_done_callback(put_together)
        return future


def results_of(call: "Future[list[Derived]]", elsewhere: RemoteDerivation | None) -> list[Derived]:
    """Wait for what was derived.

    Raises:
        StoreUnavailable: other machines do not answer in time.
    """
    try:
        return call.result(timeout=None if elsewhere is None else elsewhere.answer_seconds)
    except TimeoutError:
        name, seconds = (elsewhere.name, elsewhere.answer_seconds) if elsewhere else ("", 0.0)
        raise StoreUnavailable(f"{name}: no answer within {seconds:.0f} s") from None


def require_right(
    tasks: Sequence[DerivationTask], values: Sequence[str], *, executor: Executor, name: str
) -> None:
    """Derive some values again, here, and refuse what differs.

    Args:
        tasks: what was derived elsewhere.
        values: what came back.
        executor: of this machine.
        name: what messages call the other machines.

    Raises:
        SourceError: one differs.
    """
    again = [executor.submit(timed_alone, task, _no_clock) for task in tasks]
    for value, call in zip(values, again, strict=True):
        here, _ = call.result()
        if here and here != value:
            raise SourceError(
                f"{name}: a worker gave a wrong digest; nothing of its batch was "
                "written. Undo this run from its backup, and do not use that worker again"
            )


def _no_clock() -> float:
    return 0.0


def timed(tasks: Sequence[DerivationTask], clock: Clock) -> list[Derived]:
    """Derive, and say how long each took; an exception would carry the task into other logs."""
    return [timed_alone(task, clock) for task in tasks]


def timed_alone(task: DerivationTask, clock: Clock) -> Derived:
    """Derive one value."""
    started = clock()
    try:
        value = derived(task)
    except MemoryError:
        value = ""
    return value, clock() - started


class Spread(Struct, frozen=True, kw_only=True):
    """Seconds that something takes: as measured in the middle, at best and at worst."""

    low: float
    expected: float
    high: float

    def times(self, number: float) -> "Spread":
        """Give the seconds of so many."""
        return Spread(
            low=number * self.low, expected=number * self.expected, high=number * self.high
        )


NO_TIME = Spread(low=0.0, expected=0.0, high=0.0)
_FEWEST_ROUNDS, _MOST_ROUNDS, _ROUNDS_SECONDS = 3, 9, 1.5


def expected_seconds(
    task: DerivationTask, executor: Executor, workers: int, clock: Clock
) -> Spread:
    """Say how long a derivation takes of all that is at hand, by running some on each worker.

    What else the machine does shows in the spread of the rounds.
    """
    started, rounds = clock(), list[float]()
    while len(rounds) < _FEWEST_ROUNDS or (
        len(rounds) < _MOST_ROUNDS and clock() - started < _ROUNDS_SECONDS
    ):
        running = [executor.submit(timed_alone, task, clock) for _ in range(workers)]
        rounds.append(fmean(future.result()[1] for future in running) / workers)
    return Spread(low=min(rounds), expected=median(rounds), high=max(rounds))
