"""Following values through a program: each function from its parameters to what it gives.

Nothing is run. A value is a term of what went into it; both ways of a branch are followed. Calls of
the tree's own functions are followed, a library's are in a table. All of it is bounded.
"""

from collections.abc import Callable, Iterable, Sequence

from msgspec.structs import replace

from lean_tumbler.core.code.call_site import CallSite
from lean_tumbler.core.code.calls import Calls
from lean_tumbler.core.code.declared_values import DeclaredValues
from lean_tumbler.core.code.index import ProgramIndex, path_of
from lean_tumbler.core.code.loops import looped
from lean_tumbler.core.code.members import member_of, named_input, parameter_input
from lean_tumbler.core.code.naming import role_of
from lean_tumbler.core.code.operations import indexed, operated
from lean_tumbler.core.code.places import CodeEvent, EventKind
from lean_tumbler.core.code.program import (
    Branch,
    Call,
    ChoiceExpression,
    Closure,
    CodeFunction,
    Do,
    Expression,
    Index,
    Items,
    JoinExpression,
    Literal,
    Member,
    Name,
    Operation,
    Return,
    Set,
    Statement,
    Stop,
    Unit,
    Wait,
)
from lean_tumbler.core.code.sites import joined, text
from lean_tumbler.core.code.terms import (
    HEAVIEST,
    NOTHING,
    Constant,
    Either,
    Fields,
    Gap,
    Pending,
    Reference,
    Role,
    Routine,
    SourceLine,
    Term,
    TermInput,
    TermStep,
    either,
    gap,
    is_taken,
)
from lean_tumbler.core.code.values import (
    Ended,
    Variables,
    condition_of,
    full_name,
    is_spread,
    merge,
    with_fields,
)

CALL_DEPTH = 6  # of calls within each other that are followed
STEPS_OF_ENTRY = 4_000  # expressions and statements that are looked at for one function


