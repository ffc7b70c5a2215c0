"""Operators of the tables of functions: what a call makes of the terms that it is given."""

import re
from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import Protocol

from lean_tumbler.core.code.members import named_input, written_fields
from lean_tumbler.core.code.places import Kind
from lean_tumbler.core.code.terms import (
    NOTHING,
    Constant,
    Either,
    Fields,
    Gap,
    Handle,
    Input,
    Place,
    Reference,
    Role,
    Step,
    Term,
    either,
    gap,
    options,
)
from lean_tumbler.core.formulas.steps import DIGESTS

_ALGORITHMS = {name.replace("-", ""): name for name in DIGESTS} | {
    "sha": "sha1", "rmd160": "ripemd160", "ripemd": "ripemd160", "blake2b512": "blake2b",
    "blake2s256": "blake2s", "sha512/224": "sha512-224", "sha512/256": "sha512-256",
    "sha512224": "sha512-224", "sha512256": "sha512-256", "sha3": "sha3-256",
}  # fmt: skip


class Site(Protocol):
    """Where a call stands, and what is told of it."""

    place: Place

    def tell(self, kind: Kind, *terms: Term, how: str = "", table: str = "") -> None:
        """Note what the line does."""

    def query(self, text: Term, given: tuple[Term, ...]) -> Term:
        """Read a query and what it is given."""

    def apply(self, routine: Term, *given: Term) -> Term:
        """Call a function that was given as a value."""

    def setting(self, name: str) -> Term:
        """Give a value of the configuration."""

    def loads(self, module: str) -> None:
        """Note that a module is loaded by its name."""


Operator = Callable[..., Term]


def step(site: Site, name: str, *of: Term, numbers: tuple[int, ...] = (), detail: str = "") -> Term:
    """Make a step; of several possible values, one each."""
    for place, term in enumerate(of):
        if isinstance(term, Either):
            return either(
                [
                    step(
                        site, name, *of[:place], option, *of[place + 1 :],
                        numbers=numbers, detail=detail,
                    )
                    for option in term.options
                ]
            )  # fmt: skip
    return Step(name, of, site.place, numbers, detail)


def number(term: Term) -> int | None:
    """Give a whole number that the source says; None where it does not."""
    if isinstance(term, Constant):
        if isinstance(term.value, str) and term.value.isdigit():
            return int(term.value)
        if isinstance(term.value, int):
            return int(term.value)
    return None


def text(term: Term) -> str | None:
    """Give a text that the source says."""
    if isinstance(term, Constant) and isinstance(term.value, str | bytes):
        value = term.value
        return value if isinstance(value, str) else value.decode("utf-8", "replace")
    if isinstance(term, Reference):
        return term.name.rpartition(".")[2]
    return None


def algorithm(term: Term) -> str | None:
    """Give the notation's name of a digest that the source names."""
    name = text(term)
    if name is None:
        return None
    folded = name.lower().replace("-", "").replace("_", "").removeprefix("hmac")
    folded = folded.removeprefix("pbkdf2withhmac")
    return _ALGORITHMS.get(folded.partition("(")[0])


def _each(term: Term, make: Callable[[Term], Term]) -> Term:
    return either([make(option) for option in options(term)])


def joined(site: Site, *parts: Term) -> Term:
    """Put terms together; constants that meet become one, as do joins."""
    for place, part in enumerate(parts):
        if isinstance(part, Either):
            return either(
                [joined(site, *parts[:place], option, *parts[place + 1 :]) for option in
                 part.options]
            )  # fmt: skip
    flat: list[Term] = []
    for part in parts:
        for each in part.of if isinstance(part, Step) and part.name == "join" else (part,):
            last = flat[-1] if flat else None
            one = _constant_text(each)
            before = _constant_text(last) if last is not None else None
            if one is None or before is None or not flat or not isinstance(last, Constant):
                flat.append(each)
            elif type(before) is type(one) and not last.name and not _name(each):
                flat[-1] = Constant(before + one, last.place)  # type: ignore[operator]
            else:
                flat.append(each)
    kept = [each for each in flat if _constant_text(each) not in {"", b""}]
    if len(kept) == 1 and not isinstance(kept[0], Constant):
        return kept[0]
    if all(isinstance(each, Constant) for each in kept) and len(kept) <= 1:
        return kept[0] if kept else Constant("", site.place)
    return Step("join", tuple(kept), site.place)


