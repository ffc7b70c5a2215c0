"""Python, from tree-sitter's grammar."""

import ast
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, ClassVar

from lean_tumbler.core.code.languages.common_nodes import CommonNodes
from lean_tumbler.core.code.languages.lowering import Grammar
from lean_tumbler.core.code.program import (
    Branch,
    Call,
    Class,
    Closure,
    Do,
    Expression,
    FunctionParameter,
    Index,
    Items,
    JoinExpression,
    Literal,
    LoopStatement,
    Operation,
    Set,
    Statement,
)

if TYPE_CHECKING:
    from tree_sitter import Node

_GRAMMAR = ("tree_sitter_python", "language")


class PythonNodes(CommonNodes):
    """Lowers Python."""

    language = "python"
    blocks: ClassVar[frozenset[str]] = frozenset({"block"})

    endings: ClassVar[Mapping[str, Grammar]] = {".py": _GRAMMAR, ".pyw": _GRAMMAR}

    def on_string(self, node: "Node") -> Expression:
        """Lower text or bytes; Python itself reads what has no values in it."""
        text = self.text(node)
        line = self.line(node)
        if not any(child.type == "interpolation" for child in node.named_children):
            try:
                return Literal(ast.literal_eval(text.lstrip("fF") or text), line)
            except (ValueError, SyntaxError):
                return Literal(None, line)
        parts: list[Expression] = []
        for child in node.named_children:
            if child.type == "string_content":
                content = self.text(child).replace("{{", "{").replace("}}", "}")
                parts.append(Literal(self._unquoted(content), self.line(child)))
            elif child.type == "interpolation":
                parts.append(self._interpolated(child))
        return JoinExpression(tuple(parts), line)

    def _interpolated(self, node: "Node") -> Expression:
        value = self.child(node, "expression")
        if any(child.type == "format_specifier" for child in node.named_children):
            return Operation("?", (value,), self.line(node))
        return value

    @staticmethod
    def _unquoted(text: str) -> str:
        try:
            return str(ast.literal_eval('"""' + text.replace('"', '\\"') + '"""'))
        except (ValueError, SyntaxError):
            return text

    def on_concatenated_string(self, node: "Node") -> Expression:
        """Lower texts that stand side by side."""
        parts = tuple(self.expression(child) for child in node.named_children)
        values = [part.value for part in parts if isinstance(part, Literal)]
        line = self.line(node)
        if len(values) == len(parts) and all(isinstance(value, str) for value in values):
            return Literal("".join(map(str, values)), line)
        return JoinExpression(parts, line)

    def on_attribute(self, node: "Node") -> Expression:
        """Lower an attribute."""
        name = self.text(node.child_by_field_name("attribute"))
        return self.member(self.child(node, "object"), name, node)

    def on_subscript(self, node: "Node") -> Expression:
        """Lower what stands under a key, or a slice."""
        of = self.child(node, "value")
        key = node.child_by_field_name("subscript")
        if key is None or key.type != "slice":
            return self.indexed(of, self.expression(key), node)
        marks = [child.type for child in key.children]
        bounds: list[Expression] = [Literal(None, 0)] * 3
        place = 0
        for child, mark in zip(key.children, marks, strict=True):
            if mark == ":":
                place += 1
            else:
                bounds[place] = self.expression(child)
        line = self.line(node)
        return Index(of, Operation("slice", tuple(bounds), line), line)

    def on_call(self, node: "Node") -> Expression:
        """Lower a call."""
        given: list[Expression] = []
        named: list[tuple[str, Expression]] = []
        found = node.child_by_field_name("arguments")
        for child in found.named_children if found else []:
            if child.type == "keyword_argument":
                name = self.text(child.child_by_field_name("name"))
                named.append((name, self.child(child, "value")))
            elif child.type != "comment":
                given.append(self.expression(child))
        return Call(self.child(node, "function"), tuple(given), self.line(node), tuple(named))

    def on_binary_operator(self, node: "Node") -> Expression:
        """Lower an operator; the percent sign behind text puts values into it."""
        return self.on_binary_expression(node)

    on_boolean_operator = on_binary_operator

    def on_comparison_operator(self, node: "Node") -> Expression:
        """Lower a comparison: the first of a chain."""
        children = node.named_children
        operator = next((self.text(each) for each in node.children if not each.is_named), "?")
        right = self.expression(children[1] if len(children) > 1 else None)
        return Operation(operator, (self.expression(children[0]), right), self.line(node))

    def on_not_operator(self, node: "Node") -> Expression:
        """Lower a negation."""
        return Operation("!", (self.child(node, "argument"),), self.line(node))

    def on_conditional_expression(self, node: "Node") -> Expression:
        """Lower a choice between two values, which has no fields here."""
        from lean_tumbler.core.code.program import ChoiceExpression  # noqa: PLC0415 - one use

        yes, test, no = (self.expression(child) for child in node.named_children[:3])
        return ChoiceExpression(test, yes, no, self.line(node))

    def on_named_expression(self, node: "Node") -> Expression:
        """Lower an assignment inside an expression."""
        return Set(self.child(node, "name"), self.child(node, "value"), self.line(node))

    on_await = CommonNodes.on_await_expression

    def on_dictionary(self, node: "Node") -> Expression:
        """Lower a map."""
        pairs: list[tuple[Expression | None, Expression]] = []
        for child in node.named_children:
            if child.type == "pair":
                pairs.append((self.child(child, "key"), self.child(child, "value")))
            else:
                pairs.append((None, self.expression(child)))
        return Items(tuple(pairs), self.line(node))

    def on_list(self, node: "Node") -> Expression:
        """Lower a list or tuple."""
        return Items(
            tuple((None, self.expression(child)) for child in node.named_children),
            self.line(node),
        )

    on_tuple = on_pattern_list = on_tuple_pattern = on_list_pattern = on_expression_list = on_list

    def on_list_comprehension(self, node: "Node") -> Expression:
        """Lower a list that is computed: its body alone is of interest."""
        return Operation("?", (self.child(node, "body"),), self.line(node))

    on_generator_expression = on_set_comprehension = on_list_comprehension

    def on_for_statement(self, node: "Node") -> Statement:
        """Lower a loop over what a list or range holds."""
        return LoopStatement(
            self.block(node.child_by_field_name("body")),
            self.line(node),
            target=self.child(node, "left"),
            over=self.child(node, "right"),
        )

    def on_with_statement(self, node: "Node") -> Statement:
        """Lower a block that holds something open."""
        before: list[Statement] = []
        line = self.line(node)
        for item in self._with_items(node):
            value = item.child_by_field_name("value")
            if value is not None and value.type == "as_pattern":
                alias = value.child_by_field_name("alias")
                name = alias.named_children[0] if alias and alias.named_children else alias
                made = self.expression(value.named_children[0])
                before.append(Do(Set(self.expression(name), made, line), line))
            else:
                before.append(Do(self.expression(value), line))
        body = self.block(node.child_by_field_name("body"))
        return Branch(Literal(True, line), (*before, *body), (), line)

    @staticmethod
    def _with_items(node: "Node") -> Iterator["Node"]:
        for child in node.named_children:
            if child.type == "with_clause":
                yield from child.named_children

    def on_match_statement(self, node: "Node") -> Statement:
        """Lower a choice between several ways."""
        body = node.child_by_field_name("body")
        parts = []
        for child in body.named_children if body else []:
            if child.type != "case_clause":
                continue
            pattern = child.named_children[0]
            block = child.child_by_field_name("consequence")
            value = None if self.text(pattern) == "_" else pattern
            parts.append((value, block.named_children if block else []))
        return self.cases(parts, node)

    # Declarations

    def on_import_statement(self, node: "Node") -> None:
        """Take the names of modules."""
        for child in node.children_by_field_name("name"):
            if child.type == "aliased_import":
                alias = self.text(child.child_by_field_name("alias"))
                self.imports.setdefault(alias, self.text(child.child_by_field_name("name")))

    def on_import_from_statement(self, node: "Node") -> None:
        """Take the names of what modules hold."""
        module = self.text(node.child_by_field_name("module_name")).lstrip(".")
        for child in node.children_by_field_name("name"):
            name = self.text(child.child_by_field_name("name") or child)
            alias = self.text(child.child_by_field_name("alias")) or name
            self.imports.setdefault(alias, f"{module}.{name}" if module else name)

    def on_decorated_definition(self, node: "Node") -> None:
        """Take a function or class behind its decorators."""
        inside = node.child_by_field_name("definition")
        if inside is not None and inside.type == "function_definition":
            name = self.text(inside.child_by_field_name("name"))
            self.functions.append(self.function(inside, name))
        elif inside is not None:
            self.on_class_definition(inside)

    def on_function_definition(self, node: "Node") -> None:
        """Take a function."""
        self.functions.append(self.function(node, self.text(node.child_by_field_name("name"))))

    def on_lambda(self, node: "Node") -> Expression:
        """Lower a function without a name."""
        return Closure(self.function(node, ""), self.line(node))

    def parameters(self, node: "Node") -> Iterator[FunctionParameter]:
        """Give what a function takes."""
        found = node.child_by_field_name("parameters")
        for child in found.named_children if found else []:
            name = child.child_by_field_name("name")
            if name is None:
                inner = child.named_children[0] if child.named_children else None
                name = child if child.type == "identifier" else inner
            default = child.child_by_field_name("value")
            value = self.expression(default) if default is not None else None
            if name is not None:
                yield FunctionParameter(self.text(name).lstrip("*"), value)

    def on_class_definition(self, node: "Node") -> None:
        """Take a class."""
        name = self.text(node.child_by_field_name("name"))
        before, self.owner = self.owner, name
        body = self.block(node.child_by_field_name("body"))
        fields = tuple(
            (found.value.target.name, found.value.value)
            for found in body
            if isinstance(found, Do)
            and isinstance(found.value, Set)
            and hasattr(found.value.target, "name")
        )
        bases_node = node.child_by_field_name("superclasses")
        bases = tuple(self.text(each) for each in (bases_node.named_children if bases_node else ()))
        self.classes.append(Class(name=name, bases=bases, fields=fields))
        self.owner = before

    def on_pass_statement(self, _node: "Node") -> None:
        """Leave out what does nothing."""

    on_global_statement = on_nonlocal_statement = on_pass_statement
    on_assert_statement = on_type = on_pass_statement
