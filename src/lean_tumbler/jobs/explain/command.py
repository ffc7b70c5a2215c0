"""`explain`: one stored value, read aloud."""

import time
from dataclasses import dataclass
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import argument, flag, option
from lean_tumbler.cli.option_types import ReportOptions, StoreOptions
from lean_tumbler.cli.options import (
    chosen_store,
    column_of,
    opened_store,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from lean_tumbler.core.masked import Masked
    from lean_tumbler.core.policy import StoragePolicy

EXAMPLE = """\
  lean-tumbler explain                    asks for the value, and shows it nowhere
  lean-tumbler explain < value.txt
  lean-tumbler explain '$2b$05$Bj71jXIzxD43Uq3VTt1rmucdgFNf2XOvkkyAq5vWOAlifqILUBgde'
  lean-tumbler explain --check            asks for the value and for one password
  lean-tumbler explain --store passengers --account 17      a row of a store, and why
  lean-tumbler explain --store passengers --newest 3        the rows written last
  lean-tumbler explain --store passengers --login ada@coldharbour.example --check"""

_VALUE_BYTES = 1 << 20
_SEEN = (
    "lean-tumbler explain: others on this machine can read an argument, and the shell keeps it; "
    "without one the value is asked for"
)


@dataclass(frozen=True, kw_only=True)
class Options(StoreOptions, ReportOptions):
    """What the command was asked for."""

    value: str | None = argument(
        "VALUE",
        "the stored value; without it, or as -, it is asked for or read from standard input",
    )
    account: str | None = option("KEY", "the key of its row; the value is never shown")
    login: str | None = option("NAME", "or its login")
    newest: int | None = option(
        "N", "or the rows that were written last: one, or N of them", bare=1
    )
    salted: bool = flag("there is a salt in a column beside the value")
    check: bool = flag(
        "ask for one password, and say whether it opens; from standard input it is the line "
        "after the value"
    )
    show_values: bool = flag("show its parts, salt and digest too")
    store: str | None = option("NAME", "explain an account of this store of the policy")


def run(options: Options, session: Session) -> int:
    """Run the command."""
    named = [options.account, options.login, options.newest]
    of_account = options.store is not None or any(name is not None for name in named)
    if of_account and named.count(None) != len(named) - 1:
        raise UsageError("for an account give one of --account, --login and --newest")
    if options.value is not None and of_account:
        raise UsageError("give a stored value or an account, not both")
    if of_account and options.show_values:
        raise UsageError("--show-values is for a value; of an account none is ever shown")
    return (_account if of_account else _value_alone)(options, session)


def _account(options: Options, session: Session) -> int:
    from lean_tumbler.cli.bulk import step_warrant
    from lean_tumbler.core.warrant import Step
    from lean_tumbler.jobs.explain.account_explaining import (
        accounts_of,
        beside,
        explain_account,
    )
    from lean_tumbler.jobs.explain.account_report import (
        draw_explain_account,
        explain_account_document,
    )

    policy = read_policy(options)
    store_policy = chosen_store(policy, options.store)
    password = _password(options, policy, session)
    with opened_store(options, store_policy) as store:
        warrants = [
            step_warrant(options, session, step, store, (policy, store_policy)) for step in Step
        ]
        found = [
            explain_account(
                account,
                store_policy=store_policy,
                policy=policy,
                warrants=warrants,
                column=column_of(options, policy, store_policy),
                password=password,
                beside=beside(store, account, time.monotonic) if password else None,
            )
            for account in accounts_of(
                store, key=options.account, login=options.login, newest=options.newest
            )
        ]
    for each in found:
        session.emit(options, explain_account_document(each), draw=draw_explain_account)
    return int(any(each.checked is not None and not each.checked.accepted for each in found))


def _value_alone(options: Options, session: Session) -> int:
    from lean_tumbler.jobs.explain.explain_report import explain_document, explain_text
    from lean_tumbler.jobs.explain.value_explaining import explain_value

    policy = read_policy(options, required=False)
    value = _value(options, session)
    found = explain_value(
        value,
        policy=policy,
        salted=options.salted,
        clock=time.perf_counter,
        password=_password(options, policy, session),
    )
    shown = options.show_values
    session.emit(
        options,
        explain_document(found, show_values=shown),
        text=lambda _, columns: explain_text(columns, found, show_values=shown),
    )
    return int(found.checked is not None and not found.checked.accepted)


def _password(options: Options, policy: "StoragePolicy", session: Session) -> "Masked[str] | None":
    from lean_tumbler.core.masked import Masked

    return Masked(session.read_password(policy.limits)) if options.check else None


def _value(options: Options, session: Session) -> str:
    if options.value not in {None, "-"}:
        session.message(_SEEN)
        return str(options.value)
    if session.stdin.isatty():
        import getpass

        return getpass.getpass("Stored value: ")
    # With --check the password is the line after it.
    read = session.stdin.readline if options.check else session.stdin.read
    raw = read(_VALUE_BYTES + 1)
    if not raw and options.value is None:
        raise UsageError("standard input: no value; give one there, as an argument, or an account")
    if len(raw) > _VALUE_BYTES:
        raise UsageError(f"standard input: longer than {_VALUE_BYTES:,} bytes; give one value")
    try:
        return raw.decode("utf-8").removesuffix("\n").removesuffix("\r")
    except UnicodeDecodeError as error:
        raise UsageError(f"standard input: not UTF-8 at byte {error.start}") from None
