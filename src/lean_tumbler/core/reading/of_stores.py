"""What reads the rows of a store of the policy."""

from collections.abc import Callable

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.survey import ALONE, Column
from lean_tumbler.core.reading.ways import Bounds


def store_reader(
    policy: StoragePolicy,
    store: StorePolicy,
    *,
    column: Callable[[], Column] = lambda: ALONE,
) -> RowReader:
    """Give what reads the rows of a store of the policy."""
    return RowReader(
        cohorts=store.cohorts,
        parts=store.parts,
        formulas=policy.formulas_by_fingerprint,
        has_salts=store.columns.salt is not None,
        decryption=store.decryption,
        keyring=policy.keyring,
        column=column,
    )


def bounds_of(policy: StoragePolicy) -> Bounds:
    """Give what checks by a policy may spend, and its keys."""
    return Bounds(limits=policy.limits, keys=policy.keyring.keys)
