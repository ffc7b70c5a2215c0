"""Which language a file is in, by its ending; and its parser."""

from collections.abc import Mapping
from functools import cache
from importlib import import_module
from types import MappingProxyType
from typing import TYPE_CHECKING

from lean_tumbler.core.code.languages.go import GoNodes
from lean_tumbler.core.code.languages.java import JavaNodes
from lean_tumbler.core.code.languages.javascript import JavaScript
from lean_tumbler.core.code.languages.lowering import Lowering
from lean_tumbler.core.code.languages.php import PhpNodes
from lean_tumbler.core.code.languages.python import PythonNodes
from lean_tumbler.core.code.languages.ruby import RubyNodes
from lean_tumbler.core.code.program import Unit

if TYPE_CHECKING:
    from tree_sitter import Parser

LANGUAGES: tuple[type[Lowering], ...] = (
    PhpNodes,
    JavaScript,
    PythonNodes,
    JavaNodes,
    RubyNodes,
    GoNodes,
)
_BY_ENDING: Mapping[str, type[Lowering]] = MappingProxyType(
    {ending: language for language in LANGUAGES for ending in language.endings}
)
LONGEST_PARSE_SECONDS = 5.0  # of one file; what is not read by then counts as an error


def language_of(path: str) -> type[Lowering] | None:
    """Give the language of a file; None where its ending is of none."""
    return _BY_ENDING.get("." + path.rpartition(".")[2].lower())


@cache
def _parser(module: str, grammar: str) -> "Parser":
    from tree_sitter import Language, Parser  # noqa: PLC0415 - of an extra

    return Parser(Language(getattr(import_module(module), grammar)()))


def read_unit(path: str, source: bytes) -> Unit:
    """Parse one file as far as its parser gets.

    Args:
        path: of the file; its ending says the language.
        source: its bytes.
    """
    language = _BY_ENDING["." + path.rpartition(".")[2].lower()]
    parser = _parser(*language.endings["." + path.rpartition(".")[2].lower()])
    return language(path, source).unit(parser.parse(source).root_node)
