"""What reads the rows of a store of the policy."""

from collections.abc import Callable

from msgspec.structs import replace

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.cohorts import Cohort
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


def reader_of_files(policy: StoragePolicy, given: Cohort | None = None) -> RowReader:
    """Give what reads rows of no store: by one cohort, or by all formulas of the policy."""
    formulas = policy.formulas_by_fingerprint
    prepared = {c.formula.fingerprint: c for s in policy.stores.values() for c in s.cohorts
                if c.formula and c.then}  # fmt: skip
    every = [prepared.get(print_) or Cohort(name=named.name, formula=named)
             for print_, named in formulas.items()]  # fmt: skip
    chosen = [given] if given else [replace(cohort, condition=None) for cohort in every]
    parts = {name: name for cohort in chosen if cohort.formula for name in cohort.formula.parts}
    return RowReader(cohorts=chosen, parts=parts, formulas=formulas, has_salts=False)
