"""What logins show of cohorts, on its way into the evidence file."""

from collections.abc import Callable, Mapping, Sequence
from threading import Lock

from lean_tumbler.core.login.outcome import Outcome
from lean_tumbler.core.reading.evidence import CohortKey, RowFacts
from lean_tumbler.errors import TumblerError
from lean_tumbler.stores.evidence_file import Bound, CohortTrial, EvidenceFile, Shown

HELD = 500  # logins, before they are written
SECONDS = 10.0  # between two writes


class Observations:
    """Collects what logins show, and writes it from time to time; it never fails a login."""

    def __init__(
        self,
        file: EvidenceFile,  # the evidence file
        *,
        clock: Callable[[], float],  # seconds, monotonic
        alert: Callable[[str], None],  # told once where the file cannot be written
    ) -> None:
        self._file = file
        self._bound: Mapping[str, Callable[[Sequence[RowFacts]], Bound]] = {}
        self._clock = clock
        self._alert = alert
        self._held: list[CohortTrial] = []
        self._written_at = clock()
        self._lock = Lock()
        self._failed = False

    def take_from(self, bound: Mapping[str, Callable[[Sequence[RowFacts]], Bound]]) -> None:
        """Say what evidence is taken from.

        Args:
            bound: store -> rows of people -> what says while it is noted what it is taken from.
        """
        self._bound = bound

    def note(
        self,
        store: str,
        login: str,
        outcome: Outcome,
        *,
        row: RowFacts | None = None,
        expected: bool | None = None,
    ) -> None:
        """Note one login: an admitted one speaks for its cohort, another verdict against it.

        A refusal alone says nothing: people mistype. Nor is it known without the application's
        verdict whether who types the stored text of a structure is its owner.
        """
        opens = outcome.admitted or (outcome.opened_as_text and expected is True)
        differs = expected is not None and expected is not opens
        if not (opens or differs):
            return
        key = CohortKey(store, outcome.label, outcome.identity) if outcome.label else None
        trial = CohortTrial(
            store=store,
            key=key,
            login=login,
            right=not differs,
            ruled_out=outcome.ruled_out,
            row=row,
        )
        if key is not None or trial.ruled_out:
            with self._lock:
                self._held.append(trial)

    @property
    def is_due(self) -> bool:
        """Whether what is held should be written."""
        late = self._clock() - self._written_at >= SECONDS
        return len(self._held) >= HELD or (bool(self._held) and late)

    def write(self) -> None:
        """Write what is held."""
        with self._lock:
            held, self._held = self._held, []
            self._written_at = self._clock()
        try:
            for store in dict.fromkeys(trial.store for trial in held):
                self._write(store, [trial for trial in held if trial.store == store])
        except TumblerError as error:
            if not self._failed:
                self._alert(f"what logins prove could not be saved: {error}")
            self._failed = True

    def _write(self, store: str, trials: Sequence[CohortTrial]) -> None:
        bound = self._bound.get(store)
        rows = [trial.row for trial in trials if trial.row is not None]
        self._file.note(Shown.LOGIN, trials, bound=bound(rows) if bound else None)
