"""A formula step by step, with what flows after each: who shows it hides what is real."""

from collections.abc import Iterator

from msgspec import Struct

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.evaluation import Inputs, number_of, value_of
from lean_tumbler.core.formulas.steps import Flow, Formula, Loop, Part, Step


class TracedStep(Struct, frozen=True):
    """One step, and what flows after it: text as it is, bytes in hexadecimal."""

    step: str
    value: str
    is_text: bool


def trace(formula: Formula, inputs: Inputs) -> Iterator[TracedStep]:
    """Follow a formula; of a loop, the first two rounds and the last are shown.

    Raises:
        InputDoesNotFit: a character does not fit the encoding, or an input is not there.
        KeyMissing: a key is not there.
    """
    flow = Flow.TEXT
    for place, step in enumerate(formula.steps):
        before = formula.steps[:place]
        name = notation.write_step(step, flow)
        if isinstance(step, Loop):
            times = step.times
            if isinstance(times, Part):
                times = number_of(inputs, times.name)
            for rounds in sorted({1, min(2, times), times}):
                cut = Loop(rounds, step.body)
                yield _after((*before, cut), f"{name}, after {rounds:,}", inputs)
        else:
            yield _after((*before, step), name, inputs)
        flow = notation.flow_after(step, flow)


def _after(steps: tuple[Step, ...], name: str, inputs: Inputs) -> TracedStep:
    value = value_of(Formula(steps), inputs)
    if isinstance(value, bytes):
        return TracedStep(name, value.hex(), is_text=False)
    return TracedStep(name, value, is_text=True)
