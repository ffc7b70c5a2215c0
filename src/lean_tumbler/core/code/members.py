"""What a name of a record, request or configuration stands for."""

from collections.abc import Iterable, Iterator

from lean_tumbler.core.code.naming import is_request, role_of
from lean_tumbler.core.code.terms import (
    NOTHING,
    Either,
    Fields,
    Gap,
    Handle,
    Input,
    Pending,
    Place,
    Reference,
    Role,
    Step,
    Term,
    either,
    gap,
)


def named_input(name: str, place: Place, *, is_request: bool = False, table: str = "") -> Term:
    """Make an input by its name: of a request, else a field of a record."""
    role = role_of(name.rpartition(".")[2])
    if role is Role.PASSWORD and not is_request:
        role = Role.FIELD
    return Input(role, name, place, is_request, table)


def parameter_input(name: str, place: Place) -> Term:
    """Make an input of a function's parameter: a password by its name is one that is typed."""
    return Input(role_of(name), name, place, is_request(name))


def member_of(term: Term, name: str, place: Place) -> Term:
    """Give what a term holds under a name."""
    if isinstance(term, Either):
        return either([member_of(option, name, place) for option in term.options])
    if isinstance(term, Fields):
        return _of_fields(term, name, place)
    if isinstance(term, Reference):
        if is_request(term.name.rpartition(".")[2]) or is_request(term.name):
            return named_input(name, place, is_request=True)
        if role_of(name) in {Role.PASSWORD, Role.STORED} and term.name[:1].islower():
            return named_input(f"{term.name}.{name}", place)
        return Reference(f"{term.name}.{name}")
    if isinstance(term, Input) and term.role in {Role.RECORD, Role.OTHER, Role.LOGIN, Role.KEY}:
        held = term.is_request or is_request(name)
        found = named_input(name, place, is_request=term.is_request, table=term.table)
        if isinstance(found, Input) and found.role is Role.OTHER:
            return Input(Role.OTHER, f"{term.name}.{name}", place, held, term.table)
        return found
    if isinstance(term, Pending | Handle):
        return Reference(f"?.{name}")
    if isinstance(term, Gap) and role_of(name) is not Role.OTHER:
        return named_input(name, place)
    if isinstance(term, Gap):
        return term
    if isinstance(term, Step) and term.name == "parts" and name.isdigit():
        return Step("part", term.of, place, (int(name),), term.detail)
    if isinstance(term, Input | Step) and name.isdigit():
        return gap("a part of a value", place, (term,))
    if isinstance(term, Step | Input):
        return Reference(f"?.{name}")
    return named_input(name, place) if role_of(name) is not Role.OTHER else Reference(f"?.{name}")


def _of_fields(term: Fields, name: str, place: Place) -> Term:
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
                elif key == "..." and isinstance(value, Input) and value.is_request:
                    yield "*", value
                elif role_of(key) in {Role.PASSWORD, Role.STORED, Role.SALT}:
                    yield key, value
        elif isinstance(term, Input) and term.role in {Role.RECORD, Role.OTHER} and term.is_request:
            yield "*", term
