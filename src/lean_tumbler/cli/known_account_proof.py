"""Proof of cohorts by known accounts and likely passwords, noted beside the policy."""

from types import MappingProxyType
from typing import TYPE_CHECKING

from lean_tumbler.cli.option_types import PolicyOptions
from lean_tumbler.cli.options import opened_store, policy_path

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from lean_tumbler.cli.session import Session
    from lean_tumbler.core.login.gateway import CredentialGateway
    from lean_tumbler.core.policy import StorePolicy
    from lean_tumbler.stores.interface import LoginStore
    from lean_tumbler.stores.known_accounts import KnownAccount
    from lean_tumbler.stores.scans.proving import Prover
    from lean_tumbler.stores.scans.verification import CheckedAccount


def prove_known(
    options: PolicyOptions,  # that name the policy
    session: "Session",  # whose day it is
    gateway: "CredentialGateway",  # of the policy
    # in which their logins may stand; of several, each account counts where it opens
    stores: "Sequence[StorePolicy]",
    known: "Sequence[KnownAccount]",  # accounts whose password is known
    # login -> its stored value in an older dump
    earlier: "Mapping[str, str]" = MappingProxyType({}),
) -> "list[CheckedAccount]":
    """Check known accounts on stores, and note beside the policy what each shows of which."""
    from lean_tumbler.stores.evidence_file import Shown
    from lean_tumbler.stores.scans.verification import attributed, best_of

    if len(stores) == 1:  # nothing is to be told apart, and one opening is enough
        with opened_store(options, stores[0]) as store:
            prover = prover_of(options, session, gateway, stores[0].name, store)
            alone = prover.check(known, earlier)
            prover.note(alone.tried, Shown.KNOWN)
        return list(alone.accounts)
    found = {}
    for each in stores:
        with opened_store(options, each) as store:
            prover = prover_of(options, session, gateway, each.name, store)
            found[each.name] = prover.check(known, earlier)
    counted = attributed(found)
    for each in stores:
        tried = counted[each.name].tried
        if tried:
            with opened_store(options, each) as store:
                prover_of(options, session, gateway, each.name, store).note(tried, Shown.KNOWN)
    return best_of(found)


def prover_of(
    options: PolicyOptions,
    session: "Session",
    gateway: "CredentialGateway",
    store_name: str,
    store: "LoginStore",
) -> "Prover":
    """Give what tries passwords on a store, and notes beside the policy what they show."""
    from lean_tumbler.stores.evidence_file import EvidenceFile
    from lean_tumbler.stores.scans.proving import Prover

    return Prover(
        file=EvidenceFile.beside(policy_path(options)),
        store=store,
        store_name=store_name,
        policy=gateway.policy,
        reader=gateway.reader(store_name),
        bounds=gateway.bounds,
        today=session.today(),
    )
