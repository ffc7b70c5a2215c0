"""What detectors ask of a program: its events, and what one event says."""

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property

from lean_tumbler.core.code.naming import role_of
from lean_tumbler.core.code.places import CodeEvent, EventKind
from lean_tumbler.core.code.recovered import Recovered, hashes_password, recover
from lean_tumbler.core.code.terms import (
    HASHING,
    Constant,
    Fields,
    Role,
    SourceLine,
    Term,
    TermInput,
    TermStep,
    hashing_steps,
    inside,
    is_typed,
    options,
    parts,
)

# Steps that change a password before it is hashed.
CHANGING = frozenset({"trim", "lower", "upper", "slice", "escape-quotes", "escape-html"})

# Tables that hold passwords, by their names.
_OF_PEOPLE = re.compile(
    r"user|person|people|account|member|customer|client|login|employee|staff|passenger|agent|crew"
)


class CodeFacts:
    """The events of one program, and what follows from several of them."""

    def __init__(self, events: Sequence[CodeEvent]) -> None:
        self.events = tuple(events)

    def of(self, *kinds: EventKind) -> Iterator[CodeEvent]:
        """Give the events of some kinds."""
        return (event for event in self.events if event.kind in kinds)

    @cached_property
    def salts(self) -> tuple[Term, ...]:
        """What the program writes to columns of salts."""
        return tuple(
            option
            for event in self.of(EventKind.WRITES)
            if role_of(event.how) is Role.SALT
            for option in options(event.terms[0])
        )

    @cached_property
    def has_rehash(self) -> frozenset[str]:
        """Languages in which something asks whether a stored value is outdated."""
        return frozenset(event.language for event in self.of(EventKind.RENEWS))

    @cached_property
    def formulas(self) -> tuple[Recovered, ...]:
        """The formulas of what is stored, compared or returned; each once."""
        found: dict[tuple[str, SourceLine, bool], Recovered] = {}
        for event, term, is_stored in self.hashes:
            made = recover(term, event.function, self.salts, is_stored=is_stored)
            if made is None:
                continue
            key = (made.text, made.place, bool(made.missing))
            known = found.get(key)
            if known is None or (is_stored and not known.is_stored):
                found[key] = made
        return tuple(_outer(found.values()))

    @cached_property
    def hashes(self) -> tuple[tuple[CodeEvent, Term, bool], ...]:
        """Digests of passwords that leave a function: with whether they are stored or compared."""
        return tuple(self._hashes())

    def _hashes(self) -> Iterator[tuple[CodeEvent, Term, bool]]:
        for event in self.of(
            EventKind.RETURNS, EventKind.WRITES, EventKind.COMPARES, EventKind.FINDS
        ):
            for term in event.terms:
                for option in options(term):
                    waiting = [option]
                    if isinstance(option, Fields):
                        waiting = [each for part in parts(option) for each in options(part)]
                    for each in waiting:
                        if hashes_password(each) and not _is_answer(each):
                            yield event, each, event.kind is not EventKind.RETURNS


def _is_answer(term: Term) -> bool:
    return isinstance(term, TermStep) and term.name in {"compared", "checked", "opened", "outdated"}


def _outer(found: Iterable[Recovered]) -> Iterator[Recovered]:
    """Leave out what is only a part of another formula, as a helper's result is."""
    known = list(found)
    inner = {
        step.place
        for each in known
        for term in each.terms
        for step in inside(term)
        if isinstance(step, TermStep) and step.name in HASHING and step.place != each.place
    }
    for each in known:
        if each.is_stored or each.place not in inner:
            yield each


def typed_steps(term: Term) -> Iterator[TermStep]:
    """Give the steps between a typed password and the first that hashes it."""
    for found in inside(term):
        if isinstance(found, TermStep) and found.name in CHANGING and is_typed(found):
            yield found


def constants_beside(step: TermStep) -> Iterator[Constant]:
    """Give the constants that are joined to what a step hashes, or are its key or salt."""
    for each in step.of:
        for found in inside(each):
            if isinstance(found, Constant) and _is_long(found):
                yield found


def _is_long(term: Constant) -> bool:
    value = term.value
    return isinstance(value, str | bytes) and len(value) > 3


def is_record(term: Term) -> bool:
    """Tell whether a term is a whole row of a table with passwords."""
    if isinstance(term, TermInput):
        is_row = term.role is Role.RECORD and not term.is_request
        return is_row and _OF_PEOPLE.search(term.table.lower()) is not None
    if isinstance(term, Fields):
        return any(
            (key == "..." and is_record(value))
            or (isinstance(value, TermInput) and value.role in {Role.STORED, Role.FIELD})
            for key, value in term.pairs
        )
    return False


def hashes(term: Term) -> bool:
    """Tell whether a term is a hash of a password."""
    return any(True for option in options(term) for _ in hashing_steps(option))


Seen = tuple[CodeEvent, SourceLine, str]  # the event, the line, and what is seen there
Detector = Callable[[CodeFacts], Iterator[Seen]]
