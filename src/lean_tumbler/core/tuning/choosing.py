"""Which scheme at which cost: the dearest for an attacker that carries the load in time."""

import math
from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.grades import Floor
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, TUNED
from lean_tumbler.core.stock_functions import Program, hindrance
from lean_tumbler.core.tuning.attacker import (
    Hardware,
    guesses_per_second,
)
from lean_tumbler.core.tuning.capacity import (
    MOST_OF_MEMORY,
    MOST_UTILISATION,
    Service,
    response_p99,
)
from lean_tumbler.core.tuning.cost_lines import CostLine

# NIST SP 800-132: PBKDF2 with an approved hash function; the others have no approved primitive.
APPROVED = tuple(scheme for scheme, tuning in TUNED.items() if tuning.approved)

_MOST_CORES = 4096
_LONGER = 1.5  # how much longer than one derivation a wait must be, to be worth a proposal
_ALIKE = 1.1  # within a tenth, a model of an attacker cannot tell; then more memory decides


class Demand(Struct, frozen=True, kw_only=True):
    """What the choice must carry."""

    cores: int  # of the host that will check logins
    memory_kib: int  # what it gives to this
    within_milliseconds: float  # the longest wait at the 99th percentile
    # attempts at the worst minute, failed ones included; 0 where unknown
    logins_per_second: float = 0.0
    upgrading: float = 0.0  # the share of logins that derive twice
    verified_by: tuple[Program, ...] = ()  # programs whose stock functions must verify it

    def hindrances(self, scheme: str, parameters: Parameters) -> tuple[str, ...]:
        """Say which programs could not verify it, and why."""
        found = (hindrance(program, scheme, parameters) for program in self.verified_by)
        return tuple(filter(None, found))


class Candidate(MaskedRecord, Struct, frozen=True, kw_only=True):
    """Parameters at or above the floor, under the demand."""

    scheme: str
    parameters: Parameters
    at_once: int  # derivations at once that carry the most
    milliseconds: float  # of one derivation then
    p99_milliseconds: float  # from arrival to answer
    utilisation: float  # the share of the time that a derivation slot is busy
    guesses_per_second: float  # an attacker's
    service: Hidden[Service]
    against: tuple[str, ...] = ()  # why it will not do; empty where it does

    @property
    def strength(self) -> tuple[int, int, float]:
        """What candidates are ordered by: an attacker's guesses, in steps of a tenth; memory."""
        step = -math.floor(math.log(self.guesses_per_second, _ALIKE))
        memory_kib = DERIVATIONS[self.scheme].memory_kib(self.parameters)
        return step, memory_kib, -self.guesses_per_second


class Requirement(Struct, frozen=True, kw_only=True):
    """What the cheapest parameters of a scheme at the floor would need."""

    scheme: str
    parameters: Parameters
    cores: int | None  # with the permitted wait; None where even many are not enough
    milliseconds: float | None  # with the cores at hand; None where the load is too much for them
    both: tuple[int, float] | None  # cores and milliseconds together, where neither alone is enough


class Choice(Struct, frozen=True, kw_only=True):
    """What was found.

    Attributes:
        candidates: all of them; each scheme's in order, the cheapest for an attacker first.
        chosen: the one that costs an attacker most and carries the load; None where none does.
        down: the next cheaper of the same scheme.
        up: the next dearer of the same scheme.
        ways_out: where none is chosen, what would be needed.
    """

    candidates: tuple[Candidate, ...]
    chosen: Candidate | None
    down: Candidate | None = None
    up: Candidate | None = None
    requirements: tuple[Requirement, ...] = ()

    def rivals(self) -> Iterator[Candidate]:
        """Give the best of each other scheme that would do."""
        if self.chosen is None:
            return
        fitting = [found for found in self.candidates if not found.against]
        for scheme in dict.fromkeys(found.scheme for found in fitting):
            if scheme != self.chosen.scheme:
                own = (found for found in fitting if found.scheme == scheme)
                yield max(own, key=lambda found: found.strength)


def steps_of(scheme: str, floor: Floor) -> list[Parameters]:
    """List parameters of a scheme to choose from: all at or above the floor."""
    defaults = DERIVATIONS[scheme].defaults
    alternatives = [{**defaults, **found} for found in floor.alternatives.get(scheme, ())]
    found = [*alternatives, *TUNED[scheme].above(alternatives)]
    distinct = {tuple(point.items()): point for point in found}
    return [point for point in distinct.values() if floor.reached_by(scheme, point)]


