"""The warrant of a bulk step: what the store, its policy, the evidence and the options say."""

from __future__ import annotations

from contextlib import nullcontext
from types import MappingProxyType
from typing import TYPE_CHECKING

from lean_tumbler.core.reading.evidence import Evidence
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.row_plans import characters_needed
from lean_tumbler.core.schemes import layered
from lean_tumbler.core.warrant import Step, Warrant
from lean_tumbler.stores.embedded_files import files_behind
from lean_tumbler.stores.interface import Store, WritesCopy, room_of
from lean_tumbler.stores.scans.binding import (
    Opened,
    coverage_of,
    lapsed_of,
    settled_by,
)

if TYPE_CHECKING:
    from collections.abc import Mapping
    from datetime import date
    from pathlib import Path

    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.stores.evidence_file import EvidenceFile
    from lean_tumbler.stores.interface import LoginStore


def warrant_of(  # noqa: PLR0913 - what a warrant is made of
    step: Step,  # which
    store: LoginStore,  # opened
    *,
    store_policy: StorePolicy,  # of the store
    policy: StoragePolicy,  # what is written
    today: date,  # for `readers_ready`
    has_way_back: bool,  # whether a backup is made, or somebody said that none is needed
    share: float = 1.0,  # the part of the accounts that is taken
    # the file of evidence; None where the step asks for no proof
    evidence: EvidenceFile | None = None,
    # the stores of equal tables, whose people speak for this one's too
    sisters: Mapping[str, Opened] = MappingProxyType({}),
    most_otherwise: float | None = None,  # the largest bound, where an option says it
    unproven: frozenset[str] = frozenset(),  # cohorts that are taken without proof
    base: Path | None = None,  # the policy's folder, for files of `embed`; None where none is read
) -> Warrant:
    """Give the warrant of a step.

    Raises:
        UsageError: the file of evidence is none that this tool wrote.
        SourceError: the store or the file cannot be read.
    """
    found, binding = Evidence(), None
    if evidence is not None:
        settled = settled_by(store_reader(policy, store_policy), policy)
        name, known = store_policy.name, evidence.load()
        lapsed = lapsed_of(known, {**sisters, name: lambda: nullcontext((store, settled))})
        binding = None if name in lapsed else known.bindings.get(name)
        found = known.evidence(lapsed).with_sisters(
            name, tuple(sisters), alike=store_policy.is_alike
        )
    return Warrant(
        step=step,
        store=store_policy,
        today=today,
        room=room_of(store),
        needed=widest(policy, store_policy) if step in {Step.LAYER, Step.REKEY} else 0,
        has_way_back=has_way_back or isinstance(store, WritesCopy),
        keyring=policy.keyring,
        has_embedded_behind=base is not None
        and bool(files_behind(store_policy, policy, found, base=base)),
        repeated=frozenset(store.repeated() if isinstance(store, Store) else ()),
        share=share,
        table=store.table,
        evidence=found,
        most_otherwise=store_policy.error_bound if most_otherwise is None else most_otherwise,
        unproven=unproven,
        coverage=coverage_of(binding),
    )


def widest(policy: StoragePolicy, store: StorePolicy) -> int:
    """Say how many characters the longest value takes that a store may get."""
    named = layered.most_named(
        (len(cohort.alternatives), cohort.condition is None and cohort.layout is None)
        for cohort in store.cohorts
    )
    return max(characters_needed(policy.target, named))
