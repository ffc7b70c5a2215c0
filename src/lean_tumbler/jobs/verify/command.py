"""`verify`: are the accounts whose password is known accepted?"""

import time
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from lean_tumbler.cli.declared import argument, option
from lean_tumbler.cli.known_account_proof import prove_known, prover_of
from lean_tumbler.cli.option_types import ReportOptions, StoreOptions
from lean_tumbler.cli.options import (
    chosen_store,
    chosen_stores,
    gateway_of,
    opened_store,
    policy_path,
    read_policy,
)
from lean_tumbler.cli.session import Session

if TYPE_CHECKING:
    from lean_tumbler.core.policy import StoragePolicy
    from lean_tumbler.core.reading.cohorts import Cohort

EXAMPLE = """\
  lean-tumbler verify known.csv --formula 'utf-8, append salt, sha1, hex'
  lean-tumbler verify known.csv                       takes the stored values from the store
  lean-tumbler verify --store passengers              tries likely passwords on it

known.csv begins with the line login,password. The stored values come from the store, and what the
accounts show of their cohorts is noted beside the policy, for `plan` and `layer`. A file that
begins with login,password,stored,salt is checked by itself (salt may be left out; further columns
are parts that a formula names)."""


@dataclass(frozen=True, kw_only=True)
class Options(StoreOptions, ReportOptions):
    """What the command was asked for."""

    known: Path | None = argument(
        "KNOWN", "a CSV file of known accounts; without it, likely passwords are tried on the store"
    )
    formula: str | None = option(
        "TEXT|NAME",
        "how the stored values came about: a formula, or the name of a cohort or formula of the "
        "policy",
    )
    earlier: Path | None = option(
        "FILE", "an older dump as CSV, login,stored: it proves which values were hashed twice"
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.reading.of_stores import reader_of_files
    from lean_tumbler.jobs.verify.verify_report import draw_verify, verify_document
    from lean_tumbler.stores.known_accounts import (
        names_stored,
        read_earlier,
        read_known_accounts,
    )
    from lean_tumbler.stores.scans.verification import verify_accounts

    if options.known is None:
        return _by_guessing(options, session)
    has_policy = policy_path(options).exists()
    from_store = options.store is not None or (has_policy and not names_stored(options.known))
    policy = read_policy(options, required=from_store)
    known = read_known_accounts(options.known, with_stored=not from_store, say=session.message)
    gateway = gateway_of(options, policy)
    given = _given(options, policy)
    earlier = read_earlier(options.earlier) if options.earlier else {}
    store_name = _store_name(options, policy) if from_store else ""
    if not from_store:
        reader = reader_of_files(policy, given)
        found = verify_accounts(known, reader=reader, bounds=gateway.bounds, earlier=earlier)
        accounts = list(found.accounts)
    elif given is None:
        stores = chosen_stores(policy, store_name)
        accounts = prove_known(options, session, gateway, stores, known, earlier)
    else:
        store_policy = chosen_store(policy, store_name)
        reader = gateway.reader(store_policy.name).with_cohort(given)
        with opened_store(options, store_policy) as store:
            found = verify_accounts(
                known, reader=reader, bounds=gateway.bounds, store=store, earlier=earlier
            )
        accounts = list(found.accounts)
    session.emit(options, verify_document(accounts), draw=partial(draw_verify, store=store_name))
    return int(not all(account.accepted for account in accounts))


def _store_name(options: Options, policy: "StoragePolicy") -> str:
    """Name the store that is meant, or the only one; equal tables together have one name."""
    return options.store or chosen_store(policy, None).name


def _by_guessing(options: Options, session: Session) -> int:
    """Try likely passwords on a store; what they show counts as evidence, and none is printed."""
    from lean_tumbler.jobs.verify.verify_report import draw_guessed, verify_document

    policy = read_policy(options)
    gateway = gateway_of(options, policy)
    name = _store_name(options, policy)
    rows = 0
    for store_policy in chosen_stores(policy, name):
        with opened_store(options, store_policy) as store:
            prover = prover_of(options, session, gateway, store_policy.name, store)
            rows += prover.by_guessing(time.monotonic)
    session.emit(options, verify_document([], guessed=rows), draw=partial(draw_guessed, store=name))
    return int(rows == 0)


def _given(options: Options, policy: "StoragePolicy") -> "Cohort | None":
    """Give the cohort that the command line names or describes; None where it does neither."""
    from lean_tumbler.core.formulas import notation
    from lean_tumbler.core.formulas.named import NamedFormula
    from lean_tumbler.core.policy.cohort_tables import split_then
    from lean_tumbler.core.reading.cohorts import Cohort

    text = options.formula
    if text is None:
        return None
    for store in policy.stores.values():
        for cohort in store.cohorts:
            if cohort.name == text and cohort.formula is not None:
                return replace(cohort, condition=None)
    named, then = policy.formulas.get(text), ""
    if named is None:
        before, then = split_then(text)
        named = NamedFormula("given", notation.parse(before, may_end_in_bytes=bool(then)))
    return Cohort(name=named.name, formula=named, then=then)
