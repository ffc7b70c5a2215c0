"""From a followed value to the steps of a formula."""

import re

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.code.terms import (
    GENERATED,
    HASHING,
    Constant,
    Either,
    Gap,
    Role,
    SourceLine,
    Term,
    TermInput,
    TermStep,
    inputs,
    inside,
)
from lean_tumbler.core.formulas import steps as notation
from lean_tumbler.core.formulas.notation import flow_after
from lean_tumbler.core.formulas.steps import DIGESTS, Cut, Encode, Flow, Operand, Side
from lean_tumbler.core.masked import Masked

_LITERAL_CHARACTERS = 3  # of a constant that is printed; a longer one may be a secret
_DEPTH = 60  # of computations within each other
_WORD = re.compile(r"[^a-z0-9]+")


class KeyConstant(Struct, frozen=True):
    """A constant that went into values: its place is told, never its text."""

    name: str
    place: SourceLine | None
    value: Masked[bytes] | None  # None where the source does not hold it


class Missing(Struct, frozen=True):
    """What could not be followed."""

    why: str
    place: SourceLine | None


class Lost(Exception):
    """A term cannot be written as steps."""

    def __init__(self, missing: Missing) -> None:
        super().__init__(missing.why)
        self.missing = missing


def is_salt(term: Term) -> bool:
    """Tell whether a term is a salt: as it is kept, or as it is drawn."""
    if isinstance(term, TermInput) and term.role in {Role.SALT, *GENERATED}:
        return True
    if inputs(term, Role.PASSWORD, Role.FIELD) or _holds_hole(term):
        return False
    return bool(inputs(term, Role.SALT, *GENERATED))


