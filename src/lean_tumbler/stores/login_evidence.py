"""What logins show of cohorts, on its way into the evidence file."""

from collections.abc import Callable
from threading import Lock

from lean_tumbler.core.login.outcome import Outcome
from lean_tumbler.core.reading.evidence import CohortKey
from lean_tumbler.errors import TumblerError
from lean_tumbler.stores.evidence_file import CohortTrial, EvidenceFile

HELD = 500  # logins, before they are written
SECONDS = 10.0  # between two writes


class Observations:
    """Collects what logins show, and writes it from time to time; it never fails a login.

    Args:
        file: the evidence file.
        clock: seconds, monotonic.
        alert: told once where the file cannot be written.
    """

    def __init__(
        self, file: EvidenceFile, *, clock: Callable[[], float], alert: Callable[[str], None]
    ) -> None:
        self._file = file
        self._clock = clock
        self._alert = alert
        self._held: list[CohortTrial] = []
        self._written_at = clock()
        self._lock = Lock()
        self._failed = False

    def note(self, store: str, login: str, outcome: Outcome, expected: bool | None = None) -> None:
        """Note one login: an admitted one speaks for its cohort, another verdict against it.

        A refusal alone says nothing: people mistype.
        """
        differs = expected is not None and expected is not outcome.admitted
        if outcome.label and (outcome.admitted or differs):
            key = CohortKey(store, outcome.label, outcome.identity)
            with self._lock:
                self._held.append(CohortTrial(key=key, login=login, right=not differs))

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
            self._file.note_seen(held)
        except TumblerError as error:
            if not self._failed:
                self._alert(f"what logins prove could not be saved: {error}")
            self._failed = True
