"""Why one account of a store is read as it is, and what each step would do with it."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from lean_tumbler.core.gateway import store_reader
from lean_tumbler.core.grades import Grade, grade
from lean_tumbler.core.layering import RowPlan, plan_row
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.evidence import CohortKey, Evidence, Proof
from lean_tumbler.core.reading.reader import Reading, State
from lean_tumbler.core.reading.survey import Column
from lean_tumbler.core.reading.ways import FormulaWay, PasswordWay
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.interface import Account, AccountKey, Store


@dataclass(frozen=True, slots=True, kw_only=True)
class CohortSeen:
    """One cohort of the policy, as far as one row is concerned.

    Attributes:
        name: the cohort's.
        condition: in words of the policy; empty where it has none.
        tests: each test of it, and whether it holds.
        holds: whether all do.
        fits: whether the text can have been made so.
    """

    name: str
    condition: str
    tests: Sequence[tuple[str, bool]]
    holds: bool
    fits: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class ExplainedAccount:
    """One account explained; the value itself is not in it.

    Attributes:
        key: of the row.
        reading: what it is.
        grade: how well it protects.
        cohorts: those of the policy, one by one.
        plan: what bulk layering would do.
        proof: what evidence says of its cohort; None where none is needed.
        at_login: what a right login would do.
    """

    store: str
    key: AccountKey
    reading: Reading
    grade: Grade
    cohorts: Sequence[CohortSeen]
    plan: RowPlan
    proof: Proof | None
    at_login: str


def explain_account(
    store: Store,
    key: str,
    *,
    store_policy: StorePolicy,
    policy: StoragePolicy,
    evidence: Evidence,
    column: Callable[[], Column],
    keys: dict[str, bytes],
) -> ExplainedAccount:
    """Explain one account of a store.

    Args:
        store: opened to read.
        key: the account's key, as text.
        store_policy: its cohorts.
        policy: target and floor.
        evidence: what is known of cohorts.
        column: gives what a survey says of the column.
        keys: the legacy system's.

    Raises:
        UsageError: the store has no such account.
        SourceError: it cannot be read.
    """
    account = store.find(key)
    if account is None:
        raise UsageError(f"{store.table}: no {store.row_word} has the key that --account names")
    reader = store_reader(policy, store_policy, keys=keys, column=column)
    reading = reader.read(account.row)
    plan = plan_row(reading, policy)
    proof = None
    if plan.leave is None and plan.needs_proof:
        proof = evidence.judged(CohortKey(store_policy.name, plan.cohort, plan.identity))
    return ExplainedAccount(
        store=store_policy.name,
        key=account.key,
        reading=reading,
        grade=_grade(reading, policy),
        cohorts=[_seen(cohort_number, store_policy, reading, account)
                 for cohort_number in range(len(store_policy.cohorts))],
        plan=plan,
        proof=proof,
        at_login=_at_login(reading, store_policy, policy),
    )  # fmt: skip


def _grade(reading: Reading, policy: StoragePolicy) -> Grade:
    """Grade a row by its ways; one that nobody understands is graded by its text."""
    if any(isinstance(way, PasswordWay) for way in reading.ways):
        return Grade.READABLE
    formulas = [way.formula for way in reading.ways if isinstance(way, FormulaWay)]
    if formulas and reading.state is State.VALUE:
        salted = all(formula.takes_salt or formula.takes_login for formula in formulas)
        return Grade.FAST_SALTED if salted else Grade.FAST_UNSALTED
    return grade(reading.parsed, policy.floor, salted=reading.parsed.salted)


def _seen(number: int, store: StorePolicy, reading: Reading, account: Account) -> CohortSeen:
    cohort = store.cohorts[number]
    tests = cohort.condition.tests if cohort.condition else ()
    return CohortSeen(
        name=cohort.name,
        condition=str(cohort.condition) if cohort.condition else "",
        tests=[(str(test), test.of(account.row)) for test in tests],
        holds=cohort.holds(account.row),
        fits=any(way.name == cohort.name for way in reading.ways),
    )


def _at_login(reading: Reading, store: StorePolicy, policy: StoragePolicy) -> str:
    """Say what a login with the right password would do."""
    if not reading.ways:
        return "no password opens it"
    if store.mode == "observe":
        return "is checked and left: the store observes"
    current = grade(reading.parsed, policy.floor, salted=True) is Grade.CURRENT
    if reading.parsed.kind is Kind.DERIVATION and current:
        return "is checked; it is rewritten only where the target is stronger, or another scheme"
    if any(way.lossy for way in reading.ways) and not store.replace_lossy:
        return "is checked and left: other passwords open it too (replace_lossy = false)"
    if any(isinstance(way, PasswordWay) for way in reading.ways):
        return f"is compared with the password itself, and replaced by {policy.target.scheme}"
    return f"is checked, and replaced by {policy.target.scheme}"