class StepWriter:
    """Turns one term into steps, from the password on."""

    def __init__(self, whole: Term, salts: tuple[Term, ...]) -> None:
        self.keys: dict[str, KeyConstant] = {}
        self.columns: dict[str, str] = {}
        self._has_typed = bool(inputs(whole, Role.PASSWORD))
        self._salts = salts
        self._generated: Term | None = None
        self._depth = 0

    def _lose(self, why: str, term: Term) -> Lost:
        place = getattr(term, "place", None)
        return Lost(Missing(why, place))

    def steps(self, term: Term) -> list[notation.Step]:
        """Give the steps that compute a term."""
        self._depth += 1
        if self._depth > _DEPTH:
            raise self._lose("a computation that is too deep", term)
        try:
            return self._steps(term)
        finally:
            self._depth -= 1

    def _steps(self, term: Term) -> list[notation.Step]:
        if self._is_password(term):
            return []
        if isinstance(term, TermStep):
            if term.name == "hole":
                return []
            if self._is_flowing(term):
                return self._computed(term)
        if isinstance(term, Gap):
            raise self._lose(term.why, term)
        if isinstance(term, Either):
            raise self._lose("one of several ways", term)
        return [notation.Take(self.operand(term))]

    def _is_password(self, term: Term) -> bool:
        if not isinstance(term, TermInput):
            return False
        if term.role is Role.PASSWORD:
            return True
        return term.role is Role.FIELD and not self._has_typed

    def _is_flowing(self, term: Term) -> bool:
        """Tell whether a term is computed step by step, and is no salt as it is stored."""
        return not (is_salt(term) and self._is_generated(term))

    def _is_generated(self, term: Term) -> bool:
        return bool(inputs(term, *GENERATED))

    def _computed(self, step: TermStep) -> list[notation.Step]:
        name, of = step.name, step.of
        if name == "join":
            return self._join(step)
        if name == "loop":
            return self._loop(step)
        if name in HASHING:
            return self._hash(step)
        made = self.steps(of[0]) if of else []
        if name == "slice":
            return [*made, self._cut(step, made)]
        if name in {"hex", "hex-upper", "base64", "base64-unpadded", "base64url",
                    "base64url-unpadded"}:  # fmt: skip
            return self._written(name, made)
        if name == "base64-line":
            return [*made, notation.Write("base64"),
                    notation.Join(Side.APPEND, Operand("\n"))]  # fmt: skip
        return self._text_step(step, made)

    def _text_step(self, step: TermStep, made: list[notation.Step]) -> list[notation.Step]:
        name = step.name
        if name == "as-text" and flow_of(made) is Flow.TEXT:
            return made
        if name == "unhex" and made and made[-1] == notation.Write("hex"):
            return made[:-1]
        if name == "unbase64" and made and made[-1] == notation.Write("base64"):
            return made[:-1]
        if name == "upper" and made and made[-1] == notation.Write("hex"):
            return [*made[:-1], notation.Write("hex-upper")]
        if name == "lower" and made and made[-1] == notation.Write("hex-upper"):
            return [*made[:-1], notation.Write("hex")]
        if name in {"lower", "trim"} and made and made[-1] == notation.Write("hex"):
            return made
        if name in notation.ENCODINGS and flow_of(made) is Flow.TEXT:
            return [*made, Encode(name)]
        if name in notation.TEXT_STEPS and flow_of(made) is Flow.TEXT:
            return [*made, notation.Rewrite(name)]
        raise self._lose(_SAID.get(name, f"a step that is not followed ({name})"), step)

    @staticmethod
    def _written(name: str, made: list[notation.Step]) -> list[notation.Step]:
        if flow_of(made) is Flow.TEXT:  # the bytes of text
            made = [*made, Encode("utf-8")]
        return [*made, notation.Write(name)]

    def _cut(self, step: TermStep, made: list[notation.Step]) -> notation.Step:
        start, end = step.numbers
        if not end:
            end = _size(made)
        if end <= start:
            raise self._lose("a cut whose end is not followed", step)
        return Cut(end - start, start)

    def _hash(self, step: TermStep) -> list[notation.Step]:
        made = self.steps(step.of[0])
        if step.name == "digest":
            return [*made, notation.Digest(step.detail)]
        if step.name == "hmac":
            if not _holds_password(step.of[0]) and _holds_password(step.of[1]):
                raise self._lose("an HMAC with the password as its key", step)
            return [*made, notation.Hmac(step.detail, self.operand(step.of[1], is_key=True))]
        if step.name == "pbkdf2":
            if step.detail not in notation.PBKDF2_DIGESTS:
                raise self._lose("PBKDF2 with a digest that is not known", step)
            rounds, size = step.numbers
            return [*made, notation.Pbkdf2(step.detail, rounds, size, self.operand(step.of[1]))]
        raise self._lose("a scheme of its own", step)

    def _join(self, step: TermStep) -> list[notation.Step]:
        flowing = [
            place for place, part in enumerate(step.of)
            if _holds_password(part) or _holds_hole(part)
        ]  # fmt: skip
        holes = [place for place in flowing if _holds_hole(step.of[place])]
        if len(holes) > 1:
            raise self._lose("what a loop puts together with itself", step)
        main = holes[0] if holes else (flowing[0] if flowing else 0)
        made = self.steps(step.of[main])
        before = [self.operand(part) for part in reversed(step.of[:main])]
        after = [self.operand(part) for part in step.of[main + 1 :]]
        if before and after and before[0] == after[0]:
            made.append(notation.Join(Side.SURROUND, before.pop(0)))
            after.pop(0)
        made.extend(notation.Join(Side.PREPEND, each) for each in before)
        made.extend(notation.Join(Side.APPEND, each) for each in after)
        return made

    def _loop(self, step: TermStep) -> list[notation.Step]:
        start, body = step.of
        count = step.numbers[0]
        made = self.steps(start)
        if count == 0:
            return made
        inner = self.steps(body)
        before = flow_of(made)
        if flow_of(inner, before) is before:
            return [*made, notation.Loop(count, tuple(inner))]
        if count == 1:
            return [*made, *inner]
        # the first round takes another type than it gives
        first = flow_of(inner, before)
        if flow_of(inner, first) is first:
            return [*made, *inner, notation.Loop(count - 1, tuple(inner))]
        raise self._lose("a loop whose rounds give another type than they take", step)

    # Operands

    def operand(self, term: Term, *, is_key: bool = False) -> Operand:
        """Give what a step takes beside the flow."""
        if isinstance(term, Gap):
            raise self._lose(term.why, term)
        if isinstance(term, Either):
            raise self._lose("one of several ways", term)
        if is_salt(term) and self._is_generated(term):
            return self._made_salt(term)
        if isinstance(term, Constant):
            return self._constant(term, is_key=is_key)
        if isinstance(term, TermInput):
            return self._input(term)
        if isinstance(term, TermStep) and term.name in {"part", "slice", "element"}:
            held = inputs(term, Role.STORED, Role.FIELD, Role.RECORD)
            if held and not _holds_password(term):
                return Operand(notation.Input.SALT)
        filtered = self._filtered(term)
        if filtered is not None:
            return filtered
        if not isinstance(term, TermStep):
            raise self._lose("a value that is not followed", term)
        made = self.steps(term)
        return Operand(notation.Formula(tuple(made), flow_of(made)))

    def _filtered(self, term: Term) -> Operand | None:
        """Give an input with filters, where a term is that."""
        names: list[str] = []
        while isinstance(term, TermStep) and len(term.of) == 1:
            if term.name in notation.FILTERS:
                names.append(term.name)
            elif term.name == "slice" and term.numbers[1]:
                names.append("{}{} {}".format(notation.SLICE, *term.numbers))
            elif term.name != "as-text":
                return None
            term = term.of[0]
        if not isinstance(term, TermInput) or self._is_password(term):
            return None
        found = self._input(term)
        return Operand(found.source, (*found.filters, *reversed(names)))

    def _input(self, term: TermInput) -> Operand:
        if self._is_password(term):
            return Operand(notation.Input.PASSWORD)
        name = term.name.rpartition(".")[2]
        if term.role is Role.SALT:
            self.columns["salt"] = term.name
            return Operand(notation.Input.SALT)
        if term.role is Role.LOGIN:
            self.columns["login"] = term.name
            return Operand(notation.Input.LOGIN)
        if term.role is Role.KEY:
            return self._key(_word(name), Constant(None, term.place, name))
        if term.role in {Role.STORED, Role.FIELD, Role.RECORD}:
            raise self._lose(f"an input that is not followed ({name})", term)
        word = _word(name).replace("-", "_")
        self.columns[word] = term.name
        return Operand(notation.Part(word))

    def _constant(self, term: Constant, *, is_key: bool) -> Operand:
        value = term.value
        if isinstance(value, bool) or value is None:
            raise self._lose("a value that is not followed", term)
        shown = value if isinstance(value, str | bytes) else str(value)
        text = shown if isinstance(shown, str) else shown.decode("latin-1")
        is_short = len(text) <= _LITERAL_CHARACTERS or not any(map(str.isalnum, text))
        if is_short and not is_key:
            return Operand(shown)
        line = f"line-{term.place.line}" if term.place else "constant"
        return self._key(_word(term.name) if term.name else f"key-{line}", term)

    def _key(self, name: str, term: Constant) -> Operand:
        value = None
        if isinstance(term.value, str | bytes):
            raw = term.value if isinstance(term.value, bytes) else term.value.encode()
            value = Masked(raw)
        while name in self.keys and self.keys[name].place != term.place:
            name += "-2"
        self.keys[name] = KeyConstant(name, term.place, value)
        return Operand(notation.Key(name))

    def _made_salt(self, term: Term) -> Operand:
        """Give a salt as its column holds it, with what makes of that what is hashed."""
        known = self._generated
        core = _generated_core(term)
        if known is not None and core != known:
            raise self._lose("two values that are drawn", term)
        self._generated = core
        for stored in self._salts:
            filters = _between(stored, term)
            if filters is not None:
                return Operand(notation.Input.SALT, filters)
        return Operand(notation.Input.SALT)


