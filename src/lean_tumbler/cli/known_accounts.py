"""Known accounts of a file, with what is stored for them: there, or in a store of the policy."""

from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.option_types import StoreOptions
from lean_tumbler.cli.options import chosen_store, policy_path, read_policy
from lean_tumbler.cli.session import Session

if TYPE_CHECKING:
    from lean_tumbler.core.policy import StorePolicy
    from lean_tumbler.stores.known_accounts import KnownAccount


def whole_store(options: StoreOptions) -> "StorePolicy":
    """Give the store that is meant, with every column of it."""
    from lean_tumbler.stores.scans.known_rows import with_all_columns

    store = chosen_store(read_policy(options), options.store)
    return with_all_columns(store, base=policy_path(options).parent)


def known_accounts(
    options: StoreOptions, path: Path, store: "StorePolicy | None", session: Session
) -> "list[KnownAccount]":
    """Read known accounts; what is stored for them stands in their file where no store is given."""
    from lean_tumbler.stores.known_accounts import read_known_accounts
    from lean_tumbler.stores.scans.known_rows import filled_up

    known = read_known_accounts(path, with_stored=store is None, say=session.message)
    if store is None:
        return known
    return filled_up(known, store, base=policy_path(options).parent, say=session.message)
