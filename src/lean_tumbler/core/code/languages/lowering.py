"""What the languages share: from a parser's tree to a program, node by node."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import TYPE_CHECKING, ClassVar

from lean_tumbler.core.code.naming import INTERESTING
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
    Literal,
    LoopStatement,
    Member,
    Operation,
    Return,
    Statement,
    Stop,
    Unit,
)

if TYPE_CHECKING:
    from tree_sitter import Node

Grammar = tuple[str, str]  # a module, and the function of it that gives the grammar

DEPTH = 120  # of nodes in each other; what lies deeper is left out and counted as an error
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
        self.functions: list[CodeFunction] = []
        self.classes: list[Class] = []
        self.imports: dict[str, str] = {}
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
            imports=self.imports,
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
        if found is None or isinstance(found, Return | Stop | Branch | LoopStatement):
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
            if isinstance(found, Do | Return | Stop | Branch | LoopStatement):
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

    # Functions and classes

    def function(self, node: "Node", name: str) -> CodeFunction:
        """Make a function from a node with parameters and a body."""
        body_node = node.child_by_field_name("body")
        owner, is_async = self.owner, any(each.type == "async" for each in node.children)
        body = self.function_body(body_node)
        return CodeFunction(
            name=name,
            owner=owner,
            parameters=tuple(self.parameters(node)),
            body=body,
            line=self.line(node),
            end_line=int(node.end_point[0]) + 1,
            is_async=is_async,
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

    def parameters(self, node: "Node") -> Iterator[FunctionParameter]:
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
