"""One login against a store: fetch, decide, swap."""

from dataclasses import dataclass, replace

from lean_tumbler.core.gateway import CredentialGateway
from lean_tumbler.core.outcome import Action, Outcome
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.interface import Account, Store, Swap, SwapResult


@dataclass(frozen=True, slots=True, kw_only=True)
class Admission:
    """The outcome, and what the operator should hear; empty where there is nothing."""

    outcome: Outcome
    alert: str = ""


_ALERTS = {
    "over-limit": "a stored value asks for more work than [limits] allows; it was not run",
    "not-understood": "a stored value fits no scheme and no formula of the store",
    "undecodable": "a stored value is not UTF-8 text",
    "empty-value": "a stored value is empty",
}


def admit_login(
    store: Store,
    gateway: CredentialGateway,
    *,
    store_name: str,
    login: str,
    password: str,
    upgrade: bool = True,
) -> Admission:
    """Check a login and upgrade its value where due.

    A write that fails, or loses to another, never fails the login: its action is `deferred`.

    Raises:
        SourceError: the store cannot be read.
        CheckImpossible: a formula or key that the value needs is not there.
    """
    account, alert, outcome = _checked(
        store, gateway, store_name=store_name, login=login, password=password, upgrade=upgrade
    )
    if outcome.new_value is None:
        return Admission(outcome=outcome, alert=alert or _alert(account, outcome))
    return _write(store, account, outcome, outcome.new_value)


def change_password(
    store: Store,
    gateway: CredentialGateway,
    *,
    store_name: str,
    login: str,
    password: str,
    new: str,
) -> tuple[bool, Outcome]:
    """Check a password, and put a new one in its place; tell whether it stands there now.

    Where another program has changed the value since it was read, nothing is written.

    Raises:
        SourceError: the store cannot be read or written.
        CheckImpossible: a formula or key that the value needs is not there.
        PasswordRefused: no value can be made of the new one.
    """
    account, _, outcome = _checked(
        store, gateway, store_name=store_name, login=login, password=password, upgrade=False
    )
    if not outcome.admitted or account.stored is None:
        return False, outcome
    value = gateway.hash(password=new)
    result = store.swap(Swap(key=account.key, old=account.stored, new=value))
    return result is SwapResult.DONE, outcome


def _checked(
    store: Store,
    gateway: CredentialGateway,
    *,
    store_name: str,
    login: str,
    password: str,
    upgrade: bool,
) -> tuple[Account, str, Outcome]:
    """Fetch a login's account, or an empty one in its place, and check the password."""
    accounts = store.fetch(login)
    account = accounts[0] if len(accounts) == 1 else Account(key=0)
    alert = "the login is not unique; no row was tried" if len(accounts) > 1 else ""
    outcome = gateway.admit(
        stored=account.stored,
        password=password,
        store=store_name,
        salt=account.salt,
        login=account.login,
        upgrade=upgrade,
    )
    return account, alert, outcome


def _alert(account: Account, outcome: Outcome) -> str:
    message = _ALERTS.get(outcome.refusal, "")
    return f"account {account.key!r}: {message}" if message else ""


def _write(store: Store, account: Account, outcome: Outcome, new_value: str) -> Admission:
    deferred = replace(outcome, action=Action.DEFERRED, new_value=None, to_scheme=None)
    try:
        result = store.swap(Swap(key=account.key, old=account.stored or b"", new=new_value))
    except SourceError as error:
        return Admission(outcome=deferred, alert=f"the upgrade was not written: {error}")
    if result is not SwapResult.DONE:
        return Admission(outcome=deferred, alert=f"the upgrade was not written: {result}")
    return Admission(outcome=outcome)
