"""May this row be written, by this step, now? One place answers: yes, or the one reason why not.

A step is a way to write stored values. Each is asked about by the same checks; which of them are
not asked of a step, and why, stands in `NOT_ASKED`. docs/POLICY.md prints the table.
"""

from collections.abc import Callable, Mapping
from datetime import date
from enum import StrEnum
from types import MappingProxyType

from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.keyring import Keyring
from lean_tumbler.core.login.checking import Verdict
from lean_tumbler.core.login.sharing import in_share
from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.core.reading.evidence import (
    MOST_OTHERWISE,
    CohortKey,
    Coverage,
    Evidence,
    RowFacts,
    StoreEvidence,
)
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.row_plans import RowPlan
from lean_tumbler.errors import NotReady


class Step(StrEnum):
    """What writes stored values."""

    LAYER = "layer"
    LOGIN = "a login"
    CHANGE = "a changed password"
    SET_PASSWORD = "set-password"  # noqa: S105 - the command's name
    LOCK = "lock-dormant"
    REKEY = "rekey"
    UNDO = "undo"


class Check(StrEnum):
    """What is asked before a row is written."""

    MODE = "mode"
    READERS = "readers_ready"
    EMBEDDED = "embedded files"
    KEY = "key of new values"
    WIDTH = "width of the column"
    WAY_BACK = "backup"
    LOGIN = "login is unique"
    SHARE = "share"
    PROOF = "proof of the cohort"
    ONE_PASSWORD = "opened by one password alone"  # noqa: S105 - a sentence


_OPENED = "the right password of the row is the proof"
_OWN_WISH = "its owner or an operator asks for this very row"
_NO_FILES = "the policy's folder is not looked at for a single row"
_CLOSED = "what stood there opened nothing"
_RECOVERS = "it puts back what stood there before"
NOT_ASKED: Mapping[tuple[Step, Check], str] = MappingProxyType(
    {
        (Step.LAYER, Check.ONE_PASSWORD): "a layer keeps all passwords that open the value",
        (Step.LOGIN, Check.EMBEDDED): _NO_FILES,
        (Step.CHANGE, Check.EMBEDDED): _NO_FILES,
        (Step.SET_PASSWORD, Check.EMBEDDED): _NO_FILES,
        (Step.LOCK, Check.EMBEDDED): "every file knows the marker",
        (Step.LOGIN, Check.WAY_BACK): _OPENED,
        (Step.LOGIN, Check.PROOF): _OPENED,
        (Step.CHANGE, Check.WAY_BACK): _OPENED,
        (Step.CHANGE, Check.PROOF): _OPENED,
        (Step.CHANGE, Check.SHARE): _OWN_WISH,
        (Step.CHANGE, Check.ONE_PASSWORD): "the new password takes the place of the old one",
        (Step.SET_PASSWORD, Check.WAY_BACK): _CLOSED,
        (Step.SET_PASSWORD, Check.PROOF): _CLOSED,
        (Step.SET_PASSWORD, Check.SHARE): _OWN_WISH,
        (Step.SET_PASSWORD, Check.ONE_PASSWORD): _CLOSED,
        (Step.REKEY, Check.PROOF): "the same value stays, under another key",
        (Step.REKEY, Check.ONE_PASSWORD): "the same value stays, under another key",
        (Step.LOCK, Check.KEY): "a marker is under no key",
        (Step.LOCK, Check.PROOF): "a marker rests on no reading, and the backup puts it back",
        (Step.LOCK, Check.ONE_PASSWORD): "a marker opens to nobody",
        **{
            (Step.UNDO, check): _RECOVERS
            for check in Check
            if check not in {Check.WIDTH, Check.SHARE}
        },
    }
)
MORE_THAN_THEN = (
    "rows have come since the proof that neither their key nor “created” tells from those that "
    "were there"
)
# A value that was opened and stays as it is for one of these moves to the column in use.
MOVES = frozenset({Reason.CURRENT})
NO_ROWS: frozenset[object] = frozenset()


