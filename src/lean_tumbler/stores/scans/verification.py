"""Checking accounts whose password is known, and saying what is near where it fails."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from types import MappingProxyType

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.formulas.analysis import digests_used
from lean_tumbler.core.formulas.evaluation import Inputs
from lean_tumbler.core.formulas.near_misses import changed_inputs, fits, near_miss, salted_formulas
from lean_tumbler.core.login.checking import Verdict, check, is_opened
from lean_tumbler.core.masked import Masked
from lean_tumbler.core.reading.evidence import CohortKey, RowFacts
from lean_tumbler.core.reading.fitting_ways import digest_and_salt
from lean_tumbler.core.reading.reader import BARE_FORMULAS, RowReader
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.core.reading.slow_misses import SlowMisses
from lean_tumbler.core.reading.ways import Bounds, Certainty, CryptWay, DerivationWay, Way
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes.catalogue import stored_value_scheme
from lean_tumbler.errors import CheckImpossible
from lean_tumbler.stores.evidence_file import CohortTrial
from lean_tumbler.stores.interface import LoginStore
from lean_tumbler.stores.known_accounts import KnownAccount

_BESIDE_SECONDS = 5.0
_NO_SUCH_LOGIN = "the store has no such login"
_REFUSALS = {
    "locked": "the account is locked",
    "empty-value": "the stored value is empty",
    "not-understood": "no scheme and no formula fits what is stored",
    "remnant": "a failed write left the stored value: no password opens it, reset the account",
    "wrong-password": "",
}


class CheckedAccount(MaskedRecord, Struct, frozen=True, kw_only=True, dict=True):
    """One known account's result."""

    login: str
    accepted: bool
    is_there: bool = True  # whether a row of it was read
    scheme: str | None = None
    layered_over: str | None = None  # the formula or scheme below a layer
    formula: str | None = None
    form: str = ""  # which form of the password fitted: as typed, nfc or nfd; empty where none did
    # says what is near where it fails; that takes its time
    look_near: Hidden[Callable[[], str]] = str

    @cached_property
    def near_miss(self) -> str:
        """What is near where it fails, as a sentence; empty where it is accepted."""
        return self.look_near()


class Verification(Struct, frozen=True, kw_only=True):
    """All known accounts, and what they show of cohorts."""

    accounts: Sequence[CheckedAccount] = ()  # one result each
    # what each shows of a cohort; None for one that shows nothing
    trials: Sequence[CohortTrial | None] = ()

    @property
    def tried(self) -> list[CohortTrial]:
        """What those show who show something."""
        return [trial for trial in self.trials if trial is not None]


def attributed(found: Mapping[str, Verification]) -> dict[str, Verification]:
    """Say what known accounts show of several stores in which the same logins may stand.

    An account counts where its password opens a row. One that opens none counts as refused
    where its login stands in one store alone; in several, nobody says which row it is of.

    Args:
        found: by store, of the same known accounts.
    """
    tried_in = [sum(trial is not None for trial in each) for each in _by_account(found)]
    opens = [any(trial and trial.right for trial in each) for each in _by_account(found)]

    def counts(place: int, trial: CohortTrial | None) -> bool:
        return trial is not None and (trial.right or (not opens[place] and tried_in[place] == 1))

    return {
        name: replace(
            each,
            trials=[t if counts(place, t) else None for place, t in enumerate(each.trials)],
        )
        for name, each in found.items()
    }


def _by_account(found: Mapping[str, Verification]) -> Iterator[tuple[CohortTrial | None, ...]]:
    return zip(*(each.trials for each in found.values()), strict=True)


def best_of(found: Mapping[str, Verification]) -> list[CheckedAccount]:
    """Give the best result of each known account in several stores."""
    each_place = zip(*(each.accounts for each in found.values()), strict=True)
    return [max(results, key=_how_near) for results in each_place]


def _how_near(checked: CheckedAccount) -> tuple[bool, bool]:
    return checked.accepted, checked.is_there


def verify_accounts(
    accounts: Sequence[KnownAccount],  # whose passwords are known
    *,
    reader: RowReader,  # of their rows
    bounds: Bounds,  # limits and keys
    # where the stored values come from; None where they stand in the file
    store: LoginStore | None = None,
    store_name: str = "",  # the policy's
    # login -> its stored value in an older dump, to tell what was hashed twice
    earlier: Mapping[str, str] = MappingProxyType({}),
) -> Verification:
    """Check known accounts, one by one."""
    misses = _NearMisses(reader, bounds, earlier)
    checked: list[CheckedAccount] = []
    trials: list[CohortTrial | None] = []
    for account in accounts:
        row, facts, problem = _row(account, store)
        if row is None:
            checked.append(_failed(account, problem, is_there=False))
            trials.append(None)
            continue
        reading = reader.read(row)
        verdict = _verdict(reading, account, bounds)
        found = _checked(account, row, verdict, misses)
        checked.append(found)
        trials.append(
            CohortTrial(
                store=store_name,
                key=cohort_shown(store_name, reading),
                login=account.login,
                right=found.accepted,
                ruled_out=verdict.ruled_out if isinstance(verdict, Verdict) else frozenset(),
                row=facts,
            )
        )
    return Verification(accounts=checked, trials=trials)


