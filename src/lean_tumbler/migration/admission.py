"""One login against a store: fetch, decide, swap."""

from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.login.gateway import NO_SLOT, CredentialGateway, Slot
from lean_tumbler.core.login.outcome import Action, Outcome
from lean_tumbler.core.reading.evidence import RowFacts
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.warrant import MOVES, Step
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.interface import (
    Account,
    LoginStore,
    as_stored,
    room_of,
)


class Admission(Struct, frozen=True, kw_only=True):
    """The outcome, and what the operator should hear; empty where there is nothing."""

    outcome: Outcome
    alert: str = ""
    # what is known of the row beside its value; None where there is not one alone
    row: RowFacts | None = None


class Found(Struct, frozen=True, kw_only=True):
    """The rows of a login, as its store compares it, and how long it took to fetch them."""

    accounts: Sequence[Account]
    seconds: float

    @property
    def one(self) -> Account | None:
        """The account; None where there is none, or not one alone."""
        return self.accounts[0] if len(self.accounts) == 1 else None


def look_up(store: LoginStore, gateway: CredentialGateway, login: str) -> Found:
    """Fetch the rows of a login.

    Raises:
        SourceError: the store cannot be read.
    """
    started = gateway.clock()
    accounts = store.fetch(login)
    return Found(accounts=accounts, seconds=gateway.clock() - started)


_ALERTS = {
    "over-limit": "a stored value asks for more work than [limits] allows; it was not run",
    "not-understood": "a stored value fits no scheme and no formula of the store",
    "stored-value-typed": (
        "somebody typed what is stored: the column has leaked, or a program sends the hash"
    ),
    "moved-or-damaged": (
        "a value under a key was moved from another row, or damaged: find who wrote it"
    ),
    "remnant": "a stored value is what a failed write left; the account needs a reset",
    "empty-value": "a stored value is empty",
}


def admit_login(
    store: LoginStore,  # of the account
    gateway: CredentialGateway,  # decides
    *,
    store_name: str,  # the policy's
    login: str,  # as typed
    password: str,  # as typed
    upgrade: bool = True,  # whether anything may be written
    slot: Slot = NO_SLOT,  # held while it derives; others read and write meanwhile
    found: Found | None = None,  # its rows, where they were fetched already
) -> Admission:
    """Check a login and upgrade its value where due.

    A write that fails, or loses to another, never fails the login: its action is `deferred`.

    Raises:
        SourceError: the store cannot be read.
        CheckImpossible: a formula or key that the value needs is not there.
    """
    found = found or look_up(store, gateway, login)
    account, alert, outcome = _checked(
        gateway, store_name, found, password, upgrade=upgrade, slot=slot
    )
    row = None if account.stored is None else account.facts
    if outcome.new_value is not None:
        return replace(_write(store, account, outcome, outcome.new_value), row=row)
    if outcome.admitted and account.is_left_behind and outcome.kept in MOVES:
        return replace(_write(store, account, outcome, as_stored(account.stored or b"")), row=row)
    return Admission(outcome=outcome, alert=alert or _alert(account, outcome), row=row)


def change_password(
    store: LoginStore,
    gateway: CredentialGateway,
    *,
    store_name: str,
    login: str,
    password: str,
    new: str,
    slot: Slot = NO_SLOT,
    found: Found | None = None,
) -> tuple[bool, Outcome]:
    """Check a password, and put a new one in its place; tell whether it stands there now.

    Where another program has changed the value since it was read, nothing is written.

    Raises:
        NotReady: nothing may be written to the store now.
        SourceError: the store cannot be read or written.
        CheckImpossible: a formula or key that the value needs is not there.
        PasswordRefused: the new one may not be used.
    """
    gateway.warrant(Step.CHANGE, store_name).require()
    gateway.require_usable(password=new, login=login)
    found = found or look_up(store, gateway, login)
    account, _, outcome = _checked(gateway, store_name, found, password, upgrade=False, slot=slot)
    if not outcome.admitted or account.stored is None:
        return False, outcome
    with slot:
        value = gateway.hash(password=new, login=login, account=account.bound_name)
    warrant = gateway.warrant(Step.CHANGE, store_name)
    replace(warrant, room=room_of(store), needed=len(value)).require()
    result = store.swap(account.swap(value))
    return result.is_written, outcome


def _checked(
    gateway: CredentialGateway,
    store_name: str,
    found: Found,
    password: str,
    *,
    upgrade: bool,
    slot: Slot,
) -> tuple[Account, str, Outcome]:
    """Check the password of a login's account, or of an empty one in its place."""
    account = found.one or Account(key=0)
    alert = "the login is not unique; no row was tried" if len(found.accounts) > 1 else ""
    outcome = gateway.admit_row(
        account.row,
        password=password,
        store=store_name,
        upgrade=upgrade,
        slot=slot,
        fetched_seconds=found.seconds,
    )
    return account, alert, outcome


_UNUSUAL_WORK = (
    "a stored value asks for far more work than the store's usual rows: it is checked one at a "
    "time, and refusals do not imitate it"
)


def _alert(account: Account, outcome: Outcome) -> str:
    message = _ALERTS.get(outcome.refusal, _UNUSUAL_WORK if outcome.unusual_work else "")
    return f"account {account.key!r}: {message}" if message else ""


def _write(
    store: LoginStore, account: Account, outcome: Outcome, new_value: str | bytes
) -> Admission:
    deferred = replace(outcome, action=Action.DEFERRED, new_value=None, to_scheme=None)
    try:
        room = room_of(store)
        if room is not None and len(new_value) > room:
            kept = replace(deferred, kept=Reason.TOO_NARROW)
            return Admission(outcome=kept, alert=f"the upgrade was not written: {kept.kept}")
        result = store.swap(account.swap(new_value))
    except SourceError as error:
        return Admission(outcome=deferred, alert=f"the upgrade was not written: {error}")
    if not result.is_written:
        return Admission(outcome=deferred, alert=f"the upgrade was not written: {result}")
    return Admission(outcome=outcome)
