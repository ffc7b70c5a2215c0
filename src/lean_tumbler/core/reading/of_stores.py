"""What reads the rows of a store of the policy."""

from collections.abc import Callable, Mapping
from types import MappingProxyType

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.survey import ALONE, Column


def store_reader(
    policy: StoragePolicy,
    store: StorePolicy,
    *,
    keys: Mapping[str, bytes] = MappingProxyType({}),
    column: Callable[[], Column] = lambda: ALONE,
) -> RowReader:
    """Give what reads the rows of a store of the policy."""
    return RowReader(
        cohorts=store.cohorts,
        parts=store.parts,
        formulas=policy.formulas_by_fingerprint,
        has_salts=store.columns.salt is not None,
        decryption=store.decryption,
        keys=keys,
        column=column,
    )
