"""The decision at login: a stored value and a password in, an outcome out. No database."""

import os
import time
from collections.abc import Callable, Iterable, Mapping
from contextlib import AbstractContextManager, nullcontext
from datetime import date
from threading import Lock
from types import MappingProxyType

from msgspec.structs import replace

from lean_tumbler.core.login.checking import Verdict, check
from lean_tumbler.core.login.new_values import NewValues, require_usable
from lean_tumbler.core.login.outcome import Action, Outcome
from lean_tumbler.core.login.passwords import checkable, forms, new_form
from lean_tumbler.core.login.refusals import Refusals
from lean_tumbler.core.login.row_work import derivation_work, work_of
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.evidence import Evidence
from lean_tumbler.core.reading.of_stores import bounds_of, store_reader
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.rows import Row, given_row
from lean_tumbler.core.reading.survey import ALONE, Column
from lean_tumbler.core.reading.under_keys import goes_under_key
from lean_tumbler.core.reading.ways import Certainty, DerivationWay, PasswordWay
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.warrant import Step, Warrant, at_login, of_opened
from lean_tumbler.errors import OverLimit, PasswordRefused, UsageError

Randomness = Callable[[int], bytes]

# Why a value stays as it is, though it may go under another key as it is.
_OTHER_KEY = frozenset({Reason.CURRENT, Reason.LOSSY, Reason.CASE_UNSETTLED})
Slot = AbstractContextManager[object]  # held while something derives
NO_SLOT: Slot = nullcontext()


