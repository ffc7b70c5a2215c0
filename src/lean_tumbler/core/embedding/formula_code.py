"""Formulas as straight-line code: each step a line, in the words of one language.

Two variables carry the flow: `text` and `bytes`. A step assigns to the one that it gives; the first
assignment in a block declares it. A bracketed formula becomes a function of its own.
"""

from collections.abc import Iterable, Mapping, Sequence
from typing import ClassVar, Protocol

from msgspec import Struct

from lean_tumbler.core.formulas.notation import write
from lean_tumbler.core.formulas.output import output_shape
from lean_tumbler.core.formulas.steps import (
    SLICE,
    Cut,
    Digest,
    Encode,
    Flow,
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
    Side,
    Step,
    Take,
    Write,
)

TEXT, BYTES = "text", "bytes"


class Expression(Struct, frozen=True):
    """Something that has a value."""

    code: str
    kind: str  # TEXT or BYTES


class Words(Protocol):
    """How one language says what a formula's steps do."""

    # operation -> how a call of it is written
    calls: ClassVar[Mapping[str, str]]

    def literal(self, value: str | bytes) -> str:
        """Write a constant."""

    def declared(self, kind: str, code: str) -> str:
        """Write the first assignment to the variable of a kind."""

    def assigned(self, kind: str, code: str) -> str:
        """Write a later one."""

    def variable(self, kind: str) -> str:
        """Name the variable of a kind."""

    def loop(self, times: str, body: Sequence[str]) -> list[str]:
        """Write a loop."""

    def inner(self, name: str) -> str:
        """Write the call of a function of a bracketed formula."""

    def inner_name(self, name: str, number: int) -> str:
        """Name the function of a bracketed formula."""


def assignment(name: str, code: str) -> str:
    """Write an assignment, in a language that adds to a variable by `+=`."""
    added = code.removeprefix(f"{name} + ")
    return f"{name} = {code}" if added == code else f"{name} += {added}"


class Function(Struct, frozen=True):
    """One function of code."""

    name: str
    text: str  # the formula, in the notation
    lines: tuple[str, ...]  # its body
    result: Expression


class FormulaWriter:
    """Writes one formula out, with the functions of what stands in brackets in it."""

    def __init__(self, words: Words, name: str) -> None:
        self._words, self._name = words, name
        self._functions: list[Function] = []

    def functions(self, formula: Formula, *, kind: str) -> list[Function]:
        """Give its functions, those of bracketed formulas first.

        Args:
            formula: which.
            kind: what the last one gives.
        """
        self._functions = []
        self._function(formula, self._name, kind)
        return self._functions

    def _function(self, formula: Formula, name: str, kind: str) -> None:
        lines: list[str] = []
        start = Expression(self._words.calls["password"], TEXT)
        block = _Block(self, lines, frozenset())
        end = block.run(formula.steps, start)
        if block.last is not None and end.kind == kind:  # the last line is what is given back
            lines.pop()
            end = block.last
        result = Expression(self.converted(end, kind), kind)
        self._functions.append(Function(name, write(formula), tuple(lines), result))

    def bracketed(self, formula: Formula) -> Expression:
        """Give the call of a bracketed formula, whose function is written before."""
        kind = TEXT if output_shape(formula).is_text else BYTES
        name = self._words.inner_name(self._name, len(self._functions) + 1)
        self._function(formula, name, kind)
        return Expression(self._words.inner(name), kind)

    @property
    def words(self) -> Words:
        """The language's."""
        return self._words

    def call(self, name: str, *given: str) -> str:
        """Write the call of an operation."""
        return self._words.calls[name].format(*given)

    def converted(self, value: Expression, kind: str) -> str:
        """Write a value as text or bytes."""
        if value.kind == kind:
            return value.code
        return self.call("utf8" if kind == BYTES else "text", value.code)


