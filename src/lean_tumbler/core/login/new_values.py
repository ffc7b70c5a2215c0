"""The stored value for a password: what the target makes of it, under the key of new values."""

from collections.abc import Callable

from lean_tumbler.core.login import written
from lean_tumbler.core.login.new_passwords import Objection, common_passwords, reasons_against
from lean_tumbler.core.login.passwords import new_form, require_storable
from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.reading.readings import Reading
from lean_tumbler.core.schemes.catalogue import stored_value_scheme
from lean_tumbler.errors import PasswordRefused


def require_usable(password: str, *, login: str | None, policy: StoragePolicy, force: bool) -> None:
    """Refuse a new password that may not be used.

    Args:
        password: as typed.
        login: the account's; a rule says that the password must not be made of it.
        policy: target, limits and rules.
        force: take it although it reads as a stored value.

    Raises:
        PasswordRefused: with all reasons.
    """
    require_storable(new_form(password), limits=policy.limits, target=policy.target)
    rules = policy.new_passwords
    reasons = reasons_against(password, login=login, rules=rules, common=common_passwords())
    reasons = [reason for reason in reasons if not (force and reason is Objection.STORED_VALUE)]
    if Objection.STORED_VALUE in reasons:
        raise PasswordRefused(
            f"the password reads as a stored value ({stored_value_scheme(password)}): a hash "
            "of a hash locks its owner out; give the password itself; use force if it really "
            "is the password",
            reasons=reasons,
        )
    if reasons:
        against = ", ".join(reasons)
        raise PasswordRefused(
            f"the new password may not be used, by [new_passwords]: {against}", reasons=reasons
        )


class NewValues:
    """Makes stored values by a policy.

    Args:
        policy: target, limits and keyring.
        randomness: number of bytes -> random bytes, for salts and nonces.
    """

    def __init__(self, policy: StoragePolicy, randomness: Callable[[int], bytes]) -> None:
        self._policy, self._randomness = policy, randomness

    def of(self, password: str, *, account: str | None) -> str:
        """Make the value of a password.

        Args:
            password: the form that is stored.
            account: what names its row; needed where values are bound to accounts.

        Raises:
            PasswordRefused: the target cannot store it.
            KeyMissing: the key of new values is not there.
            UsageError: an account is needed, and none is given.
        """
        target = self._policy.target
        raw = require_storable(password, limits=self._policy.limits, target=target)
        salt = self._randomness(target.derivation.salt_bytes)
        value = written.direct(target.scheme, target.parameters, raw, salt, variant=target.variant)
        return self._sealed(value, account)

    def rekeyed(self, reading: Reading, *, account: str | None) -> str:
        """Put a value that was read under the key of new values; see `of`."""
        return self._sealed(reading.text, account)

    def _sealed(self, value: str, account: str | None) -> str:
        keyring = self._policy.keyring
        return keyring.sealed(value, account=account, randomness=self._randomness)
