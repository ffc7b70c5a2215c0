"""Proof of cohorts by known accounts and likely passwords, noted beside the policy."""

from typing import TYPE_CHECKING

from lean_tumbler.cli.option_types import PolicyOptions
from lean_tumbler.cli.options import policy_path

if TYPE_CHECKING:
    from lean_tumbler.cli.session import Session
    from lean_tumbler.core.login.gateway import CredentialGateway
    from lean_tumbler.stores.interface import LoginStore
    from lean_tumbler.stores.scans.proving import Prover


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
