"""The whole change on a copy: whoever could log in before must be able to at every step after.

And nobody else: what was refused before must be refused after.
"""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor
from datetime import date
from enum import StrEnum
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.formulas.alternatives import Untested
from lean_tumbler.core.login.gateway import CredentialGateway
from lean_tumbler.core.login.outcome import Outcome
from lean_tumbler.core.policy import RowSource, StorePolicy
from lean_tumbler.core.schemes.current import bcrypt
from lean_tumbler.core.warrant import Step, Warrant
from lean_tumbler.errors import CheckImpossible
from lean_tumbler.migration.bulk.context import RunContext
from lean_tumbler.migration.bulk.layering import Workers, layer_store
from lean_tumbler.migration.bulk.summary import LayeringSummary
from lean_tumbler.stores.copying import COPIED, TABLE, copy_accounts
from lean_tumbler.stores.interface import Account, Store
from lean_tumbler.stores.kinds import open_store
from lean_tumbler.stores.known_accounts import KnownAccount
from lean_tumbler.stores.locators import require_bulk

TRIED_WHOLLY = 3  # accounts of each cohort that every text is tried on; of others, two texts
_BLOCK_BYTES = bcrypt.PASSWORD_BYTES  # what old programs cut, whatever they write today
_LONG_CHARACTERS = 1000


class Moment(StrEnum):
    """When something was tried."""

    BEFORE = "before"
    LAYERED = "layered"
    FIRST_LOGIN = "after the first login"
    SECOND_LOGIN = "after the second"


class TriedText(StrEnum):
    """What was typed."""

    RIGHT = "the password"
    WRONG = "another first letter"
    OTHERS = "another account's password"
    CASE = "letter case changed"
    BLANK = "a blank behind it"
    ACCENT = "an accent behind it"
    BYTES_72 = "filled up to 72 bytes"
    BYTES_73 = "filled up to 73 bytes"
    LONG = "filled up to 1,000 characters"


_TRIED_ALWAYS = (TriedText.RIGHT, TriedText.WRONG)


class Cell(Struct):
    """One text at one moment: how many of the accounts were let in."""

    admitted: int = 0
    tried: int = 0


class Difference(Struct, frozen=True, kw_only=True):
    """An answer that changed."""

    login: str
    tried: TriedText
    moment: Moment
    admitted_before: bool
    reason: str = ""


class Rehearsal(Struct, kw_only=True):
    """What was tried, and what happened."""

    copied: int = 0  # accounts on the copy
    known: int = 0  # accounts whose password is known and that are in the store
    # logins of known accounts that the store has not
    absent: list[str] = field(default_factory=list)
    # logins whose password is refused already now: their formula is not right yet
    rejected: list[str] = field(default_factory=list)
    # what was tried and when -> how many were let in
    cells: dict[tuple[TriedText, Moment], Cell] = field(default_factory=dict)
    # answers that changed, lockouts among them
    differences: list[Difference] = field(default_factory=list)
    layering: LayeringSummary | None = None  # what bulk layering did to the copy
    needed: int = 0  # characters that a new and a layered value need
    # characters that the real column has room for; None where it has no bound
    width: int | None = None

    @property
    def too_narrow(self) -> bool:
        """Whether the real column has no room for what would be written."""
        return self.width is not None and self.width < self.needed

    @property
    def passed(self) -> bool:
        """Whether nobody is locked out, and nobody else let in."""
        return self.known > 0 and not (
            self.differences or self.rejected or self.absent or self.too_narrow
        )


class _Attempt(Struct):
    login: str
    tried: TriedText
    password: str
    before: bool = False


def rehearse(  # noqa: PLR0913 - all that a change needs, and a copy
    store: Store,  # the real one; it is only read
    known: Sequence[KnownAccount],  # accounts whose password is known
    *,
    store_policy: StorePolicy,  # the store's formulas and options
    gateway: CredentialGateway,  # decides logins, by the policy and with its keys
    context: RunContext,  # clock and randomness; its progress is told of each login that was tried
    workers: Workers,  # who derives
    folder: Path,  # where the copy is made; the caller removes it
    rows: int,  # how many other accounts to copy at most
    today: date,  # the day
) -> Rehearsal:
    """Run the change and the known accounts through every state, on a copy."""
    found = Rehearsal()
    path = folder / "rehearsal.db"
    others = store_policy.other_columns
    found.copied = copy_accounts(
        store, path, logins=[k.login for k in known], rows=rows, others=others
    )
    columns = COPIED if store_policy.columns.salt else replace(COPIED, salt=None)
    there = replace(
        store_policy,
        locator=str(path),
        table=TABLE,
        columns=columns,
        source=RowSource(),  # the copy holds rows as they were read
        mode="upgrade",
        share=1.0,
        readers_ready=today,  # nobody reads the copy
    )
    gateway = gateway.for_copy(there)
    copy = require_bulk(open_store(there, base=folder, writable=True))
    try:
        run = _RehearsalRun(copy, there, gateway, workers.executor, found, context.progress)
        attempts = run.prepare(known)
        found.layering = layer_store(
            copy,
            store_policy=there,
            policy=gateway.policy,
            warrant=_of_copy(copy, there, today),
            context=replace(context, progress=lambda _: None),
            workers=workers,
        )
        run.try_all(attempts, Moment.LAYERED)
        run.log_in(attempts)
        run.try_all(attempts, Moment.FIRST_LOGIN)
        run.log_in(attempts)
        always = [attempt for attempt in attempts if attempt.tried in _TRIED_ALWAYS]
        run.try_all(always, Moment.SECOND_LOGIN)
    finally:
        copy.close()
    return found


