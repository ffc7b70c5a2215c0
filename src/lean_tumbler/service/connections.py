"""Connections within bounds: how many, from whom, and how long a request's head may take.

Half-sent requests give way to new connections, then idle ones, the longest waiting first, so that a
flood of them leaves logins through another connection answered.
"""

import asyncio
import resource
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from msgspec import Struct
from uvicorn.protocols.http.h11_impl import H11Protocol, RequestResponseCycle

if TYPE_CHECKING:
    from uvicorn import Config

HEADER_BYTES = 16_384
HEADER_SECONDS = 5.0
MOST_CONNECTIONS = 1_000
SHARE_OF_ONE_PEER = 0.5  # of all connections, where peers have addresses
_OTHER_DESCRIPTORS = 64  # for stores, files and what else the process has open


class ConnectionBounds(Struct, frozen=True, kw_only=True):
    """What connections may take."""

    header_bytes: int = HEADER_BYTES  # of a request's line and headers together
    # from a connection's beginning, or from the last answer's end, to the end of a request's
    # headers
    header_seconds: float = HEADER_SECONDS
    most: int = MOST_CONNECTIONS  # connections at once
    most_of_one_peer: int = int(MOST_CONNECTIONS * SHARE_OF_ONE_PEER)  # of them, from one address


def bounds_of_process(most: int = MOST_CONNECTIONS) -> ConnectionBounds:
    """Give bounds that the process's descriptors allow, after asking for all that it may have."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if hard == resource.RLIM_INFINITY or soft < hard:
        wanted = most + _OTHER_DESCRIPTORS if hard == resource.RLIM_INFINITY else hard
        soft = max(soft, wanted)
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
    most = max(1, min(most, soft - _OTHER_DESCRIPTORS))
    return ConnectionBounds(most=most, most_of_one_peer=max(1, int(most * SHARE_OF_ONE_PEER)))


class Connection(H11Protocol):
    """One connection; its class attribute `bounds` holds for all of them."""

    bounds = ConnectionBounds()

    def __init__(self, config: "Config", *others: Any, **named: Any) -> None:
        super().__init__(config, *others, **named)
        self._waiting_since = 0.0
        self._has_asked = False
        self._waits: asyncio.TimerHandle | None = None

    @property
    def is_waiting(self) -> bool:
        """Whether it is idle, or its request is not whole: nothing is being answered."""
        return self._waits is not None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override] # as its base has it
        """Take a connection in; where there are too many, the longest waiting one gives way."""
        super().connection_made(transport)
        self._wait()
        others = [each for each in self.connections if isinstance(each, Connection)]
        if self.client is not None:
            same = [each for each in others if each.client and each.client[0] == self.client[0]]
            _make_room(same, self.bounds.most_of_one_peer)
        _make_room(others, self.bounds.most)

    def data_received(self, data: bytes) -> None:
        """Take data in; once a request's headers are whole, nothing waits."""
        super().data_received(data)
        if self._is_answering():
            self._has_asked = True
            self._wait_no_longer()

    def on_response_complete(self) -> None:
        """Wait for the next request."""
        super().on_response_complete()
        if not self.transport.is_closing() and not self._is_answering():
            self._wait()

    def connection_lost(self, exc: Exception | None) -> None:
        """Let it go."""
        self._wait_no_longer()
        super().connection_lost(exc)

    def give_way(self) -> None:
        """Close it at once; nobody waits for an answer on it."""
        self._wait_no_longer()
        self.connections.discard(self)
        self.transport.abort()

    def _is_answering(self) -> bool:
        cycle: RequestResponseCycle | None = self.cycle
        return cycle is not None and not cycle.response_complete

    def _wait(self) -> None:
        self._wait_no_longer()
        self._waiting_since = self.loop.time()
        self._waits = self.loop.call_later(self.bounds.header_seconds, self.give_way)

    def _wait_no_longer(self) -> None:
        if self._waits is not None:
            self._waits.cancel()
            self._waits = None

    @property
    def rank(self) -> tuple[bool, float]:
        """Who gives way first: whoever has never asked anything, and has waited longest."""
        return self._has_asked, self._waiting_since


def _make_room(connections: Iterable[Connection], most: int) -> None:
    """Let the longest waiting ones give way until as many are left as may be.

    The newest is among them, and gives way itself only where all others are being answered.
    """
    every = list(connections)
    waiting = sorted((c for c in every if c.is_waiting), key=lambda each: each.rank)
    for each in waiting[: max(0, len(every) - most)]:
        each.give_way()


class BoundedLoop(asyncio.SelectorEventLoop):
    """A loop whose servers give a TLS handshake no longer than a request's headers."""

    async def create_server(self, *arguments: Any, **named: Any) -> Any:
        """Start a server."""
        if named.get("ssl") is not None:
            named.setdefault("ssl_handshake_timeout", HEADER_SECONDS)
        return await super().create_server(*arguments, **named)