class _Block:
    """Lines in one block of code."""

    def __init__(self, writer: FormulaWriter, lines: list[str], declared: frozenset[str]) -> None:
        self._writer, self._lines, self._declared = writer, lines, set(declared)
        self.last: Expression | None = None  # of the last line, where that assigns it

    def run(self, steps: Iterable[Step], value: Expression) -> Expression:
        for step in steps:
            value = self._kept(self._after(step, value))
        return value

    def _kept(self, value: Expression) -> Expression:
        words = self._writer.words
        name = words.variable(value.kind)
        if value.code == name:
            return value
        write_line = words.assigned if value.kind in self._declared else words.declared
        self._declared.add(value.kind)
        self._lines.append(write_line(value.kind, value.code))
        self.last = value
        return Expression(name, value.kind)

    def _after(self, step: Step, value: Expression) -> Expression:  # noqa: PLR0911 - a kind each
        call, as_kind = self._writer.call, self._writer.converted
        if isinstance(step, Digest):
            return Expression(call(f"digest {step.name}", as_kind(value, BYTES)), BYTES)
        if isinstance(step, Hmac):
            key = as_kind(self._operand(step.key), BYTES)
            return Expression(call(f"hmac {step.digest}", key, as_kind(value, BYTES)), BYTES)
        if isinstance(step, Pbkdf2):
            salt = as_kind(self._operand(step.salt), BYTES)
            numbers = self._number(step.rounds), self._number(step.length_bytes)
            given = (as_kind(value, BYTES), salt, *numbers)
            return Expression(call(f"pbkdf2 {step.digest}", *given), BYTES)
        if isinstance(step, Write):
            return Expression(call(step.name, as_kind(value, BYTES)), TEXT)
        if isinstance(step, Encode):
            return self._encoded(step.name, as_kind(value, TEXT))
        if isinstance(step, Rewrite):
            return Expression(call(step.name, as_kind(value, TEXT)), TEXT)
        if isinstance(step, Cut):
            return self._cut(value, str(step.start), self._number(step.length))
        if isinstance(step, Take):
            return self._operand(step.operand)
        if isinstance(step, Join):
            return self._joined(step, value)
        return self._loop(step, value)

    def _encoded(self, name: str, text: str) -> Expression:
        call = "utf8" if name == "utf-8" else f"encode {name}"
        return Expression(self._writer.call(call, text), BYTES)

    def _cut(self, value: Expression, start: str, length: str) -> Expression:
        return Expression(self._writer.call(f"cut {value.kind}", value.code, start, length),
                          value.kind)  # fmt: skip

    def _joined(self, step: Join, value: Expression) -> Expression:
        operand = self._operand(step.operand)
        is_text = value.kind == TEXT and step.operand.flow is Flow.TEXT
        kind = TEXT if is_text else BYTES
        other, own = self._writer.converted(operand, kind), self._writer.converted(value, kind)
        before = [other] if step.side is not Side.APPEND else []
        after = [other] if step.side is not Side.PREPEND else []
        joined = [*before, own, *after]
        code = joined[0]
        for each in joined[1:]:
            code = self._writer.call(f"join {kind}", code, each)
        return Expression(code, kind)

    def _loop(self, step: Loop, value: Expression) -> Expression:
        """Write a loop; where the first time changes text to bytes or back, it stands before."""
        times = self._number(step.times)
        value = self._kept_own(value)
        if self._settled(step, value) != value.kind:
            value = self.run(step.body, value)
            times = str(int(times) - 1) if times.isdigit() else f"{times} - 1"
        lines: list[str] = []
        _Block(self._writer, lines, frozenset(self._declared)).run(step.body, value)
        self._lines += self._writer.words.loop(times, lines)
        self.last = None
        return value

    def _kept_own(self, value: Expression) -> Expression:
        """Make sure that the variable itself holds the value: the loop assigns to it."""
        if value.kind in self._declared:
            return value
        self._declared.add(value.kind)
        self._lines.append(self._writer.words.declared(value.kind, value.code))
        self.last = None
        return Expression(self._writer.words.variable(value.kind), value.kind)

    def _settled(self, step: Loop, value: Expression) -> str:
        probe = _Block(self._writer, [], frozenset({TEXT, BYTES}))
        kept = list(self._writer._functions)  # noqa: SLF001 - a trial leaves no function behind
        end = probe.run(step.body, value)
        self._writer._functions[:] = kept  # noqa: SLF001 - as above
        return end.kind

    def _number(self, number: Number) -> str:
        return (
            self._writer.call("number", self._writer.words.literal(number.name))
            if isinstance(number, Part)
            else str(number)
        )

    def _operand(self, operand: Operand) -> Expression:
        value = self._source(operand.source)
        for name in operand.filters:
            value = self._filtered(name, value)
        return value

    def _source(self, source: Input | Key | Part | str | bytes | Formula) -> Expression:
        call, literal = self._writer.call, self._writer.words.literal
        if isinstance(source, Formula):
            return self._writer.bracketed(source)
        if isinstance(source, Key):
            return Expression(call("key", literal(source.name)), BYTES)
        if isinstance(source, Part):
            return Expression(call("part", literal(source.name)), BYTES)
        if isinstance(source, Input):
            return Expression(call(source.value), BYTES if source is Input.SALT else TEXT)
        return Expression(literal(source), TEXT if isinstance(source, str) else BYTES)

    def _filtered(self, name: str, value: Expression) -> Expression:
        call, as_kind = self._writer.call, self._writer.converted
        if name.startswith(SLICE):
            start, end = name.removeprefix(SLICE).split()
            return self._cut(value, start, str(int(end) - int(start)))
        if name in {"unhex", "unbase64"}:
            return Expression(call(name, as_kind(value, TEXT)), BYTES)
        if name.startswith(("hex", "base64")):
            return Expression(call(name, as_kind(value, BYTES)), TEXT)
        return Expression(call(name, as_kind(value, TEXT)), TEXT)


def operations(formulas: Iterable[Formula]) -> list[str]:
    """Name what a language must be able to do for some formulas."""
    asked: set[str] = set()
    for formula in formulas:
        _asked(formula.steps, asked)
    return sorted(asked)


def _asked(steps: Iterable[Step], asked: set[str]) -> None:
    """Gather what not every language has: digests, encodings, and what is made of text."""
    for step in steps:
        if isinstance(step, Loop):
            _asked(step.body, asked)
            continue
        asked |= _names_of(step)
        operand = _operand_of(step)
        if operand is not None:
            asked |= {name for name in operand.filters if not name.startswith(SLICE)}
            if isinstance(operand.source, Formula):
                _asked(operand.source.steps, asked)


def _names_of(step: Step) -> set[str]:
    if isinstance(step, Digest):
        return {f"digest {step.name}"}
    if isinstance(step, Hmac):
        return {f"hmac {step.digest}"}
    if isinstance(step, Pbkdf2):
        return {f"pbkdf2 {step.digest}"}
    if isinstance(step, Encode):
        return {f"encode {step.name}"} - {"encode utf-8"}
    return {step.name} if isinstance(step, Rewrite | Write) else set()


def _operand_of(step: Step) -> Operand | None:
    if isinstance(step, Hmac):
        return step.key
    if isinstance(step, Pbkdf2):
        return step.salt
    return step.operand if isinstance(step, Take | Join) else None
