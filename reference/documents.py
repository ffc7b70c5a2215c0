"""JSON Schemas of the documents, from the structs that declare them."""

import json
from collections.abc import Iterator
from importlib import import_module
from pkgutil import walk_packages
from typing import Any, get_args, get_type_hints

import msgspec

from lean_tumbler import jobs, reports
from lean_tumbler.reports.documents import Document

_COLUMNS = 140
_DRAFT = "https://json-schema.org/draft/2020-12/schema"


def documents() -> dict[str, type[Document]]:
    """Give every kind of document by its short name."""
    for package in (jobs, reports):
        for module in walk_packages(package.__path__, f"{package.__name__}."):
            import_module(module.name)
    found = {
        str(kind.__struct_config__.tag).split("/")[1]: kind for kind in Document.__subclasses__()
    }
    return dict(sorted(found.items()))


def schema_of(kind: type[Document]) -> dict[str, Any]:
    """Give the schema of a kind of document, each key with its meaning."""
    (reference,), parts = msgspec.json.schema_components([kind], ref_template="#/$defs/{name}")
    types = {each.__name__: each for each in types_in(kind)}
    for name, structure in types.items():
        properties = parts[name]["properties"]
        for field, said in _meanings(structure).items():
            properties[field] = {"description": said, **properties[field]}
        if "document" in properties:
            properties["document"]["description"] = "name and version of this document"
    top = parts.pop(str(reference["$ref"]).rpartition("/")[2])
    schema = {"$schema": _DRAFT, **top, "title": kind.__struct_config__.tag}
    return {**schema, "$defs": dict(sorted(parts.items()))} if parts else schema


def _meanings(kind: type) -> dict[str, str]:
    """Give what each field of a struct means, by its name in JSON."""
    hints = get_type_hints(kind, include_extras=True)
    names = {each.name: each.encode_name for each in msgspec.structs.fields(kind)}
    return {
        names.get(name, name): next(text for text in hint.__metadata__ if isinstance(text, str))
        for name, hint in hints.items()
        if hasattr(hint, "__metadata__")
    }


def types_in(kind: Any, seen: frozenset[Any] = frozenset()) -> Iterator[type]:
    """Give the structs that a type is made of, itself among them."""
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        if kind in seen:
            return
        yield kind
        inner = tuple(get_type_hints(kind).values())
        seen |= {kind}
    else:
        inner = get_args(kind)
    for each in inner:
        yield from types_in(each, seen)


def schema_files() -> dict[str, str]:
    """Give the files of docs/schemas."""
    return {f"{name}.json": _written(schema_of(kind)) + "\n" for name, kind in documents().items()}


def _written(value: Any, indent: str = "") -> str:
    """Write JSON for people: on one line what has room there."""
    line = json.dumps(value, ensure_ascii=False)
    if not isinstance(value, dict) or len(indent) + len(line) <= _COLUMNS:
        return line
    inner = indent + " "
    entries = (f"{inner}{json.dumps(key)}: {_written(part, inner)}" for key, part in value.items())
    return "{\n" + ",\n".join(entries) + f"\n{indent}}}"
