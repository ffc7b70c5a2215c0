"""From the options of a command to what it works with: policy, gateway, keys, stores."""

import argparse
import os
from contextlib import closing, contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.option_types import POLICY_NAME, BulkOptions, PolicyOptions
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from lean_tumbler.cli.session import Session
    from lean_tumbler.core.login.gateway import CredentialGateway
    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.core.reading.evidence import Evidence
    from lean_tumbler.core.reading.survey import Column
    from lean_tumbler.stores.interface import LoginStore, Store

DEFAULT_MILLISECONDS = 250.0  # within which 99 of 100 logins are answered


def write_plot(path: Path, draw: "Callable[[str], bytes]", session: "Session") -> None:
    """Write a picture in the form that the file's name asks for, and say so."""
    from lean_tumbler.stores.file_access import write_bytes

    write_bytes(path, draw(path.suffix.lower().removeprefix(".")))
    session.message(f"{path}: plot written")


def children_of(parser: argparse.ArgumentParser) -> dict[str, argparse.ArgumentParser]:
    """Give the commands of a parser, by name."""
    found: dict[str, argparse.ArgumentParser] = {}
    for action in parser._actions:  # noqa: SLF001 - argparse tells its options in no other way
        if isinstance(action, argparse._SubParsersAction):  # noqa: SLF001 - as above
            found.update(action.choices)
    return found


def policy_path(options: PolicyOptions) -> Path:
    """Tell where the policy is meant to be."""
    return options.policy or Path(POLICY_NAME)


def read_policy(options: PolicyOptions, *, required: bool = True) -> "StoragePolicy":
    """Read the policy that the options name.

    Args:
        options: parsed options.
        required: without it, a policy that is neither named nor there is the default policy.
    """
    from lean_tumbler.core.keyring import SecretKeys
    from lean_tumbler.core.policy import StoragePolicy
    from lean_tumbler.stores.keys import read_keys
    from lean_tumbler.stores.policy_file import read_policy as read

    path = policy_path(options)
    if not required and options.policy is None and not path.exists():
        return StoragePolicy()
    policy = read(path)
    base = path.parent
    load = partial(read_keys, policy, base=base, environment=os.environ)
    return policy.with_keys(SecretKeys(load))


def gateway_of(options: PolicyOptions, policy: "StoragePolicy") -> "CredentialGateway":
    """Give the gateway of a policy, which looks at columns by need."""
    from lean_tumbler.core.login.gateway import CredentialGateway
    from lean_tumbler.core.policy import APPLICATION

    columns = {
        name: column_of(options, policy, store)
        for name, store in policy.stores.items()
        if store.locator != APPLICATION
    }
    return CredentialGateway(
        policy,
        columns=columns,
        evidence=evidence_of(options, policy),
    )


def evidence_of(options: PolicyOptions, policy: "StoragePolicy") -> "Callable[[], Evidence]":
    """Give what logins may go by: what is known of stores whose rows still stand there."""
    from lean_tumbler.stores.evidence_file import EvidenceFile
    from lean_tumbler.stores.scans.binding import LoginEvidence, openers

    path = policy_path(options)
    return LoginEvidence(
        EvidenceFile.beside(path), openers(policy.stores, policy=policy, base=path.parent)
    )


def column_of(
    options: PolicyOptions, policy: "StoragePolicy", store: "StorePolicy"
) -> "Callable[[], Column]":
    """Give what surveys a store's column when it is first asked for."""
    from lean_tumbler.core.reading.of_stores import store_reader
    from lean_tumbler.stores.kinds import open_store
    from lean_tumbler.stores.scans.surveying import surveyed_once

    base = policy_path(options).parent
    return surveyed_once(lambda: closing(open_store(store, base=base)), store_reader(policy, store))


def chosen_store(policy: "StoragePolicy", name: str | None) -> "StorePolicy":
    """Give the store that is meant.

    Raises:
        UsageError: there is none of that name, or several and none is named.
    """
    known = _named(policy)
    if name is not None:
        if name not in policy.stores:
            raise UsageError(f"the policy has no store “{name}”; it has: {known}")
        return policy.stores[name]
    if len(policy.stores) != 1:
        raise UsageError(f"name a store with --store; the policy has: {known}")
    return next(iter(policy.stores.values()))


def _named(policy: "StoragePolicy") -> str:
    """List the stores of a policy; of equal tables the first."""
    listed: dict[str, list[str]] = {}
    for store in policy.stores.values():
        listed.setdefault(store.section, []).append(store.name)
    return ", ".join(
        tables[0] + (f" (and {len(tables) - 1:,} equal tables)" if len(tables) > 1 else "")
        for tables in listed.values()
    ) or "none"  # fmt: skip


def chosen_stores(policy: "StoragePolicy", name: str | None) -> "list[StorePolicy]":
    """Give the store that is named, with all its tables, or all stores.

    Raises:
        UsageError: there is none of that name, or none at all.
    """
    if name is None and policy.stores:
        return list(policy.stores.values())
    tables = [store for store in policy.stores.values() if store.section == name]
    return tables or [chosen_store(policy, name)]


@contextmanager
def opened_store(
    options: PolicyOptions,  # parsed options
    store: "StorePolicy",  # the one
    *,
    # whether single values will be written; a bulk step's options say it themselves
    writable: bool = False,
) -> "Iterator[LoginStore]":
    """Open a store of the policy, and close it afterwards."""
    from lean_tumbler.stores.kinds import kind_of, open_store

    base = policy_path(options).parent
    bulk = options if isinstance(options, BulkOptions) else None
    is_dry = bulk is not None and bulk.dry_run
    into = None if bulk is None or is_dry else bulk.into
    # A dry run needs no copy of a file; of a table it finds out whether it can be written.
    in_place = kind_of(store.locator, base=base).written_in_place
    writable |= bulk is not None and (in_place or not is_dry)
    opened = open_store(store, base=base, writable=writable, into=into)
    try:
        yield opened
    finally:
        opened.close()


@contextmanager
def opened_rows(
    options: PolicyOptions,
    store: "StorePolicy",
) -> "Iterator[Store]":
    """Open a store whose rows are gone through; see `opened_store`.

    Raises:
        UsageError: they cannot be.
    """
    from lean_tumbler.stores.locators import require_bulk

    with opened_store(options, store) as opened:
        yield require_bulk(opened)
