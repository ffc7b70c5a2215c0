"""Following values through a program: each function from its parameters to what it gives.

Nothing is run. A value is a term of what went into it; both ways of a branch are followed; a call
of the tree's own functions is followed with what it is given, one of a library is asked in the
language's table. Depth, steps and alternatives are bounded.
"""

from collections.abc import Callable, Iterable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.code.calls import Calls
from lean_tumbler.core.code.index import ProgramIndex, path_of
from lean_tumbler.core.code.loops import looped
from lean_tumbler.core.code.members import member_of, named_input, parameter_input
from lean_tumbler.core.code.naming import role_of
from lean_tumbler.core.code.operators import OPERATORS, joined, number, text, text_like
from lean_tumbler.core.code.places import Event, Kind
from lean_tumbler.core.code.program import (
    Branch,
    Call,
    Choice,
    Closure,
    Do,
    Expression,
    Function,
    Index,
    Items,
    Join,
    Literal,
    Member,
    Name,
    Operation,
    Parameter,
    Return,
    Set,
    Statement,
    Stop,
    Unit,
    Wait,
)
from lean_tumbler.core.code.terms import (
    NOTHING,
    Constant,
    Either,
    Fields,
    Gap,
    Handle,
    Input,
    Pending,
    Place,
    Reference,
    Role,
    Routine,
    Step,
    Term,
    either,
    gap,
    is_hashed,
    is_typed,
)

Variables = dict[str, Term]

CALL_DEPTH = 6
STEPS_OF_ENTRY = 4_000  # expressions and statements that are looked at for one function
_COMPARES = frozenset({"==", "===", "!=", "!==", "eq", "ne", "<>", "is", "=~"})


class Ended(Struct, frozen=True):
    """How a run of statements ended."""

    results: tuple[Term, ...] = ()
    is_over: bool = False  # whether no way leads to what comes behind


