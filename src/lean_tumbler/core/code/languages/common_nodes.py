"""Kinds of nodes that several languages name alike."""

from collections.abc import Iterable
from typing import TYPE_CHECKING

from lean_tumbler.core.code.languages.lowering import Lowering
from lean_tumbler.core.code.program import (
    Branch,
    ChoiceExpression,
    Do,
    Expression,
    JoinExpression,
    Literal,
    LoopStatement,
    Name,
    Operation,
    Return,
    Set,
    Statement,
    Stop,
    Wait,
)

if TYPE_CHECKING:
    from tree_sitter import Node


class CommonNodes(Lowering):
    """Lowers what the languages share."""

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
            first = left.parts if isinstance(left, JoinExpression) else (left,)
            return JoinExpression((*first, right), line)
        return Operation(operator, (left, right), line)

    def on_unary_expression(self, node: "Node") -> Expression:
        """Lower an operator with one operand."""
        operand = node.child_by_field_name("argument") or node.child_by_field_name("operand")
        inside = self.expression(
            operand or (node.named_children[-1] if node.named_children else None)
        )
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
        return ChoiceExpression(test, chosen, self.child(node, "alternative"), self.line(node))

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
        return LoopStatement(body, self.line(node), test=self.child(node, "condition"))

    on_do_statement = on_while = on_while_statement

    def counted(self, node: "Node", *, begin: str, step: str) -> Statement:
        """Lower a loop with a beginning, a test and a step: as a block of its own."""
        first = node.child_by_field_name(begin)
        after = node.child_by_field_name(step)
        body = self.block(node.child_by_field_name("body"))
        if after is not None:
            body = (*body, *self.statements([after]))
        loop = LoopStatement(body, self.line(node), test=self.child(node, "condition"))
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
                equal = Operation("==", (subject, self.expression(value)), self.line(value))
                tests.append((equal, lowered))
        for test, lowered in reversed(tests):
            last = (Branch(test, lowered, last, self.line(node)),)
        if len(last) == 1 and isinstance(last[0], Branch):
            return last[0]
        return Branch(Literal(True, self.line(node)), last, (), self.line(node))
