"""Checking accounts whose password is known, and saying what is near where it fails."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from lean_tumbler.core.checking import BARE_FORMULAS, Rules, Verdict, check
from lean_tumbler.core.formulas.evaluation import Inputs
from lean_tumbler.core.formulas.near_misses import changed_inputs, fits, near_miss, salted_formulas
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.errors import CheckImpossible
from lean_tumbler.stores.interface import Store
from lean_tumbler.stores.known_accounts import KnownAccount

_REFUSALS = {
    "locked": "the account is locked",
    "empty-value": "the stored value is empty",
    "not-understood": "no scheme and no formula fits what is stored",
    "wrong-password": "",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class CheckedAccount:
    """One known account's result.

    Attributes:
        layered_over: the formula or scheme below a layer.
        form: which form of the password fitted: as typed, nfc or nfd; empty where none did.
    """

    login: str
    accepted: bool
    scheme: str | None = None
    layered_over: str | None = None
    formula: str | None = None
    near_miss: str = ""
    form: str = ""


@dataclass(frozen=True, slots=True)
class _Row:
    stored: str
    salt: bytes | None


def verify_accounts(
    accounts: Sequence[KnownAccount], *, rules: Rules, store: Store | None = None
) -> Iterator[CheckedAccount]:
    """Check known accounts, one by one.

    Args:
        accounts: whose passwords are known.
        rules: formulas, limits and keys.
        store: where the stored values come from; None where they stand in the file.
    """
    for account in accounts:
        row, problem = _row(account, store)
        yield _checked(account, row, rules) if row else _failed(account, problem)


def _row(account: KnownAccount, store: Store | None) -> tuple[_Row | None, str]:
    if store is None:
        stored = account.stored.reveal() if account.stored else ""
        return _Row(stored, account.salt), ""
    found = store.fetch(account.login)
    if len(found) != 1:
        return None, "the login is not unique" if found else "the store has no such login"
    if found[0].stored is None:
        return None, "the account has no stored value"
    try:
        return _Row(found[0].stored.decode("utf-8"), found[0].salt), ""
    except UnicodeDecodeError:
        return None, "the stored value is not UTF-8 text"


def _failed(account: KnownAccount, problem: str) -> CheckedAccount:
    return CheckedAccount(login=account.login, accepted=False, near_miss=problem)


def _checked(account: KnownAccount, row: _Row, rules: Rules) -> CheckedAccount:
    password = account.password.reveal()
    try:
        verdict = check(row.stored, password, salt=row.salt, login=account.login, rules=rules)
    except CheckImpossible as error:
        return _failed(account, str(error))
    origin = verdict.parsed.contents.origin
    formula = verdict.formula.name if verdict.formula else None
    return CheckedAccount(
        login=account.login,
        accepted=verdict.accepted,
        scheme=verdict.scheme,
        layered_over=(formula or origin) if origin else None,
        formula=formula,
        form=verdict.form,
        near_miss="" if verdict.accepted else _near_miss(account, row, verdict, rules),
    )


def _near_miss(account: KnownAccount, row: _Row, verdict: Verdict, rules: Rules) -> str:
    explained = _REFUSALS.get(verdict.refusal, "")
    inputs = Inputs(
        password=account.password.reveal(), salt=row.salt, login=account.login, keys=rules.keys
    )
    if verdict.parsed.kind in {Kind.DERIVATION, Kind.LAYERED}:
        return explained or _near_derivation(row, inputs, rules)
    if verdict.parsed.kind not in {Kind.FAST, Kind.UNKNOWN}:
        return explained
    for named in rules.formulas or BARE_FORMULAS:
        found = near_miss(named.formula, row.stored, inputs)
        if found:
            return f"{named.name}: {found}"
    if row.salt is not None:
        names = [named.name for named in BARE_FORMULAS]
        for text, formula in salted_formulas(names):
            if fits(formula, row.stored, inputs):
                return f"it fits the formula {text}"
    return explained


def _near_derivation(row: _Row, inputs: Inputs, rules: Rules) -> str:
    for what, changed in changed_inputs(inputs):
        if changed.password == inputs.password:
            continue
        if check(row.stored, changed.password, login=inputs.login, rules=rules).accepted:
            return f"it fits {what}"
    return ""
