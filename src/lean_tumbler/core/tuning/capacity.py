"""How long people wait when logins queue for derivations: Erlang's formula, and a simulation."""

import math

import numpy as np
from msgspec import Struct

MOST_UTILISATION = 0.7  # above it, a small error in the load makes a large one in the wait
MOST_OF_MEMORY = 0.6  # the rest is the application's
_TAIL = 0.99
_REPLICAS = 200  # queues simulated side by side
_ARRIVALS = 1_500  # in each; the first third warms up
_LEAST_SECONDS = 1e-9


class Service(Struct, frozen=True, kw_only=True):
    """How long one login takes once it is its turn."""

    seconds: float  # the mean of one derivation, as many running as may
    tail: float = 1.0  # its 99th percentile over that
    # the share of logins that derive twice: once to check, once to write anew
    upgrading: float = 0.0

    @property
    def mean(self) -> float:
        """The mean time of a login in seconds."""
        return self.seconds * (1 + self.upgrading)

    @property
    def variation(self) -> float:
        """The squared coefficient of variation: of two fixed times, by their shares."""
        return (1 + 3 * self.upgrading) / (1 + self.upgrading) ** 2 - 1

    @property
    def p99(self) -> float:
        """The 99th percentile in seconds, without any wait."""
        return self.seconds * self.tail * (2 if self.upgrading >= 1 - _TAIL else 1)


def erlang_c(servers: int, offered: float) -> float:
    """Give the probability of having to wait (Erlang 1917; by the recursion of Erlang B).

    Args:
        servers: derivations at once.
        offered: arrivals a second times mean seconds of service, below `servers`.
    """
    if offered >= servers:
        return 1.0
    blocked = 1.0
    for number in range(1, servers + 1):
        blocked = offered * blocked / (number + offered * blocked)
    return servers * blocked / (servers - offered * (1 - blocked))


def response_p99(arrivals_per_second: float, servers: int, service: Service) -> float:
    """Give the 99th percentile of the time from arrival to answer, in seconds.

    Waits in M/M/c are exponential (Kleinrock 1975, section 3.4); for other services the wait is
    scaled by half the sum of the squared coefficients of variation (Allen and Cunneen), that of
    arrivals being 1. Infinite where the load is too much.
    """
    if arrivals_per_second == 0:
        return service.p99
    offered = arrivals_per_second * service.mean
    if offered >= servers:
        return math.inf
    waiting = erlang_c(servers, offered)
    spare = servers / service.mean - arrivals_per_second
    scale = (1 + service.variation) / 2
    wait = max(0.0, math.log(waiting / (1 - _TAIL))) / spare if waiting > 0 else 0.0
    return max(service.p99, service.mean * service.tail + wait * scale)


def simulated_p99(
    arrivals_per_second: float, servers: int, service: Service, *, random: np.random.Generator
) -> float:
    """Give the same by simulation: first come, first served, by several servers.

    Each queue keeps the work that stands before each server (Kiefer and Wolfowitz 1955); many
    queues are simulated side by side. A derivation's own spread is drawn log-normal, so that its
    99th percentile is the one measured.
    """
    if arrivals_per_second * service.mean >= servers:
        return math.inf
    gaps = random.exponential(1 / max(arrivals_per_second, _LEAST_SECONDS), (_ARRIVALS, _REPLICAS))
    twice = random.random((_ARRIVALS, _REPLICAS)) < service.upgrading
    spread = math.log(max(service.tail, 1.0)) / 2.326  # the normal distribution's 99th percentile
    jitter = np.exp(spread * random.standard_normal((_ARRIVALS, _REPLICAS)))
    times = service.seconds * jitter * (1 + twice)
    ahead = np.zeros((_REPLICAS, servers))
    responses = np.empty((_ARRIVALS, _REPLICAS))
    for number in range(_ARRIVALS):
        np.maximum(ahead - gaps[number][:, None], 0, out=ahead)
        ahead.sort(axis=1)
        responses[number] = ahead[:, 0] + times[number]
        ahead[:, 0] = responses[number]
    return float(np.quantile(responses[_ARRIVALS // 3 :], _TAIL))
