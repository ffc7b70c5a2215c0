"""What calls mean for passwords: a table a language, in `functions/LANGUAGE.toml`.

An entry is a call with names for its arguments, and what it gives, as an expression of operators
(`operators.py`) on these names:

    "md5(text, raw)" = "written(raw, digest('md5', text))"
    ".update(data)" = "self := more(self, data)"

A name that begins with a dot is a method's, of whatever object; `self` is that object. `:=` changes
the object in place. `*rest` takes all further arguments.
"""

import ast
import re
from collections.abc import Mapping
from functools import cache
from importlib.resources import files

from msgspec import Struct

_SIGNATURE = re.compile(r"(?P<name>[^()]+)\((?P<parameters>[^()]*)\)")


class CallMeaning(Struct, frozen=True):
    """What one call means."""

    parameters: tuple[str, ...]
    gives: ast.expr
    rest: str = ""  # the name of all further arguments
    changes_object: bool = False


class Meanings(Struct, frozen=True):
    """What a language's calls mean."""

    functions: Mapping[str, CallMeaning]  # by the whole name, with dots
    methods: Mapping[str, CallMeaning]  # by the method's name alone
    values: Mapping[str, ast.expr]  # names of the library that are values

    def of(self, name: str) -> CallMeaning | None:
        """Find a function by its name, or by the last parts of it."""
        found = self.functions.get(name)
        name = name.rpartition("/")[2]
        found = found or self.functions.get(name)
        while found is None and "." in name:
            name = name.partition(".")[2]
            found = self.functions.get(name) if "." in name else None
        return found


def _read(signature: str, gives: str) -> tuple[str, CallMeaning]:
    match = _SIGNATURE.fullmatch(signature)
    if match is None:
        raise ValueError(f"{signature}: expected NAME(ARGUMENTS)")
    changes = gives.startswith("self := ")
    names = [name.strip() for name in match["parameters"].split(",") if name.strip()]
    rest = names.pop()[1:] if names and names[-1].startswith("*") else ""
    body = ast.parse(gives.removeprefix("self := "), mode="eval").body
    return match["name"], CallMeaning(tuple(names), body, rest, changes)


@cache
def meanings_of(language: str) -> Meanings:
    """Read a language's table."""
    import tomllib  # noqa: PLC0415 - with the table

    text = files("lean_tumbler.core.code").joinpath(f"functions/{language}.toml").read_text("utf-8")
    table = tomllib.loads(text)
    functions: dict[str, CallMeaning] = {}
    methods: dict[str, CallMeaning] = {}
    for group in table["group"]:
        for signature, gives in group["calls"].items():
            name, meaning = _read(signature, gives)
            if name in functions or (name[1:] in methods and name.startswith(".")):
                raise ValueError(f"{language}: {name} stands twice")
            if name.startswith("."):
                methods[name[1:]] = meaning
            else:
                functions[name] = meaning
    values = {
        name: ast.parse(gives, mode="eval").body for name, gives in table.get("values", {}).items()
    }
    return Meanings(functions, methods, values)
