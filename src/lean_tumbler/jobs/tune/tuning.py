"""Measuring, fitting and choosing, one after the other; and the simulation beside the formula."""

import math
from collections.abc import Mapping, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.grades import Floor
from lean_tumbler.core.tuning.attacker import Attacker
from lean_tumbler.core.tuning.capacity import simulated_p99
from lean_tumbler.core.tuning.choosing import Candidate, Choice, Demand, choose
from lean_tumbler.core.tuning.cost_lines import CostLine, fit_all
from lean_tumbler.core.tuning.measuring import LeftOut, Measurement

_SEED = 20_240_229  # the same measurements give the same report


class Tuned(Struct, frozen=True, kw_only=True):
    """Everything that the report of `tune` is made of."""

    points: Sequence[Measurement]  # what was measured
    left_out: Sequence[LeftOut]  # what was not, and why
    lines: Mapping[str, CostLine]  # the fitted line of each scheme
    demand: Demand  # what the choice must carry
    floor: Floor  # the least that counts as current
    attacker: Attacker  # who guesses
    choice: Choice  # what was found
    simulated_milliseconds: float | None  # the chosen candidate's 99th percentile by simulation
    # what would be chosen if no program had to verify it; None where that is the same
    without_verified_by: Candidate | None = None


def tune(
    points: Sequence[Measurement],
    left_out: Sequence[LeftOut],
    *,
    floor: Floor,
    demand: Demand,
    attacker: Attacker,
) -> Tuned:
    """Choose parameters from measurements."""
    lines = fit_all(points)
    choice = choose(lines, floor=floor, demand=demand, hardware=attacker.hardware)
    free = choice.chosen
    if demand.verified_by:
        unbound = replace(demand, verified_by=())
        free = choose(lines, floor=floor, demand=unbound, hardware=attacker.hardware).chosen
    return Tuned(
        points=points,
        left_out=left_out,
        lines=lines,
        demand=demand,
        floor=floor,
        attacker=attacker,
        choice=choice,
        simulated_milliseconds=_simulated(choice.chosen, demand) if choice.chosen else None,
        without_verified_by=free if _differs(free, choice.chosen) else None,
    )


def _differs(free: Candidate | None, chosen: Candidate | None) -> bool:
    if free is None or chosen is None:
        return free is not chosen
    return (free.scheme, free.parameters) != (chosen.scheme, chosen.parameters)


def _simulated(chosen: Candidate, demand: Demand) -> float | None:
    if demand.logins_per_second == 0:
        return None
    seconds = simulated_p99(
        demand.logins_per_second,
        chosen.at_once,
        chosen.service,
        random=np.random.default_rng(_SEED),
    )
    return 1000 * seconds if math.isfinite(seconds) else None
