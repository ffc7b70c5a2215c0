"""Java, from tree-sitter's grammar."""

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, ClassVar

from lean_tumbler.core.code.languages.common_nodes import CommonNodes
from lean_tumbler.core.code.languages.lowering import Grammar, unescaped
from lean_tumbler.core.code.program import (
    Branch,
    Call,
    Class,
    Do,
    Expression,
    FunctionParameter,
    Items,
    Literal,
    LoopStatement,
    Name,
    Set,
    Statement,
)

if TYPE_CHECKING:
    from tree_sitter import Node

_GRAMMAR = ("tree_sitter_java", "language")


class JavaNodes(CommonNodes):
    """Lowers Java."""

    language = "java"
    blocks: ClassVar[frozenset[str]] = frozenset({"block", "constructor_body"})
    many: ClassVar[frozenset[str]] = frozenset({"local_variable_declaration"})

    endings: ClassVar[Mapping[str, Grammar]] = {".java": _GRAMMAR}

    def on_type_identifier(self, node: "Node") -> Expression:
        """Lower the name of a class."""
        return Name(self.text(node), self.line(node))

    on_scoped_type_identifier = on_type_identifier

    def on_generic_type(self, node: "Node") -> Expression:
        """Lower the name of a class, what is in angle brackets aside."""
        return self.expression(node.named_children[0])

    def on_string_literal(self, node: "Node") -> Expression:
        """Lower text."""
        text = "".join(
            unescaped(self.text(child)) if child.type == "escape_sequence" else self.text(child)
            for child in node.named_children
        )
        return Literal(text, self.line(node))

    def on_character_literal(self, node: "Node") -> Expression:
        """Lower a character."""
        text = self.text(node)[1:-1]
        return Literal(unescaped(text) if text.startswith("\\") else text, self.line(node))

    def on_field_access(self, node: "Node") -> Expression:
        """Lower a field."""
        name = self.text(node.child_by_field_name("field"))
        return self.member(self.child(node, "object"), name, node)

    def on_scoped_identifier(self, node: "Node") -> Expression:
        """Lower a name with dots."""
        name = self.text(node.child_by_field_name("name"))
        return self.member(self.child(node, "scope"), name, node)

    def on_array_access(self, node: "Node") -> Expression:
        """Lower what an array holds."""
        return self.indexed(self.child(node, "array"), self.child(node, "index"), node)

    def on_method_invocation(self, node: "Node") -> Expression:
        """Lower a call."""
        name = self.text(node.child_by_field_name("name"))
        of = node.child_by_field_name("object")
        line = self.line(node)
        function = Name(name, line) if of is None else self.member(self.expression(of), name, node)
        return self.call(node, function)

    def on_object_creation_expression(self, node: "Node") -> Expression:
        """Lower a new object."""
        return self.call(node, self.child(node, "type"), makes_object=True)

    def on_cast_expression(self, node: "Node") -> Expression:
        """Lower a value under another type."""
        return self.child(node, "value")

    def on_array_creation_expression(self, node: "Node") -> Expression:
        """Lower a new array: with what it holds, or its length alone."""
        value = node.child_by_field_name("value")
        if value is not None:
            return self.expression(value)
        line = self.line(node)
        length = node.child_by_field_name("dimensions")
        inside = length.named_children[0] if length and length.named_children else None
        return Call(Name("new[]", line), (self.expression(inside),), line)

    def on_array_initializer(self, node: "Node") -> Expression:
        """Lower what an array holds."""
        return Items(
            tuple((None, self.expression(child)) for child in node.named_children),
            self.line(node),
        )

    def on_local_variable_declaration(self, node: "Node") -> Expression:
        """Lower declarations of variables."""
        line = self.line(node)
        found: list[tuple[Expression | None, Expression]] = []
        for child in node.children_by_field_name("declarator"):
            value = child.child_by_field_name("value")
            if value is not None:
                name = Name(self.text(child.child_by_field_name("name")), line)
                found.append((None, Set(name, self.expression(value), line)))
        return Items(tuple(found), line)

    def on_for_statement(self, node: "Node") -> Statement:
        """Lower a counted loop."""
        return self.counted(node, begin="init", step="update")

    def on_enhanced_for_statement(self, node: "Node") -> Statement:
        """Lower a loop over what a list holds."""
        return LoopStatement(
            self.block(node.child_by_field_name("body")),
            self.line(node),
            target=self.child(node, "name"),
            over=self.child(node, "value"),
        )

    def on_try_with_resources_statement(self, node: "Node") -> Statement:
        """Lower what holds something open, and may fail."""
        before: list[Statement] = []
        line = self.line(node)
        resources = node.child_by_field_name("resources")
        for child in resources.named_children if resources else []:
            name = Name(self.text(child.child_by_field_name("name")), line)
            before.append(Do(Set(name, self.child(child, "value"), line), line))
        rest = self.on_try_statement(node)
        return Branch(Literal(True, line), (*before, rest), (), line)

    def on_switch_expression(self, node: "Node") -> Statement:
        """Lower a choice between several ways."""
        parts = []
        body = node.child_by_field_name("body")
        for group in body.named_children if body else []:
            if group.type not in {"switch_block_statement_group", "switch_rule"}:
                continue
            label, *rest = group.named_children
            value = label.named_children[0] if label.named_children else None
            parts.append((value, rest))
        return self.cases(parts, node)

    def on_lambda_expression(self, node: "Node") -> Expression:
        """Lower a function without a name."""
        return self.closure(node)

    # Declarations

    def on_method_declaration(self, node: "Node") -> None:
        """Take a method."""
        self.functions.append(self.function(node, self.text(node.child_by_field_name("name"))))

    on_constructor_declaration = on_method_declaration

    def parameters(self, node: "Node") -> Iterator[FunctionParameter]:
        """Give what a method takes."""
        found = node.child_by_field_name("parameters")
        if found is not None and found.type == "identifier":
            yield FunctionParameter(self.text(found))
            return
        for child in found.named_children if found else []:
            name = child.child_by_field_name("name")
            if child.type == "identifier":
                name = child
            elif child.type == "spread_parameter":
                name = child.named_children[-1].child_by_field_name("name")
            yield FunctionParameter(self.text(name))

    def on_class_declaration(self, node: "Node") -> None:
        """Take a class."""
        name = self.text(node.child_by_field_name("name"))
        before, self.owner = self.owner, name
        body = node.child_by_field_name("body")
        fields: list[tuple[str, Expression]] = []
        for child in body.named_children if body else []:
            if child.type != "field_declaration":
                self.statements([child])
                continue
            for each in child.children_by_field_name("declarator"):
                value = each.child_by_field_name("value")
                if value is not None:
                    named = self.text(each.child_by_field_name("name"))
                    fields.append((named, self.expression(value)))
        above = node.child_by_field_name("superclass")
        bases = (self.text(above).removeprefix("extends").strip(),) if above else ()
        self.classes.append(Class(name=name, bases=bases, fields=tuple(fields)))
        self.owner = before

    on_record_declaration = on_enum_declaration = on_interface_declaration = on_class_declaration

    def on_import_declaration(self, _node: "Node") -> None:
        """Leave names out: classes are found by their last part."""

    on_package_declaration = on_modifiers = on_marker_annotation = on_import_declaration
    on_annotation = on_break_statement = on_continue_statement = on_import_declaration