class Evaluator:
    """Follows values through one program."""

    def __init__(
        self, program: ProgramIndex, progress: Callable[[int], None] = lambda _done: None
    ) -> None:
        self.program = program
        self.unknown: set[str] = set()  # names that were called, and are not declared
        self._progress = progress
        self.events: list[Event] = []
        self.calls = Calls(self)
        self.unit = Unit(path="", language="")
        self.function = Function(name="")
        self.conditions: list[str] = []
        self._steps = 0
        self._depth = 0
        self._fields: dict[tuple[str, str], Term] = {}
        self._objects: dict[str, Variables] = {}

    # Entries

    def whole(self) -> list[Event]:
        """Follow each file and function of the program, and give what was met."""
        for unit in self.program.units:
            self.entry(Function(name="", body=unit.body), unit)
            for function in unit.functions:
                if function.is_of_interest:
                    self.entry(function, unit)
            self._progress(1)
        return self.events

    def entry(self, function: Function, unit: Unit) -> Term:
        """Follow a function from parameters of which only the names are known."""
        self._steps, self._depth, self.conditions = 0, 0, []
        given: Variables = {}
        for parameter in function.parameters:
            place = Place(unit.path, function.line)
            found = parameter_input(parameter.name, place)
            given[parameter.name] = found
        return self.called(function, unit, given, is_entry=True)

    def called(
        self, function: Function, unit: Unit, given: Variables, *, is_entry: bool = False
    ) -> Term:
        """Follow a function with what its parameters hold."""
        before = self.unit, self.function
        self.unit, self.function = unit, function
        self._depth += 1
        try:
            ended = self.run(function.body, given)
            result = either(ended.results)
            if is_entry and ended.results:
                self.tell(Kind.RETURNS, function.line, result)
        finally:
            self._depth -= 1
            self.unit, self.function = before
        return Pending(result) if function.is_async and unit.language == "javascript" else result

    @property
    def is_deep(self) -> bool:
        """Whether no further call is followed."""
        return self._depth > CALL_DEPTH or self._steps > STEPS_OF_ENTRY

    def tell(
        self, kind: Kind, line: int, *terms: Term, how: str = "", table: str = "",
        notes: tuple[str, ...] = (),
    ) -> None:  # fmt: skip
        """Note what a line does."""
        self.events.append(
            Event(
                kind=kind,
                place=Place(self.unit.path, line),
                function=_full_name(self.function),
                language=self.unit.language,
                terms=terms,
                how=how,
                table=table,
                branch=self.conditions[-1] if self.conditions else "",
                notes=notes,
            )
        )

    def place(self, line: int) -> Place:
        """Give a line of the file that is followed now."""
        return Place(self.unit.path, line)

    # Statements

    def run(self, body: Sequence[Statement], variables: Variables) -> Ended:
        """Follow statements in their order."""
        results: list[Term] = []
        for statement in body:
            self._steps += 1
            if self._steps > STEPS_OF_ENTRY:
                return Ended(tuple(results), is_over=True)
            if isinstance(statement, Return):
                if statement.value is not None:
                    results.append(self.value(statement.value, variables))
                return Ended(tuple(results), is_over=True)
            if isinstance(statement, Stop):
                return Ended(tuple(results), is_over=True)
            if isinstance(statement, Do):
                self.value(statement.value, variables)
                continue
            if isinstance(statement, Branch):
                ended = self._branch(statement, variables)
            else:
                ended = looped(self, statement, variables)
            results.extend(ended.results)
            if ended.is_over:
                return Ended(tuple(results), is_over=True)
        return Ended(tuple(results))

    def _branch(self, branch: Branch, variables: Variables) -> Ended:
        test = self.value(branch.test, variables)
        self._note_promise(test, branch.line)
        if isinstance(test, Constant) and isinstance(branch.test, Literal):
            return self.run(branch.yes if test.value else branch.no, variables)
        condition = _condition(branch.test, test)
        ways = []
        for body, kind in ((branch.yes, condition), (branch.no, f"else {condition}".strip())):
            own = dict(variables)
            self.conditions.append(kind)
            ended = self.run(body, own)
            self.conditions.pop()
            ways.append((ended, own))
        results = tuple(term for ended, _ in ways for term in ended.results)
        open_ways = [own for ended, own in ways if not ended.is_over]
        if not open_ways:
            return Ended(results, is_over=True)
        merge(variables, open_ways)
        return Ended(results)

    # Expressions

    def value(self, expression: Expression, variables: Variables) -> Term:
        """Follow an expression to what it gives."""
        self._steps += 1
        if self._steps > STEPS_OF_ENTRY:
            return Gap("a function that is too long to follow")
        kind = type(expression)
        if kind is Literal:
            if expression.value is None:  # type: ignore[union-attr]
                return NOTHING
            return Constant(expression.value, self.place(expression.line))  # type: ignore[union-attr]
        if isinstance(expression, Name):
            return self._name(expression, variables)
        if isinstance(expression, Member):
            return self._member(expression, variables)
        if isinstance(expression, Call):
            return self.calls.value(expression, variables)
        if isinstance(expression, Set):
            found = self.value(expression.value, variables)
            self.assign(expression.target, found, variables, expression.line)
            return found
        if isinstance(expression, Join):
            return joined(self.site(expression.line), *self._all(expression.parts, variables))
        if isinstance(expression, Operation):
            return self._operation(expression, variables)
        return self._rare(expression, variables)

    def _rare(self, expression: Expression, variables: Variables) -> Term:
        if isinstance(expression, Index):
            return self._index(expression, variables)
        if isinstance(expression, Choice):
            test = self.value(expression.test, variables)
            self.conditions.append(_condition(expression.test, test))
            ways = [self.value(each, variables) for each in (expression.yes, expression.no)]
            self.conditions.pop()
            return either(ways)
        if isinstance(expression, Wait):
            found = self.value(expression.value, variables)
            return found.value if isinstance(found, Pending) else found
        if isinstance(expression, Items):
            return self._items(expression, variables)
        if isinstance(expression, Closure):
            if expression.function.name == "{}":  # a block that runs on the spot
                ended = self.run(expression.function.body, variables)
                return either(ended.results)
            return Routine(expression.function, self.unit.path, tuple(variables.items()))
        return NOTHING

    def site(self, line: int) -> "CallSite":
        """Give what operators tell their results to."""
        return CallSite(self, line)

    def _all(self, expressions: Iterable[Expression], variables: Variables) -> list[Term]:
        return [self.value(each, variables) for each in expressions]

    def _name(self, name: Name, variables: Variables) -> Term:
        found = variables.get(name.name)
        if found is not None:
            held = [key for key in variables if key.startswith(name.name + ".")]
            return _with_fields(found, held, name.name, variables) if held else found
        if self.function.owner and name.name[:1].isupper():
            known = self._field(self.function.owner, name.name)
            if known is not None:
                return known
        if self.function.name or self._depth > 1:
            constant = self._constant(name.name)
            if constant is not None:
                return constant
        for alias, whole in self.unit.imports:
            if alias == name.name:
                known = self._constant(whole.rpartition(".")[2]) if "." in whole else None
                self.unknown.update(whole.replace("/", ".").split("."))
                return known or Reference(whole)
        known = self.calls.constant_of(name.name, name.line)
        if known is not None:
            return known
        if self.unit.language == "ruby" and self.function.owner:  # a method of the object
            role = role_of(name.name)
            if role in {Role.PASSWORD, Role.STORED} and name.name[:1].islower():
                return named_input(name.name, self.place(name.line))
        self.unknown.add(name.name)
        return Reference(name.name)

    def _constant(self, name: str) -> Term | None:
        found = self.program.constant(name)
        if found is None or self._depth > CALL_DEPTH + 2:
            return None
        value, unit = found
        key = ("", name)
        if key not in self._fields:
            self._fields[key] = Reference(name)
            self._fields[key] = named(self._elsewhere(value, unit), name)
        return self._fields[key]

    def _elsewhere(self, value: Expression, unit: Unit) -> Term:
        before, told = self.unit, len(self.events)
        self.unit = unit
        self._depth += 1
        try:
            return self.value(value, {})
        finally:
            self._depth -= 1
            self.unit = before
            del self.events[told:]

    def _member(self, member: Member, variables: Variables) -> Term:
        path = path_of(member)
        if path and path in variables:
            return variables[path]
        if path.startswith("this.") and path.count(".") == 1:
            known = self._field(self.function.owner, member.name)
            if known is not None:
                return known
        if isinstance(member.of, Name) and self.program.is_class(member.of.name):
            known = self._field(member.of.name, member.name)
            if known is not None:
                return known
        of = self.value(member.of, variables)
        if isinstance(of, Reference):
            found = self.calls.constant_of(f"{of.name}.{member.name}", member.line)
            if found is not None:
                return found
            known = self._exported(of.name, member.name)
            if known is None and "." not in of.name:
                known = self._constant(member.name)
            if known is not None and of.name not in {"this", "self"}:
                return known
        found = member_of(of, member.name, self.place(member.line))
        if isinstance(found, Input) and found.role is Role.PASSWORD and found.is_request:
            self.tell(Kind.TAKES, member.line, found)
        return found

    def _exported(self, module: str, name: str) -> Term | None:
        found = self.program.exported(module, name)
        return named(self._elsewhere(*found), name) if found is not None else None

    def _field(self, owner: str, name: str) -> Term | None:
        key = (owner, name)
        if key not in self._fields:
            self._fields[key] = Reference(f"this.{name}")
            found = self.program.field(owner, name)
            if found is not None:
                self._fields[key] = named(self._elsewhere(*found), name)
            else:
                self._fields[key] = self._constructed(owner).get(f"this.{name}", self._fields[key])
        held = self._fields[key]
        return None if held == Reference(f"this.{name}") else held

    def _constructed(self, owner: str) -> Variables:
        if owner not in self._objects:
            self._objects[owner] = {}
            for each in self.program.lineage(owner):
                for name in ("__construct", "constructor", "__init__", "initialize", each):
                    for declared in self.program.functions(
                        name, owner=each, language=self.unit.language
                    ):
                        if declared.function.owner == each:
                            self._objects[owner] |= self._construct(
                                declared.function, declared.unit
                            )
        return self._objects[owner]

    def _construct(self, function: Function, unit: Unit) -> Variables:
        place = Place(unit.path, function.line)
        own: Variables = {each.name: _default(self, each, place) for each in function.parameters}
        before, told = (self.unit, self.function), len(self.events)
        self.unit, self.function = unit, function
        self.run(function.body, own)
        self.unit, self.function = before
        del self.events[told:]
        fields = {key: value for key, value in own.items() if key.startswith("this.")}
        promoted = {f"this.{each.name}": own[each.name] for each in function.parameters}
        return {
            key: value for key, value in (promoted | fields).items() if not isinstance(value, Input)
        }

    def _index(self, index: Index, variables: Variables) -> Term:
        of = self.value(index.of, variables)
        site = self.site(index.line)
        if isinstance(index.key, Operation) and index.key.operator in {"slice", "range", "part"}:
            bounds = self._all(index.key.operands, variables)
            return _sliced(site, index.key.operator, of, bounds)
        key = self.value(index.key, variables)
        name = text(key)
        if name is None and number(key) is not None:
            name = str(number(key))
        if isinstance(of, Handle | Pending):
            of = NOTHING
        if name is not None:
            return member_of(of, name, self.place(index.line))
        if isinstance(of, Fields) and of.pairs:
            return either([value for _, value in of.pairs])
        return Step("element", (of,), self.place(index.line))

    def _items(self, items: Items, variables: Variables) -> Term:
        pairs: list[tuple[str, Term]] = []
        has_keys = False
        for place, (key, value) in enumerate(items.pairs):
            found = self.value(value, variables)
            if key is None and isinstance(value, Call) and _is_spread(value):
                pairs.append(("...", found))
                has_keys = True
                continue
            if key is None:
                pairs.append((str(place), found))
                continue
            has_keys = True
            named_key = text(self.value(key, variables))
            pairs.append((named_key if named_key is not None else "?", found))
        return Fields(tuple(pairs), is_list=not has_keys)

    def _operation(self, operation: Operation, variables: Variables) -> Term:
        operator = operation.operator
        found = self._all(operation.operands, variables)
        place = self.place(operation.line)
        if operator in _COMPARES and len(found) == 2:
            self.tell(Kind.COMPARES, operation.line, *found, how=operator)
            return Step("compared", tuple(found), place)
        if operator in {"??", "||", "or"} and found:
            kept = [each for each in found if each != NOTHING]
            return either(kept)
        if operator == "+" and any(_is_text(each) for each in found):
            return joined(self.site(operation.line), *found)
        if operator == "*" and len(found) == 2 and text_like(found[0]):
            return self.site(operation.line).use("repeated", *found)
        if operator == "%" and found and text_like(found[0]):
            return self.site(operation.line).use("formatted", *found)
        if operator == "<<" and len(found) == 2 and not _is_number(found[0]):
            return self._appended(operation, found, variables)
        numbers = [number(each) for each in found]
        if len(numbers) == 2 and None not in numbers:
            return _computed(operator, numbers, place)
        if operator == "&" and found and isinstance(found[0], Step):
            return found[0]  # a byte without its sign
        if len(found) == 1 and operator == "?":
            return found[0]
        if operator == "!":
            self._note_promise(found[0], operation.line)
            return Step("compared", (), place)
        return gap(f"an operator ({operator})", place, tuple(found))

    def _appended(self, operation: Operation, found: list[Term], variables: Variables) -> Term:
        """Add to an object in place, as Ruby does."""
        site = self.site(operation.line)
        made = site.use("more", *found) if isinstance(found[0], Handle) else joined(site, *found)
        self.assign(operation.operands[0], made, variables, operation.line)
        return made

    # Assignments

    def assign(self, target: Expression, value: Term, variables: Variables, line: int) -> None:
        """Let a name, field or several of them hold a value."""
        if isinstance(target, Items):
            self._note_ignored(target, value, line)
            for place, (key, each) in enumerate(target.pairs):
                name = text(self.value(key, variables)) if key is not None else str(place)
                part = value
                if isinstance(value, Fields | Input | Reference | Either) and (
                    key is not None or isinstance(value, Fields)
                ):
                    part = member_of(value, name or "?", self.place(line))
                    if isinstance(part, Input) and part.role is Role.PASSWORD and part.is_request:
                        self.tell(Kind.TAKES, line, part)
                elif place:  # an error beside the result
                    part = Gap("another result", self.place(line))
                self.assign(each, part, variables, line)
            return
        path = path_of(target)
        if not path:
            if isinstance(target, Index):
                self._put(target, value, variables)
            return
        for key in [key for key in variables if key.startswith(path + ".")]:
            del variables[key]
        variables[path] = value
        column = path.rpartition(".")[2]
        if "." in path and role_of(column) in {Role.PASSWORD, Role.STORED}:
            self.tell(Kind.WRITES, line, value, how=column, notes=("field",))

    def _note_promise(self, test: Term, line: int) -> None:
        """Note a promise that is tested: it is always true."""
        if isinstance(test, Pending):
            self.tell(Kind.COMPARES, line, test, how="a test")

    def _note_ignored(self, target: Items, value: Term, line: int) -> None:
        """Note an error of hashing that goes to a name for nothing."""
        names = [each.name for _, each in target.pairs if isinstance(each, Name)]
        is_made = isinstance(value, Step) and value.name == "scheme"
        if names[1:] == ["_"] and is_made:
            self.tell(Kind.IGNORES, line, value)

    def _put(self, target: Index, value: Term, variables: Variables) -> None:
        path = path_of(target.of)
        before = variables.get(path)
        if path and isinstance(before, Fields) and len(before.pairs) < 64:
            pair = (str(len(before.pairs)), value)
            variables[path] = replace(before, pairs=(*before.pairs, pair))


