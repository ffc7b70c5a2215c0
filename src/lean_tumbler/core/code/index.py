"""All files of a tree together: where a name is declared."""

from collections.abc import Iterable, Mapping

from lean_tumbler.core.code.program import (
    Call,
    Class,
    Closure,
    CodeFunction,
    Do,
    Expression,
    Items,
    Literal,
    Member,
    Name,
    Return,
    Set,
    Unit,
)
from lean_tumbler.core.code.terms import Constant, SourceLine

_MOST_HOMONYMS = 4  # of functions; a name that more bear says nothing


class DeclaredFunction:
    """A function, and where it stands."""

    def __init__(self, function: CodeFunction, unit: Unit) -> None:
        self.function = function
        self.unit = unit


class ProgramIndex:
    """Finds functions, classes, fields and constants by their names."""

    def __init__(
        self, units: Iterable[Unit], settings: Mapping[str, Constant] | None = None
    ) -> None:
        self.units = tuple(units)
        self._by_path = {unit.path: unit for unit in self.units}
        self.settings = dict(settings or {})
        self._functions: dict[str, list[DeclaredFunction]] = {}
        self._classes: dict[str, tuple[Class, Unit]] = {}
        self._constants: dict[str, tuple[Expression, Unit]] = {}
        self._exports: dict[tuple[str, str], tuple[Expression, Unit]] = {}
        for unit in self.units:
            self._take(unit)

    def _take(self, unit: Unit) -> None:
        for function in unit.functions:
            self._functions.setdefault(function.name, []).append(DeclaredFunction(function, unit))
        for found in unit.classes:
            self._classes.setdefault(found.name, (found, unit))
        for statement in unit.body:
            if isinstance(statement, Return) and isinstance(statement.value, Items):
                self._take_settings(statement.value, unit)
            if not isinstance(statement, Do):
                continue
            value = statement.value
            if isinstance(value, Call) and path_of(value.function) == "define":
                self._take_defined(value, unit)
            if (
                isinstance(value, Set)
                and isinstance(value.value, Items)
                and (path_of(value.target) == "module.exports")
            ):
                self._take_exports(value.value, unit)
            if isinstance(value, Set) and isinstance(value.target, Name):
                name = value.target.name
                if not isinstance(value.value, Closure):
                    self._constants.setdefault(name, (value.value, unit))

    def unit(self, path: str) -> Unit:
        """Give a file by its path."""
        return self._by_path[path]

    def _take_defined(self, call: Call, unit: Unit) -> None:
        """Take a constant that a call declares."""
        first = call.arguments[0] if len(call.arguments) > 1 else None
        if isinstance(first, Literal):
            self._constants.setdefault(str(first.value), (call.arguments[1], unit))

    def _take_exports(self, items: Items, unit: Unit) -> None:
        """Take what a module gives to those that load it."""
        module = module_name(unit.path)
        for key, value in items.pairs:
            if isinstance(key, Literal) and not isinstance(value, Name | Closure):
                self._exports[module, str(key.value)] = (value, unit)

    def exported(self, module: str, name: str) -> tuple[Expression, Unit] | None:
        """Find what a module of the tree gives under a name."""
        return self._exports.get((module_name(module), name))

    def _take_settings(self, items: Items, unit: Unit) -> None:
        """Take what a file of configuration gives, which is a program itself."""
        for key, value in items.pairs:
            if isinstance(value, Items):
                self._take_settings(value, unit)
            elif isinstance(key, Literal) and isinstance(value, Literal):
                name, place = str(key.value), SourceLine(unit.path, value.line)
                self.settings.setdefault(name, Constant(value.value, place, name))

    def functions(
        self, name: str, *, owner: str = "", language: str = ""
    ) -> list[DeclaredFunction]:
        """Find functions by name: those of a class and its bases first."""
        found = [each for each in self._functions.get(name, ()) if each.unit.language == language]
        for each in self.lineage(owner):
            own = [declared for declared in found if declared.function.owner == each]
            if own:
                return own
        return found if len(found) <= _MOST_HOMONYMS else []

    def lineage(self, owner: str, depth: int = 8) -> list[str]:
        """Give a class and those that it inherits from."""
        found: list[str] = []
        waiting = [owner] if owner else []
        while waiting and len(found) < depth:
            name = waiting.pop(0)
            if name in found:
                continue
            found.append(name)
            known = self._classes.get(name)
            if known:
                waiting.extend(
                    base.replace("::", ".").rpartition(".")[2] for base in known[0].bases
                )
        return found

    def field(self, owner: str, name: str) -> tuple[Expression, Unit] | None:
        """Find what a field of a class begins with."""
        for each in self.lineage(owner):
            known = self._classes.get(each)
            for field, value in known[0].fields if known else ():
                if field == name and known is not None:
                    return value, known[1]
        return None

    def is_class(self, name: str) -> bool:
        """Tell whether a class is declared in the tree."""
        return name in self._classes

    def constant(self, name: str) -> tuple[Expression, Unit] | None:
        """Find what a name of a file's top level is set to."""
        return self._constants.get(name)


def module_name(path: str) -> str:
    """Give the name by which a file is loaded: its own, without folders and ending."""
    return path.rpartition("/")[2].partition(".")[0] or path


def path_of(target: Expression) -> str:
    """Write a chain of names with dots; empty where it is none."""
    names: list[str] = []
    while isinstance(target, Member):
        names.append(target.name)
        target = target.of
    if not isinstance(target, Name):
        return ""
    first = "this" if target.name == "self" else target.name
    return ".".join([first, *reversed(names)])