class Evaluator:
    """Follows values through one program."""

    def __init__(
        self, program: ProgramIndex, progress: Callable[[int], None] = lambda _done: None
    ) -> None:
        self.program = program
        self.unknown: set[str] = set()  # names that were called, and are not declared
        self._progress = progress
        self.events: list[CodeEvent] = []
        self.calls = Calls(self)
        self.unit = Unit(path="", language="")
        self.function = CodeFunction(name="")
        self.conditions: list[str] = []
        self._steps = 0
        self.depth = 0
        self.declared = DeclaredValues(self)

    # Entries

    def whole(self) -> list[CodeEvent]:
        """Follow each file and function of the program, and give what was met."""
        for unit in self.program.units:
            self.entry(CodeFunction(name="", body=unit.body), unit)
            for function in unit.functions:
                if function.is_of_interest:
                    self.entry(function, unit)
            self._progress(1)
        return self.events

    def entry(self, function: CodeFunction, unit: Unit) -> Term:
        """Follow a function from parameters of which only the names are known."""
        self._steps, self.depth, self.conditions = 0, 0, []
        before = self.unit, self.function
        given: Variables = {}
        place = SourceLine(unit.path, function.line)
        for parameter in function.parameters:
            given[parameter.name] = parameter_input(parameter.name, place)
        try:
            return self.called(function, unit, given, is_entry=True)
        except RecursionError:  # of what is nested too deeply, nothing is said
            self.unit, self.function = before
            return Gap("a function that is nested too deeply")

    def called(
        self, function: CodeFunction, unit: Unit, given: Variables, *, is_entry: bool = False
    ) -> Term:
        """Follow a function with what its parameters hold."""
        before = self.unit, self.function
        self.unit, self.function = unit, function
        self.depth += 1
        try:
            ended = self.run(function.body, given)
            result = either(ended.results)
            if is_entry and ended.results:
                self.tell(EventKind.RETURNS, function.line, result)
        finally:
            self.depth -= 1
            self.unit, self.function = before
        return Pending(result) if function.is_async and unit.language == "javascript" else result

    @property
    def is_deep(self) -> bool:
        """Whether no further call is followed."""
        return self.depth > CALL_DEPTH or self._steps > STEPS_OF_ENTRY

    def tell(
        self, kind: EventKind, line: int, *terms: Term, how: str = "", table: str = "",
        notes: tuple[str, ...] = (),
    ) -> None:  # fmt: skip
        """Note what a line does."""
        self.events.append(
            CodeEvent(
                kind=kind,
                place=SourceLine(self.unit.path, line),
                function=full_name(self.function),
                language=self.unit.language,
                terms=terms,
                how=how,
                table=table,
                branch=self.conditions[-1] if self.conditions else "",
                notes=notes,
            )
        )

    def place(self, line: int) -> SourceLine:
        """Give a line of the file that is followed now."""
        return SourceLine(self.unit.path, line)

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
        self.note_promise(test, branch.line)
        if isinstance(test, Constant) and isinstance(branch.test, Literal):
            return self.run(branch.yes if test.value else branch.no, variables)
        condition = condition_of(branch.test, test)
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
        found = self._followed(expression, variables)
        if getattr(found, "weight", 0) > HEAVIEST:
            return gap("a value that is too large", self.place(expression.line), (found,))
        return found

    def _followed(self, expression: Expression, variables: Variables) -> Term:
        if isinstance(expression, Literal):
            value = expression.value
            return NOTHING if value is None else Constant(value, self.place(expression.line))
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
        if isinstance(expression, JoinExpression):
            return joined(self.site(expression.line), *self.all_of(expression.parts, variables))
        return self._rare(expression, variables)

    def _rare(self, expression: Expression, variables: Variables) -> Term:
        if isinstance(expression, Operation):
            return operated(self, expression, variables)
        if isinstance(expression, Index):
            return indexed(self, expression, variables)
        if isinstance(expression, ChoiceExpression):
            test = self.value(expression.test, variables)
            self.conditions.append(condition_of(expression.test, test))
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
                return either(self.run(expression.function.body, variables).results)
            return Routine(expression.function, self.unit.path, tuple(variables.items()))
        return NOTHING

    def site(self, line: int) -> CallSite:
        """Give what operators tell their results to."""
        return CallSite(self, line)

    def all_of(self, expressions: Iterable[Expression], variables: Variables) -> list[Term]:
        """Follow expressions one after the other."""
        return [self.value(each, variables) for each in expressions]

    def _name(self, name: Name, variables: Variables) -> Term:
        found = variables.get(name.name)
        if found is not None:
            held = [key for key in variables if key.startswith(name.name + ".")]
            return with_fields(found, held, name.name, variables) if held else found
        known = self._of_file(name)
        if known is not None:
            return known
        whole = self.unit.imports.get(name.name)
        if whole is not None:
            known = self.declared.constant(whole.rpartition(".")[2]) if "." in whole else None
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

    def _of_file(self, name: Name) -> Term | None:
        """Give a constant of the class or file; None where there is none."""
        if self.function.owner and name.name[:1].isupper():
            known = self.declared.field(self.function.owner, name.name)
            if known is not None:
                return known
        is_inside = bool(self.function.name) or self.depth > 1
        return self.declared.constant(name.name) if is_inside else None

    def _member(self, member: Member, variables: Variables) -> Term:
        path = path_of(member)
        if path and path in variables:
            return variables[path]
        known = self._declared_field(member, path)
        if known is not None:
            return known
        of = self.value(member.of, variables)
        if isinstance(of, Reference):
            found = self.calls.constant_of(f"{of.name}.{member.name}", member.line)
            if found is not None:
                return found
            known = self.declared.exported(of.name, member.name)
            if known is None and "." not in of.name:
                known = self.declared.constant(member.name)
            if known is not None and of.name not in {"this", "self"}:
                return known
        found = member_of(of, member.name, self.place(member.line))
        if is_taken(found):
            self.tell(EventKind.TAKES, member.line, found)
        return found

    def _declared_field(self, member: Member, path: str) -> Term | None:
        """Give a field of the object itself, or a constant of a class."""
        if path.startswith("this.") and path.count(".") == 1:
            known = self.declared.field(self.function.owner, member.name)
            if known is not None:
                return known
        if isinstance(member.of, Name) and self.program.is_class(member.of.name):
            return self.declared.field(member.of.name, member.name)
        return None

    def _items(self, items: Items, variables: Variables) -> Term:
        pairs: list[tuple[str, Term]] = []
        has_keys = False
        for place, (key, value) in enumerate(items.pairs):
            found = self.value(value, variables)
            if key is None and isinstance(value, Call) and is_spread(value):
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

    # Assignments

    def assign(self, target: Expression, value: Term, variables: Variables, line: int) -> None:
        """Let a name, field or several of them hold a value."""
        if isinstance(target, Items):
            self._note_ignored(target, value, line)
            for place, (key, each) in enumerate(target.pairs):
                name = text(self.value(key, variables)) if key is not None else str(place)
                part = value
                is_split = isinstance(value, TermStep) and value.name == "parts"
                is_named = key is not None and isinstance(value, TermInput | Reference | Either)
                if is_split or is_named or isinstance(value, Fields):
                    part = member_of(value, name or "?", self.place(line))
                    if is_taken(part):
                        self.tell(EventKind.TAKES, line, part)
                elif place:  # an error beside the result
                    part = Gap("another result", self.place(line))
                self.assign(each, part, variables, line)
            return
        path = path_of(target)
        if not path:
            if isinstance(target, Index):
                self._put(target, value, variables)
            return
        for held in [name for name in variables if name.startswith(path + ".")]:
            del variables[held]
        variables[path] = value
        column = path.rpartition(".")[2]
        if "." in path and role_of(column) in {Role.PASSWORD, Role.STORED}:
            self.tell(EventKind.WRITES, line, value, how=column, notes=("field",))

    def note_promise(self, test: Term, line: int) -> None:
        """Note a promise that is tested: it is always true."""
        if isinstance(test, Pending):
            self.tell(EventKind.COMPARES, line, test, how="a test")

    def _note_ignored(self, target: Items, value: Term, line: int) -> None:
        """Note an error of hashing that goes to a name for nothing."""
        names = [each.name for _, each in target.pairs if isinstance(each, Name)]
        if names[1:] == ["_"] and isinstance(value, TermStep) and value.name == "scheme":
            self.tell(EventKind.IGNORES, line, value)

    def _put(self, target: Index, value: Term, variables: Variables) -> None:
        path = path_of(target.of)
        before = variables.get(path)
        if path and isinstance(before, Fields) and len(before.pairs) < 64:
            pair = (str(len(before.pairs)), value)
            variables[path] = replace(before, pairs=(*before.pairs, pair))