class CredentialGateway:
    """Checks passwords against whatever is stored, and says what to write instead.

    Every argument is by keyword: a password and a stored value are both text, and swapping them
    must not be possible by position.

    Args:
        policy: target, floor, limits, stores and formulas.
        keys: by the names in the policy's [keys]; without them, those that the policy carries.
        randomness: number of bytes -> random bytes, for new salts.
        columns: store -> gives what a survey says of its column; without it, a text that may be a
            digest by itself is not taken for a password.
        evidence: gives what is known of the stores' cohorts.
        clock: seconds, monotonic.
        wait: waits for some seconds, before a refusal is said.
        today: the day, for `readers_ready`.
    """

    def __init__(
        self,
        policy: StoragePolicy,
        *,
        keys: Mapping[str, bytes] = MappingProxyType({}),
        randomness: Randomness = os.urandom,
        columns: Mapping[str, Callable[[], Column]] = MappingProxyType({}),
        evidence: Callable[[], Evidence] = Evidence,
        clock: Callable[[], float] = time.perf_counter,
        wait: Callable[[float], None] = time.sleep,
        today: Callable[[], date] = date.today,
    ) -> None:
        if keys:
            policy = policy.with_keys(keys)
        self._policy = policy
        self._randomness = randomness
        self._new_values = NewValues(policy, randomness)
        self._evidence, self._today, self._columns = evidence, today, columns
        self.bounds = bounds_of(policy)
        self._readers = {
            name: store_reader(policy, store, column=columns.get(name, lambda: ALONE))
            for name, store in policy.stores.items()
        }
        self._without_store = RowReader(
            formulas=policy.formulas_by_fingerprint, keyring=policy.keyring
        )
        always = derivation_work(policy.target.derivation, policy.target.parameters)
        one_at_a_time = Lock()
        self._refusals = {
            name: Refusals(always, wait=wait, one_at_a_time=one_at_a_time)
            for name in (None, *policy.stores)
        }
        self.clock = clock

    def for_copy(self, store: StorePolicy) -> "CredentialGateway":
        """Give a gateway that decides for a copy of a store, which may be told to write.

        Args:
            store: the copy, under the name of the store that it is of.
        """
        return CredentialGateway(
            replace(self._policy, stores={**self._policy.stores, store.name: store}),
            randomness=self._randomness,
            columns=self._columns,
            evidence=self._evidence,
            clock=self.clock,
            today=self._today,
        )

    @property
    def policy(self) -> StoragePolicy:
        """The policy that this gateway decides by."""
        return self._policy

    def reader(self, store: str | None) -> RowReader:
        """Give what reads the rows of one store.

        Raises:
            UsageError: the policy has no such store.
        """
        return self._without_store if self._store(store) is None else self._readers[store or ""]

    def _store(self, name: str | None) -> StorePolicy | None:
        if name is None:
            return None
        if name not in self._policy.stores:
            known = ", ".join(self._policy.stores) or "none"
            raise UsageError(f"the policy has no store “{name}”; it has: {known}")
        return self._policy.stores[name]

    def admit(
        self,
        *,
        stored: str | bytes | None,
        password: str,
        store: str | None = None,
        salt: str | bytes | None = None,
        login: str | None = None,
        account: str | None = None,
        columns: Mapping[str, str | bytes | None] = MappingProxyType({}),
        upgrade: bool = True,
    ) -> Outcome:
        """Decide one login.

        Args:
            stored: the stored value; None for an unknown login, which costs the same time.
            password: as typed.
            store: the policy's name of the store, for its formulas and options.
            salt: the salt column's content, where there is one.
            login: the row's login, where a formula takes it or a share is chosen.
            account: what names the row, as text: values under a key may be bound to it.
            columns: further columns by the table's own names, for conditions and parts.
            upgrade: whether a new value may be given at all.

        Returns:
            The outcome. Where `new_value` is set, write it only if exactly the old value still
            stands; where that fails, the login is right all the same.

        Raises:
            CheckImpossible: a formula or key that the value needs is not there.
            UsageError: the policy has no such store.
            TypeError: an argument is of another type.
        """
        _require_text("password", password)
        for name, text in (("login", login), ("account", account)):
            if text is not None:
                _require_text(name, text)
        row = given_row(stored=stored, salt=salt, login=login, account=account, columns=columns)
        return self.admit_row(row, password=password, store=store, upgrade=upgrade)

    def admit_row(
        self,
        row: Row,
        *,
        password: str,
        store: str | None = None,
        upgrade: bool = True,
        slot: Slot = NO_SLOT,
        fetched_seconds: float = 0.0,
    ) -> Outcome:
        """Decide one login on a row as a store gives it; `admit` says the rest.

        All refusals take equal work, and are said at equal times; a row that asks for more than
        they may take is checked as it is, one at a time.

        Args:
            row: as it was read.
            password: as typed.
            store: the policy's name of it.
            upgrade: whether a new value may be given at all.
            slot: held while it derives, and not while a refusal waits to be said.
            fetched_seconds: that reading the row took.

        Raises:
            StoreUnavailable: another row is being checked that asks for unusual work.
        """
        began = self.clock()
        reading, refusals = self.reader(store).read(row), self._refusals[store]
        is_checked = checkable(password, self._policy.limits)
        work = work_of(reading, self.bounds) if is_checked else ()
        typed = [form for _, form in forms(password)] if is_checked else [""]
        is_dear = refusals.is_dear(work)
        seconds = fetched_seconds + self.clock() - began
        with refusals.turn(is_dear=is_dear), slot:
            began = self.clock()
            outcome = self._decided(row, reading, password, store, upgrade=upgrade)
            if outcome.refusal == "over-limit":  # nothing of it was run
                work, is_dear = (), False
            if not outcome.admitted:
                refusals.fill_up(row, work, typed)
            seconds += self.clock() - began
        if not outcome.admitted and not is_dear:
            refusals.wait_out(seconds)
        return replace(outcome, unusual_work=is_dear)

    def decide_row(self, row: Row, *, password: str, store: str | None = None) -> Outcome:
        """Decide as `admit_row` does, and answer at once: where nobody sees how long it takes."""
        reading = self.reader(store).read(row)
        return self._decided(row, reading, password, store, upgrade=True)

    def _decided(
        self, row: Row, reading: Reading, password: str, store: str | None, *, upgrade: bool
    ) -> Outcome:
        if not checkable(password, self._policy.limits):
            return Outcome(admitted=False, refusal="not-checkable")
        try:
            verdict = check(self._tried(reading, store), password, bounds=self.bounds)
        except OverLimit:
            return Outcome(admitted=False, refusal="over-limit")
        cohort = verdict.scheme if reading.state is not State.NO_VALUE else ""
        if not verdict.accepted:
            is_stored = password in {reading.text, row.text}
            refusal = "stored-value-typed" if is_stored else verdict.refusal
            refused = Outcome(
                admitted=False,
                refusal=refusal,
                opened_as_text=is_stored and bool(reading.text_class),
            )
            return _with_cohort(refused, cohort, reading)
        outcome = self._admitted(verdict, store, row, upgrade=upgrade)
        return _with_cohort(outcome, cohort, reading)

    def _tried(self, reading: Reading, store: str | None) -> Reading:
        """Leave out a text of a structure that nothing has proven to be a password."""
        if not reading.text_class or self._evidence().proves_text(store or "", reading):
            return reading
        ways = tuple(way for way in reading.ways if not isinstance(way, PasswordWay))
        return replace(reading, ways=ways)

    def learn_costs(
        self, rows: Iterable[Row], *, store: str | None = None, at_once: bool = True
    ) -> None:
        """See what checks of a store's rows cost, so that every refusal costs as much.

        What was learned before is forgotten. Each refusal learns from its own row too. Rows that
        are seen before the first of them leave no login that is refused sooner than others.

        Args:
            rows: some of the store's, or all.
            store: the policy's name of it.
            at_once: whether they are read now; otherwise the first refusal reads them.

        Raises:
            CheckImpossible: a key that the store's decryption needs is not there.
            UsageError: the policy has no such store.
        """
        reader = self.reader(store)
        work = ((row, work_of(reader.read(row), self.bounds)) for row in rows)
        self._refusals[store].learn_of(work, at_once=at_once)

    def hash(
        self,
        *,
        password: str,
        login: str | None = None,
        account: str | None = None,
        force: bool = False,
    ) -> str:
        """Give the stored value for a new or changed password, which is stored in NFC.

        Args:
            password: as typed.
            login: the account's; a rule says that the password must not be made of it.
            account: what names its row; needed where the policy binds values to accounts.
            force: take it although it reads as a stored value.

        Raises:
            PasswordRefused: it is empty, too long or not plain text, breaks a rule of the policy's
                [new_passwords], or reads as a stored value: a hash of a hash locks its owner out.
            KeyMissing: new values go under a key that is not there.
            UsageError: they are bound to accounts, and none is given.
            TypeError: an argument is not text.
        """
        self.require_usable(password=password, login=login, force=force)
        return self._new_values.of(new_form(password), account=account)

    def require_usable(
        self, *, password: str, login: str | None = None, force: bool = False
    ) -> None:
        """Refuse a new password that may not be used; the arguments are those of `hash`.

        Raises:
            PasswordRefused: with all reasons.
            TypeError: an argument is not text.
        """
        _require_text("password", password)
        if login is not None:
            _require_text("login", login)
        require_usable(password, login=login, policy=self._policy, force=force)

    def warrant(self, step: Step, store: str) -> Warrant:
        """Say what a step that writes single rows may write to a store.

        Raises:
            UsageError: the policy has no such store.
        """
        found = self._store(store)
        if found is None:
            raise UsageError("name a store of the policy")
        keyring = self._policy.keyring
        return Warrant(step=step, store=found, today=self._today(), keyring=keyring)

    def _admitted(self, verdict: Verdict, store: str | None, row: Row, *, upgrade: bool) -> Outcome:
        admitted = Outcome(admitted=True, from_scheme=verdict.scheme, ruled_out=verdict.ruled_out)
        kept, account = self._kept(verdict, store, row, upgrade=upgrade), row.account
        if kept in _OTHER_KEY and goes_under_key(verdict.reading, self._policy.keyring):
            return replace(
                admitted,
                action=Action.REKEYED,
                new_value=self._new_values.rekeyed(verdict.reading, account=account),
                to_scheme=verdict.parsed.scheme,
            )
        if kept is not None:
            return replace(admitted, kept=kept)
        try:
            # The form that fitted: whoever typed it so before can type it so again.
            new_value = self._new_values.of(verdict.fitted, account=account)
        except PasswordRefused:  # right, but not storable in the new form: it stays as it is
            return replace(admitted, kept=Reason.NOT_STORABLE)
        layer = verdict.parsed.kind is Kind.LAYERED
        return replace(
            admitted,
            action=Action.LAYER_REMOVED if layer else Action.UPGRADED,
            new_value=new_value,
            to_scheme=self._policy.target.scheme,
        )

    def _kept(
        self, verdict: Verdict, store: str | None, row: Row, *, upgrade: bool
    ) -> Reason | None:
        """Say why a value is not rewritten now; None where it is."""
        if not upgrade:
            return Reason.STOPPED
        found = self._store(store)
        reference = (row.login or verdict.reading.text).encode("utf-8", "replace")
        reason = at_login(
            found,
            today=self._today,
            reference=reference,
            keyring=self._policy.keyring,
            account=row.account,
        )
        if reason is not None:
            return reason
        lossy = of_opened(
            verdict,
            replace_lossy=found is not None and found.replace_lossy,
            evidence=lambda: self._evidence().store(store or ""),
        )
        if lossy is not None:
            return lossy
        return None if self._is_weaker(verdict) else Reason.CURRENT

    def _is_weaker(self, verdict: Verdict) -> bool:
        """Tell whether what is stored is not what the target would write, or more."""
        if verdict.parsed.kind is not Kind.DERIVATION or verdict.parsed.wrappers:
            return True
        if isinstance(verdict.way, DerivationWay) and verdict.way.before is not None:
            return True  # made of something else than the password: stock functions do not check it
        return not self._policy.leaves(verdict.parsed)


def _with_cohort(outcome: Outcome, cohort: str, reading: Reading) -> Outcome:
    """Say of which cohort a row is; evidence counts where the value alone does not say it."""
    if reading.state is not State.VALUE or reading.certainty is Certainty.SAID:
        return replace(outcome, cohort=cohort)
    return replace(outcome, cohort=cohort, label=reading.label, identity=reading.identity)


def _require_text(name: str, value: object) -> None:
    if not isinstance(value, str):
        raise TypeError(f"{name} must be text (str), not {type(value).__name__}")
