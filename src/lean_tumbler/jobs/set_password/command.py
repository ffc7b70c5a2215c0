"""`set-password`: a first password for an account without value, or one that is locked."""

import argparse

from lean_tumbler.cli.options import (
    add_store_options,
    chosen_store,
    gateway_of,
    opened_store,
    read_policy,
)
from lean_tumbler.cli.session import Session

EXAMPLE = """\
  lean-tumbler set-password ada.hawserholt@coldharbour.example < password.txt
  lean-tumbler set-password ada.hawserholt@coldharbour.example     asks twice, without echo

An account that a password opens is left: its owner changes the password."""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("login", metavar="LOGIN", help="the account's login")
    add_store_options(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.set_password.report import set_password_document, set_password_text
    from lean_tumbler.jobs.set_password.setting import set_password

    policy = read_policy(arguments)
    store_policy = chosen_store(policy, arguments.store)
    new = session.read_password(policy.limits, confirm=True)
    with opened_store(arguments, store_policy, writable=True) as store:
        found = set_password(
            store,
            gateway_of(arguments, policy),
            store_name=store_policy.name,
            login=arguments.login,
            new=new,
        )
    session.emit(
        arguments,
        document=lambda: set_password_document(found),
        text=lambda _: set_password_text(found),
    )
    return int(not found.written)
