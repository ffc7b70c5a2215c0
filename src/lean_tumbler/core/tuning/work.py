"""What one guess costs an attacker, of whatever makes a value: a scheme or a formula."""

from collections.abc import Iterable
from types import MappingProxyType

from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.steps import (
    DIGESTS,
    Digest,
    Formula,
    Hmac,
    Join,
    Loop,
    Number,
    Operand,
    Part,
    Pbkdf2,
    Step,
    Take,
)
from lean_tumbler.core.schemes.base import Parameters
from lean_tumbler.core.schemes.catalogue import WORK
from lean_tumbler.core.schemes.guess_work import COMPRESSION, HMAC_COMPRESSIONS, Work


def formula_work(formula: Formula, numbers: Parameters = MappingProxyType({})) -> Work:
    """Count what one evaluation of a formula takes; salts and keys are prepared once.

    Args:
        formula: which.
        numbers: the parts of the row that it takes as numbers; 1 where one is not known.
    """
    return Work(operations=_Steps(numbers).all(formula.steps))


class _Steps:
    def __init__(self, numbers: Parameters) -> None:
        self._numbers = numbers

    def all(self, steps: Iterable[Step]) -> float:
        return sum(map(self._one, steps))

    def _number(self, number: Number) -> int:
        return self._numbers.get(number.name, 1) if isinstance(number, Part) else number

    def _one(self, step: Step) -> float:
        match step:
            case Digest():
                return COMPRESSION[step.name]
            case Hmac():
                keyed = 2 * HMAC_COMPRESSIONS * COMPRESSION[step.digest]
                return keyed + self._operand(step.key)
            case Pbkdf2():
                blocks = -(-self._number(step.length_bytes) // DIGESTS[step.digest].size_bytes)
                rounds = blocks * self._number(step.rounds)
                return rounds * HMAC_COMPRESSIONS * COMPRESSION[step.digest]
            case Loop():
                return self._number(step.times) * self.all(step.body)
            case Take() | Join():
                return self._operand(step.operand)
            case _:
                return 0.0

    def _operand(self, operand: Operand) -> float:
        return self.all(operand.source.steps) if isinstance(operand.source, Formula) else 0.0


def work_of(scheme: str, parameters: Parameters, *, formula: str = "") -> Work | None:
    """Count what one guess takes; None for what is not guessed or not known.

    Args:
        scheme: by its trade name.
        parameters: its costs.
        formula: for bare digests, what makes them, in the notation; empty where unknown.
    """
    if formula:
        return formula_work(notation.parse(formula), parameters)
    counted = WORK.get(scheme)
    try:
        return counted(parameters) if counted else None
    except KeyError:  # a layout that does not state its cost
        return None
