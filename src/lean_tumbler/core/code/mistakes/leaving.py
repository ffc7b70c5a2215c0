"""How passwords and stored values that leave a program are seen."""

from collections.abc import Iterator

from lean_tumbler.core.code.mistakes.facts import (
    CodeFacts,
    Seen,
    hashes,
    is_record,
)
from lean_tumbler.core.code.places import CodeEvent, EventKind
from lean_tumbler.core.code.terms import (
    HASHING,
    OPAQUE,
    Role,
    Term,
    TermInput,
    TermStep,
    inside,
    is_typed,
    options,
)


def password_logged(facts: CodeFacts) -> Iterator[Seen]:
    """A password that goes into a log or a file."""
    for event, term in left_by(facts, "log", "file"):
        if is_typed(term) and _told(term):
            yield event, event.place, f"the password goes to a {event.how}"


def _told(term: Term) -> bool:
    """Tell whether the password itself is told, not only whether it was given."""
    return not isinstance(term, TermStep) or term.name not in OPAQUE


def hash_logged(facts: CodeFacts) -> Iterator[Seen]:
    """A stored value that goes into a log or a file."""
    for event, term in left_by(facts, "log", "file"):
        if not is_typed(term) and (_is_stored(term) or is_record(term)):
            yield event, event.place, f"a stored value goes to a {event.how}"


def _is_stored(term: Term) -> bool:
    return any(
        (isinstance(found, TermInput) and found.role in {Role.STORED, Role.FIELD}
         and not found.is_request)
        or (isinstance(found, TermStep) and found.name in HASHING and hashes(found))
        for found in inside(term, through_hashes=False)
    )  # fmt: skip


def answered(facts: CodeFacts) -> Iterator[Seen]:
    """A password or stored value in what is sent back."""
    for event, term in left_by(facts, "response"):
        if is_record(term):
            yield event, event.place, "the whole row is sent, with the stored value"
        elif is_typed(term) and _told(term):
            yield event, event.place, "the password is sent back"
        elif _is_stored(term):
            yield event, event.place, "a stored value is sent"


def in_token(facts: CodeFacts) -> Iterator[Seen]:
    """A password or stored value in a URL, cookie or token."""
    for event, term in left_by(facts, "URL", "cookie", "token"):
        if (is_typed(term) and _told(term)) or _is_stored(term) or is_record(term):
            yield event, event.place, f"it goes into a {event.how}"


def mailed(facts: CodeFacts) -> Iterator[Seen]:
    """A password in a mail."""
    for event, term in left_by(facts, "mail"):
        if (is_typed(term) and _told(term)) or _is_stored(term):
            yield event, event.place, "it goes into a mail"


def left_by(facts: CodeFacts, *ways: str) -> Iterator[tuple[CodeEvent, Term]]:
    """Give what leaves by certain ways, one value after the other."""
    for event in facts.of(EventKind.LEAVES):
        if event.how in ways:
            for term in event.terms:
                for option in options(term):
                    yield event, option
