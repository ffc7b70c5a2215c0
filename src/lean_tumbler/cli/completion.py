"""Completion on the command line: commands, options, and names of stores, cohorts and columns."""

import argparse
import os
import tomllib
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any

import argcomplete
from argcomplete.completers import FilesCompleter
from argcomplete.shell_integration import shellcode

from lean_tumbler.cli.options import children_of
from lean_tumbler.errors import TumblerError

# The protocol of the library: the line as it was typed so far.
_LINE = "COMP_LINE"
Completer = Callable[..., Iterator[str]]


def _policy(arguments: argparse.Namespace) -> Mapping[str, Any]:
    """Read the policy as far as it goes: it may be half written."""
    path = getattr(arguments, "policy", None) or Path("tumbler.toml")
    try:
        return tomllib.loads(path.read_text("utf-8"))
    except (OSError, ValueError, RecursionError):
        return {}


def _tables_of(table: Mapping[str, Any], name: str) -> Mapping[str, Any]:
    """Give the tables under a name; a policy that is half written may hold anything there."""
    found = table.get(name)
    return found if isinstance(found, dict) else {}


def _stores(arguments: argparse.Namespace) -> Mapping[str, Any]:
    stores = _tables_of(_policy(arguments), "store")
    wanted = str(getattr(arguments, "store", None))
    return {wanted: stores[wanted]} if wanted in stores else stores


def store_names(parsed_args: argparse.Namespace, **_: object) -> Iterator[str]:
    """Give the stores of the policy."""
    yield from _tables_of(_policy(parsed_args), "store")


def cohort_names(parsed_args: argparse.Namespace, **_: object) -> Iterator[str]:
    """Give the cohorts of the stores that were named, or of all."""
    for store in _stores(parsed_args).values():
        cohorts = store.get("cohort") if isinstance(store, dict) else None
        for cohort in cohorts if isinstance(cohorts, list) else ():
            if isinstance(cohort, dict) and isinstance(cohort.get("name"), str):
                yield cohort["name"]


def formula_names(parsed_args: argparse.Namespace, **_: object) -> Iterator[str]:
    """Give the formulas that the policy names."""
    yield from _tables_of(_policy(parsed_args), "formulas")
    yield from cohort_names(parsed_args)


def table_names(parsed_args: argparse.Namespace, **_: object) -> Iterator[str]:
    """Give the tables of a source that is a file; no key press reaches for a server."""
    yield from (name for name, _columns in _tables(parsed_args))


def column_names(parsed_args: argparse.Namespace, **_: object) -> Iterator[str]:
    """Give the columns of a source that is a file, of the table that was named."""
    wanted = getattr(parsed_args, "table", None)
    for name, columns in _tables(parsed_args):
        if wanted in (None, name):
            yield from columns


def _tables(arguments: argparse.Namespace) -> Iterator[tuple[str, tuple[str, ...]]]:
    from lean_tumbler.stores.kinds import tables_at

    source = getattr(arguments, "source", None)
    if not source or not Path(source).is_file():
        return
    try:
        _, tables = tables_at(source, base=Path())
        yield from ((table.name, tuple(table.columns)) for table in tables)
    except TumblerError:
        return


# Of options that are not here, the choices that argparse knows, or files.
COMPLETERS: Mapping[str, Completer] = MappingProxyType(
    {
        "--store": store_names,
        "--only": cohort_names,
        "--unproven": cohort_names,
        "--formula": formula_names,
        "--table": table_names,
        "--column": column_names,
        "--login-column": column_names,
        "--salt-column": column_names,
        "--privileged-column": column_names,
    }
)


def _with_completers(parser: argparse.ArgumentParser) -> None:
    for child in children_of(parser).values():
        _with_completers(child)
    for action in parser._actions:  # noqa: SLF001 - argparse tells its options in no other way
        completer = next(
            (COMPLETERS[name] for name in action.option_strings if name in COMPLETERS), None
        )
        if completer is not None:
            action.completer = completer  # type: ignore[attr-defined]  # where the library looks


def complete(build: Callable[[list[str]], argparse.ArgumentParser]) -> None:
    """Answer the shell, and leave.

    Args:
        build: makes the parser for the words of a line.
    """
    words = argcomplete.lexers.split_line(os.environ[_LINE])[3][1:]
    parser = build(words)
    _with_completers(parser)
    # Options are offered once a hyphen was typed.
    argcomplete.autocomplete(
        parser, always_complete_options=False, default_completer=FilesCompleter()
    )


def script(program: str, shell: str) -> str:
    """Give what a shell reads to complete the program's lines."""
    return shellcode([program], shell=shell)
