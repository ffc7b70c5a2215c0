"""Operators and places of maps and lists, followed."""

from typing import TYPE_CHECKING

from lean_tumbler.core.code.members import member_of
from lean_tumbler.core.code.places import EventKind
from lean_tumbler.core.code.program import (
    Index,
    Operation,
)
from lean_tumbler.core.code.sites import joined, number, text, text_like
from lean_tumbler.core.code.terms import (
    NOTHING,
    Fields,
    Handle,
    Pending,
    SourceLine,
    Term,
    TermStep,
    either,
    gap,
)
from lean_tumbler.core.code.values import (
    Variables,
    computed,
    is_number,
    is_text,
    sliced,
)

if TYPE_CHECKING:
    from lean_tumbler.core.code.evaluating import Evaluator

_COMPARES = frozenset({"==", "===", "!=", "!==", "eq", "ne", "<>", "is", "=~"})


def indexed(evaluator: "Evaluator", index: Index, variables: Variables) -> Term:
    """Follow what stands under a computed key, or a part of a text."""
    of = evaluator.value(index.of, variables)
    site = evaluator.site(index.line)
    if isinstance(index.key, Operation) and index.key.operator in {"slice", "range", "part"}:
        bounds = evaluator.all_of(index.key.operands, variables)
        return sliced(site, index.key.operator, of, bounds)
    key = evaluator.value(index.key, variables)
    name = text(key)
    if name is None and number(key) is not None:
        name = str(number(key))
    if isinstance(of, Handle | Pending):
        of = NOTHING
    if name is not None:
        return member_of(of, name, evaluator.place(index.line))
    if isinstance(of, Fields) and of.pairs:
        return either([value for _, value in of.pairs])
    return TermStep("element", (of,), evaluator.place(index.line))


def operated(evaluator: "Evaluator", operation: Operation, variables: Variables) -> Term:
    """Follow an operator with its operands."""
    operator = operation.operator
    found = evaluator.all_of(operation.operands, variables)
    place = evaluator.place(operation.line)
    if operator in _COMPARES and len(found) == 2:
        evaluator.tell(EventKind.COMPARES, operation.line, *found, how=operator)
        return TermStep("compared", tuple(found), place)
    if operator in {"??", "||", "or"} and found:
        kept = [each for each in found if each != NOTHING]
        return either(kept)
    made = _of_text(evaluator, operation, found, variables)
    return made if made is not None else _of_numbers(evaluator, operation, found, place)


def _of_text(
    evaluator: "Evaluator", operation: Operation, found: list[Term], variables: Variables
) -> Term | None:
    """Follow an operator on texts; None where it is none."""
    operator = operation.operator
    if operator == "+" and any(is_text(each) for each in found):
        return joined(evaluator.site(operation.line), *found)
    if operator == "*" and len(found) == 2 and text_like(found[0]):
        return evaluator.site(operation.line).use("repeated", *found)
    if operator == "%" and found and text_like(found[0]):
        return evaluator.site(operation.line).use("formatted", *found)
    if operator == "<<" and len(found) == 2 and not is_number(found[0]):
        return _appended(evaluator, operation, found, variables)
    return None


def _of_numbers(
    evaluator: "Evaluator", operation: Operation, found: list[Term], place: SourceLine
) -> Term:
    operator = operation.operator
    numbers = [number(each) for each in found]
    if len(numbers) == 2 and None not in numbers:
        return computed(operator, numbers, place)
    if operator == "&" and found and isinstance(found[0], TermStep):
        return found[0]  # a byte without its sign
    if len(found) == 1 and operator == "?":
        return found[0]
    if operator == "!":
        evaluator.note_promise(found[0], operation.line)
        return TermStep("compared", (), place)
    return gap(f"an operator ({operator})", place, tuple(found))


def _appended(
    evaluator: "Evaluator", operation: Operation, found: list[Term], variables: Variables
) -> Term:
    """Add to an object in place, as Ruby does."""
    site = evaluator.site(operation.line)
    made = site.use("more", *found) if isinstance(found[0], Handle) else joined(site, *found)
    evaluator.assign(operation.operands[0], made, variables, operation.line)
    return made
