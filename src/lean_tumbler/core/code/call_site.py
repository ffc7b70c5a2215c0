"""Where a call stands: what operators tell their results to."""

from typing import TYPE_CHECKING

from lean_tumbler.core.code.naming import role_of
from lean_tumbler.core.code.operators import OPERATORS
from lean_tumbler.core.code.places import EventKind
from lean_tumbler.core.code.terms import (
    Role,
    Term,
    TermInput,
)

if TYPE_CHECKING:
    from lean_tumbler.core.code.evaluating import Evaluator


class CallSite:
    """Where a call stands, for operators."""

    def __init__(self, evaluator: "Evaluator", line: int) -> None:
        self.place = evaluator.place(line)
        self._evaluator = evaluator

    def tell(self, kind: EventKind, *terms: Term, how: str = "", table: str = "") -> None:
        """Note what the line does."""
        self._evaluator.tell(kind, self.place.line, *terms, how=how, table=table)

    def query(self, sql: Term, given: tuple[Term, ...]) -> Term:
        """Read a query and what it is given."""
        from lean_tumbler.core.code.queries import read_query  # noqa: PLC0415 - of an extra

        return read_query(self, sql, given)

    def apply(self, routine: Term, *given: Term) -> Term:
        """Call a function that was given as a value."""
        return self._evaluator.calls.apply(routine, given)

    def setting(self, name: str) -> Term:
        """Give a value of the configuration files that were read, else an input by its name."""
        settings = self._evaluator.program.settings
        found = settings.get(name) or settings.get(name.rpartition(".")[2])
        if found is not None:
            return found
        role = Role.KEY if role_of(name) is not Role.OTHER else Role.OTHER
        return TermInput(role, name, self.place)

    def loads(self, module: str) -> None:
        """Note that a module is loaded by its name."""
        self._evaluator.unknown.add(module)

    def use(self, operator: str, *given: Term) -> Term:
        """Apply an operator of the tables."""
        return OPERATORS[operator](self, *given)
