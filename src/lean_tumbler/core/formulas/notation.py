"""The notation: text to formula and back.

    formula  =  step *("," step)
    step     =  word  |  "first" N  |  "slice" A B
             |  ("take" / "append" / "prepend" / "surround") F
             |  digest  |  "hmac-" digest F  |  "pbkdf2-" digest ROUNDS LENGTH F
             |  N "times" "(" formula ")"
    F        =  source *(":" filter)
    source   =  "salt" | "login" | "password" | "key" NAME | PART | JSON string | "0x" hex
             |  "(" formula ")"
    N, ROUNDS, LENGTH  =  a whole number | PART

PART is the name of a part of the row: of the value's layout, or of a column of its own. A
bracketed formula starts from the password again. Printing a formula gives canonical text,
which parses to the same formula.
"""

import difflib
import hashlib
import json
from collections.abc import Iterable, Iterator

from lean_tumbler.core.formulas.steps import (
    DIGESTING,
    DIGESTS,
    ENCODINGS,
    FILTERS,
    PBKDF2_DIGESTS,
    SLICE,
    TEXT_ENCODINGS,
    TEXT_STEPS,
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
from lean_tumbler.core.formulas.tokens import TEXT_CHARACTERS, WORDS, Token, is_part_name, tokens
from lean_tumbler.errors import FormulaError

DEPTH = 16
LARGEST_NUMBER = 100_000_000
FINGERPRINT_DIGITS = 16


class _Parser:
    """Recursive descent; `flow` is checked on the way, so that an error names its step."""

    def __init__(self, text: str) -> None:
        self.tokens = tuple(tokens(text))
        self._at = 0
        self._depth = 0

    @property
    def _next(self) -> Token:
        return self.tokens[self._at]

    def _take(self) -> Token:
        token = self._next
        self._at += token.kind != "end"
        return token

    @staticmethod
    def _expected(what: str, token: Token) -> FormulaError:
        found = "the end" if token.kind == "end" else f"a {token.kind}"
        if token.kind == "mark":
            found = f"“{token.text}”"
        return FormulaError(
            f"position {token.offset + 1}: expected {what}, found {found}", offset=token.offset
        )

    def _mark(self, text: str) -> None:
        token = self._take()
        if token.text != text or token.kind != "mark":
            raise self._expected(f"“{text}”", token)

    def _number(self, what: str) -> Number:
        token = self._take()
        if token.kind == "word" and is_part_name(token.text):
            return Part(token.text)
        number = int(token.text[:10]) if token.kind == "number" else 0
        if not 1 <= number <= LARGEST_NUMBER or len(token.text) > 10:
            raise self._expected(
                f"{what} from 1 to {LARGEST_NUMBER:,}, or the name of a part", token
            )
        return number

    def whole(self, *, may_end_in_bytes: bool) -> Formula:
        """Parse to the end of the text."""
        steps, flow = self._steps(Flow.TEXT)
        if self._next.kind != "end":
            raise self._expected("“,” or the end", self._next)
        last = self.tokens[-1]
        if flow is not Flow.TEXT and not may_end_in_bytes:
            raise FormulaError(
                f"position {last.offset + 1}: the formula ends in bytes; "
                f"end it with {' or '.join(TEXT_ENCODINGS)}",
                offset=last.offset,
            )
        return Formula(steps, flow)

    def _steps(self, flow: Flow) -> tuple[tuple[Step, ...], Flow]:
        steps: list[Step] = []
        while True:
            step, flow_after = self._step(flow)
            if isinstance(step, DIGESTING) and steps and steps[-1] == Encode("utf-8"):
                steps.pop()  # text that reaches a digest is UTF-8 by itself
            steps.append(step)
            flow = flow_after
            if self._next.text != "," or self._next.kind != "mark":
                return tuple(steps), flow
            self._take()

    def _step(self, flow: Flow) -> tuple[Step, Flow]:
        token = self._take()
        if token.kind == "number" or self._is_word("times"):
            return self._loop(token, flow)
        if token.kind != "word":
            raise self._expected("a step", token)
        word = token.text
        if word in TEXT_STEPS:
            return Rewrite(word), self._needs(Flow.TEXT, flow, token)
        if word in ENCODINGS:
            self._needs(Flow.TEXT, flow, token)
            return Encode(word), Flow.BYTES
        if word in TEXT_ENCODINGS:
            self._needs(Flow.BYTES, flow, token)
            return Write(word), Flow.TEXT
        if word == "first":
            return Cut(self._number("a length")), flow
        if word == "slice":
            start, end = self._slice()
            return Cut(end - start, start), flow
        if word == "take":
            operand = self._operand()
            return Take(operand), operand.flow
        if word in set(Side):
            operand = self._operand()
            both_text = flow is Flow.TEXT and operand.flow is Flow.TEXT
            return Join(Side(word), operand), Flow.TEXT if both_text else Flow.BYTES
        return self._digest(token), Flow.BYTES

    def _is_word(self, text: str) -> bool:
        return self._next.kind == "word" and self._next.text == text

    @staticmethod
    def _needs(needed: Flow, flow: Flow, token: Token) -> Flow:
        if flow is needed:
            return flow
        hint = "add hex or base64 before it" if needed is Flow.TEXT else "add utf-8 before it"
        raise FormulaError(
            f"position {token.offset + 1}: “{token.text}” takes {needed}, "
            f"but {flow} reaches it; {hint}",
            offset=token.offset,
        )

    def _digest(self, token: Token) -> Step:
        construction, dash, name = token.text.partition("-")
        if token.text in DIGESTS:
            return Digest(token.text)
        if construction == "hmac" and name in DIGESTS:
            return Hmac(name, self._operand())
        if construction == "pbkdf2" and name in PBKDF2_DIGESTS:
            rounds = self._number("the rounds")
            return Pbkdf2(name, rounds, self._number("the length in bytes"), self._operand())
        if construction in {"hmac", "pbkdf2"} and dash:
            names = DIGESTS if construction == "hmac" else PBKDF2_DIGESTS
            raise self._expected(f"a digest after “{construction}-” ({', '.join(names)})", token)
        near = difflib.get_close_matches(token.text, WORDS, n=1, cutoff=0.6)
        hint = f"did you mean “{near[0]}”?" if near else ", ".join(WORDS)
        raise self._expected(f"a step ({hint})", token)

    def _loop(self, token: Token, flow: Flow) -> tuple[Step, Flow]:
        self._at -= 1
        times = self._number("a count")
        word = self._take()
        if word.text != "times":
            raise self._expected("“times” after a number", word)
        body, flow_after = self._bracketed(flow)
        if flow_after is not flow:
            raise FormulaError(
                f"position {token.offset + 1}: the loop takes {flow} and gives {flow_after}; "
                "its body must give back the type that it takes",
                offset=token.offset,
            )
        return Loop(times, body), flow

    def _bracketed(self, flow: Flow) -> tuple[tuple[Step, ...], Flow]:
        opening = self._next
        self._mark("(")
        self._depth += 1
        if self._depth > DEPTH:
            raise self._expected(f"at most {DEPTH} brackets inside each other", opening)
        steps, flow_after = self._steps(flow)
        self._mark(")")
        self._depth -= 1
        return steps, flow_after

    def _operand(self) -> Operand:
        source = self._source()
        flow = Operand(source).flow
        filters: list[str] = []
        while self._next.text == ":" and self._next.kind == "mark":
            self._take()
            token = self._take()
            if token.text == "slice":
                filters.append("{}{} {}".format(SLICE, *self._slice()))
                continue
            if token.text not in FILTERS:
                raise self._expected(f"a filter ({', '.join(FILTERS)}, slice A B)", token)
            takes, gives = FILTERS[token.text]
            # A salt or login may be raw bytes in the store, so either kind of filter may be first.
            if takes is not flow and (filters or not isinstance(source, Input | Part)):
                raise self._expected(f"a filter that takes {flow}", token)
            filters.append(token.text)
            flow = gives
        return Operand(source, tuple(filters))

    def _slice(self) -> tuple[int, int]:
        """Read the place of the first that is kept, from 0, and of the first behind them."""
        numbers = []
        for what in ("where it begins", "where it ends"):
            token = self._take()
            if token.kind != "number" or int(token.text) > LARGEST_NUMBER:
                raise self._expected(f"{what}, counted from 0", token)
            numbers.append(int(token.text))
        if numbers[0] >= numbers[1]:
            raise self._expected("an end behind the beginning", token)
        return numbers[0], numbers[1]

    def _source(self) -> Input | Key | Part | str | bytes | Formula:
        token = self._next
        if token.kind == "mark" and token.text == "(":
            steps, flow = self._bracketed(Flow.TEXT)
            return Formula(steps, flow)
        self._take()
        if token.kind == "word" and token.text in set(Input):
            return Input(token.text)
        if token.kind == "word" and token.text == "key":
            name = self._take()
            if name.kind != "word":
                raise self._expected("the name of a key", name)
            return Key(name.text)
        if token.kind == "word" and is_part_name(token.text):
            return self._part(token)
        if token.kind == "string":
            return self._literal(token)
        if token.kind == "bytes" and len(token.text) % 2 == 0 and len(token.text) > 2:
            return bytes.fromhex(token.text[2:])
        raise self._expected(
            "salt, login, password, key NAME, the name of a part, “text”, 0x… or a bracket", token
        )

    def _part(self, token: Token) -> Part:
        near = difflib.get_close_matches(token.text, tuple(Input), n=1, cutoff=0.7)
        if near:
            raise self._expected(f"the name of a part (did you mean “{near[0]}”?)", token)
        return Part(token.text)

    def _literal(self, token: Token) -> str:
        try:
            literal = json.loads(token.text)
            literal.encode("utf-8")
        except ValueError:
            raise self._expected("a text with JSON escapes", token) from None
        return str(literal)


def parse(text: str, *, may_end_in_bytes: bool = False) -> Formula:
    """Read a formula.

    Args:
        text: in the notation.
        may_end_in_bytes: whether its result goes on into a scheme that takes bytes.

    Raises:
        FormulaError: with the position and what was expected.
    """
    if len(text) > TEXT_CHARACTERS:
        raise FormulaError(
            f"position {TEXT_CHARACTERS + 1}: a formula has at most {TEXT_CHARACTERS:,} characters",
            offset=TEXT_CHARACTERS,
        )
    return _Parser(text).whole(may_end_in_bytes=may_end_in_bytes)


def _cut(step: Cut) -> str:
    if step.start and isinstance(step.length, int):
        return f"{SLICE}{step.start} {step.start + step.length}"
    return f"first {_number(step.length)}"


def _number(number: Number) -> str:
    return number.name if isinstance(number, Part) else str(number)


class _Writer:
    """Prints steps; the first digest of the whole text is shown with the encoding before it."""

    def __init__(self) -> None:
        self._digest_seen = False

    def steps(self, steps: Iterable[Step], flow: Flow) -> str:
        parts: list[str] = []
        for step in steps:
            parts.extend(self._step(step, flow))
            flow = flow_after(step, flow)
        return ", ".join(parts)

    def _step(self, step: Step, flow: Flow) -> Iterator[str]:
        if isinstance(step, DIGESTING):
            if not self._digest_seen and flow is Flow.TEXT:
                yield "utf-8"
            self._digest_seen = True
            yield self._digest(step)
        elif isinstance(step, Loop):
            yield f"{_number(step.times)} times ({self.steps(step.body, flow)})"
        elif isinstance(step, Cut):
            yield _cut(step)
        elif isinstance(step, Take):
            yield f"take {self._operand(step.operand)}"
        elif isinstance(step, Join):
            yield f"{step.side} {self._operand(step.operand)}"
        else:
            yield step.name

    def _digest(self, step: Digest | Hmac | Pbkdf2) -> str:
        if isinstance(step, Digest):
            return step.name
        if isinstance(step, Hmac):
            return f"hmac-{step.digest} {self._operand(step.key)}"
        salt = self._operand(step.salt)
        rounds, length = _number(step.rounds), _number(step.length_bytes)
        return f"pbkdf2-{step.digest} {rounds} {length} {salt}"

    def _operand(self, operand: Operand) -> str:
        source = operand.source
        if isinstance(source, Formula):
            text = f"({self.steps(source.steps, Flow.TEXT)})"
        elif isinstance(source, Key):
            text = f"key {source.name}"
        elif isinstance(source, Input):
            text = source.value
        elif isinstance(source, Part):
            text = source.name
        elif isinstance(source, bytes):
            text = "0x" + source.hex()
        else:
            text = json.dumps(source, ensure_ascii=False)
        return ":".join([text, *operand.filters])


def flow_after(step: Step, flow: Flow) -> Flow:
    """Tell what a step gives when it takes `flow`."""
    if isinstance(step, Encode | DIGESTING):
        return Flow.BYTES
    if isinstance(step, Write):
        return Flow.TEXT
    if isinstance(step, Take):
        return step.operand.flow
    if isinstance(step, Join):
        return flow if step.operand.flow is Flow.TEXT else Flow.BYTES
    return flow


def write_step(step: Step, flow: Flow) -> str:
    """Print one step as it stands in canonical text, an encoding before it included.

    Args:
        step: the step.
        flow: what it takes.
    """
    return _Writer().steps((step,), flow)


def write(formula: Formula) -> str:
    """Print a formula as canonical text."""
    return _Writer().steps(formula.steps, Flow.TEXT)


def fingerprint(formula: Formula) -> str:
    """Name a formula: the first 16 hex digits of SHA-256 of its canonical text."""
    return hashlib.sha256(write(formula).encode("utf-8")).hexdigest()[:FINGERPRINT_DIGITS]
