"""What `tune` measured and chose, as its document says it."""

from typing import Annotated

from lean_tumbler.reports.documents import Costs, Document, DocumentPart, Scheme, named


class HostPart(DocumentPart):
    """The machine that was measured."""

    system: Annotated[str, "its operating system"]
    machine: Annotated[str, "its processor"]
    cores: Annotated[int, "cores"]
    memory_kib: Annotated[int, "memory"]


class ConstraintsPart(DocumentPart):
    """What was asked for."""

    cores: Annotated[int, "cores that logins may use"]
    memory_kib: Annotated[int, "memory that logins may use"]
    within_milliseconds: Annotated[float, "the longest time that a login may take"]
    peak_logins_per_second: Annotated[float | None, "logins a second at the peak; null for none"]
    upgrading: Annotated[float, "part of these logins that also write a value, 0 to 1"]
    floor: Annotated[str, "the floor"]
    schemes: Annotated[list[str], "schemes that may be chosen"]
    verified_by: Annotated[list[str], "languages that must be able to verify it"]


class MeasuredPart(DocumentPart):
    """One measurement."""

    scheme: Scheme
    parameters: Costs
    milliseconds: Annotated[float, "time of one derivation"]
    milliseconds_at_load: Annotated[float, "time of one derivation while others run"]
    milliseconds_at_once: Annotated[dict[str, float], "the same by how many run at once"]
    spread: Annotated[float, "spread of repeated measurements, as a share"]


class NotMeasured(DocumentPart):
    """Parameters that were not measured."""

    scheme: Scheme
    parameters: Costs
    why: Annotated[str, "why"]


class FitPart(DocumentPart):
    """How well the model fits a scheme."""

    scheme: Scheme
    held_back_error: Annotated[
        float | None, "error on a measurement that the fit had not seen, as a share"
    ]


class CandidatePart(DocumentPart):
    """Parameters at or above the floor, under what was asked for."""

    scheme: Scheme
    parameters: Costs
    at_once: Annotated[int, "derivations that may run at once"]
    milliseconds: Annotated[float, "time of one derivation"]
    p99_milliseconds: Annotated[
        float | None, "time within which 99 of 100 logins are answered; null without end"
    ]
    utilisation: Annotated[float, "part of the derivation slots that is busy at the peak"]
    guesses_per_second: Annotated[float, "an attacker's"]
    against: Annotated[list[str], "why it will not do; none where it does"]


class ChosenPart(CandidatePart):
    """What was chosen."""

    simulated_p99_milliseconds: Annotated[float | None, "the same by simulation"]
    why: Annotated[str, "why it was taken"]


class RequirementPart(DocumentPart):
    """What the floor of a scheme would need, where nothing fits."""

    scheme: Scheme
    parameters: Costs
    cores: Annotated[int | None, "so many cores would do"]
    within_milliseconds: Annotated[float | None, "so much time for a login would do"]
    cores_and_milliseconds: Annotated[
        tuple[int, float] | None, "cores and milliseconds that together would do"
    ]


class SpentPart(DocumentPart):
    """What the likeliest passwords cost an attacker."""

    guesses: Annotated[int, "passwords that are tried"]
    seconds: Annotated[float, "how long that takes"]
    money: Annotated[float, "cost in US dollars"]
    kilowatt_hours: Annotated[float, "energy"]
    share_cracked: Annotated[float, "part of the accounts that falls, 0 to 1"]
    share_is_at_most: Annotated[bool, "whether that share is an upper bound"]


class AttackerPart(DocumentPart):
    """What the chosen one costs an attacker."""

    hardware: Annotated[str, "the attacker's hardware"]
    likeliest: Annotated[list[SpentPart], "for so many of the likeliest passwords"]


class TuneDocument(Document, tag=named("tune")):
    """Measurements, and the parameters that they lead to."""

    host: Annotated[HostPart, "the machine"]
    constraints: Annotated[ConstraintsPart, "what was asked for"]
    measured: Annotated[list[MeasuredPart], "what was measured"]
    left_out: Annotated[list[NotMeasured], "what was not measured, and why"]
    noisy: Annotated[bool, "whether the machine was too busy to be sure"]
    guesses_off_by_factor: Annotated[
        float, "by which factor all guesses a second may be off, up or down"
    ]
    fits: Annotated[list[FitPart], "how well the model fits each scheme"]
    candidates: Annotated[list[CandidatePart], "what could be chosen, the strongest first"]
    chosen: Annotated[ChosenPart | None, "what was chosen; null where nothing fits"]
    without_verified_by: Annotated[
        CandidatePart | None, "what would be chosen without `verified_by`; null for the same"
    ]
    next_down: Annotated[CandidatePart | None, "the next cheaper one"]
    next_up: Annotated[CandidatePart | None, "the next dearer one"]
    requirements: Annotated[list[RequirementPart], "what would be needed where nothing fits"]
    attacker: Annotated[AttackerPart, "what the chosen one costs an attacker"]
