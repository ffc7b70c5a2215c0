"""Values that are declared elsewhere: constants, fields of classes, what modules give."""

from typing import TYPE_CHECKING

from lean_tumbler.core.code.members import parameter_input
from lean_tumbler.core.code.program import CodeFunction, Expression, FunctionParameter, Unit
from lean_tumbler.core.code.terms import Reference, SourceLine, Term, TermInput
from lean_tumbler.core.code.values import Variables, named

if TYPE_CHECKING:
    from lean_tumbler.core.code.evaluating import Evaluator

CONSTANT_DEPTH = 8  # of calls within each other, behind which no constant is followed


class DeclaredValues:
    """Finds and follows what names of the tree are declared as; each once."""

    def __init__(self, evaluator: "Evaluator") -> None:
        self._evaluator = evaluator
        self._fields: dict[tuple[str, str], Term] = {}
        self._objects: dict[str, Variables] = {}

    def constant(self, name: str) -> Term | None:
        """Give what a name of a file's top level is set to."""
        found = self._evaluator.program.constant(name)
        if found is None or self._evaluator.depth > CONSTANT_DEPTH:
            return None
        value, unit = found
        key = ("", name)
        if key not in self._fields:
            self._fields[key] = Reference(name)
            self._fields[key] = named(self._elsewhere(value, unit), name)
        return self._fields[key]

    def _elsewhere(self, value: Expression, unit: Unit) -> Term:
        before, told = self._evaluator.unit, len(self._evaluator.events)
        self._evaluator.unit = unit
        self._evaluator.depth += 1
        try:
            return self._evaluator.value(value, {})
        finally:
            self._evaluator.depth -= 1
            self._evaluator.unit = before
            del self._evaluator.events[told:]

    def exported(self, module: str, name: str) -> Term | None:
        """Give what a module of the tree gives under a name."""
        found = self._evaluator.program.exported(module, name)
        return named(self._elsewhere(*found), name) if found is not None else None

    def field(self, owner: str, name: str) -> Term | None:
        """Give what a field of a class begins with, or its constructor sets."""
        key = (owner, name)
        if key not in self._fields:
            self._fields[key] = Reference(f"this.{name}")
            found = self._evaluator.program.field(owner, name)
            if found is not None:
                self._fields[key] = named(self._elsewhere(*found), name)
            else:
                self._fields[key] = self._constructed(owner).get(f"this.{name}", self._fields[key])
        held = self._fields[key]
        return None if held == Reference(f"this.{name}") else held

    def _constructed(self, owner: str) -> Variables:
        if owner not in self._objects:
            self._objects[owner] = {}
            for each in self._evaluator.program.lineage(owner):
                for name in ("__construct", "constructor", "__init__", "initialize", each):
                    for declared in self._evaluator.program.functions(
                        name, owner=each, language=self._evaluator.unit.language
                    ):
                        if declared.function.owner == each:
                            self._objects[owner] |= self._construct(
                                declared.function, declared.unit
                            )
        return self._objects[owner]

    def _construct(self, function: CodeFunction, unit: Unit) -> Variables:
        place = SourceLine(unit.path, function.line)
        own: Variables = {
            each.name: _default(self._evaluator, each, place) for each in function.parameters
        }
        before, told = (self._evaluator.unit, self._evaluator.function), len(self._evaluator.events)
        self._evaluator.unit, self._evaluator.function = unit, function
        self._evaluator.run(function.body, own)
        self._evaluator.unit, self._evaluator.function = before
        del self._evaluator.events[told:]
        fields = {key: value for key, value in own.items() if key.startswith("this.")}
        promoted = {f"this.{each.name}": own[each.name] for each in function.parameters}
        return {
            key: value
            for key, value in (promoted | fields).items()
            if not isinstance(value, TermInput)
        }


def _default(evaluator: "Evaluator", parameter: FunctionParameter, place: SourceLine) -> Term:
    if parameter.default is not None:
        return evaluator.value(parameter.default, {})
    return parameter_input(parameter.name, place)
