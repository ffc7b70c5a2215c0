"""`explain`: one stored value, read aloud."""

import argparse
from dataclasses import replace

from lean_tumbler.cli.options import (
    add_policy_option,
    add_report_options,
    chosen_store,
    column_of,
    keys_of,
    opened_store,
    policy_path,
    read_bounds,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

EXAMPLE = """\
  lean-tumbler explain                    asks for the value, and shows it nowhere
  lean-tumbler explain < value.txt
  lean-tumbler explain '$2b$05$Bj71jXIzxD43Uq3VTt1rmucdgFNf2XOvkkyAq5vWOAlifqILUBgde'
  lean-tumbler explain --store passengers --account 17      a row of a store, and why"""

_VALUE_BYTES = 1 << 20
_SEEN = (
    "lean-tumbler explain: others on this machine can read an argument, and the shell keeps it; "
    "without one the value is asked for"
)


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument(
        "value",
        metavar="VALUE",
        nargs="?",
        help="the stored value; without it, or as -, it is asked for or read from standard input",
    )
    parser.add_argument(
        "--store", metavar="NAME", help="explain an account of this store of the policy"
    )
    parser.add_argument(
        "--account", metavar="KEY", help="the key of its row; the value is never shown"
    )
    parser.add_argument(
        "--salted", action="store_true", help="a salt stands in a column beside the value"
    )
    add_policy_option(parser)
    add_report_options(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    if (arguments.store is None) is not (arguments.account is None):
        raise UsageError("--store and --account go together: the store, and the key of its row")
    if arguments.value is not None and arguments.account is not None:
        raise UsageError("give a stored value, or an account with --store and --account; not both")
    return _account(arguments, session) if arguments.account else _value_alone(arguments, session)


def _account(arguments: argparse.Namespace, session: Session) -> int:
    from lean_tumbler.operations.explaining import explain_account
    from lean_tumbler.reports.explain_account import draw_explain_account, explain_account_document
    from lean_tumbler.stores.evidence_file import EvidenceFile

    policy = read_policy(arguments)
    store_policy = chosen_store(policy, arguments.store)
    with opened_store(arguments, store_policy) as store:
        found = explain_account(
            store,
            arguments.account,
            store_policy=store_policy,
            policy=policy,
            evidence=EvidenceFile.beside(policy_path(arguments)).read(),
            column=column_of(arguments, policy, store_policy),
            keys=keys_of(arguments, policy),
        )
    session.emit(
        arguments,
        document=lambda: explain_account_document(found),
        draw=lambda console: draw_explain_account(console, found),
    )
    return 0


def _value_alone(arguments: argparse.Namespace, session: Session) -> int:
    from lean_tumbler.core.grades import grade
    from lean_tumbler.core.limits import over_limits
    from lean_tumbler.core.schemes.catalogue import read_value
    from lean_tumbler.reports.explain import explain_document, explain_text

    parsed = read_value(_value(arguments, session))
    salted = parsed.salted or arguments.salted
    floor, limits = read_bounds(arguments)
    found = grade(parsed, floor, salted=salted)
    asked = over_limits(parsed, limits)
    if asked:
        note = f"It asks for {asked}: a login with it is refused and not run."
        contents = replace(parsed.contents, notes=(*parsed.contents.notes, note))
        parsed = replace(parsed, contents=contents)
    session.emit(
        arguments,
        document=lambda: explain_document(parsed, found, salted=salted),
        text=lambda columns: explain_text(columns, parsed, found, salted=salted),
    )
    return 0


def _value(arguments: argparse.Namespace, session: Session) -> str:
    if arguments.value not in {None, "-"}:
        session.message(_SEEN)
        return str(arguments.value)
    if session.stdin.isatty():
        import getpass

        return getpass.getpass("Stored value: ")
    raw = session.stdin.read(_VALUE_BYTES + 1)
    if not raw and arguments.value is None:
        raise UsageError("standard input: no value; give one there, as an argument, or an account")
    if len(raw) > _VALUE_BYTES:
        raise UsageError(f"standard input: longer than {_VALUE_BYTES:,} bytes; give one value")
    try:
        return raw.decode("utf-8").removesuffix("\n").removesuffix("\r")
    except UnicodeDecodeError as error:
        raise UsageError(f"standard input: not UTF-8 at byte {error.start}") from None
