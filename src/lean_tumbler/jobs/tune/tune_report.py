"""Measurements, what they mean under the load, and the parameters that they lead to."""

from __future__ import annotations

import math
from collections import Counter
from itertools import pairwise
from typing import TYPE_CHECKING

from rich.text import Text

from lean_tumbler.core.schemes.catalogue import DERIVATIONS
from lean_tumbler.core.tuning.attacker import MODEL_FACTOR, attack_cost
from lean_tumbler.core.tuning.measuring import is_noisy
from lean_tumbler.core.tuning.popularity import LIKELIEST
from lean_tumbler.jobs.tune.tune_document import (
    AttackerPart,
    CandidatePart,
    ChosenPart,
    ConstraintsPart,
    FitPart,
    HostPart,
    MeasuredPart,
    NotMeasured,
    RequirementPart,
    SpentPart,
    TuneDocument,
)
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count, duration, guess_count, money, share_cracked

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from typing import Any

    from rich.console import Console

    from lean_tumbler.core.schemes.base import Parameters
    from lean_tumbler.core.tuning.choosing import Candidate, Demand, Requirement
    from lean_tumbler.jobs.tune.tuning import Tuned
    from lean_tumbler.stores.tuning_files import MeasuredHost

_SIMULATION_DIFFERS = 1.25
_CANDIDATES_AROUND = 2


def tune_document(tuned: Tuned, host: MeasuredHost) -> TuneDocument:
    """Give measurements and the choice as a document."""
    choice, demand = tuned.choice, tuned.demand
    return TuneDocument(
        host=HostPart.of(host),
        constraints=ConstraintsPart.of(
            demand,
            peak_logins_per_second=demand.logins_per_second or None,
            floor=tuned.floor.source,
            schemes=list(tuned.lines),
        ),
        measured=[MeasuredPart.of(point) for point in tuned.points],
        left_out=[NotMeasured.of(left) for left in tuned.left_out],
        noisy=is_noisy(tuned.points),
        guesses_off_by_factor=MODEL_FACTOR,
        fits=[FitPart.of(line, held_back_error=line.error) for line in tuned.lines.values()],
        candidates=[CandidatePart.of(found) for found in choice.candidates],
        chosen=None
        if choice.chosen is None
        else ChosenPart.of(
            choice.chosen, simulated_p99_milliseconds=tuned.simulated_milliseconds, why=why(tuned)
        ),
        without_verified_by=_candidate(tuned.without_verified_by),
        next_down=_candidate(choice.down),
        next_up=_candidate(choice.up),
        requirements=[
            RequirementPart.of(
                way, within_milliseconds=way.milliseconds, cores_and_milliseconds=way.both
            )
            for way in choice.requirements
        ],
        attacker=AttackerPart(
            hardware=tuned.attacker.hardware.name, likeliest=list(_likeliest(tuned))
        ),
    )


def _candidate(found: Candidate | None) -> CandidatePart | None:
    return None if found is None else CandidatePart.of(found)


def _likeliest(tuned: Tuned) -> Iterator[SpentPart]:
    chosen = tuned.choice.chosen
    if chosen is None:
        return
    for guesses in LIKELIEST:
        cost = attack_cost(guesses, chosen.guesses_per_second, tuned.attacker.hardware)
        opened = tuned.attacker.popularity.opened(guesses)
        yield SpentPart.of(
            cost,
            guesses=guesses,
            share_cracked=opened.share,
            share_is_at_most=opened.is_at_most,
        )


def why(tuned: Tuned) -> str:
    """Give the reason for the choice in a sentence."""
    demand = tuned.demand
    load = _load(demand)
    text = (
        f"of all at or above the floor it costs an attacker most and still answers 99 in 100 "
        f"logins within {demand.within_milliseconds:.0f} ms {load}"
    )
    if tuned.choice.up is not None:
        text += f"; the next step up: {'; '.join(tuned.choice.up.against)}"
    return text


def _load(demand: Demand) -> str:
    if not demand.logins_per_second:
        return "with every core busy (no --peak-logins given)"
    twice = f", {demand.upgrading:.0%} of them deriving twice" if demand.upgrading else ""
    return f"at {demand.logins_per_second:g} logins a second{twice}"


def costs_in_words(scheme: str, parameters: Parameters) -> str:
    """Write parameters for a person."""
    return DERIVATIONS[scheme].in_words(parameters)


