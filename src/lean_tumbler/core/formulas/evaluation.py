"""Running a formula on a password, within bounds."""

import base64
import binascii
import hashlib
import hmac
from collections.abc import Callable, Iterable, Mapping
from functools import lru_cache

from msgspec import Struct, field

from lean_tumbler.core.formulas.analysis import number_parts, work
from lean_tumbler.core.formulas.steps import (
    DIGESTS,
    ENCODINGS,
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
    Side,
    Step,
    Take,
)
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.errors import InputDoesNotFit, KeyMissing, OverLimit

FORMULA_WORK = 5_000_000  # steps and rounds; about two seconds of the slowest
FORMULA_BYTES = 1 << 20
_NUMBER_DIGITS = 9

_TOO_MUCH = "the formula runs {:,} steps; the limit is {:,}"

Value = str | bytes


class Inputs(MaskedRecord, Struct, frozen=True, kw_only=True):
    """What one evaluation is given. Salts and parts are bytes as the store holds them."""

    password: Hidden[str]
    salt: Hidden[bytes | None] = None
    login: str | None = None
    keys: Hidden[Mapping[str, bytes]] = field(default_factory=dict)
    parts: Hidden[Mapping[str, bytes]] = field(default_factory=dict)


class _Evaluation(Struct, frozen=True):
    inputs: Inputs
    limit_bytes: int


_Compiled = Callable[[Value, _Evaluation], Value]


def _as_bytes(value: Value) -> bytes:
    if isinstance(value, bytes):
        return value
    try:
        return value.encode("utf-8")
    except UnicodeEncodeError:
        raise InputDoesNotFit("the text holds a character that UTF-8 cannot write") from None


def _as_text(value: Value) -> str:
    if isinstance(value, str):
        return value
    try:
        return value.decode("utf-8")
    except UnicodeDecodeError:
        raise InputDoesNotFit("the salt is not text; join it after an encoding") from None


def _encode(name: str) -> Callable[[Value], bytes]:
    codec = ENCODINGS[name]

    def encode(value: Value) -> bytes:
        try:
            return _as_text(value).encode(codec)
        except UnicodeEncodeError:
            raise InputDoesNotFit(f"a character does not fit {name}") from None

    return encode


def _unhex(value: Value) -> bytes:
    try:
        return bytes.fromhex(_as_text(value))
    except ValueError:
        raise InputDoesNotFit("the text is not hexadecimal") from None


def _unbase64(value: Value) -> bytes:
    text = _as_text(value)
    try:
        return base64.b64decode(text + "=" * (-len(text) % 4), validate=True)
    except (binascii.Error, ValueError):
        raise InputDoesNotFit("the text is not base64") from None


def _filter(name: str) -> Callable[[Value], Value]:
    if name == "unhex":
        return _unhex
    if name == "unbase64":
        return _unbase64
    if name.startswith(SLICE):
        start, end = map(int, name.removeprefix(SLICE).split())
        return lambda value: value[start:end]
    if name == "local-part":
        return lambda value: _as_text(value).rpartition("@")[0] or _as_text(value)
    if name in TEXT_ENCODINGS:
        written = TEXT_ENCODINGS[name]
        return lambda value: written(_as_bytes(value))
    rewritten = TEXT_STEPS[name]
    return lambda value: rewritten(_as_text(value))


def _source(source: Input | Key | Part | str | bytes | Formula) -> Callable[[_Evaluation], Value]:
    if isinstance(source, Formula):
        body = _chain(source.steps)
        return lambda run: body(run.inputs.password, run)
    if isinstance(source, Key):
        return lambda run: _key(run.inputs, source.name)
    if isinstance(source, Part):
        return lambda run: _part(run.inputs, source.name)
    if isinstance(source, Input):
        return lambda run: _input(run.inputs, source)
    return lambda _: source


