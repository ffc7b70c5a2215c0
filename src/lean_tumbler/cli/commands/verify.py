"""`verify`: are the accounts whose password is known accepted?"""

import argparse
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.options import (
    add_store_options,
    chosen_store,
    gateway_of,
    opened_store,
    read_policy,
)
from lean_tumbler.cli.session import Session

if TYPE_CHECKING:
    from lean_tumbler.core.checking import Rules
    from lean_tumbler.core.policy import StoragePolicy

EXAMPLE = """\
  lean-tumbler verify known.csv --formula 'utf-8, append salt, sha1, hex'
  lean-tumbler verify known.csv --store passengers    takes the stored values from the store

known.csv begins with the line login,password,stored,salt (salt may be left out);
with --store it needs login,password alone."""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("known", type=Path, metavar="KNOWN", help="a CSV file of known accounts")
    parser.add_argument(
        "--formula",
        metavar="TEXT|NAME",
        help="how the stored values came about: a formula, or the name of one of the policy",
    )
    add_store_options(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.operations.verification import verify_accounts
    from lean_tumbler.reports.verify import draw_verify, verify_document
    from lean_tumbler.stores.known_accounts import read_known_accounts

    policy = read_policy(arguments, required=arguments.store is not None)
    known = read_known_accounts(arguments.known, with_stored=arguments.store is None)
    rules = _rules(arguments, policy, gateway_of(arguments, policy).rules(arguments.store))
    if arguments.store is None:
        checked = list(verify_accounts(known, rules=rules))
    else:
        store_policy = chosen_store(policy, arguments.store)
        with opened_store(arguments, store_policy) as store:
            checked = list(verify_accounts(known, rules=rules, store=store))
    session.emit(
        arguments,
        document=lambda: verify_document(checked),
        draw=lambda console: draw_verify(console, checked),
    )
    return int(not all(account.accepted for account in checked))


def _rules(arguments: argparse.Namespace, policy: "StoragePolicy", rules: "Rules") -> "Rules":
    """Take the formula that the command line names; without a store, all of the policy's."""
    from lean_tumbler.core.formulas import notation
    from lean_tumbler.core.policy import NamedFormula

    if arguments.formula is None:
        formulas = rules.formulas if arguments.store else tuple(policy.formulas.values())
        return replace(rules, formulas=formulas)
    named = policy.formulas.get(arguments.formula)
    if named is None:
        named = NamedFormula("given", notation.parse(arguments.formula))
    return replace(rules, formulas=(named,))
