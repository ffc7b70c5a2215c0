"""Calls: of the tree's own functions, of libraries by their table, and of what is not known."""

import ast
from collections.abc import Sequence
from typing import TYPE_CHECKING

from lean_tumbler.core.code.index import DeclaredFunction
from lean_tumbler.core.code.library_objects import ALL_OPERATORS
from lean_tumbler.core.code.meanings import CallMeaning, Meanings, meanings_of
from lean_tumbler.core.code.members import member_of, parameter_input
from lean_tumbler.core.code.naming import role_of
from lean_tumbler.core.code.places import EventKind
from lean_tumbler.core.code.program import Call, CodeFunction, Member, Name, Unit
from lean_tumbler.core.code.terms import (
    NOTHING,
    Constant,
    Either,
    Fields,
    Gap,
    Handle,
    Pending,
    Reference,
    Role,
    Routine,
    Term,
    TermInput,
    either,
    gap,
    is_typed,
    tells,
)

if TYPE_CHECKING:
    from lean_tumbler.core.code.call_site import CallSite
    from lean_tumbler.core.code.evaluating import Evaluator
    from lean_tumbler.core.code.values import Variables

_SHORT_LINES = 15
# Operators that change what the call is given.
_FILLS = frozenset({"scan", "read_random", "filled", "written_into"})
# What tables may name beside the operators: what is decided here.
OWN_OPERATORS = _FILLS | {"pending", "back", "member"}
# Methods that take a function and call it with what was waited for, or with a row.
_CONTINUES = frozenset({"then", "catch", "finally"})


