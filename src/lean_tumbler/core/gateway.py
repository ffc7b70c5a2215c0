"""The decision at login: a stored value and a password in, an outcome out. No database."""

import os
from collections.abc import Callable, Mapping
from dataclasses import replace
from types import MappingProxyType

from lean_tumbler.core.checking import Rules, Verdict, check
from lean_tumbler.core.outcome import Action, Outcome
from lean_tumbler.core.passwords import checkable, require_storable
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.sharing import in_share
from lean_tumbler.errors import OverLimit, PasswordRefused, UsageError

Randomness = Callable[[int], bytes]


class CredentialGateway:
    """Checks passwords against whatever is stored, and says what to write instead.

    Every argument is by keyword: a password and a stored value are both text, and swapping them
    must not be possible by position.

    Args:
        policy: target, floor, limits, stores and formulas.
        keys: the legacy system's secrets, by the names in the policy's [keys].
        randomness: number of bytes -> random bytes, for new salts.
    """

    def __init__(
        self,
        policy: StoragePolicy,
        *,
        keys: Mapping[str, bytes] = MappingProxyType({}),
        randomness: Randomness = os.urandom,
    ) -> None:
        self._policy = policy
        self._keys = keys
        self._randomness = randomness

    @property
    def policy(self) -> StoragePolicy:
        """The policy that this gateway decides by."""
        return self._policy

    def rules(self, store: str | None) -> Rules:
        """Collect what a check in one store needs to know.

        Raises:
            UsageError: the policy has no such store.
        """
        found = self._store(store)
        return Rules(
            formulas=found.formulas if found else (),
            by_fingerprint={named.fingerprint: named for named in self._policy.formulas.values()},
            accept_plain_text=found.accept_plain_text if found else False,
            limits=self._policy.limits,
            keys=self._keys,
            decryption=found.decryption if found else None,
        )

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
        upgrade: bool = True,
    ) -> Outcome:
        """Decide one login.

        Args:
            stored: the stored value; None for an unknown login, which costs the same time.
            password: as typed.
            store: the policy's name of the store, for its formulas and options.
            salt: the salt column's content, where there is one.
            login: the row's login, where a formula takes it or a share is chosen.
            upgrade: whether a new value may be given at all.

        Returns:
            The outcome. Where `new_value` is set, write it only if exactly the old value still
            stands; where that fails, the login is right all the same.

        Raises:
            CheckImpossible: a formula or key that the value needs is not there.
            UsageError: the policy has no such store.
        """
        rules = self.rules(store)
        text, refusal = _as_text(stored)
        if not refusal and not checkable(password, self._policy.limits):
            refusal = "not-checkable"
        if refusal:
            self._spend_a_derivation()
            return Outcome(admitted=False, refusal=refusal)
        raw_salt = salt.encode("utf-8", "replace") if isinstance(salt, str) else salt
        try:
            verdict = check(text, password, salt=raw_salt, login=login, rules=rules)
        except OverLimit:
            self._spend_a_derivation()
            return Outcome(admitted=False, refusal="over-limit")
        if not verdict.accepted:
            if not self._costs_a_derivation(verdict.parsed):
                self._spend_a_derivation()
            return Outcome(admitted=False, refusal=verdict.refusal, cohort=verdict.scheme)
        if not upgrade:
            outcome = Outcome(admitted=True, from_scheme=verdict.scheme)
        else:
            outcome = self._admitted(verdict, text, password, store, login)
        return replace(outcome, cohort=verdict.scheme)

    def hash(self, *, password: str) -> str:
        """Give the stored value for a new or changed password.

        Raises:
            PasswordRefused: it is empty, too long or not plain text.
        """
        target = self._policy.target
        raw = require_storable(password, limits=self._policy.limits, target=target)
        salt = self._randomness(target.derivation.salt_bytes)
        return target.derivation.create(raw, salt, target.parameters)

    def _admitted(
        self, verdict: Verdict, stored: str, password: str, store: str | None, login: str | None
    ) -> Outcome:
        parsed = verdict.parsed
        if not self._is_due(verdict, stored, store, login):
            return Outcome(admitted=True, from_scheme=verdict.scheme)
        try:
            new_value = self.hash(password=password)
        except PasswordRefused:  # right, but not storable in the new form: it stays as it is
            return Outcome(admitted=True, from_scheme=verdict.scheme)
        layer = parsed.kind is Kind.LAYERED
        return Outcome(
            admitted=True,
            action=Action.LAYER_REMOVED if layer else Action.UPGRADED,
            new_value=new_value,
            from_scheme=verdict.scheme,
            to_scheme=self._policy.target.scheme,
        )

    def _is_due(self, verdict: Verdict, stored: str, store: str | None, login: str | None) -> bool:
        """Tell whether the value is to be rewritten now."""
        found = self._store(store)
        if found is not None:
            reference = (login or stored).encode("utf-8", "replace")
            if found.mode == "observe" or not in_share(reference, found.share):
                return False
        if verdict.lossy:
            # Whoever next types another accepted form would be locked out.
            return found is not None and found.tighten
        return verdict.parsed.kind is not Kind.DERIVATION or not self._costs_a_derivation(
            verdict.parsed
        )

    def _costs_a_derivation(self, parsed: ParsedValue) -> bool:
        """Tell whether a check runs the target's own scheme at the target's cost or more."""
        target = self._policy.target
        slow = parsed.kind in {Kind.DERIVATION, Kind.LAYERED}
        return (
            slow
            and parsed.scheme == target.scheme
            and target.derivation.as_strong(parsed.parameters, target.parameters)
        )

    def _spend_a_derivation(self) -> None:
        """Take as long as a check at the target, so that a refusal does not tell why."""
        target = self._policy.target
        target.derivation.create(b"", bytes(target.derivation.salt_bytes), target.parameters)


def _as_text(stored: str | bytes | None) -> tuple[str, str]:
    """Give a stored value as text, or why it is none."""
    if stored is None:
        return "", "unknown"
    if isinstance(stored, str):
        return stored, ""
    try:
        return stored.decode("utf-8"), ""
    except UnicodeDecodeError:
        return "", "undecodable"
