"""What bulk layering does with one row. A row is always parsed in full: never guessed."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from types import MappingProxyType

from lean_tumbler.core import layered
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.grades import Grade, grade
from lean_tumbler.core.passwords import require_storable
from lean_tumbler.core.policy import NamedFormula, StoragePolicy, StorePolicy, Target
from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import Kind, Parameters, ParsedValue
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, read_value
from lean_tumbler.errors import PasswordRefused


class Leave(StrEnum):
    """Why a row is left as it is."""

    NO_VALUE = "no value"
    UNREADABLE = "not UTF-8 text"
    SAFE = "already layered, current or locked"
    UNKNOWN = "not understood"
    NO_FORMULA = "no formula of the policy fits"
    AMBIGUOUS = "more than one formula fits; replaced at login"
    PLAIN_TEXT_NOT_ACCEPTED = "plain text, and accept_plain_text is false"
    NOT_STORABLE = "a password that no new value can be made of"
    MAYBE_PLAIN_TEXT = "a scheme or plain text; replaced at login"
    LAYER_TOO_WEAK = "layered below the floor; replaced at login"


@dataclass(frozen=True, slots=True, kw_only=True)
class RowPlan:
    """One row's part in the bulk step.

    Exactly one is set: `leave`, `plain` (known password: written as current at once), or
    `legacy_digest` with its origin. `cohort` names what the row holds: a scheme, a formula of the
    policy, or `plain-text`. `costs` and `formula` say what a guess at it takes.
    """

    leave: Leave | None = None
    cohort: str = ""
    costs: Parameters = field(default_factory=dict)
    formula: str = ""
    plain: bytes | None = field(default=None, repr=False)
    origin: str = ""
    legacy_digest: str = field(default="", repr=False)
    salt: bytes | None = field(default=None, repr=False)
    login: bytes | None = field(default=None, repr=False)


def plan_row(
    stored: bytes | None,
    *,
    salt: bytes | None,
    login: str | None,
    store: StorePolicy,
    policy: StoragePolicy,
    keys: Mapping[str, bytes] = MappingProxyType({}),
) -> RowPlan:
    """Decide what bulk layering does with one row.

    Args:
        stored: the raw stored value.
        salt: the raw salt column.
        login: the row's login.
        store: its formulas and options.
        policy: floor and limits.
        keys: the legacy system's, for a store whose values are encrypted.

    Raises:
        CheckImpossible: a key that the store needs is not there, or of a wrong length.
    """
    if not stored:
        return RowPlan(leave=Leave.NO_VALUE)
    try:
        text = stored.decode("utf-8")
    except UnicodeDecodeError:
        return RowPlan(leave=Leave.UNREADABLE)
    parsed = read_value(text)
    if parsed.kind is Kind.LAYERED:
        weak = grade(parsed, policy.floor, salted=True) is Grade.OUTDATED
        return RowPlan(leave=Leave.LAYER_TOO_WEAK if weak else Leave.SAFE)
    if parsed.kind is Kind.LOCKED:
        return RowPlan(leave=Leave.SAFE)
    if parsed.kind is Kind.DERIVATION:
        return _plan_derivation(parsed, policy)
    if parsed.kind is Kind.ITERATED:
        return _plan_setting_scheme(parsed, store)
    if store.decryption is not None:
        opened = store.decryption.password_of(text, keys)
        if opened is not None:
            return _plan_password(opened, "decryptable", policy)
    return _plan_bare(text, parsed, salt, login, store, policy)


def _plan_bare(
    text: str,
    parsed: ParsedValue,
    salt: bytes | None,
    login: str | None,
    store: StorePolicy,
    policy: StoragePolicy,
) -> RowPlan:
    """Decide about a value that does not say by itself how it came about."""
    if parsed.kind is Kind.FAST and parsed.salt is not None:
        salt = parsed.salt  # a salt that stands in the value wins over a column
    printed = parsed.formula_text(text)
    fitting = [named for named in store.formulas if named.fits(printed, salt=salt)]
    if fitting:
        return _plan_formula(printed, fitting, salt, login)
    if parsed.scheme == "plain-text":
        return _plan_plain_text(text, store, policy)
    return RowPlan(leave=Leave.UNKNOWN if parsed.kind is Kind.UNKNOWN else Leave.NO_FORMULA)


def _plan_derivation(parsed: ParsedValue, policy: StoragePolicy) -> RowPlan:
    derivation = DERIVATIONS[parsed.scheme]
    if grade(parsed, policy.floor, salted=True) is Grade.CURRENT:
        return RowPlan(leave=Leave.SAFE)
    return RowPlan(
        cohort=parsed.scheme,
        costs=parsed.parameters,
        origin=parsed.scheme,
        legacy_digest=derivation.whole_text(parsed.contents.setting, parsed.digest),
        salt=parsed.contents.setting.encode("ascii"),
    )


def _plan_setting_scheme(parsed: ParsedValue, store: StorePolicy) -> RowPlan:
    if store.accept_plain_text and "plain-text" in parsed.contents.also_possible:
        return RowPlan(leave=Leave.MAYBE_PLAIN_TEXT)
    return RowPlan(
        cohort=parsed.scheme,
        costs=parsed.parameters,
        origin=parsed.scheme,
        legacy_digest=parsed.contents.whole,
        salt=parsed.contents.setting.encode("utf-8"),
    )


def _plan_formula(
    text: str, fitting: list[NamedFormula], salt: bytes | None, login: str | None
) -> RowPlan:
    if len(fitting) > 1:
        return RowPlan(leave=Leave.AMBIGUOUS)
    named = fitting[0]
    canonical = named.output.canonical(text)
    if canonical is None or (named.takes_login and not login):
        return RowPlan(leave=Leave.NO_FORMULA)
    return RowPlan(
        cohort=named.name,
        formula=notation.write(named.formula),
        origin=named.fingerprint,
        legacy_digest=canonical,
        salt=salt if named.takes_salt else None,
        login=login.encode("utf-8") if login and named.takes_login else None,
    )


def _plan_plain_text(text: str, store: StorePolicy, policy: StoragePolicy) -> RowPlan:
    if not store.accept_plain_text:
        return RowPlan(leave=Leave.PLAIN_TEXT_NOT_ACCEPTED)
    return _plan_password(text, "plain-text", policy)


def _plan_password(password: str, cohort: str, policy: StoragePolicy) -> RowPlan:
    try:
        raw = require_storable(password, limits=policy.limits, target=policy.target)
    except PasswordRefused:
        return RowPlan(leave=Leave.NOT_STORABLE)
    return RowPlan(cohort=cohort, plain=raw)


@dataclass(frozen=True, slots=True, kw_only=True)
class DerivationTask:
    """What one derivation takes, by values alone, so that another machine can run it."""

    scheme: str
    parameters: dict[str, int]
    fresh_salt: bytes = field(repr=False)
    plain: bytes | None = field(default=None, repr=False)
    origin: str = ""
    legacy_digest: str = field(default="", repr=False)
    salt: bytes | None = field(default=None, repr=False)
    login: bytes | None = field(default=None, repr=False)


def task_of(plan: RowPlan, target: Target, randomness: Callable[[int], bytes]) -> DerivationTask:
    """Say what is to be derived for a row, with a fresh salt."""
    return DerivationTask(
        scheme=target.scheme,
        parameters=dict(target.parameters),
        fresh_salt=randomness(target.derivation.salt_bytes),
        plain=plan.plain,
        origin=plan.origin,
        legacy_digest=plan.legacy_digest,
        salt=plan.salt,
        login=plan.login,
    )


def derived(task: DerivationTask) -> str:
    """Compute what a row is to hold: one derivation."""
    derivation = DERIVATIONS[task.scheme]
    if task.plain is not None:
        return derivation.create(task.plain, task.fresh_salt, task.parameters)
    return layered.write(
        origin=task.origin,
        legacy_digest=task.legacy_digest,
        salt=task.salt,
        login=task.login,
        derivation=derivation,
        parameters=task.parameters,
        fresh_salt=task.fresh_salt,
    )


def new_value(plan: RowPlan, target: Target, randomness: Callable[[int], bytes]) -> str:
    """Compute what a row is to hold, here and now."""
    return derived(task_of(plan, target, randomness))


def characters_needed(target: Target) -> tuple[int, int]:
    """Say how wide a column must be: for a new value, and for a layered one.

    The layered one is taken with a salt of 16 bytes in its head and no login.
    """
    derivation = target.derivation
    lowest = {entry.name: entry.lowest for entry in derivation.parameters}
    direct = len(derivation.create(b"", bytes(derivation.salt_bytes), lowest))
    if not derivation.may_layer:  # bcrypt: of one length, whatever its cost
        return direct, direct
    # The costs stand in PHC strings as plain numbers; running the target itself would be slow.
    direct += sum(len(str(target.parameters[name])) - len(str(lowest[name])) for name in lowest)
    head = f"{layered.TAG}from={'0' * 16},salt={phc.encode(bytes(16))}"
    return direct, direct + len(head)
