"""The keys that stand apart from the database: sealing stored values under one, and opening them.

AES-256-GCM with random nonces (NIST SP 800-38D), under a key that is derived from the one of the
policy by HMAC-SHA-256 (RFC 2104), as its check is. One key seals up to 2^32 values: above, a nonce
that comes twice is likelier than 1 in 2^32 (section 8.3). docs/FORMATS.md is the specification.
"""

import hmac
import re
from collections.abc import Callable, Iterator, Mapping
from enum import StrEnum
from functools import cached_property
from types import MappingProxyType

from msgspec import Struct

from lean_tumbler.core.masked import Masked
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes import keyed
from lean_tumbler.core.schemes.keyed import Bound, Keyed, KeyedHead
from lean_tumbler.errors import KeyMissing, UsageError, WriteNotConfirmed

KEY_BYTES = 32
REALM = "[a-z0-9][a-z0-9.-]{0,63}"
_ENCRYPTING, _CHECKING = b"keyed:encrypt", "keyed:check:"
Randomness = Callable[[int], bytes]


class Closed(StrEnum):
    """Why a keyed value is not opened."""

    KEY_MISSING = "its key is not there"
    KEY_WRONG = "its key, or the realm, is another one"
    MOVED = "moved from another row, or damaged"

    @property
    def is_the_operators(self) -> bool:
        """Whether an operator has to act, and nothing is wrong with the value."""
        return self is not Closed.MOVED


class OpenedValue(MaskedRecord, Struct, frozen=True, kw_only=True):
    """What a keyed value holds."""

    text: Hidden[str]  # a direct or layered value
    head: KeyedHead


def require_key(name: str, raw: bytes) -> bytes:
    """Refuse a key that was not drawn at random.

    Raises:
        UsageError: it has another length, or reads as text that somebody thought of.
    """
    if len(raw) != KEY_BYTES:
        problem = f"has {len(raw)} bytes, and takes {KEY_BYTES}"
    elif re.fullmatch(rb"[ -~]+", raw):
        problem = "is a text, and a text can be guessed"
    else:
        return raw
    raise UsageError(
        f"[keys] “{name}” {problem}; `lean-tumbler keys new {name} --over-values` makes one"
    )


class SecretKeys(Mapping[str, bytes]):
    """Keys by name, held masked; they are read once, when one is first asked for.

    Args:
        load: gives them.
    """

    def __init__(self, load: Callable[[], Mapping[str, bytes]] = dict) -> None:
        self._load = load

    @cached_property
    def _masked(self) -> Mapping[str, Masked[bytes]]:
        return {name: Masked(raw) for name, raw in self._load().items()}

    def __getitem__(self, name: str) -> bytes:
        """Give a key: only where it is used."""
        return self._masked[name].reveal()

    def __iter__(self) -> Iterator[str]:
        """Name them."""
        return iter(self._masked)

    def __len__(self) -> int:
        """Count them."""
        return len(self._masked)

    def __repr__(self) -> str:
        """Show none."""
        return "SecretKeys(…)"


class _Key:
    """A key as it is used: what is derived from it is computed once."""

    def __init__(self, name: str, raw: bytes, realm: str) -> None:
        from cryptography.hazmat.primitives.ciphers.aead import (  # noqa: PLC0415 - rarely needed
            AESGCM,
        )

        require_key(name, raw)
        self.cipher = AESGCM(hmac.digest(raw, _ENCRYPTING, "sha256"))
        checked = hmac.digest(raw, f"{_CHECKING}{name}:{realm}".encode(), "sha256")
        self.check = checked[: keyed.CHECK_BYTES]


