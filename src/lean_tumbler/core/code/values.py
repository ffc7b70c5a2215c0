"""Small questions and steps of the evaluation: what values are, and what branches leave."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.code.program import (
    Call,
    CodeFunction,
    Expression,
    Name,
    Operation,
)
from lean_tumbler.core.code.sites import number
from lean_tumbler.core.code.terms import (
    NOTHING,
    Constant,
    Either,
    Fields,
    Gap,
    SourceLine,
    Term,
    TermInput,
    TermStep,
    either,
    is_hashed,
    is_typed,
    parts,
)

if TYPE_CHECKING:
    from lean_tumbler.core.code.call_site import CallSite

Variables = dict[str, Term]


class Ended(Struct, frozen=True):
    """How a run of statements ended."""

    results: tuple[Term, ...] = ()
    is_over: bool = False  # whether no way leads to what comes behind


def merge(variables: Variables, ways: Sequence[Variables]) -> None:
    """Let variables hold what they may hold behind several ways."""
    names = dict.fromkeys(key for way in ways for key in way)
    for name in names:
        held = [way[name] for way in ways if name in way]
        variables[name] = held[0] if all(each == held[0] for each in held) else either(held)


def named(term: Term, name: str) -> Term:
    """Note the name under which a constant is kept."""
    if isinstance(term, Constant) and not term.name:
        return replace(term, name=name)
    return term


def with_fields(found: Term, held: list[str], name: str, variables: Variables) -> Term:
    """Give an object with what its fields were set to."""
    own = [(key[len(name) + 1 :], variables[key]) for key in held]
    flat = [(key, value) for key, value in own if "." not in key]
    if isinstance(found, Fields):
        kept = tuple(pair for pair in found.pairs if pair[0] not in dict(flat))
        return replace(found, pairs=(*kept, *flat))
    return Fields((("...", found), *flat))


def condition_of(test: Expression, value: Term) -> str:
    """Say what kind of condition leads into a branch."""
    if isinstance(test, Operation) and test.operator == "fails":
        return "fails"
    for found in (value, *parts(value)):
        if isinstance(found, TermStep) and found.name == "checked":
            return "checked"
        is_compared = isinstance(found, TermStep) and found.name == "compared"
        if is_compared and any(is_typed(each) or is_hashed(each) for each in parts(found)):
            return "compared"
    return "if"


def is_spread(call: Call) -> bool:
    """Tell whether a call stands for a value that is spread."""
    return isinstance(call.function, Name) and call.function.name == "..."


def is_number(term: Term) -> bool:
    """Tell whether a term is a whole number of the source."""
    return isinstance(term, Constant) and isinstance(term.value, int)


def is_text(term: Term) -> bool:
    """Tell whether a term may be text, so that a plus sign joins it."""
    if isinstance(term, Constant):
        return isinstance(term.value, str | bytes)
    if isinstance(term, Either):
        return any(map(is_text, term.options))
    return isinstance(term, TermStep | TermInput | Gap)


def computed(operator: str, numbers: list[int | None], place: SourceLine) -> Term:
    """Compute with two numbers of the source."""
    left, right = (each or 0 for each in numbers)
    if operator == "<<" and 0 <= right <= 64:
        return Constant(left << right, place)
    known = {"+": left + right, "-": left - right, "*": left * right}
    if operator in known:
        return Constant(known[operator], place)
    return Gap(f"an operator ({operator})", place)


def sliced(site: "CallSite", kind: str, of: Term, bounds: list[Term]) -> Term:
    """Cut a value between bounds, as the language means them."""
    if isinstance(of, Fields) and of.is_list:
        return of
    first = bounds[0] if bounds else NOTHING
    last = bounds[1] if len(bounds) > 1 else NOTHING
    if kind == "part":
        return site.use("cut", of, first, last)
    if kind == "range" and number(last) is not None:
        last = Constant((number(last) or 0) + 1)
    return site.use("between", of, first, last)


def full_name(function: CodeFunction) -> str:
    """Give a function's name, behind that of its class."""
    return f"{function.owner}.{function.name}" if function.owner else function.name
