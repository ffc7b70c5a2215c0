"""What a name of a record, request or configuration stands for."""

from collections.abc import Iterable, Iterator

from lean_tumbler.core.code.naming import is_request, role_of
from lean_tumbler.core.code.terms import (
    NOTHING,
    Either,
    Fields,
    Gap,
    Handle,
    Pending,
    Reference,
    Role,
    SourceLine,
    Term,
    TermInput,
    TermStep,
    either,
    gap,
)


def named_input(name: str, place: SourceLine, *, is_request: bool = False, table: str = "") -> Term:
    """Make an input by its name: of a request, else a field of a record."""
    role = role_of(name.rpartition(".")[2])
    if role is Role.PASSWORD and not is_request:
        role = Role.FIELD
    return TermInput(role, name, place, is_request, table)


def parameter_input(name: str, place: SourceLine) -> Term:
    """Make an input of a function's parameter: a password by its name is one that is typed."""
    return TermInput(role_of(name), name, place, is_request(name))


def member_of(term: Term, name: str, place: SourceLine) -> Term:
    """Give what a term holds under a name."""
    if isinstance(term, Either):
        return either([member_of(option, name, place) for option in term.options])
    if isinstance(term, Fields):
        return _of_fields(term, name, place)
    if isinstance(term, Reference):
        return _of_reference(term, name, place)
    if isinstance(term, TermInput) and term.role in {Role.RECORD, Role.OTHER, Role.LOGIN, Role.KEY}:
        return _of_input(term, name, place)
    if isinstance(term, Gap):
        return named_input(name, place) if role_of(name) is not Role.OTHER else term
    return _of_value(term, name, place)


def _of_reference(term: Reference, name: str, place: SourceLine) -> Term:
    if is_request(term.name.rpartition(".")[2]) or is_request(term.name):
        return named_input(name, place, is_request=True)
    if role_of(name) in {Role.PASSWORD, Role.STORED} and term.name[:1].islower():
        return named_input(f"{term.name}.{name}", place)
    return Reference(f"{term.name}.{name}")


def _of_input(term: TermInput, name: str, place: SourceLine) -> Term:
    held = term.is_request or is_request(name)
    found = named_input(name, place, is_request=term.is_request, table=term.table)
    if isinstance(found, TermInput) and found.role is Role.OTHER:
        return TermInput(Role.OTHER, f"{term.name}.{name}", place, held, term.table)
    return found


def _of_value(term: Term, name: str, place: SourceLine) -> Term:
    if isinstance(term, Pending | Handle):
        return Reference(f"?.{name}")
    if isinstance(term, TermStep) and term.name == "parts" and name.isdigit():
        return TermStep("part", term.of, place, (int(name),), term.detail)
    if isinstance(term, TermInput | TermStep) and name.isdigit():
        return gap("a part of a value", place, (term,))
    if isinstance(term, TermStep | TermInput):
        return Reference(f"?.{name}")
    return named_input(name, place) if role_of(name) is not Role.OTHER else Reference(f"?.{name}")


def _of_fields(term: Fields, name: str, place: SourceLine) -> Term:
    for key, value in reversed(term.pairs):
        if key == name:
            return value
    if term.name == "rows" and (name.isdigit() or name in {"rows", "first"}):
        return term  # one row, or the result around the rows
    for key, value in reversed(term.pairs):
        if key == "...":  # what was spread may hold it
            return member_of(value, name, place)
    return named_input(name, place) if not term.is_list else NOTHING


def written_fields(given: Iterable[Term]) -> Iterator[tuple[str, Term]]:
    """Give the fields named as passwords or their hashes among what a method is given."""
    for term in given:
        if isinstance(term, Fields):
            for key, value in term.pairs:
                if isinstance(value, Fields):
                    yield from written_fields([value])
                elif key == "..." and isinstance(value, TermInput) and value.is_request:
                    yield "*", value
                elif role_of(key) in {Role.PASSWORD, Role.STORED, Role.SALT}:
                    yield key, value
        elif (
            isinstance(term, TermInput)
            and term.role in {Role.RECORD, Role.OTHER}
            and term.is_request
        ):
            yield "*", term