class CallSite:
    """Where a call stands, for operators."""

    def __init__(self, evaluator: Evaluator, line: int) -> None:
        self.place = evaluator.place(line)
        self._evaluator = evaluator

    def tell(self, kind: Kind, *terms: Term, how: str = "", table: str = "") -> None:
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
        return Input(role, name, self.place)

    def loads(self, module: str) -> None:
        """Note that a module is loaded by its name."""
        self._evaluator.unknown.add(module)

    def use(self, operator: str, *given: Term) -> Term:
        """Apply an operator of the tables."""
        return OPERATORS[operator](self, *given)


def merge(variables: Variables, ways: Sequence[Variables]) -> None:
    """Let variables hold what they may hold behind several ways."""
    names = dict.fromkeys(key for way in ways for key in way)
    for name in names:
        held = [way[name] for way in ways if name in way]
        variables[name] = held[0] if all(each == held[0] for each in held) else either(held)


def named(term: Term, name: str) -> Term:
    """Note the name under which a constant is kept."""
    if isinstance(term, Constant) and not term.name:
        return replace(term, name=name)
    return term


def _default(evaluator: Evaluator, parameter: Parameter, place: Place) -> Term:
    if parameter.default is not None:
        return evaluator.value(parameter.default, {})
    return parameter_input(parameter.name, place)