def draw_tune(console: Console, tuned: Tuned, host: MeasuredHost) -> None:
    """Print the choice and the table that it comes from."""
    chosen = tuned.choice.chosen
    if chosen is None:
        _draw_ways_out(console, tuned)
    else:
        words = costs_in_words(chosen.scheme, chosen.parameters)
        console.print(Text(f"{chosen.scheme}: {words}", style="bold green"))
        reason = why(tuned)
        console.print(f"{reason[0].upper()}{reason[1:]}.")
    console.print()
    console.print(_table(tuned))
    console.print()
    if chosen is not None:
        _draw_attack(console, tuned, chosen)
    _draw_measuring(console, tuned, host)
    if chosen is not None:
        console.print()
        console.print("Next: --save writes it into the policy; then `lean-tumbler rehearse KNOWN`.")


def _draw_ways_out(console: Console, tuned: Tuned) -> None:
    demand = tuned.demand
    console.print(
        Text(
            f"Nothing at or above the floor answers within {demand.within_milliseconds:.0f} ms "
            f"{_load(demand)}.",
            "bold red",
        )
    )
    if not tuned.choice.requirements:
        console.print(f"The floor ({tuned.floor.source}) has no parameters of these schemes.")
    for way in tuned.choice.requirements:
        costs = costs_in_words(way.scheme, way.parameters)
        console.print(f"  {way.scheme}, {costs}: {way_in_words(way)}")


def way_in_words(way: Requirement) -> str:
    """Say what a scheme at the floor would need."""
    ways = []
    if way.cores is not None:
        ways.append(f"{way.cores} cores would be enough")
    if way.milliseconds is not None:
        ways.append(f"allow --within {math.ceil(way.milliseconds * 1.05)}ms")
    if way.both is not None:
        cores, milliseconds = way.both
        ways.append(f"{cores} cores with --within {math.ceil(milliseconds)}ms would be enough")
    return ", or ".join(ways) or "no number of cores would be enough"


def _table(tuned: Tuned) -> Any:
    table = new_table(
        "", "scheme", "costs", "one login", "p99", "busy", "guesses/s", "why not",
        right=(3, 4, 5, 6),
    )  # fmt: skip
    shown = _shown(tuned)
    for before, found in pairwise([None, *shown]):
        if before is not None and found is not None and before.scheme != found.scheme:
            table.add_section()
        _add_row(table, tuned, found)
    return table


def _shown(tuned: Tuned) -> Sequence[Candidate | None]:
    """Choose rows: of the chosen scheme some around the choice, of others the best that will do."""
    shown: list[Candidate] = []
    for scheme in tuned.lines:
        own = [found for found in tuned.choice.candidates if found.scheme == scheme]
        fitting = [place for place, found in enumerate(own) if not found.against]
        chosen = tuned.choice.chosen
        around = _CANDIDATES_AROUND if chosen is not None and chosen.scheme == scheme else 0
        quickest = min(range(len(own)), key=lambda n: own[n].milliseconds, default=0)
        place = own.index(chosen) if chosen in own else fitting[-1] if fitting else quickest
        shown += own[max(0, place - around) : place + around + 1]
    return shown


def _add_row(table: Any, tuned: Tuned, found: Candidate | None) -> None:
    if found is None:
        return
    is_chosen = found is tuned.choice.chosen
    late = not math.isfinite(found.p99_milliseconds)
    table.add_row(
        "→" if is_chosen else "",
        found.scheme,
        costs_in_words(found.scheme, found.parameters),
        f"{found.milliseconds:.1f} ms",
        "never" if late else f"{found.p99_milliseconds:,.0f} ms",
        f"{100 * found.utilisation:,.0f} %" if tuned.demand.logins_per_second else "",
        guess_count(found.guesses_per_second),
        "; ".join(found.against),
        style="bold green" if is_chosen else "dim" if found.against else "",
    )


def _draw_attack(console: Console, tuned: Tuned, chosen: Candidate) -> None:
    console.print(
        Text(f"An attacker with {tuned.attacker.hardware.name}, against one account:", "bold")
    )
    popularity = tuned.attacker.popularity
    for guesses in LIKELIEST:
        cost = attack_cost(guesses, chosen.guesses_per_second, tuned.attacker.hardware)
        opens = share_cracked(popularity.opened(guesses))
        console.print(
            f"  the {guesses:,} likeliest passwords: {duration(cost.seconds)}, "
            f"{money(cost.money)}; opens {opens} of the accounts"
        )
    for text in _of_the_model(tuned, chosen):
        console.print(text)
    console.print()


