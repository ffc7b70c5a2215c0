"""What schemas declare of columns: how wide they are, and whether upper case counts as lower."""

import re
from dataclasses import dataclass

import sqlalchemy as sa

_WIDTH = re.compile(r"\b(?:n?(?:var)?char|character(?: varying)?)\s*\((\d+)\)", re.IGNORECASE)
_COLLATION = re.compile(r"\bCOLLATE[ =]+[\"`']?(?:\w+[\"`']?\.[\"`']?)?(\w+)", re.IGNORECASE)
_TEXT_TYPE = re.compile(r"\b(?:\w*char|\w*text|character|enum)\b", re.IGNORECASE)
# MariaDB's and MySQL's names end in _ci; SQLite has NOCASE; PostgreSQL has a type.
_FOLDS = re.compile(r"(?:_ci|^nocase)$", re.IGNORECASE)
_FOLDING_TYPE = re.compile(r"\bcitext\b", re.IGNORECASE)

# Both servers have the standard's information schema (ISO/IEC 9075-11).
_STANDARD = sa.text(
    "SELECT character_maximum_length, collation_name FROM information_schema.columns"
    " WHERE table_schema = :schema AND table_name = :table AND column_name = :column"
)
_POSTGRESQL = sa.text(
    "SELECT format_type(a.atttypid, a.atttypmod), c.collname, c.collisdeterministic"
    " FROM pg_attribute a LEFT JOIN pg_collation c ON c.oid = a.attcollation"
    " WHERE a.attrelid = CAST(:table AS regclass) AND a.attname = :column"
)
_SQLITE = sa.text("SELECT sql FROM sqlite_master WHERE type = 'table' AND name = :table")


@dataclass(frozen=True, slots=True, kw_only=True)
class Declared:
    """How a schema declares a column, as far as it can spoil stored values.

    Attributes:
        characters: the most that it holds; None where nothing bounds it, or nothing is known.
        collation: the name of a collation that takes upper and lower case for one; or empty.
    """

    characters: int | None = None
    collation: str = ""


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
    name = found[1] if found and _FOLDS.search(found[1]) else ""
    if _FOLDING_TYPE.search(definition):
        name = "the type citext"
    return Declared(characters=int(width[1]) if width else None, collation=name)


def declared_in_database(engine: sa.Engine, table: str, column: str) -> Declared:
    """Ask a database's catalogue for a column."""
    with engine.connect() as connection:
        if engine.dialect.name == "sqlite":
            return _in_sqlite(connection, table, column)
        if engine.dialect.name == "postgresql":
            quoted = engine.dialect.identifier_preparer.quote(table)
            kind, name, deterministic = connection.execute(
                _POSTGRESQL, {"table": quoted, "column": column}
            ).one()
            known = declared_in_text(kind)
            folds = name if deterministic is False else known.collation
            return Declared(characters=known.characters, collation=folds)
        width, name = connection.execute(
            _STANDARD, {"schema": engine.url.database, "table": table, "column": column}
        ).one()
        return Declared(
            characters=None if width is None else int(width),
            collation=name if name and _FOLDS.search(name) else "",
        )


def _in_sqlite(connection: sa.Connection, table: str, column: str) -> Declared:
    """SQLite declares widths, but does not keep to them; only the collation counts."""
    statement = connection.execute(_SQLITE, {"table": table}).scalar() or ""
    found = re.search(
        rf"[(,]\s*[\"`\[]?{re.escape(column)}[\"`\]]?\s(?P<definition>[^,]*)",
        statement,
        re.IGNORECASE,
    )
    return Declared(collation=declared_in_text(found["definition"] if found else "").collation)