class Keyring:
    """The keys of a policy, for its realm. They are read when one is first needed.

    Args:
        realm: the policy's; empty where it names none, and then nothing opens.
        sealed_by: the name of the key under which new values go; empty for none.
        bound: what new values are bound to.
        keys: those of the policy, by name; those of formulas and ciphers too.
    """

    def __init__(
        self,
        *,
        realm: str = "",
        sealed_by: str = "",
        bound: Bound = Bound.ACCOUNT,
        keys: Mapping[str, bytes] = MappingProxyType({}),
    ) -> None:
        self.realm, self.sealed_by, self.bound = realm, sealed_by, bound
        self.keys = keys if isinstance(keys, SecretKeys) else SecretKeys(lambda: keys)
        self._used: dict[str, _Key] = {}

    def with_keys(self, keys: Mapping[str, bytes]) -> "Keyring":
        """Give the same keyring with other keys."""
        return Keyring(realm=self.realm, sealed_by=self.sealed_by, bound=self.bound, keys=keys)

    def _key(self, name: str) -> _Key | None:
        """Give a key; None where it is not there."""
        if name not in self._used:
            if name not in self.keys:
                return None
            self._used[name] = _Key(name, self.keys[name], self.realm)
        return self._used[name]

    def check_of(self, name: str) -> bytes | None:
        """Give what values under a key hold of it; None where the key is not there.

        Raises:
            UsageError: the key was not drawn at random.
        """
        key = self._key(name)
        return None if key is None else key.check

    @property
    def may_open(self) -> bool:
        """Whether the policy speaks of keyed values at all."""
        return bool(self.realm)

    @property
    def needs_account(self) -> bool:
        """Whether new values are bound to their accounts."""
        return bool(self.sealed_by) and self.bound is Bound.ACCOUNT

    @property
    def lacks_key(self) -> bool:
        """Whether new values go under a key that is not there."""
        return bool(self.sealed_by) and self._key(self.sealed_by) is None

    def require_key(self) -> None:
        """Refuse to begin what writes values while their key is not there.

        Raises:
            KeyMissing: it is not.
            UsageError: it was not drawn at random.
        """
        if self.sealed_by:
            self._required()

    def _required(self) -> _Key:
        key = self._key(self.sealed_by)
        if key is None:
            raise KeyMissing(
                f"[target] keyed_by: the key “{self.sealed_by}” is not there; see [keys]"
            )
        return key

    def is_latest(self, head: KeyedHead | None) -> bool:
        """Tell whether a value stands under what new values get: this key, so bound; or no key."""
        if not self.sealed_by:
            return head is None
        return head is not None and (head.name, head.bound) == (self.sealed_by, self.bound)

    def sealed(self, text: str, *, account: str | None, randomness: Randomness) -> str:
        """Put a direct or layered value under the key of new values; without one, it stays.

        Args:
            text: the value.
            account: what names its row; needed where values are bound to accounts.
            randomness: number of bytes -> random bytes, for the nonce.

        Raises:
            KeyMissing: the key is not there.
            UsageError: the value is to be bound to an account, and none is given.
            WriteNotConfirmed: what was made does not open to the same text.
        """
        if not self.sealed_by:
            return text
        key = self._required()
        if self.needs_account and account is None:
            raise UsageError(
                "[target] bound_to binds each value to its account, and none is given: insert the "
                "row first, then name its key; or set bound_to to “realm”"
            )
        head = KeyedHead(name=self.sealed_by, check=key.check, bound=self.bound)
        nonce = randomness(keyed.NONCE_BYTES)
        beside = self._beside(head, account)
        body = key.cipher.encrypt(nonce, text.encode("utf-8"), beside)
        value = str(Keyed(head=head, nonce=nonce, sealed=body))
        found = self.open(value, account=account)
        if not isinstance(found, OpenedValue) or found.text != text:
            raise WriteNotConfirmed("a keyed value does not open again; it is not written")
        return value

    def open(self, value: str, *, account: str | None) -> OpenedValue | Closed | None:
        """Open a keyed value; None where a text is none.

        Args:
            value: the stored text.
            account: what names its row.
        """
        found = keyed.read(value)
        if found is None:
            return None
        from cryptography.exceptions import InvalidTag  # noqa: PLC0415 - rarely needed

        key = self._key(found.head.name) if self.may_open else None
        if key is None:
            return Closed.KEY_MISSING
        if not hmac.compare_digest(key.check, found.head.check):
            return Closed.KEY_WRONG
        try:
            raw = key.cipher.decrypt(found.nonce, found.sealed, self._beside(found.head, account))
            return OpenedValue(text=raw.decode("utf-8"), head=found.head)
        except (InvalidTag, UnicodeDecodeError):  # another row's, or changed
            return Closed.MOVED

    def _beside(self, head: KeyedHead, account: str | None) -> bytes:
        """Write what a value is bound to; a realm has no colon, so no two are alike."""
        place = f":{account or ''}" if head.bound is Bound.ACCOUNT else ""
        return f"keyed:{head.name}:{head.bound}:{self.realm}{place}".encode(
            "utf-8", "surrogatepass"
        )

    def __eq__(self, other: object) -> bool:
        """Tell a keyring that says the same; keys are not compared."""
        return isinstance(other, Keyring) and self._says == other._says

    def __hash__(self) -> int:
        """Give a number that equal ones share."""
        return hash(self._says)

    @property
    def _says(self) -> tuple[str, str, Bound]:
        return self.realm, self.sealed_by, self.bound

    def __repr__(self) -> str:
        return f"Keyring(realm={self.realm!r}, sealed_by={self.sealed_by!r})"
