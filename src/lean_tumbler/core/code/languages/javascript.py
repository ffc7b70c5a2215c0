"""JavaScript and TypeScript, from tree-sitter's grammars."""

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, ClassVar

from lean_tumbler.core.code.languages.common_nodes import CommonNodes
from lean_tumbler.core.code.languages.lowering import Grammar, unescaped
from lean_tumbler.core.code.program import (
    Call,
    Class,
    Closure,
    Expression,
    FunctionParameter,
    Items,
    JoinExpression,
    Literal,
    LoopStatement,
    Name,
    Set,
    Statement,
)

if TYPE_CHECKING:
    from tree_sitter import Node


class JavaScript(CommonNodes):
    """Lowers JavaScript and TypeScript."""

    language = "javascript"
    blocks: ClassVar[frozenset[str]] = frozenset({"statement_block", "else_clause"})
    many: ClassVar[frozenset[str]] = frozenset({"lexical_declaration", "variable_declaration"})

    endings: ClassVar[Mapping[str, Grammar]] = {
        **dict.fromkeys((".js", ".mjs", ".cjs", ".jsx"), ("tree_sitter_javascript", "language")),
        **dict.fromkeys((".ts", ".mts", ".cts"), ("tree_sitter_typescript", "language_typescript")),
        ".tsx": ("tree_sitter_typescript", "language_tsx"),
    }

    def on_property_identifier(self, node: "Node") -> Expression:
        """Lower a name of a property."""
        return Literal(self.text(node), self.line(node))

    on_private_property_identifier = on_property_identifier

    def on_shorthand_property_identifier_pattern(self, node: "Node") -> Expression:
        """Lower a variable that is named as the property."""
        return Name(self.text(node), self.line(node))

    def on_string(self, node: "Node") -> Expression:
        """Lower text."""
        text = "".join(
            unescaped(self.text(child)) if child.type == "escape_sequence" else self.text(child)
            for child in node.named_children
        )
        return Literal(text, self.line(node))

    def on_template_string(self, node: "Node") -> Expression:
        """Lower text in which values may stand."""
        parts: list[Expression] = []
        for child in node.named_children:
            if child.type == "template_substitution":
                parts.append(self.expression(child.named_children[0]))
            elif child.type == "escape_sequence":
                parts.append(Literal(unescaped(self.text(child)), self.line(child)))
            else:
                parts.append(Literal(self.text(child), self.line(child)))
        if all(isinstance(part, Literal) for part in parts):
            text = "".join(str(part.value) for part in parts if isinstance(part, Literal))
            return Literal(text, self.line(node))
        return JoinExpression(tuple(parts), self.line(node))

    def on_member_expression(self, node: "Node") -> Expression:
        """Lower a property."""
        name = self.text(node.child_by_field_name("property"))
        return self.member(self.child(node, "object"), name, node)

    def on_subscript_expression(self, node: "Node") -> Expression:
        """Lower what stands under a computed key."""
        return self.indexed(self.child(node, "object"), self.child(node, "index"), node)

    def on_call_expression(self, node: "Node") -> Expression:
        """Lower a call."""
        return self.call(node, self.child(node, "function"))

    def arguments(self, node: "Node | None") -> tuple[Expression, ...]:
        """Lower the arguments of a call; a template behind a name is one."""
        if node is not None and node.type == "template_string":
            return (self.expression(node),)
        return super().arguments(node)

    def on_new_expression(self, node: "Node") -> Expression:
        """Lower a new object."""
        return self.call(node, self.child(node, "constructor"), makes_object=True)

    def on_spread_element(self, node: "Node") -> Expression:
        """Lower what is spread: it may be anything."""
        return Call(
            Name("...", self.line(node)),
            (self.expression(node.named_children[0]),),
            self.line(node),
        )

    def on_as_expression(self, node: "Node") -> Expression:
        """Lower a value under another type."""
        return self.expression(node.named_children[0])

    on_non_null_expression = on_satisfies_expression = on_as_expression

    def on_sequence_expression(self, node: "Node") -> Expression:
        """Lower values of which the last counts."""
        return self.expression(node.named_children[-1])

    def on_array(self, node: "Node") -> Expression:
        """Lower a list."""
        return Items(
            tuple((None, self.expression(child)) for child in node.named_children),
            self.line(node),
        )

    on_array_pattern = on_array

    def on_object(self, node: "Node") -> Expression:
        """Lower an object, or a pattern of one."""
        pairs: list[tuple[Expression | None, Expression]] = []
        for child in node.named_children:
            line = self.line(child)
            if child.type.startswith("shorthand_property"):
                name = self.text(child)
                pairs.append((Literal(name, line), Name(name, line)))
            elif child.type in {"pair", "pair_pattern"}:
                pairs.append((self._key(child), self.child(child, "value")))
            elif child.type == "object_assignment_pattern":
                name = self.text(child.child_by_field_name("left"))
                pairs.append((Literal(name, line), Name(name, line)))
            elif child.type == "method_definition":
                name = self.text(child.child_by_field_name("name"))
                made = self.function(child, name)
                self.functions.append(made)
                pairs.append((Literal(name, line), Closure(made, line)))
            elif child.type == "spread_element":
                pairs.append((None, self.expression(child)))
        return Items(tuple(pairs), self.line(node))

    on_object_pattern = on_object

    def _key(self, node: "Node") -> Expression:
        key = node.child_by_field_name("key")
        if key is not None and key.type == "computed_property_name":
            key = key.named_children[0]
        return self.expression(key)

    def on_assignment_pattern(self, node: "Node") -> Expression:
        """Lower a target with a default, which is left out."""
        return self.child(node, "left")

    def on_lexical_declaration(self, node: "Node") -> Expression:
        """Lower declarations of variables."""
        line = self.line(node)
        found: list[tuple[Expression | None, Expression]] = []
        for child in node.named_children:
            value = child.child_by_field_name("value")
            if child.type == "variable_declarator" and value is not None:
                target = self.child(child, "name")
                made = self._named(value, target)
                found.append((None, Set(target, made, line)))
        return Items(tuple(found), line)

    on_variable_declaration = on_lexical_declaration

    def _named(self, value: "Node", target: Expression) -> Expression:
        """Lower a value; a function takes the name that it is given, so that calls find it."""
        if value.type in {"arrow_function", "function_expression"} and isinstance(target, Name):
            made = self.function(value, target.name)
            self.functions.append(made)
            return Closure(made, self.line(value))
        return self.expression(value)

    def on_assignment_expression(self, node: "Node") -> Expression:
        """Lower an assignment; a function takes the name of its target."""
        value, target = node.child_by_field_name("right"), self.child(node, "left")
        named = getattr(target, "name", "")
        if value is not None and named and value.type in {"arrow_function", "function_expression"}:
            return Set(target, self._named(value, Name(named, 0)), self.line(node))
        return super().on_assignment_expression(node)

    on_augmented_assignment_expression = CommonNodes.on_assignment_expression

    def on_export_statement(self, node: "Node") -> Expression | Statement | None:
        """Lower what is exported."""
        inside = node.child_by_field_name("declaration") or node.child_by_field_name("value")
        found = self._lowered(inside) if inside is not None else None
        return None if isinstance(found, Items) and not found.pairs else found

    def on_import_statement(self, node: "Node") -> None:
        """Take the names of modules and of what they hold."""
        module = self.text(node.child_by_field_name("source")).strip("'\"`")
        module = module.removeprefix("node:")
        for child in self._walk(node):
            if child.type == "import_specifier":
                name = self.text(child.child_by_field_name("name"))
                alias = self.text(child.child_by_field_name("alias")) or name
                self.imports.setdefault(alias, f"{module}.{name}")
            elif child.type in {"namespace_import", "import_clause"}:
                for each in child.named_children:
                    if each.type == "identifier":
                        self.imports.setdefault(self.text(each), module)

    def _walk(self, node: "Node") -> Iterator["Node"]:
        for child in node.named_children:
            yield child
            yield from self._walk(child)

    def on_for_statement(self, node: "Node") -> Statement:
        """Lower a counted loop."""
        return self.counted(node, begin="initializer", step="increment")

    def on_for_in_statement(self, node: "Node") -> Statement:
        """Lower a loop over what a list holds."""
        return LoopStatement(
            self.block(node.child_by_field_name("body")),
            self.line(node),
            target=self.child(node, "left"),
            over=self.child(node, "right"),
        )

    def on_switch_statement(self, node: "Node") -> Statement:
        """Lower a choice between several ways."""
        body = node.child_by_field_name("body")
        parts = [
            (child.child_by_field_name("value"), child.children_by_field_name("body"))
            for child in (body.named_children if body else [])
        ]
        return self.cases(parts, node)

    # Declarations

    def on_function_declaration(self, node: "Node") -> None:
        """Take a function."""
        self.functions.append(self.function(node, self.text(node.child_by_field_name("name"))))

    on_method_definition = on_generator_function_declaration = on_function_declaration

    def on_arrow_function(self, node: "Node") -> Expression:
        """Lower a function without a name."""
        return self.closure(node)

    on_function_expression = on_arrow_function

    def parameters(self, node: "Node") -> Iterator[FunctionParameter]:
        """Give what a function takes; a pattern has no name, its variables have theirs."""
        single = node.child_by_field_name("parameter")
        if single is not None:
            yield FunctionParameter(self.text(single))
        found = node.child_by_field_name("parameters")
        for child in found.named_children if found else []:
            pattern, default = child, None
            if child.type in {"required_parameter", "optional_parameter"}:
                pattern = child.child_by_field_name("pattern") or child
                default = child.child_by_field_name("value")
            elif child.type == "assignment_pattern":
                pattern = child.child_by_field_name("left") or child
                default = child.child_by_field_name("right")
            if pattern.type == "object_pattern":
                for target in self._pattern_names(pattern):
                    yield FunctionParameter(target)
                continue
            value = self.expression(default) if default is not None else None
            yield FunctionParameter(self.text(pattern), value)

    def _pattern_names(self, node: "Node") -> Iterator[str]:
        found = self.expression(node)
        for key, _ in found.pairs if isinstance(found, Items) else ():
            if isinstance(key, Literal):
                yield str(key.value)

    def on_class_declaration(self, node: "Node") -> None:
        """Take a class."""
        name = self.text(node.child_by_field_name("name"))
        before, self.owner = self.owner, name
        body = node.child_by_field_name("body")
        fields: list[tuple[str, Expression]] = []
        for child in body.named_children if body else []:
            value = child.child_by_field_name("value")
            if child.type in {"field_definition", "public_field_definition"} and value is not None:
                named = child.child_by_field_name("property") or child.child_by_field_name("name")
                fields.append((self.text(named), self.expression(value)))
            else:
                self.statements([child])
        bases = tuple(
            self.text(child).removeprefix("extends").strip()
            for child in node.named_children
            if child.type == "class_heritage"
        )
        self.classes.append(Class(name=name, bases=bases, fields=tuple(fields)))
        self.owner = before

    on_abstract_class_declaration = on_class = on_class_declaration

    def on_type_annotation(self, _node: "Node") -> None:
        """Leave types out."""

    on_type_alias_declaration = on_interface_declaration = on_decorator = on_type_annotation
    on_break_statement = on_continue_statement = on_type_annotation
