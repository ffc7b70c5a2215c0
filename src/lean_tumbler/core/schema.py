"""Documents checked against declared types: where one does not fit, and what was expected there.

The types are msgspec's; its own messages may quote what stands in a document, so only the place is
taken from them.
"""

import difflib
import re
from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from typing import Any, TypeVar

import msgspec
from msgspec import inspect

T = TypeVar("T")
_PLACE = re.compile(r" - at `\$\.?([^`]*)`$")
_NAME = re.compile(r"(?:unknown|required) field `(.*?)`(?: - at `\$|$)", re.DOTALL)
_STEP = re.compile(r"\[(?:\.\.\.|(\d+))\]|([^.\[]+)")
_WORDS: Mapping[type[inspect.Type], str] = {
    inspect.StrType: "text",
    inspect.IntType: "a whole number",
    inspect.FloatType: "a number",
    inspect.BoolType: "true or false",
    inspect.ListType: "a list",
    inspect.VarTupleType: "a list",
    inspect.TupleType: "a list",
    inspect.DateTimeType: "a time",
    inspect.DictType: "a table",
    inspect.StructType: "a table",
    inspect.DataclassType: "a table",
    inspect.DateType: "a date",
}


class Mismatch(ValueError):
    """A document is not of its type.

    Attributes:
        path: the field that does not fit, from the outermost; empty for the document itself.
        problem: what was expected of it, for a sentence that begins with its name.
        unknown: a name that is not known there; or empty.
        known: the names that are.
    """

    def __init__(
        self, path: str, problem: str, *, unknown: str = "", known: tuple[str, ...] = ()
    ) -> None:
        super().__init__(f"“{path}” {problem}" if path else problem)
        self.path, self.problem, self.unknown, self.known = path, problem, unknown, known

    @property
    def hint(self) -> str:
        """Name the nearest of the known names, or all of them."""
        near = difflib.get_close_matches(self.unknown, self.known, n=1, cutoff=0.5)
        return f"did you mean “{near[0]}”?" if near else f"known here: {', '.join(self.known)}"


def checked(document: Any, type_: type[T]) -> T:
    """Give a document as its type.

    Args:
        document: of objects as TOML and JSON give them.
        type_: a Struct or a dataclass, which may hold others; names that the outermost does not
            know are refused.

    Raises:
        Mismatch: naming the place; it holds nothing else of the document.
    """
    if is_dataclass(type_) and isinstance(document, dict):
        known = tuple(field.name for field in fields(type_))
        unknown = next((name for name in document if name not in known), None)
        if unknown is not None:
            raise Mismatch("", "holds a name that is not known", unknown=unknown, known=known)
    try:
        return msgspec.convert(document, type_, str_keys=True)
    except msgspec.ValidationError as error:
        mismatch = _mismatch(str(error), type_)
    raise mismatch


def _mismatch(message: str, type_: Any) -> Mismatch:
    place = _PLACE.search(message)
    path = place[1] if place else ""
    expected = _at(inspect.type_info(type_), path)
    name = _NAME.search(message)
    if message.startswith("Object contains unknown"):
        members = expected.fields if isinstance(expected, inspect.StructType) else ()
        unknown = name[1] if name else ""
        known = tuple(field.encode_name for field in members)
        return Mismatch(path, "holds a name that is not known", unknown=unknown, known=known)
    if message.startswith("Object missing") and name:
        return Mismatch(f"{path}.{name[1]}".removeprefix("."), "is missing")
    if "got `null`" in message:
        return Mismatch(path, "is missing")
    return Mismatch(path, _expected(expected, message))


def _at(found: inspect.Type, path: str) -> inspect.Type:
    """Find the type of a place."""
    for number, name in _STEP.findall(path):
        found = _without_null(found)
        if isinstance(found, inspect.StructType | inspect.DataclassType):
            found = next(each.type for each in found.fields if each.encode_name == name)
        elif isinstance(found, inspect.ListType | inspect.VarTupleType):
            found = found.item_type
        elif isinstance(found, inspect.DictType):
            found = found.value_type
        elif isinstance(found, inspect.TupleType):
            found = found.item_types[int(number)]
    return _without_null(found, keeps_metadata=True)


def _without_null(found: inspect.Type, *, keeps_metadata: bool = False) -> inspect.Type:
    if isinstance(found, inspect.Metadata) and not keeps_metadata:
        return _without_null(found.type)
    if isinstance(found, inspect.UnionType):
        others = [each for each in found.types if not isinstance(each, inspect.NoneType)]
        return others[0] if len(others) == 1 else found
    return found


def _expected(found: inspect.Type, message: str) -> str:
    """Say what a value must be."""
    found = _without_null(found, keeps_metadata=True)
    if isinstance(found, inspect.Metadata):
        must = (found.extra or {}).get("must")
        return f"must be {must}" if must else _expected(found.type, message)
    if isinstance(found, inspect.StrType) and "of length <=" in message:
        return f"is longer than {found.max_length:,} characters"
    if isinstance(found, inspect.StrType) and "matching" in message:
        return "holds a NUL"
    if isinstance(found, inspect.IntType | inspect.FloatType) and re.search("[<>]=? ", message):
        return f"must be {_range(found)}"
    return f"must be {_words(found)}"


def _range(found: inspect.IntType | inspect.FloatType) -> str:
    what = _WORDS[type(found)] + " " if isinstance(found, inspect.FloatType) else ""
    if found.gt is not None:
        return f"{what}above {found.gt:g}, to {found.le:g}"
    return (
        f"{what}from {found.ge:g} to {found.le:g}"
        if found.le is not None
        else f"{found.ge} or more"
    )


def _words(found: inspect.Type) -> str:
    found = _without_null(found)
    if isinstance(found, inspect.LiteralType | inspect.EnumType):
        values = found.values if isinstance(found, inspect.LiteralType) else found.cls
        return " or ".join(map(str, values))
    if isinstance(found, inspect.UnionType):
        return " or ".join(dict.fromkeys(map(_words, found.types)))
    return _WORDS.get(type(found), "of another kind")
