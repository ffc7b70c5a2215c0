"""What the languages share: from a parser's tree to a program, node by node."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, ClassVar

from lean_tumbler.core.code.naming import INTERESTING
from lean_tumbler.core.code.program import (
    Branch,
    Call,
    Choice,
    Class,
    Closure,
    Do,
    Expression,
    Function,
    Index,
    Items,
    Join,
    Literal,
    Loop,
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

if TYPE_CHECKING:
    from tree_sitter import Node

Grammar = tuple[str, str]  # a module, and the function of it that gives the grammar

DEPTH = 200  # of nodes in each other; what lies deeper is left out and counted as an error
_ESCAPES = {
    "n": "\n", "t": "\t", "r": "\r", "0": "\0", "b": "\b", "f": "\f", "v": "\v", "a": "\a",
    "e": "\x1b", "s": " ",
}  # fmt: skip


def unescaped(text: str) -> str:
    """Read one escape sequence as most languages write it; one that has no meaning stays."""
    sign = text[1:2]
    if sign in {"x", "u", "U"}:
        digits = text[2:].strip("{}")
        try:
            return chr(int(digits, 16))
        except (ValueError, OverflowError):
            return text
    if sign.isdigit() and all("0" <= each <= "7" for each in text[1:]):
        return chr(int(text[1:], 8) & 0xFF)
    return _ESCAPES.get(sign, text[1:])


class Lowering:
    """Turns one file into a unit; a language adds a method for each kind of node, `on_KIND`."""

    language: ClassVar[str]
    endings: ClassVar[Mapping[str, Grammar]]  # of its files, and the grammar for each
    joins: ClassVar[frozenset[str]] = frozenset()  # operators that only put text together
    _handlers: ClassVar[dict[str, Callable[["Lowering", "Node"], Expression | Statement | None]]]

    def __init_subclass__(cls) -> None:
        super().__init_subclass__()
        cls._handlers = {
            name.removeprefix("on_"): getattr(cls, name)
            for name in dir(cls)
            if name.startswith("on_")
        }

    def __init__(self, path: str, source: bytes) -> None:
        self.path = path
        self.source = source
        self._small = source.lower()
        self.functions: list[Function] = []
        self.classes: list[Class] = []
        self.imports: list[tuple[str, str]] = []
        self.owner = ""
        self.errors = 0
        self._depth = 0

    def unit(self, root: "Node") -> Unit:
        """Turn the whole tree into a unit."""
        body = self.statements(root.named_children)
        return Unit(
            path=self.path,
            language=self.language,
            functions=tuple(self.functions),
            classes=tuple(self.classes),
            body=body,
            imports=tuple(self.imports),
            lines=self.source.count(b"\n") + 1,
            errors=self.errors + int(root.has_error),
        )

    # Nodes

    def text(self, node: "Node | None") -> str:
        """Give a node's source text; empty for no node."""
        if node is None:
            return ""
        return self.source[node.start_byte : node.end_byte].decode("utf-8", "replace")

    @staticmethod
    def line(node: "Node") -> int:
        """Give the line on which a node begins, from 1."""
        return int(node.start_point[0]) + 1

    def child(self, node: "Node", field: str) -> Expression:
        """Lower the child of a field; nothing where there is none."""
        return self.expression(node.child_by_field_name(field))

    def expression(self, node: "Node | None") -> Expression:
        """Lower a node that is a value."""
        if node is None:
            return Literal(None, 0)
        found = self._lowered(node)
        if isinstance(found, Do):
            return found.value
        if found is None or isinstance(found, Return | Stop | Branch | Loop):
            return Literal(None, self.line(node))
        return found

    def statements(self, nodes: Iterable["Node"]) -> tuple[Statement, ...]:
        """Lower nodes that are statements."""
        return tuple(self._statements(nodes))

    def block(self, node: "Node | None") -> tuple[Statement, ...]:
        """Lower a block, or one statement in its place; nothing where there is none."""
        if node is None:
            return ()
        if node.type in self.blocks:
            return self.statements(node.named_children)
        return self.statements([node])

    blocks: ClassVar[frozenset[str]] = frozenset({"block", "statement_block", "compound_statement"})

    def _statements(self, nodes: Iterable["Node"]) -> Iterator[Statement]:
        for node in nodes:
            if node.type in self.blocks:
                yield from self._statements(node.named_children)
                continue
            found = self._lowered(node)
            if isinstance(found, Do | Return | Stop | Branch | Loop):
                yield found
            elif isinstance(found, Items) and node.type in self.many:
                for _, value in found.pairs:
                    yield Do(value, found.line)
            elif found is not None:
                yield Do(found, self.line(node))

    # kinds of node that hold several statements of their own
    many: ClassVar[frozenset[str]] = frozenset()

    def _lowered(self, node: "Node") -> Expression | Statement | None:
        if self._depth > DEPTH:
            self.errors += 1
            return None
        self._depth += 1
        try:
            handler = self._handlers.get(node.type)
            return handler(self, node) if handler else self._other(node)
        except (IndexError, ValueError):  # a node that lacks a part, as damaged code has
            self.errors += 1
            return None
        finally:
            self._depth -= 1

    def _other(self, node: "Node") -> Expression | None:
        """Keep what is inside a node of no interest."""
        inside = tuple(self.expression(child) for child in node.named_children)
        if not inside:
            return None
        return Operation("?", inside, self.line(node)) if len(inside) > 1 else inside[0]

    # Kinds of node that several languages name alike

    def on_comment(self, _node: "Node") -> None:
        """Leave a comment out."""

    on_line_comment = on_block_comment = on_comment

    def on_identifier(self, node: "Node") -> Expression:
        """Lower a name."""
        return Name(self.text(node), self.line(node))

    on_constant = on_identifier

    def on_this(self, node: "Node") -> Expression:
        """Lower the object itself."""
        return Name("this", self.line(node))

    on_self = on_this

    def on_parenthesized_expression(self, node: "Node") -> Expression:
        """Lower what stands in brackets."""
        return self.expression(node.named_children[0] if node.named_children else None)

    def on_expression_statement(self, node: "Node") -> Statement | None:
        """Lower a statement that is an expression."""
        children = [child for child in node.named_children if child.type != "comment"]
        return Do(self.expression(children[0]), self.line(node)) if children else None

    def on_integer(self, node: "Node") -> Expression:
        """Lower a whole number."""
        digits = self.text(node).replace("_", "").rstrip("lLn")
        base = 0 if digits[:2].lower() in {"0x", "0b", "0o"} else 10
        try:
            return Literal(int(digits, base), self.line(node))
        except ValueError:
            return Literal(None, self.line(node))

    on_number = on_int_literal = on_decimal_integer_literal = on_hex_integer_literal = on_integer

    def on_float(self, node: "Node") -> Expression:
        """Lower another number."""
        return Literal(0.0, self.line(node))

    def on_true(self, node: "Node") -> Expression:
        """Lower truth."""
        return Literal(True, self.line(node))

    def on_false(self, node: "Node") -> Expression:
        """Lower its contrary."""
        return Literal(False, self.line(node))

    def on_boolean(self, node: "Node") -> Expression:
        """Lower either."""
        return Literal(self.text(node).lower() == "true", self.line(node))

    def on_null(self, node: "Node") -> Expression:
        """Lower nothing."""
        return Literal(None, self.line(node))

    on_nil = on_none = on_undefined = on_null_literal = on_null

    def on_binary_expression(self, node: "Node") -> Expression:
        """Lower an operator with two operands."""
        return self.operation(
            self.text(node.child_by_field_name("operator")),
            self.child(node, "left"),
            self.child(node, "right"),
            self.line(node),
        )

    on_binary = on_binary_expression

    def operation(
        self, operator: str, left: Expression, right: Expression, line: int
    ) -> Expression:
        """Make an operation, or a join where the operator is one."""
        if operator in self.joins:
            first = left.parts if isinstance(left, Join) else (left,)
            return Join((*first, right), line)
        return Operation(operator, (left, right), line)

    def on_unary_expression(self, node: "Node") -> Expression:
        """Lower an operator with one operand."""
        operand = node.child_by_field_name("argument") or node.child_by_field_name("operand")
        inside = self.expression(operand or (node.named_children or [None])[-1])
        operator = self.text(node.children[0]) if node.children else "?"
        return Operation(operator, (inside,), self.line(node)) if operator == "!" else inside

    on_unary_op_expression = on_unary = on_unary_expression

    def on_assignment_expression(self, node: "Node") -> Expression:
        """Lower an assignment; one with an operator takes what was there before."""
        operator = self.text(node.child_by_field_name("operator"))
        target, value = self.child(node, "left"), self.child(node, "right")
        return self.assigned(target, value, operator.removesuffix("="), self.line(node))

    on_assignment = on_augmented_assignment_expression = on_assignment_expression
    on_augmented_assignment = on_operator_assignment = on_assignment_expression

    def assigned(
        self, target: Expression, value: Expression, operator: str, line: int
    ) -> Expression:
        """Make an assignment."""
        if operator in {"??", "||"}:
            value = Operation(operator, (target, value), line)
        elif operator and operator != ":":
            value = self.operation(operator, target, value, line)
        return Set(target, value, line)

    def on_update_expression(self, node: "Node") -> Expression:
        """Lower what adds or takes one."""
        inside = self.expression(node.named_children[0])
        sign = "+" if "++" in self.text(node) else "-"
        one = Literal(1, self.line(node))
        return Set(inside, Operation(sign, (inside, one), self.line(node)), self.line(node))

    on_inc_statement = on_dec_statement = on_update_expression

    def on_conditional_expression(self, node: "Node") -> Expression:
        """Lower a choice between two values."""
        test = self.child(node, "condition")
        yes = node.child_by_field_name("consequence") or node.child_by_field_name("body")
        chosen = self.expression(yes) if yes else test
        return Choice(test, chosen, self.child(node, "alternative"), self.line(node))

    on_ternary_expression = on_conditional = on_conditional_expression

    def on_await_expression(self, node: "Node") -> Expression:
        """Lower what is waited for."""
        return Wait(self.expression(node.named_children[0]), self.line(node))

    def on_return_statement(self, node: "Node") -> Statement:
        """Lower the end of a function."""
        value = self.expression(node.named_children[0]) if node.named_children else None
        return Return(value, self.line(node))

    def on_throw_statement(self, node: "Node") -> Statement:
        """Lower an exception, whose text is of no interest."""
        return Stop(self.line(node))

    on_raise_statement = on_throw_expression = on_exit_statement = on_throw_statement
    on_break_statement = on_continue_statement = on_comment

    def on_if_statement(self, node: "Node") -> Statement:
        """Lower a condition."""
        yes = node.child_by_field_name("consequence") or node.child_by_field_name("body")
        alternatives = node.children_by_field_name("alternative")
        test = self.child(node, "condition")
        return Branch(test, self.block(yes), self.alternatives(alternatives), self.line(node))

    on_elif_clause = on_else_if_clause = on_elsif = on_unless_modifier = on_if_statement

    def alternatives(self, nodes: list["Node"]) -> tuple[Statement, ...]:
        """Lower what comes where a condition does not hold: each part holds those behind it."""
        if not nodes:
            return ()
        found = self.block(nodes[0])
        if len(nodes) > 1 and len(found) == 1 and isinstance(found[0], Branch):
            first = found[0]
            return (Branch(first.test, first.yes, self.alternatives(nodes[1:]), first.line),)
        return found

    def on_while_statement(self, node: "Node") -> Statement:
        """Lower a loop with a test."""
        body = self.block(node.child_by_field_name("body"))
        return Loop(
            body,
            self.line(node),
            test=self.child(node, "condition"),
            runs_first=node.type == "do_statement",
        )

    on_do_statement = on_while = on_while_statement

    def counted(self, node: "Node", *, begin: str, step: str) -> Statement:
        """Lower a loop with a beginning, a test and a step: as a block of its own."""
        first = node.child_by_field_name(begin)
        after = node.child_by_field_name(step)
        body = self.block(node.child_by_field_name("body"))
        if after is not None:
            body = (*body, *self.statements([after]))
        loop = Loop(body, self.line(node), test=self.child(node, "condition"))
        if first is None:
            return loop
        truth = Literal(True, self.line(node))
        return Branch(truth, (*self.statements([first]), loop), (), self.line(node))

    def on_try_statement(self, node: "Node") -> Statement:
        """Lower what may fail: what is done then is another way, which does not undo the first."""
        line = self.line(node)
        body = node.child_by_field_name("body")
        handlers: list[Statement] = []
        for child in node.named_children:
            if child.type in {"catch_clause", "except_clause", "finally_clause"}:
                handlers.extend(self.block(self._handler_body(child)))
        tested = Operation("fails", (), line)
        behind = (Branch(tested, tuple(handlers), (), line),) if handlers else ()
        return Branch(Literal(True, line), (*self.block(body), *behind), (), line)

    on_try_with_resources_statement = on_try_statement

    def _handler_body(self, node: "Node") -> "Node | None":
        found = node.child_by_field_name("body")
        blocks = [child for child in node.named_children if child.type in self.blocks]
        return found or (blocks[-1] if blocks else None)

    def cases(self, parts: Iterable[tuple["Node | None", list["Node"]]], node: "Node") -> Statement:
        """Lower a choice between several ways; a way without a value is the last resort."""
        last: tuple[Statement, ...] = ()
        tests: list[tuple[Expression, tuple[Statement, ...]]] = []
        subject_node = next(
            (
                found
                for field in ("value", "condition", "subject")
                if (found := node.child_by_field_name(field)) is not None
            ),
            None,
        )
        subject = self.expression(subject_node)
        for value, body in parts:
            lowered = self.statements(body)
            if value is None:
                last = lowered
            else:
                test = Operation("==", (subject, self.expression(value)), self.line(value))
                tests.append((test, lowered))
        for test, lowered in reversed(tests):
            last = (Branch(test, lowered, last, self.line(node)),)
        if len(last) == 1 and isinstance(last[0], Branch):
            return last[0]
        return Branch(Literal(True, self.line(node)), last, (), self.line(node))

    # Functions and classes

    def function(self, node: "Node", name: str, **more: object) -> Function:
        """Make a function from a node with parameters and a body."""
        body_node = node.child_by_field_name("body")
        owner, is_async = self.owner, any(each.type == "async" for each in node.children)
        marks = more.get("marks", ())
        body = self.function_body(body_node)
        return Function(
            name=name,
            owner=owner,
            parameters=tuple(self.parameters(node)),
            body=body,
            line=self.line(node),
            end_line=int(node.end_point[0]) + 1,
            is_async=is_async,
            marks=marks if isinstance(marks, tuple) else (),
            is_of_interest=INTERESTING.search(self._small, node.start_byte, node.end_byte)
            is not None,
        )

    def function_body(self, node: "Node | None") -> tuple[Statement, ...]:
        """Lower a body; one that is an expression is what the function gives."""
        if node is None:
            return ()
        if node.type in self.blocks:
            return self.statements(node.named_children)
        return (Return(self.expression(node), self.line(node)),)

    def parameters(self, node: "Node") -> Iterator[Parameter]:
        """Give what a function takes."""
        raise NotImplementedError

    def closure(self, node: "Node") -> Expression:
        """Make a function without a name."""
        return Closure(self.function(node, ""), self.line(node))

    def arguments(self, node: "Node | None") -> tuple[Expression, ...]:
        """Lower the arguments of a call."""
        if node is None:
            return ()
        return tuple(
            self.expression(child) for child in node.named_children if child.type != "comment"
        )

    def call(self, node: "Node", function: Expression, *, makes_object: bool = False) -> Expression:
        """Make a call whose arguments stand in the field of that name."""
        given = self.arguments(node.child_by_field_name("arguments"))
        return Call(function, given, self.line(node), makes_object=makes_object)

    def member(self, of: Expression, name: str, node: "Node") -> Expression:
        """Make a member."""
        return Member(of, name, self.line(node))

    def indexed(self, of: Expression, key: Expression, node: "Node") -> Expression:
        """Make what stands under a key; a key that is a text is a name."""
        if isinstance(key, Literal) and isinstance(key.value, str):
            return Member(of, key.value, self.line(node))
        return Index(of, key, self.line(node))
