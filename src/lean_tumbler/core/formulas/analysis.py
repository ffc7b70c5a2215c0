"""What can be said of a formula without running it."""

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

from lean_tumbler.core.formulas.steps import (
    DIGESTING,
    DIGESTS,
    NARROWING,
    Cut,
    Digest,
    Encode,
    Formula,
    Hmac,
    Input,
    Join,
    Key,
    Loop,
    Operand,
    Pbkdf2,
    Rewrite,
    Side,
    Step,
    Take,
    Write,
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


def work(formula: Formula) -> int:
    """Count the steps and rounds that one evaluation runs."""
    return _work(formula.steps)


def _work(steps: Iterable[Step]) -> int:
    total = 0
    for step in steps:
        if isinstance(step, Loop):
            total += step.times * _work(step.body)
        elif isinstance(step, Pbkdf2):
            blocks = -(-step.length_bytes // DIGESTS[step.digest].size_bytes)
            total += step.rounds * blocks + _operand_work(step.salt)
        elif isinstance(step, Hmac):
            total += 2 + _operand_work(step.key)
        elif isinstance(step, Take | Join):
            total += 1 + _operand_work(step.operand)
        else:
            total += 1
    return total


def _operand_work(operand: Operand) -> int:
    inner = _work(operand.source.steps) if isinstance(operand.source, Formula) else 0
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
            found.append(f"first {step.length}")
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


@dataclass(frozen=True, slots=True)
class OutputShape:
    """What a formula's result looks like: its length where it is fixed, and its writing."""

    length: int | None
    writing: str = ""

    def canonical(self, stored: str) -> str | None:
        """Bring a stored text into the form that the formula prints; None where it cannot fit.

        Blanks around it, the letter case of hexadecimal and the padding of base64 do not count.
        """
        text = stored.strip()
        if self.writing in {"hex", "hex-upper"}:
            text = text.lower() if self.writing == "hex" else text.upper()
            pattern = r"[0-9a-fA-F]+"
        elif self.writing in {"base64", "base64-unpadded"}:
            text = text.rstrip("=")
            if self.writing == "base64":
                text += "=" * (-len(text) % 4)
            pattern = r"[A-Za-z0-9+/]+={0,2}"
        else:
            pattern = r"(?s:.+)"
        if self.length is not None and len(text) != self.length:
            return None
        return text if re.fullmatch(pattern, text, re.ASCII) else None


def output_shape(formula: Formula) -> OutputShape:
    """Work out what the result looks like."""
    return _shape(formula.steps, OutputShape(None))


def _shape(steps: Iterable[Step], shape: OutputShape) -> OutputShape:
    for step in steps:
        shape = _shape_after(step, shape)
    return shape


def _shape_after(step: Step, shape: OutputShape) -> OutputShape:
    length = shape.length
    if isinstance(step, Digest | Hmac):
        name = step.name if isinstance(step, Digest) else step.digest
        return OutputShape(DIGESTS[name].size_bytes)
    if isinstance(step, Pbkdf2):
        return OutputShape(step.length_bytes)
    if isinstance(step, Write):
        return OutputShape(_written_length(step.name, length), step.name)
    if isinstance(step, Cut):
        return replace(shape, length=None if length is None else min(length, step.length))
    if isinstance(step, Loop):
        once = _shape(step.body, shape)
        return once if _shape(step.body, once) == once else OutputShape(None)
    if isinstance(step, Join):
        return OutputShape(_joined_length(step, length))
    return _coded_shape_after(step, shape) if shape.writing else OutputShape(None)


def _coded_shape_after(step: Step, shape: OutputShape) -> OutputShape:
    """Follow hexadecimal or base64 on: it is ASCII, and no rewrite changes its length."""
    length = shape.length
    if isinstance(step, Encode):
        doubled = length is not None and step.name == "utf-16le"
        return OutputShape(2 * (length or 0) if doubled else length)
    if isinstance(step, Rewrite) and shape.writing in {"hex", "hex-upper"}:
        writing = {"upper": "hex-upper", "lower": "hex"}.get(step.name, shape.writing)
        return replace(shape, writing=writing)
    return OutputShape(length if isinstance(step, Rewrite) else None)


def _written_length(writing: str, length: int | None) -> int | None:
    if length is None:
        return None
    if writing in {"hex", "hex-upper"}:
        return 2 * length
    return 4 * -(-length // 3) if writing == "base64" else -(-4 * length // 3)


def _joined_length(step: Join, length: int | None) -> int | None:
    """Length after a join: known for ASCII literals, one byte a character whatever they join."""
    source = step.operand.source
    if length is None or step.operand.filters:
        return None
    if isinstance(source, Input) or not isinstance(source, str) or not source.isascii():
        return None
    return length + len(source) * (2 if step.side is Side.SURROUND else 1)