def _name(term: Term) -> str:
    return term.name if isinstance(term, Constant) else ""


def _constant_text(term: Term) -> str | bytes | None:
    if not isinstance(term, Constant):
        return None
    value = term.value
    if isinstance(value, bool) or value is None:
        return None
    return value if isinstance(value, str | bytes) else str(value)


def _digest(site: Site, name: Term, *data: Term) -> Term:
    found = algorithm(name)
    whole = joined(site, *data) if len(data) > 1 else (data[0] if data else Constant(""))
    if found is None:
        return gap(f"a digest whose name is not followed ({text(name) or 'computed'})", site.place,
                   (whole,))  # fmt: skip
    made = step(site, "digest", whole, detail=found)
    site.tell(Kind.MAKES, made)
    return made


def _hmac(site: Site, name: Term, data: Term, key: Term) -> Term:
    found = algorithm(name)
    if found is None:
        return gap("an HMAC whose digest is not followed", site.place, (data, key))
    made = step(site, "hmac", data, key, detail=found)
    site.tell(Kind.MAKES, made)
    return made


def _pbkdf2(
    site: Site, name: Term, password: Term, salt: Term, rounds: Term, length: Term = NOTHING
) -> Term:
    found, times, size = algorithm(name), number(rounds), number(length)
    if found is not None and size is None and length in {NOTHING, Constant(0)}:
        size = DIGESTS[found].size_bytes
    if found is None or times is None or size is None:
        made: Term = Step("scheme", (password, salt), site.place, (), "pbkdf2")
    else:
        made = step(site, "pbkdf2", password, salt, numbers=(times, size), detail=found)
    site.tell(Kind.MAKES, made)
    return made


def _scheme(site: Site, name: Term, password: Term, *more: Term) -> Term:
    cost = next((found for each in more if (found := number(each)) is not None), None)
    numbers = (cost,) if cost is not None else ()
    made = Step("scheme", (password, *more), site.place, numbers, text(name) or "")
    site.tell(Kind.MAKES, made)
    return made


def _check(site: Site, password: Term, stored: Term) -> Term:
    site.tell(Kind.CHECKS, password, stored)
    return Step("checked", (password, stored), site.place)


def _equal(site: Site, left: Term, right: Term, how: Term = NOTHING) -> Term:
    site.tell(Kind.COMPARES, left, right, how=text(how) or "in constant time")
    return Step("compared", (left, right), site.place)


def _written(site: Site, raw: Term, of: Term) -> Term:
    """Give bytes as they are where a flag says so, else in hexadecimal."""
    is_raw = isinstance(raw, Constant) and bool(raw.value)
    return of if is_raw else step(site, "hex", of)


def _encoded(site: Site, of: Term, name: Term) -> Term:
    """Write bytes as text by the name of an encoding."""
    known = {
        "hex": "hex", "base64": "base64", "base64url": "base64url-unpadded", "binary": "as-latin-1",
        "latin1": "as-latin-1", "utf8": "as-text", "utf-8": "as-text", "ascii": "as-text",
    }  # fmt: skip
    if name == NOTHING:
        return of
    found = known.get((text(name) or "").lower())
    if found is None:
        return gap("an encoding that is not followed", site.place, (of,))
    return step(site, found, of)


