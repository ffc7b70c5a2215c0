"""Proof of cohorts by known accounts and likely passwords, noted beside the policy."""

from typing import TYPE_CHECKING

from lean_tumbler.cli.option_types import PolicyOptions
from lean_tumbler.cli.options import policy_path

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from lean_tumbler.cli.session import Session
    from lean_tumbler.core.login.gateway import CredentialGateway
    from lean_tumbler.stores.interface import LoginStore
    from lean_tumbler.stores.known_accounts import KnownAccount
    from lean_tumbler.stores.scans.verification import Verification


def proven_by_known(
    options: PolicyOptions,
    session: "Session",
    gateway: "CredentialGateway",
    store_name: str,
    store: "LoginStore",
    known: "Sequence[KnownAccount]",
    earlier: "Mapping[str, str] | None" = None,
) -> "Verification":
    """Check known accounts against a store, and note what they show beside the policy."""
    from lean_tumbler.stores.evidence_file import EvidenceFile
    from lean_tumbler.stores.scans.proving import prove_by_known

    return prove_by_known(
        known,
        file=EvidenceFile.beside(policy_path(options)),
        store=store,
        store_name=store_name,
        policy=gateway.policy,
        reader=gateway.reader(store_name),
        bounds=gateway.bounds,
        today=session.today(),
        earlier=earlier or {},
    )


def proven_by_guessing(
    options: PolicyOptions,
    session: "Session",
    gateway: "CredentialGateway",
    store_name: str,
    store: "LoginStore",
) -> int:
    """Try likely passwords on a store, and note beside the policy what they show."""
    import time

    from lean_tumbler.stores.evidence_file import EvidenceFile
    from lean_tumbler.stores.scans.proving import prove_by_guessing

    return prove_by_guessing(
        file=EvidenceFile.beside(policy_path(options)),
        store=store,
        store_name=store_name,
        policy=gateway.policy,
        reader=gateway.reader(store_name),
        bounds=gateway.bounds,
        today=session.today(),
        clock=time.monotonic,
    )