class Calls:
    """Follows calls for an evaluator."""

    def __init__(self, evaluator: "Evaluator") -> None:
        self._evaluator = evaluator

    @property
    def _table(self) -> Meanings:
        return meanings_of(self._evaluator.unit.language)

    def constant_of(self, name: str, line: int) -> Term | None:
        """Give what a name of a library stands for; None where the table does not say."""
        found = self._table.values.get(name.rpartition("/")[2])
        if found is None:
            return None
        return self._meant(found, {}, self._evaluator.site(line))

    def value(self, call: Call, variables: "Variables") -> Term:
        """Follow a call to what it gives."""
        of: Term = NOTHING
        function = call.function
        if isinstance(function, Member):
            of = self._evaluator.value(function.of, variables)
            name = function.name
        elif isinstance(function, Name):
            held = variables.get(function.name)
            if isinstance(held, Routine):
                return self.apply(held, self._given(call, variables))
            name = self._evaluator.unit.imports.get(function.name, function.name)
        else:
            name = ""
            of = self._evaluator.value(function, variables)
        given = self._given(call, variables)
        named = {key: self._evaluator.value(each, variables) for key, each in call.named}
        if not name:
            return self.apply(of, given)
        return self._named_call(call, name, of, given, named, variables)

    def _given(self, call: Call, variables: "Variables") -> list[Term]:
        return [self._evaluator.value(each, variables) for each in call.arguments]

    def _named_call(
        self, call: Call, name: str, of: Term, given: list[Term], named: dict[str, Term],
        variables: "Variables",
    ) -> Term:  # fmt: skip
        if isinstance(of, Reference):
            of_name = of.name
            if of_name.startswith("?."):
                of_name = ""
        else:
            of_name = ""
        whole = f"{of_name}.{name}" if of_name else name
        is_method = isinstance(call.function, Member)
        own = self._own(call, name, of, given, named)
        if own is not None:
            return own
        new = f"new {whole}" if call.makes_object else whole
        meaning = self._table.of(new) if (of_name or not is_method) else None
        if meaning is None and is_method:
            meaning = self._table.methods.get(name)
        site = self._evaluator.site(call.line)
        if meaning is not None:
            return self._by_table(meaning, of, given, named, site, call, variables)
        if is_method and not named:
            held = self._accessor(name, of, given, call)
            if held is not None:
                return held
        return self._unknown(call, name, of, given, named)

    def _accessor(self, name: str, of: Term, given: list[Term], call: Call) -> Term | None:
        """Give what a method without arguments reads, or note what one with a value sets."""
        language = self._evaluator.unit.language
        place = self._evaluator.place(call.line)
        field = name[3:4].lower() + name[4:] if name[:3] in {"get", "set"} and name[3:] else ""
        if language == "ruby" and not given:
            field = name
        is_read = not given and (name.startswith("get") or language == "ruby")
        if not field or role_of(field) not in {Role.PASSWORD, Role.STORED, Role.SALT}:
            return None
        if is_read:
            held = (
                of if isinstance(of, TermInput | Fields) else TermInput(Role.RECORD, "row", place)
            )
            return member_of(held, field, place)
        if name.startswith("set") and len(given) == 1:
            self._evaluator.tell(EventKind.WRITES, call.line, given[0], how=field, notes=("field",))
            return NOTHING
        return None

    def _by_table(
        self, meaning: CallMeaning, of: Term, given: list[Term], named: dict[str, Term],
        site: "CallSite", call: Call, variables: "Variables",
    ) -> Term:  # fmt: skip
        if isinstance(of, Pending):
            of = of.value
        values: dict[str, Term | list[Term]] = {"self": of}
        for place, parameter in enumerate(meaning.parameters):
            found = given[place] if place < len(given) else named.get(parameter, NOTHING)
            values[parameter] = found
        if meaning.rest:
            more = [Fields(tuple(named.items()))] if named else []
            values[meaning.rest] = [*given[len(meaning.parameters) :], *more]
        into = _operator(meaning.gives) if isinstance(meaning.gives, ast.Call) else ""
        if into in _FILLS:
            self._fill(into, of, given, call, variables)
            return NOTHING
        made = self._meant(meaning.gives, values, site)
        if isinstance(made, Pending) and self._evaluator.unit.language != "javascript":
            made = made.value
        if meaning.changes_object and isinstance(call.function, Member):
            self._evaluator.assign(call.function.of, made, variables, call.line)
        return made

    def _fill(
        self, how: str, of: Term, given: list[Term], call: Call, variables: "Variables"
    ) -> None:
        """Put a result into what the call was given: columns of a row, random bytes, a digest."""
        site = self._evaluator.site(call.line)
        values = [value for _, value in of.pairs] if isinstance(of, Fields) else []
        if how == "read_random":
            values = [ALL_OPERATORS["random"](site)]
        elif how == "filled":
            values = [ALL_OPERATORS["drawn"](site, of)]
        elif how == "written_into":
            values = [ALL_OPERATORS["written_to"](site, *given[:2])]
        for target, value in zip(call.arguments, values, strict=False):
            self._evaluator.assign(target, value, variables, call.line)

    def _meant(
        self, node: ast.expr, values: "dict[str, Term | list[Term]]", site: "CallSite"
    ) -> Term:
        """Evaluate an expression of a table."""
        if isinstance(node, ast.Constant):
            told = node.value
            return Constant(told if isinstance(told, str | bytes | int | float) else None)
        if isinstance(node, ast.Name):
            found = values.get(node.id, NOTHING)
            return found if not isinstance(found, list) else NOTHING
        if not isinstance(node, ast.Call):
            raise TypeError(ast.dump(node))
        given: list[Term] = []
        for argument in node.args:
            if isinstance(argument, ast.Starred) and isinstance(argument.value, ast.Name):
                more = values.get(argument.value.id, [])
                given.extend(more if isinstance(more, list) else [more])
            else:
                given.append(self._meant(argument, values, site))
        name = _operator(node)
        if name == "pending":
            return Pending(given[0])
        if name == "back":
            return self._back(given)
        if name == "member":
            key = given[1].value if isinstance(given[1], Constant) else "?"
            return member_of(given[0], str(key), site.place)
        return ALL_OPERATORS[name](site, *given)

    def _back(self, given: list[Term]) -> Term:
        """Give a result to a function that was given for it, where one was."""
        *routines, result = given[1:], given[0]
        called = [
            self.apply(each, [NOTHING, result])
            for group in routines
            for each in group
            if isinstance(each, Routine)
        ]
        return either(called) if called else Pending(result)

    # Functions of the tree

    def _own(
        self, call: Call, name: str, of: Term, given: list[Term], named: dict[str, Term]
    ) -> Term | None:
        """Follow a call of the tree's own functions; None where it is none."""
        last = name.rpartition(".")[2]
        owner = self._owner(call, last, of)
        if owner is None:
            return None
        if call.makes_object:
            return self._object(last, given)
        for key, value in of.pairs if isinstance(of, Fields) and not of.is_list else ():
            if key == last and isinstance(value, Routine):
                return self.apply(value, given)
        found = self._declared(call, last, owner)
        if not any(map(tells, (*given, *named.values(), of))):
            found = [each for each in found if _is_worth(each.function)]
        known = [
            each for each in found if len(each.function.parameters) >= len(given) or len(found) == 1
        ]
        return either(
            [self._followed(each.function, each.unit, given, named) for each in known[:3]]
        ) if known else None  # fmt: skip

    def _owner(self, call: Call, name: str, of: Term) -> str | None:
        """Give the class whose method is called; None where a library's function is."""
        evaluator = self._evaluator
        language = evaluator.unit.language
        if not isinstance(call.function, Member):
            is_known = name in self._table.functions
            is_own = bool(evaluator.program.functions(name, language=language))
            return None if is_known and not is_own else ""
        on = call.function.of
        if isinstance(on, Name) and on.name in {"this", "self", "super"}:
            return evaluator.function.owner
        if isinstance(of, Reference):
            owner = of.name.rpartition(".")[2]
            is_variable = name in self._table.methods and not evaluator.program.is_class(owner)
            return owner[:1].upper() + owner[1:] if is_variable else owner
        if isinstance(of, Fields) and of.name:
            return of.name
        return None if name in self._table.methods else ""

    def _declared(self, call: Call, name: str, owner: str) -> list[DeclaredFunction]:
        evaluator = self._evaluator
        if evaluator.is_deep:
            return []
        found = evaluator.program.functions(name, owner=owner, language=evaluator.unit.language)
        if owner and isinstance(call.function, Member) and name in self._table.methods:
            found = [each for each in found if each.function.owner]
        return found

    def _object(self, name: str, given: list[Term]) -> Term | None:
        if not self._evaluator.program.is_class(name):
            return None
        return Fields(tuple((str(at), each) for at, each in enumerate(given)), name=name)

    def _followed(
        self, function: CodeFunction, unit: Unit, given: Sequence[Term], named: dict[str, Term]
    ) -> Term:
        own: dict[str, Term] = {}
        parameters = list(function.parameters)
        if parameters and parameters[0].name in {"self", "cls"} and unit.language == "python":
            parameters = parameters[1:]
        for place, parameter in enumerate(parameters):
            if place < len(given):
                own[parameter.name] = given[place]
            elif parameter.name in named:
                own[parameter.name] = named[parameter.name]
            elif parameter.default is not None:
                own[parameter.name] = self._evaluator.value(parameter.default, {})
            else:
                own[parameter.name] = Gap("an argument that is not given")
        return self._evaluator.called(function, unit, own)

    def apply(self, routine: Term, given: Sequence[Term]) -> Term:
        """Call a function that is a value."""
        if isinstance(routine, Either):
            return either([self.apply(option, given) for option in routine.options])
        if isinstance(routine, Reference):
            meaning = self._table.of(routine.name)
            if meaning is not None:
                values: dict[str, Term | list[Term]] = dict(
                    zip(meaning.parameters, given, strict=False)
                )
                return self._meant(meaning.gives, values, self._evaluator.site(0))
        if not isinstance(routine, Routine) or self._evaluator.is_deep:
            return gap("a function that is not followed", None, tuple(given))
        unit = self._evaluator.program.unit(routine.path)
        own = dict(routine.captured)
        for parameter, value in zip(routine.function.parameters, given, strict=False):
            own[parameter.name] = value
        for parameter in routine.function.parameters[len(given) :]:
            own[parameter.name] = parameter_input(
                parameter.name, self._evaluator.place(routine.function.line)
            )
        return self._evaluator.called(routine.function, unit, own)

    def _unknown(
        self, call: Call, name: str, of: Term, given: list[Term], named: dict[str, Term]
    ) -> Term:
        """Follow what a function that is not known is given: it may be called."""
        evaluator = self._evaluator
        evaluator.unknown.add(name.rpartition(".")[2])
        everything = [*given, *named.values()]
        if name in _CONTINUES and isinstance(of, Pending | Gap):
            inner = of.value if isinstance(of, Pending) else of
            results = [self.apply(each, [inner]) for each in given if isinstance(each, Routine)]
            return Pending(either(results)) if results else of
        for each in everything:
            if isinstance(each, Routine):
                self.apply(each, [])
        if any(isinstance(each, Pending) for each in everything) and name == "Promise.all":
            return Pending(NOTHING)
        passwords = [each for each in everything if is_typed(each)]
        made = gap(
            f"call of {name.rpartition('.')[2]}",
            evaluator.place(call.line),
            tuple([*everything, of] if isinstance(of, Handle) or of != NOTHING else everything),
        )
        if passwords:
            evaluator.tell(EventKind.GIVES, call.line, *everything, how=name)
        return made


def _is_worth(function: CodeFunction) -> bool:
    """Tell whether a function may give something of interest though it is given nothing such."""
    return function.is_of_interest or function.end_line - function.line <= _SHORT_LINES


def _operator(node: ast.Call) -> str:
    return node.func.id if isinstance(node.func, ast.Name) else ""
