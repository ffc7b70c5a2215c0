"""Ruby, from tree-sitter's grammar."""

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, ClassVar

from lean_tumbler.core.code.languages.common_nodes import CommonNodes
from lean_tumbler.core.code.languages.lowering import Grammar, unescaped
from lean_tumbler.core.code.program import (
    Branch,
    Call,
    Class,
    Closure,
    CodeFunction,
    Do,
    Expression,
    FunctionParameter,
    Index,
    Items,
    JoinExpression,
    Literal,
    LoopStatement,
    Member,
    Name,
    Operation,
    Return,
    Set,
    Statement,
    Stop,
)

if TYPE_CHECKING:
    from tree_sitter import Node

_GRAMMAR = ("tree_sitter_ruby", "language")


class RubyNodes(CommonNodes):
    """Lowers Ruby."""

    language = "ruby"
    blocks: ClassVar[frozenset[str]] = frozenset(
        {"body_statement", "block_body", "then", "else", "do", "begin", "ensure", "begin_block"}
    )

    endings: ClassVar[Mapping[str, Grammar]] = {".rb": _GRAMMAR, ".rake": _GRAMMAR}

    def on_instance_variable(self, node: "Node") -> Expression:
        """Lower a variable of the object, which its accessor names too."""
        line = self.line(node)
        return Member(Name("this", line), self.text(node).lstrip("@"), line)

    on_class_variable = on_instance_variable

    def on_global_variable(self, node: "Node") -> Expression:
        """Lower a variable of the program."""
        return Name(self.text(node), self.line(node))

    def on_string(self, node: "Node") -> Expression:
        """Lower text in which values may stand."""
        if self.text(node).startswith("'"):
            text = self.text(node)[1:-1].replace("\\'", "'").replace("\\\\", "\\")
            return Literal(text, self.line(node))
        parts: list[Expression] = []
        for child in node.named_children:
            if child.type == "interpolation":
                parts.append(
                    self.expression(child.named_children[0] if child.named_children else None)
                )
            elif child.type == "escape_sequence":
                parts.append(Literal(unescaped(self.text(child)), self.line(child)))
            elif child.type in {"string_content", "heredoc_content"}:
                parts.append(Literal(self.text(child), self.line(child)))
        if all(isinstance(part, Literal) for part in parts):
            text = "".join(str(part.value) for part in parts if isinstance(part, Literal))
            return Literal(text, self.line(node))
        return JoinExpression(tuple(parts), self.line(node))

    on_heredoc_body = on_bare_string = on_string

    def on_chained_string(self, node: "Node") -> Expression:
        """Lower texts that stand side by side."""
        parts = tuple(self.expression(child) for child in node.named_children)
        return JoinExpression(parts, self.line(node))

    def on_heredoc_beginning(self, node: "Node") -> Expression:
        """Lower text over several lines, which stands further below in the tree."""
        above = node
        while above.parent is not None:
            above = above.parent
            for child in above.named_children:
                if child.type == "heredoc_body" and child.start_byte > node.start_byte:
                    return self.on_string(child)
        return Literal("", self.line(node))

    def _statements(self, nodes):  # type: ignore[no-untyped-def]
        kept = (node for node in nodes if node.type != "heredoc_body")
        return super()._statements(kept)

    def on_simple_symbol(self, node: "Node") -> Expression:
        """Lower a symbol as its text."""
        return Literal(self.text(node).lstrip(":").strip('"'), self.line(node))

    def on_hash_key_symbol(self, node: "Node") -> Expression:
        """Lower the key of a map."""
        return Literal(self.text(node), self.line(node))

    def on_scope_resolution(self, node: "Node") -> Expression:
        """Lower a name with two colons."""
        scope = node.child_by_field_name("scope")
        name = self.text(node.child_by_field_name("name"))
        if scope is None:
            return Name(name, self.line(node))
        return self.member(self.expression(scope), name, node)

    def on_element_reference(self, node: "Node") -> Expression:
        """Lower what stands under a key, or a part of a text."""
        keys = [child for child in node.named_children[1:] if child.type != "comment"]
        of = self.expression(node.named_children[0])
        line = self.line(node)
        if len(keys) == 1 and keys[0].type == "range":
            begin, end = self.child(keys[0], "begin"), self.child(keys[0], "end")
            dots = next((self.text(each) for each in keys[0].children if not each.is_named), "..")
            kind = "range" if dots == ".." else "slice"
            return Index(of, Operation(kind, (begin, end), line), line)
        if len(keys) == 2:
            pair = (self.expression(keys[0]), self.expression(keys[1]))
            return Index(of, Operation("part", pair, line), line)
        return self.indexed(of, self.expression(keys[0] if keys else None), node)

    def on_call(self, node: "Node") -> Expression:
        """Lower a call, a loop by a method with a block, or an attribute."""
        receiver = node.child_by_field_name("receiver")
        method = self.text(node.child_by_field_name("method"))
        line = self.line(node)
        given, named = self._arguments(node.child_by_field_name("arguments"))
        block = node.child_by_field_name("block")
        if block is not None:
            loop = self._loop(receiver, method, given, block)
            if loop is not None:
                return loop
            made = self.function(block, "")
            given = (*given, Closure(made, line))
        if receiver is None:
            return Call(Name(method, line), given, line, named)
        of = self.expression(receiver)
        if method == "new":
            return Call(of, given, line, named, makes_object=True)
        return Call(Member(of, method, line), given, line, named)

    def _arguments(
        self, node: "Node | None"
    ) -> tuple[tuple[Expression, ...], tuple[tuple[str, Expression], ...]]:
        given: list[Expression] = []
        named: list[tuple[str, Expression]] = []
        for child in node.named_children if node is not None else []:
            if child.type == "pair":
                key = self.child(child, "key")
                name = str(key.value) if isinstance(key, Literal) else ""
                value = child.child_by_field_name("value")
                short = Name(name, self.line(child))
                named.append((name, self.expression(value) if value is not None else short))
            elif child.type != "comment":
                given.append(self.expression(child))
        return tuple(given), tuple(named)

    def _loop(
        self, receiver: "Node | None", method: str, given: tuple[Expression, ...], block: "Node"
    ) -> Expression | None:
        """Lower the loops that Ruby writes as methods, as a function called on the spot."""
        if receiver is None or method not in {"times", "each", "upto", "step"}:
            return None
        line = self.line(block)
        of = self.expression(receiver)
        names = [Name(each.name, line) for each in self.parameters(block)]
        body = self.statements((block.child_by_field_name("body") or block).named_children)
        target = names[0] if names else None
        if method == "times":
            loop = LoopStatement(body, line, target=target, times=of)
        elif method == "upto" and given:
            loop = LoopStatement(
                body, line, target=target, over=Operation("range", (of, given[0]), line)
            )
        else:
            loop = LoopStatement(body, line, target=target, over=of)
        made = CodeFunction(name="{}", body=(loop,), line=line, owner=self.owner)
        return Closure(made, line)

    def on_range(self, node: "Node") -> Expression:
        """Lower a range of numbers."""
        dots = next((self.text(each) for each in node.children if not each.is_named), "..")
        bounds = (self.child(node, "begin"), self.child(node, "end"))
        return Operation("range" if dots == ".." else "slice", bounds, self.line(node))

    def on_parenthesized_statements(self, node: "Node") -> Expression:
        """Lower what stands in brackets: the last counts."""
        return self.expression(node.named_children[-1] if node.named_children else None)

    def on_hash(self, node: "Node") -> Expression:
        """Lower a map."""
        pairs: list[tuple[Expression | None, Expression]] = []
        for child in node.named_children:
            if child.type == "pair":
                key = self.child(child, "key")
                value = child.child_by_field_name("value")
                short = Name(str(getattr(key, "value", "")), self.line(child))
                pairs.append((key, self.expression(value) if value is not None else short))
            else:
                pairs.append((None, self.expression(child)))
        return Items(tuple(pairs), self.line(node))

    def on_array(self, node: "Node") -> Expression:
        """Lower a list."""
        return Items(
            tuple((None, self.expression(child)) for child in node.named_children),
            self.line(node),
        )

    on_left_assignment_list = on_right_assignment_list = on_string_array = on_array
    on_symbol_array = on_array

    def on_assignment(self, node: "Node") -> Expression:
        """Lower an assignment; the setter of an object is its attribute."""
        target = self.target(self.child(node, "left"))
        return Set(target, self.child(node, "right"), self.line(node))

    def on_operator_assignment(self, node: "Node") -> Expression:
        """Lower an assignment with an operator."""
        target = self.target(self.child(node, "left"))
        operator = self.text(node.child_by_field_name("operator")).removesuffix("=")
        return self.assigned(target, self.child(node, "right"), operator, self.line(node))

    @staticmethod
    def target(found: Expression) -> Expression:
        """Give what is assigned to: a call without arguments is an attribute."""
        if isinstance(found, Call) and isinstance(found.function, Member) and not found.arguments:
            return found.function
        return found

    def on_return(self, node: "Node") -> Statement:
        """Lower the end of a function."""
        inside = node.named_children[0] if node.named_children else None
        if inside is not None and inside.type == "argument_list":
            inside = inside.named_children[0]
        return Return(self.expression(inside) if inside is not None else None, self.line(node))

    on_break = on_next = CommonNodes.on_comment

    def on_if(self, node: "Node") -> Statement:
        """Lower a condition; `unless` is its contrary."""
        test = self.child(node, "condition")
        yes_node = node.child_by_field_name("consequence") or node.child_by_field_name("body")
        yes = self.block(yes_node)
        no = self.alternatives(node.children_by_field_name("alternative"))
        if node.type.startswith("unless"):
            yes, no = no, yes
        return Branch(test, yes, no, self.line(node))

    on_unless = on_if_modifier = on_unless_modifier = on_elsif = on_if

    def expression(self, node: "Node | None") -> Expression:
        """Lower a node that is a value: conditions are values here too."""
        if node is not None and node.type in {"if", "unless", "case", "begin"}:
            made = CodeFunction(
                name="{}", body=given_back((self._statement(node),)), line=self.line(node)
            )
            return Closure(made, self.line(node))
        return super().expression(node)

    def _statement(self, node: "Node") -> Statement:
        found = self._lowered(node)
        if isinstance(found, Do | Return | Stop | Branch | LoopStatement):
            return found
        return Do(found or Literal(None, 0), self.line(node))

    def on_begin(self, node: "Node") -> Statement:
        """Lower a block that may fail."""
        line = self.line(node)
        body: list[Statement] = []
        for child in node.named_children:
            if child.type == "rescue":
                rescued = self.block(child.child_by_field_name("body"))
                body.append(Branch(Operation("fails", (), line), rescued, (), line))
            else:
                body.extend(self.statements([child]))
        return Branch(Literal(True, line), tuple(body), (), line)

    def on_case(self, node: "Node") -> Statement:
        """Lower a choice between several ways."""
        parts: list[tuple[Node | None, list[Node]]] = []
        for child in node.named_children[1:]:
            if child.type == "when":
                pattern = child.child_by_field_name("pattern")
                body = child.child_by_field_name("body")
                value = pattern.named_children[0] if pattern else None
                parts.append((value, body.named_children if body else []))
            elif child.type == "else":
                parts.append((None, child.named_children))
        return self.cases(parts, node)

    # Declarations

    def on_method(self, node: "Node") -> None:
        """Take a method: what it ends in is what it gives."""
        name = self.text(node.child_by_field_name("name")).rstrip("=")
        self.functions.append(self.function(node, name))

    on_singleton_method = on_method

    def function_body(self, node: "Node | None") -> tuple[Statement, ...]:
        """Lower a body, whose last value is the result."""
        if node is None:
            return ()
        nodes = node.named_children if node.type in self.blocks else [node]
        return given_back(self.statements(nodes))

    def on_lambda(self, node: "Node") -> Expression:
        """Lower a function without a name."""
        body = node.child_by_field_name("body")
        made = CodeFunction(
            name="",
            parameters=tuple(self.parameters(node)),
            body=self.function_body(
                (body.child_by_field_name("body") or body) if body is not None else None
            ),
            line=self.line(node),
            end_line=int(node.end_point[0]) + 1,
            owner=self.owner,
        )
        return Closure(made, self.line(node))

    def parameters(self, node: "Node") -> Iterator[FunctionParameter]:
        """Give what a method takes."""
        found = node.child_by_field_name("parameters")
        for child in found.named_children if found else []:
            name = child.child_by_field_name("name") or child
            default = child.child_by_field_name("value")
            value = self.expression(default) if default is not None else None
            yield FunctionParameter(self.text(name).lstrip("*&"), value)

    def on_class(self, node: "Node") -> None:
        """Take a class."""
        name = self.text(node.child_by_field_name("name")).rpartition("::")[2]
        before, self.owner = self.owner, name
        nodes = node.child_by_field_name("body")
        body = self.statements(nodes.named_children if nodes else [])
        fields = tuple(
            (found.value.target.name, found.value.value)
            for found in body
            if isinstance(found, Do)
            and isinstance(found.value, Set)
            and isinstance(found.value.target, Name)
        )
        above = node.child_by_field_name("superclass")
        bases = (self.text(above).lstrip("< "),) if above else ()
        self.classes.append(Class(name=name, bases=bases, fields=fields))
        self.owner = before

    on_module = on_class

    def on_singleton_class(self, node: "Node") -> None:
        """Take the methods of a class itself."""
        nodes = node.child_by_field_name("body")
        self.statements(nodes.named_children if nodes else [])


def given_back(body: tuple[Statement, ...]) -> tuple[Statement, ...]:
    """Make the last value of a body its result, in each of its ways."""
    if not body:
        return body
    last = body[-1]
    if isinstance(last, Do):
        return (*body[:-1], Return(last.value, last.line))
    if isinstance(last, Branch):
        yes, no = given_back(last.yes), given_back(last.no)
        return (*body[:-1], Branch(last.test, yes, no, last.line))
    return body