def _full_name(function: Function) -> str:
    return f"{function.owner}.{function.name}" if function.owner else function.name


def _with_fields(found: Term, held: list[str], name: str, variables: Variables) -> Term:
    own = [(key[len(name) + 1 :], variables[key]) for key in held]
    flat = [(key, value) for key, value in own if "." not in key]
    if isinstance(found, Fields):
        kept = tuple(pair for pair in found.pairs if pair[0] not in dict(flat))
        return replace(found, pairs=(*kept, *flat))
    return Fields((("...", found), *flat))


def _condition(test: Expression, value: Term) -> str:
    """Say what kind of condition leads into a branch."""
    if isinstance(test, Operation) and test.operator == "fails":
        return "fails"
    for found in (value, *getattr(value, "of", ())):
        if isinstance(found, Step) and found.name == "checked":
            return "checked"
        if isinstance(found, Step) and found.name == "compared" and found.of:
            if any(is_typed(each) or is_hashed(each) for each in found.of):
                return "compared"
    return "if"


def _is_spread(call: Call) -> bool:
    return isinstance(call.function, Name) and call.function.name == "..."


def _is_number(term: Term) -> bool:
    return isinstance(term, Constant) and isinstance(term.value, int)


def _is_text(term: Term) -> bool:
    if isinstance(term, Constant):
        return isinstance(term.value, str | bytes)
    if isinstance(term, Either):
        return any(map(_is_text, term.options))
    return isinstance(term, Step | Input | Gap)


def _computed(operator: str, numbers: list[int | None], place: Place) -> Term:
    left, right = (each or 0 for each in numbers)
    if operator == "<<" and 0 <= right <= 64:
        return Constant(left << right, place)
    known = {"+": left + right, "-": left - right, "*": left * right}
    if operator in known:
        return Constant(known[operator], place)
    return Gap(f"an operator ({operator})", place)


def _sliced(site: CallSite, kind: str, of: Term, bounds: list[Term]) -> Term:
    if isinstance(of, Fields) and of.is_list:
        return of
    first = bounds[0] if bounds else NOTHING
    last = bounds[1] if len(bounds) > 1 else NOTHING
    if kind == "part":
        return site.use("cut", of, first, last)
    if kind == "range" and number(last) is not None:
        last = Constant((number(last) or 0) + 1)
    return site.use("between", of, first, last)