def _bytes_of(site: Site, of: Term, name: Term = NOTHING) -> Term:
    """Give a text's bytes by the name of an encoding; UTF-8 where none is named."""
    folded = (text(name) or "utf-8").lower().replace("_", "-").replace("charset.", "")
    known = {
        "utf-8": "utf-8", "utf8": "utf-8", "latin1": "latin-1", "latin-1": "latin-1",
        "iso-8859-1": "latin-1", "windows-1252": "windows-1252", "cp1252": "windows-1252",
        "utf-16le": "utf-16le", "utf16le": "utf-16le", "ucs-2le": "utf-16le", "ascii": "utf-8",
        "us-ascii": "utf-8", "binary": "latin-1", "ucs2": "utf-16le",
    }  # fmt: skip
    if folded in {"hex", "base64"}:
        return step(site, f"un{folded}", of)
    if folded not in known:
        return gap("an encoding that is not followed", site.place, (of,))
    return _each(of, lambda each: _encoded_text(site, each, known[folded]))


def _encoded_text(site: Site, of: Term, encoding: str) -> Term:
    if encoding == "utf-8":
        return of  # what reaches a digest is UTF-8 by itself
    return Step(encoding, (of,), site.place)


def _slice(site: Site, of: Term, start: Term = NOTHING, length: Term = NOTHING) -> Term:
    """Cut by a place and a length, from the end where the place is negative."""
    first = 0 if start == NOTHING else number(start)
    many = number(length) if length != NOTHING else 0
    if first is None or many is None or first < 0 or many < 0:
        return gap("a cut whose places are not followed", site.place, (of,))
    return step(site, "slice", of, numbers=(first, first + many if many else 0))


def _between(site: Site, of: Term, start: Term = NOTHING, end: Term = NOTHING) -> Term:
    """Cut from a place up to another."""
    first = 0 if start == NOTHING else number(start)
    last = 0 if end == NOTHING else number(end)
    if first == 0 and last == 0:
        return of
    if first is None or last is None or first < 0 or last < 0:
        return gap("a cut whose places are not followed", site.place, (of,))
    return step(site, "slice", of, numbers=(first, last))


def _random(site: Site, of: Term = NOTHING) -> Term:
    return Input(Role.RANDOM, "random", site.place)


def _weak(site: Site, *of: Term) -> Term:
    return Input(Role.WEAK, "random", site.place)


def _clock(site: Site, *of: Term) -> Term:
    return Input(Role.CLOCK, "time", site.place)


def _leaves(site: Site, how: Term, *given: Term) -> Term:
    site.tell(Kind.LEAVES, *given, how=text(how) or "")
    return Step("compared", (), site.place)


def _passed(site: Site, of: Term, *rest: Term) -> Term:
    return of


def _request(site: Site, name: Term = NOTHING, *more: Term) -> Term:
    found = named_input(text(name) or "", site.place, is_request=True)
    if isinstance(found, Input) and found.role is Role.PASSWORD:
        site.tell(Kind.TAKES, found)
    return found


def _typed(site: Site, *prompt: Term) -> Term:
    """Give what a person types at a prompt for a password."""
    found = Input(Role.PASSWORD, "password", site.place, True)
    site.tell(Kind.TAKES, found)
    return found


def _repeated(site: Site, of: Term, times: Term) -> Term:
    count = number(times)
    if count is None or not 0 <= count <= 16:
        return gap("a repetition that is not followed", site.place, (of,))
    return joined(site, *[of] * count)


def _state(site: Site, name: Term, *data: Term) -> Term:
    return Handle("digest", tuple(data), text(name) or "", site.place)


def _keyed_state(site: Site, name: Term, key: Term, *data: Term) -> Term:
    return Handle("hmac", (key, *data), text(name) or "", site.place)


def _more(site: Site, of: Term, *data: Term) -> Term:
    if isinstance(of, Handle):
        return Handle(of.kind, (*of.of, *data), of.detail, of.place)
    if isinstance(of, Either):
        return either([_more(site, option, *data) for option in of.options])
    return gap("an object that is not followed", site.place, (of, *data))


