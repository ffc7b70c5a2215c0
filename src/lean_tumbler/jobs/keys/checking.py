"""Trying each key of a policy on what its stores hold, before anything depends on it."""

from collections import Counter
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

from msgspec import Struct, field

from lean_tumbler.core.keyring import Closed, OpenedValue
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.schemes import keyed
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.errors import TumblerError
from lean_tumbler.migration.bulk.context import RunContext
from lean_tumbler.migration.bulk.pages import all_pages
from lean_tumbler.stores.interface import AccountKey, Store
from lean_tumbler.stores.kinds import open_store

ACCOUNTS_NAMED = 20


class Tried(Struct, kw_only=True):
    """What one key does for one store."""

    store: str
    key: str
    opened: int = 0
    # why others do not open -> their number
    closed: Counter[Closed] = field(default_factory=Counter)
    moved: list[AccountKey] = field(default_factory=list)  # the first that were moved or damaged

    @property
    def rows(self) -> int:
        """Rows that are under it."""
        return self.opened + self.closed.total()


class KeysTried(Struct, kw_only=True):
    """What all keys do."""

    sealed_by: str  # the key of new values; empty for none
    problems: dict[str, str] = field(default_factory=dict)  # key -> why it cannot be used
    usable: list[str] = field(default_factory=list)  # keys that can go over stored values
    tried: list[Tried] = field(default_factory=list)
    # store -> values under no key, but for markers of locked accounts
    without_key: dict[str, int] = field(default_factory=dict)


def check_keys(
    policy: StoragePolicy, stores: Sequence[StorePolicy], *, base: Path, context: RunContext
) -> KeysTried:
    """Try the keys of a policy on all rows of some stores.

    Args:
        policy: its keys.
        stores: of the policy.
        base: the folder that a relative locator starts from.
        context: told of progress.

    Raises:
        SourceError: a store cannot be read.
    """
    found = KeysTried(sealed_by=policy.target.keyed_by)
    for name in _over_values(policy):
        try:
            check = policy.keyring.check_of(name)
        except TumblerError as error:
            found.problems[name] = str(error)
            continue
        if check is None:
            found.problems[name] = "is not there"
        else:
            found.usable.append(name)
    for store in stores:
        opened = open_store(store, base=base)
        with closing(opened):
            if isinstance(opened, Store):
                _try(found, policy, store.name, opened, context)
    return found


def _over_values(policy: StoragePolicy) -> list[str]:
    """Name the keys that may go over stored values; a passphrase of a formula is none."""
    names = [name for name, source in policy.keys.items() if source.may_seal]
    return list(dict.fromkeys(filter(None, (policy.target.keyed_by, *names))))


def _try(
    found: KeysTried, policy: StoragePolicy, store: str, opened: Store, context: RunContext
) -> None:
    by_key: dict[str, Tried] = {}
    others = 0
    for page in all_pages(opened, context):
        context.progress(len(page))
        for account in page:
            text = account.row.text or ""
            value = keyed.read(text)
            if value is None:
                others += bool(text) and read_value(text).kind is not Kind.LOCKED
                continue
            name = value.head.name
            tried = by_key.setdefault(name, Tried(store=store, key=name))
            result = policy.keyring.open(text, account=account.bound_name)
            if isinstance(result, OpenedValue):
                tried.opened += 1
            elif result is not None:
                tried.closed[result] += 1
                if result is Closed.MOVED and len(tried.moved) < ACCOUNTS_NAMED:
                    tried.moved.append(account.key)
    found.tried += by_key.values()
    found.without_key[store] = others
