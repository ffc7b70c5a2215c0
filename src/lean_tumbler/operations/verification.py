"""Checking accounts whose password is known, and saying what is near where it fails."""

from collections.abc import Sequence
from dataclasses import dataclass

from lean_tumbler.core.checking import Verdict, check
from lean_tumbler.core.formulas.analysis import digests_used
from lean_tumbler.core.formulas.evaluation import Inputs
from lean_tumbler.core.formulas.near_misses import changed_inputs, fits, near_miss, salted_formulas
from lean_tumbler.core.reading.evidence import CohortKey
from lean_tumbler.core.reading.reader import (
    BARE_FORMULAS,
    Reading,
    RowReader,
    State,
    digest_and_salt,
)
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.ways import Bounds, Certainty
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.errors import CheckImpossible
from lean_tumbler.stores.evidence_file import Tried
from lean_tumbler.stores.interface import Store
from lean_tumbler.stores.known_accounts import KnownAccount

_REFUSALS = {
    "locked": "the account is locked",
    "empty-value": "the stored value is empty",
    "not-understood": "no scheme and no formula fits what is stored",
    "undecodable": "the stored value is not UTF-8 text",
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Verification:
    """All known accounts, and what they show of cohorts.

    Attributes:
        accounts: one result each.
        tried: those of cohorts that need proof.
    """

    accounts: list[CheckedAccount]
    tried: list[Tried]


def verify_accounts(
    accounts: Sequence[KnownAccount],
    *,
    reader: RowReader,
    bounds: Bounds,
    store: Store | None = None,
    store_name: str = "",
) -> Verification:
    """Check known accounts, one by one.

    Args:
        accounts: whose passwords are known.
        reader: of their rows.
        bounds: limits and keys.
        store: where the stored values come from; None where they stand in the file.
        store_name: the policy's.
    """
    checked: list[CheckedAccount] = []
    tried: list[Tried] = []
    for account in accounts:
        row, problem = _row(account, store)
        if row is None:
            checked.append(_failed(account, problem))
            continue
        reading = reader.read(row)
        found = _checked(account, row, reading, reader, bounds)
        checked.append(found)
        if reading.state is State.VALUE and reading.certainty is not Certainty.SAID:
            key = CohortKey.of(store_name, reading)
            tried.append(Tried(key=key, login=account.login, right=found.accepted))
    return Verification(accounts=checked, tried=tried)


def _row(account: KnownAccount, store: Store | None) -> tuple[Row | None, str]:
    if store is None:
        stored = account.stored.reveal() if account.stored else ""
        others = {name: text.encode("utf-8") for name, text in account.others.items()}
        row = Row(
            stored=stored.encode("utf-8"), salt=account.salt, login=account.login, others=others
        )
        return row, ""
    found = store.fetch(account.login)
    if len(found) != 1:
        return None, "the login is not unique" if found else "the store has no such login"
    if found[0].stored is None:
        return None, "the account has no stored value"
    return found[0].row, ""


def _failed(account: KnownAccount, problem: str) -> CheckedAccount:
    return CheckedAccount(login=account.login, accepted=False, near_miss=problem)


def _checked(
    account: KnownAccount, row: Row, reading: Reading, reader: RowReader, bounds: Bounds
) -> CheckedAccount:
    try:
        verdict = check(reading, account.password.reveal(), bounds=bounds)
    except CheckImpossible as error:
        return _failed(account, str(error))
    origin = verdict.parsed.contents.origin
    formula = verdict.formula.name if verdict.formula else None
    below = formula or (verdict.way.name if verdict.way else origin)
    return CheckedAccount(
        login=account.login,
        accepted=verdict.accepted,
        scheme=verdict.scheme,
        layered_over=below if origin else None,
        formula=formula,
        form=verdict.form,
        near_miss="" if verdict.accepted else _near_miss(account, row, verdict, reader, bounds),
    )


def _near_miss(
    account: KnownAccount, row: Row, verdict: Verdict, reader: RowReader, bounds: Bounds
) -> str:
    explained = _REFUSALS.get(verdict.refusal, "")
    reading = verdict.reading
    if reading.doubt is not None and not reading.ways:
        explained = f"{explained or reading.doubt}"
    printed, salt = digest_and_salt(reading.parsed, reading.text, row.salt)
    inputs = Inputs(
        password=account.password.reveal(), salt=salt, login=account.login, keys=bounds.keys
    )
    if verdict.parsed.kind in {Kind.DERIVATION, Kind.LAYERED}:
        return explained or _near_derivation(reading, inputs, bounds)
    if verdict.parsed.kind not in {Kind.FAST, Kind.UNKNOWN}:
        return explained
    for named in reader.formulas or BARE_FORMULAS:
        found = near_miss(named.formula, printed, inputs)
        if found:
            return f"{named.name}: {found}"
    if salt is not None:
        names = [next(iter(digests_used(named.formula))) for named in BARE_FORMULAS]
        for text, formula in salted_formulas(names):
            if fits(formula, printed, inputs):
                return f"it fits the formula {text}"
    return explained


def _near_derivation(reading: Reading, inputs: Inputs, bounds: Bounds) -> str:
    for what, changed in changed_inputs(inputs):
        if changed.password == inputs.password:
            continue
        if check(reading, changed.password, bounds=bounds).accepted:
            return f"it fits {what}"
    return ""
