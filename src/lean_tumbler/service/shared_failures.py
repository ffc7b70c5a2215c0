"""Failures by login, counted in Redis for all instances of the service."""

import hashlib
from collections.abc import Callable
from math import isfinite
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from lean_tumbler.errors import UsageError
from lean_tumbler.service.failures import (
    FORGIVEN_SECONDS,
    MOST_FAILURES,
    Clock,
    FailureLimit,
    folded,
    is_too_many,
)
from lean_tumbler.stores.credentials import REDIS_PASSWORD_VARIABLE
from lean_tumbler.stores.transport import leaves_this_machine, require_no_secret

_ANSWER_SECONDS = 0.5
_AGAIN_SECONDS = 5.0  # so long a server that did not answer is left alone
_MISSED = 5  # late answers in a row before the server counts as away: a burst does not do it
_CONNECTIONS = 32  # of one instance; further questions wait for one of them
_MALFORMED = "the shared counts of failures hold what no instance wrote; this instance counts alone"
_ALERT = "the shared counts of failures do not answer; this instance counts alone"
_PREFIX = "lean-tumbler:failures:"

# One script each, so that instances do not count over each other; the server's clock is theirs all.
_NOW = """
local held = redis.call("HMGET", KEYS[1], "count", "when")
local time = redis.call("TIME")
local now = time[1] + time[2] / 1000000
local count = 0
if held[1] then
  local when = math.min(now, tonumber(held[2] or "") or now)
  count = math.max(0, (tonumber(held[1]) or 0) - (now - when) / tonumber(ARGV[1]))
end
"""
_COUNT = f"{_NOW} return tostring(count)"
_FORGET = 'redis.call("DEL", KEYS[1]) return "ok"'
_ADD = (
    _NOW
    + """
redis.call("HSET", KEYS[1], "count", tostring(count + 1), "when", tostring(now))
redis.call("EXPIRE", KEYS[1], math.ceil((count + 1) * tonumber(ARGV[1])))
return "ok"
"""
)


class SharedFailures:
    """Counts failures in Redis; while that does not answer, this instance goes by its own count.

    Logins are kept as SHA-256 of their names: who reads the server can try names against them.
    """

    def __init__(
        self,
        client: Any,  # of the server, asynchronous
        *,
        own: FailureLimit,  # counts beside it, for when the server is away
        clock: Clock,  # seconds, monotonic
        alert: Callable[[str], None],  # told once when the server does not answer
        most: int = MOST_FAILURES,  # failures in a row before a login is refused unseen
        forgiven_seconds: float = FORGIVEN_SECONDS,  # the time in which one failure is forgotten
    ) -> None:
        self._client, self._own, self._clock, self._alert = client, own, clock, alert
        self._most, self._forgiven_seconds = most, forgiven_seconds
        self._away_until = 0.0
        self._missed = 0

    async def is_reached(self, store: str, login: str) -> bool:
        """Tell whether a login has failed too often to be tried, here or elsewhere."""
        own = await self._own.is_reached(store, login)
        answer = await self._ask(_COUNT, store, login)
        if answer is None:
            return own
        count = _count_of(answer)
        if count is None:
            self._alert(_MALFORMED)
            return own
        return is_too_many(count, self._most)

    async def note(self, store: str, login: str, *, admitted: bool) -> None:
        """Count a failure, or forget all of them after a success."""
        await self._own.note(store, login, admitted=admitted)
        await self._ask(_FORGET if admitted else _ADD, store, login)

    async def _ask(self, script: str, store: str, login: str) -> bytes | None:
        """Run a script for a login's count; None where the server does not answer."""
        from redis.exceptions import RedisError  # noqa: PLC0415 - an extra

        if self._clock() < self._away_until:
            return None
        key = _PREFIX + hashlib.sha256(folded(store, login)).hexdigest()
        try:
            answer: bytes = await self._client.eval(script, 1, key, str(self._forgiven_seconds))
        except (RedisError, OSError) as error:
            self._missed += 1 if _is_slow(error) else _MISSED
            if self._missed >= _MISSED:
                if not self._away_until:
                    self._alert(_ALERT)
                self._away_until = self._clock() + _AGAIN_SECONDS
            return None
        self._away_until, self._missed = 0.0, 0
        return answer


def _is_slow(error: Exception) -> bool:
    """Tell a server that is there, but not in time, from one that is not there."""
    from redis.exceptions import TimeoutError as RedisTimeout  # noqa: PLC0415 - an extra

    return isinstance(error, RedisTimeout) or "No connection available" in str(error)


def _count_of(answer: object) -> float | None:
    """Read a count; None for what no script of ours has answered."""
    try:
        count = float(answer)  # type: ignore[arg-type] # whatever a server may send
    except (TypeError, ValueError):
        return None
    return count if isfinite(count) and count >= 0 else None


def redis_client(url: str, password: str | None) -> Any:
    """Give a client of a server; nothing is connected yet.

    Args:
        url: redis://HOST:6379/0, or rediss:// for TLS.
        password: its password; None for none.

    Raises:
        UsageError: another form of address, a password in it, or the package is not installed.
    """
    parts = urlsplit(url)
    if parts.scheme not in {"redis", "rediss"} or not parts.hostname:
        raise UsageError("--failure-store takes redis://HOST:6379/0 or rediss://HOST:6379/0")
    if parts.password:
        raise UsageError(f"--failure-store: set the password in {REDIS_PASSWORD_VARIABLE} instead")
    require_no_secret((name for name, _ in parse_qsl(parts.query)), REDIS_PASSWORD_VARIABLE)
    if parts.scheme == "redis" and leaves_this_machine(parts.hostname):
        raise UsageError(
            "--failure-store: beyond this machine it takes rediss://, which is encrypted"
        )
    try:
        from redis.asyncio import BlockingConnectionPool, Redis  # noqa: PLC0415 - an extra
    except ModuleNotFoundError:
        raise UsageError(
            "--failure-store needs the extra: pip install 'lean-tumbler[redis]'"
        ) from None
    pool = BlockingConnectionPool.from_url(
        url,
        password=password,
        max_connections=_CONNECTIONS,
        timeout=_ANSWER_SECONDS,
        socket_timeout=_ANSWER_SECONDS,
        socket_connect_timeout=_ANSWER_SECONDS,
    )
    return Redis(connection_pool=pool)
