"""Operators for rows, lists and maps of libraries."""

from collections.abc import Mapping
from types import MappingProxyType

from lean_tumbler.core.code.members import member_of, written_fields
from lean_tumbler.core.code.naming import role_of
from lean_tumbler.core.code.operators import OPERATORS
from lean_tumbler.core.code.places import EventKind
from lean_tumbler.core.code.sites import Operator, Site, joined, number, step, text
from lean_tumbler.core.code.terms import (
    NOTHING,
    Constant,
    Either,
    Fields,
    Handle,
    Pending,
    Role,
    Routine,
    Term,
    TermInput,
    TermStep,
    either,
    gap,
    is_taken,
)


def _row(site: Site, of: Term) -> Term:
    """Give one row of a result; its columns are known by name and place."""
    if isinstance(of, Fields):
        return Fields(of.pairs, name="row")
    if isinstance(of, Either):
        return either([_row(site, option) for option in of.options])
    return TermInput(Role.RECORD, "row", site.place)


def _first_column(site: Site, of: Term) -> Term:
    if isinstance(of, Fields) and of.pairs:
        return of.pairs[0][1]
    return gap("a column that is not followed", site.place, (of,))


def _split(site: Site, of: Term, separator: Term = NOTHING) -> Term:
    """Split text: at nothing into its characters, else into parts that are not told apart."""
    if separator == NOTHING or text(separator) == "":
        return TermStep("characters", (of,), site.place)
    return TermStep("parts", (of,), site.place, (), text(separator) or "")


def _reversed_list(site: Site, of: Term) -> Term:
    if isinstance(of, TermStep) and of.name == "characters":
        return TermStep("characters", (step(site, "reverse", *of.of),), site.place)
    return gap("a list that is not followed", site.place, (of,))


def _joined_list(site: Site, of: Term, separator: Term = NOTHING) -> Term:
    if isinstance(of, TermStep) and of.name == "characters" and text(separator) in {"", None}:
        return of.of[0]
    return OPERATORS["concatenated"](site, of, separator)


def _mapped_if(site: Site, of: Term, routine: Term = NOTHING) -> Term:
    return OPERATORS["mapped"](site, of, routine) if routine != NOTHING else of


def _appended(site: Site, of: Term, *given: Term) -> Term:
    if isinstance(of, Fields) and of.is_list:
        pairs = [(str(len(of.pairs) + place), each) for place, each in enumerate(given)]
        return Fields((*of.pairs, *pairs), is_list=True)
    return of


def _appended_bytes(site: Site, first: Term, *given: Term) -> Term:
    """Append to bytes; what is appended to a list becomes one of it."""
    if isinstance(first, Fields) and first.pairs:
        return _appended(site, first, *given)
    if isinstance(first, Fields) or first == NOTHING:
        return given[0] if len(given) == 1 else _appended(site, Fields((), is_list=True), *given)
    return joined(site, first, *given)


def _spread(site: Site, *given: Term) -> Term:
    return Fields(tuple(("...", each) for each in given))


def _later_rows(site: Site, rows: Term, *given: Term) -> Term:
    """Give rows that are waited for, and also to a function that was given for them."""
    results = [site.apply(each, NOTHING, rows) for each in given if isinstance(each, Routine)]
    return either(results) if results else Pending(rows)


def _found_by(site: Site, *given: Term) -> Term:
    """Find records by their fields."""
    for column, value in written_fields(given):
        if column != "*" and role_of(column) is not Role.SALT:
            site.tell(EventKind.FINDS, value, how=column)
    return Pending(TermInput(Role.RECORD, "row", site.place))


def _counted(site: Site, start: Term, end: Term = NOTHING) -> Term:
    first, last = (Constant(0), start) if end == NOTHING else (start, end)
    bounds = (number(first), number(last))
    if bounds[0] is None or bounds[1] is None:
        return gap("a range that is not followed", site.place, (start, end))
    return TermStep("range", (), site.place, (bounds[0], bounds[1]))


def _attribute(site: Site, of: Term, name: Term) -> Term:
    found = member_of(of, text(name) or "?", site.place)
    if is_taken(found):
        site.tell(EventKind.TAKES, found)
    return found


def _query_many(site: Site, sql: Term, given: Term = NOTHING, *more: Term) -> Term:
    first = given.pairs[0][1] if isinstance(given, Fields) and given.pairs else given
    return site.query(sql, (first, *more))


def _held(site: Site, of: Term, name: Term) -> Term:
    """Give a column of a row."""
    return member_of(_row(site, of), text(name) or str(number(name) or "?"), site.place)


def _bytes_or_held(site: Site, of: Term, name: Term = NOTHING) -> Term:
    """Give a text's bytes, or a column of a row: Java names both alike."""
    is_row = isinstance(of, Fields | Handle) or (
        isinstance(of, TermInput) and of.role is Role.RECORD
    )
    return _held(site, of, name) if is_row else OPERATORS["bytes_of"](site, of, name)


LIST_OPERATORS: Mapping[str, Operator] = MappingProxyType(
    {
        "row": _row,
        "rows": _row,
        "first_column": _first_column,
        "split": _split,
        "reversed_list": _reversed_list,
        "joined_list": _joined_list,
        "mapped_if": _mapped_if,
        "appended": _appended,
        "appended_bytes": _appended_bytes,
        "spread": _spread,
        "later_rows": _later_rows,
        "found_by": _found_by,
        "query_many": _query_many,
        "held": _held,
        "bytes_or_held": _bytes_or_held,
        "attribute": _attribute,
        "counted": _counted,
    }
)
