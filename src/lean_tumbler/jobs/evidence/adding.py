"""Takes verdicts of written checks up into the evidence, as logins at the service are."""

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence

from msgspec import Struct

from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.core.reading.evidence import CohortKey
from lean_tumbler.stores.evidence_file import CohortTrial
from lean_tumbler.stores.interface import Account, Store
from lean_tumbler.stores.scans.surveying import pages_of
from lean_tumbler.stores.verdict_lines import VerdictLine, person_of, read_verdict


class Taken(Struct, frozen=True, kw_only=True):
    """What a file of verdicts showed of one store."""

    trials: Sequence[CohortTrial]
    lines: int  # that were read
    bad: Mapping[str, int]  # why lines were not used -> how many


MALFORMED = "not a line of a written check, or not signed with this key"
OTHER_STORE = "of another store"
NO_COHORT = "of a cohort that the policy does not have"
NOBODY = "of somebody who has no account there now"
NOTHING = "shows nothing: refused, and nobody else was asked"


def taken_up(lines: Iterable[str], *, key: bytes, store: Store, store_policy: StorePolicy) -> Taken:
    """Read lines, and find whose they are.

    Args:
        lines: of the file.
        key: that they are signed with.
        store: opened, whose people they are of.
        store_policy: of the store.
    """
    bad: Counter[str] = Counter()
    verdicts: list[VerdictLine] = []
    number = 0
    for line in lines:
        number += 1
        found = read_verdict(line, key)
        if found is None or found.store != store_policy.name:
            bad[MALFORMED if found is None else OTHER_STORE] += 1
        else:
            verdicts.append(found)
    people = _people({each.person for each in verdicts}, store, key)
    trials: list[CohortTrial] = []
    for verdict in verdicts:
        trial = _trial(verdict, people.get(verdict.person), store_policy)
        if isinstance(trial, str):
            bad[trial] += 1
        else:
            trials.append(trial)
    return Taken(trials=trials, lines=number, bad=dict(bad.most_common()))


def _people(wanted: set[str], store: Store, key: bytes) -> dict[str, Account]:
    return {person: account for person, account in _named(store, key) if person in wanted}


def _named(store: Store, key: bytes) -> Iterator[tuple[str, Account]]:
    for page in pages_of(store):
        for account in page:
            if account.login is not None:
                yield person_of(account.login, key), account


def _trial(verdict: VerdictLine, account: Account | None, store: StorePolicy) -> CohortTrial | str:
    """Give what a verdict shows; or why it shows nothing."""
    names = {cohort.identity: cohort.name for cohort in store.cohorts}
    identities = verdict.identity.split("+")
    if not set(identities) <= names.keys():
        return NO_COHORT
    if account is None or account.login is None:
        return NOBODY
    differs = verdict.expected is not None and verdict.expected is not verdict.is_right
    if not (verdict.is_right or differs):
        return NOTHING
    label = "+".join(sorted({names[each] for each in identities}))
    return CohortTrial(
        store=store.name,
        key=CohortKey(store.name, label, verdict.identity),
        login=account.login,
        right=not differs,
        row=account.facts,
    )