class Warrant(MaskedRecord, Struct, frozen=True, kw_only=True):
    """What one step may write to one store."""

    step: Step  # which
    store: StorePolicy  # of the policy
    today: date  # for `readers_ready`
    # the characters that the written column has room for; None without a bound
    room: int | None = None
    needed: int = 0  # those that the longest value needs
    # whether what is replaced can be put back, or somebody said that it need not
    has_way_back: bool = False
    # puts new values under a key, where the policy names one
    keyring: Keyring = field(default_factory=Keyring)
    # whether a file of `embed` that the store names is not what would be written now
    has_embedded_behind: bool = False
    repeated: frozenset[object] = NO_ROWS  # keys of rows whose login other rows have too
    share: float = 1.0  # the part of the accounts that is written now
    table: str = ""  # the table's name, for the share
    evidence: Evidence = field(default_factory=Evidence)  # what is known of cohorts
    # how many rows each cohort has, where they were counted
    rows_of: Mapping[CohortKey, int] = field(default_factory=dict)
    # cohorts whose people would miss rows so old or new in a random draw too
    missed_by_chance: frozenset[CohortKey] = frozenset()
    # the largest share of a cohort's rows that may be made otherwise unseen
    most_otherwise: float = MOST_OTHERWISE
    unproven: frozenset[str] = frozenset()  # cohorts that somebody takes without proof
    coverage: Coverage = field(default_factory=Coverage)  # which rows the proof was taken from
    proof_asked: bool = True  # whether proof is asked for at all; not on a throw-away copy
    _judged: Hidden[dict[CohortKey, Reason | None]] = field(default_factory=dict)

    def _asks(self, check: Check) -> bool:
        return (self.step, check) not in NOT_ASKED

    def of_step(self) -> Reason | None:
        """Say why the step writes no row at all; None where it may."""
        return next(iter(self.hindrances()), None)

    def hindrances(self) -> list[Reason]:
        """Name all reasons for which the step writes no row at all."""
        ready = self.store.readers_ready
        holds: Mapping[Check, tuple[bool, Reason]] = {
            Check.MODE: (self.store.mode == "observe", Reason.OBSERVED),
            Check.READERS: (ready is None or ready > self.today, Reason.READERS_NOT_READY),
            Check.EMBEDDED: (self.has_embedded_behind, Reason.EMBEDDED_BEHIND),
            Check.KEY: (self.keyring.lacks_key, Reason.KEY_MISSING),
            Check.WIDTH: (not self.has_room(self.needed), Reason.TOO_NARROW),
            Check.WAY_BACK: (not self.has_way_back, Reason.NO_WAY_BACK),
        }
        return [reason for check, (is_so, reason) in holds.items() if is_so and self._asks(check)]

    def require(self) -> None:
        """Refuse a step that may write no row.

        Raises:
            NotReady: saying why, and what settles it.
            KeyMissing: new values go under a key that is not there.
        """
        reason = self.of_step()
        if reason is Reason.KEY_MISSING:
            self.keyring.require_key()
        if reason is not None:
            raise NotReady(refusal(self.store, reason, self.today))

    def has_room(self, characters: int) -> bool:
        """Tell whether the written column has room for so many characters."""
        return self.room is None or characters <= self.room

    def of_row(self, facts: RowFacts) -> Reason | None:
        """Say why a row is left whatever it holds; None where it may be written."""
        if self._asks(Check.LOGIN) and facts.key in self.repeated:
            return Reason.LOGIN_REPEATED
        if self._asks(Check.KEY) and self.keyring.needs_account and not facts.is_named:
            return Reason.NO_ACCOUNT
        return None

    def of_plan(self, plan: RowPlan, facts: RowFacts) -> Reason | None:
        """Say why a bulk step leaves a row that it could write; None where it writes it."""
        reason = self.of_row(facts)
        if reason is None and plan.needs_proof and self._asks(Check.PROOF) and self.proof_asked:
            reason = self._of_proof(plan, facts)
        return reason or (None if self.is_in_share(facts.key) else Reason.OUTSIDE_SHARE)

    def is_in_share(self, key: object) -> bool:
        """Tell whether a row is of the part that a bulk step takes; a larger one contains it."""
        return self.share >= 1 or in_share(f"{self.table}:{key!r}".encode(), self.share)

    def key_of(self, plan: RowPlan) -> CohortKey:
        """Name a row's cohort for evidence."""
        return CohortKey(self.store.name, plan.cohort, plan.identity)

    def judged(self, key: CohortKey) -> Reason | None:
        """Say why a cohort is not proven; None where it is."""
        if key not in self._judged:
            rows = self.rows_of.get(key)
            self._judged[key] = self.evidence.judged(key, rows=rows, most=self.most_otherwise)
        return self._judged[key]

    def _of_proof(self, plan: RowPlan, facts: RowFacts) -> Reason | None:
        if plan.cohort in self.unproven:
            return None
        key = self.key_of(plan)
        judged = self.judged(key)
        if judged is Reason.UNPROVEN and plan.text_class:
            return Reason.MAY_BE_DIGEST if plan.suspected else Reason.STRUCTURED_TEXT
        if judged is not None:
            return judged
        if self.evidence.store(self.store.name).refused_itself(facts.login or ""):
            return Reason.REFUSED_ITSELF
        if not self.coverage.covers(facts.key, facts.created):
            return Reason.CAME_LATER
        year = None if facts.created is None else facts.created.year
        is_left_out = key not in self.missed_by_chance and self.evidence.of(key).leaves_out(year)
        return Reason.STRATUM_UNKNOWN if is_left_out else None

    def counted(
        self,
        rows_of: Mapping[CohortKey, int],  # of each cohort
        # of each cohort, the years in which accounts were made -> their rows
        years_of: Mapping[CohortKey, Mapping[int, int]],
        covered_rows: int,  # that count as having been there at the proof
    ) -> "Warrant":
        """Give the same warrant with all rows counted."""
        evidence = self.evidence
        if self.coverage.has_unexplained(covered_rows):
            evidence = evidence.without(self.store.name, MORE_THAN_THEN)
        return replace(
            self,
            rows_of=rows_of,
            evidence=evidence,
            missed_by_chance=frozenset(
                key for key, years in years_of.items() if evidence.of(key).misses_by_chance(years)
            ),
            _judged={},
        )


