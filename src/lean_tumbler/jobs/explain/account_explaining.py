"""Why an account of a store is read as it is, and what each step would do with it."""

from collections.abc import Callable, Mapping, Sequence

from msgspec import Struct

from lean_tumbler.core.grades import Grade
from lean_tumbler.core.masked import Masked
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.grading import grade_of
from lean_tumbler.core.reading.of_stores import bounds_of, store_reader
from lean_tumbler.core.reading.readings import Reading
from lean_tumbler.core.reading.survey import Column
from lean_tumbler.core.reading.under_keys import goes_under_key
from lean_tumbler.core.reading.ways import (
    PasswordWay,
)
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.row_plans import RowPlan, plan_row
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.warrant import Step, Warrant
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.interface import Account, AccountKey, HasOrder, LoginStore
from lean_tumbler.stores.scans.verification import (
    Beside,
    CheckedAccount,
    check_row,
)

_ROWS_BESIDE = 10  # before an account, and behind it


class CohortSeen(Struct, frozen=True, kw_only=True):
    """One cohort of the policy, as far as one row is concerned."""

    name: str  # the cohort's
    condition: str  # in words of the policy; empty where it has none
    tests: Sequence[tuple[str, bool]]  # each test of it, and whether it holds
    holds: bool  # whether all do
    fits: bool  # whether the text can have been made so


class ExplainedAccount(Struct, frozen=True, kw_only=True):
    """One account explained; the value itself is not in it."""

    store: str
    key: AccountKey  # of the row
    reading: Reading  # what it is
    grade: Grade  # how well it protects
    cohorts: Sequence[CohortSeen]  # those of the policy, one by one
    plan: RowPlan  # what bulk layering would do
    left: Mapping[Step, Reason | None]  # step -> why it leaves the row; None where it may write it
    at_login: str  # what a right login would do
    checked: CheckedAccount | None = None


def explain_account(
    account: Account,  # of the store
    *,
    store_policy: StorePolicy,  # its cohorts
    policy: StoragePolicy,  # target and floor
    warrants: Sequence[Warrant],  # of the steps that may write the row
    column: Callable[[], Column],  # gives what a survey says of the column
    password: Masked[str] | None = None,  # to be checked against it; None for none
    beside: Beside | None = None,  # where it is tried too, where it does not open the row
) -> ExplainedAccount:
    """Explain one account of a store.

    Raises:
        SourceError: the store's column cannot be read.
    """
    reader = store_reader(policy, store_policy, column=column)
    reading = reader.read(account.row)
    plan = plan_row(reading, policy)
    checked = None
    if password is not None:
        bounds = bounds_of(policy)
        checked = check_row(
            account.row, login=account.login or "", password=password, reader=reader, bounds=bounds,
            beside=beside,
        )  # fmt: skip
    left = {warrant.step: _left(warrant, plan, account) for warrant in warrants}
    return ExplainedAccount(
        store=store_policy.name,
        key=account.key,
        reading=reading,
        grade=grade_of(reading, policy.floor, salt=account.salt),
        cohorts=[_seen(cohort_number, store_policy, reading, account)
                 for cohort_number in range(len(store_policy.cohorts))],
        plan=plan,
        left=left,
        at_login=_at_login(reading, store_policy, policy, left[Step.LOGIN]),
        checked=checked,
    )  # fmt: skip


def beside(store: LoginStore, account: Account, clock: Callable[[], float]) -> Beside | None:
    """Give the rows beside an account; None where rows have no order.

    Raises:
        SourceError: the store cannot be read.
    """
    if not isinstance(store, HasOrder):
        return None
    near = store.beside(account.key, _ROWS_BESIDE)
    return Beside(rows=[each.row for each in near], clock=clock)


def accounts_of(
    store: LoginStore, *, key: str | None, login: str | None, newest: int | None
) -> Sequence[Account]:
    """Find the accounts that are meant: by the key of a row, by a login, or the newest rows.

    Raises:
        UsageError: there is none, or several have the login.
        SourceError: the store cannot be read.
    """
    if newest is None:
        return [_account_of(store, key=key, login=login)]
    if not isinstance(store, HasOrder):
        raise UsageError(f"{store.table}: its entries have no order; try --account or --login")
    found = store.newest(newest)
    if not found:
        raise UsageError(f"{store.table}: it has no rows")
    return found


def _account_of(store: LoginStore, *, key: str | None, login: str | None) -> Account:
    if key is not None:
        account = store.find(key)
        if account is None:
            raise UsageError(
                f"{store.table}: no {store.key_label} has the key that --account names"
            )
        return account
    found = store.fetch(login or "")
    if len(found) != 1:
        problem = "several rows have" if found else f"no {store.key_label} has"
        raise UsageError(f"{store.table}: {problem} the login that --login names; try --account")
    return found[0]


def _seen(number: int, store: StorePolicy, reading: Reading, account: Account) -> CohortSeen:
    cohort = store.cohorts[number]
    tests = tuple(cohort.condition.tests) if cohort.condition else ()
    return CohortSeen(
        name=cohort.name,
        condition=str(cohort.condition) if cohort.condition else "",
        tests=[(str(test), test.holds(account.row)) for test in tests],
        holds=cohort.holds(account.row),
        fits=any(way.name == cohort.name for way in reading.ways),
    )


def _left(warrant: Warrant, plan: RowPlan, account: Account) -> Reason | None:
    """Say why a step leaves a row; None where it may write it."""
    reason = warrant.of_step() or warrant.of_row(account.facts)
    if reason is None and warrant.step is Step.LAYER:
        reason = plan.leave or warrant.of_plan(plan, account.facts)
    return reason


def _at_login(
    reading: Reading, store: StorePolicy, policy: StoragePolicy, left: Reason | None
) -> str:
    """Say what a login with the right password would do."""
    if reading.closed is not None and reading.closed.is_the_operators:
        return f"cannot be checked (503): {reading.closed}"
    if not reading.ways:
        return "no password opens it"
    if left is Reason.LOGIN_REPEATED:
        return f"is refused: {left}"
    if left is not None:
        return f"is checked and left: {left}"
    under_key = goes_under_key(reading, policy.keyring)
    moves = f"is checked, and goes under the key “{policy.target.keyed_by}” as it is"
    is_clean = reading.parsed.kind is Kind.DERIVATION and not reading.parsed.wrappers
    prepared = any(getattr(way, "before", None) for way in reading.ways)
    if is_clean and not prepared and policy.leaves(reading.parsed):
        return moves if under_key else "is checked and left: it is as strong as the target"
    if any(way.lossy for way in reading.ways) and not store.replace_lossy:
        left_as_it_is = "is checked and left: other passwords open it too (replace_lossy = false)"
        return moves if under_key else left_as_it_is
    if any(isinstance(way, PasswordWay) for way in reading.ways):
        return f"is compared with the password itself, and replaced by {policy.target.scheme}"
    return f"is checked, and replaced by {policy.target.scheme}"
