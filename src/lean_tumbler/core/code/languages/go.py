"""Go, from tree-sitter's grammar."""

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, ClassVar

from lean_tumbler.core.code.languages.common_nodes import CommonNodes
from lean_tumbler.core.code.languages.lowering import Grammar, unescaped
from lean_tumbler.core.code.program import (
    Branch,
    Expression,
    FunctionParameter,
    Index,
    Items,
    Literal,
    LoopStatement,
    Name,
    Operation,
    Return,
    Set,
    Statement,
)

if TYPE_CHECKING:
    from tree_sitter import Node

_GRAMMAR = ("tree_sitter_go", "language")


class GoNodes(CommonNodes):
    """Lowers Go."""

    language = "go"
    blocks: ClassVar[frozenset[str]] = frozenset({"block", "statement_list"})
    many: ClassVar[frozenset[str]] = frozenset({"const_declaration", "var_declaration"})

    endings: ClassVar[Mapping[str, Grammar]] = {".go": _GRAMMAR}

    def on_interpreted_string_literal(self, node: "Node") -> Expression:
        """Lower text."""
        text = "".join(
            unescaped(self.text(child)) if child.type == "escape_sequence" else self.text(child)
            for child in node.named_children
        )
        return Literal(text, self.line(node))

    def on_raw_string_literal(self, node: "Node") -> Expression:
        """Lower text as it stands."""
        return Literal(self.text(node)[1:-1], self.line(node))

    def on_rune_literal(self, node: "Node") -> Expression:
        """Lower a character."""
        return Literal(self.text(node)[1:-1], self.line(node))

    def on_selector_expression(self, node: "Node") -> Expression:
        """Lower a field, or what a package holds."""
        name = self.text(node.child_by_field_name("field"))
        return self.member(self.child(node, "operand"), name, node)

    def on_index_expression(self, node: "Node") -> Expression:
        """Lower what a list or map holds."""
        return self.indexed(self.child(node, "operand"), self.child(node, "index"), node)

    def on_slice_expression(self, node: "Node") -> Expression:
        """Lower a part of a list or text."""
        line = self.line(node)
        begin, end = (self.child(node, field) for field in ("start", "end"))
        return Index(self.child(node, "operand"), Operation("slice", (begin, end), line), line)

    def on_call_expression(self, node: "Node") -> Expression:
        """Lower a call."""
        return self.call(node, self.child(node, "function"))

    def on_type_conversion_expression(self, node: "Node") -> Expression:
        """Lower a value under another type."""
        return self.child(node, "operand")

    on_type_assertion_expression = on_type_conversion_expression

    def on_composite_literal(self, node: "Node") -> Expression:
        """Lower a struct, map or list, as its fields."""
        pairs: list[tuple[Expression | None, Expression]] = []
        body = node.child_by_field_name("body")
        for child in body.named_children if body else []:
            if child.type == "keyed_element":
                key, value = child.child_by_field_name("key"), child.child_by_field_name("value")
                pairs.append((self._key(key), self._element(value)))
            elif child.type == "literal_element":
                pairs.append((None, self._element(child)))
        return Items(tuple(pairs), self.line(node))

    def on_literal_value(self, node: "Node") -> Expression:
        """Lower a struct inside another, whose type is not written again."""
        return Items(
            tuple((None, self._element(child)) for child in node.named_children), self.line(node)
        )

    def _key(self, node: "Node | None") -> Expression:
        found = self._element(node)
        return Literal(found.name, found.line) if isinstance(found, Name) else found

    def _element(self, node: "Node | None") -> Expression:
        inside = node.named_children[0] if node is not None and node.named_children else node
        return self.expression(inside)

    def on_expression_list(self, node: "Node") -> Expression:
        """Lower one value, or several as a list."""
        children = node.named_children
        if len(children) == 1:
            return self.expression(children[0])
        return Items(tuple((None, self.expression(child)) for child in children), self.line(node))

    def on_short_var_declaration(self, node: "Node") -> Expression:
        """Lower an assignment that declares."""
        return Set(self.child(node, "left"), self.child(node, "right"), self.line(node))

    def on_assignment_statement(self, node: "Node") -> Expression:
        """Lower an assignment."""
        operator = self.text(node.child_by_field_name("operator")).removesuffix("=")
        target, value = self.child(node, "left"), self.child(node, "right")
        return self.assigned(target, value, operator, self.line(node))

    def on_const_declaration(self, node: "Node") -> Expression:
        """Lower declarations of constants or variables."""
        found: list[tuple[Expression | None, Expression]] = []
        for child in self._specs(node):
            line = self.line(child)
            value, name = child.child_by_field_name("value"), child.child_by_field_name("name")
            if value is not None:
                target = Name(self.text(name), line)
                found.append((None, Set(target, self.expression(value), line)))
        return Items(tuple(found), self.line(node))

    on_var_declaration = on_const_declaration

    def _specs(self, node: "Node") -> Iterator["Node"]:
        for child in node.named_children:
            if child.type in {"const_spec", "var_spec"}:
                yield child
            elif child.type.endswith("_list"):
                yield from self._specs(child)

    def on_return_statement(self, node: "Node") -> Statement:
        """Lower the end of a function; an error beside the result is left out."""
        inside = node.named_children[0] if node.named_children else None
        return Return(self.expression(inside) if inside is not None else None, self.line(node))

    def on_if_statement(self, node: "Node") -> Statement:
        """Lower a condition, with what stands before it."""
        branch = super().on_if_statement(node)
        first = node.child_by_field_name("initializer")
        if first is None:
            return branch
        line = self.line(node)
        return Branch(Literal(True, line), (*self.statements([first]), branch), (), line)

    def on_for_statement(self, node: "Node") -> Statement:
        """Lower a loop: counted, over a list, or with a test."""
        inside = next(
            (each for each in node.named_children if each.type in {"for_clause", "range_clause"}),
            None,
        )
        body = self.block(node.child_by_field_name("body"))
        line = self.line(node)
        if inside is None:
            tests = [child for child in node.named_children if child.type != "block"]
            return LoopStatement(body, line, test=self.expression(tests[0] if tests else None))
        if inside.type == "range_clause":
            target = self.child(inside, "left")
            if isinstance(target, Items) and target.pairs:
                target = target.pairs[-1][1]
            return LoopStatement(body, line, target=target, over=self.child(inside, "right"))
        first, after = (inside.child_by_field_name(field) for field in ("initializer", "update"))
        if after is not None:
            body = (*body, *self.statements([after]))
        loop = LoopStatement(body, line, test=self.child(inside, "condition"))
        before = self.statements([first]) if first is not None else ()
        return Branch(Literal(True, line), (*before, loop), (), line)

    def on_expression_switch_statement(self, node: "Node") -> Statement:
        """Lower a choice between several ways."""
        parts = [
            (
                child.child_by_field_name("value"),
                [each for each in child.named_children if each.type == "statement_list"],
            )
            for child in node.named_children
            if child.type in {"expression_case", "default_case"}
        ]
        return self.cases(parts, node)

    def on_func_literal(self, node: "Node") -> Expression:
        """Lower a function without a name."""
        return self.closure(node)

    # Declarations

    def on_function_declaration(self, node: "Node") -> None:
        """Take a function."""
        self.functions.append(self.function(node, self.text(node.child_by_field_name("name"))))

    def on_method_declaration(self, node: "Node") -> None:
        """Take a method."""
        receiver = self.text(node.child_by_field_name("receiver")).strip("()")
        name, _, owner = receiver.partition(" ")
        before, self.owner = self.owner, owner.strip("* ") or name
        made = self.function(node, self.text(node.child_by_field_name("name")))
        self.functions.append(made)
        self.owner = before

    def parameters(self, node: "Node") -> Iterator[FunctionParameter]:
        """Give what a function takes."""
        found = node.child_by_field_name("parameters")
        for child in found.named_children if found else []:
            for name in child.children_by_field_name("name"):
                yield FunctionParameter(self.text(name))

    def on_import_spec(self, node: "Node") -> None:
        """Take the name of a package."""
        path = self.text(node.child_by_field_name("path")).strip('"`')
        name = self.text(node.child_by_field_name("name")) or path.rpartition("/")[2]
        self.imports.setdefault(name, path)

    def on_go_statement(self, node: "Node") -> Expression:
        """Lower a call that runs beside, or at the end."""
        return self.expression(node.named_children[0] if node.named_children else None)

    on_defer_statement = on_go_statement

    def on_type_declaration(self, _node: "Node") -> None:
        """Leave types out."""

    on_package_clause = on_break_statement = on_continue_statement = on_type_declaration
