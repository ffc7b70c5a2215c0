"""`set-password`: a first password for an account without value, or one that is locked."""

from dataclasses import dataclass

from lean_tumbler.cli.declared import argument
from lean_tumbler.cli.option_types import ReportOptions, StoreOptions
from lean_tumbler.cli.options import (
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


@dataclass(frozen=True, kw_only=True)
class Options(StoreOptions, ReportOptions):
    """What the command was asked for."""

    login: str = argument("LOGIN", "the account's login")


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.set_password.set_password_report import set_password_text
    from lean_tumbler.jobs.set_password.setting import set_password

    policy = read_policy(options)
    store_policy = chosen_store(policy, options.store)
    new = session.read_password(policy.limits, confirm=True)
    with opened_store(options, store_policy, writable=True) as store:
        found = set_password(
            store,
            gateway_of(options, policy),
            store_name=store_policy.name,
            login=options.login,
            new=new,
        )
    session.emit(options, found, text=lambda found, _: set_password_text(found))
    return int(not found.written)
