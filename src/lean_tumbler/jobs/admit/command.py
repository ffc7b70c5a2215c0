"""`admit`: one login, with its upgrade."""

import time
from dataclasses import dataclass
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import argument
from lean_tumbler.cli.option_types import ReportOptions, StoreOptions
from lean_tumbler.cli.options import (
    chosen_store,
    gateway_of,
    opened_store,
    policy_path,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from lean_tumbler.stores.login_evidence import Observations

EXAMPLE = """\
  lean-tumbler admit ada.hawserholt@coldharbour.example < password.txt
  lean-tumbler admit ada.hawserholt@coldharbour.example     asks, without echo"""


@dataclass(frozen=True, kw_only=True)
class Options(StoreOptions, ReportOptions):
    """What the command was asked for."""

    login: str = argument("LOGIN", "the name that the person types")


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.login.passwords import utf8
    from lean_tumbler.jobs.admit.admit_report import AdmitDocument, admit_text
    from lean_tumbler.migration.admission import admit_login
    from lean_tumbler.stores.scans.binding import bindings_of
    from lean_tumbler.stores.scans.costs import learn_costs

    if utf8(options.login) is None:
        raise UsageError("LOGIN is not UTF-8 text")
    policy = read_policy(options)
    store_policy = chosen_store(policy, options.store)
    password = session.read_password(policy.limits)
    with opened_store(options, store_policy, writable=True) as store:
        gateway = gateway_of(options, policy)
        learn_costs(gateway, store, store_name=store_policy.name, at_once=False)
        admission = admit_login(
            store,
            gateway,
            store_name=store_policy.name,
            login=options.login,
            password=password,
        )
        outcome = admission.outcome
        observed = _observations(options, session)
        observed.take_from(
            bindings_of({store_policy.name: store}, policy=policy, today=session.today)
        )
        observed.note(store_policy.name, options.login, outcome, row=admission.row)
        observed.write()
    if admission.alert:
        session.message(f"lean-tumbler admit: alert: {admission.alert}")
    session.emit(options, AdmitDocument.of(outcome), text=lambda found, _: admit_text(found))
    return int(not outcome.admitted)


def _observations(options: Options, session: Session) -> "Observations":
    from lean_tumbler.stores.evidence_file import EvidenceFile
    from lean_tumbler.stores.login_evidence import Observations

    return Observations(
        EvidenceFile.beside(policy_path(options)),
        clock=time.monotonic,
        alert=lambda message: session.message(f"lean-tumbler admit: {message}"),
    )