_SAID = {
    "printed": "bytes that are printed as the language shows them",
    "as-text": "bytes that are read as text",
    "as-latin-1": "bytes that are read as text",
    "encrypted": "an encryption",
    "element": "a part of a value",
    "number": "a number",
}


def _generated_core(term: Term) -> Term:
    found = inputs(term, *GENERATED)
    return replace(found[0]) if found else term


def _between(stored: Term, used: Term) -> tuple[str, ...] | None:
    """Give the filters that make of a stored salt what is hashed; None where they are not known."""
    if stored == used:
        return ()
    for name, undo in (("hex", "unhex"), ("base64", "unbase64")):
        if isinstance(stored, TermStep) and stored.name == name and stored.of[0] == used:
            return (undo,)
        if isinstance(used, TermStep) and used.name == name and used.of[0] == stored:
            return (name,)
    return None


def _word(name: str) -> str:
    found = _WORD.sub("-", name.lower()).strip("-")
    return found if found[:1].isalpha() else f"key-{found}"


def _holds_password(term: Term) -> bool:
    return bool(inputs(term, Role.PASSWORD, Role.FIELD))


def _holds_hole(term: Term) -> bool:
    return any(isinstance(found, TermStep) and found.name == "hole" for found in inside(term))


def flow_of(made: list[notation.Step], flow: Flow = Flow.TEXT) -> Flow:
    """Tell what steps end in, text or bytes."""
    for each in made:
        flow = flow_after(each, flow)
    return flow


def _size(made: list[notation.Step]) -> int:
    """Give how long the text or bytes are that steps end in; 0 where it is not fixed."""
    size = 0
    for each in made:
        if isinstance(each, notation.Digest):
            size = DIGESTS[each.name].size_bytes
        elif isinstance(each, notation.Hmac):
            size = DIGESTS[each.digest].size_bytes
        elif isinstance(each, notation.Write) and each.name.startswith("hex"):
            size *= 2
        elif isinstance(each, notation.Write):
            size = -(-size // 3) * 4 if not each.name.endswith("unpadded") else -(-size * 4 // 3)
        elif isinstance(each, Cut) and isinstance(each.length, int):
            size = each.length
        elif not isinstance(each, notation.Rewrite):
            size = 0
    return size
