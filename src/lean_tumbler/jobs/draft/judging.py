"""A draft held against known accounts by the very check that logins go through.

What its own evidence contradicts is not declared: it becomes a comment, with what settles it.
"""

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, closing
from functools import partial
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.drafting.class_cohorts import Unproven
from lean_tumbler.core.login.gateway import CredentialGateway
from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.jobs.draft.policy_text import PlacedStore, policy_text
from lean_tumbler.jobs.draft.source import Draft
from lean_tumbler.stores.equal_tables import with_equal_tables
from lean_tumbler.stores.evidence_file import CohortTrial
from lean_tumbler.stores.interface import LoginStore
from lean_tumbler.stores.kinds import open_store
from lean_tumbler.stores.known_accounts import KnownAccount
from lean_tumbler.stores.scans.surveying import surveyed_once
from lean_tumbler.stores.scans.verification import (
    Verification,
    attributed,
    best_of,
    verify_accounts,
)

_ROUNDS = 5  # of dropping what is contradicted; each drops a cohort at least


class Dropped(Struct, frozen=True, kw_only=True):
    """A known account that the draft does not open."""

    line: int  # in the file of known accounts
    login: str
    why: str  # as a sentence


def judged(
    draft: Draft, known: Sequence[KnownAccount], *, beside: Path, day: str
) -> tuple[Draft, list[Dropped]]:
    """Leave out of a draft what known accounts contradict.

    Args:
        draft: what was found.
        known: accounts whose password is known.
        beside: the folder of the policy.
        day: of the draft.

    Returns:
        The draft, and the known accounts that it does not open.
    """
    if not known:
        return draft, []
    found: dict[str, Verification] = {}
    for _ in range(_ROUNDS):
        found = _verified(draft, known, beside=beside, day=day)
        stores = [_without(each, _of(each.name, found)) for each in draft.stores]
        if all(new is old for new, old in zip(stores, draft.stores, strict=True)):
            break
        draft = replace(draft, stores=tuple(stores))
    return draft, _dropped(known, found)


def _verified(
    draft: Draft, known: Sequence[KnownAccount], *, beside: Path, day: str
) -> dict[str, Verification]:
    text = policy_text(draft.stores, source=draft.source, day=day)
    policy = with_equal_tables(StoragePolicy.from_toml(text), base=beside)
    found = {}
    for name, store_policy in policy.stores.items():
        opened = partial(open_store, store_policy, base=beside)
        column = surveyed_once(_closing(opened), store_reader(policy, store_policy))
        gateway = CredentialGateway(policy, columns={name: column})
        with closing(opened()) as store:
            found[name] = verify_accounts(
                known,
                reader=gateway.reader(name),
                bounds=gateway.bounds,
                store=store,
                store_name=name,
            )
    return attributed(found)


def _closing(
    opened: Callable[[], LoginStore],
) -> Callable[[], AbstractContextManager[LoginStore]]:
    return lambda: closing(opened())


def _of(section: str, found: Mapping[str, Verification]) -> Iterator[CohortTrial]:
    """Give what known accounts show of a store, or of all its equal tables."""
    for name, verification in found.items():
        if name.partition("/")[0] == section:
            yield from verification.tried


def _without(placed: PlacedStore, tried: Iterable[CohortTrial]) -> PlacedStore:
    """Take out the cohorts that refuse as many known accounts as they open, or more."""
    right: Counter[str] = Counter()
    wrong: Counter[str] = Counter()
    for trial in tried:
        for name in trial.key.cohort.split("+") if trial.key else ():
            (right if trial.right else wrong)[name] += 1
    cohorts = placed.drafted.cohorts
    contradicted = [name for name in cohorts if wrong[name] and wrong[name] >= right[name]]
    if not contradicted:
        return placed
    unproven = [
        Unproven(
            value_class=cohorts[name].value_class,
            condition=cohorts[name].condition,
            rows=cohorts[name].rows,
            failed=wrong[name],
        )
        for name in contradicted
    ]
    drafted = replace(
        placed.drafted,
        cohorts={name: each for name, each in cohorts.items() if name not in contradicted},
        unproven=(*placed.drafted.unproven, *unproven),
    )
    return replace(placed, drafted=drafted)


def _dropped(known: Sequence[KnownAccount], found: dict[str, Verification]) -> list[Dropped]:
    """Name the known accounts that open in no store, each with the best of the reasons."""
    if not found:
        why = "no table was drafted as a store"
        return [Dropped(line=account.line, login=account.login, why=why) for account in known]
    return [
        Dropped(line=account.line, login=account.login, why=result.near_miss)
        for account, result in zip(known, best_of(found), strict=True)
        if not result.accepted
    ]