def _of_copy(copy: Store, policy: StorePolicy, today: date) -> Warrant:
    """Allow all on the copy, which is thrown away."""
    return Warrant(
        step=Step.LAYER,
        store=policy,
        today=today,
        has_way_back=True,
        repeated=frozenset(copy.repeated()),
        proof_asked=False,
    )


class _RehearsalRun:
    def __init__(
        self,
        copy: Store,
        policy: StorePolicy,
        gateway: CredentialGateway,
        executor: Executor,
        found: Rehearsal,
        progress: Callable[[int], None],
    ) -> None:
        self._executor = executor
        self._copy = copy
        self._name = policy.name
        self._blanks_untested = any(Untested.BLANKS in c.untested for c in policy.cohorts)
        self._gateway = gateway
        self._found = found
        self._progress = progress

    def prepare(self, known: Sequence[KnownAccount]) -> list[_Attempt]:
        """Try all texts on the accounts as they are; give them with the answers."""
        attempts: list[_Attempt] = []
        cohorts: dict[str, int] = {}
        for number, account in enumerate(known):
            password = account.password.reveal()
            row = self._row(account.login)
            if row is None:
                self._found.absent.append(account.login)
                continue
            self._found.known += 1
            outcome, _ = self._ask(row, password)
            if outcome is None or not outcome.admitted:
                self._found.rejected.append(account.login)
                continue
            cohort = outcome.from_scheme or ""
            cohorts[cohort] = cohorts.get(cohort, 0) + 1
            other = known[number - 1].password.reveal()
            texts = dict(_texts(password, other, wholly=cohorts[cohort] <= TRIED_WHOLLY))
            if self._blanks_untested:
                texts.pop(TriedText.BLANK, None)  # a login tries it cut off, until it is upgraded
            attempts += [_Attempt(account.login, tried, text) for tried, text in texts.items()]
        self.try_all(attempts, Moment.BEFORE)
        return attempts

    def _row(self, login: str) -> Account | None:
        rows = self._copy.fetch(login)
        return rows[0] if len(rows) == 1 else None

    def _ask(self, row: Account, password: str) -> tuple[Outcome | None, str]:
        try:
            outcome = self._gateway.decide_row(row.row, password=password, store=self._name)
        except CheckImpossible as error:
            return None, str(error)
        return outcome, outcome.refusal

    def try_all(self, attempts: Sequence[_Attempt], moment: Moment) -> None:
        """Try every text at one moment, writing nothing."""
        rows = [self._row(attempt.login) for attempt in attempts]
        answers = self._executor.map(self._answer, rows, (a.password for a in attempts))
        for attempt, (admitted, reason) in zip(attempts, answers, strict=True):
            cell = self._found.cells.setdefault((attempt.tried, moment), Cell())
            cell.tried += 1
            cell.admitted += admitted
            if moment is Moment.BEFORE:
                attempt.before = admitted
            elif admitted is not attempt.before:
                changed = Difference(
                    login=attempt.login,
                    tried=attempt.tried,
                    moment=moment,
                    admitted_before=attempt.before,
                    reason=reason,
                )
                self._found.differences.append(changed)
            self._progress(1)

    def _answer(self, row: Account | None, password: str) -> tuple[bool, str]:
        outcome, reason = self._ask(row, password) if row else (None, "gone")
        return outcome is not None and outcome.admitted, reason

    def log_in(self, attempts: Sequence[_Attempt]) -> None:
        """Log every account in with its password, and write what a login writes."""
        for attempt in attempts:
            row = self._row(attempt.login) if attempt.tried is TriedText.RIGHT else None
            if row is None:
                continue
            outcome, _ = self._ask(row, attempt.password)
            if outcome is not None and outcome.new_value is not None:
                swap = row.swap(outcome.new_value)
                self._copy.swap(swap)


def _texts(password: str, other: str, *, wholly: bool) -> Iterator[tuple[TriedText, str]]:
    """Give the password and what is not it; texts that are the password after all are left out."""
    yield TriedText.RIGHT, password
    size = len(password.encode("utf-8"))
    changed = {TriedText.WRONG: ("b" if password[:1] == "a" else "a") + password[1:]}
    if wholly:
        changed |= {
            TriedText.OTHERS: other,
            TriedText.CASE: password.swapcase(),
            TriedText.BLANK: password + " ",
            TriedText.ACCENT: password + "é",
            TriedText.BYTES_72: password + "x" * (_BLOCK_BYTES - size),
            TriedText.BYTES_73: password + "x" * (_BLOCK_BYTES + 1 - size),
            TriedText.LONG: password + "x" * (_LONG_CHARACTERS - len(password)),
        }
    yield from ((tried, text) for tried, text in changed.items() if text != password)