def _of_the_model(tuned: Tuned, chosen: Candidate) -> Iterator[str]:
    """Say how far off the guesses may be, and which schemes that leaves alike."""
    yield (
        f"These rates may be off by a factor of {MODEL_FACTOR:g}, up or down: an assumption, held "
        "against no measurement."
    )
    for rival in tuned.choice.rivals():
        apart = max(
            rival.guesses_per_second / chosen.guesses_per_second,
            chosen.guesses_per_second / rival.guesses_per_second,
        )
        if apart < MODEL_FACTOR:
            yield (
                f"{rival.scheme}, {costs_in_words(rival.scheme, rival.parameters)}, is within a "
                f"factor of {apart:.2g}: the model cannot tell which of the two costs more."
            )


def _dropped(tuned: Tuned) -> Iterator[str]:
    """Say which points were not measured for want of time, and which schemes so drop out."""
    slow = Counter((left.scheme, left.why) for left in tuned.left_out if "MiB" not in left.why)
    for (scheme, why), number in slow.items():
        yield f"{scheme}: {count(number, 'point')} not measured, {why}."
    measured = {point.scheme for point in tuned.points}
    for scheme in sorted({left.scheme for left in tuned.left_out} | measured):
        if scheme not in tuned.lines:
            yield (
                f"{scheme} is not among the candidates: fewer than two of its points were "
                "measured. Measure again on a quiet machine."
            )


def _costs_of_verified_by(tuned: Tuned) -> Iterator[str]:
    """Say which choice it costs that stock functions must verify what is written."""
    programs = tuned.demand.verified_by
    if not programs:
        return
    names, chosen, free = (
        ", ".join(map(str, programs)),
        tuned.choice.chosen,
        tuned.without_verified_by,
    )
    if free is None:
        yield (
            f"[target] verified_by ({names}) changes nothing: without it, the choice would be the "
            "same."
        )
    else:
        yield (
            f"[target] verified_by ({names}) rules out {free.scheme}, "
            f"{costs_in_words(free.scheme, free.parameters)}, with which an attacker makes "
            f"{guess_count(free.guesses_per_second)} guesses a second; with the choice: "
            f"{guess_count(chosen.guesses_per_second) if chosen else 'nothing fits'}."
        )
    yield (
        "With verified_by `layer` lays nothing over digests: no stock function verifies the "
        "result. They are replaced as people log in."
    )


def _draw_measuring(console: Console, tuned: Tuned, host: MeasuredHost) -> None:
    for note in _notes_on_measuring(tuned, host):
        console.print(note, style="dim")


def _notes_on_measuring(tuned: Tuned, host: MeasuredHost) -> list[str]:
    measured_on = f"Measured on {host.cores} cores ({host.machine})"
    memory = f"{tuned.demand.memory_kib / 2**20:.3g} GiB"
    floor = f"Floor: {tuned.floor.source}."
    notes = [f"{measured_on}; for {tuned.demand.cores} cores and {memory}. {floor}"]
    if tuned.demand.cores > host.cores:
        notes.append(
            f"More than {host.cores} at once were not measured. The figures assume that more do "
            "not slow each other down further; measure on the host itself to be sure."
        )
    errors = [line.error for line in tuned.lines.values() if line.error is not None]
    if errors:
        notes.append(
            f"Prediction error on held-out measurements: at most {max(errors):.0%} (the median of "
            "each scheme)."
        )
    chosen, simulated = tuned.choice.chosen, tuned.simulated_milliseconds
    if chosen is not None and simulated is not None:
        notes.append(
            f"p99, within which 99 in 100 logins are answered: {chosen.p99_milliseconds:.0f} ms by "
            f"formula, {simulated:.0f} ms by simulation."
        )
        if max(simulated / chosen.p99_milliseconds, chosen.p99_milliseconds / simulated) > (
            _SIMULATION_DIFFERS
        ):
            notes.append("The two differ: take the larger, and leave room.")
    notes += _costs_of_verified_by(tuned)
    if chosen is not None and DERIVATIONS[chosen.scheme].on_top is None:
        notes.append(
            f"{chosen.scheme} cannot wrap a legacy digest: for `layer`, leave it out of --schemes."
        )
    if is_noisy(tuned.points):
        notes.append("The machine is noisy: timings vary. Measure again when it is quiet.")
    notes += [
        f"Not measured: {left.scheme}, {costs_in_words(left.scheme, left.parameters)}: {left.why}."
        for left in tuned.left_out
        if "MiB" in left.why
    ]
    return [*notes, *_dropped(tuned)]