def _key(inputs: Inputs, name: str) -> bytes:
    if name not in inputs.keys:
        raise KeyMissing(f"the formula needs the key “{name}”, which is not there")
    return inputs.keys[name]


def _part(inputs: Inputs, name: str) -> bytes:
    if name not in inputs.parts:
        raise InputDoesNotFit(f"the formula takes the part “{name}”, and this row has none")
    return inputs.parts[name]


def number_of(inputs: Inputs, name: str) -> int:
    """Read a part as a whole number from 1.

    Raises:
        InputDoesNotFit: it is not there, or no such number.
    """
    raw = _part(inputs, name).strip()
    if not raw.isdigit() or len(raw) > _NUMBER_DIGITS or int(raw) < 1:
        raise InputDoesNotFit(f"the part “{name}” is no whole number from 1")
    return int(raw)


def _number(number: Number) -> Callable[[_Evaluation], int]:
    if isinstance(number, Part):
        return lambda run: number_of(run.inputs, number.name)
    return lambda _: number


def _input(inputs: Inputs, source: Input) -> Value:
    value = getattr(inputs, source.value)
    if value is None:
        raise InputDoesNotFit(f"the formula takes a {source}, and this row has none")
    if not isinstance(value, str | bytes):
        raise TypeError(f"{source} must be text or bytes, not {type(value).__name__}")
    return value


def _operand(operand: Operand) -> Callable[[_Evaluation], Value]:
    source = _source(operand.source)
    filters = tuple(_filter(name) for name in operand.filters)

    def fetch(run: _Evaluation) -> Value:
        value = source(run)
        for apply in filters:
            value = apply(value)
        return value

    return fetch


def _join(step: Join) -> _Compiled:
    fetch = _operand(step.operand)
    before, after = step.side is not Side.APPEND, step.side is not Side.PREPEND
    operand_is_text = step.operand.flow is Flow.TEXT

    def join(value: Value, run: _Evaluation) -> Value:
        operand = fetch(run)
        joined: Value
        if isinstance(value, str) and operand_is_text:
            text = _as_text(operand)
            joined = text * before + value + text * after
        else:
            raw = _as_bytes(operand)
            joined = raw * before + _as_bytes(value) + raw * after
        if len(joined) > run.limit_bytes:
            raise OverLimit(f"the formula makes more than {run.limit_bytes:,} bytes")
        return joined

    return join


def _hmac(name: str) -> Callable[[bytes, bytes], bytes]:
    digest = DIGESTS[name]
    if digest.hashlib_name:
        return lambda key, data: hmac.digest(key, data, digest.hashlib_name)

    def compute(key: bytes, data: bytes) -> bytes:  # RFC 2104 section 2
        padded = (digest.compute(key) if len(key) > digest.block_bytes else key).ljust(
            digest.block_bytes, b"\0"
        )
        inner = digest.compute(bytes(byte ^ 0x36 for byte in padded) + data)
        return digest.compute(bytes(byte ^ 0x5C for byte in padded) + inner)

    return compute


def _digest(step: Digest | Hmac | Pbkdf2) -> _Compiled:
    if isinstance(step, Digest):
        compute = DIGESTS[step.name].compute
        return lambda value, _: compute(_as_bytes(value))
    if isinstance(step, Hmac):
        keyed, key = _hmac(step.digest), _operand(step.key)
        return lambda value, run: keyed(_as_bytes(key(run)), _as_bytes(value))
    salt = _operand(step.salt)
    rounds, length = _number(step.rounds), _number(step.length_bytes)
    name = DIGESTS[step.digest].hashlib_name
    return lambda value, run: hashlib.pbkdf2_hmac(
        name, _as_bytes(value), _as_bytes(salt(run)), rounds(run), length(run)
    )


def _loop(step: Loop) -> _Compiled:
    body, times = _chain(step.body), _number(step.times)

    def loop(value: Value, run: _Evaluation) -> Value:
        for _ in range(times(run)):
            value = body(value, run)
        return value

    return loop


