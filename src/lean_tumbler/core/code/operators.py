"""Operators of the tables of functions: what a call makes of the terms that it is given."""

from collections.abc import Mapping
from types import MappingProxyType

from lean_tumbler.core.code.members import named_input, written_fields
from lean_tumbler.core.code.places import EventKind
from lean_tumbler.core.code.sites import (
    Operator,
    Site,
    algorithm,
    joined,
    number,
    step,
    text,
    text_like,
)
from lean_tumbler.core.code.terms import (
    NOTHING,
    Constant,
    Either,
    Fields,
    Gap,
    Handle,
    Role,
    Term,
    TermInput,
    TermStep,
    either,
    gap,
)
from lean_tumbler.core.code.text_operators import TEXT_OPERATORS, encoded
from lean_tumbler.core.formulas.steps import DIGESTS


def _digest(site: Site, name: Term, *data: Term) -> Term:
    found = algorithm(name)
    whole = joined(site, *data) if len(data) > 1 else (data[0] if data else Constant(""))
    if found is None:
        return gap("a digest whose name is not known", site.place, (whole,))
    made = step(site, "digest", whole, detail=found)
    site.tell(EventKind.MAKES, made)
    return made


def _hmac(site: Site, name: Term, data: Term, key: Term) -> Term:
    found = algorithm(name)
    if found is None:
        return gap("an HMAC whose digest is not followed", site.place, (data, key))
    made = step(site, "hmac", data, key, detail=found)
    site.tell(EventKind.MAKES, made)
    return made


def _pbkdf2(
    site: Site, name: Term, password: Term, salt: Term, rounds: Term, length: Term = NOTHING
) -> Term:
    found, times, size = algorithm(name), number(rounds), number(length)
    if found is not None and size is None and length in {NOTHING, Constant(0)}:
        size = DIGESTS[found].size_bytes
    if found is None or times is None or size is None:
        made: Term = TermStep("scheme", (password, salt), site.place, (), "pbkdf2")
    else:
        made = step(site, "pbkdf2", password, salt, numbers=(times, size), detail=found)
    site.tell(EventKind.MAKES, made)
    return made


def _scheme(site: Site, name: Term, password: Term, *more: Term) -> Term:
    cost = next((found for each in more if (found := number(each)) is not None), None)
    numbers = (cost,) if cost is not None else ()
    made = TermStep("scheme", (password, *more), site.place, numbers, text(name) or "")
    site.tell(EventKind.MAKES, made)
    return made


def _check(site: Site, password: Term, stored: Term) -> Term:
    site.tell(EventKind.CHECKS, password, stored)
    return TermStep("checked", (password, stored), site.place)


def _equal(site: Site, left: Term, right: Term, how: Term = NOTHING) -> Term:
    site.tell(EventKind.COMPARES, left, right, how=text(how) or "in constant time")
    return TermStep("compared", (left, right), site.place)


def _random(site: Site, of: Term = NOTHING) -> Term:
    return TermInput(Role.RANDOM, "random", site.place)


def _weak(site: Site, *of: Term) -> Term:
    return TermInput(Role.WEAK, "random", site.place)


def _clock(site: Site, *of: Term) -> Term:
    return TermInput(Role.CLOCK, "time", site.place)


def _leaves(site: Site, how: Term, *given: Term) -> Term:
    site.tell(EventKind.LEAVES, *given, how=text(how) or "")
    return TermStep("compared", (), site.place)


def _passed(site: Site, of: Term, *rest: Term) -> Term:
    return of


def _request(site: Site, name: Term = NOTHING, *more: Term) -> Term:
    found = named_input(text(name) or "", site.place, is_request=True)
    if isinstance(found, TermInput) and found.role is Role.PASSWORD:
        site.tell(EventKind.TAKES, found)
    return found


def _typed(site: Site, *prompt: Term) -> Term:
    """Give what a person types at a prompt for a password."""
    found = TermInput(Role.PASSWORD, "password", site.place, True)
    site.tell(EventKind.TAKES, found)
    return found


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
    return encoded(site, _finished(site, of), encoding)


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


def _bound(site: Site, of: Term, place: Term, value: Term) -> Term:
    """Give a statement one of its values, by place or name."""
    if isinstance(of, Handle) and of.kind == "query":
        key = text(place) or str(number(place) or 0)
        return Handle("query", (*of.of, Fields(((key, value),), name="bound")), "", of.place)
    return of


def _encrypted(site: Site, of: Term, *more: Term) -> Term:
    site.tell(EventKind.ENCRYPTS, of, *more)
    return TermStep("encrypted", (of, *more), site.place)


def _stored_by(site: Site, how: Term, *given: Term) -> Term:
    """Write records, by a method of a library that keeps them."""
    for column, value in written_fields(given):
        site.tell(EventKind.WRITES, value, how=column)
    return Gap("a call that is not followed", site.place)


def _setting(site: Site, name: Term, fallback: Term = NOTHING) -> Term:
    """Give a value of the configuration."""
    return site.setting(text(name) or "")


_TEXT_STEPS = (
    "trim", "lower", "upper", "reverse", "length", "hex", "hex-upper", "base64", "base64url",
    "unhex", "unbase64", "escape-quotes", "escape-html", "as-text", "nfc", "nfd", "hex-byte",
    "double-utf-8", "latin-1", "base64-unpadded", "base64url-unpadded",
)  # fmt: skip


OPERATORS: Mapping[str, Operator] = MappingProxyType(
    {name.replace("-", "_"): _own(name) for name in _TEXT_STEPS}
    | dict(TEXT_OPERATORS)
    | {
        "digest": _digest,
        "hmac": _hmac,
        "pbkdf2": _pbkdf2,
        "scheme": _scheme,
        "check": _check,
        "equal": _equal,
        "random": _random,
        "weak": _weak,
        "clock": _clock,
        "leaves": _leaves,
        "passed": _passed,
        "request": _request,
        "typed": _typed,
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
        "setting": _setting,
    }
)
