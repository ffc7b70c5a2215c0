"""What a value of a program is, as far as its source tells: constants, inputs and steps."""

from collections.abc import Iterator
from enum import StrEnum
from typing import Union

from msgspec import Struct
from msgspec.structs import force_setattr

from lean_tumbler.core.code.program import CodeFunction


class Role(StrEnum):
    """What an input is to passwords."""

    PASSWORD = "password"  # noqa: S105 - typed by a person
    FIELD = "field"  # of a record that is named password: typed, or as stored
    STORED = "stored"  # what a column holds
    SALT = "salt"
    LOGIN = "login"
    KEY = "key"  # a secret of the program
    RANDOM = "random"  # from a generator for secrets
    WEAK = "weak"  # from another generator
    CLOCK = "clock"
    RECORD = "record"  # of a request or a database
    OTHER = "other"


class SourceLine(Struct, frozen=True, order=True):
    """A line of a file."""

    path: str
    line: int


class Constant(Struct, frozen=True):
    """A value that stands in the source or a configuration file."""

    value: str | bytes | int | float | bool | None
    place: SourceLine | None = None
    name: str = ""  # under which it is kept; empty where it stands in the expression itself


class TermInput(Struct, frozen=True):
    """A value that comes from elsewhere."""

    role: Role
    name: str
    place: SourceLine | None = None
    is_request: bool = False
    table: str = ""  # whose column it is, where a query says so


class _Weighed(Struct, frozen=True, kw_only=True):
    """A term that is made of others: it knows how many, so that none grows without bound."""

    weight: int = 0  # the steps, fields and alternatives in it; constants weigh nothing

    def __post_init__(self) -> None:
        inside = sum(getattr(part, "weight", 0) for part in parts(self))  # type: ignore[arg-type]
        force_setattr(self, "weight", inside + 1)


class TermStep(_Weighed, frozen=True):
    """A computation; `name` and `numbers` say which."""

    name: str
    of: "tuple[Term, ...]"
    place: SourceLine | None = None
    numbers: tuple[int, ...] = ()
    detail: str = ""  # the digest or scheme


class Gap(_Weighed, frozen=True):
    """What could not be followed, with what went into it."""

    why: str
    place: SourceLine | None = None
    of: "tuple[Term, ...]" = ()


class Either(_Weighed, frozen=True):
    """One of several values, by the way that the program took."""

    options: "tuple[Term, ...]"


class Fields(_Weighed, frozen=True):
    """A list or map whose keys are known."""

    pairs: "tuple[tuple[str, Term], ...]"
    is_list: bool = False
    name: str = ""  # of a class or table; empty where none is known


class Reference(Struct, frozen=True):
    """What bears a name outside of the function: of a module, class or library."""

    name: str


class Routine(Struct, frozen=True, eq=False):
    """A function as a value: each is its own, as what it captured may be large."""

    function: CodeFunction
    path: str
    captured: "tuple[tuple[str, Term], ...]" = ()


class Pending(_Weighed, frozen=True):
    """A result that is not there yet, because nobody waits for it."""

    value: "Term"


class Handle(_Weighed, frozen=True):
    """An object of a library that gathers what it is given: a digest, a query."""

    kind: str
    of: "tuple[Term, ...]" = ()
    detail: str = ""
    place: SourceLine | None = None


Term = Union[  # noqa: UP007 - the members' annotations are texts
    Constant, TermInput, TermStep, Gap, Either, Fields, Reference, Routine, Pending, Handle
]  # fmt: skip

NOTHING = Constant(None)
_HELD = 1_000  # terms that are looked at for one question
_KEPT = 8  # of what went into a gap
_LIGHT = 50  # what a step may weigh that a gap keeps whole
HEAVIEST = 600  # a term that weighs more is followed no further

# Steps whose result says nothing of what went in.
OPAQUE = frozenset({"checked", "compared", "length"})
# Steps that hash: their result is a stored value, no longer a password.
HASHING = frozenset({"digest", "hmac", "pbkdf2", "scheme"})
# Inputs of which a program makes a salt.
GENERATED = (Role.RANDOM, Role.WEAK, Role.CLOCK)


def parts(term: Term) -> "tuple[Term, ...]":
    """Give what a term is directly made of."""
    if isinstance(term, TermStep | Gap | Handle):
        return term.of
    if isinstance(term, Either):
        return term.options
    if isinstance(term, Fields):
        return tuple(value for _, value in term.pairs)
    if isinstance(term, Pending):
        return (term.value,)
    return ()


