"""A command's options, each declared once: a field of a dataclass with its help and its type.

The parser, completion, the reference and the manual pages follow from the fields.
"""

import argparse
from collections.abc import Callable, Iterator, Sequence
from dataclasses import MISSING, Field, dataclass, field, fields
from datetime import date, time
from inspect import get_annotations
from pathlib import Path
from types import MappingProxyType, NoneType
from typing import Any, get_args, get_origin, get_type_hints

from lean_tumbler.cli.typed import day, positive_integer, time_of_day

_DECLARED = "declared"
_READ_AS = MappingProxyType(
    {Path: Path, int: positive_integer, date: day, time: time_of_day, str: None}
)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Declared:
    metavar: str | None
    help: str
    is_argument: bool = False
    read: Callable[[str], Any] | None = None
    choices: Sequence[str] | None = None
    one_of: str = ""
    bare: Any = None


def option(
    metavar: str | None,  # what it takes, as help writes it
    text: str,  # its help
    *,
    # reads the text; without it, the field's type says how
    read: Callable[[str], Any] | None = None,
    default: Any = MISSING,  # what it is where it is not given
    choices: Sequence[str] | None = None,  # all that it may be
    # the name of a group of which one may be given; one must, where it ends with “!”
    one_of: str = "",
    bare: Any = None,  # what it is where it is given with nothing behind it
) -> Any:
    """Declare an option; its name is the field's.

    Without a default it is required, unless its type has None; a list may be given several times.
    """
    told = _Declared(
        metavar=metavar, help=text, read=read, choices=choices, one_of=one_of, bare=bare
    )
    return field(default=default, metadata={_DECLARED: told})


def flag(text: str, *, one_of: str = "") -> Any:
    """Declare an option that takes nothing."""
    told = _Declared(metavar=None, help=text, one_of=one_of)
    return field(default=False, metadata={_DECLARED: told})


def argument(metavar: str, text: str, *, choices: Sequence[str] | None = None) -> Any:
    """Declare an argument by its place; it may be left out where its type has None."""
    told = _Declared(metavar=metavar, help=text, is_argument=True, choices=choices)
    return field(metadata={_DECLARED: told})


@dataclass(frozen=True, slots=True, kw_only=True)
class CommandPart:
    """One of the commands that a command has."""

    name: str
    does: str  # what it does, in a few words
    options: type  # the type that it takes
    run: Callable[..., int]  # (options, session) -> exit code


def add_options(parser: argparse.ArgumentParser, kind: type) -> None:
    """Add to a parser what a type of options declares, a command's own first.

    Args:
        parser: of the command.
        kind: a dataclass.
    """
    types = get_type_hints(kind)
    groups: dict[str, argparse._MutuallyExclusiveGroup] = {}
    for each in _own_first(kind):
        told: _Declared | None = each.metadata.get(_DECLARED)
        if told is None:
            continue
        if told.one_of and told.one_of not in groups:
            groups[told.one_of] = parser.add_mutually_exclusive_group(
                required=told.one_of.endswith("!")
            )
        target = groups[told.one_of] if told.one_of else parser
        _add(target, each, told, types[each.name])


def asked(kind: type, parsed: argparse.Namespace) -> Any:
    """Give what a command was asked for as the type that it takes."""
    declared = [each.name for each in fields(kind) if _DECLARED in each.metadata]
    return kind(**{name: getattr(parsed, name) for name in declared})


def _own_first(kind: type) -> Iterator[Field[Any]]:
    own = {each.name: each for each in fields(kind)}
    for place in kind.__mro__:
        for name in get_annotations(place):
            if name in own:
                yield own.pop(name)


def _add(
    target: argparse._ActionsContainer, each: Field[Any], told: _Declared, annotation: Any
) -> None:
    """Add one option or argument, read as its type says."""
    name = each.name if told.is_argument else "--" + each.name.replace("_", "-")
    text = told.help.replace("%", "%%")
    if annotation is bool:
        target.add_argument(name, action="store_true", help=text)
        return
    may_be_none = NoneType in get_args(annotation)
    is_list = get_origin(annotation) is list
    inner = next((kind for kind in get_args(annotation) if kind is not NoneType), annotation)
    more: dict[str, Any] = {"help": text, "metavar": told.metavar}
    read = told.read or _READ_AS[inner]
    if read is not None:
        more["type"] = read
    if told.choices is not None:
        more["choices"] = told.choices
    if told.bare is not None:
        more |= {"nargs": "?", "const": told.bare}
    if told.is_argument:
        if is_list or may_be_none:
            more["nargs"] = "+" if is_list else "?"
    elif is_list:
        more |= {"action": "append", "default": []}
    elif each.default is not MISSING:
        more["default"] = each.default
    elif not may_be_none and not told.one_of:
        more["required"] = True
    target.add_argument(name, **more)
