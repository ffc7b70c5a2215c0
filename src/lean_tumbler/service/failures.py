"""How often a login has failed in a row (NIST SP 800-63B-4, section 3.2.2)."""

import hashlib
import unicodedata
from collections import OrderedDict
from collections.abc import Callable
from typing import Protocol

MOST_FAILURES = 100  # the standard's bound
FORGIVEN_SECONDS = 864.0  # one failure is forgotten in this time: a hundred in a day
_LOGINS_KEPT = 100_000

Clock = Callable[[], float]


def is_too_many(count: float, most: int) -> bool:
    """Tell whether a count of failures, some of it forgotten, has come to the bound.

    A hundred failures within minutes are a few seconds' worth short of a hundred.
    """
    return count > most - 1


class FailureLimit(Protocol):
    """Says which logins have failed too often to be tried."""

    async def is_reached(self, store: str, login: str) -> bool:
        """Tell whether a login has failed too often to be tried."""

    async def note(self, store: str, login: str, *, admitted: bool) -> None:
        """Count a failure, or forget all of them after a success."""


class OwnFailures:
    """Counts failures by login in memory, for one instance of the service.

    Logins are kept as keyed hashes: who looks into the memory finds no names. The login that was
    not tried for longest is forgotten first.
    """

    def __init__(
        self,
        *,
        key: bytes,  # for the hashes; random, and of this process alone
        clock: Clock,  # seconds, monotonic
        most: int = MOST_FAILURES,  # failures in a row before a login is refused unseen
        forgiven_seconds: float = FORGIVEN_SECONDS,  # the time in which one failure is forgotten
    ) -> None:
        self._key, self._clock = key, clock
        self._most, self._forgiven_seconds = most, forgiven_seconds
        self._counts: OrderedDict[bytes, tuple[float, float]] = OrderedDict()

    async def is_reached(self, store: str, login: str) -> bool:
        """Tell whether a login has failed too often to be tried."""
        return is_too_many(self._now(self._name(store, login)), self._most)

    async def note(self, store: str, login: str, *, admitted: bool) -> None:
        """Count a failure, or forget all of them after a success."""
        name = self._name(store, login)
        if admitted:
            self._counts.pop(name, None)
            return
        self._counts[name] = (self._now(name) + 1, self._clock())
        self._counts.move_to_end(name)
        if len(self._counts) > _LOGINS_KEPT:
            self._counts.popitem(last=False)

    def _name(self, store: str, login: str) -> bytes:
        # BLAKE2 takes a key by itself (RFC 7693, section 2.9), at a tenth of an HMAC's time.
        return hashlib.blake2b(folded(store, login), key=self._key, digest_size=32).digest()

    def _now(self, name: bytes) -> float:
        count, when = self._counts.get(name, (0.0, 0.0))
        return max(0.0, count - (self._clock() - when) / self._forgiven_seconds)


def counted_as(login: str, row: object | None) -> str:
    """Name whom a failure counts for: the row, however its login was typed; else the login.

    Databases take several writings for one login; what is no row's is folded as far as they do.

    Args:
        login: as typed.
        row: the key of the one row that has it; None where there is none, or several.
    """
    if row is not None:
        return f"row {row!r}"
    text = unicodedata.normalize("NFKD", login).casefold()
    return "login " + "".join(each for each in text if not unicodedata.combining(each)).strip()


def folded(store: str, name: str) -> bytes:
    """Name somebody of a store in bytes."""
    return f"{store}\0{name}".encode("utf-8", "replace")