def _finished(site: Site, of: Term, *data: Term) -> Term:
    """Give the digest of what an object gathered, as bytes."""
    whole = _more(site, of, *data) if data and data != (NOTHING,) else of
    if isinstance(whole, Either):
        return either([_finished(site, option) for option in whole.options])
    if not isinstance(whole, Handle) or whole.kind not in {"digest", "hmac"}:
        return gap("an object that is not followed", site.place, (whole,))
    if whole.kind == "digest":
        return _digest(site, Constant(whole.detail), *whole.of)
    key, *rest = whole.of or (NOTHING,)
    return _hmac(site, Constant(whole.detail), joined(site, *rest), key)


def _finished_as(site: Site, of: Term, encoding: Term = NOTHING) -> Term:
    return _encoded(site, _finished(site, of), encoding)


def _own(name: str) -> Operator:
    """Make an operator that is one step of its own."""

    def make(site: Site, of: Term, *_more: Term) -> Term:
        return step(site, name, of)

    return make


def _listed(site: Site, *given: Term) -> Term:
    return Fields(tuple((str(place), each) for place, each in enumerate(given)), is_list=True)


def _query(site: Site, sql: Term, *given: Term) -> Term:
    return site.query(sql, given)


def _statement(site: Site, sql: Term, *given: Term) -> Term:
    return Handle("query", (sql, *given), "", site.place)


def _run(site: Site, of: Term, *given: Term) -> Term:
    """Run a statement that was prepared, or a query as it is."""
    if isinstance(of, Either):
        return either([_run(site, option, *given) for option in of.options])
    if isinstance(of, Handle) and of.kind == "query":
        return site.query(of.of[0], (*of.of[1:], *given))
    if given and text_like(given[0]):
        return site.query(given[0], given[1:])
    return gap("a call that is not followed", site.place, given)


def text_like(term: Term) -> bool:
    """Tell whether a term is text that the source mostly says."""
    if isinstance(term, Constant):
        return isinstance(term.value, str)
    if isinstance(term, Step) and term.name == "join":
        return any(isinstance(part, Constant) for part in term.of)
    return isinstance(term, Either) and any(map(text_like, term.options))


def _bound(site: Site, of: Term, place: Term, value: Term) -> Term:
    """Give a statement one of its values, by place or name."""
    if isinstance(of, Handle) and of.kind == "query":
        key = text(place) or str(number(place) or 0)
        return Handle("query", (*of.of, Fields(((key, value),), name="bound")), "", of.place)
    return of


def _encrypted(site: Site, of: Term, *more: Term) -> Term:
    site.tell(Kind.ENCRYPTS, of, *more)
    return Step("encrypted", (of, *more), site.place)


def _stored_by(site: Site, how: Term, *given: Term) -> Term:
    """Write records, by a method of a library that keeps them."""
    for column, value in written_fields(given):
        site.tell(Kind.WRITES, value, how=column)
    return Gap("a call that is not followed", site.place)


def _mapped(site: Site, over: Term, routine: Term) -> Term:
    """Apply a function to each part of what is mapped."""
    if isinstance(over, Fields) and over.is_list and len(over.pairs) <= 32:
        return Fields(
            tuple((key, site.apply(routine, value)) for key, value in over.pairs), is_list=True
        )
    each = site.apply(routine, Step("element", (over,), site.place))
    return Step("mapped", (each, over), site.place)


def _concatenated(site: Site, of: Term, separator: Term = NOTHING) -> Term:
    """Join what a list holds."""
    between = separator if separator != NOTHING else Constant("")
    if isinstance(of, Step) and of.name == "mapped":
        each, over = of.of
        if isinstance(each, Step) and each.name == "hex-byte":
            return step(site, "hex", over)
    if not isinstance(of, Fields):
        return of if isinstance(of, Step) else gap("a list that is not followed", site.place, (of,))
    found: list[Term] = []
    for _, value in of.pairs:
        found.extend([between, value] if found else [value])
    return joined(site, *found)