def _step(step: Step) -> _Compiled:
    if isinstance(step, Digest | Hmac | Pbkdf2):
        return _digest(step)
    if isinstance(step, Join):
        return _join(step)
    if isinstance(step, Loop):
        return _loop(step)
    if isinstance(step, Take):
        fetch = _operand(step.operand)
        return lambda _, run: fetch(run)
    if isinstance(step, Cut):
        length, start = _number(step.length), step.start
        return lambda value, run: value[start : start + length(run)]
    if isinstance(step, Encode):
        encode = _encode(step.name)
        return lambda value, _: encode(value)
    apply = _filter(step.name)  # Rewrite and Write do what the filters of the same names do
    return lambda value, _: apply(value)


def _chain(steps: Iterable[Step]) -> _Compiled:
    compiled = tuple(_step(step) for step in steps)

    def run_all(value: Value, run: _Evaluation) -> Value:
        for apply in compiled:
            value = apply(value, run)
        return value

    return run_all


@lru_cache(maxsize=256)
def _compiled(formula: Formula) -> tuple[_Compiled, int, frozenset[str]]:
    """Give what runs it, its steps and rounds, and the numbers that each row has of its own."""
    return _chain(formula.steps), work(formula), number_parts(formula)


def prepared(
    formula: Formula,
    *,
    limit_work: int = FORMULA_WORK,
    limit_bytes: int = FORMULA_BYTES,
) -> Callable[[Inputs], str]:
    """Prepare a formula for many evaluations; the arguments and errors are those of `evaluate`.

    Raises:
        OverLimit: the formula asks for more than the limits.
    """
    run = _bounded(formula, limit_work, limit_bytes)
    return lambda inputs: _as_text(run(inputs))


def _bounded(formula: Formula, limit_work: int, limit_bytes: int) -> Callable[[Inputs], Value]:
    """Hold a formula to its limits, and each row's own numbers to them as well."""
    chain, steps, numbers = _compiled(formula)
    if steps > limit_work:
        raise OverLimit(_TOO_MUCH.format(steps, limit_work))

    def run(inputs: Inputs) -> Value:
        if numbers:
            asked = work(formula, {name: number_of(inputs, name) for name in numbers})
            if asked > limit_work:
                raise OverLimit(_TOO_MUCH.format(asked, limit_work))
        return chain(inputs.password, _Evaluation(inputs, limit_bytes))

    return run


def value_of(formula: Formula, inputs: Inputs) -> Value:
    """Compute what flows at a formula's end, be it text or bytes.

    Raises:
        InputDoesNotFit: a character does not fit the encoding, or an input is not there.
        KeyMissing: a key is not there.
    """
    return _compiled(formula)[0](inputs.password, _Evaluation(inputs, FORMULA_BYTES))


def input_of(formula: Formula, inputs: Inputs, *, limit_work: int, limit_bytes: int) -> bytes:
    """Compute what a formula hands on to a slow scheme: text goes in as UTF-8.

    Raises:
        InputDoesNotFit: a character does not fit the encoding, or an input is not there.
        KeyMissing: a key is not there.
        OverLimit: the formula asks for more than the limits.
    """
    return _as_bytes(_bounded(formula, limit_work, limit_bytes)(inputs))


def evaluate(
    formula: Formula,  # how it computed
    inputs: Inputs,  # password, salt, login and keys
    *,
    limit_work: int = FORMULA_WORK,  # the most steps and rounds that may be run
    limit_bytes: int = FORMULA_BYTES,  # the longest text or bytes on the way
) -> str:
    """Compute what the legacy system would have stored.

    Raises:
        InputDoesNotFit: a character does not fit the encoding, or an input is not there.
        KeyMissing: a key is not there.
        OverLimit: the formula asks for more than the limits.
    """
    return prepared(formula, limit_work=limit_work, limit_bytes=limit_bytes)(inputs)
