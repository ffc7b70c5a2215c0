"""How mistakes in checking passwords are seen."""

import re
from collections.abc import Iterator

from lean_tumbler.core.code.mistakes.facts import (
    CodeFacts,
    Seen,
    hashes,
)
from lean_tumbler.core.code.mistakes.leaving import left_by
from lean_tumbler.core.code.places import EventKind
from lean_tumbler.core.code.terms import (
    Constant,
    Pending,
    Role,
    Term,
    TermInput,
    TermStep,
    inputs,
    inside,
    is_typed,
    options,
)

_UNKNOWN_USER = re.compile(
    r"(?i)\b(no such|unknown|not found|no|invalid|does ?n.t exist|not exist|not registered)\b"
    r".{0,20}"
    r"\b(user|account|login|e-?mail|member|customer)|"
    r"\b(user|account|login|e-?mail|member|customer)\b.{0,20}"
    r"\b(not found|unknown|does ?n.t exist|not exist|not registered)"
)


def loose_comparison(facts: CodeFacts) -> Iterator[Seen]:
    """A stored value that is compared as text, not in constant time."""
    for event in facts.of(EventKind.COMPARES):
        if len(event.terms) != 2 or event.how in {"in constant time", "folded"}:
            continue
        left, right = event.terms
        if (hashes(left) and _kept(right)) or (hashes(right) and _kept(left)):
            yield event, event.place, f"compared by {event.how}"


def _kept(term: Term) -> bool:
    return any(
        not is_typed(option)
        and (inputs(option, Role.STORED, Role.FIELD, Role.RECORD, Role.OTHER) or hashes(option))
        for option in options(term)
    )


def folded_comparison(facts: CodeFacts) -> Iterator[Seen]:
    """A stored value that is compared whatever its letter case."""
    for event in facts.of(EventKind.COMPARES):
        if event.how == "folded" and any(hashes(term) or is_typed(term) for term in event.terms):
            yield event, event.place, "compared whatever the letter case"


def found_by_hash(facts: CodeFacts) -> Iterator[Seen]:
    """A query that finds the row by what is stored."""
    for event in facts.of(EventKind.FINDS):
        if event.terms and hashes(event.terms[0]):
            yield event, event.place, f"WHERE {event.how} = a hash"


def found_by_password(facts: CodeFacts) -> Iterator[Seen]:
    """A query that finds the row by the password itself."""
    for event in facts.of(EventKind.FINDS):
        if event.terms and any(is_typed(option) for option in options(event.terms[0])):
            yield event, event.place, f"WHERE {event.how} = the password"


def compared_hashes(facts: CodeFacts) -> Iterator[Seen]:
    """A fresh salted hash that is compared with a stored one, or a hash that is checked."""
    for event in facts.of(EventKind.COMPARES, EventKind.CHECKS):
        if len(event.terms) != 2:
            continue
        first, second = event.terms
        if event.kind is EventKind.CHECKS:
            if any(_is_scheme(each) for each in options(first)):
                yield event, event.place, "a hash is checked in place of the password"
            continue
        for made, other in ((first, second), (second, first)):
            is_new = any(_is_scheme(each) and not _takes_setting(each) for each in options(made))
            if is_new and _kept(other):
                yield event, event.place, "a hash with a new salt never equals the old one"
                break


def _is_scheme(term: Term) -> bool:
    return isinstance(term, TermStep) and term.name == "scheme" and hashes(term)


def _takes_setting(term: Term) -> bool:
    return isinstance(term, TermStep) and bool(
        [each for part in term.of[1:] for each in inputs(part, Role.STORED, Role.FIELD, Role.SALT,
                                                         Role.RECORD, Role.OTHER)]
    )  # fmt: skip


def swapped_arguments(facts: CodeFacts) -> Iterator[Seen]:
    """A check that gets the stored text as password, and the password as stored text."""
    for event in facts.of(EventKind.CHECKS):
        password, stored = event.terms[:2]
        is_swapped = any(map(is_typed, options(stored))) and not any(
            map(is_typed, options(password))
        )
        if is_swapped and _kept(password):
            yield event, event.place, "the stored text stands in the password's place"


def not_awaited(facts: CodeFacts) -> Iterator[Seen]:
    """A result that is used before it is there."""
    for event in facts.of(EventKind.WRITES, EventKind.COMPARES):
        for term in event.terms:
            for found in inside(term):
                if isinstance(found, Pending) and any(
                    isinstance(each, TermStep) and each.name in {"scheme", "checked", "pbkdf2"}
                    for each in inside(found)
                ):
                    verb = "stored" if event.kind is EventKind.WRITES else "tested"
                    yield event, event.place, f"a promise is {verb}"
                    break


def different_answers(facts: CodeFacts) -> Iterator[Seen]:
    """Another answer for an unknown login than for a wrong password."""
    checking = {
        (event.place.path, event.function)
        for event in facts.of(EventKind.CHECKS, EventKind.COMPARES)
        if any(is_typed(term) or hashes(term) for term in event.terms)
    }
    for event, term in left_by(facts, "response", "URL"):
        if (event.place.path, event.function) not in checking:
            continue
        for found in inside(term):
            if (
                isinstance(found, Constant)
                and isinstance(found.value, str)
                and (_UNKNOWN_USER.search(found.value))
            ):
                yield event, event.place, "the answer says that the login is unknown"
                break


def no_rehash(facts: CodeFacts) -> Iterator[Seen]:
    """A right login after which nothing asks whether the stored value is outdated."""
    for event in facts.of(EventKind.CHECKS):
        if event.language not in facts.has_rehash and any(map(is_typed, event.terms)):
            yield event, event.place, "the stored value stays as it is"


def plain_fallback(facts: CodeFacts) -> Iterator[Seen]:
    """A password that is compared with the stored text itself."""
    for event in facts.of(EventKind.COMPARES):
        if len(event.terms) != 2:
            continue
        for typed, stored in (event.terms, event.terms[::-1]):
            is_plain = any(isinstance(each, TermInput) and each.role is Role.PASSWORD
                           for each in options(typed))  # fmt: skip
            if is_plain and any(_is_column(each) for each in options(stored)):
                yield event, event.place, "the stored text itself is accepted as password"
                break


def _is_column(term: Term) -> bool:
    return (
        isinstance(term, TermInput)
        and not term.is_request
        and (term.role in {Role.STORED, Role.FIELD})
    )