def candidate(
    scheme: str, parameters: Parameters, line: CostLine, demand: Demand, hardware: Hardware
) -> Candidate:
    """Work out what parameters mean under a demand."""
    needed_kib = DERIVATIONS[scheme].memory_kib(parameters)
    room = int(MOST_OF_MEMORY * demand.memory_kib / needed_kib) if needed_kib else demand.cores
    at_once = _best_at_once(line, parameters, min(demand.cores, max(room, 1)))
    milliseconds = line.milliseconds(parameters, at_once)
    service = Service(
        seconds=line.slow * milliseconds / 1000,
        tail=max(1.0, line.tail / line.slow),
        upgrading=demand.upgrading,
    )
    utilisation = demand.logins_per_second * service.mean / at_once
    p99 = 1000 * response_p99(demand.logins_per_second, at_once, service)
    against = list(demand.hindrances(scheme, parameters))
    if room < 1:
        against.append(f"needs {needed_kib / 1024 / MOST_OF_MEMORY:,.0f} MiB")
    if utilisation > MOST_UTILISATION:
        busy = f"{100 * utilisation:,.{1 if utilisation < 1 else 0}f} %"
        against.append(f"busy {busy}, above {100 * MOST_UTILISATION:.0f} %")
    elif p99 > demand.within_milliseconds:
        against.append(f"takes {p99:,.0f} ms")
    return Candidate(
        scheme=scheme,
        parameters=parameters,
        at_once=at_once,
        milliseconds=milliseconds,
        p99_milliseconds=p99,
        utilisation=utilisation,
        guesses_per_second=guesses_per_second(scheme, parameters, hardware) or math.inf,
        service=service,
        against=tuple(against),
    )


def _best_at_once(line: CostLine, parameters: Parameters, most: int) -> int:
    """Give the number at once that gets most done: memory bandwidth may be spent before cores.

    Time is a line between measured numbers, so the most is done at one of them, or at the end.
    """
    numbers = [*(level for level in line.weights if level < most), most]
    return max(numbers, key=lambda n: n / line.milliseconds(parameters, n))


def choose(
    lines: Mapping[str, CostLine], *, floor: Floor, demand: Demand, hardware: Hardware
) -> Choice:
    """Take what costs an attacker most among what carries the load in time.

    Args:
        lines: how long derivations take, scheme by scheme; only these schemes are chosen from.
        floor: the least that counts as current.
        demand: what the choice must carry.
        hardware: the attacker's.
    """
    candidates = tuple(
        found
        for scheme, line in lines.items()
        for found in sorted(
            (candidate(scheme, costs, line, demand, hardware) for costs in steps_of(scheme, floor)),
            key=lambda found: found.strength,
        )
    )
    fitting = [found for found in candidates if not found.against]
    if not fitting:
        ways = tuple(_ways_out(candidates, lines, demand, hardware))
        return Choice(candidates=candidates, chosen=None, requirements=ways)
    chosen = max(fitting, key=lambda found: found.strength)
    same = [found for found in candidates if found.scheme == chosen.scheme]
    place = same.index(chosen)
    return Choice(
        candidates=candidates,
        chosen=chosen,
        down=same[place - 1] if place else None,
        up=same[place + 1] if place + 1 < len(same) else None,
    )


def _ways_out(
    candidates: Sequence[Candidate],
    lines: Mapping[str, CostLine],
    demand: Demand,
    hardware: Hardware,
) -> Iterator[Requirement]:
    for scheme, line in lines.items():
        own = [
            found
            for found in candidates
            if found.scheme == scheme and not demand.hindrances(scheme, found.parameters)
        ]
        if not own:
            continue
        quickest = min(own, key=lambda found: found.milliseconds)
        carried = quickest.utilisation <= MOST_UTILISATION
        cores = _cores_needed(quickest, line, demand, hardware)
        longer = replace(demand, within_milliseconds=_LONGER * 1000 * quickest.service.p99)
        neither = cores is None and not carried
        enough = _cores_needed(quickest, line, longer, hardware) if neither else None
        yield Requirement(
            scheme=scheme,
            parameters=quickest.parameters,
            cores=cores,
            milliseconds=quickest.p99_milliseconds if carried else None,
            both=(enough, longer.within_milliseconds) if enough else None,
        )


def _cores_needed(
    found: Candidate, line: CostLine, demand: Demand, hardware: Hardware
) -> int | None:
    """Find the fewest cores that carry the load in time, memory growing with them."""
    cores = demand.cores
    while cores <= _MOST_CORES:
        memory = max(demand.memory_kib, demand.memory_kib * cores // demand.cores)
        wider = replace(demand, cores=cores, memory_kib=memory)
        if not candidate(found.scheme, found.parameters, line, wider, hardware).against:
            return cores
        cores += max(1, cores // 32)
    return None
