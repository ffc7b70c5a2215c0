"""Definitions of columns, as data definition language and catalogues write them."""

import re

from msgspec import Struct

_WIDTH = re.compile(r"\b(?:n?(?:var)?char|character(?: varying)?)\s*\((\d+)\)", re.IGNORECASE)
_COLLATION = re.compile(r"\bCOLLATE[ =]+[\"`']?(?:\w+[\"`']?\.[\"`']?)?(\w+)", re.IGNORECASE)
_TEXT_TYPE = re.compile(r"\b(?:\w*char|\w*text|character|enum)\b", re.IGNORECASE)
# MariaDB's and MySQL's names end in _ci; SQLite has NOCASE; PostgreSQL has a type.
_FOLDS = re.compile(r"(?:_ci|^nocase)$", re.IGNORECASE)
_FOLDING_TYPE = re.compile(r"\bcitext\b", re.IGNORECASE)


def folds_case(collation: str) -> bool:
    """Tell whether a collation takes upper and lower case for one."""
    return _FOLDS.search(collation) is not None


class Declared(Struct, frozen=True, kw_only=True):
    """How a schema declares a column, as far as it can spoil stored values."""

    # the most that it holds; None where nothing bounds it, or nothing is known
    characters: int | None = None
    collation: str = ""  # the name of a collation that takes upper and lower case for one; or empty


def declared_in_text(definition: str, table_options: str = "") -> Declared:
    """Read a column's definition in the data definition language.

    Args:
        definition: the column's type and what follows it.
        table_options: what follows the table's closing bracket; its collation is the default.
    """
    width = _WIDTH.search(definition)
    found = _COLLATION.search(definition)
    if found is None and _TEXT_TYPE.search(definition):
        found = _COLLATION.search(table_options)
    name = found[1] if found and folds_case(found[1]) else ""
    if _FOLDING_TYPE.search(definition):
        name = "the type citext"
    return Declared(characters=int(width[1]) if width else None, collation=name)
