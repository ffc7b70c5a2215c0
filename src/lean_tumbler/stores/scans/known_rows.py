"""Known accounts filled up from a store: what stands there beside login and password."""

from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec.structs import replace

from lean_tumbler.core.drafting.class_solving import part_name
from lean_tumbler.core.masked import Masked
from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.core.reading.rows import text_of
from lean_tumbler.errors import KnownAccountsError
from lean_tumbler.stores.interface import Account
from lean_tumbler.stores.kinds import open_store
from lean_tumbler.stores.known_accounts import KnownAccount
from lean_tumbler.stores.scans.profiling import policy_table


def with_all_columns(store: StorePolicy, *, base: Path) -> StorePolicy:
    """Give a store whose rows bring every column along, each as a part.

    Raises:
        UsageError: the table or a column is not there.
        SourceError: the store cannot be read.
    """
    taken = {store.columns.stored, store.columns.salt, store.columns.login}
    others = [name for name in policy_table(store, base=base).columns if name not in taken]
    parts = {part_name(name): name for name in others}
    return replace(store, parts={**parts, **store.parts})


def filled_up(
    known: Sequence[KnownAccount],  # login and password of each
    store: StorePolicy,  # as `with_all_columns` gives it
    *,
    base: Path,  # the folder that a relative locator starts from
    say: Callable[[str], None],  # told which accounts are left out
) -> list[KnownAccount]:
    """Take stored value, salt, login and other columns of known accounts from a store.

    Raises:
        KnownAccountsError: none of them stands there with a value.
        SourceError: the store cannot be read.
    """
    found = []
    opened = open_store(store, base=base)
    try:
        for account in known:
            rows = opened.fetch(account.login)
            if len(rows) != 1 or not rows[0].stored:
                say(f"line {account.line}: left out: {_problem(rows)}")
                continue
            found.append(_filled(account, rows[0], store))
    finally:
        opened.close()
    if not found:
        raise KnownAccountsError(f"none of the known accounts is in the store {store.name}")
    return found


def _problem(rows: Sequence[Account]) -> str:
    if not rows:
        return "the store has no such login"
    return "the login is not unique" if len(rows) > 1 else "the account has no stored value"


def _filled(account: KnownAccount, row: Account, store: StorePolicy) -> KnownAccount:
    parts = {
        name: text_of(raw)
        for name, column in store.parts.items()
        if (raw := row.others.get(column))
    }
    return replace(
        account,
        login=row.login or account.login,
        stored=Masked(text_of(row.stored or b"")),
        salt=row.salt,
        others=parts,
    )
