"""One change away: what would have to be different for a formula to fit."""

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.evaluation import Inputs, evaluate
from lean_tumbler.core.formulas.output import output_shape
from lean_tumbler.core.formulas.steps import (
    ENCODINGS,
    Encode,
    Flow,
    Formula,
    Input,
    Join,
    Side,
    Step,
    Write,
)
from lean_tumbler.errors import CheckImpossible, FormulaError, InputDoesNotFit

_OTHER_SIDE = {Side.APPEND: Side.PREPEND, Side.PREPEND: Side.APPEND}
_OTHER_CASE = {"hex": "hex-upper", "hex-upper": "hex"}
_SIDE_NAMES = {Side.APPEND: "after", Side.PREPEND: "before"}


def changed_inputs(inputs: Inputs) -> Iterator[tuple[str, Inputs]]:
    """Give inputs with one thing about them different, and what that is."""
    password, salt = inputs.password, inputs.salt
    for name, changed in {
        "the password without blanks around it": password.strip(),
        "the password in lower case": password.lower(),
        "the password in upper case": password.upper(),
    }.items():
        if changed != password:
            yield name, replace(inputs, password=changed)
    if salt is not None:
        for name, altered in {
            "the salt without blanks around it": salt.strip(),
            "the salt with a blank after it": salt + b" ",
            "the salt with a newline after it": salt + b"\n",
            "the salt in lower case": salt.lower(),
        }.items():
            if altered != salt:
                yield name, replace(inputs, salt=altered)


def changed_formulas(formula: Formula) -> Iterator[tuple[str, Formula]]:
    """Give formulas with one step different, and what that is."""
    last = len(formula.steps) - 1
    for index, step in enumerate(formula.steps):
        for what, other in _changed_step(step, is_last=index == last):
            steps = (*formula.steps[:index], other, *formula.steps[index + 1 :])
            yield what, Formula(steps, formula.flow)
    if not isinstance(formula.steps[0], Encode):
        for name in ENCODINGS:  # text that reaches a digest is UTF-8 by itself
            if name != "utf-8":
                changed = Formula((Encode(name), *formula.steps), Flow.TEXT)
                yield f"{name} instead of utf-8", changed


def _changed_step(step: Step, *, is_last: bool) -> Iterator[tuple[str, Step]]:
    if isinstance(step, Join) and step.side in _OTHER_SIDE:
        side = _OTHER_SIDE[step.side]
        what = step.operand.source if isinstance(step.operand.source, Input) else "text"
        yield (
            f"the {what} {_SIDE_NAMES[side]} instead of {_SIDE_NAMES[step.side]}",
            replace(step, side=side),
        )
    elif isinstance(step, Encode):
        for name in ENCODINGS:
            if name != step.name:
                yield f"{name} instead of {step.name}", Encode(name)
    elif isinstance(step, Write) and step.name in _OTHER_CASE and not is_last:
        # At the end, letter case does not count.
        yield f"{_OTHER_CASE[step.name]} between the rounds", Write(_OTHER_CASE[step.name])


def salted_formulas(names: Sequence[str]) -> Iterator[tuple[str, Formula]]:
    """Give the simplest salted formulas of some digests."""
    for name in names:
        for side in (Side.APPEND, Side.PREPEND):
            text = f"utf-8, {side} salt, {name}, hex"
            yield f"“{text}”", notation.parse(text)


def near_miss(formula: Formula, stored: str, inputs: Inputs) -> str:
    """Say what one change would make a formula fit; empty where none does.

    Args:
        formula: the formula that does not fit.
        stored: what is stored.
        inputs: what it was tried on.
    """
    for what, changed in changed_inputs(inputs):
        if fits(formula, stored, changed):
            return f"it fits {what}"
    for what, other in changed_formulas(formula):
        if fits(other, stored, inputs):
            return f"it fits with {what}"
    return ""


def fits(formula: Formula, stored: str, inputs: Inputs) -> bool:
    """Tell whether a formula explains a stored value."""
    shape = output_shape(formula)
    canonical = shape.canonical(stored)
    if canonical is None:
        return False
    try:
        return shape.canonical(evaluate(formula, inputs)) == canonical
    except (InputDoesNotFit, CheckImpossible, FormulaError):
        return False
