"""What known accounts show of a store's cohorts, noted beside what was looked at."""

from collections.abc import Callable, Mapping, Sequence
from datetime import date
from types import MappingProxyType

from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.ways import Bounds
from lean_tumbler.stores.evidence_file import CohortTrial, EvidenceFile, Shown
from lean_tumbler.stores.interface import LoginStore, Store
from lean_tumbler.stores.known_accounts import KnownAccount
from lean_tumbler.stores.scans.binding import bound_to, settled_by
from lean_tumbler.stores.scans.likely_proof import guessed
from lean_tumbler.stores.scans.verification import Verification, verify_accounts


def prove_by_known(  # noqa: PLR0913 - a store with all that belongs to it
    known: Sequence[KnownAccount],
    *,
    file: EvidenceFile,
    store: LoginStore,
    store_name: str,
    policy: StoragePolicy,
    reader: RowReader,
    bounds: Bounds,
    today: date,
    earlier: Mapping[str, str] = MappingProxyType({}),
) -> Verification:
    """Check known accounts against a store, and note what they show.

    Args:
        known: accounts whose password is known.
        file: of evidence.
        store: where their rows stand.
        store_name: the policy's.
        policy: whose target tells rows that this tool has written.
        reader: of the store's rows.
        bounds: limits and keys.
        today: the day.
        earlier: login -> its stored value in an older dump.
    """
    found = verify_accounts(
        known, reader=reader, bounds=bounds, store=store, store_name=store_name, earlier=earlier
    )
    note(
        found.tried, Shown.KNOWN, file=file, store=store, policy=policy, reader=reader, today=today
    )
    return found


def prove_by_guessing(
    *,
    file: EvidenceFile,
    store: LoginStore,
    store_name: str,
    policy: StoragePolicy,
    reader: RowReader,
    bounds: Bounds,
    today: date,
    clock: Callable[[], float],
) -> int:
    """Try likely passwords on a store, and note what the rows that open show.

    Args:
        file: of evidence.
        store: whose rows.
        store_name: the policy's.
        policy: whose target tells rows that this tool has written.
        reader: of the store's rows.
        bounds: limits and keys.
        today: the day.
        clock: seconds that pass.

    Returns:
        How many rows opened.
    """
    if not isinstance(store, Store):
        return 0
    found = guessed(store, store_name=store_name, reader=reader, bounds=bounds, clock=clock)
    shown = Shown.GUESS
    note(found, shown, file=file, store=store, policy=policy, reader=reader, today=today)
    return len(found)


def note(
    trials: Sequence[CohortTrial],
    shown: Shown,
    *,
    file: EvidenceFile,
    store: LoginStore,
    policy: StoragePolicy,
    reader: RowReader,
    today: date,
) -> None:
    """Note what people show of a store's cohorts, bound to the rows that stand there now."""
    telling = [trial for trial in trials if trial.key is not None or trial.ruled_out]
    if not telling:
        return
    bound = bound_to(
        store,
        settled=settled_by(reader, policy),
        today=today,
        rows=[trial.row for trial in telling if trial.right and trial.row is not None],
    )
    file.note(shown, telling, bound=bound)