def _formatted(site: Site, pattern: Term, *given: Term) -> Term:
    """Put values into a pattern with percent signs."""
    said = text(pattern)
    if said is None:
        return gap("a pattern that is not followed", site.place, given)
    values = list(given)
    if len(values) == 1 and isinstance(values[0], Fields) and values[0].is_list:
        values = [value for _, value in values[0].pairs]
    found: list[Term] = []
    for piece in _PIECES.split(said):
        if not piece.startswith("%"):
            found.append(Constant(piece, site.place))
        elif piece == "%%":
            found.append(Constant("%", site.place))
        else:
            value = values.pop(0) if values else NOTHING
            found.append(_one(site, piece, value))
    return joined(site, *found)


def _one(site: Site, piece: str, value: Term) -> Term:
    if piece[-1] in "xX":
        is_byte = isinstance(value, Step) and value.name == "element"
        name = "hex-byte" if is_byte else "hex"
        made = step(site, name, value)
        return step(site, "upper", made) if piece[-1] == "X" else made
    if piece in {"%s", "%v", "%d", "%S", "%i", "%1$s"}:
        return value
    return gap("a pattern that is not followed", site.place, (value,))


def _packed(site: Site, pattern: Term, *given: Term) -> Term:
    """Read what `pack` makes: hexadecimal text as bytes."""
    if (text(pattern) or "") in {"H*", "H32", "H40", "H64", "H128"} and given:
        return step(site, "unhex", given[0])
    return gap("a packing that is not followed", site.place, given)


def _unpacked(site: Site, of: Term, pattern: Term) -> Term:
    if (text(pattern) or "") in {"H*"}:
        return _listed(site, step(site, "hex", of))
    return gap("an unpacking that is not followed", site.place, (of,))


def _setting(site: Site, name: Term, fallback: Term = NOTHING) -> Term:
    """Give a value of the configuration."""
    return site.setting(text(name) or "")


_PIECES = re.compile(r"(%%|%(?:\d+\$)?[-+ 0#]*\d*(?:\.\d+)?[a-zA-Z])")

_TEXT_STEPS = (
    "trim", "lower", "upper", "reverse", "length", "hex", "hex-upper", "base64", "base64url",
    "unhex", "unbase64", "escape-quotes", "escape-html", "as-text", "nfc", "nfd", "hex-byte",
    "double-utf-8", "from-latin-1", "latin-1", "utf-16le", "base64-unpadded", "windows-1252",
    "rtrim", "number-hex", "list-text", "base64url-unpadded",
)  # fmt: skip

OPERATORS: Mapping[str, Operator] = MappingProxyType(
    {name.replace("-", "_"): _own(name) for name in _TEXT_STEPS}
    | {
        "digest": _digest,
        "hmac": _hmac,
        "pbkdf2": _pbkdf2,
        "scheme": _scheme,
        "check": _check,
        "equal": _equal,
        "written": _written,
        "encoded": _encoded,
        "bytes_of": _bytes_of,
        "cut": _slice,
        "between": _between,
        "random": _random,
        "weak": _weak,
        "clock": _clock,
        "leaves": _leaves,
        "passed": _passed,
        "request": _request,
        "typed": _typed,
        "repeated": _repeated,
        "state": _state,
        "keyed_state": _keyed_state,
        "more": _more,
        "finished": _finished,
        "finished_as": _finished_as,
        "joined": joined,
        "listed": _listed,
        "query": _query,
        "statement": _statement,
        "run": _run,
        "bound": _bound,
        "encrypted": _encrypted,
        "stored_by": _stored_by,
        "mapped": _mapped,
        "concatenated": _concatenated,
        "formatted": _formatted,
        "packed": _packed,
        "unpacked": _unpacked,
        "setting": _setting,
        "apply": lambda site, routine, *given: site.apply(routine, *given),
    }
)