def inside(term: Term, *, through_hashes: bool = True) -> Iterator[Term]:
    """Give a term and all that it is made of.

    Args:
        term: where to begin.
        through_hashes: whether to look also at what was hashed.
    """
    waiting, seen = [term], 0
    while waiting and seen < _HELD:
        found = waiting.pop()
        seen += 1
        yield found
        is_hash = isinstance(found, TermStep) and found.name in HASHING and not through_hashes
        if is_hash or (isinstance(found, TermStep) and found.name in OPAQUE):
            continue
        waiting.extend(parts(found))


def inputs(term: Term, *roles: Role, through_hashes: bool = True) -> list[TermInput]:
    """Give the inputs of certain roles that a term holds."""
    return [
        found
        for found in inside(term, through_hashes=through_hashes)
        if isinstance(found, TermInput) and found.role in roles
    ]


def is_typed(term: Term) -> bool:
    """Tell whether a term holds a password that nothing hashed."""
    for found in inside(term, through_hashes=False):
        if isinstance(found, TermInput) and found.role is Role.PASSWORD:
            return True
    return False


def is_taken(term: Term) -> bool:
    """Tell whether a term is a password as a request brings it."""
    return isinstance(term, TermInput) and term.role is Role.PASSWORD and term.is_request


def is_hashed(term: Term) -> bool:
    """Tell whether a term holds a hash of a password, or a stored value."""
    for found in inside(term, through_hashes=False):
        if isinstance(found, TermStep) and found.name in HASHING:
            if inputs(found, Role.PASSWORD, Role.FIELD):
                return True
        elif isinstance(found, TermInput) and found.role is Role.STORED:
            return True
    return False


def hashing_steps(term: Term) -> Iterator[TermStep]:
    """Give the steps of a term that hash a password, the last first."""
    waiting = [term]
    seen = 0
    while waiting and seen < _HELD:
        found = waiting.pop(0)
        seen += 1
        is_hash = isinstance(found, TermStep) and found.name in HASHING
        if isinstance(found, TermStep) and is_hash and inputs(found, Role.PASSWORD, Role.FIELD):
            yield found
        waiting.extend(parts(found))


# What a gap keeps of what went into it.
_TELLING = frozenset(
    {Role.PASSWORD, Role.FIELD, Role.STORED, Role.SALT, Role.RANDOM, Role.WEAK, Role.CLOCK}
)


def gap(why: str, place: SourceLine | None, terms: "tuple[Term, ...] | list[Term]") -> Gap:
    """Make a gap, which keeps only what counts of what went into it."""
    kept: dict[Term, None] = {}
    for term in terms:
        for found in inside(term, through_hashes=False):
            is_input = isinstance(found, TermInput) and found.role in _TELLING
            is_hash = isinstance(found, TermStep) and found.name in HASHING
            if (is_input or is_hash) and len(kept) < _KEPT:
                kept[_light(found)] = None
    return Gap(why, place, tuple(kept))


def _light(term: Term) -> Term:
    """Give a term as it is, or a heavy step with the inputs alone that count in it."""
    if not isinstance(term, TermStep) or term.weight <= _LIGHT:
        return term
    found = tuple(dict.fromkeys(inputs(term, *_TELLING)))[:_KEPT]
    return TermStep(term.name, found, term.place, term.numbers, term.detail)


def tells(term: Term) -> bool:
    """Tell whether a term has to do with a password or a stored value."""
    return any(
        (isinstance(found, TermInput) and found.role in _TELLING)
        or (isinstance(found, TermStep) and found.name in HASHING)
        or isinstance(found, Routine | Pending)
        for found in inside(term, through_hashes=False)
    )


def options(term: Term) -> "tuple[Term, ...]":
    """Give what a term may be, one by one."""
    if isinstance(term, Either):
        return tuple(each for option in term.options for each in options(option))
    return (term,)


def either(terms: "tuple[Term, ...] | list[Term]", most: int = 8) -> Term:
    """Make one of several values; equal ones count once."""
    found = tuple(dict.fromkeys(each for term in terms for each in options(term)))
    if len(found) == 1:
        return found[0]
    return Either(found[:most]) if found else NOTHING
