"""A first password for an account that no password opens: without value, locked, or a remnant."""

from msgspec.structs import replace

from lean_tumbler.core.keyring import Closed
from lean_tumbler.core.login.gateway import CredentialGateway
from lean_tumbler.core.reading.readings import State
from lean_tumbler.core.warrant import Step
from lean_tumbler.errors import UsageError
from lean_tumbler.jobs.set_password.set_password_report import SetPasswordDocument
from lean_tumbler.reports.documents import key_told
from lean_tumbler.stores.interface import Account, LoginStore, room_of

# Whose value may be replaced: no password opens any of them.
_CLOSED = frozenset({State.NO_VALUE, State.EMPTY, State.LOCKED, State.REMNANT})


def set_password(
    store: LoginStore, gateway: CredentialGateway, *, store_name: str, login: str, new: str
) -> SetPasswordDocument:
    """Give an account a password, by a swap, where none opens it now.

    Args:
        store: of the account.
        gateway: makes the value.
        store_name: the policy's.
        login: whose it is.
        new: the password.

    Raises:
        NotReady: nothing may be written to the store now.
        UsageError: there is no such login, or several; or a password opens the account.
        PasswordRefused: the new password may not be used.
        SourceError: the store cannot be read or written.
    """
    warrant = gateway.warrant(Step.SET_PASSWORD, store_name)
    warrant.require()
    account = _closed_account(store, gateway, store_name, login)
    reading = gateway.reader(store_name).read(account.row)
    was = str(reading.closed or reading.state)
    value = gateway.hash(password=new, login=login, account=account.bound_name)
    replace(warrant, room=room_of(store), needed=len(value)).require()
    if account.stored is None:
        result = store.fill(account.key, value)
    else:
        result = store.swap(account.swap(value))
    return SetPasswordDocument(
        account=key_told(account.key),
        was=was,
        written=result.is_written,
        to=gateway.policy.target.scheme if result.is_written else None,
    )


def _closed_account(
    store: LoginStore, gateway: CredentialGateway, store_name: str, login: str
) -> Account:
    accounts = store.fetch(login)
    if len(accounts) != 1:
        problem = "is not unique" if accounts else "is not there"
        raise UsageError(f"{store.table}: the login {problem}; nothing was written")
    reading = gateway.reader(store_name).read(accounts[0].row)
    if reading.state not in _CLOSED and reading.closed is not Closed.MOVED:
        raise UsageError(
            f"{store.table}: {store.key_label} {accounts[0].key!r} holds a value that a password "
            "may open; lock the account first, or have its owner change the password (`/v1/change`)"
        )
    return accounts[0]
