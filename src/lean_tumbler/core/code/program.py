"""A program as the evaluation sees it: one form for all languages.

A module of `languages/` makes it from a parser's tree. It keeps what carries values (calls,
assignments, text that is put together, branches, loops) and leaves out the rest: types, visibility,
imports that name nothing.
"""

from collections.abc import Mapping
from typing import Union

from msgspec import Struct


class Literal(Struct, frozen=True):
    """A constant as it stands in the source."""

    value: str | bytes | int | float | bool | None
    line: int


class Name(Struct, frozen=True):
    """A variable, constant, function, class or module."""

    name: str
    line: int


class Member(Struct, frozen=True):
    """What an object, class, module or map holds under a name that stands in the source."""

    of: "Expression"
    name: str
    line: int


class Index(Struct, frozen=True):
    """What a map or list holds under a computed key."""

    of: "Expression"
    key: "Expression"
    line: int


class Call(Struct, frozen=True):
    """A call, of a function, a method (`function` is a member) or a class (`makes_object`)."""

    function: "Expression"
    arguments: "tuple[Expression, ...]"
    line: int
    named: "tuple[tuple[str, Expression], ...]" = ()
    makes_object: bool = False


class JoinExpression(Struct, frozen=True):
    """Text that is put together: by an operator that only joins, or in a template."""

    parts: "tuple[Expression, ...]"
    line: int


class Operation(Struct, frozen=True):
    """An operator with its operands, by its sign; `?` stands for what is of no interest here."""

    operator: str
    operands: "tuple[Expression, ...]"
    line: int


class ChoiceExpression(Struct, frozen=True):
    """One of two values."""

    test: "Expression"
    yes: "Expression"
    no: "Expression"
    line: int


class Wait(Struct, frozen=True):
    """A value that is waited for."""

    value: "Expression"
    line: int


class Items(Struct, frozen=True):
    """A list, tuple or map as it stands in the source; a key is None where there is none."""

    pairs: "tuple[tuple[Expression | None, Expression], ...]"
    line: int


class Set(Struct, frozen=True):
    """An assignment, which is a value too."""

    target: "Expression"
    value: "Expression"
    line: int


class Closure(Struct, frozen=True):
    """A function without a name, or one inside another."""

    function: "CodeFunction"
    line: int


Expression = Union[  # noqa: UP007 - the members' annotations are texts
    Literal, Name, Member, Index, Call, JoinExpression, Operation, ChoiceExpression, Wait, Items,
    Set, Closure,
]  # fmt: skip


class Do(Struct, frozen=True):
    """An expression whose value nobody takes."""

    value: Expression
    line: int


class Return(Struct, frozen=True):
    """The end of a function, with what it gives."""

    value: Expression | None
    line: int


class Stop(Struct, frozen=True):
    """The end of a path without a result: an exception, the end of the program."""

    line: int


class Branch(Struct, frozen=True):
    """A condition and its two ways."""

    test: Expression
    yes: "tuple[Statement, ...]"
    no: "tuple[Statement, ...]"
    line: int


class LoopStatement(Struct, frozen=True):
    """A loop: over what a list holds, from a number up to another, or as long as a test holds."""

    body: "tuple[Statement, ...]"
    line: int
    target: Expression | None = None
    over: Expression | None = None
    test: Expression | None = None
    times: Expression | None = None


Statement = Do | Return | Stop | Branch | LoopStatement


class FunctionParameter(Struct, frozen=True):
    """What a function takes."""

    name: str
    default: Expression | None = None


class CodeFunction(Struct, frozen=True, kw_only=True):
    """A function or method."""

    name: str
    owner: str = ""  # its class
    parameters: tuple[FunctionParameter, ...] = ()
    body: tuple[Statement, ...] = ()
    line: int = 0
    end_line: int = 0
    is_async: bool = False
    is_of_interest: bool = True  # whether its words may have to do with passwords


class Class(Struct, frozen=True, kw_only=True):
    """A class: what its fields begin with, and from which classes it inherits."""

    name: str
    bases: tuple[str, ...] = ()
    fields: tuple[tuple[str, Expression], ...] = ()


class Unit(Struct, frozen=True, kw_only=True):
    """One file."""

    path: str
    language: str
    functions: tuple[CodeFunction, ...] = ()
    classes: tuple[Class, ...] = ()
    body: tuple[Statement, ...] = ()  # what runs when it is loaded
    imports: Mapping[str, str] = {}  # a name here -> what it names elsewhere, with dots
    errors: int = 0  # parts that the parser could not read