def of_opened(
    verdict: Verdict, *, replace_lossy: bool, evidence: Callable[[], StoreEvidence]
) -> Reason | None:
    """Say why the value that a password opened is not replaced by one of that password alone.

    Args:
        verdict: of the check that it passed.
        replace_lossy: whether somebody wants it all the same.
        evidence: gives the store's: which alternatives people have ruled out.
    """
    if replace_lossy:
        return None
    if verdict.lossy:
        return Reason.LOSSY
    for other in verdict.opened_too:
        if other.spelling.folds_case and not evidence().is_ruled_out(
            other.formula.fingerprint, other.main
        ):
            return Reason.CASE_UNSETTLED
    return None


def at_login(
    store: StorePolicy | None,
    *,
    today: Callable[[], date],
    reference: bytes,
    keyring: Keyring,
    account: str | None,
) -> Reason | None:
    """Say why a right login writes nothing, whatever the row holds; None where it may.

    Args:
        store: of the policy; None where the caller names none and decides by itself.
        today: for `readers_ready`.
        reference: names the account, for the share.
        keyring: puts new values under a key, where the policy names one.
        account: what names the row, for values that are bound to it; None where nothing does.
    """
    if store is not None:
        warrant = Warrant(step=Step.LOGIN, store=store, today=today(), keyring=keyring)
        reason = warrant.of_step()
        if reason is not None:
            return reason
        if not in_share(reference, store.share):
            return Reason.OUTSIDE_SHARE
    if keyring.lacks_key:
        return Reason.KEY_MISSING
    return Reason.NO_ACCOUNT if keyring.needs_account and account is None else None


_READERS = (
    "A program that still checks with the old code refuses everybody whose value is replaced.\n"
    "The order is: 1. every program that checks passwords gets the new check and observes, "
    "2. its verdicts agree, 3. set mode and readers_ready, 4. `layer`."
)


_WAY_BACK = (
    "Next: `lean-tumbler keys new recovery`, and the same command with “--backup FILE --to "
    "recovery.public.pem”; or --no-backup.\n"
    "Keep recovery.private.pem off this machine: with it and the backup every old value is read."
)


def refusal(store: StorePolicy, reason: Reason, today: date) -> str:
    """Write why a step wrote nothing to a store, and what settles it."""
    told = f"[store.{store.name}]: nothing was written: {reason}"
    ready = store.readers_ready
    if reason is Reason.READERS_NOT_READY:
        state = (
            "does not say readers_ready = DATE"
            if ready is None
            else f"says readers_ready = {ready}, which is after {today}"
        )
        return f"[store.{store.name}] {state}: nothing was written.\n{_READERS}"
    if reason is Reason.NO_WAY_BACK:
        return f"{told}.\n{_WAY_BACK}"
    return f"{told}.\nNext: {reason.remedy}."
