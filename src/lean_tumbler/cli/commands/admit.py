"""`admit`: one login, with its upgrade."""

import argparse
from contextlib import closing

from lean_tumbler.cli.options import (
    add_policy_option,
    add_report_options,
    add_store_option,
    chosen_store,
    policy_path,
    read_policy,
)
from lean_tumbler.cli.session import Session

EXAMPLE = """\
  lean-tumbler admit ada.lindqvist@coldharbour.example < password.txt
  lean-tumbler admit ada.lindqvist@coldharbour.example     asks, without echo"""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("login", metavar="LOGIN", help="the name that the person types")
    add_store_option(parser)
    add_policy_option(parser)
    add_report_options(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.gateway import CredentialGateway
    from lean_tumbler.operations.admission import admit_login
    from lean_tumbler.reports.admit import admit_document, admit_text
    from lean_tumbler.stores.locators import open_store

    policy = read_policy(arguments)
    store_policy = chosen_store(policy, arguments.store)
    password = session.read_password(policy.limits)
    base = policy_path(arguments).parent
    with closing(open_store(store_policy, base=base, writable=True)) as store:
        admission = admit_login(
            store,
            CredentialGateway(policy),
            store_name=store_policy.name,
            login=arguments.login,
            password=password,
        )
    if admission.alert:
        session.message(f"lean-tumbler admit: alert: {admission.alert}")
    outcome = admission.outcome
    session.emit(
        arguments,
        document=lambda: admit_document(outcome),
        text=lambda _: admit_text(outcome),
    )
    return int(not outcome.admitted)