class Beside(Struct, frozen=True, kw_only=True):
    """Rows beside one, on which its password is tried for some seconds."""

    rows: Sequence[Row]
    clock: Callable[[], float]  # seconds, monotonic

    def opened(self, reader: RowReader, password: str, bounds: Bounds) -> bool:
        """Tell whether it opens one of them."""
        until = self.clock() + _BESIDE_SECONDS
        return any(
            is_opened(reader.read(row), password, bounds=bounds)
            for row in self.rows
            if self.clock() < until
        )


def check_row(
    row: Row,
    *,
    login: str,
    password: Masked[str],
    reader: RowReader,
    bounds: Bounds,
    beside: Beside | None = None,
) -> CheckedAccount:
    """Check one row with a known password, and say what is near where it fails."""
    known = KnownAccount(line=0, login=login, password=password)
    misses = _NearMisses(reader, bounds, {})
    checked = _checked(known, row, _verdict(reader.read(row), known, bounds), misses)

    def near() -> str:
        if beside is not None and beside.opened(reader, password.reveal(), bounds):
            return (
                "it opens the row of another account nearby: were two rows exchanged, or was the "
                "other one meant?"
            )
        return checked.look_near()

    return checked if checked.accepted else replace(checked, look_near=near)


def cohort_shown(store: str, reading: Reading) -> CohortKey | None:
    """Say of which cohort a row shows something; None where it says itself how it was made."""
    if reading.state is not State.VALUE or reading.certainty is Certainty.SAID:
        return None
    return CohortKey.of(store, reading)


def _row(
    account: KnownAccount, store: LoginStore | None
) -> tuple[Row | None, RowFacts | None, str]:
    if store is None:
        stored = account.stored.reveal() if account.stored else ""
        others = {name: text.encode("utf-8") for name, text in account.others.items()}
        row = Row(
            stored=stored.encode("utf-8"), salt=account.salt, login=account.login, others=others
        )
        return row, None, ""
    found = store.fetch(account.login)
    if len(found) != 1:
        return None, None, "the login is not unique" if found else _NO_SUCH_LOGIN
    if found[0].stored is None:
        return None, None, "the account has no stored value"
    return found[0].row, found[0].facts, ""


def _failed(account: KnownAccount, problem: str, *, is_there: bool = True) -> CheckedAccount:
    return CheckedAccount(
        login=account.login, accepted=False, is_there=is_there, look_near=lambda: problem
    )


def _verdict(reading: Reading, account: KnownAccount, bounds: Bounds) -> Verdict | str:
    """Check a known password; give the reason where the row cannot be checked."""
    try:
        return check(reading, account.password.reveal(), bounds=bounds)
    except CheckImpossible as error:
        return str(error)


def _checked(
    account: KnownAccount, row: Row, verdict: Verdict | str, misses: "_NearMisses"
) -> CheckedAccount:
    if isinstance(verdict, str):
        return _failed(account, verdict)
    origin = verdict.parsed.contents.origin
    formula = verdict.formula.name if verdict.formula else _prepared_by(verdict.way)
    below = formula or (verdict.way.name if verdict.way else origin)
    return CheckedAccount(
        login=account.login,
        accepted=verdict.accepted,
        scheme=verdict.scheme,
        layered_over=below if origin else None,
        formula=formula,
        form=verdict.form,
        look_near=lambda: "" if verdict.accepted else misses.of(account, row, verdict),
    )


def _prepared_by(way: Way | None) -> str | None:
    """Name the formula that a password went through before a slow scheme took it."""
    before = way.before if isinstance(way, DerivationWay | CryptWay) else None
    return before.formula.name if before else None


