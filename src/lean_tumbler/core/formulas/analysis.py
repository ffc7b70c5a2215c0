"""What can be said of a formula without running it."""

from collections.abc import Iterable, Iterator, Mapping
from types import MappingProxyType

from lean_tumbler.core.formulas.steps import (
    DIGESTING,
    DIGESTS,
    NARROWING,
    Cut,
    Digest,
    Formula,
    Hmac,
    Input,
    Join,
    Key,
    Loop,
    Number,
    Operand,
    Part,
    Pbkdf2,
    Rewrite,
    Step,
    Take,
)


def _operands(steps: Iterable[Step]) -> Iterator[Operand]:
    """Every operand, nested ones included."""
    for step in steps:
        if isinstance(step, Loop):
            yield from _operands(step.body)
            continue
        operand = (
            step.key
            if isinstance(step, Hmac)
            else step.salt
            if isinstance(step, Pbkdf2)
            else step.operand
            if isinstance(step, Take | Join)
            else None
        )
        if operand is not None:
            yield operand
            if isinstance(operand.source, Formula):
                yield from _operands(operand.source.steps)


def inputs_used(formula: Formula) -> frozenset[Input]:
    """Tell which of salt, login and password the operands take."""
    return frozenset(
        operand.source for operand in _operands(formula.steps) if isinstance(operand.source, Input)
    )


def keys_used(formula: Formula) -> frozenset[str]:
    """Tell which named keys a formula needs."""
    return frozenset(
        operand.source.name
        for operand in _operands(formula.steps)
        if isinstance(operand.source, Key)
    )


def parts_used(formula: Formula) -> frozenset[str]:
    """Tell which parts of a row a formula takes, as operands or as numbers."""
    operands = {
        operand.source.name
        for operand in _operands(formula.steps)
        if isinstance(operand.source, Part)
    }
    return frozenset(operands | number_parts(formula))


def number_parts(formula: Formula) -> frozenset[str]:
    """Tell which parts of a row a formula takes as numbers."""
    return frozenset(number.name for number in _numbers(formula.steps) if isinstance(number, Part))


def _numbers(steps: Iterable[Step]) -> Iterator[Number]:
    for step in steps:
        if isinstance(step, Loop):
            yield step.times
            yield from _numbers(step.body)
        elif isinstance(step, Cut):
            yield step.length
        elif isinstance(step, Pbkdf2):
            yield from (step.rounds, step.length_bytes)
    for operand in _operands(steps):
        if isinstance(operand.source, Formula):
            yield from _numbers(operand.source.steps)


def digests_used(formula: Formula) -> tuple[str, ...]:
    """Name the digests in the order in which they run, nested formulas left out."""

    def walk(steps: Iterable[Step]) -> Iterator[str]:
        for step in steps:
            if isinstance(step, Digest):
                yield step.name
            elif isinstance(step, Hmac):
                yield f"hmac-{step.digest}"
            elif isinstance(step, Pbkdf2):
                yield f"pbkdf2-{step.digest}"
            elif isinstance(step, Loop):
                yield from walk(step.body)

    return tuple(walk(formula.steps))


def work(formula: Formula, numbers: Mapping[str, int] = MappingProxyType({})) -> int:
    """Count the steps and rounds that one evaluation runs.

    Args:
        formula: whose.
        numbers: the parts of the row that it takes as numbers; 1 where one is not there.
    """
    return _Work(numbers).steps(formula.steps)


class _Work:
    def __init__(self, numbers: Mapping[str, int]) -> None:
        self._numbers = numbers

    def _number(self, number: Number) -> int:
        return self._numbers.get(number.name, 1) if isinstance(number, Part) else number

    def steps(self, steps: Iterable[Step]) -> int:
        total = 0
        for step in steps:
            if isinstance(step, Loop):
                total += self._number(step.times) * self.steps(step.body)
            elif isinstance(step, Pbkdf2):
                blocks = -(-self._number(step.length_bytes) // DIGESTS[step.digest].size_bytes)
                total += self._number(step.rounds) * blocks + self._operand(step.salt)
            elif isinstance(step, Hmac):
                total += 2 + self._operand(step.key)
            elif isinstance(step, Take | Join):
                total += 1 + self._operand(step.operand)
            else:
                total += 1
        return total

    def _operand(self, operand: Operand) -> int:
        inner = self.steps(operand.source.steps) if isinstance(operand.source, Formula) else 0
        return inner + len(operand.filters)


def lossy(formula: Formula) -> tuple[str, ...]:
    """Name the steps after which different passwords open the same account; empty where none.

    Such a step counts where it works on the password itself, before any digest.
    """
    found: list[str] = []
    _lossy(formula.steps, raw=True, found=found)
    return tuple(dict.fromkeys(found))


def _lossy(steps: Iterable[Step], *, raw: bool, found: list[str]) -> bool:
    """Follow the flow; `raw` says whether the password's own text is in it."""
    for step in steps:
        if isinstance(step, DIGESTING):
            operand = step.key if isinstance(step, Hmac) else None
            if operand is not None:
                _operand_raw(operand, found)
            raw = False
        elif isinstance(step, Take):
            raw = _operand_raw(step.operand, found)
        elif isinstance(step, Join):
            raw = _operand_raw(step.operand, found) or raw
        elif isinstance(step, Loop):
            raw = _lossy(step.body, raw=raw, found=found)
        elif isinstance(step, Rewrite) and raw and step.name in NARROWING:
            found.append(step.name)
        elif isinstance(step, Cut) and raw:
            length = step.length.name if isinstance(step.length, Part) else step.length
            found.append(f"slice {step.start}" if step.start else f"first {length}")
    return raw


def _operand_raw(operand: Operand, found: list[str]) -> bool:
    source = operand.source
    if isinstance(source, Formula):
        raw = _lossy(source.steps, raw=True, found=found)
    else:
        raw = source is Input.PASSWORD
    if raw:
        found.extend(name for name in operand.filters if name in NARROWING)
    return raw
