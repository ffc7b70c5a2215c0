"""PHP, from tree-sitter's grammar."""

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, ClassVar

from lean_tumbler.core.code.languages.common_nodes import CommonNodes
from lean_tumbler.core.code.languages.lowering import Grammar, unescaped
from lean_tumbler.core.code.program import (
    Call,
    Class,
    Do,
    Expression,
    FunctionParameter,
    Items,
    JoinExpression,
    Literal,
    LoopStatement,
    Name,
    Set,
    Statement,
    Stop,
)

if TYPE_CHECKING:
    from tree_sitter import Node

_GRAMMAR = ("tree_sitter_php", "language_php")


class PhpNodes(CommonNodes):
    """Lowers PHP."""

    language = "php"
    joins: ClassVar[frozenset[str]] = frozenset({"."})
    blocks: ClassVar[frozenset[str]] = frozenset({"compound_statement", "colon_block"})
    many: ClassVar[frozenset[str]] = frozenset({"const_declaration", "echo_statement"})

    endings: ClassVar[Mapping[str, Grammar]] = {
        ".php": _GRAMMAR,
        ".phtml": _GRAMMAR,
        ".inc": _GRAMMAR,
        ".php5": _GRAMMAR,
    }

    def on_text(self, _node: "Node") -> None:
        """Leave HTML out."""

    on_php_tag = on_text_interpolation = on_php_end_tag = on_text

    def on_variable_name(self, node: "Node") -> Expression:
        """Lower a variable."""
        return Name(self.text(node).lstrip("$"), self.line(node))

    def on_name(self, node: "Node") -> Expression:
        """Lower a constant, function or class."""
        return Name(self.text(node).rpartition("\\")[2], self.line(node))

    on_qualified_name = on_namespace_name = on_relative_scope = on_name

    def on_string(self, node: "Node") -> Expression:
        """Lower text in single quotes."""
        text = self.text(node)[1:-1].replace("\\'", "'").replace("\\\\", "\\")
        return Literal(text, self.line(node))

    def on_encapsed_string(self, node: "Node") -> Expression:
        """Lower text in which values may stand."""
        parts: list[Expression] = []
        for child in node.named_children:
            if child.type == "string_content":
                part: Expression = Literal(self.text(child), self.line(child))
            elif child.type == "escape_sequence":
                part = Literal(unescaped(self.text(child)), self.line(child))
            else:
                part = self.expression(child)
            last = parts[-1] if parts else None
            if (
                isinstance(part, Literal)
                and isinstance(last, Literal)
                and isinstance(part.value, str)
                and isinstance(last.value, str)
            ):
                parts[-1] = Literal(last.value + part.value, last.line)
            else:
                parts.append(part)
        if not parts:
            return Literal("", self.line(node))
        single = parts[0] if len(parts) == 1 and isinstance(parts[0], Literal) else None
        return single or JoinExpression(tuple(parts), self.line(node))

    on_heredoc_body = on_nowdoc_body = on_shell_command_expression = on_encapsed_string

    def on_nowdoc_string(self, node: "Node") -> Expression:
        """Lower a line of plain text."""
        return Literal(self.text(node), self.line(node))

    def on_heredoc(self, node: "Node") -> Expression:
        """Lower text over several lines."""
        return self.child(node, "value")

    on_nowdoc = on_heredoc

    def on_member_access_expression(self, node: "Node") -> Expression:
        """Lower a property."""
        name = node.child_by_field_name("name")
        of = self.child(node, "object")
        if name is not None and name.type == "name":
            return self.member(of, self.text(name), node)
        return self.indexed(of, self.expression(name), node)

    on_nullsafe_member_access_expression = on_member_access_expression

    def on_class_constant_access_expression(self, node: "Node") -> Expression:
        """Lower a constant of a class."""
        scope, name = node.named_children[0], node.named_children[-1]
        return self.member(self.scope(scope), self.text(name).lstrip("$"), node)

    def on_scoped_property_access_expression(self, node: "Node") -> Expression:
        """Lower a static property."""
        scope = node.child_by_field_name("scope")
        name = self.text(node.child_by_field_name("name")).lstrip("$")
        return self.member(self.scope(scope), name, node)

    def scope(self, node: "Node | None") -> Expression:
        """Lower the class before two colons."""
        text = self.text(node)
        if text in {"self", "static", "parent"} and node is not None:
            return Name("this", self.line(node))
        return self.expression(node)

    def on_subscript_expression(self, node: "Node") -> Expression:
        """Lower what an array holds."""
        children = node.named_children
        of = self.expression(children[0])
        key = self.expression(children[1]) if len(children) > 1 else Name("?", self.line(node))
        return self.indexed(of, key, node)

    def on_function_call_expression(self, node: "Node") -> Expression:
        """Lower a call of a function."""
        return self.call(node, self.child(node, "function"))

    def on_member_call_expression(self, node: "Node") -> Expression:
        """Lower a call of a method."""
        name = self.text(node.child_by_field_name("name"))
        return self.call(node, self.member(self.child(node, "object"), name, node))

    on_nullsafe_member_call_expression = on_member_call_expression

    def on_scoped_call_expression(self, node: "Node") -> Expression:
        """Lower a call of a static method."""
        name = self.text(node.child_by_field_name("name"))
        of = self.scope(node.child_by_field_name("scope"))
        return self.call(node, self.member(of, name, node))

    def on_object_creation_expression(self, node: "Node") -> Expression:
        """Lower a new object."""
        children = node.named_children
        given = next((child for child in children if child.type == "arguments"), None)
        return Call(
            self.expression(children[0] if children else None),
            self.arguments(given),
            self.line(node),
            makes_object=True,
        )

    def on_argument(self, node: "Node") -> Expression:
        """Lower an argument, its name aside."""
        return self.expression(node.named_children[-1] if node.named_children else None)

    def on_print_intrinsic(self, node: "Node") -> Expression:
        """Lower what is printed."""
        inside = tuple(self.expression(child) for child in node.named_children)
        return Call(Name("echo", self.line(node)), inside, self.line(node))

    def on_echo_statement(self, node: "Node") -> Statement:
        """Lower what is printed."""
        inside = tuple(self.expression(child) for child in node.named_children)
        line = self.line(node)
        return Do(Call(Name("echo", line), inside, line), line)

    def on_exit_statement(self, node: "Node") -> Statement:
        """Lower the end of the program."""
        return Stop(self.line(node))

    on_exit_expression = on_exit_statement

    def on_array_creation_expression(self, node: "Node") -> Expression:
        """Lower an array."""
        pairs: list[tuple[Expression | None, Expression]] = []
        for child in node.named_children:
            inside = child.named_children
            if child.type != "array_element_initializer" or not inside:
                continue
            key = self.expression(inside[0]) if len(inside) > 1 else None
            pairs.append((key, self.expression(inside[-1])))
        return Items(tuple(pairs), self.line(node))

    def on_list_literal(self, node: "Node") -> Expression:
        """Lower several targets of an assignment."""
        return Items(
            tuple((None, self.expression(child)) for child in node.named_children), self.line(node)
        )

    def on_cast_expression(self, node: "Node") -> Expression:
        """Lower a value under another type."""
        return self.child(node, "value")

    def on_for_statement(self, node: "Node") -> Statement:
        """Lower a counted loop."""
        return self.counted(node, begin="initialize", step="update")

    def on_foreach_statement(self, node: "Node") -> Statement:
        """Lower a loop over what an array holds."""
        over, target, *_ = node.named_children
        named = target.named_children[-1] if target.type == "pair" else target
        return LoopStatement(
            self.block(node.child_by_field_name("body")),
            self.line(node),
            target=self.expression(named),
            over=self.expression(over),
        )

    def on_switch_statement(self, node: "Node") -> Statement:
        """Lower a choice between several ways."""
        block = node.child_by_field_name("body")
        parts = [
            (
                child.child_by_field_name("value"),
                child.named_children[1 if child.type == "case_statement" else 0 :],
            )
            for child in (block.named_children if block else [])
            if child.type in {"case_statement", "default_statement"}
        ]
        return self.cases(parts, node)

    # Declarations

    def on_function_definition(self, node: "Node") -> None:
        """Take a function."""
        self.functions.append(self.function(node, self.text(node.child_by_field_name("name"))))

    on_method_declaration = on_function_definition

    def on_anonymous_function(self, node: "Node") -> Expression:
        """Lower a function without a name."""
        return self.closure(node)

    on_arrow_function = on_anonymous_function_creation_expression = on_anonymous_function

    def parameters(self, node: "Node") -> Iterator[FunctionParameter]:
        """Give what a function takes."""
        found = node.child_by_field_name("parameters")
        for child in found.named_children if found else []:
            name = self.text(child.child_by_field_name("name")).lstrip("$")
            default = child.child_by_field_name("default_value")
            value = self.expression(default) if default else None
            if name:
                yield FunctionParameter(name, value)

    def on_class_declaration(self, node: "Node") -> None:
        """Take a class."""
        name = self.text(node.child_by_field_name("name"))
        before, self.owner = self.owner, name
        body = node.child_by_field_name("body")
        fields: list[tuple[str, Expression]] = []
        for child in body.named_children if body else []:
            if child.type in {"const_declaration", "property_declaration"}:
                fields.extend(self._fields(child))
            else:
                self.statements([child])
        bases = tuple(
            self.text(each)
            for child in node.named_children
            if child.type == "base_clause"
            for each in child.named_children
        )
        self.classes.append(Class(name=name, bases=bases, fields=tuple(fields)))
        self.owner = before

    on_trait_declaration = on_enum_declaration = on_class_declaration

    def _fields(self, node: "Node") -> Iterator[tuple[str, Expression]]:
        for child in node.named_children:
            if child.type == "const_element":
                yield self.text(child.named_children[0]), self.expression(child.named_children[-1])
            elif child.type == "property_element":
                name = self.text(child.child_by_field_name("name")).lstrip("$")
                default = child.child_by_field_name("default_value")
                if default is not None:
                    yield name, self.expression(default)

    def on_const_declaration(self, node: "Node") -> Expression:
        """Lower constants of a file."""
        line = self.line(node)
        return Items(
            tuple((None, Set(Name(name, line), value, line)) for name, value in self._fields(node)),
            line,
        )

    def on_namespace_use_declaration(self, _node: "Node") -> None:
        """Leave names out: functions and classes are found by their last part."""

    def on_global_declaration(self, _node: "Node") -> None:
        """Leave out which names are global."""

    on_use_declaration = on_attribute_list = on_global_declaration

    def on_include_expression(self, node: "Node") -> Expression:
        """Lower the loading of a file, which may give what that file returns."""
        return Call(
            Name("require", self.line(node)),
            tuple(self.expression(child) for child in node.named_children),
            self.line(node),
        )

    on_include_once_expression = on_require_expression = on_include_expression
    on_require_once_expression = on_include_expression