class _NearMisses:
    """Says what is near where a known password fails, or what would tell."""

    def __init__(self, reader: RowReader, bounds: Bounds, earlier: Mapping[str, str]) -> None:
        self._reader = reader
        self._bounds = bounds
        self._earlier = earlier
        self._slow = SlowMisses(bounds)

    def of(self, account: KnownAccount, row: Row, verdict: Verdict) -> str:
        """Give the sentence for one account; it is never empty."""
        password, reading = account.password.reveal(), verdict.reading
        swapped = _swapped(password, reading)
        if swapped:
            return swapped
        explained = _REFUSALS.get(verdict.refusal, "")
        if explained and reading.state is not State.VALUE:
            return explained
        if reading.doubt is not None and not reading.ways:
            explained = f"{reading.doubt}"
        if reading.state is State.LAYERED:
            return self._below_a_layer(reading, password) or _LAYERED
        is_slow = any(isinstance(way, DerivationWay | CryptWay) for way in reading.ways)
        in_place = self._in_place_of_it(account, row, reading, is_slow=is_slow)
        if in_place:
            return in_place
        if is_slow:
            return self._on_a_slow_value(account.login, reading, password)
        return self._on_a_digest(account, row, reading) or explained or _NO_FORMULA

    def _in_place_of_it(
        self, account: KnownAccount, row: Row, reading: Reading, *, is_slow: bool
    ) -> str:
        """Say what of the row itself was hashed in the password's place; empty for nothing."""
        for what, text in _said_by_row(account, row):
            if not text:
                continue
            if is_slow and not self._slow.takes_one():
                break
            if is_opened(reading, text, bounds=self._bounds):
                return f"it fits {what}, which was hashed in the password's place; reset it"
        return ""

    def _below_a_layer(self, reading: Reading, password: str) -> str:
        for what, changed in changed_inputs(Inputs(password=password)):
            if check(reading, changed.password, bounds=self._bounds).accepted:
                return f"it fits {what}"
        return ""

    def _on_a_slow_value(self, login: str, reading: Reading, password: str) -> str:
        found = self._slow.find(reading, password)
        if found is not None:
            return f"it fits after one change: {found.meaning}; formula: “{found.formula}”"
        before = self._earlier.get(login)
        if before is not None and self._is_twice(before, reading, password):
            return (
                "it was hashed twice: the value of the earlier dump was taken for a password; "
                "reset it, and find the import that hashed what was hashed already"
            )
        if self._slow.is_spent:
            return (
                "not tried further: the derivations for near misses are spent; give fewer accounts"
            )
        return _NO_VARIANT

    def _is_twice(self, before: str, reading: Reading, password: str) -> bool:
        try:
            once = check(self._reader.read_text(before), password, bounds=self._bounds)
            twice = check(reading, before, bounds=self._bounds)
        except CheckImpossible:
            return False
        return once.accepted and twice.accepted

    def _on_a_digest(self, account: KnownAccount, row: Row, reading: Reading) -> str:
        printed, salt = digest_and_salt(reading.parsed, reading.text, row.salt)
        inputs = Inputs(
            password=account.password.reveal(),
            salt=salt,
            login=account.login,
            keys=self._bounds.keys,
        )
        for named in self._reader.formulas or BARE_FORMULAS:
            found = near_miss(named.formula, printed, inputs)
            if found:
                return f"{named.name}: {found}"
        if salt is not None:
            names = [next(iter(digests_used(named.formula))) for named in BARE_FORMULAS]
            for text, formula in salted_formulas(names):
                if fits(formula, printed, inputs):
                    return f"it fits the formula {text}"
        return ""


def _said_by_row(account: KnownAccount, row: Row) -> Iterator[tuple[str, str]]:
    login = row.login or account.login
    yield "the login", login
    if "@" in login:
        yield "the login up to its @", login.rpartition("@")[0]
    for name, content in row.others.items():
        yield f"the column {name}", (content or b"").decode("utf-8", "replace")
    for word in _WORDS_OF_NOTHING:
        yield f"“{word}”", word


# What programs hash where they have lost the password.
_WORDS_OF_NOTHING = ("undefined", "null", "None", "[object Promise]", "[object Object]")
_NO_FORMULA = (
    "no similar formula fits; `lean-tumbler formula solve` searches further with two or three "
    "such accounts"
)
_NO_VARIANT = (
    "no known transformation fits; if the value was hashed twice, give an older dump with "
    "--earlier; otherwise check the password"
)
_LAYERED = (
    "either the password is wrong, or the layer is over another formula's digest: compare with the "
    "value in a backup from before `layer`"
)


def _swapped(password: str, reading: Reading) -> str:
    """Say where what should be a password reads as a stored value."""
    scheme = stored_value_scheme(password)
    if not scheme:
        return ""
    is_text = reading.parsed.scheme in {"plain-text", "unknown", "encoded"}
    if is_text:
        return "the columns password and stored are the wrong way round"
    if password == reading.text:
        return f"the column password holds the stored value itself ({scheme}), not the password"
    return (
        f"the column password holds a hash ({scheme}): the same password gives another value each "
        "time, so two hashes are never compared; give the password"
    )
