"""Documents checked against declared types: where one does not fit, and what was expected there.

The types are msgspec's. Its own messages may quote what stands in a document, so nothing is taken
from them: of a document that it refuses, the first part is found that it refuses by itself.
"""

import difflib
from collections.abc import Iterator, Mapping
from typing import Annotated, Any, TypeVar, get_args, get_origin, get_type_hints

import msgspec
from msgspec import inspect

T = TypeVar("T")
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
        type_: a Struct, which may hold others; names that the outermost does not know are refused.

    Raises:
        Mismatch: naming the place; it holds nothing else of the document.
    """
    if _is_structure(type_) and isinstance(document, dict):
        _require_known(document, _names(inspect.type_info(type_)), "")
    try:
        return msgspec.convert(document, type_, str_keys=True)
    except msgspec.ValidationError:
        pass  # what it says may quote the document
    _look(document, type_, "")
    raise Mismatch("", f"must be {_words(inspect.type_info(type_))}")


def _look(value: Any, type_: Any, path: str) -> None:
    """Raise at the first part, from the outside in, that cannot be converted by itself."""
    if value is None:
        raise Mismatch(path, "is missing")
    for part, hint, place in _parts(value, _bare(type_), path):
        try:
            msgspec.convert(part, hint, str_keys=True)
        except msgspec.ValidationError:
            _look(part, hint, place)
    raise Mismatch(path, _expected(inspect.type_info(type_), value))


def _parts(value: Any, type_: Any, path: str) -> Iterator[tuple[Any, Any, str]]:
    """Give the parts of a value, with their types and places; names that are wrong are refused."""
    arguments = get_args(type_)
    match get_origin(type_) or type_:
        case kind if isinstance(value, dict) and _is_structure(kind):
            hints = get_type_hints(kind, include_extras=True)
            found = inspect.type_info(kind)
            _require_known(value, _names(found), path)
            for field in found.fields if isinstance(found, inspect.StructType) else ():
                place = f"{path}.{field.encode_name}".removeprefix(".")
                if field.encode_name in value:
                    yield value[field.encode_name], hints[field.name], place
                elif field.required:
                    raise Mismatch(place, "is missing")
        case kind if kind is dict and isinstance(value, dict):
            yield from ((part, arguments[1], f"{path}[...]") for part in value.values())
        case kind if kind in {list, tuple} and isinstance(value, list):
            each = arguments if kind is tuple and arguments[-1] is not ... else ()
            for number, part in enumerate(value[: len(each)] if each else value):
                yield part, each[number] if each else arguments[0], f"{path}[{number}]"


def _is_structure(kind: Any) -> bool:
    return isinstance(kind, type) and issubclass(kind, msgspec.Struct)


def _names(found: inspect.Type) -> tuple[str, ...]:
    """Name what a structure may hold."""
    if not isinstance(found, inspect.StructType):
        return ()
    known = (*(field.encode_name for field in found.fields), found.tag_field or "")
    return tuple(filter(None, known))


def _require_known(entries: Mapping[str, Any], known: tuple[str, ...], path: str) -> None:
    unknown = next((name for name in entries if name not in known), None)
    if unknown is not None:
        raise Mismatch(path, "holds a name that is not known", unknown=unknown, known=known)


def _bare(type_: Any) -> Any:
    """Give a type without what is said of it; of a type or null, that type."""
    if get_origin(type_) is Annotated:
        return _bare(get_args(type_)[0])
    others = [each for each in get_args(type_) if each is not type(None)]
    is_optional = type(None) in get_args(type_) and len(others) == 1
    return _bare(others[0]) if is_optional else type_


def _without_null(found: inspect.Type, *, keeps_metadata: bool = False) -> inspect.Type:
    if isinstance(found, inspect.Metadata) and not keeps_metadata:
        return _without_null(found.type)
    if isinstance(found, inspect.UnionType):
        others = [each for each in found.types if not isinstance(each, inspect.NoneType)]
        return others[0] if len(others) == 1 else found
    return found


def _expected(found: inspect.Type, value: Any) -> str:
    """Say what a value must be."""
    found = _without_null(found, keeps_metadata=True)
    if isinstance(found, inspect.Metadata):
        must = (found.extra or {}).get("must")
        return f"must be {must}" if must else _expected(found.type, value)
    if isinstance(found, inspect.StrType) and isinstance(value, str):
        longest = found.max_length
        is_long = longest is not None and len(value) > longest
        return f"is longer than {longest:,} characters" if is_long else "holds a NUL"
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    if isinstance(found, inspect.FloatType) and is_number:
        return f"must be {_range(found)}"
    if isinstance(found, inspect.IntType) and is_number and isinstance(value, int):
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
