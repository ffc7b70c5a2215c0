"""What people show of a store's cohorts, noted beside what was looked at."""

from collections.abc import Callable, Mapping, Sequence
from datetime import date
from types import MappingProxyType

from msgspec import Struct

from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.ways import Bounds
from lean_tumbler.stores.evidence_file import CohortTrial, EvidenceFile, Shown
from lean_tumbler.stores.interface import LoginStore, Store
from lean_tumbler.stores.known_accounts import KnownAccount
from lean_tumbler.stores.scans.binding import bound_to, settled_by
from lean_tumbler.stores.scans.likely_proof import guessed
from lean_tumbler.stores.scans.verification import Verification, verify_accounts


class Prover(Struct, frozen=True, kw_only=True):
    """Tries passwords on a store, and notes what they show of its cohorts."""

    file: EvidenceFile  # of evidence
    store: LoginStore  # where the rows stand
    store_name: str  # the policy's
    policy: StoragePolicy  # whose target tells rows that this tool has written
    reader: RowReader  # of the store's rows
    bounds: Bounds  # limits and keys
    today: date  # the day

    def check(
        self, known: Sequence[KnownAccount], earlier: Mapping[str, str] = MappingProxyType({})
    ) -> Verification:
        """Check known accounts, and note nothing.

        Args:
            known: accounts whose password is known.
            earlier: login -> its stored value in an older dump.
        """
        return verify_accounts(
            known,
            reader=self.reader,
            bounds=self.bounds,
            store=self.store,
            store_name=self.store_name,
            earlier=earlier,
        )

    def by_guessing(self, clock: Callable[[], float]) -> int:
        """Try likely passwords on all rows; give how many opened.

        Args:
            clock: seconds that pass.
        """
        if not isinstance(self.store, Store):
            return 0
        found = guessed(
            self.store,
            store_name=self.store_name,
            reader=self.reader,
            bounds=self.bounds,
            clock=clock,
        )
        self.note(found, Shown.GUESS)
        return len(found)

    def note(self, trials: Sequence[CohortTrial], shown: Shown) -> None:
        """Note what people show, bound to the rows that stand there now."""
        telling = [trial for trial in trials if trial.key is not None or trial.ruled_out]
        if not telling:
            return
        bound = bound_to(
            self.store,
            settled=settled_by(self.reader, self.policy),
            today=self.today,
            rows=[trial.row for trial in telling if trial.right and trial.row is not None],
        )
        self.file.note(shown, telling, bound=bound)
